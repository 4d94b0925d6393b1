"""Charts of a projected month: cost by plan, levels over the month, backlog and oldest age, the day-by-hour map."""

from __future__ import annotations

import textwrap
from datetime import timedelta
from typing import Any

import numpy as np
from numpy.typing import NDArray

from echotally.engine.layout import SERIES
from echotally.engine.reading import UnitMeasured
from echotally.errors import BadInput, Problem
from echotally.naming import no_such, with_environment
from echotally.output.base.charts import COLOURS, SMALL, TEXT, new_figure, picture, source_of, titled
from echotally.output.base.terminal import money, shown_in
from echotally.output.projection.map_chart import map_chart
from echotally.output.projection.month_charts import dashboard_chart, edges_chart, stretch_chart, waits_chart
from echotally.output.projection.verdict_text import headline, landing_lines
from echotally.projection.answer import PlayedPlan, Projection
from echotally.projection.bills import merged_lines
from echotally.projection.outcomes import OUTCOMES
from echotally.projection.showback import showback
from echotally.projection.window import Window

_HATCHES = ("", "///", "...", "xxx", "\\\\\\", "+++", "ooo", "---")
_MOST_METERS = 7


def projection_chart(
    projection: Projection, kind: str, form: str, function: str | None = None, seen: Window | None = None
) -> bytes:
    """One chart of a projection as PNG or SVG; ``function`` (NAME or NAME@ENVIRONMENT) picks whose month is drawn, ``seen`` a
    stretch of it seen closely.

    Raises ``BadInput`` if no plan can run the estate, or the function is not there.
    """
    shown_in(projection.currency)
    if kind in ("cost", "outcome"):
        return (cost_chart if kind == "cost" else outcome_chart)(projection, form)
    plan = projection.best
    if plan is None:
        raise BadInput(Problem("no plan can run this estate, so there is nothing to draw", "--plot"))
    if kind == "landing":
        return landing_chart(projection, plan, form)
    if kind == "map":
        return map_chart(projection, plan, form)
    if kind == "waits":
        return waits_chart(projection, plan, form)
    if kind == "edges":
        if plan.edges is None:
            raise BadInput(Problem("needs the edges looked for", "--chart edges", allowed="with --edges"))
        return edges_chart(projection, plan, form)
    if seen is not None:
        return _closely(plan, kind, function, seen, form)
    draw = {"levels": levels_chart, "backlog": backlog_chart, "hours": hours_chart}[kind]
    return draw(projection, plan, _place(plan, function), form)


def _closely(plan: PlayedPlan, kind: str, function: str | None, seen: Window, form: str) -> bytes:
    if kind == "dashboard" and function is None:
        return dashboard_chart(seen, None, None, form)
    unit = plan.measured.units[_place(plan, function)].unit
    if kind == "dashboard":
        return dashboard_chart(seen, unit.function, unit.environment, form)
    return stretch_chart(seen, kind, unit.function, unit.environment, form)


def _place(plan: PlayedPlan, asked: str | None) -> int:
    """Index of the unit asked for; left out, the one that is throttled most, then the busiest."""
    units = plan.measured.units
    if asked is None:
        return max(range(len(units)), key=lambda n: (units[n].attempts["throttled"], units[n].concurrency.peak, -n))
    name, environment = with_environment(asked, {unit.unit.function for unit in units}, "functions")
    for n, unit in sorted(enumerate(units), key=lambda each: each[1].order):
        if unit.unit.function in (name, name.removeprefix("functions.")) and environment in ("", unit.unit.environment):
            return n
    raise BadInput(no_such("function", "--function", asked, dict.fromkeys(u.unit.function for u in units)))


def cost_chart(projection: Projection, form: str) -> bytes:
    """Cost by plan, cheapest on top, stacked by meter; plans that miss a target are said to."""
    plans = _dearest_first(projection)
    amounts: dict[str, list[float]] = {}
    for n, plan in enumerate(plans):
        for line in merged_lines(plan.bill):
            amounts.setdefault(line.meter, [0.0] * len(plans))[n] += float(line.amount)
    # The meters that cost most on all plans together, so that colours mean the same on each.
    ranked = sorted(amounts, key=lambda meter: -sum(amounts[meter]))
    shown = {meter: amounts[meter] for meter in ranked[:_MOST_METERS]}
    rest = [sum(amounts[meter][n] for meter in ranked[_MOST_METERS:]) for n in range(len(plans))]
    if any(rest):
        shown["all other meters"] = rest
    return _cost_bars(projection, plans, shown, headline(projection), "by meter", form)


