"""Costs of sampled months in a study: marked where they stand, and how sure the least sure is, in words."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from echotally.errors import safe
from echotally.output.base.terminal import money
from echotally.studies.jobs import Row, cost_bounds, is_estimate

_MARKS = {True: "", False: "*", None: "?"}
#: What the marks of ``cost_cell`` mean.
LEGEND = "* misses a target, ? undecided"


def cost_cell(row: Row) -> str:
    """A month's cost with its marks: an estimate, a target missed or undecided."""
    return ("~" if is_estimate(row) else "") + money(row["cost_total"]) + _MARKS[row["meets_targets"]]


def estimated(rows: Sequence[Row]) -> list[Row]:
    """Those whose months are samples and cost anything."""
    return [row for row in rows if is_estimate(row) and row["cost_total"]]


def least_sure(rows: Sequence[Row], at: Callable[[Row], str]) -> str:
    """The estimate that may be furthest from the truth, ``at`` which point, and by how much."""
    worst = max(rows, key=_wide)
    return f"the least sure is {safe(worst['plan'])} at {at(worst)}, within {_wide(worst) * 100:.2g} %"


def _wide(row: Row) -> float:
    """Half of the interval of an estimate, as a share of it."""
    low, high = cost_bounds(row)
    cost: float = row["cost_total"]
    return (high - low) / 2 / cost
