"""A local day on the clock: its pieces of one offset, and where its times of day lie, as whole arrays.

Why it exists: a zone's clock is asked once for a day and not once for a firing, so that a schedule of every second costs a day at
a time.
"""

from __future__ import annotations

from bisect import bisect_left
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache
from itertools import pairwise
from typing import NamedTuple
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

Seconds = NDArray[np.int64]
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_DAY_S = 86_400
#: No zone is further than that from UTC, and no change of offset is larger than a day.
_REACH_H = 26


class Piece(NamedTuple):
    """From ``start_s`` to ``end_s`` (s since 1970, UTC) the local clock is ``offset_s`` ahead."""

    start_s: int
    end_s: int
    offset_s: int

    @property
    def local(self) -> tuple[int, int]:
        """The local seconds it covers, counted as if local time were UTC."""
        return self.start_s + self.offset_s, self.end_s + self.offset_s


def day_s(day: date) -> int:
    """Local midnight of a day, s since 1970 as if local time were UTC."""
    return (day.toordinal() - 719_163) * _DAY_S


@lru_cache(maxsize=8_192)
def pieces(zone: ZoneInfo, day: date) -> tuple[Piece, ...]:
    """The pieces of one offset around a local day, in the order of time; the first and the last reach beyond it."""
    # Noon in UTC is within half a day of every zone's noon, so that this reach holds the whole local day.
    middle = datetime.combine(day, time(12), UTC)
    try:
        low, high = middle - timedelta(hours=12 + _REACH_H), middle + timedelta(hours=12 + _REACH_H)
        low.astimezone(zone), high.astimezone(zone)
    except OverflowError:
        # The first and the last days of the calendar: no zone changes its clock there, and some have left it.
        noon, inside = whole_s(middle), middle + timedelta(days=3 if day.year == 1 else -3)
        return (Piece(noon - 2 * _DAY_S, noon + 2 * _DAY_S, _offset(zone, whole_s(inside))),)
    start, end = whole_s(low), whole_s(high)
    found: list[Piece] = []
    at = start
    while at < end:
        until = _next_change(zone, at, end)
        found.append(Piece(at, until, _offset(zone, at)))
        at = until
    here = day_s(day)
    around = [p for p in found if p.local[0] <= here + _DAY_S and p.local[1] >= here]
    return tuple(around) or (Piece(start - _DAY_S, end + _DAY_S, _offset(zone, start)),)


@lru_cache(maxsize=8_192)
def plain_midnight_s(zone: ZoneInfo, day: date) -> int | None:
    """The first midnight of a day on which the clock does not change, s since 1970 UTC; else None."""
    around, here = pieces(zone, day), day_s(day)
    # One piece holds the whole day, and no other shows any of its times: then local time is UTC and a constant.
    whole = [p for p in around if p.local[0] <= here and p.local[1] >= here + _DAY_S]
    others = [p for p in around if p.local[1] > here and p.local[0] < here + _DAY_S]
    return here - whole[0].offset_s if len(whole) == len(others) == 1 else None


def all_instants(zone: ZoneInfo, day: date, of_day: Seconds) -> Seconds:
    """Instants (s since 1970, UTC, rising) at which the local clock shows these times: none in a gap, both in an overlap."""
    local = day_s(day) + of_day
    found = [local[(local >= p.local[0]) & (local < p.local[1])] - p.offset_s for p in pieces(zone, day)]
    return np.sort(np.concatenate(found))


def first_instants(zone: ZoneInfo, day: date, of_day: Seconds) -> Seconds:
    """As ``all_instants``, one for each time: the first in an overlap, right after the gap inside one; each instant once."""
    local = day_s(day) + of_day
    found = np.zeros_like(local)
    # Pieces in the order of time, so that of two the first takes a time that comes twice.
    open_ = np.ones(len(local), bool)
    around = pieces(zone, day)
    for piece in around:
        here = open_ & (local >= piece.local[0]) & (local < piece.local[1])
        found[here] = local[here] - piece.offset_s
        open_ &= ~here
    # What no piece shows lies between two of them.
    for before, after in pairwise(around):
        gap = open_ & (local >= before.local[1]) & (local < after.local[0])
        found[gap] = after.start_s
        open_ &= ~gap
    in_order = np.sort(found[~open_])
    # As ``np.unique``, which imports all masked arrays for it.
    return in_order[np.diff(in_order, prepend=in_order[:1] - 1) > 0]


def instant(seconds: int) -> datetime:
    """The aware UTC instant of s since 1970."""
    return _EPOCH + timedelta(seconds=seconds)


def whole_s(at: datetime) -> int:
    """The last whole second since 1970 of an aware instant, in whole numbers: far from 1970 a fraction has no room in a float."""
    gap = at - _EPOCH
    return gap.days * _DAY_S + gap.seconds


def _offset(zone: ZoneInfo, at_s: int) -> int:
    ahead: timedelta = instant(at_s).astimezone(zone).utcoffset() or timedelta(0)
    return ahead.days * _DAY_S + ahead.seconds


def _next_change(zone: ZoneInfo, start: int, end: int) -> int:
    """The first second from ``start`` on with another offset, looked for by hours and halves; ``end`` where there is none."""
    offset = _offset(zone, start)
    low, looks = start, [*range(start + 3_600, end, 3_600), end]
    for high in looks:
        # No zone changes its clock twice within an hour, so that hours tell where to halve.
        if _offset(zone, high) != offset:
            return low + 1 + bisect_left(range(low + 1, high), True, key=lambda at: _offset(zone, at) != offset)
        low = high
    return end
