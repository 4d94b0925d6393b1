"""The answer of ``project`` as types: a plan that was played or was refused, and all of them side by side."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from datetime import date
from decimal import Decimal
from functools import cached_property
from typing import TYPE_CHECKING, Literal

from msgspec import Struct
from msgspec.structs import replace

from echotally.demand.happenings import QUIET, Happenings
from echotally.demand.month import MonthPlan
from echotally.engine.reading import Measured, UnitMeasured
from echotally.model.estate import Model
from echotally.projection.bills import Bill
from echotally.projection.confidence import Confidence
from echotally.projection.metering import Metered
from echotally.projection.totals import Totals
from echotally.projection.verdict import Check
from echotally.rates.card_loading import Offer
from echotally.showing import Answer

if TYPE_CHECKING:
    import pandas as pd

#: What is said of a function: its name, and the text.
Said = tuple[str, str]
#: In place of the name where something is said of all functions together.
ESTATE = "estate"


class RefusedPlan(Answer, frozen=True):
    """A plan without figures: one that cannot take the estate, with what speaks against it by function, or one that was not played.

    ``feasible`` is None where it was not played, since even a sample of its month is too large; the one reason says so.
    """

    offer: Offer
    reasons: tuple[Said, ...]
    feasible: Literal[False] | None = False
    meets_targets: Literal[False] | None = False
    method: str | None = "exact"

    @classmethod
    def unplayed(cls, offer: Offer, why: str) -> RefusedPlan:
        """A plan that may take the estate, but whose month is too large."""
        return cls(offer, ((ESTATE, why),), None, None, None)


class Helped(Struct, frozen=True):
    """Overrides that would have helped in an incident, played: the money they save, unrounded, and the events they leave less behind.

    ``of`` is what the incident cost.
    """

    sets: tuple[tuple[str, str], ...]
    saved: Decimal
    served: int
    of: Decimal


class IncidentEffect(Struct, frozen=True):
    """What one incident made of the month: this month less the month without it, the others kept (rule 7.46).

    ``cost`` is unrounded and may be negative; ``left_behind`` a difference of shares; ``wait_p95_s`` the largest difference over
    the functions, None where nothing succeeded.
    """

    name: str
    cost: Decimal
    left_behind: float
    wait_p95_s: float | None
    helped: Helped | None = None


class SoFar(Struct, frozen=True):
    """Where a month lands of which a part is billed and the rest was played, money unrounded (rules 10.6 and 7.53).

    ``until`` is the first day that was played. ``billed`` is the bill's money so far, ``played_so_far`` what the model makes of those
    days. The 95 % interval ``low`` to ``high`` is of what chance and the model's ranges make of the rest. ``days`` is the bill
    at the end of each local day; ``passed_on`` the day on which it passes the target ``monthly_cost``, None where it does not.
    """

    until: date
    billed: Decimal
    played_so_far: Decimal
    lands: Decimal
    low: Decimal
    high: Decimal
    monthly_cost: Decimal | None
    passed_on: date | None
    days: tuple[tuple[date, Decimal], ...]
    notes: tuple[str, ...] = ()


class AllowanceUsed(Struct, frozen=True):
    """How much of an allowance the month uses, before it is capped: above 1 where more was needed; of two accounts the worse."""

    plan: str
    meter: str
    used_share: float


class Edge(Struct, frozen=True):
    """An allowance, limit or target of a plan and how far it is (rule 7.54).

    ``kind`` is allowance, concurrency, instances, payload, timeout or target; ``used_share`` 1 at the edge. ``reached_at_times``:
    the multiple of every environment's demand at which it is reached, below 1 where it is already, None where no factor up to
    1,000 does it. ``reached_on``: the local day of this month, None where it is not, or not known by the day.
    """

    kind: str
    what: str
    function: str | None
    used_share: float
    reached_at_times: float | None
    reached_on: date | None


class PlayedPlan(Answer, frozen=True, dict=True):
    """A plan that takes the estate: what the month does and costs on it.

    ``when_idle`` is the bill of a month in which nothing comes, where it was asked for. ``method`` is "exact" or "sampled";
    a sampled month has a ``confidence``. ``hints`` say what the plan quietly changes about a function. ``happenings`` are what the
    clock brought; ``incidents`` what each incident made of the month, where that was asked for.
    """

    offer: Offer
    measured: Measured
    metered: Metered
    bill: Bill
    totals: Totals
    checks: tuple[Check, ...]
    hints: tuple[Said, ...] = ()
    when_idle: Bill | None = None
    confidence: Confidence | None = None
    happenings: Happenings = QUIET
    incidents: tuple[IncidentEffect, ...] | None = None
    so_far: SoFar | None = None
    edges: tuple[Edge, ...] | None = None
    feasible: Literal[True] = True

    @property
    def method(self) -> str:
        """How the month was played: "exact" or "sampled"."""
        return "exact" if self.confidence is None else "sampled"

    @property
    def untold(self) -> tuple[str, ...]:
        """Functions of which a sample does not tell how much of what comes they get done."""
        return self.confidence.untold if self.confidence else ()

    @property
    def units(self) -> list[UnitMeasured]:
        """What was measured of each function and environment, in the order of the file."""
        return sorted(self.measured.units, key=lambda u: u.order)

    def units_of(self, function: str) -> list[UnitMeasured]:
        """What was measured of one function, an item an environment."""
        return list(self._of_function.get(function, ()))

    @cached_property
    def _of_function(self) -> dict[str, list[UnitMeasured]]:
        found = defaultdict[str, list[UnitMeasured]](list)
        for unit in self.units:
            found[unit.unit.function].append(unit)
        return dict(found)

    @property
    def misses(self) -> tuple[Check, ...]:
        """The targets that are missed."""
        return tuple(check for check in self.checks if check.missed)

    @property
    def undecided(self) -> tuple[Check, ...]:
        """The targets of which a sample cannot say whether they are met."""
        return tuple(check for check in self.checks if check.undecided)

    @property
    def meets_targets(self) -> bool | None:
        """Whether every target is met; None where nothing is missed and something undecided."""
        if self.misses:
            return False
        return None if self.undecided else True


def allowances_used(plan: PlayedPlan) -> list[AllowanceUsed]:
    """Every allowance of the plans functions are on, in the cards' order."""
    found: dict[tuple[str, str], AllowanceUsed] = {}
    for account, tariff in plan.metered.plans.items():
        for meter, free in tariff.allowance.items():
            if free and meter in tariff.prices():
                share = float(plan.metered.total(account, meter) / free)
                known = found.get((account[1], meter))
                if known is None or share > known.used_share:
                    found[account[1], meter] = AllowanceUsed(account[1], meter, share)
    return list(found.values())


