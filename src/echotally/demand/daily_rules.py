"""Recurrence rules seen by days: which days a rule names, and its times on each, as arrays.

Why it exists: the library walks a rule step by step, which of a rule of every second is minutes. A rule without positions in a
week, month or year is a set of days and a set of times on each of them (RFC 5545, the table of section 3.3.10): the library says
which days, and the times are worked out at once.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from datetime import date, datetime, time, timedelta
from functools import cached_property, lru_cache
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.demand.local_day import day_s

Seconds = NDArray[np.int64]
_DAY_S = 86_400
_UNIT_S = {"HOURLY": 3_600, "MINUTELY": 60, "SECONDLY": 1}
_BY_DAYS = ("YEARLY", "MONTHLY", "WEEKLY", "DAILY")
_DAY_PARTS = ("BYMONTH", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO", "BYDAY", "BYEASTER")
_TIME_PARTS = ("BYHOUR", "BYMINUTE", "BYSECOND")
_KNOWN = {"FREQ", "INTERVAL", "WKST", "COUNT", "UNTIL", "BYSETPOS", *_DAY_PARTS, *_TIME_PARTS}
_FOREVER = 2**62
_VAIN_YEARS = 60


def parts_of(text: str) -> dict[str, str]:
    """The parts of a rule's text by their names."""
    return dict(part.split("=", 1) for part in text.upper().replace("RRULE:", "").split(";") if "=" in part)


