"""Cron expressions: every form of rule 2.8, with the clock changes of the classic daemon.

CronSim (a maintained library) parses the five classic fields and matches days. Written here, because it
does not cover them: ``W``, ``?``, years, weekdays counted from 1, refusals that name the field, and an
expansion by whole days that is fast enough to count a year of minutes.
"""

from __future__ import annotations

import re
from calendar import monthrange
from collections.abc import Iterator
from datetime import MAXYEAR, UTC, date, datetime, timedelta
from functools import cached_property
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from cronsim import CronSim, CronSimError
from msgspec import Struct

from echotally.demand.cron_mended import mended
from echotally.demand.local_day import Seconds, all_instants, first_instants, instant, plain_midnight_s, whole_s
from echotally.errors import Refused

_AT_FORMS = {
    "@yearly": "0 0 1 1 *",
    "@annually": "0 0 1 1 *",
    "@monthly": "0 0 1 * *",
    "@weekly": "0 0 * * 0",
    "@daily": "0 0 * * *",
    "@midnight": "0 0 * * *",
    "@hourly": "0 * * * *",
}
_FIELDS = ("second", "minute", "hour", "day of month", "month", "day of week", "year")
_LIMITS = ((0, 59), (0, 59), (0, 23), (1, 31), (1, 12), (0, 7), (1970, 2199))
_DAYS = ("SUN", "MON", "TUE", "WED", "THU", "FRI", "SAT")
_MONTHS = ("JAN", "FEB", "MAR", "APR", "MAY", "JUN", "JUL", "AUG", "SEP", "OCT", "NOV", "DEC")
# No Gregorian pattern of dates takes longer than 400 years to come back; expressions that fire do so in 40
# (29 February on a given weekday, across 2100, 2200).
_SEARCH_YEARS = 40


class BadSchedule(Refused):
    """An expression that cannot be read or can never fire."""


class Cron(Struct, frozen=True, dict=True):
    """A parsed expression: what it matches, by day and by time of day."""

    expression: str
    rule: Any
    classic: str
    nearest_weekdays: tuple[int, ...]
    before_last: tuple[int, ...]
    only_special: bool
    both_days: bool
    years: frozenset[int] | None
    follows_elapsed: bool
    every_day: bool

    @cached_property
    def of_day(self) -> Seconds:
        """Every time of day it names, s since midnight, rising."""
        rule = self.rule
        hours, minutes, seconds = (
            np.array(sorted(each), np.int64) for each in (rule.hours, rule.minutes, rule.seconds)
        )
        # By broadcasting, so that the 86,400 times of every second are not made one by one.
        return (hours[:, None, None] * 3_600 + minutes[None, :, None] * 60 + seconds[None, None, :]).ravel()

    def matches(self, day: date) -> bool:
        """Whether the job is due on a local day (either day field if both are restricted)."""
        if self.every_day:
            return True
        if day.month not in self.rule.months or (self.years is not None and day.year not in self.years):
            return False
        of_month = (
            (not self.only_special and self.rule.match_dom(day))
            or any(_nearest_weekday(day.year, day.month, n) == day.day for n in self.nearest_weekdays)
            or any(monthrange(day.year, day.month)[1] - n == day.day for n in self.before_last)
        )
        of_week = self.rule.match_dow(day)
        return (of_month and of_week) if self.both_days else (of_month or of_week)

    def words(self) -> str:
        """The expression in plain words."""
        text = _words(self)
        return text[0].upper() + text[1:]


def parse_cron(expression: str, seconds: bool = False) -> Cron:
    """Parse five fields, six with ``seconds`` first, six with a trailing year, or an @-form.

    Raises ``BadSchedule`` naming the field, or saying that the job can never fire, with a line to paste where one is near.
    """
    try:
        return _parsed(expression, seconds)
    except BadSchedule as error:
        instead = mended(expression, lambda text: _parsed(text, seconds))
        if not instead:
            raise
        raise BadSchedule(error.message, f'{error.allowed}; such as "{instead}"') from error


