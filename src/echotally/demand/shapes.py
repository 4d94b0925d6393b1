"""Rates over the month: piecewise constant by local hour, shaped by day and week, multiplied by surges."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

from echotally.demand.clock import MonthClock
from echotally.model.estate import Demand


@dataclass(frozen=True)
class Stretch:
    """From ``start_ns`` to ``end_ns`` events come at ``rate`` per ns, or exactly ``count`` of them."""

    start_ns: int
    end_ns: int
    rate: float = 0.0
    count: int = 0


def _scaled(weights: tuple[float, ...] | None, n: int) -> list[float]:
    """Weights with mean 1."""
    if weights is None:
        return [1.0] * n
    return [weight * n / sum(weights) for weight in weights]


def rate_stretches(demand: Demand, clock: MonthClock, factor: float) -> list[Stretch]:
    """The month as stretches of constant rate per ns; ``factor`` is the environment's.

    ``monthly = N`` sets the rate so that the shaped month, surges left out, expects N events.
    """
    day, week = _scaled(demand.day_shape, 24), _scaled(demand.week_shape, 7)
    shaped = [(h.start_ns, h.end_ns, day[h.hour] * week[h.weekday]) for h in clock.local_hours()]
    if demand.monthly is not None:
        weight = sum((end - start) * shape for start, end, shape in shaped)
        base = demand.monthly / weight if weight else 0.0
    else:
        base = float(demand.rate or 0) / 1e9
    base *= factor
    surges = [(clock.local_ns(s.at), clock.local_ns(s.at) + s.lasts, s.times) for s in demand.surges]
    found = []
    for start, end, shape in shaped:
        cuts = sorted({start, end, *(cut for s in surges for cut in s[:2] if start < cut < end)})
        for low, high in itertools.pairwise(cuts):
            times = 1.0
            for begin, over, factor_s in surges:
                if begin <= low < over:
                    times *= factor_s
            found.append(Stretch(low, high, base * shape * times))
    return _joined(found)


def _joined(stretches: list[Stretch]) -> list[Stretch]:
    """Neighbours of one rate become one stretch."""
    found: list[Stretch] = []
    for stretch in stretches:
        if found and found[-1].rate == stretch.rate and found[-1].end_ns == stretch.start_ns:
            found[-1] = Stretch(found[-1].start_ns, stretch.end_ns, stretch.rate)
        else:
            found.append(stretch)
    return found
