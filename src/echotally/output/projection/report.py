"""One page that holds a whole answer: verdict, plans, bill, charts, functions, findings, assumptions, files.

It needs no network and no script from elsewhere: charts are pictures inside the page, the one script (sorting) is named by
its digest in the page's own policy. Whatever comes from a model is shown by the template's escaping, with control and
direction characters made visible first.
"""

from __future__ import annotations

import base64
import hashlib
import itertools
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from importlib.metadata import version
from importlib.resources import files
from pathlib import Path
from typing import Any

from echotally.demand.preview import zone_data_version
from echotally.engine.reading import UnitMeasured
from echotally.errors import safe
from echotally.files import LARGEST_PIPE, content_of
from echotally.findings import Checked, Finding
from echotally.output.base.terminal import count, money, seconds, share, shown_in
from echotally.output.model.checked import values_in_force
from echotally.output.model.findings_view import change_text, untried_said
from echotally.output.projection.bill_view import quantity_text, standing_line
from echotally.output.projection.edges_view import edge_lines, edge_name, times_text
from echotally.output.projection.front_page import front_contents, map_contents
from echotally.output.projection.incidents_view import HEADINGS, helping_lines, incident_row
from echotally.output.projection.month_charts import dashboard_chart, when_text
from echotally.output.projection.projection_charts import backlog_chart, cost_chart, landing_chart, levels_chart
from echotally.output.projection.projection_table import assumptions, targets_text
from echotally.output.projection.report_parts import Cell, Grid, Heading, Picture, PlayedBeside, cell, grid, picture
from echotally.output.projection.verdict_text import check_text, refused_title, verdict_lines
from echotally.projection.answer import PlayedPlan, Projection
from echotally.projection.bills import merged_lines
from echotally.projection.outcomes import OUTCOMES
from echotally.projection.showback import showback, splits_of
from echotally.projection.window import Window
from echotally.rates.billing import minor_digits
from echotally.rates.meters import meter_of

#: Functions with charts of their own; more would make a page that no browser opens gladly.
_MOST_CHARTED = 3
#: Findings of one code that are shown before a click.
_FEW_FINDINGS = 3
#: Lines of the verdict that the page says further below, under what would change the decision.
_LATER = ("Why not", "No other plan", "Without that")


def report_page(
    projection: Projection,
    checked: Checked | None,
    model_path: Path,
    by: str | None = None,
    beside: Callable[[], PlayedBeside] = PlayedBeside,
) -> str:
    """The page as HTML text; ``checked`` are the findings of the same model, ``beside`` is asked for when all else is drawn."""
    shown_in(projection.currency)
    from jinja2 import Environment, StrictUndefined
    from markupsafe import Markup

    pages = files("echotally.output") / "pages"
    script = (pages / "report.js").read_text(encoding="utf-8")
    template = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True).from_string(
        (pages / "report.html").read_text(encoding="utf-8")
    )
    # The page's own policy lets run what has this digest and nothing else.
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    # The script and its digest are ours; nothing else of the page is marked as safe.
    return template.render(
        script=Markup(script),
        script_digest=Markup(digest),
        **_contents(projection, checked, model_path, by),
        **_late(projection, beside()),
    )


def _late(projection: Projection, beside: PlayedBeside) -> dict[str, Any]:
    """What is played beside the month, and which parts the page has with it."""
    plan = projection.best
    parts = _parts(plan, bool(beside.other.points), bool(beside.day))
    return {**front_contents(projection, plan, beside.other), "day": beside.day, "parts": parts}


def _contents(projection: Projection, checked: Checked | None, model_path: Path, by: str | None) -> dict[str, Any]:
    plan = projection.best
    by = by or _usual_split(projection)
    return {
        **map_contents(projection, plan),
        "estate": safe(projection.model.estate.name),
        "month": projection.model.estate.month,
        "verdict": [safe(line) for line in verdict_lines(projection) if not line.startswith(_LATER)],
        "plans": _plans(projection),
        "beside": list(_beside(projection)),
        "cost_chart": picture(cost_chart(projection, "svg"), _cost_text(projection)),
        "landing": picture(landing_chart(projection, plan, "svg"), " ".join(verdict_lines(projection)[1:2]))
        if plan and plan.so_far
        else None,
        "plan": safe(plan.offer.name if plan else ""),
        "bill": _bill(projection, plan) if plan else None,
        "edges": _edges(plan) if plan and plan.edges else None,
        "edge_lines": [safe(line) for line in edge_lines(plan)] if plan else [],
        "split": _split(projection, plan, by) if plan and by else None,
        "outcomes": _outcomes(projection, plan) if plan else None,
        "standing": [safe(line) for line in standing_line(plan)] if plan else [],
        "functions": _functions(projection, plan) if plan else None,
        "incidents": _incidents(plan, projection.currency) if plan and plan.incidents else None,
        "helped": helping_lines(plan, projection.currency) if plan else [],
        "units": _units(projection, plan) if plan else [],
        "findings": list(_findings(checked)) if checked else [],
        "untried": untried_said(checked) if checked else "",
        "assumptions": [safe(line) for line in assumptions(projection)],
        "version": version("echotally"),
        "seed": projection.seed,
        "zone_data": zone_data_version(),
        "changed": [(safe(a), safe(v)) for a, v in (checked.loaded.document.changed_sets() if checked else [])],
        "values": grid("Values in force", ["address", "value"], [[a, v] for a, v in values_in_force(projection.model)]),
        "files": list(_files(projection, model_path)),
    }


