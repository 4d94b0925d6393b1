"""How sure the figures of a sampled month are: an interval for each figure that a target can name.

Two-sided 95 % intervals of the month that ``--exact`` would play. Each part of the sample is a month with noise of its
own, more than an exact month's; an interval for one more month of that kind (a prediction interval, Hahn and Meeker,
"Statistical Intervals", 1991, section 4.2) is wide enough. Counts have at least the interval of a Poisson count of what
was seen of them (Garwood, Biometrika 28, 1936); losses whose chance is known that of their expectation.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from decimal import Decimal
from functools import cached_property
from statistics import fmean, stdev
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from echotally.engine.reading import Measured, UnitMeasured
from echotally.projection.metering import UnitKey
from echotally.projection.totals import totals_of
from echotally.projection.verdict import Check

if TYPE_CHECKING:
    from echotally.engine.sampling.estimate import Sampled
    from echotally.engine.sampling.untold import Hidden

LEVEL = 0.95
#: Student's t, 97.5 % point, by degrees of freedom (as in any table), so that no library need be loaded for it.
_T975 = {1: 12.706205, 2: 4.302653, 3: 3.182446, 4: 2.776445, 5: 2.570582, 6: 2.446912, 7: 2.364624}
_Z975 = 1.959964

Interval = tuple[float, float]
#: What the method itself may be off by, as a share: a stretch has no empty start and no cut end; a sketch's bin is wide.
_OF_COST, _OF_COUNTS, _OF_WAITS = 0.0005, 0.002, 0.01
#: So many events may be expected where none is seen, 97.5 % (Poisson).
_NONE_SEEN = -math.log((1 - LEVEL) / 2)
#: How far beside the 95th percentile, as a share of all events.
_BESIDE = 0.0025
#: Of a function that is just critical, what is left over is a random walk: its scatter is wide and its tail long, and what
#: is billed depends on how long it happened to be idle.
_WALK, _OF_CRITICAL = 3.0, 0.005
#: Four parts tell their own scatter badly, and backlogs are no normal numbers: intervals are this much wider than Student's.
_WIDER = 1.25
#: So much wider is a count that holds what is left over at the month's end.
_LAST = 1.6
#: What is counted in events or attempts, and how many of a unit's are.
_COUNTED: Mapping[str, Callable[[UnitMeasured], float]] = {
    "throttled": lambda u: u.attempts["throttled"],
    "refused": lambda u: u.events["rejected"],
    "lost": lambda u: totals_of([u]).lost,
    "left_behind": lambda u: totals_of([u]).left_behind_share * u.events["in"],
}


class UnitConfidence(Struct, frozen=True):
    """Intervals of one function in one environment; ``wait_p95`` in s, None where nothing succeeded."""

    function: str
    environment: str
    wait_p95: Interval | None
    left_behind: Interval


class Confidence(Struct, frozen=True):
    """Intervals of a sampled month: cost in the card's currency, shares as fractions, losses as events.

    ``untold`` are functions that do not get done what comes to them, of which a sample does not tell how much.
    """

    level: float
    cost: Interval
    throttled_share: Interval
    refused: Interval
    lost: Interval
    left_behind: Interval
    functions: tuple[UnitConfidence, ...]
    untold: tuple[str, ...] = ()


def interval(values: Sequence[float], method: float = _OF_COST) -> Interval:
    """Where one more month like these would lie, never below zero; ``method``: the share the method may be off by."""
    middle = fmean(values)
    half = _WIDER * _T975[len(values) - 1] * stdev(values) * math.sqrt(1 + 1 / len(values)) + method * middle
    return max(0.0, middle - half), middle + half


def walking(values: Sequence[float]) -> Interval:
    """As ``interval``, of what a random walk leaves over: from nothing to well beyond what was seen."""
    return 0.0, fmean(values) + _WALK * _T975[len(values) - 1] * stdev(values)


def counted(values: Sequence[float], share: float, possible: bool = True, together: float = 1.0) -> Interval:
    """As ``interval``, of a count of which a ``share`` was played; ``possible`` False: it cannot be but 0.

    ``together``: how many are counted at once, as those that a call carries (compound Poisson).
    """
    if not possible and not any(values):
        return 0.0, 0.0
    low, high = interval(values, _OF_COUNTS)
    least, most = _poisson_seen(fmean(values) / together, share)
    return min(low, least * together), max(high, most * together)


def _poisson_seen(count: float, share: float) -> Interval:
    """The month's count, of which about ``count * share`` were seen."""
    # Where nothing could be played in part, what is counted was played whole.
    if share >= 1 or share <= 0:
        seen_low, seen_high = count, count
    else:
        from scipy.special import gammaincinv

        # Garwood's interval of what was seen, scaled to the month; the part not seen scatters by itself on top.
        seen = count * share
        seen_low = float(gammaincinv(seen, (1 - LEVEL) / 2)) / share if seen > 0 else 0.0
        seen_high = float(gammaincinv(seen + 1, (1 + LEVEL) / 2)) / share
    return max(0.0, seen_low - _Z975 * math.sqrt(seen_low)), seen_high + _Z975 * math.sqrt(seen_high * share)