def outcome_chart(projection: Projection, form: str) -> bytes:
    """Cost by plan, cheapest on top, stacked by what attempts came to (rule 10.1); the headline says what failure cost."""
    plans = _dearest_first(projection)
    by_plan = [{s.label: float(s.cost) for s in showback(projection.model, plan, "outcome")} for plan in plans]
    amounts = {name: [costs[name] for costs in by_plan] for name in OUTCOMES if any(costs[name] for costs in by_plan)}
    best = projection.best
    said = headline(projection)
    if best is not None:
        costs = {s.label: s.cost for s in showback(projection.model, best, "outcome")}
        failure = sum(costs[name] for name in ("failed", "timed out", "duplicates"))
        said = (
            f"{money(failure)} of {money(best.bill.shown)} {projection.currency} on {best.offer.name} go to attempts that failed,"
            f" timed out or did what was done; {money(costs['cold starts'])} to cold starts,"
            f" {money(costs['floors and idle time'])} to instances without a call"
        )
    return _cost_bars(projection, plans, amounts, said, "by what attempts came to", form)


def landing_chart(projection: Projection, plan: PlayedPlan, form: str) -> bytes:
    """The bill over the days: as billed, then as played, the interval at the end, and the budget. Raises ``BadInput``."""
    landing = plan.so_far
    if landing is None:
        raise BadInput(Problem("needs the bill so far", "--chart landing", allowed="with --so-far BILL --until DATE"))
    figure, (panel,) = new_figure()
    # A day's money is there at its end.
    costs = [0.0, *(float(cost) for _, cost in landing.days)]
    x = np.arange(len(costs)) + 1.0
    # Days whose money is billed; the others are played.
    cut = sum(1 for day, _ in landing.days if day < landing.until)
    panel.plot(x[: cut + 1], costs[: cut + 1], color=COLOURS[0], linewidth=2.4)
    if cut + 1 < len(x):
        panel.plot(x[cut:], costs[cut:], color=COLOURS[1], linewidth=2.2, linestyle="--")
        middle = (cut + 1 + len(x)) // 2
        panel.annotate("as played ", (x[middle], costs[middle]), ha="right", va="bottom", color=COLOURS[1], fontsize=11)
    if cut:
        panel.annotate("as billed ", (x[cut], costs[cut]), ha="right", va="bottom", color=COLOURS[0], fontsize=11)
    low, high = float(landing.low), float(landing.high)
    panel.vlines(x[-1], low, high, color=COLOURS[1], linewidth=5, alpha=0.5)
    panel.annotate(
        f"{money(landing.lands)}\n{money(low)} to {money(high)} ", (x[-1], high), ha="right", va="bottom", fontsize=11
    )
    panel.axvline(cut + 1, color="#777777", linewidth=0.8)
    top = high
    if landing.monthly_cost is not None:
        target = float(landing.monthly_cost)
        panel.axhline(target, color="#222222", linewidth=1.2, linestyle=":")
        panel.annotate(f" budget {money(target)}", (1, target), va="bottom", fontsize=11)
        top = max(top, target)
    panel.set_ylim(0, top * 1.15 or 1)
    panel.set_xlim(1, x[-1] + 0.5)
    panel.set_xlabel(f"day of {projection.model.estate.month}, local ({projection.model.estate.timezone})")
    panel.set_ylabel(f"bill so far ({projection.currency})")
    titled(
        panel,
        landing_lines(landing, projection.currency)[0],
        f"Bill so far, day by day ({projection.currency}): as billed, then as played; the bar at the end is its 95 % interval",
    )
    return picture(figure, form, source_of(projection.model, projection.seed))


def _dearest_first(projection: Projection) -> list[PlayedPlan]:
    return sorted(projection.played, key=lambda p: -p.bill.unrounded)


