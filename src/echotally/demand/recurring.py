"""Recurrence rules (RFC 5545): a day at a time, or the library's iteration, begun near where it is wanted.

Rules walk in local time; each local time is then placed on the clock. Most are days and times (``daily_rules``) and worked out a
day at a time; the others the library walks, begun anew close before the time asked for where the rule allows it.
"""

from __future__ import annotations

import math
import re
from collections import deque
from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from itertools import takewhile
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from echotally.demand.clock import NS_PER_S, MonthClock, to_utc
from echotally.demand.cron import BadSchedule
from echotally.demand.daily_rules import DailyRule, parts_of
from echotally.demand.local_day import Seconds, first_instants, instant, plain_midnight_s, whole_s
from echotally.model.estate import Schedule

_STEP_S = {"SECONDLY": 1, "MINUTELY": 60, "HOURLY": 3_600}
_STEPPED_OVER = ("can never fire: its interval steps over every time it names", "an INTERVAL that meets its BY parts")


def recurring(schedule: Schedule, zone: ZoneInfo, after: datetime) -> Iterator[datetime]:
    """RFC 5545: iterate in local time, then place each local time on the clock."""
    # A day early: a local time in a gap is placed after it, which may be beyond ``after``.
    local_after = after.astimezone(zone).replace(tzinfo=None) - timedelta(days=1)
    start = datetime(after.astimezone(zone).year, 1, 1)
    rule = _rule(_in_zone(schedule, zone), start, local_after)
    daily = daily_rule(schedule, zone, start)
    if daily is not None:
        yield from _day_by_day(
            daily.counted(date(min(9998, local_after.year + 1), 12, 31)), zone, after, local_after.date()
        )
        return
    last = None
    for local in _walked(rule.xafter(local_after, inc=True)):
        utc = to_utc(local.replace(tzinfo=None), zone)
        if utc > after and (last is None or utc > last):
            last = utc
            yield utc.astimezone(zone)


def _day_by_day(rule: DailyRule, zone: ZoneInfo, after: datetime, low: date) -> Iterator[datetime]:
    """The firings of a rule of days and times after an instant; ``low`` is a day before which none of them lies."""
    last = whole_s(after)
    for day, times in rule.walk(low):
        found = _instants(zone, day, times)
        for at in found[np.searchsorted(found, last, side="right") :].tolist():
            last = at
            yield instant(at).astimezone(zone)


def _instants(zone: ZoneInfo, day: date, times: Seconds) -> Seconds:
    """The instants of a day's times, s since 1970, UTC, rising."""
    midnight = plain_midnight_s(zone, day)
    return first_instants(zone, day, times) if midnight is None else midnight + times


def daily_rule(schedule: Schedule, zone: ZoneInfo, start: datetime) -> DailyRule | None:
    """The rule as days and times, begun at the schedule's ``from``, else at ``start``; None where only walking finds its times."""
    text = schedule.rrule or ""
    until = parts_of(text).get("UNTIL")
    own = _in_zone(schedule, zone).timezone
    first = schedule.from_ or start
    found = DailyRule.of(text, first, None if until is None else _until(until, own))
    if found is not None and found.steps_over_all:
        raise BadSchedule(*_STEPPED_OVER)
    return found


def _until(text: str, zone: str | None) -> datetime:
    local = _local_until(text[:-1], zone) if text.endswith("Z") else text
    return datetime.strptime(local, "%Y%m%dT%H%M%S" if "T" in local else "%Y%m%d")


def _walked(times: Iterator[datetime]) -> Iterator[datetime]:
    """The library's times; where it finds that no step ever meets the parts, it fails with an error of its own."""
    try:
        yield from times
    except (TypeError, ValueError) as error:
        raise BadSchedule(*_STEPPED_OVER) from error


def _in_zone(schedule: Schedule, zone: ZoneInfo) -> Schedule:
    """The schedule with its zone written down, the estate's where it has none of its own."""
    return schedule if schedule.timezone else schedule.model_copy(update={"timezone": str(zone)})


