"""A month's figures and bill worked from its attempts alone, in fractions and by the sentences of docs/rules.md.

It shares nothing with the kernels' running sums, the metering or the billing: an attempt is its start, the start
of its run, its end, its cold start and its outcome, and all else follows.
"""

from __future__ import annotations

import math
from bisect import bisect_right
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from fractions import Fraction

NS = 10**9
HOUR = 3_600 * NS


@dataclass(frozen=True)
class Attempt:
    """Times in ns since the month's start; ``run_at`` is None for one that was throttled."""

    function: str
    items: int
    at: int
    run_at: int | None
    ended: int
    cold: int
    outcome: str

    @property
    def started(self) -> bool:
        return self.outcome != "throttled"


def rounded_up(ns: int, step: int, least: int) -> int:
    """Billed time: up to the next step, then raised to the minimum."""
    return max(math.ceil(Fraction(ns, step)) * step, least)


def billed(attempts: Iterable[Attempt], step: int, least: int, cold_billed: bool) -> int:
    """Billed ns of calls that run alone in their instance, by attempt or by active period, which are then the same."""
    total = 0
    for a in attempts:
        if a.started:
            assert a.run_at is not None
            total += rounded_up(a.ended - a.run_at + (a.cold if cold_billed else 0), step, least)
    return total


class Level:
    """How many there are at each instant, from changes (time, +1 or -1, ...): a step function over the month."""

    def __init__(self, changes: Iterable[tuple[int, int]], month_ns: int) -> None:
        self.month_ns = month_ns
        by_time: Counter[int] = Counter()
        for at, by in changes:
            by_time[at] += by
        self.steps: list[tuple[int, int]] = [(0, 0)]
        for at in sorted(by_time):
            self.steps.append((at, self.steps[-1][1] + by_time[at]))

    def lasting(self) -> Counter[int]:
        """How long each value lasted, ns."""
        lasted: Counter[int] = Counter()
        ends = [at for at, _ in self.steps[1:]] + [self.month_ns]
        for (at, value), end in zip(self.steps, ends, strict=True):
            lasted[value] += end - at
        return lasted

    def mean(self) -> Fraction:
        return sum((Fraction(v * ns, self.month_ns) for v, ns in self.lasting().items()), Fraction(0))

    def quantile(self, q: Fraction) -> int:
        """The smallest value that is not exceeded for a share ``q`` of the month."""
        lasted, below = self.lasting(), 0
        for value in sorted(lasted):
            below += lasted[value]
            if below >= q * self.month_ns:
                return value
        raise AssertionError("the month is shorter than its parts")

    def at(self, ns: int) -> int:
        return self.steps[bisect_right(self.steps, (ns, math.inf)) - 1][1]

    def highest(self, low: int, high: int) -> int:
        """The highest value in [low, high)."""
        inside = [value for at, value in self.steps if low < at < high]
        return max([self.at(low), *inside])


def in_flight(attempts: Iterable[Attempt], month_ns: int) -> Level:
    """Calls in flight, cold starts included. A call that lasts no time is there and gone at one instant."""
    changes = [(a.at, 1) for a in attempts if a.started] + [(a.ended, -1) for a in attempts if a.started]
    return Level(changes, month_ns)


def nearest_rank(values: Iterable[int], q: Fraction) -> int:
    ordered = sorted(values)
    return ordered[max(1, math.ceil(q * len(ordered))) - 1]


def amount(price: Mapping[str, object], billable: Fraction) -> Fraction:
    """Money for a quantity: one price, graduated tiers, or ``volume`` tiers that price all at the tier reached."""
    per = Fraction(str(price.get("per", 1)))
    if "unit" in price:
        return billable * Fraction(str(price["unit"])) / per
    tiers = [(Fraction(t.get("up_to", 10**30)), Fraction(t["unit"])) for t in price["tiers"]]  # type: ignore[attr-defined]
    if price.get("volume"):
        return billable * next(unit for up_to, unit in tiers if billable <= up_to) / per
    edges = [Fraction(0), *(up_to for up_to, _ in tiers)]
    parts = (
        max(Fraction(0), min(billable, high) - low) * unit for low, (high, unit) in zip(edges, tiers, strict=False)
    )
    return sum(parts, Fraction(0)) / per


def bill(
    quantities: Mapping[str, Fraction], prices: Mapping[str, Mapping[str, object]], allowance: Mapping[str, int]
) -> dict[str, Fraction]:
    """The amount of each priced meter; what is left of an allowance helps no other meter."""
    return {
        meter: amount(price, max(Fraction(0), quantities.get(meter, Fraction(0)) - allowance.get(meter, 0)))
        for meter, price in prices.items()
    }


def to_the_cent(total: Fraction) -> Fraction:
    """Half a cent goes up."""
    return Fraction(math.floor(total * 100 + Fraction(1, 2)), 100)
