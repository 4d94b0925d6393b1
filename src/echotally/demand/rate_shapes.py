"""Rates over the month: piecewise constant by local hour, shaped by day and week, multiplied by surges."""

from __future__ import annotations

import itertools
import math
from datetime import datetime
from fractions import Fraction
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from echotally.demand.clock import MonthClock
from echotally.demand.stretches import Stretches
from echotally.model.estate import Demand


class _Shape(NamedTuple):
    """What shapes a demand's rate; ``surges`` are (local time, ns it lasts, times)."""

    rate: Fraction | None
    monthly: int | None
    day: tuple[float, ...] | None
    week: tuple[float, ...] | None
    surges: tuple[tuple[datetime, int, float], ...]


def _scaled(weights: tuple[float, ...] | None, n: int) -> list[float]:
    """Weights with mean 1."""
    if weights is None:
        return [1.0] * n
    return [weight * n / math.fsum(weights) for weight in weights]


def rate_stretches(demand: Demand, clock: MonthClock, factor: float) -> Stretches:
    """The month as stretches of constant rate per ns; ``factor`` is the environment's.

    ``monthly = N`` sets the rate so that the shaped month, surges left out, expects N events.
    """
    # Only what shapes the rate is the key, so that studies which vary something else find it ready.
    surges = tuple((s.at, s.lasts, s.times) for s in demand.surges)
    shape = _Shape(demand.rate, demand.monthly, demand.day_shape, demand.week_shape, surges)
    return _stretches(shape, clock, factor)


class _Cut(NamedTuple):
    """The month where its shape changes: pieces from ``start_ns`` to ``end_ns``.

    ``weight`` is what day and week make of each, ``times`` what surges do; ``whole`` is the weighted length of the month
    without surges, ns.
    """

    start_ns: NDArray[np.int64]
    end_ns: NDArray[np.int64]
    weight: NDArray[np.float64]
    times: NDArray[np.float64]
    whole: float


@lru_cache(maxsize=256)
def _stretches(shape: _Shape, clock: MonthClock, factor: float) -> Stretches:
    cut = _cut(shape._replace(rate=None, monthly=None), clock)
    if shape.monthly is not None:
        # Of the month as it is shaped, so that months of 743 or 745 hours bring as many (rule 2.1).
        base = shape.monthly / cut.whole if cut.whole else 0.0
    else:
        base = float(shape.rate or 0) / 1e9
    return _joined(cut.start_ns, cut.end_ns, base * factor * cut.weight * cut.times)


@lru_cache(maxsize=256)
def _cut(shape: _Shape, clock: MonthClock) -> _Cut:
    """Cut at local hours and surges, whatever the rate: studies of volume ask for it at every point."""
    day, week = _scaled(shape.day, 24), _scaled(shape.week, 7)
    shaped = [(h.start_ns, h.end_ns, day[h.hour] * week[h.weekday]) for h in clock.local_hours()]
    surges = [(clock.local_ns(at), clock.local_ns(at) + lasts, times) for at, lasts, times in shape.surges]
    found = []
    for start, end, weight in shaped:
        # A surge may begin or end within an hour.
        cuts = sorted({start, end, *(cut for s in surges for cut in s[:2] if start < cut < end)})
        for low, high in itertools.pairwise(cuts):
            # Surges that overlap multiply.
            times = math.prod(times for begin, over, times in surges if begin <= low < over)
            found.append((low, high, weight, float(times)))
    begins, ends, weights, many = zip(*found, strict=True)
    whole = math.fsum((end - start) * each for start, end, each in shaped)
    return _Cut(np.array(begins, np.int64), np.array(ends, np.int64), np.array(weights), np.array(many), whole)


def _joined(start_ns: NDArray[np.int64], end_ns: NDArray[np.int64], rate: NDArray[np.float64]) -> Stretches:
    """Neighbours of one rate become one stretch."""
    first = np.flatnonzero(np.append(True, (rate[1:] != rate[:-1]) | (end_ns[:-1] != start_ns[1:])))
    last = np.append(first[1:], len(rate)) - 1
    return Stretches(start_ns[first], end_ns[last], rate[first], np.zeros(len(first), np.int64))
