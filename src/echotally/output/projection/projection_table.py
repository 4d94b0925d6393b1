"""A projection in the terminal: verdict first, then plans side by side, then functions, then assumptions."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from decimal import Decimal

from rich.console import RenderableType
from rich.text import Text

from echotally.engine.reading import UnitMeasured
from echotally.errors import safe
from echotally.output.base.terminal import Column, count, money, rendered, seconds, share, shown_in, table
from echotally.output.projection.bill_view import NOTHING_ASKED, MoneyAsked, bill_parts, standing_line
from echotally.output.projection.edges_view import edge_parts
from echotally.output.projection.incidents_view import incident_parts
from echotally.output.projection.replications_view import replication_parts
from echotally.output.projection.verdict_text import check_text, has_targets, refused_title, untold_text, verdict_lines
from echotally.projection.answer import ESTATE, PlayedPlan, Projection, RefusedPlan
from echotally.projection.bills import cost_per_million
from echotally.projection.replicate import Replicated
from echotally.projection.worth_following import worth_following

_PLAN_COLUMNS = [
    Column("plan", False),
    Column("month"),
    Column("per million events", rank=3),
    Column("throttled %"),
    Column("lost events", rank=1),
    Column("wait p95 s"),
    Column("peak calls", rank=2),
    Column("peak inst.", rank=3),
    Column("cold starts", rank=4),
    Column("when idle", rank=2),
    Column("targets", False),
]


def _plan_row(projection: Projection, plan: PlayedPlan) -> list[str]:
    bill, totals = plan.bill, plan.totals
    per_million = cost_per_million(projection.model, plan.measured, bill)
    return [
        ("→ " if plan.offer.name == projection.pick else "  ") + plan.offer.name,
        money(bill.shown),
        "–" if per_million is None else money(per_million),
        share(totals.throttled_share),
        count(totals.lost),
        seconds(totals.wait_p95_s),
        count(plan.measured.concurrency.peak),
        count(totals.peak_instances),
        count(totals.cold_starts),
        "–" if plan.when_idle is None else money(plan.when_idle.total),
        targets_text(projection, plan),
    ]


def targets_text(projection: Projection, plan: PlayedPlan) -> str:
    """Whether a plan meets its targets, in a word or two."""
    said = [f"{len(plan.misses)} missed"] if plan.misses else []
    said += [f"{len(plan.undecided)} undecided"] if plan.undecided else []
    return ", ".join(said) or ("met" if has_targets(projection) else "none set")


def plans_table(projection: Projection, width: int | None = None) -> list[RenderableType]:
    """Feasible plans side by side, then the others with their reasons."""
    feasible = list(projection.by_cost())
    parts: list[RenderableType] = []
    if feasible:
        rows = [_plan_row(projection, p) for p in feasible]
        marks = ["bold" if p.offer.name == projection.pick else "dim" if p.misses else "" for p in feasible]
        parts.append(
            table(f"Plans side by side ({projection.currency}, waits in seconds)", _PLAN_COLUMNS, rows, marks, width)
        )
    missed = [[p.offer.name, safe(check_text(m, projection.currency))] for p in feasible for m in p.misses]
    missed += [
        [p.offer.name, safe("undecided: " + check_text(m, projection.currency))] for p in feasible for m in p.undecided
    ]
    if missed:
        parts.append(table("Targets missed", [Column("plan", False), Column("by how much", False, True)], missed))
    # Plans that cannot be had at all come last: nothing in the model would change that.
    refused = sorted(projection.refused, key=lambda p: p.offer.plan.available is not True)
    rows = [[p.offer.name, ", ".join(names), text] for p in refused for text, names in _grouped(p)]
    if rows:
        columns = [Column("plan", False), Column("function", False, True), Column("why not", False, True)]
        parts.append(table(refused_title(projection), columns, rows))
    return parts


def _grouped(plan: RefusedPlan) -> list[tuple[str, list[str]]]:
    found: dict[str, list[str]] = {}
    for name, text in plan.reasons:
        found.setdefault(text, []).append(safe(name))
    return [
        (text, ["every function"] if len(names) > 3 or names == [ESTATE] else names) for text, names in found.items()
    ]


_UNIT_COLUMNS = [
    Column("function", False),
    Column("environment", False),
    Column("events in"),
    Column("attempts", rank=3),
    Column("throttled %", rank=1),
    Column("failed", rank=2),
    Column("lost", rank=2),
    Column("wait p95 s"),
    Column("calls p99", rank=4),
    Column("inst. peak", rank=3),
    Column("limit", rank=4),
    Column("cost"),
]
#: Columns that stand beside the others only where some function has something to put there.
_SOMETIMES: dict[str, Callable[[UnitMeasured], float | None]] = {
    "timed out": lambda u: u.attempts["timed_out"],
    "dead letters": lambda u: u.events["dead_lettered"],
    "handled twice": lambda u: u.duplicates,
    "left behind": lambda u: u.left_behind_events,
}


def functions_table(projection: Projection, plan: PlayedPlan, width: int | None = None) -> RenderableType:
    """Every function of one plan, environment by environment."""
    units = plan.units
    beside = {name: read for name, read in _SOMETIMES.items() if any(read(u) for u in units)}
    # A lag is told where it is more than the wait of the events themselves.
    if any((u.lag_max_s or 0) > (u.waits.max or 0) + 1 for u in units):
        beside["lag max s"] = lambda u: u.lag_max_s
    sure = {(f.function, f.environment): f.wait_p95 for f in plan.confidence.functions} if plan.confidence else {}
    rows = []
    for u in units:
        cost = plan.bill.functions[u.unit.function, u.unit.environment]
        more = [seconds(read(u)) if name == "lag max s" else count(read(u)) for name, read in beside.items()]
        rows.append(
            [
                safe(u.unit.function),
                safe(u.unit.environment),
                count(u.events["in"]),
                count(u.attempts["total"]),
                share(u.throttled_share),
                count(u.attempts["failed"] + u.attempts["timed_out"]),
                count(u.lost_events),
                *more,
                _wait_text(u, sure.get((u.unit.function, u.unit.environment))),
                count(u.concurrency.p99),
                count(u.instances.peak),
                count(u.instance_limit),
                f"{cost:,.4f}",
            ]
        )
    blank = [""] * (9 + len(beside))
    if plan.bill.flat:
        rows.append(["(flat)", "", *blank, f"{plan.bill.flat:,.4f}"])
    if abs(plan.bill.idle) >= Decimal("0.00005"):
        rows.append(["(idle)", "", *blank, f"{plan.bill.idle:,.4f}"])
    columns = [*_UNIT_COLUMNS[:7], *(Column(name, rank=2) for name in beside), *_UNIT_COLUMNS[7:]]
    return table(f"Functions on {plan.offer.name} (cost in {projection.currency})", columns, rows, width=width)


def _wait_text(unit: UnitMeasured, between: tuple[float, float] | None) -> str:
    """A wait, with its interval where it is an estimate."""
    if between is None or unit.waits.p95 is None or seconds(between[0]) == seconds(between[1]):
        return seconds(unit.waits.p95)
    return f"{seconds(unit.waits.p95)} ({seconds(between[0])} to {seconds(between[1])})"


def assumptions(projection: Projection) -> list[str]:
    """What was assumed and read, in short lines."""
    clock = projection.month.clock
    model = projection.model
    lines = [
        f"{clock.month} in {model.estate.timezone}: {clock.hours:g} hours, starting empty; seed {projection.seed}, {_method(projection)}.",
        "Waits run from an event's arrival to the start of its successful run, cold start included.",
    ]
    if len(model.environments) > 1:
        lines.append(
            "Figures are over all environments: "
            + ", ".join(f"{safe(n)} ({e.demand:g} x demand)" for n, e in model.environments.items())
            + "."
        )
    lines += (untold_text(p) for p in projection.by_cost() if p is not projection.best and p.untold)
    lines += _happenings(projection)
    if model.exchange:
        rates = ", ".join(f"{currency} at {rate:f}" for currency, rate in model.exchange.rates.items())
        lines.append(f"Cards in other currencies: {rates} {model.exchange.into} of {model.exchange.date}.")
    if "left_behind" not in model.targets.model_fields_set:
        lines.append(
            f"A plan may leave at most {model.targets.left_behind:.0%} of the events behind (targets.left_behind)."
        )
    lines += hint_lines(projection)
    return lines + list(projection.notes)


def _happenings(projection: Projection) -> Iterator[str]:
    """What the clock brings to the month, and runs that belong to their events."""
    model, found = projection.model, projection.month.happenings
    for incident, windows in zip(model.incidents, found.incidents, strict=False):
        hours = sum(end - start for start, end in windows) / 3.6e12
        whose = f" ({', '.join(map(safe, incident.functions))})" if incident.functions else ""
        yield f"Incident {safe(incident.name)}{whose}: {safe(incident.words())}, {hours:,.2f} h of the month."
    for name, times in found.releases.items():
        yield f"{safe(name)} is released {'once' if len(times) == 1 else f'{len(times)} times'}: its instances go cold, floors start new ones at once."
    for name, changes in found.floors.items():
        yield f"The floor of {safe(name)} changes by the clock, {len(changes)} times."
    same = [name for name, f in model.functions.items() if f.retry_run == "same"]
    if same:
        yield f"A repeated run takes as long as the first one: {', '.join(map(safe, same))} (retry_run)."


def _method(projection: Projection) -> str:
    sampled = [p.offer.name for p in projection.played if p.confidence]
    if not sampled:
        return "every event simulated"
    if len(sampled) == len(projection.played):
        return "a sample simulated (--exact for every event): figures are estimates, with 95 % intervals"
    # On some plans so much waits that their months are sampled, and on others not.
    which = f"every event simulated, but a sample on {', '.join(map(safe, sampled))}, where very many wait"
    return f"{which} (--exact for every event): what has an interval is an estimate, 95 %"


def _intervals(projection: Projection, width: int | None = None) -> list[RenderableType]:
    """The intervals of a sampled month, beside its figures."""
    plans = [(p, p.confidence) for p in projection.by_cost() if p.confidence]
    if not plans:
        return []
    rows = []
    for p, sure in plans:
        waits = [f.wait_p95 for f in sure.functions if f.wait_p95 is not None]
        slowest = max(waits, key=lambda w: w[1], default=None)
        rows.append(
            [
                p.offer.name,
                money(p.bill.shown),
                _range(sure.cost, money),
                _range(sure.throttled_share, share),
                _range(sure.refused, share),
                _range(sure.lost, count),
                f"{p.totals.left_behind_share * 100:.3g}",
                _range(sure.left_behind, share),
                "–" if slowest is None else _range(slowest, seconds),
            ]
        )
    columns = [
        Column("plan", False),
        Column("month"),
        Column("between"),
        Column("throttled %"),
        Column("refused %", rank=3),
        Column("lost events", rank=1),
        Column("left behind %", rank=2),
        Column("between", rank=2),
        Column("wait p95 s", rank=1),
    ]
    return [table(f"How sure: 95 % intervals ({projection.currency})", columns, rows, width=width)]


def _latency(plan: PlayedPlan, width: int | None) -> list[RenderableType]:
    """What callers of endpoints see: from asking to the answer, and how many meet a cold start (rule 5.4)."""
    units = [u for u in plan.units if u.answers.p50 is not None]
    if not units:
        return []
    rows = [
        [
            safe(u.unit.function),
            safe(u.unit.environment),
            *(f"{1e3 * (value or 0.0):,.0f}" for value in (u.answers.p50, u.answers.p95, u.answers.p99)),
            share(u.cold_share or 0.0),
        ]
        for u in units
    ]
    columns = [Column("function", False), Column("environment", False), Column("p50 ms"), Column("p95 ms")]
    columns += [Column("p99 ms"), Column("cold %", rank=1)]
    title = f"What callers see on {plan.offer.name}: latency of handled requests"
    return [table(title, columns, rows, width=width)]


def _range(interval: tuple[float, float], text: Callable[[float], str]) -> str:
    low, high = text(interval[0]), text(interval[1])
    return low if low == high else f"{low} to {high}"


def hint_lines(projection: Projection) -> list[str]:
    """What plans quietly change about functions, plans of one hint together."""
    found: dict[tuple[str, str], list[str]] = {}
    for plan in projection.played:
        for name, text in plan.hints:
            found.setdefault((name, text), []).append(plan.offer.name)
    return [f"{safe(name)} on {', '.join(plans)}: {text}." for (name, text), plans in found.items()]


def projection_text(
    projection: Projection,
    width: int | None = None,
    colour: bool | None = None,
    replicated: Replicated | None = None,
    asked: MoneyAsked = NOTHING_ASKED,
) -> str:
    """The whole answer as text: verdict, plans, what was asked about the money, functions, assumptions."""
    shown_in(projection.currency)
    parts: list[RenderableType] = [
        Text(safe(f"{projection.model.estate.name}, {projection.model.estate.month}"), style="bold")
    ]
    parts += [Text(line) for line in verdict_lines(projection)]
    parts += replication_parts(replicated, width) if replicated else [Text("")]
    parts += plans_table(projection, width)
    parts += _intervals(projection, width)
    if plan := projection.best:
        parts += bill_parts(projection, plan, asked, width)
        parts.append(functions_table(projection, plan, width))
        if line := worth_following(plan):
            parts += [Text(safe(f"See the worst of it: {line}"), style="dim"), Text("")]
        parts += _latency(plan, width)
        parts += edge_parts(plan, width)
        parts += incident_parts(plan, projection.currency, width)
        parts += [Text(line) for line in standing_line(plan)]
    parts += [Text("Assumed: " + line, style="dim") for line in assumptions(projection)]
    return rendered(parts, width, colour)
