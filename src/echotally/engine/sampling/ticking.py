"""Schedules that fire so often that a sampled month takes them as steady: minute by minute alike.

Why it exists: a schedule's firings are known to the instant, so that a sample plays them all, apart from the rest - which for one
that fires every second is more than all else that it plays. In hours whose minutes are alike a few minutes tell as much: they are
played at their own instants, beside the rest, and every part of a stretch is whole minutes long, so that firings are counted exactly.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from echotally.demand.clock import LocalHour
from echotally.demand.month import MonthPlan, Tap
from echotally.demand.stretches import Stretches
from echotally.engine.sampling.eventful import firings_in
from echotally.model.sources import SourceKind

MINUTE = 60 * 10**9
#: So many firings of a month are played whole: fewer of them take less time than what else a sample plays.
_OFTEN = 1_000_000
#: A schedule ticks where all but so many of its firings stand in hours whose minutes are alike.
_ODD = 0.05

#: When in a minute a schedule fires, ns, as the bytes of an array; empty where it does not fire.
Pattern = bytes


class Ticks:
    """Schedules of a month that are sampled with the rest, whose taps are numbered from ``first`` on, and when they fire in its hours.

    None, where all schedules together do not fire very often.
    """

    def __init__(self, month: MonthPlan, first: int = 0) -> None:
        self.first, self.hours = first, month.clock.local_hours()
        taps = [tap for tap in month.taps if tap.source.kind is SourceKind.SCHEDULES]
        often = sum(len(tap.stretches) for tap in taps) > _OFTEN
        found = [(tap, patterns(tap, self.hours)) for tap in taps if often and _may_tick(tap, self.hours)]
        self._ticking = [(tap, each) for tap, each in found if _ticks(tap, each, self.hours)]
        self.taps = [tap for tap, _ in self._ticking]
        self.patterns = [each for _, each in self._ticking]

    def at(self, hour: int) -> tuple[tuple[int, Pattern], ...]:
        """When in each minute of an hour they fire, by the number of their tap."""
        return tuple((self.first + n, each[hour] or b"") for n, each in enumerate(self.patterns))

    def rates(self, hour: int, otherwise: NDArray[np.float64]) -> list[float]:
        """Firings a ns in an hour; ``otherwise`` those of schedules whose minutes differ in it."""
        each = zip(self.patterns, otherwise.tolist(), strict=True)
        return [rate if its[hour] is None else len(its[hour] or b"") / 8 / MINUTE for its, rate in each]

    def length_ns(self, at_least: int) -> int:
        """A time as long as that, or a little longer, in which they fire just as often as they do."""
        return whole_minutes(at_least) if self.taps else at_least

    def unlike(self) -> Iterator[tuple[int, tuple[object, ...]]]:
        """Hours in which one that ticks elsewhere does not, with what makes two such hours alike."""
        for tap, each in self._ticking:
            those = [n for n, pattern in enumerate(each) if pattern is None]
            begins = np.array([self.hours[n].start_ns for n in those], np.int64)
            ends = np.array([self.hours[n].end_ns for n in those], np.int64)
            its = tap.stretches
            yield from zip(those, firings_in(tap, its.places(begins), its.places(ends), begins), strict=True)


def _may_tick(tap: Tap, hours: Sequence[LocalHour]) -> bool:
    """Whether ``_ticks`` may be true, by how often a schedule fires in each hour alone: of a thousand schedules few ask for more."""
    lasts = np.array([hour.end_ns - hour.start_ns for hour in hours])
    counts = np.diff(tap.stretches.places([*(hour.start_ns for hour in hours), hours[-1].end_ns]))
    may = (lasts % MINUTE == 0) & (counts % np.maximum(1, lasts // MINUTE) == 0)
    return int(counts[may].sum()) > (1 - _ODD) * len(tap.stretches)


def _ticks(tap: Tap, each: Sequence[Pattern | None], hours: Sequence[LocalHour]) -> bool:
    """Whether nearly all of a schedule's firings stand in hours whose minutes are alike."""
    alike = sum(
        len(pattern) // 8 * (hour.end_ns - hour.start_ns) // MINUTE
        for hour, pattern in zip(hours, each, strict=True)
        if pattern is not None
    )
    return alike > (1 - _ODD) * len(tap.stretches)


def patterns(tap: Tap, hours: Sequence[LocalHour]) -> list[Pattern | None]:
    """When in each minute of an hour a schedule fires; None for hours whose minutes differ."""
    edges = tap.stretches.places([*(hour.start_ns for hour in hours), hours[-1].end_ns]).tolist()
    found: list[Pattern | None] = []
    for hour, first, last in zip(hours, edges, edges[1:], strict=False):
        minutes = (hour.end_ns - hour.start_ns) // MINUTE
        # An hour at a time: all firings of a month of seconds would be twenty MB.
        offsets = tap.stretches[first:last].start_ns - hour.start_ns
        if len(offsets) == 0:
            found.append(b"")
        elif (hour.end_ns - hour.start_ns) % MINUTE or len(offsets) % minutes:
            # Where a zone was set by seconds, an hour of its change is no whole minutes.
            found.append(None)
        else:
            each = offsets[: len(offsets) // minutes]
            found.append(each.tobytes() if np.array_equal(offsets, repeated(each, minutes)) else None)
    return found


def repeated(offsets_ns: NDArray[np.int64], minutes: int) -> NDArray[np.int64]:
    """The instants of so many minutes, ns from the first one's beginning."""
    return (np.arange(minutes, dtype=np.int64)[:, None] * MINUTE + offsets_ns[None, :]).ravel()


def lasting(pattern: Pattern, length_ns: int) -> Stretches:
    """A schedule's firings over a stretch of steady time, which begins with a minute."""
    found = repeated(np.frombuffer(pattern, np.int64), -(-length_ns // MINUTE))
    return Stretches.at(found[: int(np.searchsorted(found, length_ns))])


def whole_minutes(length_ns: int) -> int:
    """The least whole minutes that last at least so long, ns."""
    return -(-length_ns // MINUTE) * MINUTE