def _parsed(expression: str, seconds: bool) -> Cron:
    text = expression.strip()
    if text.startswith("@"):
        if text.lower() not in _AT_FORMS:
            raise BadSchedule("is not a known @-form", f"{', '.join(_AT_FORMS)}")
        text = _AT_FORMS[text.lower()]
    # Names of months and days, L and W are taken in any case.
    parts, year = _split(text.upper().split(), seconds)
    # Expressions with a year count weekdays from 1 (rule 7.28); the library counts from 0.
    first_day = 0 if year is None else 1
    parts[5] = _weekdays(parts[5], first_day)
    parts[4] = _named(parts[4], _MONTHS, 1)
    for number, part in enumerate(parts):
        _check(part, number)
    nearest, before_last, month_days = _take_special(parts[3])
    classic = [
        parts[0],
        parts[1],
        parts[2],
        month_days,
        parts[4].replace("?", "*"),
        parts[5].replace("?", "*"),
    ]
    rule = _library_rule(classic)
    cron = Cron(
        expression.strip(),
        rule,
        " ".join(parts[1:]).replace("?", "*"),
        nearest,
        before_last,
        # Else the * that is left of the field would match every day.
        bool(nearest or before_last) and month_days == "*",
        # A star in one day field leaves the other to decide; two that are restricted are alternatives (rule 7.25).
        parts[3][0] in "*?" or parts[5][0] in "*?",
        _years(year),
        # Jobs of a starred minute or hour follow elapsed time where the clock changes (rule 2.8).
        parts[1].startswith("*") or parts[2].startswith("*"),
        parts[3] in "*?" and parts[4] == "*" and parts[5] in "*?" and year in (None, "*"),
    )
    _must_fire(cron)
    return cron


def _split(parts: list[str], seconds: bool) -> tuple[list[str], str | None]:
    """Seconds, minute ... weekday, and the year field if there is one."""
    if len(parts) == 5:
        if seconds:
            raise BadSchedule("has five fields, but seconds are switched on", "six fields, seconds first")
        return ["0", *parts], None
    if len(parts) != 6:
        raise BadSchedule(f"has {len(parts)} fields", "five: minute, hour, day of month, month, day of week; or six")
    if seconds:
        return parts, None
    # A question mark can only stand in a day field, so its place says which of the two readings it is.
    if "?" in (parts[2], parts[4]):
        if parts[2] == parts[4]:
            raise BadSchedule('has "?" in both day fields', 'exactly one "?", in day of month or day of week')
        return ["0", *parts[:5]], parts[5]
    raise BadSchedule(
        "has six fields, which can be read two ways: seconds first needs seconds = true, and year last exactly one "
        f'"?" ("{" ".join([*parts[:4], "?", parts[5]])}")',
        "one of the two",
    )


def _named(part: str, names: tuple[str, ...], first: int) -> str:
    return re.sub(
        r"(?<![A-Z])[A-Z]{3}(?![A-Z])", lambda m: str(names.index(m[0]) + first) if m[0] in names else m[0], part
    )


def _weekdays(part: str, first: int) -> str:
    """Weekdays as 0-7 with 0 and 7 Sunday; ``first`` 1: the field counts Sunday as 1."""
    part = _named(part, _DAYS, first)
    if first == 0:
        return part

    # Not the number behind # or /, which is no weekday.
    def shift(match: re.Match[str]) -> str:
        number = int(match[1])
        if not 1 <= number <= 7:
            raise BadSchedule(
                f"has a bad day of week ({match[1]})", "1 (Sunday) to 7 (Saturday) where a year stands last"
            )
        return str(number - 1)

    return re.sub(r"(?<![#/\d])(\d+)", shift, part)


