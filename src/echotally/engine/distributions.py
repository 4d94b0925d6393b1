"""Levels, waits and charged times of all units, read from their sketches: of many some units at a time, which takes less than each by
itself.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import reduce
from typing import Any, cast

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine.counted import Counted
from echotally.engine.layout import WAIT_BINS
from echotally.engine.sketch import (
    InOctaves,
    KeptWaits,
    Level,
    Made,
    ManyWaits,
    OfUnits,
    Waits,
    WaitsMade,
    bins_until,
    level_of,
    levels_of,
    waits_of,
)

#: So many units are read at once: what is looked at for each is some 100 kB.
AT_ONCE = 32
#: From so many on that is faster than one by one.
_MANY = 8
_NO_WAITS = Waits(None, None, None, None)
_NO_SKETCH = KeptWaits.nothing()


class Distributions(Struct, frozen=True):
    """Of one unit. ``whole``: all of it, and not the peaks of the levels alone."""

    concurrency: Level
    instances: Level
    waits: Waits = _NO_WAITS
    latency: Waits = _NO_WAITS
    answers: Waits = _NO_WAITS
    charge_p95_s: float | None = None
    wait_sketch: KeptWaits = _NO_SKETCH
    whole: bool = True


def peaks_alone(units: Any) -> Iterator[Distributions]:
    """Of each unit's record the peaks, which is all that meters ask for."""
    for in_flight, count in zip(units["level_peak"].tolist(), units["count_peak"].tolist(), strict=True):
        yield Distributions(Level(0.0, 0, 0, in_flight), Level(0.0, 0, 0, count), whole=False)


def distributions(w: Counted, n: int) -> Iterator[Distributions]:
    """Of each of the ``n`` units."""
    if n < _MANY:
        yield from (_one(w, unit) for unit in range(n))
        return
    for first in range(0, n, AT_ONCE):
        yield from _some(w, range(first, min(n, first + AT_ONCE)))


def _one(w: Counted, n: int) -> Distributions:
    """Of one unit by itself: what looks at many at once takes as long for few."""
    record = w.units[n]
    longest, latest = int(record["wait_max"]), int(record["latency_max"])
    bins = bins_until(latest)
    answers = w.request_bins[n][:, :bins]
    waits = KeptWaits.of(w.wait_bins[n][:, : bins_until(longest)])
    return Distributions(
        level_of(w.level_bins[n], int(record["level_peak"]), w.length_ns),
        level_of(w.count_bins[n], int(record["count_peak"]), w.length_ns),
        waits.waits(longest),
        KeptWaits.of(np.sum([late[n][:, :bins] for late in w.late_bins], axis=0)).waits(latest),
        KeptWaits.of(answers).waits(latest),
        KeptWaits.of(w.charge_bins[n]).quantile(0.95),
        waits,
    )


def _some(w: Counted, units: range) -> Iterator[Distributions]:
    records = w.units[units.start : units.stop]
    longest, latest = records["wait_max"].tolist(), records["latency_max"].tolist()
    # Most bins are for times that hardly ever come, and whoever looks at a page of them has it made.
    bins = bins_until(max(latest))
    waits = _waits(units, bins_until(max(longest)), w.wait_bins)
    charges = _waits(units, WAIT_BINS, w.charge_bins)
    answers = _waits(units, bins, w.request_bins)
    latencies = reduce(
        ManyWaits.plus, (answers if its is w.request_bins else _waits(units, bins, its) for its in w.late_bins)
    )
    for concurrency, instances, waited, late, answered, (charge,), sketch in zip(
        levels_of(_of(w.level_bins, units), records["level_peak"].tolist(), w.length_ns),
        levels_of(_of(w.count_bins, units), records["count_peak"].tolist(), w.length_ns),
        waits_of(waits, longest),
        waits_of(latencies, latest),
        waits_of(answers, latest),
        charges.quantiles((0.95,)),
        waits.each(),
        strict=True,
    ):
        yield Distributions(concurrency, instances, waited, late, answered, charge, sketch)


def _waits(units: range, bins: int, sketches: OfUnits) -> ManyWaits:
    """Sketches of waits of some units; no more than the first so many bins hold anything."""
    if isinstance(sketches, (ManyWaits, WaitsMade)):
        return sketches.some(units)
    return ManyWaits.of(np.arange(units.start, units.stop), bins, cast(InOctaves, sketches))


def _of(sketches: OfUnits, units: range) -> NDArray[np.int64]:
    """The sketches of some units."""
    if isinstance(sketches, np.ndarray):
        return sketches[units.start : units.stop]
    return cast(Made, sketches).some(units)
