"""Floors by the clock in place of a floor all day: the hours in which demand is high, warm; the others, none (rule 8.3)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from echotally.demand.clock import MonthClock
from echotally.engine import codes
from echotally.engine.reading import Measured
from echotally.model.addresses import dotted
from echotally.model.toml_text import toml_text

Sets = tuple[tuple[str, str], ...]
#: Hours of the day count as high from these shares of the highest on, fewest hours first.
_SHARES = (0.5, 0.2, 0.05)
_DAY = 24


def warm_hours(measured: Measured, clock: MonthClock, function: str, floor: int) -> Iterator[Sets]:
    """Overrides that keep ``floor`` only in one stretch of the day's local hours, fewest hours first.

    The stretch is the shortest that holds all hours whose mean arrivals reach a share of the highest.
    """
    seen: set[tuple[int, int]] = set()
    by_hour = _by_hour(measured, clock, function)
    for share in _SHARES:
        busy = [hour for hour in range(_DAY) if by_hour[hour] >= share * by_hour.max() and by_hour[hour] > 0]
        stretch = _shortest(busy)
        if stretch is not None and stretch not in seen:
            seen.add(stretch)
            yield _sets(function, floor, *stretch)


def _by_hour(measured: Measured, clock: MonthClock, function: str) -> np.ndarray[tuple[int], np.dtype[np.float64]]:
    """Mean arrivals by hour of the local day, over all environments."""
    total, times = np.zeros(_DAY), np.zeros(_DAY)
    rows = [n for n, u in enumerate(measured.units) if u.unit.function == function]
    arrivals = measured.series.rows(rows).all_of(int(codes.ARRIVALS)).sum(axis=0)
    # The series has elapsed hours; where zones differ from them by parts of an hour the nearest is meant.
    for hour in clock.local_hours():
        place = min(len(arrivals) - 1, hour.start_ns // 3_600_000_000_000)
        total[hour.hour] += arrivals[place]
        times[hour.hour] += 1
    found: np.ndarray[tuple[int], np.dtype[np.float64]] = total / np.maximum(times, 1)
    return found


def _shortest(busy: Sequence[int]) -> tuple[int, int] | None:
    """The shortest stretch of a day, around midnight too, that holds these hours: its first hour, and that after its last.

    None where it would be the whole day, or there are none.
    """
    if not busy:
        return None
    # The longest gap between two of them is what is left out.
    gaps = [((busy[(n + 1) % len(busy)] - hour - 1) % _DAY, n) for n, hour in enumerate(busy)]
    gap, n = max(gaps, key=lambda g: (g[0], -g[1]))
    return (busy[(n + 1) % len(busy)], (busy[n] + 1) % _DAY) if gap else None


def _sets(function: str, floor: int, start: int, end: int) -> Sets:
    changes = [{"cron": f"0 {start} * * *", "floor": floor}, {"cron": f"0 {end} * * *", "floor": 0}]
    # Until the first firing of the month the floor is that of midnight.
    at_midnight = floor if start > end > 0 else 0
    return (
        (dotted(("functions", function, "instance_floor")), str(at_midnight)),
        (dotted(("functions", function, "instance_floors")), toml_text(changes)),
    )
