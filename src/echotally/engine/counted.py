"""What has been counted in a world up to an instant, or in a sample of one, before it is made into an answer."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from echotally.engine.layout import World, by_rows, by_units
from echotally.engine.sketch import OfUnits


@dataclass(frozen=True)
class Counted:
    """What an answer is read from: the records and sketches of a world that has been played, or of a sample of one.

    ``late_bins``, added up, are the latencies of all events, ``level_peak`` is the most calls in flight in all.
    """

    units: Any
    sources: Any
    accounts: Any
    edges: Any
    triggers: Any
    wait_bins: OfUnits
    late_bins: tuple[OfUnits, ...]
    request_bins: OfUnits
    level_bins: OfUnits
    estate_levels: NDArray[np.int64]
    count_bins: OfUnits
    charge_bins: OfUnits
    lag_bins: OfUnits
    series: NDArray[np.float64]
    length_ns: int
    level_peak: int


def counted(w: World, length_ns: int | None = None) -> Counted:
    """What a world has counted, over ``length_ns`` (None: its whole month)."""
    clock = w.clock[0]
    return Counted(
        units=w.units,
        sources=w.sources,
        accounts=w.accounts,
        edges=w.edges,
        triggers=w.triggers,
        wait_bins=by_rows(w.wait_bins),
        late_bins=(by_rows(w.latency_bins), by_rows(w.request_bins)),
        request_bins=by_rows(w.request_bins),
        level_bins=by_units(w.level_bins),
        estate_levels=w.estate_levels,
        count_bins=by_units(w.count_bins),
        charge_bins=by_rows(w.charge_bins),
        lag_bins=w.lag_bins,
        series=by_units(w.series),
        length_ns=int(clock["horizon"]) if length_ns is None else length_ns,
        level_peak=int(clock["level_peak"]),
    )
