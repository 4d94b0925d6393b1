"""Recurrence rules (RFC 5545): the library's iteration, begun near where it is wanted, and dense rules as arrays.

Rules walk in local time; each local time is then placed on the clock. A rule of hours, minutes or seconds is begun
anew close before the time asked for, since the library would walk from ``from`` step by step; where its parts only
leave times out, a month of it is worked out at once.
"""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from itertools import pairwise, takewhile
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from echotally.demand.clock import NS_PER_S, MonthClock, to_utc
from echotally.demand.cron import BadSchedule
from echotally.model.estate import Schedule

_STEP_S = {"SECONDLY": 1, "MINUTELY": 60, "HOURLY": 3_600}
#: Parts of the clock that, in a rule of such steps, only leave times out; smaller ones multiply them (RFC 5545, the table
#: of section 3.3.10).
_LIMITS = {"HOURLY": ("BYHOUR",), "MINUTELY": ("BYHOUR", "BYMINUTE"), "SECONDLY": ("BYHOUR", "BYMINUTE", "BYSECOND")}
_STEPPED_OVER = ("can never fire: its interval steps over every time it names", "an INTERVAL that meets its BY parts")
_DAYS = {name: n for n, name in enumerate(("MO", "TU", "WE", "TH", "FR", "SA", "SU"))}


def recurring(schedule: Schedule, zone: ZoneInfo, after: datetime) -> Iterator[datetime]:
    """RFC 5545: iterate in local time, then place each local time on the clock."""
    local_after = after.astimezone(zone).replace(tzinfo=None) - timedelta(days=1)
    rule = _rule(_in_zone(schedule, zone), datetime(after.astimezone(zone).year, 1, 1), local_after)
    last = None
    for local in _walked(rule.xafter(local_after, inc=True)):
        utc = to_utc(local.replace(tzinfo=None), zone)
        if utc > after and (last is None or utc > last):
            last = utc
            yield utc.astimezone(zone)


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
    if step and near > first:
        first += max(0, (near - timedelta(days=1) - first) // timedelta(seconds=step)) * timedelta(seconds=step)
    rule = _library_rule(text, first, schedule.timezone)
    _must_recur(text)
    return rule


def last_recurrence(schedule: Schedule, zone: ZoneInfo, local: datetime) -> datetime | None:
    """The last local time of a rule at or before a naive local time; None if there was none."""
    rule = _rule(_in_zone(schedule, zone), datetime(local.year, 1, 1), local)
    # The last of a long run of times, without keeping them.
    kept = deque(_walked(iter(takewhile(lambda at: at <= local, rule))), maxlen=1)
    return kept[0] if kept else None


def _parts(text: str) -> dict[str, str]:
    return dict(part.split("=", 1) for part in text.upper().replace("RRULE:", "").split(";") if "=" in part)


def _step_s(text: str) -> int:
    """Seconds between the steps of a rule that counts none of them, 0 for others."""
    parts = _parts(text)
    interval = parts.get("INTERVAL", "1")
    if "COUNT" in parts or not interval.isdecimal():
        return 0
    return _STEP_S.get(parts.get("FREQ", ""), 0) * int(interval)


def month_recurrences_ns(schedule: Schedule, clock: MonthClock, zone: ZoneInfo) -> NDArray[np.int64]:
    """Offsets from the month's start, ns, of every firing of the month, rising."""
    own = _in_zone(schedule, zone)
    before = clock.start - timedelta(microseconds=1)
    # Whatever is wrong with the rule is the library's to say.
    _rule(own, datetime(clock.start.astimezone(zone).year, 1, 1), clock.start.astimezone(zone).replace(tzinfo=None))
    dense = _dense(own, clock, zone)
    if dense is not None:
        return _on_the_clock(dense, clock, zone)
    found = []
    for at in recurring(schedule, zone, before):
        if at >= clock.end:
            break
        found.append(clock.ns(at.astimezone(UTC)))
    return np.array(found, np.int64)


def _dense(schedule: Schedule, clock: MonthClock, zone: ZoneInfo) -> NDArray[np.datetime64] | None:
    """Naive local times of a rule that steps by hours, minutes or seconds and only leaves times out; None for others."""
    parts = _parts(schedule.rrule or "")
    step = _step_s(schedule.rrule or "")
    if not step or set(parts) - {"FREQ", "INTERVAL", "WKST", "BYDAY", "BYMONTH", *_LIMITS[parts["FREQ"]]}:
        return None
    year = clock.start.astimezone(zone).year
    first = (schedule.from_ or datetime(year, 1, 1)).replace(microsecond=0)
    low, high = (at.astimezone(zone).replace(tzinfo=None) for at in (clock.start, clock.end))
    ahead = max(0, (low - timedelta(days=1) - first) // timedelta(seconds=step))
    begin = np.datetime64(first, "s") + np.timedelta64(ahead * step, "s")
    times = np.arange(begin, np.datetime64(high + timedelta(days=1), "s"), np.timedelta64(step, "s"))
    return _kept(times, parts)


def _kept(times: NDArray[np.datetime64], parts: dict[str, str]) -> NDArray[np.datetime64] | None:
    """The times that the rule's parts leave; None where a part is not a plain list."""
    of_day = (times - times.astype("datetime64[D]")).astype(np.int64)
    seen = {
        "BYSECOND": of_day % 60,
        "BYMINUTE": of_day // 60 % 60,
        "BYHOUR": of_day // 3_600,
        "BYMONTH": times.astype("datetime64[M]").astype(np.int64) % 12 + 1,
        # 1 January 1970 was a Thursday.
        "BYDAY": (times.astype("datetime64[D]").astype(np.int64) + 3) % 7,
    }
    mask = np.ones(len(times), bool)
    for name, values in seen.items():
        wanted = [_DAYS.get(text, text) if name == "BYDAY" else text for text in parts.get(name, "").split(",") if text]
        if not all(isinstance(one, int) or str(one).isdecimal() for one in wanted):
            return None
        if wanted:
            mask &= np.isin(values, [int(one) for one in wanted])
    return times[mask]


def _on_the_clock(local: NDArray[np.datetime64], clock: MonthClock, zone: ZoneInfo) -> NDArray[np.int64]:
    """Local times as offsets from the month's start: whole days at once where the zone's clock stands still."""
    days = local.astype("datetime64[D]")
    found: list[NDArray[np.int64]] = [np.zeros(0, np.int64)]
    turns = np.flatnonzero(np.diff(days.astype(np.int64))) + 1
    edges = [0, *turns.tolist(), len(local)] if len(local) else []
    for begin, end in pairwise(edges):
        day = days[begin].astype(datetime)
        midnight, after = (datetime.combine(day + timedelta(days=n), datetime.min.time()) for n in (0, 1))
        offsets = {at.replace(tzinfo=zone, fold=fold).utcoffset() for at in (midnight, after) for fold in (0, 1)}
        part = local[begin:end]
        if len(offsets) == 1:
            into = (part - np.datetime64(midnight, "s")).astype(np.int64) * NS_PER_S
            found.append(clock.ns(to_utc(midnight, zone)) + into)
        else:
            found.append(np.array([clock.ns(to_utc(at.astype(datetime), zone)) for at in part], np.int64))
    return within_month(np.concatenate(found), clock)


def within_month(times: NDArray[np.int64], clock: MonthClock) -> NDArray[np.int64]:
    """Those of some nearly ordered offsets that lie in the month, rising, each once."""
    ordered = np.sort(times, kind="stable")
    kept = ordered[(ordered >= 0) & (ordered < clock.length_ns)]
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
    days = _parts(text)
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