def _cost_bars(
    projection: Projection, plans: list[PlayedPlan], shown: dict[str, list[float]], headline: str, parts: str, form: str
) -> bytes:
    """A bar a plan, the first one at the bottom, stacked by what is shown of each."""
    figure, (panel,) = new_figure()
    left = np.zeros(len(plans))
    for n, (meter, values) in enumerate(shown.items()):
        panel.barh(
            range(len(plans)),
            values,
            left=left,
            label=meter.replace("_", " "),
            color=COLOURS[n % len(COLOURS)],
            hatch=_HATCHES[n % len(_HATCHES)],
            edgecolor="white",
            linewidth=0.5,
            height=0.6,
        )
        left += np.array(values)
    for n, plan in enumerate(plans):
        missed = ", ".join(dict.fromkeys(m.target.replace("_", " ") for m in plan.misses))
        note = "".join(f"\n {line}" for line in textwrap.wrap(f"misses {missed}", 34)) if missed else ""
        panel.annotate(f" {money(plan.bill.shown)}{note}", (left[n], n), va="center", fontsize=TEXT)
    panel.set_yticks(
        range(len(plans)), [("→ " if p.offer.name == projection.pick else "") + p.offer.name for p in plans]
    )
    panel.grid(False, axis="y")
    # Room for what stands beside the longest bar.
    panel.set_xlim(0, (left.max(initial=0.0) or 1.0) * 1.34)
    panel.set_ylim(min(-0.6, len(plans) / 2 - 2.6), max(len(plans) - 0.4, len(plans) / 2 + 1.6))
    panel.set_xlabel(f"cost of {projection.model.estate.month} ({projection.currency})")
    if plans:
        figure.legend(frameon=False, loc="outside lower center", ncols=4)
    else:
        panel.text(0.5, 0.5, "no plan can be used", ha="center", va="center", transform=panel.transAxes)
    titled(
        panel,
        headline.rstrip(":"),
        f"Cost of {projection.model.estate.month} ({projection.currency}), {parts}; → marks the pick",
    )
    return picture(figure, form, source_of(projection.model, projection.seed))


def _series(plan: PlayedPlan, place: int, name: str) -> NDArray[np.float64]:
    return plan.measured.series.one(place, SERIES.index(name))


def _unit(plan: PlayedPlan, place: int) -> UnitMeasured:
    return plan.measured.units[place]


def _whose(plan: PlayedPlan, place: int) -> str:
    unit = _unit(plan, place).unit
    return f"{unit.function} ({unit.environment}) on {plan.offer.name}"


def _days(projection: Projection, hours: int) -> NDArray[np.float64]:
    """Days of the month, 1 for its first instant, for the start of each hour."""
    return 1 + np.arange(hours) / 24


def _day_axis(projection: Projection, panel: Any) -> None:
    clock = projection.month.clock
    panel.set_xlabel(f"day of {clock.month} (elapsed, from local midnight in {projection.model.estate.timezone})")
    panel.set_xlim(1, 1 + clock.hours / 24)
    panel.set_xticks(range(1, int(clock.hours / 24) + 2, 3))


def _throttled_hours(panels: list[Any], days: NDArray[np.float64], throttled: NDArray[np.float64]) -> None:
    """Marks at the foot of the levels, and how many in a panel of their own."""
    # At the foot, where the levels of a quiet hour leave room.
    marked = days[throttled > 0]
    panels[0].plot(
        marked,
        np.zeros(len(marked)),
        "v",
        color=COLOURS[1],
        markersize=7,
        clip_on=False,
        label="hour with throttled calls",
    )
    panels[1].fill_between(days, throttled, step="post", color=COLOURS[1], linewidth=0.8, edgecolor=COLOURS[1])
    panels[1].set_ylabel("throttled\nin the hour")
    panels[1].set_ylim(0, float(throttled.max()) * 1.1)


def levels_chart(projection: Projection, plan: PlayedPlan, place: int, form: str) -> bytes:
    """Peaks of each hour: calls in flight, instances, the limit; hours with throttled calls are marked below."""
    unit = _unit(plan, place)
    calls, instances = _series(plan, place, "concurrency_peak"), _series(plan, place, "instances_peak")
    throttled = _series(plan, place, "throttled")
    figure, panels = new_figure(2, (4, 1)) if throttled.any() else new_figure()
    days = _days(projection, len(calls))
    panels[0].step(days, instances, where="post", color=COLOURS[0], linewidth=1.6, label="instances")
    panels[0].fill_between(days, calls, step="post", color=COLOURS[4], alpha=0.7, label="calls in flight")
    if unit.instance_limit is not None and unit.instance_limit <= 20 * max(1.0, float(instances.max())):
        panels[0].axhline(unit.instance_limit, color="black", linestyle="--", linewidth=1.2, label="instance limit")
    if throttled.any():
        _throttled_hours(panels, days, throttled)
    panels[0].set_ylabel("largest in the hour")
    panels[0].set_ylim(0, panels[0].get_ylim()[1] * 1.1)
    panels[0].legend(frameon=False, loc="upper left", ncols=4, bbox_to_anchor=(0, 1.0))
    _day_axis(projection, panels[-1])
    share = unit.throttled_share * 100
    hours = int((throttled > 0).sum())
    refused = f"{share:.3g} % of attempts throttled, in {hours:,} hours" if hours else "nothing throttled"
    title = f"{_whose(plan, place)}: up to {unit.concurrency.peak:,} calls at once; {refused}"
    titled(panels[0], title, f"Most instances and calls in flight in each hour of {projection.model.estate.month}")
    return picture(figure, form, source_of(projection.model, projection.seed))