def _usual_split(projection: Projection) -> str | None:
    """By the tag that most functions have, where there is one."""
    tags = Counter(tag for function in projection.model.functions.values() for tag in function.tags)
    return f"tag:{tags.most_common(1)[0][0]}" if tags else None


def day_picture(day: Window) -> Picture:
    """A day step by step, drawn; what it is drawn from need not be kept for the page."""
    text = f"All functions on {day.plan.offer.name}, {when_text(day)}."
    return picture(dashboard_chart(day, None, None, "png"), text)


def _parts(plan: PlayedPlan | None, demands: bool, day: bool) -> list[tuple[str, str]]:
    """Anchor and title of each part of the page."""
    return [
        *([("demand", "If demand changes")] if demands else []),
        ("plans", "Plans"),
        *([("bill", "Bill")] if plan else []),
        *([("edges", "How far from the edge")] if plan and plan.edges else []),
        *([("incidents", "Incidents")] if plan and plan.incidents else []),
        *([("day", "The worst day")] if day else []),
        ("findings", "Findings"),
        *([("functions", "Functions")] if plan else []),
        ("assumptions", "Assumptions"),
    ]


def _plans(projection: Projection) -> Grid:
    columns = (
        Heading("plan", False),
        Heading(f"month ({projection.currency})"),
        Heading("throttled (%)"),
        Heading("lost events"),
        Heading("wait p95 (s)"),
        Heading("calls at once, peak"),
        Heading("cold starts"),
        Heading(f"when nothing runs ({projection.currency})"),
        Heading("targets", False),
    )
    feasible = list(projection.by_cost())
    rows = tuple(_plan_cells(projection, p) for p in feasible)
    pick = next((n for n, p in enumerate(feasible) if p.offer.name == projection.pick), -1)
    return Grid("Plans that take every function", columns, rows, sortable=True, pick=pick)


def _outcomes(projection: Projection, plan: PlayedPlan) -> Grid:
    """What each function pays by what its attempts came to; what costs nothing anywhere is left out."""
    costs: dict[str, dict[str, float]] = {}
    for each in showback(projection.model, plan, "function,outcome"):
        costs.setdefault(each.labels[0], {})[each.labels[1]] = float(each.cost)
    names = [name for name in OUTCOMES if any(of_one.get(name) for of_one in costs.values())]
    columns = (Heading("function", False), *map(Heading, names))
    rows = [
        (cell(function, function), *(cell(money(of_one.get(n, 0.0)), of_one.get(n, 0.0)) for n in names))
        for function, of_one in costs.items()
    ]
    total = [sum(of_one.get(name, 0.0) for of_one in costs.values()) for name in names]
    rows.append((cell("all"), *(cell(money(value), value) for value in total)))
    return Grid(f"By what attempts came to ({projection.currency})", columns, tuple(rows))


def _split(projection: Projection, plan: PlayedPlan, by: str) -> Grid:
    """The bill split as somebody asked, the dearest part first."""
    columns = (*(Heading(name, False) for name in splits_of(by)), Heading("cost"), Heading("events"))
    shares = sorted(showback(projection.model, plan, by), key=lambda share: -share.cost)
    rows = [
        (
            *(cell(label, label) for label in share.labels),
            cell(money(share.cost), float(share.cost)),
            cell("–" if share.events is None else count(share.events), share.events),
        )
        for share in shares
        if share.cost or share.events
    ]
    return Grid(f"By {by.replace(',', ' and ')} ({projection.currency})", columns, tuple(rows), sortable=True)


def _edges(plan: PlayedPlan) -> Grid:
    """How far the plan is from its allowances, limits and targets."""
    columns = (Heading("edge", False), Heading("used (%)"), Heading("reached at x demand"), Heading("on", False))
    rows = tuple(
        (
            cell(edge_name(edge), edge_name(edge)),
            cell(f"{edge.used_share * 100:,.3g}", edge.used_share),
            cell(times_text(edge.reached_at_times), edge.reached_at_times),
            cell(str(edge.reached_on or "–"), edge.reached_on),
        )
        for edge in plan.edges or ()
    )
    return Grid("Allowances, limits and targets, the nearest first", columns, rows, sortable=True)


