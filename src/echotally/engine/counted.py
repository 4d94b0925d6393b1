"""What has been counted in a world up to an instant, or in a sample of one, before it is made into an answer."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine.build import Built
from echotally.engine.hourly import Hourly
from echotally.engine.layout import CHARGES, LATENCIES, MANY_UNITS, REQUESTS, SKETCHES, WAITS, World, by_rows, by_units
from echotally.engine.sketch import InOctaves, OfUnits


class Counted(Struct, frozen=True):
    """What an answer is read from: the records and sketches of a world that has been played, or of a sample of one.

    ``late_bins``, added up, are the latencies of all events, ``level_peak`` is the most calls in flight in all.
    ``hours``: what each hour had, put together when it is asked for.
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
    hours: Callable[[], Hourly]
    length_ns: int
    level_peak: int


def counted(built: Built, length_ns: int | None = None) -> Counted:
    """What a world has counted, over ``length_ns`` (None: its whole month)."""
    w, clock = built.world, built.world.clock[0]
    requests = in_octaves(w, REQUESTS)
    return Counted(
        units=w.units,
        sources=w.sources,
        accounts=w.accounts,
        edges=w.edges,
        triggers=w.triggers,
        wait_bins=in_octaves(w, WAITS),
        late_bins=(requests, in_octaves(w, LATENCIES)),
        request_bins=requests,
        level_bins=by_units(w.level_bins),
        estate_levels=w.estate_levels,
        count_bins=by_units(w.count_bins),
        charge_bins=in_octaves(w, CHARGES),
        lag_bins=w.lag_bins,
        hours=built.hourly,
        length_ns=int(clock["horizon"]) if length_ns is None else length_ns,
        level_peak=int(clock["level_peak"]),
    )


def in_octaves(world: World, which: int) -> InOctaves:
    """One of the sketches of all units: ``layout.WAITS`` or its like."""
    units = len(world.units)
    # A world of few units does not keep in mind what it put into which.
    known = world.touched.reshape(units, SKETCHES)[:, which] if units >= MANY_UNITS else None
    return InOctaves(by_rows(world.sketches[:, which]), known)
