"""The hourly series: counts of the hour, and the highest level in it."""

from __future__ import annotations

import numpy as np

from echotally.engine.codes import BACKLOG_PEAK
from echotally.engine.kernel.access import World, clock_of, series_at, unit_at
from echotally.engine.kernel.compiled import hot
from echotally.engine.records import Real


@hot
def _cell(w: World, u: int, column: int) -> Real:
    """A cell of this hour's row of a unit."""
    clock = clock_of(w)
    # Six columns an hour, as ``layout.SERIES`` names them.
    return series_at(w, (clock.hour * clock.units + u) * 6 + column)


@hot
def add(w: World, u: int, column: int, n: int) -> None:
    """Count ``n`` more in this hour."""
    _cell(w, u, column).v += n


@hot
def peak(w: World, u: int, column: int, level: int) -> None:
    """A level of this hour: the highest stays."""
    cell = _cell(w, u, column)
    cell.v = max(cell.v, np.float64(level))


@hot
def put_down(w: World, u: int, column: int, value: float) -> None:
    """Write a figure of this hour, whatever stood there."""
    _cell(w, u, column).v = value


@hot
def backlog_seen(w: World, u: int) -> None:
    """Events waiting, looked at after the arrivals of an instant (rule 7.15)."""
    unit = unit_at(w, u)
    if unit.waiting > 0:
        unit.backlog_peak = max(unit.backlog_peak, unit.waiting)
        peak(w, u, BACKLOG_PEAK, unit.waiting)
