"""What a month with a change came to, or one as it is, laid beside it."""

from __future__ import annotations

from decimal import Decimal

from msgspec import Struct

from echotally.engine.reading import UnitMeasured
from echotally.projection.answer import PlayedPlan
from echotally.projection.totals import Totals
from echotally.projection.verdict import Check, goes_further


class Trial(Struct, frozen=True):
    """The month with a change, or as it is: cost in the card's currency, unrounded, and the estate's totals.

    ``part`` are the units of the part that was played. ``sampled``: it was played as a small sample.
    """

    cost: Decimal
    totals: Totals
    checks: tuple[Check, ...]
    part: tuple[UnitMeasured, ...]
    sampled: bool = False

    @property
    def misses(self) -> tuple[Check, ...]:
        """The targets that are missed."""
        return tuple(check for check in self.checks if check.missed)

    def misses_more(self, other: Trial) -> bool:
        """Whether it misses more targets than another, or exceeds one that both exceed by more."""
        return len(self.misses) > len(other.misses) or goes_further(self.checks, other.checks)

    def units_of(self, function: str) -> list[UnitMeasured]:
        """What was measured of one function of the part, an item an environment."""
        return [u for u in self.part if u.unit.function == function]


def trial_of(plan: PlayedPlan, sampled: bool = False) -> Trial:
    """A month that was played whole."""
    return Trial(plan.bill.unrounded, plan.totals, plan.checks, tuple(plan.units), sampled)
