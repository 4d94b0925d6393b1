"""The calendar month as elapsed time: bounds, local hours, conversions between local time and ns."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo

from msgspec import Struct

NS_PER_S = 1_000_000_000
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def to_utc(local: datetime, zone: ZoneInfo) -> datetime:
    """The instant of a local time: the first of two in an overlap, right after the gap inside one."""
    # fold 0 is the first of two readings; in a gap it is the offset that was.
    aware = local.replace(tzinfo=zone, fold=0)
    utc = aware.astimezone(UTC)
    back = utc.astimezone(zone).replace(tzinfo=None)
    if back == local.replace(fold=0):
        return utc
    # Inside a gap: fold 0 uses the offset before it, so the instant found lies after the gap by the
    # distance into it; the gap itself ends where the offset changes.
    return _change_before(utc, zone)


def _change_before(utc: datetime, zone: ZoneInfo) -> datetime:
    """The latest change of offset in the 48 hours before ``utc``, to the second."""
    low, high = utc - timedelta(hours=48), utc
    offset = high.astimezone(zone).utcoffset()
    while high - low > timedelta(seconds=1):
        middle = low + (high - low) / 2
        middle = middle.replace(microsecond=0)
        if middle <= low:
            break
        if middle.astimezone(zone).utcoffset() == offset:
            high = middle
        else:
            low = middle
    return high


class LocalHour(Struct, frozen=True):
    """A stretch of one local hour: offsets from the month's start in ns, hour 0-23, weekday 0 = Monday."""

    start_ns: int
    end_ns: int
    hour: int
    weekday: int


class MonthClock(Struct, frozen=True):
    """A half-open calendar month in a zone, from local midnight to local midnight."""

    month: str
    zone: ZoneInfo
    start: datetime
    end: datetime

    @property
    def length_ns(self) -> int:
        """Elapsed nanoseconds of the month."""
        return self.ns(self.end)

    @property
    def hours(self) -> float:
        """Elapsed hours of the month (743 or 745 where the clock changes)."""
        return self.length_ns / 3.6e12

    def ns(self, instant: datetime) -> int:
        """Nanoseconds from the month's start to an aware instant, exactly."""
        gap = instant - self.start
        return (gap.days * 86_400 + gap.seconds) * NS_PER_S + gap.microseconds * 1_000

    def local_ns(self, local: datetime) -> int:
        """Nanoseconds from the month's start to a local time of the month's zone."""
        return self.ns(to_utc(local, self.zone))

    def instant(self, ns: int) -> datetime:
        """The aware UTC instant ``ns`` after the month's start."""
        return self.start + timedelta(microseconds=ns / 1_000)

    def local_hours(self) -> list[LocalHour]:
        """The month cut at every local full hour and every change of offset."""
        return _local_hours(self)

    def _cut(self) -> list[LocalHour]:
        found: list[LocalHour] = []
        at = self.start
        while at < self.end:
            local = at.astimezone(self.zone)
            # Up to the next full local hour, or to a change of offset within it.
            into = timedelta(minutes=local.minute, seconds=local.second, microseconds=local.microsecond)
            until = min(at + timedelta(hours=1) - into, self.end)
            if until.astimezone(self.zone).utcoffset() != local.utcoffset():
                change = _change_before(until, self.zone)
                until = change if change > at else until
            found.append(LocalHour(self.ns(at), self.ns(until), local.hour, local.weekday()))
            at = until
        return found


@lru_cache(maxsize=64)
def _local_hours(clock: MonthClock) -> list[LocalHour]:
    return clock._cut()


def month_clock(month: str, zone_name: str) -> MonthClock:
    """The clock of ``"YYYY-MM"`` in an IANA zone."""
    year, number = int(month[:4]), int(month[5:])
    zone = ZoneInfo(zone_name)
    # The next month's first day; December is followed by January.
    after = date(year + number // 12, number % 12 + 1, 1)
    start = to_utc(datetime(year, number, 1), zone)
    return MonthClock(month, zone, start, to_utc(datetime(after.year, after.month, 1), zone))
