"""``survey.html``: the wiring found, and of each function the fit of its run time and its hours, as pictures in one page."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from decimal import Decimal
from importlib.resources import files
from statistics import NormalDist
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from msgspec.structs import replace

from echotally.errors import safe
from echotally.evidence.fit.rhythm import hours_of
from echotally.evidence.survey.assembly import Found
from echotally.evidence.survey.facts import short
from echotally.evidence.survey.made import Survey, loaded_from
from echotally.output.base.charts import COLOURS, SETTINGS, picture, plain_x
from echotally.output.base.terminal import count
from echotally.output.evidence.survey_view import of_functions, plain_number, survey_verdict, trouble_lines
from echotally.projection.estate_map import THROTTLED, EstateMap, Trouble
from echotally.projection.observed_map import observed_map

#: Functions with pictures; more would make a page that no browser opens gladly.
_MOST = 80
#: Up to so many are drawn before another process has begun.
_ALONE = 16
_Z95 = 1.6448536269514722


def survey_page(made: Survey) -> str:
    """The page; it needs no network and no script."""
    from jinja2 import Environment, StrictUndefined

    template = Environment(
        autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    ).from_string((files("echotally.output") / "pages" / "survey.html").read_text(encoding="utf-8"))
    shown = list(made.functions)[:_MOST]
    return template.render(
        verdict=safe(survey_verdict(made)),
        caveats=[safe(line[:1].upper() + line[1:]) for line in _caveats(made)],
        month=made.month,
        wiring=_data(wiring_chart(made)),
        wiring_said=[safe(line) for line in wiring_lines(made)],
        functions=[_shown(made, name, chart) for name, chart in zip(shown, _charts(made, shown), strict=True)],
        left=len(made.functions) - len(shown),
        unknowns=[
            (
                safe(of_functions(names, 12)),
                safe(u.what),
                safe(u.assumed),
                "" if m is None else f"{m:,.2f}",
                safe(u.how),
            )
            for u, names, m in made.unknown_groups
        ],
        currency=made.card.currency,
        card=made.card.text(),
        model=made.text,
    )


def _caveats(made: Survey) -> list[str]:
    found = []
    if made.card.placeholder:
        found.append("No bill was given: prices are placeholders, and cost cannot be told.")
    found += [f"Changed for good: {change}." for change in made.changes]
    found += [f"Trouble: {line}" for line in trouble_lines(made)]
    return [*found, *(f"{note}." for note in made.notes)]


def _rate_said(toml: str) -> str:
    """A rate as the model has it, in two digits."""
    number, _, per = toml.strip('"').partition(" ")
    return f"{_rough(float(number))} {per}"


def _rough(value: float) -> str:
    """Two significant digits, for a picture."""
    return short(float(f"{value:.2g}"))


def _data(png: bytes) -> str:
    return "data:image/png;base64," + base64.b64encode(png).decode()


def _charts(made: Survey, names: Sequence[str]) -> list[bytes]:
    """The functions' pictures, drawn on all cores where they are many."""
    # Attempts one by one are not drawn: they need not go to another process.
    found = [
        replace(each, sample=each.sample.where(np.zeros(len(each.sample.t), bool)))
        for each in map(made.functions.get, names)
        if each
    ]
    if len(names) < _ALONE:
        return [function_chart(made.zone, each) for each in found]
    from joblib import Parallel, delayed

    return list(Parallel(n_jobs=-1)(delayed(function_chart)(made.zone, each) for each in found))


def _shown(made: Survey, name: str, chart: bytes) -> dict[str, Any]:
    found = made.functions[name]
    values = [
        (
            value.address.rpartition(".")[2],
            value.toml if len(value.toml) < 120 else value.toml[:117] + "...",
            value.comment,
        )
        for value in made.draft.values
        if value.address.startswith(f"functions.{name}.")
    ]
    test = next((row for test in made.backtests[:1] for row in test.rows if row.function == name), None)
    laid = []
    if test is not None:
        for label, part, unit in (
            ("calls", test.calls, ""),
            ("mean run", test.run_ms, "ms"),
            ("GB-seconds", test.gb_seconds, ""),
            ("p95 of runs", test.p95_ms, "ms"),
        ):
            laid.append(
                (
                    label,
                    f"{plain_number(part.played)} {unit}",
                    f"{plain_number(part.low)} to {plain_number(part.high)}",
                    f"{plain_number(part.happened)} {unit}",
                    part.holds,
                )
            )
    return {
        "name": safe(name),
        "sources": safe(", ".join(made.sources.get(name, ())) or "nothing known"),
        "attempts": count(found.sums.started),
        "chart": _data(chart),
        "values": [(safe(key), safe(toml), safe(comment)) for key, toml, comment in values],
        "laid": laid,
    }


