"""A slow, plain matcher of cron expressions, written from the rules alone: it walks the elapsed minutes.

Shares no code with the package. Fixed jobs inside a gap fire right after it; in an overlap, at the first.
"""

from __future__ import annotations

import calendar
from datetime import UTC, date, datetime, timedelta
from functools import cache
from zoneinfo import ZoneInfo

DAYS = {name: n for n, name in enumerate(["SUN", "MON", "TUE", "WED", "THU", "FRI", "SAT"])}
MONTHS = {
    name: n
    for n, name in enumerate(["JAN", "FEB", "MAR", "APR", "MAY", "JUN", "JUL", "AUG", "SEP", "OCT", "NOV", "DEC"], 1)
}


def values(field: str, low: int, high: int, names: dict[str, int]) -> set[int]:
    found: set[int] = set()
    for item in field.split(","):
        span, _, step = item.partition("/")
        if span == "*":
            first, last = low, high
        elif "-" in span:
            first, last = (names[p] if p in names else int(p) for p in span.split("-"))
        else:
            first = names[span] if span in names else int(span)
            last = high if step else first
        found |= set(range(first, last + 1, int(step or 1)))
    return found


def weekday(day: date) -> int:
    return day.isoweekday() % 7


@cache
def day_of_month(field: str, day: date) -> bool:
    last = calendar.monthrange(day.year, day.month)[1]
    for item in field.split(","):
        if item == "L":
            hit = day.day == last
        elif item.startswith("L-"):
            hit = day.day == last - int(item[2:])
        elif item == "LW":
            hit = day.day == max(d for d in range(last - 2, last + 1) if date(day.year, day.month, d).isoweekday() < 6)
        elif item.endswith("W"):
            wanted = int(item[:-1])
            if wanted > last:
                continue
            near = [d for d in range(1, last + 1) if date(day.year, day.month, d).isoweekday() < 6]
            hit = day.day == min(near, key=lambda d: (abs(d - wanted), d))
        else:
            hit = day.day in values(item, 1, 31, {})
        if hit:
            return True
    return False


@cache
def day_of_week(field: str, day: date) -> bool:
    last = calendar.monthrange(day.year, day.month)[1]
    for item in field.split(","):
        if "#" in item:
            name, nth = item.split("#")
            number = DAYS.get(name, 0) if name in DAYS else int(name)
            hit = weekday(day) == number % 7 and (day.day - 1) // 7 + 1 == int(nth)
        elif item.endswith("L"):
            hit = weekday(day) == int(item[:-1]) % 7 and day.day + 7 > last
        else:
            hit = weekday(day) in {n % 7 for n in values(item, 0, 7, DAYS)}
        if hit:
            return True
    return False


def month_firings(expression: str, zone_name: str, month: str) -> list[datetime]:
    """UTC instants of every firing of a five-field expression in a local month."""
    minute, hour, dom, mon, dow = expression.upper().replace("?", "*").split()
    minutes, hours = values(minute, 0, 59, {}), values(hour, 0, 23, {})
    zone = ZoneInfo(zone_name)
    year, number = int(month[:4]), int(month[5:])
    at = datetime(year, number, 1, tzinfo=UTC) - timedelta(days=1)
    end = datetime(year + number // 12, number % 12 + 1, 1, tzinfo=UTC) + timedelta(days=1)
    wild = minute.startswith("*") or hour.startswith("*")
    months = values(mon, 1, 12, MONTHS)

    def due(local: datetime) -> bool:
        if not (local.minute in minutes and local.hour in hours and local.month in months):
            return False
        first, second = day_of_month(dom, local.date()), day_of_week(dow, local.date())
        both = dom.startswith("*") or dow.startswith("*")
        return first and second if both else first or second

    found: set[datetime] = set()
    seen: set[datetime] = set()
    before = (at - timedelta(minutes=1)).astimezone(zone).replace(tzinfo=None, fold=0)
    while at < end:
        local = at.astimezone(zone).replace(tzinfo=None, fold=0)
        if wild:
            if due(local):
                found.add(at)
        else:
            skipped = before + timedelta(minutes=1)
            while skipped < local:
                if due(skipped):
                    found.add(at)
                skipped += timedelta(minutes=1)
            if due(local) and local not in seen:
                found.add(at)
            seen.add(local)
        at, before = at + timedelta(minutes=1), local
    return sorted(f for f in found if f.astimezone(zone).strftime("%Y-%m") == month)