def _incidents(plan: PlayedPlan, currency: str) -> Grid:
    """What each incident cost, left behind and delayed on the plan shown."""
    columns = tuple(Heading(name if name != "cost" else f"cost ({currency})", n > 0) for n, name in enumerate(HEADINGS))
    rows = []
    for effect in plan.incidents or ():
        values = (effect.name, float(effect.cost), effect.left_behind, effect.wait_p95_s)
        rows.append(tuple(cell(text, value) for text, value in zip(incident_row(effect), values, strict=True)))
    return Grid("This month less the month without each incident", columns, tuple(rows))


def _plan_cells(projection: Projection, plan: PlayedPlan) -> tuple[Cell, ...]:
    totals = plan.totals
    throttled, lost, wait, cold = totals.throttled_share, totals.lost, totals.wait_p95_s, totals.cold_starts
    idle = plan.when_idle.total if plan.when_idle else None
    said = targets_text(projection, plan)
    return (
        cell(plan.offer.name, plan.offer.name),
        cell(money(plan.bill.shown), plan.bill.total),
        cell(share(throttled), throttled),
        cell(count(lost), lost),
        cell(seconds(wait), wait),
        cell(count(plan.measured.concurrency.peak), plan.measured.concurrency.peak),
        cell(count(cold), cold),
        cell("–" if idle is None else money(idle), idle),
        cell(said, len(plan.misses)),
    )


def _beside(projection: Projection) -> Sequence[Grid]:
    """Targets missed, and plans that cannot be used, where there are any."""
    missed = [[p.offer.name, check_text(m, projection.currency)] for p in projection.played for m in p.misses]
    missed += [
        [p.offer.name, "undecided: " + check_text(m, projection.currency)]
        for p in projection.played
        for m in p.undecided
    ]
    refused = [[p.offer.name, name, text] for p in projection.refused for name, text in p.reasons]
    found = [grid("Targets missed", ["plan", "by how much"], missed)] if missed else []
    return [*found, grid(refused_title(projection), ["plan", "function", "why not"], refused)] if refused else found


def _cost_text(projection: Projection) -> str:
    costs = ", ".join(f"{p.offer.name} {money(p.bill.shown)}" for p in projection.played)
    return f"Cost by plan and meter, {projection.currency}: {costs or 'no plan can be used'}."


def _bill(projection: Projection, plan: PlayedPlan) -> Grid:
    columns = (
        Heading("meter", False),
        Heading("unit", False),
        Heading("quantity"),
        Heading("free"),
        Heading("billable"),
        Heading(f"amount ({projection.currency})"),
    )
    rows = [
        (
            cell(line.meter, line.meter),
            cell(meter_of(line.meter).unit, meter_of(line.meter).unit),
            *(cell(quantity_text(q), q) for q in (line.quantity, line.allowance, line.billable)),
            cell(f"{line.amount:,.6f}", line.amount),
        )
        for line in merged_lines(plan.bill)
    ]
    blank = cell("", None)
    rows.append(
        (
            cell("total, rounded", "~"),
            blank,
            blank,
            blank,
            blank,
            cell(f"{plan.bill.total:,.{minor_digits(plan.bill.currency)}f}", plan.bill.total),
        )
    )
    return Grid(f"Bill of {plan.offer.name}, line by line", columns, tuple(rows))


_UNIT_HEADINGS = (
    Heading("function", False),
    Heading("environment", False),
    Heading("events in"),
    Heading("attempts"),
    Heading("throttled (%)"),
    Heading("failed"),
    Heading("lost"),
    Heading("wait p95 (s)"),
    Heading("calls p99"),
    Heading("instances, peak"),
    Heading("limit"),
)


def _functions(projection: Projection, plan: PlayedPlan) -> Grid:
    rows = []
    for u in plan.units:
        failed, lost = u.attempts["failed"] + u.attempts["timed_out"], u.lost_events
        throttled, cost = u.throttled_share, plan.bill.functions[u.key]
        rows.append(
            (
                cell(u.unit.function, u.unit.function),
                cell(u.unit.environment, u.unit.environment),
                cell(count(u.events["in"]), u.events["in"]),
                cell(count(u.attempts["total"]), u.attempts["total"]),
                cell(share(throttled), throttled),
                cell(count(failed), failed),
                cell(count(lost), lost),
                cell(seconds(u.waits.p95), u.waits.p95),
                cell(count(u.concurrency.p99), u.concurrency.p99),
                cell(count(u.instances.peak), u.instances.peak),
                cell(count(u.instance_limit), u.instance_limit),
                cell(f"{cost:,.4f}", cost),
            )
        )
    columns = (*_UNIT_HEADINGS, Heading(f"cost ({projection.currency})"))
    return Grid("Functions and environments", columns, tuple(rows), sortable=True)