def function_chart(zone: str, found: Found) -> bytes:
    """A function's runs, measured and fitted, beside its events by the hour of the week."""
    import matplotlib
    from matplotlib.figure import Figure

    with matplotlib.rc_context(SETTINGS):
        # Set margins are drawn twice as fast as those that are found out.
        figure = Figure(figsize=(12.8, 3.6), dpi=80, facecolor="white")
        figure.subplots_adjust(left=0.06, right=0.985, bottom=0.16, top=0.9, wspace=0.16)
        left, right = figure.subplots(1, 2)
        for panel in (left, right):
            panel.grid(True, color="#dddddd", linewidth=0.6)
            panel.spines[["top", "right"]].set_visible(False)
        _runs(left, found)
        _hours(right, zone, found)
        return picture(figure, "png", plain=True)


def _runs(panel: Any, found: Found) -> None:
    shares = np.arange(1, 100) / 100
    panel.set_ylabel("share of runs that are shorter")
    panel.set_xlabel("run time, without parts per event (ms)")
    if found.runs is None:
        panel.set_title("no run of it ended well", loc="left", fontsize=11)
        return
    panel.plot(found.runs.quantiles, shares, color=COLOURS[0], linewidth=2.2, label="as logged")
    fitted = _fitted(found, shares)
    if fitted is not None:
        panel.plot(fitted, shares, color=COLOURS[1], linewidth=1.6, linestyle="--", label="as fitted")
    low, high = found.runs.quantiles[0], found.runs.quantiles[-1]
    if low > 0 and high > 1.2 * low:
        panel.set_xscale("log")
        plain_x(panel)
    base = found.runs.base
    kind = "two kinds of run" if found.runs.kinds else {"samples": "no formula fits: samples"}.get(base.kind, base.kind)
    panel.set_title(f"{plain_number(base.median.value)} ms at the median, {kind}", loc="left", fontsize=11)
    panel.legend(frameon=False, loc="lower right")


def _fitted(found: Found, shares: Any) -> Any:
    """Quantiles of the fitted spread; None where samples stand for themselves."""
    runs = found.runs
    assert runs is not None
    if runs.kinds:
        from scipy.special import ndtr

        times = np.geomspace(max(1e-3, runs.quantiles[0] / 2), runs.quantiles[-1] * 2, 2_000)
        below = np.zeros(len(times))
        for kind in runs.kinds:
            sigma = max(1e-4, np.log(kind.p95.value / kind.median.value) / _Z95)
            below += kind.share * ndtr(np.log(times / kind.median.value) / sigma)
        return np.interp(shares, below, times)
    base = runs.base
    if base.kind == "samples":
        return None
    sigma = float(np.log(base.p95.value / base.median.value)) / _Z95
    return [base.median.value * np.exp(sigma * NormalDist().inv_cdf(float(q))) for q in shares]


def _hours(panel: Any, name: str, found: Found) -> None:
    """Events an hour by hour of the day: as logged, a mark each, and as the model's rate has them."""
    zone = ZoneInfo(name)
    counts = found.counts
    local, _ = hours_of(counts.stretch, zone)
    days = max(1.0, (found.sums.last - found.sums.first) / 86_400)
    seen = np.bincount(local, counts.events, 24) / days if len(local) else np.zeros(24)
    panel.bar(range(24), seen, color=COLOURS[5], edgecolor="#444444", linewidth=0.6, label="as logged")
    rate = next(iter(found.rates.values()), None)
    if rate is not None and rate.rhythm.rate.value > 0:
        base = rate.rhythm.rate.value * 3_600
        line = [base * (rate.rhythm.day[hour].value if rate.rhythm.day else 1.0) for hour in range(24)]
        panel.plot(
            range(24),
            line,
            color=COLOURS[1],
            marker="o",
            markersize=4,
            linewidth=1.6,
            label="the fitted rate, surges aside",
        )
    schedule = next(iter(found.guesses.values()), None)
    text = (
        f"fires by {schedule.cron or f'every {schedule.every_s:g} s'}"
        if schedule is not None
        else "events an hour, by the local hour"
    )
    panel.set_title(text, loc="left", fontsize=11)
    panel.set_xlabel(f"hour of the day ({name})")
    panel.set_ylabel("events an hour")
    panel.set_xticks(range(0, 24, 3))
    panel.set_ylim(0, max(1e-9, float(seen.max(initial=0)) * 1.3))
    panel.legend(frameon=False, loc="upper left")


