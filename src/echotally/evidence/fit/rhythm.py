"""The rate of events by local hour and weekday: multiplicative weights, their intervals, and whether they matter.

Model: rate = base x day weight x week weight, the maximum-likelihood fit of Poisson counts by iterative proportional
fitting (Deming and Stephan, Annals of Mathematical Statistics 11, 1940). Where counts scatter more than Poisson's, the
intervals are widened by the square root of Pearson's dispersion (quasi-likelihood; McCullagh and Nelder, 1989, 4.5).
"""

from __future__ import annotations

import math
from collections.abc import Collection
from datetime import UTC, datetime
from functools import lru_cache
from zoneinfo import ZoneInfo

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.evidence.fit.estimates import Estimate

#: Length of a counted stretch, s: every zone's offset is a whole number of these.
STRETCH_S = 900
_Z = 1.959963984540054
_LEAST_DAYS = 7
#: Scatter, as a share of chance's, below which events come evenly.
_EVEN = 0.3
#: Chance at which an even rhythm is given up.
_SURE = 0.01


class Rhythm(Struct, frozen=True):
    """Events per second over the log, and weights with mean 1; None where even, or where the log is too short."""

    rate: Estimate
    day: tuple[Estimate, ...] | None
    week: tuple[Estimate, ...] | None
    days: float
    dispersion: float


def rhythm(
    counts: dict[int, float], first_s: float, last_s: float, zone: ZoneInfo, without: Collection[int] = ()
) -> Rhythm:
    """The rhythm of events counted by stretch (number of ``STRETCH_S`` since 1970) between two instants.

    Stretches of ``without`` are left out, as if the log had not been there then.
    """
    starts = np.arange(int(first_s // STRETCH_S), int(last_s // STRETCH_S) + 1)
    events = np.array([counts.get(int(n), 0.0) for n in starts])
    covered = np.minimum((starts + 1) * STRETCH_S, last_s) - np.maximum(starts * STRETCH_S, first_s)
    if without:
        out = np.isin(starts, np.fromiter(without, np.int64))
        events, covered = np.where(out, 0.0, events), np.where(out, 0.0, covered)
    covered = np.maximum(covered, 1e-9)
    hour, weekday = hours_of(starts, zone)
    days = (last_s - first_s) / 86_400
    total = float(events.sum())
    day = _weights(hour, events, covered, 24) if days >= 1 else None
    week = _weights(weekday, events, covered, 7) if days >= _LEAST_DAYS else None
    # Each fitted given the other, until neither moves (iterative proportional fitting: Deming and Stephan 1940).
    for _ in range(30):
        if day is not None and week is not None:
            day = _weights(hour, events, covered * week[weekday], 24)
            week = _weights(weekday, events, covered * day[hour], 7)
    fitted = (day[hour] if day is not None else 1.0) * (week[weekday] if week is not None else 1.0) * covered
    expected = fitted * total / float(np.sum(fitted))
    scatter = _dispersion(events, expected, starts, 1 + 23 * (day is not None) + 6 * (week is not None))
    # Seconds of average weight: a log that ends at dusk has seen more than its share of busy hours.
    seconds = float(np.sum(fitted))
    half = _Z * math.sqrt(max(total, 1.0) * scatter) / seconds
    rate = Estimate(total / seconds, max(0.0, total / seconds - half), total / seconds + half)
    return Rhythm(
        rate, _kept(day, hour, events, covered, scatter), _kept(week, weekday, events, covered, scatter), days, scatter
    )


def local_stretches(stretches: NDArray[np.int64], zone: ZoneInfo) -> NDArray[np.int64]:
    """Stretches (number since 1970) by a zone's clock: shifted by its offset, which is looked up once an hour."""
    hours, place = np.unique(stretches // (3_600 // STRETCH_S), return_inverse=True)
    shift = np.array([_offset(int(hour), zone) for hour in hours], np.int64)
    return stretches + shift[place] if len(stretches) else stretches


@lru_cache(maxsize=100_000)
def _offset(hour: int, zone: ZoneInfo) -> int:
    found = datetime.fromtimestamp(hour * 3_600, UTC).astimezone(zone).utcoffset()
    return int(found.total_seconds()) // STRETCH_S if found is not None else 0


def hours_of(stretches: NDArray[np.int64], zone: ZoneInfo) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The local hour and weekday (0 Monday) of stretches."""
    local = local_stretches(stretches, zone)
    day = 86_400 // STRETCH_S
    # The first of January 1970 was a Thursday.
    return local % day * STRETCH_S // 3_600, (local // day + 3) % 7


def _weights(
    group: NDArray[np.int64], events: NDArray[np.float64], exposure: NDArray[np.float64], n: int
) -> NDArray[np.float64]:
    found = np.bincount(group, events, n) / np.maximum(np.bincount(group, exposure, n), 1e-9)
    # Mean 1, as the model has weights (rule 2.1).
    return found / found.mean() if found.sum() > 0 else np.ones(n)


def _dispersion(
    events: NDArray[np.float64], expected: NDArray[np.float64], starts: NDArray[np.int64], fitted: int
) -> float:
    """Pearson's chi-square over its degrees of freedom (less the ``fitted`` weights), in stretches of which at least five events
    are expected. Within what chance does to so few stretches it is 1; far below that events come evenly.
    """
    block = max(1, math.ceil(5 / max(float(expected.mean()), 1e-9)))
    at = (starts - starts[0]) // block
    seen, wanted = np.bincount(at, events), np.bincount(at, expected)
    # A stretch that is filled in part says little of its scatter: at least half of what the others expect.
    kept = wanted > max(1.0, 0.5 * float(np.median(wanted)))
    freedom = max(1, int(np.sum(kept)) - fitted)
    found = float(np.sum((seen - wanted)[kept] ** 2 / wanted[kept])) / freedom
    if found < _EVEN and freedom > 20:
        return max(found, 0.01)
    # Chi-square over its freedom is above 1 + 2.33 sqrt(2 / freedom) once in a hundred Poisson logs.
    return found if found > 1 + 2.33 * math.sqrt(2 / freedom) else 1.0


def _kept(
    weights: NDArray[np.float64] | None,
    group: NDArray[np.int64],
    events: NDArray[np.float64],
    covered: NDArray[np.float64],
    scatter: float,
) -> tuple[Estimate, ...] | None:
    """The weights with intervals, or None where an even rhythm explains the counts as well."""
    from scipy.special import chdtrc

    if weights is None:
        return None
    n = len(weights)
    seen, time = np.bincount(group, events, n), np.bincount(group, covered, n)
    even = time / time.sum() * seen.sum()
    statistic = float(np.sum((seen - even)[even > 0] ** 2 / even[even > 0])) / max(1.0, scatter)
    # The upper tail of the chi-squared distribution.
    if chdtrc(n - 1, statistic) > _SURE:
        return None
    halves = [_Z * w * math.sqrt(scatter / max(k, 1.0)) for w, k in zip(weights, seen, strict=True)]
    return tuple(Estimate(float(w), max(0.0, float(w - h)), float(w + h)) for w, h in zip(weights, halves, strict=True))
