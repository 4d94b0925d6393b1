"""How a month stands under an assignment and sizes, and which of two months stands no worse."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct

from echotally.model.addresses import address_parts
from echotally.model.estate import Trigger
from echotally.projection.answer import PlayedPlan
from echotally.projection.totals import totals_of
from echotally.projection.verdict import goes_further


class Stood(Struct, frozen=True):
    """How the month stood under an assignment: how many targets it surely missed and how many are undecided, its unrounded cost and
    that of each function. ``between``: of a sample, what the month costs at the least and at the most.
    """

    misses: int
    undecided: int
    cost: Decimal
    functions: Mapping[str, Decimal]
    between: tuple[Decimal, Decimal]

    @classmethod
    def in_(cls, month: PlayedPlan) -> Stood:
        """Of a month that was played."""
        functions: dict[str, Decimal] = {}
        for (name, _), amount in month.bill.functions.items():
            functions[name] = functions.get(name, Decimal(0)) + amount
        between = month.bill.unrounded, month.bill.unrounded
        if sure := month.confidence:
            between = (
                (Decimal(0), Decimal("Infinity")) if sure.untold else (Decimal(sure.cost[0]), Decimal(sure.cost[1]))
            )
        return cls(len(month.misses), len(month.undecided), month.bill.unrounded, functions, between)

    def is_surely_behind(self, other: Stood) -> bool:
        """Whether the month itself, of which this is a sample, ranks behind that of the other, whatever is undecided of both."""
        most = other.misses + other.undecided
        return self.misses > most or (self.misses == most and self.between[0] > other.between[1])


def seems(stood: Stood) -> tuple[int, Decimal]:
    """How good it seems by a small sample, which leaves more undecided than the month."""
    return stood.misses, stood.cost


def rank(stood: Stood) -> tuple[int, bool, Decimal]:
    """What surely meets all goes before what perhaps does, though it cost more (rule 6.8)."""
    return stood.misses, not stood.misses and stood.undecided > 0, stood.cost


def is_no_worse(new: PlayedPlan, old: PlayedPlan, ranked: Callable[[Stood], Any] = rank) -> bool:
    """Whether sizes leave a month no worse: as good by its rank, and no target that is exceeded anyway is exceeded by more."""
    return ranked(Stood.in_(new)) <= ranked(Stood.in_(old)) and not goes_further(new.checks, old.checks)


def harmed(functions: Iterable[str], new: PlayedPlan, old: PlayedPlan) -> set[str]:
    """Of some functions those that have to do with what is worse than in the old month: targets exceeded by more, and the cost."""
    before = {check.of: check.found for check in old.checks}
    worse = {check.target for check in new.checks if check.found > max(check.wanted, before.get(check.of, 0.0))}
    found = set[str]()
    for function in functions:
        now, then = _figures(function, new), _figures(function, old)
        if any(now[target] > then[target] for target in (*worse, "monthly_cost")):
            found.add(function)
    return found


def _figures(function: str, month: PlayedPlan) -> dict[str, float]:
    """What each target is about, of one function."""
    units = month.units_of(function)
    totals = totals_of(units)
    return {
        "throttled": totals.attempts["throttled"],
        "refused": totals.events["rejected"],
        "lost": totals.lost,
        "left_behind": totals.left_behind,
        "wait_p95": totals.wait_p95_s or 0.0,
        "latency_p95": max((u.answers.p95 for u in units if u.answers.p95 is not None), default=0.0),
        "monthly_cost": float(sum(month.bill.functions.get((function, u.unit.environment), 0) for u in units)),
    }


def function_of(address: str, triggers: Sequence[Trigger]) -> str:
    """The function that the size at an address belongs to: one of its own keys, or of a trigger's that calls it."""
    table, name, *_ = address_parts(address)
    return triggers[int(name)].to if table == "triggers" else name