def wiring_lines(made: Survey) -> list[str]:
    """The wiring in words, a line each."""
    lines = []
    for source, target, label in edges_of(made):
        lines.append(f"{source} → {target}" + (f" ({label})" if label else ""))
    return lines


def edges_of(made: Survey) -> list[tuple[str, str, str]]:
    """From, to and what is known of each line of the estate."""
    values = made.values
    edges = []
    for address, value in values.items():
        parts = address.split(".")
        if parts[0] == "demand" and parts[-1] == "rate":
            edges.append(
                (
                    f"demand {parts[1]}",
                    values[address.replace(".rate", ".into")].toml.strip('"'),
                    _rate_said(value.toml),
                )
            )
        elif parts[0] == "triggers" and parts[-1] == "from":
            batch = values.get(address.replace(".from", ".batch"))
            label = f"up to {batch.toml.split('  #')[0]}" if batch else ""
            edges.append((value.toml.strip('"'), values[address.replace(".from", ".to")].toml.strip('"'), label))
    names = {found.units[0][0]: name for name, found in made.functions.items()}
    edges += [
        (names[o.function], str(o.target), f"{_rough(o.each)} each") for o in made.wiring.emits if o.function in names
    ]
    edges += [
        (names[o.function], str(o.target), f"asks {_rough(o.each)} each")
        for o in made.wiring.asks
        if o.function in names
    ]
    for topic, feeds in made.worlds.feeds.items():
        for source, known in feeds:
            edges.append((f"topics.{topic}", str(source), f"{_rough(known[0])} of all" if known else ""))
    return edges


def wiring_chart(made: Survey) -> bytes:
    """The estate as it was found, with what the log counted and the bill paid."""
    from echotally.output.projection.map_chart import drawn_map

    drawn = survey_map(made)
    days = (made.span[1] - made.span[0]) / 86_400
    said = f"money is {made.billed.currency} of the bill" if made.billed is not None else "no bill was given"
    source = f"{made.log.rows:,} rows of a log of {days:,.1f} days · Echo Tally"
    return picture(drawn_map(drawn, map_said(made, drawn), said), "png", source)


def survey_map(made: Survey) -> EstateMap:
    """The wiring of the model that was made, with events and throttled attempts of the log and costs of the bill."""
    troubles: dict[str, tuple[Trouble, ...]] = {}
    for name, found in made.functions.items():
        tried = sum(found.sums.attempts.values())
        share = found.sums.attempts["throttled"] / tried if tried else 0.0
        if share >= THROTTLED:
            troubles[name] = (Trouble("throttled", share),)
    costs = {name: Decimal(repr(made.cost_of(name))) for name in made.functions} if made.billed is not None else {}
    events = {name: found.sums.events for name, found in made.functions.items()}
    return observed_map(loaded_from(made).model, events, costs, troubles)


def map_said(made: Survey, drawn: EstateMap) -> str:
    """What costs most, or without a bill gets most, and the worst trouble."""
    places = [node for node in drawn.nodes.values() if node.kind in ("function", "group")]
    if not places:
        return "no function was found"
    paid = sum((node.cost or Decimal(0) for node in places), Decimal(0))
    if paid and made.billed is not None:
        top = max(places, key=lambda node: node.cost or 0)
        what = f"{float((top.cost or 0) / paid):.0%} of what functions were billed ({paid:,.2f} {made.billed.currency}) is {top.label}"
    else:
        top = max(places, key=lambda node: node.events)
        what = f"most events, {count(top.events)}, came to {top.label}"
    troubled = [(trouble.figure, node.label) for node in places for trouble in node.troubles]
    if not troubled:
        return f"{what}; hardly an attempt was throttled"
    share, name = max(troubled)
    return f"{what}; of {name} {share * 100:.3g} % of attempts were throttled"
