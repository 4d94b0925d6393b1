"""Draws the month's arrivals without playing any function: the same taps, the same seeds, the same events."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from echotally.demand.month import MonthPlan
from echotally.demand.summary import Counts, SourceDemand
from echotally.engine import codes
from echotally.engine.build import build
from echotally.engine.play import ask
from echotally.model.estate import Model
from echotally.model.sources import SourceRef
from echotally.rates.card_loading import Offer

_MINUTE_NS = np.int64(60 * 10**9)


def draw_demand(model: Model, month: MonthPlan, offer: Offer, seed: int) -> list[SourceDemand]:
    """Events from outside at every source that is fed, by minute and by local day and hour.

    ``offer`` only fills the functions' settings; it moves no event. Closed-loop clients are left out:
    how often they ask depends on the answers.
    """
    built = build(model, month.arrivals, dict.fromkeys(model.functions, offer), seed)
    length = -(-month.clock.length_ns // int(_MINUTE_NS))
    found: dict[tuple[str, SourceRef], tuple[Counts, float]] = {}
    for p, tap in enumerate(month.taps):
        if tap.kind == "clients":
            continue
        before, expected = found.get((tap.environment, tap.source), (np.zeros(length, np.int64), 0.0))
        minutes = before.astype(np.int64)
        ask(built.world._replace(counts=minutes), codes.COUNT, p, int(_MINUTE_NS))
        # A thousand sources have a minute each of a month: no wider than the largest count.
        narrow = minutes.astype(np.min_scalar_type(int(minutes.max())))
        found[tap.environment, tap.source] = (narrow, expected + tap.expected)
    place = _local_places(month, length)
    return [
        SourceDemand(env, source, int(minutes.sum(dtype=np.int64)), expected, minutes, _heat(minutes, place))
        for (env, source), (minutes, expected) in found.items()
    ]


def _local_places(month: MonthPlan, length: int) -> NDArray[np.int64]:
    """Which cell of the day-by-hour map each minute belongs to (24 a day, local hours)."""
    place = np.zeros(length, np.int64)
    day, last = -1, None
    for hour in month.clock.local_hours():
        if hour.weekday != last:
            day, last = day + 1, hour.weekday
        first = hour.start_ns // int(_MINUTE_NS)
        place[first : -(-hour.end_ns // int(_MINUTE_NS))] = day * 24 + hour.hour
    return place


def _heat(minutes: Counts, place: NDArray[np.int64]) -> NDArray[np.int64]:
    cells = np.zeros(int(place.max()) // 24 * 24 + 24, np.int64)
    # Of the same kind: else they are turned one by one.
    np.add.at(cells, place, minutes.astype(np.int64))
    return cells.reshape(-1, 24)
