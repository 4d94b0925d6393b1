"""Rates over the month: piecewise constant by local hour, shaped by day and week, multiplied by surges."""

from __future__ import annotations

import itertools
import math
from datetime import datetime
from fractions import Fraction
from functools import lru_cache
from typing import NamedTuple

from echotally.demand.clock import MonthClock
from echotally.demand.stretches import Stretch, Stretches
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


@lru_cache(maxsize=256)
def _stretches(shape: _Shape, clock: MonthClock, factor: float) -> Stretches:
    day, week = _scaled(shape.day, 24), _scaled(shape.week, 7)
    shaped = [(h.start_ns, h.end_ns, day[h.hour] * week[h.weekday]) for h in clock.local_hours()]
    if shape.monthly is not None:
        whole = math.fsum((end - start) * each for start, end, each in shaped)
        # Of the month as it is shaped, so that months of 743 or 745 hours bring as many (rule 2.1).
        base = shape.monthly / whole if whole else 0.0
    else:
        base = float(shape.rate or 0) / 1e9
    base *= factor
    surges = [(clock.local_ns(at), clock.local_ns(at) + lasts, times) for at, lasts, times in shape.surges]
    found = []
    for start, end, weight in shaped:
        # A surge may begin or end within an hour.
        cuts = sorted({start, end, *(cut for s in surges for cut in s[:2] if start < cut < end)})
        for low, high in itertools.pairwise(cuts):
            times = 1.0
            # Surges that overlap multiply.
            for begin, over, factor_s in surges:
                if begin <= low < over:
                    times *= factor_s
            found.append(Stretch(low, high, base * weight * times))
    return Stretches.of(_joined(found))


def _joined(stretches: list[Stretch]) -> list[Stretch]:
    """Neighbours of one rate become one stretch."""
    found: list[Stretch] = []
    for stretch in stretches:
        if found and found[-1].rate == stretch.rate and found[-1].end_ns == stretch.start_ns:
            found[-1] = Stretch(found[-1].start_ns, stretch.end_ns, stretch.rate)
        else:
            found.append(stretch)
    return found