class DailyRule(Struct, frozen=True, dict=True):
    """A rule as days and times: its parts, its first local time, the last it may have (s as of ``day_s``)."""

    parts: tuple[tuple[str, str], ...]
    first: datetime
    until_s: int

    @classmethod
    def of(cls, text: str, first: datetime, until: datetime | None) -> DailyRule | None:
        """The rule of a text that the library has taken; None where only walking finds its times."""
        parts = parts_of(text)
        if not set(parts) <= _KNOWN or not parts.get("INTERVAL", "1").isdecimal():
            return None
        # A position in a longer period counts times across days, which needs all of them in order.
        if "BYSETPOS" in parts and parts["FREQ"] in ("YEARLY", "MONTHLY", "WEEKLY"):
            return None
        until_s = _FOREVER if until is None else local_s(until)
        return cls(tuple(sorted(parts.items())), first.replace(microsecond=0), until_s)

    @cached_property
    def _part(self) -> dict[str, str]:
        return dict(self.parts)

    def _numbers(self, name: str) -> list[int]:
        return [int(text) for text in self._part.get(name, "").split(",") if text]

    @cached_property
    def _step_s(self) -> int:
        """Seconds from one step to the next; 0 for a rule that steps by days."""
        return _UNIT_S.get(self._part["FREQ"], 0) * int(self._part.get("INTERVAL", "1"))

    @cached_property
    def alike(self) -> bool:
        """Whether every day that lies whole inside the rule has the same times."""
        # A step that does not divide the day begins each day elsewhere.
        return self._step_s == 0 or _DAY_S % self._step_s == 0

    # -- days ---------------------------------------------------------------------------------------------------
    def days(self, low: date, high: date) -> list[date]:
        """The days from ``low`` to ``high``, both included, that the rule names."""
        return [day for year in range(low.year, high.year + 1) for day in self._year(year) if low <= day <= high]

    def _year(self, year: int) -> tuple[date, ...]:
        if year < self.first.year or day_s(date(year, 1, 1)) > self.until_s:
            return ()
        kept = {k: v for k, v in self.parts if k in _DAY_PARTS}
        if self._step_s:
            start = max(date(year, 1, 1), self.first.date())
            return _days_named(";".join(["FREQ=DAILY", *(f"{k}={v}" for k, v in kept.items())]), start, year)
        kept |= {k: v for k, v in self.parts if k in ("FREQ", "INTERVAL", "WKST")}
        return _days_named(";".join(f"{k}={v}" for k, v in kept.items()), self.first.date(), year)

    # -- times --------------------------------------------------------------------------------------------------
    def times(self, day: date) -> Seconds:
        """The times of a day that the rule names, s since midnight, rising."""
        found = self._any_day(0 if self.alike else self._phase(day))
        low, high = local_s(self.first) - day_s(day), self.until_s - day_s(day)
        if low > 0 or high < _DAY_S:
            found = found[(found >= low) & (found <= high)]
        return found

    def _phase(self, day: date) -> int:
        """How long after midnight the day's first step lies, s."""
        return int((self._start_s - day_s(day)) % self._step_s)

    @cached_property
    def _start_s(self) -> int:
        """The beginning of the first step, s as of ``day_s``: of an hourly rule the full hour."""
        return local_s(self.first) // _UNIT_S[self._part["FREQ"]] * _UNIT_S[self._part["FREQ"]]

    @cached_property
    def _into(self) -> Seconds:
        """Times inside a step, s from its beginning: what the smaller parts name, or what the first time has."""
        first, freq = self.first, self._part["FREQ"]
        hours = self._numbers("BYHOUR") or [first.hour]
        minutes = self._numbers("BYMINUTE") or [first.minute]
        seconds = self._numbers("BYSECOND") or [first.second]
        if freq in _UNIT_S:
            hours = [0]
            minutes = minutes if freq == "HOURLY" else [0]
            seconds = seconds if freq != "SECONDLY" else [0]
        found = np.unique([h * 3_600 + m * 60 + s for h in hours for m in minutes for s in seconds if s < 60])
        if "BYSETPOS" in self._part:
            places = {p - 1 if p > 0 else len(found) + p for p in self._numbers("BYSETPOS")}
            found = found[sorted(p for p in places if 0 <= p < len(found))]
        return found.astype(np.int64)

    def _any_day(self, phase: int) -> Seconds:
        if not self._step_s:
            return self._into
        if self.alike:
            phase = self._phase(self.first.date())
        return _stepped(self, phase)

    def _work_out(self, phase: int, step_s: int) -> Seconds:
        """Times of a day whose first step is ``phase`` after midnight."""
        starts = np.arange(phase, _DAY_S, step_s, dtype=np.int64)
        freq = self._part["FREQ"]
        kept = np.ones(len(starts), bool)
        for name, values in (("BYHOUR", starts // 3_600), ("BYMINUTE", starts // 60 % 60), ("BYSECOND", starts % 60)):
            limits = name == "BYHOUR" or (name == "BYMINUTE" and freq != "HOURLY") or freq == "SECONDLY"
            if limits and self._numbers(name):
                kept &= np.isin(values, self._numbers(name))
        return (starts[kept][:, None] + self._into[None, :]).ravel()

    @property
    def steps_over_all(self) -> bool:
        """Whether its steps never meet a time of day that its parts leave."""
        if not self._step_s:
            return not len(self._into)
        meets = math.gcd(self._step_s, _DAY_S)
        phase = self._phase(self.first.date()) % meets
        return not len(self._work_out(phase, meets))

    # -- counts -------------------------------------------------------------------------------------------------
    def counted(self, latest: date) -> DailyRule:
        """A rule with a COUNT as one that ends with its last time, as far as ``latest``."""
        if "COUNT" not in self._part:
            return self
        left = int(self._part["COUNT"])
        for day in self.days(self.first.date(), latest):
            times = self.times(day)
            if left <= len(times):
                last = day_s(day) + int(times[left - 1]) if left else -_FOREVER
                return DailyRule(self.parts, self.first, min(self.until_s, last))
            left -= len(times)
        return self

    def walk(self, low: date) -> Iterator[tuple[date, Seconds]]:
        """Its days from ``low`` on with their times, in order, for as long as there are."""
        year, vain = max(low.year, self.first.year), 0
        # Days come back after 400 years at the latest, those of a rule that anybody wrote in 40.
        while year < 9_999 and vain < _VAIN_YEARS and day_s(date(year, 1, 1)) <= self.until_s:
            vain += 1
            for one in self.days(max(low, date(year, 1, 1)), date(year, 12, 31)):
                times = self.times(one)
                if len(times):
                    vain = 0
                    yield one, times
            year += 1

    def last_until(self, local: datetime) -> datetime | None:
        """Its last local time at or before a naive local time; None if there was none."""
        for year in range(local.year, self.first.year - 1, -1):
            for day in reversed(self._year(year)):
                at = day_s(day) + self.times(day)
                at = at[at <= local_s(local)]
                if len(at):
                    return datetime.combine(day, time()) + timedelta(seconds=int(at[-1]) - day_s(day))
        return None


def local_s(local: datetime) -> int:
    """A naive local time, s as of ``day_s``."""
    return day_s(local.date()) + local.hour * 3_600 + local.minute * 60 + local.second


@lru_cache(maxsize=128)
def _stepped(rule: DailyRule, phase: int) -> Seconds:
    return rule._work_out(phase, rule._step_s)


def _days_named(text: str, start: date, year: int) -> tuple[date, ...]:
    """The days of a year that a rule of days names, begun at ``start``."""
    if text == "FREQ=DAILY":
        low = max(start, date(year, 1, 1))
        return tuple(low + timedelta(days=n) for n in range((date(year, 12, 31) - low).days + 1))
    return _walked(text, start).of(year)


@lru_cache(maxsize=256)
def _walked(text: str, start: date) -> _Days:
    return _Days(text, start)


class _Days:
    """The days of a rule, year by year: the library walks them once, whoever asks."""

    def __init__(self, text: str, start: date) -> None:
        from dateutil.rrule import rrulestr

        rule: Any = rrulestr(text, dtstart=datetime.combine(start, time()))
        self._coming = iter(rule)
        self._years: dict[int, list[date]] = {}
        self._reached = start.year

    def of(self, year: int) -> tuple[date, ...]:
        """The days of a year."""
        while self._reached <= year:
            day = next(self._coming, None)
            self._reached = 10_000 if day is None else day.year
            if day is not None:
                self._years.setdefault(day.year, []).append(day.date())
        return tuple(self._years.get(year, ()))