PlanProjection = PlayedPlan | RefusedPlan


class Projection(Answer, frozen=True):
    """The answer of ``project``: every plan, the pick, the closest, and what was assumed."""

    model: Model
    month: MonthPlan
    seed: int
    currency: str
    plans: tuple[PlanProjection, ...]
    pick: str | None
    closest: str | None
    notes: tuple[str, ...] = ()

    @property
    def played(self) -> list[PlayedPlan]:
        """The plans that can take the estate, in the order asked."""
        return [plan for plan in self.plans if isinstance(plan, PlayedPlan)]

    @property
    def refused(self) -> list[RefusedPlan]:
        """The plans that cannot, or were not played."""
        return [plan for plan in self.plans if isinstance(plan, RefusedPlan)]

    @property
    def unplayed(self) -> list[RefusedPlan]:
        """The plans of which it is not known: even a sample of their months is too large."""
        return [plan for plan in self.refused if plan.feasible is None]

    @property
    def best(self) -> PlayedPlan | None:
        """The pick, or else the closest; None where no plan can take the estate."""
        name = self.pick or self.closest
        return next((plan for plan in self.played if plan.offer.name == name), None)

    def by_cost(self) -> Iterator[PlayedPlan]:
        """The plans that can take the estate, cheapest first, ties by name."""
        yield from sorted(self.played, key=lambda plan: (plan.bill.total, plan.offer.name))

    def without_other_months(self) -> Projection:
        """The same with what happened in the month of the plan shown alone; of other plans totals, checks and bills are left.

        Of a thousand functions each month takes 15 MB.
        """
        best = self.best
        others = {plan.offer.name: replace(plan, measured=plan.measured.emptied()) for plan in self.played}
        return replace(self, plans=tuple(p if p is best else others.get(p.offer.name, p) for p in self.plans))

    def plan(self, name: str) -> PlanProjection:
        """The projection of one plan by its full name; raises ``KeyError``."""
        found = next((p for p in self.plans if p.offer.name == name), None)
        if found is None:
            raise KeyError(name)
        return found

    def to_frame(self, level: str = "functions") -> pd.DataFrame:
        """One level as a table: "functions" (a row a plan, function and environment), "plans", "bill" (a row a plan and
        meter), "series" (a row an hour) or "attempts" (a row an attempt on the pick, or the closest: its month is played once more);
        raises ``ValueError`` for another.
        """
        from echotally.projection.tables import frame_at

        return frame_at(self, level)