def _check(part: str, number: int) -> None:
    name, (low, high) = _FIELDS[number], _LIMITS[number]
    special = r"|LW|L(-\d+)?|\d+W" if number == 3 else r"|\d+L|\d+#\d+" if number == 5 else ""
    if part == "?" and number in (3, 5):
        return
    for item in part.split(","):
        if not re.fullmatch(rf"(\*|\d+(-\d+)?)(/\d+)?{special}", item):
            raise BadSchedule(f"has a bad {name} field, {part}", f"{_allowed(number)}")
        if "#" in item:
            day, nth = item.split("#")
            # No month has a sixth of any weekday.
            ok = low <= int(day) <= high and 1 <= int(nth) <= 5
        else:
            bounds = [int(n) for n in re.findall(r"\d+", item.split("/")[0])]
            # The n-th day before the last: 30 before the 31st is the first.
            ok = all((0 if item.startswith("L-") else low) <= n <= high - item.startswith("L-") for n in bounds)
            if len(bounds) == 2 and bounds[0] > bounds[1]:
                last = 6 if number == 5 else high
                parts = [str(a) if a == b else f"{a}-{b}" for a, b in ((bounds[0], last), (low, bounds[1]))]
                raise BadSchedule(
                    f'has a reversed range in its {name} field ("{item}")', f'two parts: "{",".join(parts)}"'
                )
        step = item.partition("/")[2]
        if not ok or (step and int(step) == 0):
            raise BadSchedule(f"has a bad {name} field, {part}", f"{_allowed(number)}")


def _allowed(number: int) -> str:
    low, high = _LIMITS[number]
    more = {3: ", L, L-3, LW, 15W, ?", 4: ", JAN-DEC", 5: " (0 and 7 Sunday), SUN-SAT, 5L, 5#2, ?"}.get(number, "")
    return f"{low} to {high}, *, ranges a-b, lists a,b, steps */n{more}"


def _take_special(part: str) -> tuple[tuple[int, ...], tuple[int, ...], str]:
    """The nW and the L-n items of a day-of-month field, and what is left of it ("*" if nothing)."""
    items = part.replace("?", "*").split(",")
    nearest = tuple(int(item[:-1]) for item in items if re.fullmatch(r"\d+W", item))
    before_last = tuple(int(item[2:]) for item in items if re.fullmatch(r"L-\d+", item))
    rest = [item for item in items if not re.fullmatch(r"\d+W|L-\d+", item)]
    return nearest, before_last, ",".join(rest) or "*"


def _library_rule(parts: list[str]) -> Any:
    try:
        return CronSim(" ".join(parts), datetime(2000, 1, 1, tzinfo=UTC))
    except CronSimError as error:
        if "day-of-month" in str(error):
            raise BadSchedule("can never fire: no month it names has such a day", "days that exist") from error
        raise BadSchedule(f"{str(error).lower()}", "five classic fields") from error


def _years(part: str | None) -> frozenset[int] | None:
    if part is None or part == "*":
        return None
    _check(part, 6)
    found: set[int] = set()
    for item in part.split(","):
        span, _, step = item.partition("/")
        low, _, high = span.partition("-")
        first = 1970 if low == "*" else int(low)
        last = int(high) if high else (2199 if step or low == "*" else first)
        found.update(range(first, last + 1, int(step or 1)))
    return frozenset(found)


def _nearest_weekday(year: int, month: int, day: int) -> int:
    """The weekday nearest to a day, within its month; 0 if the month has no such day."""
    try:
        wanted = date(year, month, day)
    except ValueError:
        return 0
    if wanted.weekday() < 5:
        return day
    back = wanted.weekday() == 5
    # Saturday goes back to Friday, Sunday on to Monday; never into another month.
    moved = wanted + timedelta(days=-1 if back else 1)
    if moved.month != month:
        moved = wanted + timedelta(days=2 if back else -2)
    return moved.day


def _must_fire(cron: Cron) -> None:
    years = sorted(cron.years) if cron.years else range(2000, 2000 + _SEARCH_YEARS)
    for year in years:
        for month in sorted(cron.rule.months):
            for day in range(1, 32):
                try:
                    if cron.matches(date(year, month, day)):
                        return
                except ValueError:
                    break
    raise BadSchedule("can never fire: no such day exists", "days that some month has")