def _units(projection: Projection, plan: PlayedPlan) -> list[dict[str, Any]]:
    """A part for each function and environment, charts for the costliest ones."""
    costs = plan.bill.functions
    ranked = sorted(range(len(plan.measured.units)), key=lambda n: -costs[plan.measured.units[n].key])
    # Those that cost most are what a reader opens first.
    charted = set(ranked[:_MOST_CHARTED])
    found = []
    for n, unit in sorted(enumerate(plan.measured.units), key=lambda each: each[1].order):
        name = f"{unit.unit.function} ({unit.unit.environment})"
        charts = _unit_charts(projection, plan, n, name) if n in charted else []
        found.append({"name": safe(name), "facts": _facts(unit), "charts": charts})
    return found


def _unit_charts(projection: Projection, plan: PlayedPlan, place: int, name: str) -> list[Picture]:
    unit = plan.measured.units[place]
    charts = [
        picture(
            levels_chart(projection, plan, place, "png"),
            f"Calls in flight and instances of {name} hour by hour: at most {unit.concurrency.peak:,} calls and {unit.instances.peak:,} instances.",
        )
    ]
    if unit.backlog_peak:
        text = f"Events waiting for {name} hour by hour: at most {unit.backlog_peak:,}."
        charts.append(picture(backlog_chart(projection, plan, place, "png"), text))
    return charts


def _facts(unit: UnitMeasured) -> Grid:
    events = [[f"events {name.replace('_', ' ')}", count(n)] for name, n in unit.events.items() if n]
    attempts = [[f"attempts {name.replace('_', ' ')}", count(n)] for name, n in unit.attempts.items() if n]
    waits = [[f"wait {name} (s)", seconds(getattr(unit.waits, name))] for name in ("p50", "p95", "p99", "max")]
    if unit.answers.p50 is not None:
        # What callers see (rule 5.4).
        waits += [
            [f"latency {name} (ms)", f"{1e3 * (getattr(unit.answers, name) or 0):,.0f}"]
            for name in ("p50", "p95", "p99")
        ]
        waits.append(["calls that met a cold start (%)", share(unit.cold_share or 0.0)])
    more = [
        ["calls", count(unit.calls)],
        ["cold starts", count(unit.cold_starts)],
        ["largest backlog", count(unit.backlog_peak)],
        ["calls in flight, mean", f"{unit.concurrency.mean:,.4f}"],
        ["instances, mean", f"{unit.instances.mean:,.4f}"],
        ["hours at the instance limit", f"{unit.at_limit_ns / 3.6e12:,.2f}"],
        ["time billed (s)", f"{unit.time_billed_ns / 1e9:,.3f}"],
    ]
    return grid("Figures of the month", ["figure", "value"], [*events, *attempts, *waits, *more])


def _findings(checked: Checked) -> Iterator[dict[str, Any]]:
    """Those of one code and level together, in their order; of many the first few are shown at once."""
    for (level, code), group in itertools.groupby(checked.findings, key=lambda f: (f.rule.level, f.rule.code)):
        found = [_finding(f) for f in group]
        shown = len(found) if len(found) <= _FEW_FINDINGS + 1 else _FEW_FINDINGS
        yield {"level": level, "code": code, "title": safe(found[0]["title"]), "found": found, "shown": shown}


def _finding(finding: Finding) -> dict[str, str]:
    noticed, rule = finding.noticed, finding.rule
    return {
        "level": rule.level,
        "code": rule.code,
        "title": rule.title,
        "address": safe(noticed.address),
        "text": safe(noticed.text),
        "effect": safe(noticed.effect[:1].upper() + noticed.effect[1:]),
        "change": safe(change_text(finding)) if noticed.sets else "",
        "accepted": safe(finding.accepted or ""),
    }


def _files(projection: Projection, model_path: Path) -> Sequence[dict[str, str]]:
    """The model and its cards in full, with digests, so that the page can be checked a year later."""
    paths = [model_path, *(model_path.parent / card for card in projection.model.estate.rate_cards)]
    found = []
    for path in paths:
        # As read once: what came by a pipe cannot be read again.
        content = content_of(path, LARGEST_PIPE)
        text = content.decode("utf-8-sig", "replace")
        digest = hashlib.sha256(content).hexdigest()[:16]
        found.append({"name": safe(path.name), "digest": digest, "text": _visible(text)})
    return found


def _visible(text: str) -> str:
    return "\n".join(safe(line) for line in text.replace("\t", "    ").splitlines())
