"""Schedules of every form: when they fire, in any zone, strictly after any instant."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from itertools import takewhile
from typing import Any
from zoneinfo import ZoneInfo

from echotally.demand.clock import MonthClock, to_utc
from echotally.demand.cron import (
    BadSchedule,
    Cron,
    day_firings,
    firings_after,
    last_firing,
    parse_cron,
    plain_day_start,
)
from echotally.model.estate import Schedule
from echotally.model.units import duration_text

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
    return _recurring(schedule, zone, after)


def _every(step_ns: int, anchor: datetime, after: datetime, zone: ZoneInfo) -> Iterator[datetime]:
    gap = after - anchor
    gap_ns = (gap.days * 86_400 + gap.seconds) * 10**9 + gap.microseconds * 1_000
    k = max(0, gap_ns // step_ns + 1)
    while True:
        yield (anchor + timedelta(microseconds=k * step_ns / 1_000)).astimezone(zone)
        k += 1


def _recurring(schedule: Schedule, zone: ZoneInfo, after: datetime) -> Iterator[datetime]:
    """RFC 5545: iterate in local time, then place each local time on the clock."""
    local_after = after.astimezone(zone).replace(tzinfo=None) - timedelta(days=1)
    rule = _rule(_in_zone(schedule, zone), datetime(after.astimezone(zone).year, 1, 1))
    last = None
    for local in rule.xafter(local_after, inc=True):
        utc = to_utc(local.replace(tzinfo=None), zone)
        if utc > after and (last is None or utc > last):
            last = utc
            yield utc.astimezone(zone)


def _in_zone(schedule: Schedule, zone: ZoneInfo) -> Schedule:
    """The schedule with its zone written down, the estate's where it has none of its own."""
    return schedule if schedule.timezone else schedule.model_copy(update={"timezone": str(zone)})


def _rule(schedule: Schedule, start: datetime) -> Any:
    """The library's rule, begun at the schedule's ``from``, else at ``start``; raises ``BadSchedule`` for one that never fires."""
    text = schedule.rrule or ""
    rule = _library_rule(text, schedule.from_ or start, schedule.timezone)
    _must_recur(text)
    return rule


def _library_rule(text: str, start: datetime, zone: str | None) -> Any:
    from dateutil.rrule import rrulestr

    if "DTSTART" in text.upper():
        raise BadSchedule("has a DTSTART of its own|the key from, beside the rule")
    if re.search(r"INTERVAL=0*(;|$)", text.upper()):
        raise BadSchedule("has an INTERVAL of 0|a whole number from 1")
    try:
        # The library walks in local time; an UNTIL in UTC, as RFC 5545 has it beside a zone, is that instant's local time.
        local = re.sub(r"(?<=UNTIL=)(\d{8}T\d{6})Z", lambda m: _local_until(m[1], zone), text.upper())
        return rrulestr(local, dtstart=start, forceset=False)
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        never = "empty set" in str(error)
        raise BadSchedule(
            "can never fire: its interval steps over every time it names|an INTERVAL that meets its BY parts"
            if never
            else f"is not a recurrence rule ({error})|RFC 5545, such as FREQ=MONTHLY;BYMONTHDAY=1;BYHOUR=6"
        ) from error


def _local_until(utc: str, zone: str | None) -> str:
    at = datetime.strptime(utc, "%Y%m%dT%H%M%S").replace(tzinfo=UTC).astimezone(ZoneInfo(zone or "UTC"))
    return f"{at:%Y%m%dT%H%M%S}"


@lru_cache(maxsize=256)
def _must_recur(text: str) -> None:
    """Refuse days that no year has, in bounded time: the rule's days looked at year by year, where the library would walk its
    own steps, seconds even, to the end of time.
    """
    days = dict(part.split("=", 1) for part in text.upper().replace("RRULE:", "").split(";") if "=" in part)
    kept = {
        k: v
        for k, v in days.items()
        if k in ("BYMONTH", "BYMONTHDAY", "BYYEARDAY", "BYDAY", "BYWEEKNO", "BYSETPOS", "BYEASTER")
    }
    if days.get("FREQ") not in ("YEARLY", "MONTHLY"):
        # Of more frequent rules a weekday is any such weekday, and a place in a set is one of a day's times.
        kept.pop("BYSETPOS", None)
    if not kept:
        return
    freq = "MONTHLY" if days.get("FREQ") == "MONTHLY" and "BYSETPOS" in kept else "YEARLY"
    yearly = ";".join([f"FREQ={freq}", *(f"{k}={v}" for k, v in kept.items())])
    first = next(iter(_library_rule(f"{yearly};UNTIL=24000101T000000", datetime(2000, 1, 1), None)), None)
    if first is None:
        raise BadSchedule("can never fire: no year has such a day|days that exist")


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
    found = _rule(_in_zone(schedule, zone), datetime(local.year, 1, 1)).before(local, inc=True)
    return to_utc(found, zone).astimezone(zone) if found else None


def month_firings_ns(schedule: Schedule, clock: MonthClock, estate_zone: str) -> list[int]:
    """Offsets from the month's start, ns, of every firing of the month."""
    zone = zone_of(schedule, estate_zone)
    cron = cron_of(schedule)
    if schedule.every is not None:
        return _every_ns(schedule, clock, zone)
    if cron is not None:
        return _cron_ns(cron, clock, zone)
    before = clock.start - timedelta(microseconds=1)
    return [
        clock.ns(at.astimezone(UTC))
        for at in takewhile(lambda at: at < clock.end, firings(schedule, zone, before, clock.start))
    ]


def _cron_ns(cron: Cron, clock: MonthClock, zone: ZoneInfo) -> list[int]:
    """Whole days at a time; days on which the zone's clock changes one firing at a time."""
    times = [(h * 3_600 + m * 60 + s) * 10**9 for h, m, s in cron.times]
    day = clock.start.astimezone(zone).date() - timedelta(days=1)
    last = clock.end.astimezone(zone).date() + timedelta(days=1)
    found: list[int] = []
    while day <= last:
        if cron.matches(day):
            midnight = plain_day_start(zone, day)
            if midnight is None:
                found += [clock.ns(at) for at in day_firings(cron, zone, day)]
            else:
                start = clock.ns(midnight)
                found += [start + ns for ns in times]
        day += timedelta(days=1)
    return sorted({ns for ns in found if 0 <= ns < clock.length_ns})


def _every_ns(schedule: Schedule, clock: MonthClock, zone: ZoneInfo) -> list[int]:
    step = schedule.every or 1
    anchor = clock.ns(to_utc(schedule.from_, zone)) if schedule.from_ else 0
    first = anchor if anchor >= 0 else anchor + -(anchor // step) * step
    return list(range(first, clock.length_ns, step))
