"""The report's first screen: three figures with their intervals, the map, and what would change the decision."""

from __future__ import annotations

import base64
from collections.abc import Iterator, Sequence
from itertools import pairwise
from typing import Any

from msgspec import Struct

from echotally.errors import safe
from echotally.output.base.charts import picture
from echotally.output.base.terminal import money, seconds, share
from echotally.output.projection.map_chart import map_figure, map_finding
from echotally.output.projection.verdict_text import check_text
from echotally.projection.answer import PlayedPlan, Projection
from echotally.projection.estate_map import estate_map
from echotally.studies.demand_points import DemandPoint
from echotally.studies.otherwise import Otherwise


class Figure(Struct, frozen=True):
    """A figure that matters: what it is, its value, and between what it lies from seed to seed ("" where that is not known)."""

    name: str
    value: str
    interval: str


class Turn(Struct, frozen=True):
    """A cell of the table of demands: what is shown, and what the slider reads."""

    text: str
    cost: str
    throttled: str
    meets: str
    misses: str


def map_contents(projection: Projection, plan: PlayedPlan | None) -> dict[str, Any]:
    """The map of the first screen; of an estate that no plan can run, nothing."""
    if plan is None:
        return {"map": None, "map_text": ""}
    # Grouped as the picture is, so that its caption names what can be seen.
    drawn = estate_map(projection, plan)
    svg = picture(map_figure(projection, plan, title=False), "svg")
    return {"map": base64.b64encode(svg).decode(), "map_text": safe(map_finding(projection, plan, drawn))}


def front_contents(projection: Projection, plan: PlayedPlan | None, other: Otherwise) -> dict[str, Any]:
    """What the first screen says beside it; of an estate that no plan can run, nothing."""
    if plan is None:
        return {"figures": [], "changes": [], "points": None}
    return {
        "figures": list(_figures(projection, plan, other)),
        "changes": [safe(line) for line in _changes(projection, plan, other.points)],
        "points": _table(projection, other.points) if other.points else None,
    }


def _figures(projection: Projection, plan: PlayedPlan, other: Otherwise) -> Iterator[Figure]:
    known = other.figures or {}
    n = other.seeds

    def between(name: str, shown: Any) -> str:
        found = known.get(name)
        if found is None:
            return ""
        # Of one more month, and not of the mean: the figure above is that of one month.
        middle, half = (found.low + found.high) / 2, (found.high - found.low) / 2 * (n + 1) ** 0.5
        return f"{shown(max(0.0, middle - half))} to {shown(middle + half)} with other seeds (95 %)"

    currency = projection.currency
    budget = projection.model.targets.budget(projection.model.estate.month)
    beside = f" of {money(budget)}" if budget is not None else ""
    yield Figure(
        f"{currency} a month on {safe(plan.offer.name)}{beside}", money(plan.bill.shown), between("cost.total", money)
    )
    behind = plan.totals.left_behind_share
    yield Figure("of all events left behind (%)", share(behind), between("left_behind", share))
    yield Figure("longest p95 wait (s)", seconds(plan.totals.wait_p95_s), between("wait_p95_s", seconds))


def _changes(projection: Projection, plan: PlayedPlan, points: Sequence[DemandPoint]) -> Iterator[str]:
    """What would make it another decision: demand, and the targets that cheaper plans miss."""
    # Only demands that were played: between two of them the pick changes somewhere.
    for before, after in pairwise(points):
        if before.pick != after.pick:
            was, now = before.pick or "no plan", after.pick or "no plan"
            yield f"Between {before.scale:g} and {after.scale:g} times today's demand the pick goes from {was} to {now}."
    if points and len({point.pick for point in points}) == 1:
        first, last = points[0].scale, points[-1].scale
        yield f"From {first:g} to {last:g} times today's demand the pick stays {points[0].pick or 'none'}."
    for other in projection.played:
        # What is cheaper and misses nothing would be the pick.
        if other.bill.unrounded < plan.bill.unrounded and other.misses:
            saved = plan.bill.shown - other.bill.shown
            missed = "; ".join(check_text(miss, projection.currency) for miss in other.misses[:2])
            more = f" and {len(other.misses) - 2} more" if len(other.misses) > 2 else ""
            yield f"{other.offer.name} would cost {money(saved)} {projection.currency} less, but for {missed}{more}."


def _table(projection: Projection, points: Sequence[DemandPoint]) -> dict[str, Any]:
    """A row a plan and a column a multiple of demand; the slider reads it."""
    names = [plan.offer.name for plan in projection.by_cost()]
    rows = [(safe(name), [_turn(point, name, projection.currency) for point in points]) for name in names]
    return {
        "scales": [f"{point.scale:g}" for point in points],
        "picks": [safe(point.pick or "") for point in points],
        "rows": rows,
        "today": next((n for n, point in enumerate(points) if point.scale == 1), 0),
        "currency": projection.currency,
    }


def _turn(point: DemandPoint, name: str, currency: str) -> Turn:
    plan = next((plan for plan in point.plans if plan.name == name), None)
    if plan is None:
        return Turn("–", "", "", "", "cannot be used")
    missed = "; ".join(check_text(miss, currency) for miss in plan.misses)
    mark = "*" if plan.misses else "?" if plan.undecided else ""
    meets = "no" if plan.misses else "undecided" if plan.undecided else "yes"
    throttled = f"{plan.throttled_share:.6f}"
    return Turn(money(plan.shown) + mark, f"{plan.unrounded:.4f}", throttled, meets, safe(missed))