def expected_count(mean: float, together: float) -> Interval:
    """A count whose expectation is known, of events given up ``together`` at a time (compound Poisson, its normal form)."""
    if mean <= 0:
        return 0.0, 0.0
    half = _Z975 * math.sqrt(mean * together)
    # The upper end of a small Poisson count: that of no event seen, where the normal form is too short.
    return max(0.0, mean - half), mean + max(half, 3.0 * together if mean > 0.02 else together)


class Doubt(Struct, frozen=True, dict=True):
    """How sure a sample is, ``found``, of which each unit has ``paid`` so much; ``node`` is what one is paid that comes and goes again."""

    found: Sampled
    paid: Mapping[UnitKey, Decimal]
    node: float = 0.0

    def cost(self, values: Sequence[float], function: str | None = None) -> Interval:
        """Of the month's cost."""
        low, high = interval(values, _OF_CRITICAL if self.found.critical else _OF_COST)
        # None of theirs may have been handled, or all of it, for what the others cost.
        for u in self._doubtful(function):
            paid, done = float(self._paid(u)), u.events["succeeded"]
            low, high = low - paid, high + paid * max(0, u.events["in"] - done) / max(1, done)
        # So many more nodes may have been wanted for a moment while nobody looked.
        high += self.node * _NONE_SEEN / self.found.share if 0 < self.found.share < 1 else 0.0
        for u, hidden in self._hiding(function):
            high += float(self._paid(u)) * hidden.again
        return max(0.0, low), high

    def waits(self, values: Sequence[float], n: int) -> Interval:
        """Of the p95 of the n-th unit's waits, s: where waits come in steps parts may agree by chance, so that what lies just
        beside the 95th percentile counts as well.
        """
        unit = self.found.month.units[n]
        low, high = self._times(values, unit.unit.function)
        by = self._beside(n)
        beside = [w for w in unit.wait_sketch.quantiles((0.95 - by, min(1.0, 0.95 + by))) if w is not None]
        return min([low, *beside]), max([high, *beside])

    def _beside(self, n: int) -> float:
        """How far beside the 95th percentile what lies there may be it: as far as the parts differ in how many wait no longer."""
        found, sketch = _BESIDE, self.found.month.units[n].wait_sketch
        if len(sketch.places):
            place = sketch.place(0.95)
            for at in (place - 1, place):
                shares = [part.units[n].wait_sketch.share_up_to(at) for part in self.found.parts]
                found = max(found, interval(shares, 0.0)[1] - fmean(shares))
        return found

    def counted(self, what: str, values: Sequence[float], function: str | None, possible: bool = True) -> Interval:
        """Of a count of events or attempts; ``what`` is one of ``_COUNTED``."""
        low, high = counted(values, self.found.share, possible, self._together(what, function))
        if any(u.events["unfinished"] for u in self._of_parts(function)):
            # What is left over when the month ends is one evening's chance, not a month's mean.
            middle = fmean(values)
            low, high = max(0.0, middle - _LAST * (middle - low)), middle + _LAST * (high - middle)
        if self._walks(function):
            least, most = walking(values)
            low, high = min(low, least), max(high, most)
        # Any of theirs may have ended in any way.
        for u in self._doubtful(function):
            its = _COUNTED[what](u)
            # An event may be sent away many times.
            more = math.inf if what == "throttled" else u.events["in"] - its
            low, high = max(0.0, low - its), high + more
        if what == "left_behind":
            high += math.fsum(u.events["in"] * (hidden.again + hidden.left) for u, hidden in self._hiding(function))
        return low, high

    def _together(self, what: str, function: str | None) -> float:
        """How many are counted at once: each function's call carries some, and a sum scatters by what most of it is of."""
        if what in ("throttled", "refused"):
            return 1.0
        units, carried = self._units(self.found.month, function), self.found.together
        each = [(_COUNTED[what](u), carried[u.unit.function]) for u in units]
        if whole := math.fsum(its for its, _ in each):
            return math.fsum(its * together for its, together in each) / whole
        # Nothing was seen, and yet tries fail.
        failing = (u.unit.function for u in units if u.attempts["failed"] or u.attempts["timed_out"])
        return max((carried[name] for name in failing), default=1)

    def _walks(self, function: str | None) -> bool:
        return bool(self.found.critical) if function is None else function in self.found.critical

    def _times(self, values: Sequence[float], function: str | None) -> Interval:
        """Of times that hang on what waits, s: of what is not known to get done any that a month has."""
        if self._doubtful(function):
            return 0.0, self.found.month.month_ns / 1e9
        return walking(values) if self._walks(function) else interval(values, _OF_WAITS)

    def _paid(self, unit: UnitMeasured) -> Decimal:
        return self.paid.get((unit.unit.function, unit.unit.environment), Decimal(0))

    def _hiding(self, function: str | None) -> Iterator[tuple[UnitMeasured, Hidden]]:
        """The month's units, of one function or all, of which messages that failed are hidden."""
        for unit in self._units(self.found.month, function):
            if hidden := self.found.hidden.get(unit.unit.function):
                yield unit, hidden

    def _doubtful(self, function: str | None) -> list[UnitMeasured]:
        """The month's units, of one function or all, of which it is not known what gets done."""
        return [
            u
            for u in self._units(self.found.month, function)
            if u.unit.function in self.found.untold | self.found.beside
        ]

    def lost(self, function: str | None) -> Interval:
        """Of the events lost, dead-lettered, expired or too large."""
        # Where every loss is by a chance that is known, its expectation tells more than four small counts.
        names = {u.unit.function for u in self._units(self.found.parts[0], function)}
        without_chance = sum(u.events["expired"] + u.events["too_large"] for u in self._of_parts(function))
        told = not self._walks(function) and not self._doubtful(function)
        if not without_chance and told and all(n in self.found.losses for n in names):
            # From what came, since the parts' own losses are whole events.
            mean = fmean(math.fsum(self._expected(u) for u in self._units(part, function)) for part in self.found.parts)
            return expected_count(mean, max((self.found.losses[n].together for n in names), default=1))
        values = [float(totals_of(self._units(part, function)).lost) for part in self.found.parts]
        possible = any(n not in self.found.losses or self.found.losses[n].chance > 0 for n in names)
        return self.counted("lost", values, function, possible)

    def _expected(self, unit: UnitMeasured) -> float:
        """How many of a unit's events are lost, by the chance that is known."""
        return unit.events["in"] * self.found.losses[unit.unit.function].chance

    @cached_property
    def _by_function(self) -> Mapping[str, Sequence[int]]:
        """The places of each function's units, the same in every month."""
        found: dict[str, list[int]] = {}
        for n, measured in enumerate(self.found.month.units):
            found.setdefault(measured.unit.function, []).append(n)
        return found

    def _units(self, month: Measured, function: str | None) -> list[UnitMeasured]:
        return month.units if function is None else [month.units[n] for n in self._by_function.get(function, ())]

    def _of_parts(self, function: str | None) -> Iterator[UnitMeasured]:
        return (u for part in self.found.parts for u in self._units(part, function))

    def checks(self, checks: Sequence[Check], of_parts: Sequence[Sequence[Check]]) -> tuple[Check, ...]:
        """The checks of a sampled month, each with its interval, from the checks of every part."""
        found, known = [], [_by_key(part) for part in of_parts]
        for check in checks:
            low, high = self._of(check, [part.get(_key(check), check.found) for part in known])
            found.append(replace(check, low=low, high=high))
        return tuple(found)

    def _of(self, check: Check, values: Sequence[float]) -> Interval:
        if check.target == "lost":
            return self.lost(check.function)
        if check.target in _COUNTED:
            base = self._base(check)
            return (
                _scaled(self.counted(check.target, [v * base for v in values], check.function), base)
                if base
                else (0.0, 0.0)
            )
        if check.target == "wait_p95":
            if self._doubtful(check.function):
                return self._times(values, check.function)
            units = self.found.month.units
            mine = range(len(units)) if check.function is None else self._by_function[check.function]
            return self.waits(values, max(mine, key=lambda n: units[n].waits.p95 or 0.0))
        if check.target == "latency_p95":
            return self._times(values, check.function)
        return self.cost(values, check.function)

    def _base(self, check: Check) -> float:
        """What a share is a share of: attempts, requests, events in."""
        units = self._units(self.found.parts[0], check.function)
        if check.target == "throttled":
            return float(totals_of(units).attempts["total"])
        return float(sum(u.requests if check.target == "refused" else u.events["in"] for u in units))

    def confidence(self, costs: Sequence[float], refused: Sequence[float]) -> Confidence:
        """Every interval of design section 5; ``costs`` and shares ``refused`` are the parts' own."""
        units = self.found.parts[0].units
        totals = [totals_of(p.units) for p in self.found.parts]
        tried = fmean(t.attempts["total"] for t in totals) or 1.0
        asked, came = float(sum(u.requests for u in units)) or 1.0, float(totals[0].events["in"]) or 1.0
        throttled = self.counted("throttled", [t.throttled_share * tried for t in totals], None)
        rejected = self.counted("refused", [r * asked for r in refused], None, asked > 1.0)
        behind = self.counted("left_behind", [t.left_behind_share * came for t in totals], None)
        return Confidence(
            LEVEL,
            self.cost(costs),
            _scaled(throttled, tried),
            _scaled(rejected, asked),
            self.lost(None),
            _scaled(behind, came),
            tuple(self._unit(n) for n in range(len(units))),
            tuple(sorted(self.found.untold)),
        )

    def _unit(self, n: int) -> UnitConfidence:
        units = [part.units[n] for part in self.found.parts]
        name = units[0].unit.function
        waits = [u.waits.p95 for u in units if u.waits.p95 is not None]
        came = float(units[0].events["in"]) or 1.0
        behind = self.counted("left_behind", [totals_of([u]).left_behind_share * came for u in units], name)
        return UnitConfidence(
            name,
            units[0].unit.environment,
            self.waits(waits, n) if len(waits) == len(units) else None,
            _scaled(behind, came),
        )


def _key(check: Check) -> tuple[object, ...]:
    return check.target, check.function, check.by, check.value, check.wanted


def _by_key(part: Sequence[Check]) -> dict[tuple[object, ...], float]:
    """What a part found, by what was checked; of two that are alike the first."""
    return {_key(check): check.found for check in reversed(part)}


def _scaled(values: Interval, by: float) -> Interval:
    """As shares, none of which is above all."""
    return min(1.0, values[0] / by), min(1.0, values[1] / by)