def backlog_chart(projection: Projection, plan: PlayedPlan, place: int, form: str) -> bytes:
    """The most events waiting in each hour, and how old the oldest is when the hour ends."""
    figure, panels = new_figure(2, (1, 1))
    backlog, age = _series(plan, place, "backlog_peak"), _series(plan, place, "oldest_age_s")
    days = _days(projection, len(backlog))
    panels[0].fill_between(days, backlog, step="post", color=COLOURS[0], alpha=0.8)
    panels[0].set_ylabel("most events waiting\nin the hour")
    panels[0].set_ylim(0, max(1.0, float(backlog.max()) * 1.1))
    panels[1].step(days, age, where="post", color=COLOURS[1], linewidth=1.6)
    panels[1].set_ylabel("age of the oldest event waiting\nat the hour's end (s)")
    panels[1].set_ylim(0, max(1.0, float(age.max()) * 1.1))
    _day_axis(projection, panels[1])
    title = f"{_whose(plan, place)}: at most {backlog.max():,.0f} events wait, the oldest {age.max():,.0f} s at an hour's end"
    titled(
        panels[0], title, f"Events waiting, and the age of the oldest, in each hour of {projection.model.estate.month}"
    )
    return picture(figure, form, source_of(projection.model, projection.seed))


def hours_chart(projection: Projection, plan: PlayedPlan, place: int, form: str) -> bytes:
    """Arrivals by day (down) and local hour (across), darker for more; hours with throttled calls carry a mark."""
    arrivals, throttled = _series(plan, place, "arrivals"), _series(plan, place, "throttled")
    clock = projection.month.clock
    first = clock.instant(0).astimezone(clock.zone).date()
    last = (clock.instant(clock.length_ns - 10**9)).astimezone(clock.zone).date()
    # NaN stays white: an hour that a clock change left out has no events, not none.
    grid = np.full(((last - first).days + 1, 24), np.nan)
    marks = []
    for n, count in enumerate(arrivals):
        at = clock.instant(n * 3_600 * 10**9).astimezone(clock.zone)
        row = (at.date() - first).days
        grid[row, at.hour] = count if np.isnan(grid[row, at.hour]) else grid[row, at.hour] + count
        if throttled[n] > 0:
            marks.append((at.hour, row))
    figure, (panel,) = new_figure()
    panel.grid(False)
    shown = panel.imshow(grid, aspect="auto", cmap="Greys", interpolation="nearest", norm=_shade(grid))
    if marks:
        panel.plot(
            *zip(*marks, strict=True), "x", color=COLOURS[1], markersize=7, markeredgewidth=2, label="throttled calls"
        )
        panel.legend(loc="upper left", bbox_to_anchor=(0, -0.06), frameon=False)
    panel.set_yticks(
        range(len(grid)), [(first + timedelta(days=d)).strftime("%a %d") for d in range(len(grid))], fontsize=SMALL
    )
    panel.set_xticks(range(0, 24, 2))
    panel.set_xlabel(
        f"local hour ({projection.model.estate.timezone}); white: no arrivals, or an hour that does not exist"
    )
    figure.colorbar(shown, ax=panel, label="events arriving in the hour (shade by their square root)", pad=0.01)
    # Of the hour that comes twice both are in one cell.
    busiest = int(np.nanargmax(grid))
    at_day, at_hour = first + timedelta(days=busiest // 24), busiest % 24
    title = f"{_whose(plan, place)}: busiest on {at_day:%A %d} from {at_hour:02d}:00, {np.nanmax(grid):,.0f} events"
    titled(panel, title, "Events arriving by day and local hour, darker for more; a cross: throttled calls")
    return picture(figure, form, source_of(projection.model, projection.seed))


def _shade(grid: NDArray[np.float64]) -> Any:
    """Shades by the square root, so that an ordinary day is seen beside a flood."""
    from matplotlib.colors import PowerNorm

    return PowerNorm(0.5, 0, max(1.0, float(np.nanmax(grid))))
