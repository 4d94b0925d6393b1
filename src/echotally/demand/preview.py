"""Schedules seen before anything runs: the next firings, counts, and what clock changes do to them."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from itertools import islice
from zoneinfo import ZoneInfo

from msgspec import Struct

from echotally.demand.clock import MonthClock, month_clock, to_utc
from echotally.demand.cron import BadSchedule, Cron, day_firings
from echotally.demand.local_day import day_s, instant, plain_midnight_s
from echotally.demand.recurring import count_by_days, daily_rule
from echotally.demand.schedules import (
    cron_of,
    every_count,
    firings,
    last_before,
    month_firings_ns,
    schedule_words,
    zone_of,
)
from echotally.errors import BadInput, Refused
from echotally.model.estate import Schedule
from echotally.model.spoken import quantity
from echotally.model.units import duration_ns

#: The cadences an analyst compares a schedule with, as cron expressions.
CADENCES = {
    "every minute": "* * * * *",
    "every 5 minutes": "*/5 * * * *",
    "every 15 minutes": "*/15 * * * *",
    "every hour": "0 * * * *",
    "every day": "0 0 * * *",
    "every week": "0 0 * * 1",
    "every month": "0 0 1 * *",
}


class Preview(Struct, frozen=True):
    """A schedule in words, its next firings (aware, in its zone), its firings in a month and in that year.

    ``last`` is its last firing, where it fires no more after the time asked for.
    """

    expression: str
    timezone: str
    words: str
    firings: tuple[datetime, ...]
    month: str
    month_count: int
    year_count: int
    clock_changes: tuple[str, ...]
    last: datetime | None = None


def expression_schedule(text: str, zone: str, seconds: bool) -> Schedule:
    """A schedule from one line: a cron expression, ``every 5 min``, or a recurrence rule ``FREQ=...``."""
    text = text.strip()
    if text.lower().startswith("every "):
        try:
            step = duration_ns(quantity(text) or text[6:])
        except Refused as error:
            raise BadSchedule(error.message, error.allowed) from error
        if step == 0:
            raise BadSchedule("must be longer than nothing", 'a duration above "0 s"')
        return Schedule.model_construct(
            cron=None, every=step, rrule=None, timezone=zone, from_=None, seconds=False, items=1, overlap="allow"
        )
    if "FREQ=" in text.upper():
        return Schedule(rrule=text, timezone=zone)
    return Schedule(cron=text, timezone=zone, seconds=seconds)


def preview(schedule: Schedule, expression: str, estate_zone: str, after: datetime, count: int, month: str) -> Preview:
    """Look at a schedule: ``count`` firings strictly after ``after``, counts of ``month`` and its year."""
    zone = zone_of(schedule, estate_zone)
    clock = month_clock(month, str(zone))
    # One at least is looked for, to know whether it fires at all.
    following = tuple(islice(firings(schedule, zone, after, clock.start), max(count, 1)))
    last = None if following else last_before(schedule, zone, after)
    following = following[:count]
    return Preview(
        expression,
        str(zone),
        schedule_words(schedule),
        following,
        month,
        len(month_firings_ns(schedule, clock, estate_zone)),
        year_count(schedule, int(month[:4]), estate_zone),
        tuple(clock_change_effects(schedule, clock)),
        last,
    )


def year_count(schedule: Schedule, year: int, estate_zone: str) -> int:
    """Firings of a local year: by days where days are alike, else month by month; raises ``BadSchedule``."""
    zone = zone_of(schedule, estate_zone)
    cron = cron_of(schedule)
    clocks = [month_clock(f"{year:04}-{n:02}", str(zone)) for n in range(1, 13)]
    if cron is not None:
        # A job of a skipped time that runs after its day's end is counted on the day it was meant for.
        days = (date(year, 1, 1) + timedelta(days=n) for n in range((date(year, 12, 31) - date(year, 1, 1)).days + 1))
        return sum(
            len(cron.of_day) if plain_midnight_s(zone, day) is not None else len(day_firings(cron, zone, day))
            for day in days
            if cron.matches(day)
        )
    if schedule.every is not None:
        # Where it is not anchored, every month begins anew.
        return sum(every_count(schedule, clock, zone) for clock in clocks)
    rule = daily_rule(schedule, zone, datetime(year, 1, 1))
    if rule is not None:
        return count_by_days(rule, zone, year)
    return sum(len(month_firings_ns(schedule, clock, estate_zone)) for clock in clocks)


def preview_expression(
    text: str, zone: str, after: datetime | None, count: int, month: str | None, seconds: bool
) -> Preview:
    """As ``preview``, of one expression; raises ``BadInput`` that says which field is wrong and why."""
    place = ZoneInfo(zone)
    start = after or datetime.now(UTC).replace(microsecond=0)
    if start.tzinfo is None:
        start = to_utc(start, place)
    month = month or f"{start.astimezone(place):%Y-%m}"
    try:
        return preview(expression_schedule(text, zone, seconds), text.strip(), zone, start, count, month)
    except BadSchedule as error:
        raise BadInput(error.at("expression", f'"{text.strip()}"')) from error


@lru_cache(maxsize=16)
def clock_changes(clock: MonthClock) -> tuple[tuple[datetime, datetime], ...]:
    """Changes of offset in the month, as naive local times (before, after) of the instant of change."""
    found = []
    for hour in clock.local_hours():
        at = clock.instant(hour.start_ns)
        before = (at - timedelta(seconds=1)).astimezone(clock.zone)
        now = at.astimezone(clock.zone)
        if before.utcoffset() != now.utcoffset():
            found.append((before.replace(tzinfo=None) + timedelta(seconds=1), now.replace(tzinfo=None)))
    return tuple(found)


def clock_change_effects(schedule: Schedule, clock: MonthClock) -> Iterator[str]:
    """What each clock change of the month does to a schedule, in words."""
    cron = cron_of(schedule)
    for before, after in clock_changes(clock):
        if cron is None:
            if schedule.every is not None:
                yield f"clock moves from {before:%H:%M} to {after:%H:%M} on {_day(after)}: firings keep their elapsed distance"
            continue
        yield from _effects(cron, clock.zone, before, after)


def _day(moment: datetime) -> str:
    return f"{moment.day} {moment:%B}"


def _effects(cron: Cron, zone: ZoneInfo, before: datetime, after: datetime) -> Iterator[str]:
    day = before.date()
    if not cron.matches(day):
        return
    # A gap runs from before to after, an overlap from after to before.
    low, high = sorted((before, after))
    local = day_s(day) + cron.of_day
    inside = local[(local >= _local_s(low)) & (local < _local_s(high))]
    if not len(inside):
        return
    gap = after > before
    first = instant(int(inside[0]))
    if cron.follows_elapsed:
        real = len(day_firings(cron, zone, day))
        word = "fewer" if gap else "more"
        yield f"{_day(low)} has {abs(real - len(local))} {word} firings than other days: {real}"
    elif gap:
        more = len(inside) - 1
        beside = f" (and {more} more like it)" if more else ""
        yield f"{first:%H:%M} on {_day(first)} does not exist{beside}; fires once, at {after:%H:%M}"
    else:
        yield f"{first:%H:%M} on {_day(first)} comes twice; fires at the first of the two only"


def _local_s(local: datetime) -> int:
    """A naive local time, s since 1970 as if it were UTC."""
    return day_s(local.date()) + local.hour * 3_600 + local.minute * 60 + local.second


def zone_data_version() -> str:
    """Version of the IANA time zone data in use: the system's, else the tzdata package's."""
    import zoneinfo
    from pathlib import Path

    for folder in zoneinfo.TZPATH:
        head = Path(folder) / "tzdata.zi"
        if head.is_file():
            with head.open(encoding="utf-8") as file:
                return file.readline().rpartition(" ")[2].strip()
    import tzdata

    return str(tzdata.IANA_VERSION)
