"""Schedules of every form: when they fire, in any zone, strictly after any instant."""

from __future__ import annotations

import math
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from echotally.demand.clock import MonthClock, to_utc
from echotally.demand.cron import (
    BadSchedule,
    Cron,
    day_firings,
    firings_after,
    last_firing,
    parse_cron,
)
from echotally.demand.local_day import plain_midnight_s
from echotally.demand.recurring import last_recurrence, month_recurrences_ns, recurring, within_month
from echotally.model.estate import Schedule
from echotally.model.units import duration_text

#: More is no schedule but a demand: a firing every quarter of a second.
MOST_FIRINGS = 10_000_000
_parse = lru_cache(maxsize=1_024)(parse_cron)


def zone_of(schedule: Schedule, estate_zone: str) -> ZoneInfo:
    """The schedule's own zone, else the estate's."""
    return ZoneInfo(schedule.timezone or estate_zone)


def cron_of(schedule: Schedule) -> Cron | None:
    """The parsed cron expression, if the schedule has one; raises ``BadSchedule``."""
    return _parse(schedule.cron, schedule.seconds) if schedule.cron is not None else None


def schedule_words(schedule: Schedule) -> str:
    """The schedule in plain words."""
    cron = cron_of(schedule)
    if cron is not None:
        return cron.words()
    if schedule.every is not None:
        return f"Every {duration_text(schedule.every)} of elapsed time"
    return f"Recurrence rule {schedule.rrule}"


def firings(schedule: Schedule, zone: ZoneInfo, after: datetime, month_start: datetime) -> Iterator[datetime]:
    """Firings strictly after an aware instant, in order, as aware times in ``zone``.

    ``month_start`` anchors ``every`` where the schedule has no ``from``. Raises ``BadSchedule``.
    """
    cron = cron_of(schedule)
    if cron is not None:
        return firings_after(cron, zone, after)
    if schedule.every is not None:
        anchor = to_utc(schedule.from_, zone) if schedule.from_ else month_start
        return _every(schedule.every, anchor, after, zone)
    return recurring(schedule, zone, after)


def _every(step_ns: int, anchor: datetime, after: datetime, zone: ZoneInfo) -> Iterator[datetime]:
    gap = after - anchor
    gap_ns = (gap.days * 86_400 + gap.seconds) * 10**9 + gap.microseconds * 1_000
    k = max(0, gap_ns // step_ns + 1)
    while True:
        try:
            yield (anchor + timedelta(microseconds=k * step_ns / 1_000)).astimezone(zone)
        except OverflowError:
            return
        k += 1


def last_before(schedule: Schedule, zone: ZoneInfo, until: datetime) -> datetime | None:
    """The last firing at or before an aware instant, in ``zone``; None if there was none."""
    cron = cron_of(schedule)
    if cron is not None:
        return last_firing(cron, zone, until)
    if schedule.every is not None:
        if schedule.from_ is None:
            return None
        anchor = to_utc(schedule.from_, zone)
        gap = until - anchor
        steps = ((gap.days * 86_400 + gap.seconds) * 10**9 + gap.microseconds * 1_000) // schedule.every
        return None if steps < 0 else (anchor + timedelta(microseconds=steps * schedule.every / 1_000)).astimezone(zone)
    if schedule.rrule is None:
        return None
    local = until.astimezone(zone).replace(tzinfo=None)
    found = last_recurrence(schedule, zone, local)
    return to_utc(found, zone).astimezone(zone) if found else None


def month_firings_ns(schedule: Schedule, clock: MonthClock, estate_zone: str) -> NDArray[np.int64]:
    """Offsets from the month's start, ns, of every firing of the month, rising; raises ``BadSchedule`` for too many."""
    zone = zone_of(schedule, estate_zone)
    cron = cron_of(schedule)
    if schedule.every is not None:
        return _every_ns(schedule, clock, zone)
    return _cron_ns(cron, clock, zone) if cron is not None else month_recurrences_ns(schedule, clock, zone)


def _cron_ns(cron: Cron, clock: MonthClock, zone: ZoneInfo) -> NDArray[np.int64]:
    """Days on which the zone's clock stands still all at once, the others one by one."""
    start_s = math.floor(clock.start.timestamp())
    midnights: list[int] = []
    found: list[NDArray[np.int64]] = []
    for day in _days_of(clock, zone):
        if cron.matches(day):
            midnight = plain_midnight_s(zone, day)
            if midnight is None:
                found.append(day_firings(cron, zone, day))
            else:
                midnights.append(midnight)
    found.append((np.array(midnights, np.int64)[:, None] + cron.of_day[None, :]).ravel())
    return within_month((np.concatenate(found) - start_s) * 10**9, clock)


@lru_cache(maxsize=64)
def _days_of(clock: MonthClock, zone: ZoneInfo) -> tuple[date, ...]:
    """Every local day of a zone that the month touches, and one on either side."""
    first = clock.start.astimezone(zone).date() - timedelta(days=1)
    last = clock.end.astimezone(zone).date() + timedelta(days=1)
    return tuple(first + timedelta(days=n) for n in range((last - first).days + 1))


def every_count(schedule: Schedule, clock: MonthClock, zone: ZoneInfo) -> int:
    """Firings in the month of a schedule of even steps; raises ``BadSchedule`` for too many."""
    first, step = _every_first(schedule, clock, zone)
    count = max(0, -(-(clock.length_ns - first) // step))
    if count > MOST_FIRINGS:
        raise BadSchedule(f"fires {count:,} times a month", f"a schedule of at most {MOST_FIRINGS:,} firings a month")
    return count


def _every_ns(schedule: Schedule, clock: MonthClock, zone: ZoneInfo) -> NDArray[np.int64]:
    first, step = _every_first(schedule, clock, zone)
    return first + np.arange(every_count(schedule, clock, zone), dtype=np.int64) * step


def _every_first(schedule: Schedule, clock: MonthClock, zone: ZoneInfo) -> tuple[int, int]:
    """The first firing of the month, ns from its start, and the step, ns."""
    step = schedule.every or 1
    anchor = clock.ns(to_utc(schedule.from_, zone)) if schedule.from_ else 0
    return anchor if anchor >= 0 else anchor + -(anchor // step) * step, step