def firings_after(cron: Cron, zone: ZoneInfo, after: datetime) -> Iterator[datetime]:
    """Firings strictly after an aware instant, as aware local times, in order, for as long as there are."""
    # A day early: a job that falls into a gap at midnight runs on the next day.
    day = after.astimezone(zone).date() - timedelta(days=1)
    last: datetime | None = None
    while day.year <= min(9998, max(cron.years) if cron.years else 9998):
        for second in day_firings(cron, zone, day).tolist():
            utc = instant(second)
            # Days overlap by what a change of offset moves from one into the next; each instant is given once.
            if utc > after and (last is None or utc > last):
                last = utc
                yield utc.astimezone(zone)
        day = _next_day(cron, day)


def _next_day(cron: Cron, day: date) -> date:
    """The next day worth looking at: whole months that the expression leaves out are skipped."""
    day += timedelta(days=1)
    while day.month not in cron.rule.months and day.year < 9998:
        # Thirty-two days after a first lie in the next month, whatever its length.
        day = (day.replace(day=1) + timedelta(days=32)).replace(day=1)
    return day


def day_firings(cron: Cron, zone: ZoneInfo, day: date) -> Seconds:
    """Firings of one local day, clock changes applied, s since 1970 UTC, rising."""
    if not cron.matches(day):
        return cron.of_day[:0]
    midnight = plain_midnight_s(zone, day)
    if midnight is not None:
        return midnight + cron.of_day
    if cron.follows_elapsed:
        return all_instants(zone, day, cron.of_day)
    # A fixed job inside a gap runs right after it, once however many of its times lie there.
    return first_instants(zone, day, cron.of_day)


def last_firing(cron: Cron, zone: ZoneInfo, until: datetime) -> datetime | None:
    """The last firing at or before an aware instant, as an aware local time; None if there was none."""
    # One more: local years begin up to a day before those of UTC.
    latest = min(until.year + 1, MAXYEAR)
    years = sorted(cron.years or range(1970, latest + 1))
    for year in reversed([y for y in years if y <= latest]):
        for month in sorted(cron.rule.months, reverse=True):
            for n in range(monthrange(year, month)[1], 0, -1):
                seconds = day_firings(cron, zone, date(year, month, n))
                place = int(np.searchsorted(seconds, whole_s(until), side="right"))
                if place:
                    return instant(int(seconds[place - 1])).astimezone(zone)
    return None


def _special_days(cron: Cron) -> str:
    """The days of a month that the library's words do not know: nW and L-n."""
    days = [f"the weekday nearest to day {n}" for n in cron.nearest_weekdays]
    days += [f"the day {n} before the last" if n != 1 else "the last day but one" for n in cron.before_last]
    return ", ".join(days)


def _words(cron: Cron) -> str:
    special = _special_days(cron)
    if special and cron.only_special:
        # The library would say "every day" for a field that has nothing left.
        base = CronSim(" ".join(cron.rule.parts[1:]), datetime(2000, 1, 1)).explain()
        text = f"{str(base).removesuffix(' every day')} on {special} of the month"
        return text + _in_years(cron)
    try:
        text = str(
            CronSim(
                cron.classic if cron.rule.seconds == {0} else " ".join(cron.rule.parts), datetime(2000, 1, 1)
            ).explain()
        )
    except (CronSimError, NotImplementedError):
        base = CronSim(" ".join(cron.rule.parts[1:]), datetime(2000, 1, 1)).explain()
        text = f"{base} and on {special}" if special else str(base)
    return text + _in_years(cron)


def _in_years(cron: Cron) -> str:
    if not cron.years:
        return ""
    return " in " + ", ".join(str(y) for y in sorted(cron.years)[:6]) + (" ..." if len(cron.years) > 6 else "")
