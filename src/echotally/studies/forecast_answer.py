"""What a forecast comes to: months, budgets and plans with their levels."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from msgspec import Struct

from echotally.projection.loaded import Loaded
from echotally.showing import Answer
from echotally.studies.response import Input

if TYPE_CHECKING:
    import pandas as pd


LEVELS = (0.1, 0.5, 0.9)


class MonthForecast(Struct, frozen=True):
    """One plan in one month: cost (currency) and share throttled at P10, P50 and P90, and chances (shares of draws).

    ``behind``: at the expected demand it leaves more events behind than it may, so that it is not the cheapest.
    """

    month: str
    cost: tuple[float, float, float]
    throttled: tuple[float, float, float]
    expected_cost: float
    cheapest_chance: float
    over_budget_chance: float
    behind: bool = False


class Crossed(Struct, frozen=True):
    """Something that is crossed first in ``month``: an allowance, a target, an instance limit; in words."""

    month: str
    what: str


class BudgetForecast(Struct, frozen=True):
    """A budget by tag in one month: what is expected of it, and the chance that it is passed, as a share of draws.

    Draws are of the whole bill; of each the functions with the tag have the share that they have at the expected demand.
    """

    month: str
    tag: str
    value: str
    budget: float
    expected_cost: float
    over_chance: float


class PartForecast(Struct, frozen=True):
    """A part of a plan's cost as ``--by`` splits it: expected month by month; ``total`` is P10, P50, P90 of the sum.

    Draws are of the whole bill, as for ``BudgetForecast``.
    """

    labels: tuple[str, ...]
    expected: tuple[float, ...]
    total: tuple[float, float, float]


class PlanForecast(Struct, frozen=True):
    """One plan over all months; ``total`` is P10, P50, P90 of the sum over the months, ``budgets`` are those by tag,
    ``parts`` those of the split that was asked for.
    """

    plan: str
    months: tuple[MonthForecast, ...]
    total: tuple[float, float, float]
    crossed: tuple[Crossed, ...]
    budgets: tuple[BudgetForecast, ...] = ()
    parts: tuple[PartForecast, ...] = ()

    @property
    def behind(self) -> bool:
        """Whether some month leaves more events behind than it may."""
        return any(month.behind for month in self.months)

    @property
    def rank(self) -> tuple[bool, float, str]:
        """Plans that leave work undone come last, then by cost, then by name."""
        return self.behind, self.total[1], self.plan


class Swing(Struct, frozen=True):
    """What one input does to the cost of all months of the plan looked at, at its low and its high end."""

    input: Input
    low_cost: float
    high_cost: float


class Forecast(Answer, frozen=True):
    """Every plan that takes every function, month by month. ``error`` is the largest relative misfit of the response
    in draws played in full (None where they are too large), ``switches`` the (month, plan) at which another plan becomes the
    cheapest at P50, ``unplayed`` the plans of which some month is too large even for a sample.
    """

    loaded: Loaded
    months: tuple[str, ...]
    draws: int
    seed: int
    currency: str
    inputs: tuple[Input, ...]
    plans: tuple[PlanForecast, ...]
    switches: tuple[tuple[str, str], ...]
    plan: str
    expected_total: float
    tornado: tuple[Swing, ...]
    error: float | None
    notes: tuple[str, ...]
    by: str | None = None
    unplayed: tuple[str, ...] = ()

    @property
    def rows(self) -> list[dict[str, Any]]:
        """A row for each plan and month: cost and share throttled at P10, P50 and P90, chances."""
        return [
            {
                "plan": plan.plan,
                "month": m.month,
                "cost_p10": m.cost[0],
                "cost_p50": m.cost[1],
                "cost_p90": m.cost[2],
                "cost_expected": m.expected_cost,
                "throttled_p10": m.throttled[0],
                "throttled_p50": m.throttled[1],
                "throttled_p90": m.throttled[2],
                "cheapest_chance": m.cheapest_chance,
                "over_budget_chance": m.over_budget_chance,
                "leaves_work_undone": m.behind,
            }
            for plan in self.plans
            for m in plan.months
        ]

    def to_frame(self) -> pd.DataFrame:
        """``rows`` as a table."""
        from echotally.projection.tables import frame_of

        return frame_of(self.rows)
