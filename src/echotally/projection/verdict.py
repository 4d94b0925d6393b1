"""Targets met and missed, and which plan to pick (rule 6.8)."""

from __future__ import annotations

import math
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from decimal import Decimal

from msgspec import Struct

from echotally.engine.reading import Measured, SourceMeasured, UnitMeasured
from echotally.model.estate import Model, Targets
from echotally.model.sources import SourceKind
from echotally.projection.bills import Bill
from echotally.projection.totals import Totals, totals_of
from echotally.rates.billing import rounded_total

#: Targets that totals are held against, of the estate and of a function.
_OF_TOTALS = ("throttled", "refused", "lost", "left_behind")
#: Two figures that are closer than this, as a share, differ by the order in which they were added up.
_NOISE = 1e-9


class Check(Struct, frozen=True):
    """A target and what was found. Shares as fractions, waits in seconds, cost in the card's currency.

    ``low`` and ``high`` are the interval of a figure that is an estimate. Of a budget of a part, ``by`` ("month" or "tag:NAME") and
    ``value`` say which.
    """

    target: str
    function: str | None
    wanted: float
    found: float
    low: float | None = None
    high: float | None = None
    by: str | None = None
    value: str | None = None

    @property
    def of(self) -> tuple[str | None, ...]:
        """Which target it is of all that there are."""
        return self.target, self.function, self.by, self.value

    @property
    def undecided(self) -> bool:
        """Whether the figure is an estimate whose interval, ends included, holds what is wanted (rule 7.75)."""
        return (
            self.low is not None
            and self.high is not None
            and self.low <= self.wanted <= self.high
            and self.low < self.high
        )

    @property
    def missed(self) -> bool:
        """Whether more was found than wanted, and surely so."""
        return self.found > self.wanted and not self.undecided

    @property
    def used(self) -> float:
        """How much of the target is used up, 1 at the target itself (0 of a target of 0 counts as met with room)."""
        return self.found / self.wanted if self.wanted else float(self.found > 0)


def goes_further(new: Iterable[Check], old: Iterable[Check]) -> bool:
    """Whether a target that is exceeded in both of two months is exceeded by more in the new one, surely or not."""
    before = {check.of: check.found for check in old if check.found > check.wanted}
    return any(check.found > before.get(check.of, math.inf) * (1 + _NOISE) for check in new)


class _Judge:
    def __init__(self, model: Model, measured: Measured) -> None:
        self.model, self.measured = model, measured
        self.asked: dict[tuple[str, str], int] = {}
        answering: dict[str, list[str]] = defaultdict(list)
        for trigger in model.triggers:
            answering[trigger.from_].append(trigger.to)
        for source in measured.sources:
            if source.source.kind is SourceKind.ENDPOINTS:
                for function in answering[source.source]:
                    key = (function, source.environment)
                    self.asked[key] = self.asked.get(key, 0) + source.arrived

    def refused(self, units: Sequence[UnitMeasured]) -> float:
        asked = sum(self.asked.get((u.unit.function, u.unit.environment), 0) for u in units)
        return sum(u.events["rejected"] for u in units) / asked if asked else 0.0

    def _group(self, targets: object, units: Sequence[UnitMeasured], function: str | None) -> Iterator[Check]:
        # Most functions have none of their own.
        if units and any(getattr(targets, name) is not None for name in _OF_TOTALS):
            yield from _of_totals(targets, totals_of(units), self.refused(units), function)

    def checks(self, bill: Bill) -> Iterator[Check]:
        targets, units = self.model.targets, self.measured.units
        by_name: dict[str, list[UnitMeasured]] = defaultdict(list)
        yield from self._group(targets, units, None)
        for unit in units:
            by_name[unit.unit.function].append(unit)
            # The estate's wait and latency are each function's, so a function's own takes its place; shares and counts of the
            # whole estate are checked besides (rule 7.5).
            own = self.model.functions[unit.unit.function].targets
            yield from _slow("wait_p95", targets.wait_p95 if own.wait_p95 is None else own.wait_p95, unit)
            yield from _slow("latency_p95", targets.latency_p95 if own.latency_p95 is None else own.latency_p95, unit)
        for name, function in self.model.functions.items():
            yield from self._group(function.targets, by_name[name], name)
        yield from _of_cost(targets, self.model.estate.month, bill.total)
        yield from self._of_tags(bill)

    def _of_tags(self, bill: Bill) -> Iterator[Check]:
        """Budgets by tag, of what the functions with it pay, rounded as the bill is."""
        for tag, budgets in self.model.targets.by.tag.items():
            for value, wanted in budgets.items():
                mine = [c for (f, _), c in bill.functions.items() if self.model.functions[f].tags.get(tag) == value]
                cost = rounded_total(sum(mine, Decimal(0)), bill.currency)
                yield Check("monthly_cost", None, float(wanted), float(cost), by=f"tag:{tag}", value=value)


def _of_totals(targets: object, totals: Totals, refused: float, function: str | None) -> Iterator[Check]:
    found = (totals.throttled_share, refused, float(totals.lost), totals.left_behind_share)
    for name, value in zip(_OF_TOTALS, found, strict=True):
        wanted = getattr(targets, name)
        if wanted is not None:
            yield Check(name, function, float(wanted), value)


def _of_cost(targets: Targets, month: str, total: Decimal) -> Iterator[Check]:
    wanted = targets.budget(month)
    if wanted is not None:
        own = month in targets.by.month
        yield Check(
            "monthly_cost", None, float(wanted), float(total), by="month" if own else None, value=month if own else None
        )


def asked_of(model: Model, sources: Iterable[SourceMeasured]) -> int:
    """Requests that came to endpoints, once for each function that answers them."""
    answering = Counter(trigger.from_ for trigger in model.triggers)
    return sum(s.arrived * answering[s.source] for s in sources if s.source.kind is SourceKind.ENDPOINTS)


def estate_checks(model: Model, totals: Totals, asked: int, total: Decimal) -> list[Check]:
    """The checks of the whole estate's totals; ``asked`` as ``asked_of``, ``total`` the rounded bill."""
    targets = model.targets
    refused = totals.events["rejected"] / asked if asked else 0.0
    return [*_of_totals(targets, totals, refused, None), *_of_cost(targets, model.estate.month, total)]


def _slow(target: str, wanted_ns: int | None, unit: UnitMeasured) -> Iterator[Check]:
    found = unit.waits.p95 if target == "wait_p95" else unit.answers.p95
    if wanted_ns is not None and found is not None:
        yield Check(target, unit.unit.function, wanted_ns / 1e9, found)


def asks_for_times(model: Model) -> bool:
    """Whether a target is about how long events wait, or answers take."""
    own = [(f.targets.wait_p95, f.targets.latency_p95) for f in model.functions.values()]
    return any(
        target is not None for pair in ((model.targets.wait_p95, model.targets.latency_p95), *own) for target in pair
    )


def refused_share(model: Model, measured: Measured) -> float:
    """Requests rejected / requests' events in, over the whole estate (rule 7.5)."""
    return _Judge(model, measured).refused(measured.units)


def check_targets(model: Model, measured: Measured, bill: Bill) -> list[Check]:
    """Every target of the model with what the month on this plan found, in the worst environment for a wait."""
    worst: dict[tuple[object, ...], Check] = {}
    for check in _Judge(model, measured).checks(bill):
        key = (check.target, check.function, check.by, check.value, check.wanted)
        if key not in worst or check.found > worst[key].found:
            worst[key] = check
    return list(worst.values())