def _rule(schedule: Schedule, start: datetime, near: datetime) -> Any:
    """The library's rule, begun at the schedule's ``from``, else at ``start``; raises ``BadSchedule`` for one that never fires.

    A rule that may be begun anywhere on its steps is begun close before ``near``.
    """
    text = schedule.rrule or ""
    first = schedule.from_ or start
    step = _step_s(text)
    # Whole steps on, so that the rule still meets the same times.
    if step and near > first:
        first += max(0, (near - timedelta(days=1) - first) // timedelta(seconds=step)) * timedelta(seconds=step)
    rule = _library_rule(text, first, schedule.timezone)
    _must_recur(text)
    return rule


def last_recurrence(schedule: Schedule, zone: ZoneInfo, local: datetime) -> datetime | None:
    """The last local time of a rule at or before a naive local time; None if there was none."""
    start = datetime(local.year, 1, 1)
    rule = _rule(_in_zone(schedule, zone), start, local)
    daily = daily_rule(schedule, zone, start)
    if daily is not None:
        return daily.counted(local.date()).last_until(local)
    # The last of a long run of times, without keeping them.
    kept = deque(_walked(iter(takewhile(lambda at: at <= local, rule))), maxlen=1)
    return kept[0] if kept else None


def _step_s(text: str) -> int:
    """Seconds between the steps of a rule that counts none of them, 0 for others."""
    parts = parts_of(text)
    interval = parts.get("INTERVAL", "1")
    if "COUNT" in parts or not interval.isdecimal():
        return 0
    return _STEP_S.get(parts.get("FREQ", ""), 0) * int(interval)


def month_recurrences_ns(schedule: Schedule, clock: MonthClock, zone: ZoneInfo) -> NDArray[np.int64]:
    """Offsets from the month's start, ns, of every firing of the month, rising."""
    own = _in_zone(schedule, zone)
    start = datetime(clock.start.astimezone(zone).year, 1, 1)
    # Whatever is wrong with the rule is the library's to say.
    _rule(own, start, clock.start.astimezone(zone).replace(tzinfo=None))
    daily = daily_rule(schedule, zone, start)
    if daily is not None:
        return _by_days(daily, clock, zone)
    found = []
    for at in recurring(schedule, zone, clock.start - timedelta(microseconds=1)):
        if at >= clock.end:
            break
        found.append(clock.ns(at.astimezone(UTC)))
    return np.array(found, np.int64)


def _by_days(rule: DailyRule, clock: MonthClock, zone: ZoneInfo) -> NDArray[np.int64]:
    """A month of a rule of days and times; more than any month plays is refused before it is made."""
    low, high = (at.astimezone(zone).date() for at in (clock.start, clock.end))
    rule = rule.counted(high)
    found = [np.zeros(0, np.int64)]
    # The days beside the month, whose times a change of offset may move into it.
    for day in rule.days(low - timedelta(days=1), high + timedelta(days=1)):
        found.append(_instants(zone, day, rule.times(day)))
    return within_month((np.concatenate(found) - math.floor(clock.start.timestamp())) * NS_PER_S, clock)


def count_by_days(rule: DailyRule, zone: ZoneInfo, year: int) -> int:
    """Firings of a local year of a rule of days and times, without making them all."""
    first, last = date(year, 1, 1), date(year, 12, 31)
    rule = rule.counted(last)
    total = 0
    for day in rule.days(first, last):
        total += len(_instants(zone, day, rule.times(day)))
    return total


def within_month(times: NDArray[np.int64], clock: MonthClock) -> NDArray[np.int64]:
    """Those of some nearly ordered offsets that lie in the month, rising, each once."""
    ordered = np.sort(times, kind="stable")
    kept = ordered[(ordered >= 0) & (ordered < clock.length_ns)]
    # A change of offset may put two local times on one instant, which fires once.
    return kept[np.diff(kept, prepend=-1) > 0]


def _library_rule(text: str, start: datetime, zone: str | None) -> Any:
    from dateutil.rrule import rrulestr

    if "DTSTART" in text.upper():
        raise BadSchedule("has a DTSTART of its own", "the key from, beside the rule")
    if re.search(r"INTERVAL=0*(;|$)", text.upper()):
        raise BadSchedule("has an INTERVAL of 0", "a whole number from 1")
    try:
        # The library walks in local time; an UNTIL in UTC, as RFC 5545 has it beside a zone, is that instant's local time.
        local = re.sub(r"(?<=UNTIL=)(\d{8}T\d{6})Z", lambda m: _local_until(m[1], zone), text.upper())
        return rrulestr(local, dtstart=start, forceset=False)
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        if "empty set" in str(error):
            raise BadSchedule(*_STEPPED_OVER) from error
        form = "RFC 5545, such as FREQ=MONTHLY;BYMONTHDAY=1;BYHOUR=6"
        raise BadSchedule(f"is not a recurrence rule ({error})", form) from error


def _local_until(utc: str, zone: str | None) -> str:
    at = datetime.strptime(utc, "%Y%m%dT%H%M%S").replace(tzinfo=UTC).astimezone(ZoneInfo(zone or "UTC"))
    return f"{at:%Y%m%dT%H%M%S}"


@lru_cache(maxsize=256)
def _must_recur(text: str) -> None:
    """Refuse days that no year has, in bounded time: the rule's days looked at year by year, where the library would walk its
    own steps, seconds even, to the end of time.
    """
    days = parts_of(text)
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
        raise BadSchedule("can never fire: no year has such a day", "days that exist")
