"""Quantities that add up over stretches of time, a column each: of units, of sources, of what is put on, of sketches.

The columns are those of the records in ``engine.layout`` that have the same names; all arithmetic is done over all of
them at once, so that a column that is added here is added everywhere.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, TypeVar

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine.counted import in_octaves
from echotally.engine.layout import (
    EXACT_LEVELS,
    LEVEL_BINS,
    SUB_BINS,
    WAIT_BINS,
    World,
    by_rows,
    set_wide,
    wide_floats,
)
from echotally.engine.sampling.sparse import Floats, Sparse
from echotally.engine.sketch import bins_of

Mine = TypeVar("Mine", bound="Columns")


class Columns(Struct):
    """Base of what stands below: arithmetic over all columns."""

    @classmethod
    def each(cls: type[Mine], make: Callable[[str], Any]) -> Mine:
        """Every column as ``make`` gives it for its name."""
        return cls(**{name: make(name) for name in cls.__struct_fields__})

    def items(self) -> Iterator[tuple[str, Any]]:
        """Names and columns."""
        return ((name, getattr(self, name)) for name in self.__struct_fields__)

    def alike(self: Mine, make: Callable[..., Any], *others: Mine) -> Mine:
        """Columns that ``make`` gives for those of the same name of this and the others."""
        return self.each(lambda name: make(getattr(self, name), *(getattr(other, name) for other in others)))

    def pairs(self: Mine, other: Mine) -> Iterator[tuple[Any, Any]]:
        """The columns of two, side by side."""
        return ((mine, getattr(other, name)) for name, mine in self.items())

    def less(self: Mine, other: Mine) -> Mine:
        """What this has more than the other."""
        return self.alike(lambda mine, its: mine - its, other)

    def empty(self: Mine) -> Mine:
        """As many zeros."""
        return self.alike(np.zeros_like)

    def gains(self: Mine, other: Mine, weight: float = 1.0) -> None:
        """Add the other, ``weight`` times, in place."""
        for mine, its in self.pairs(other):
            mine += weight * its


def mean(of: list[Mine]) -> Mine:
    """The mean of several."""
    return of[0].alike(lambda *columns: sum(columns) / len(columns), *of[1:])


class UnitCounts(Columns):
    """What happened to each unit: counts of attempts and events, and time billed and busy, ns."""

    succeeded: Floats
    failed: Floats
    timed_out: Floats
    throttled: Floats
    calls: Floats
    started: Floats
    cold_starts: Floats
    handled: Floats
    errored: Floats
    rejected: Floats
    lost: Floats
    dead_lettered: Floats
    expired: Floats
    too_large: Floats
    skipped: Floats
    cut_requests: Floats
    duplicates: Floats
    billed_ns: Floats
    busy_ns: Floats
    requests: Floats
    replies: Floats
    cold_calls: Floats
    started_items: Floats
    served: Floats
    warming_ns: Floats
    failed_ns: Floats
    cut_ns: Floats
    again_ns: Floats
    again: Floats
    again_failed: Floats
    again_cut: Floats


class UnitTimes(Columns):
    """Integrals over the whole time of each unit, whether or not anything happened, ns."""

    life_ns: Floats
    idle_floor_ns: Floats
    at_limit_ns: Floats
    lag_zero: Floats


class Maxima(Columns):
    """The highest of each unit: levels, and waits, latency, lag and runs, ns."""

    level_peak: NDArray[np.int64]
    count_peak: NDArray[np.int64]
    wait_max: NDArray[np.int64]
    latency_max: NDArray[np.int64]
    backlog_peak: NDArray[np.int64]
    lag_max: NDArray[np.int64]
    longest_run: NDArray[np.int64]

    @classmethod
    def of(cls, world: World) -> Maxima:
        """What they are in a world now."""
        return cls.each(lambda name: world.units[name].copy())

    def rises(self, other: Maxima) -> None:
        """The higher of both, in place."""
        for mine, its in self.pairs(other):
            np.maximum(mine, its, out=mine)

    def forget_ages(self, rows: list[int]) -> None:
        """Of units with a lane kept full by hand: what is known of its ages stands in the place of these."""
        for name in ("wait_max", "latency_max", "backlog_peak", "lag_max"):
            column = getattr(self, name).copy()
            column[rows] = 0
            setattr(self, name, column)


class SourceCounts(Columns):
    """What went through each source."""

    arrived: Floats
    ended: Floats
    sends: Floats
    receives: Floats
    deletes: Floats


class SourceTimes(Columns):
    """Integrals over the whole time of each source, ns."""

    idle_ns: Floats


class Sketches(Columns):
    """The sketches of a world (see ``engine.sketch``): ``Sparse`` ones, or each a ``Sum`` of such."""

    wait_bins: Any
    latency_bins: Any
    request_bins: Any
    level_bins: Any
    estate_levels: Any
    count_bins: Any
    lag_bins: Any
    charge_bins: Any


class Put(Columns):
    """Events that went along each edge, and to the dead letter of each trigger."""

    sent: Floats
    letters: Floats


def read_put(world: World) -> Put:
    """What a world has put on so far."""
    return Put(world.edges["sent"].astype(float), world.triggers["letters"].astype(float))


def read_sums(of: type[Mine], records: Any) -> Mine:
    """The columns of records, as floats."""
    return of.each(lambda name: wide_floats(records, name))


def write_sums(columns: Columns, records: Any) -> None:
    """Put the columns into records, as whole numbers."""
    for name, values in columns.items():
        set_wide(records, name, values)


def take_sketches(world: World) -> Sketches:
    """What the sketches of a world hold since they were last taken; they are empty then. Bounded by the peaks so far, none of which
    has been forgotten while something was in them.
    """
    most = world.units
    waits, latencies, requests, charges = _taken_waits(world)
    return Sketches(
        wait_bins=waits,
        latency_bins=latencies,
        request_bins=requests,
        level_bins=Sparse.taken_by_units(world.level_bins, _last_level(int(most["level_peak"].max()))),
        estate_levels=Sparse.taken_by_units(
            world.estate_levels[:, None], _last_level(int(world.clock[0]["level_peak"]))
        ),
        count_bins=Sparse.taken_by_units(world.count_bins, _last_level(int(most["count_peak"].max()))),
        lag_bins=Sparse.taken(world.lag_bins, _last_bin(most["lag_max"])),
        charge_bins=charges,
    )


def _taken_waits(world: World) -> list[Sparse]:
    """The sketches of waits, latencies, answers and charges, taken."""
    most = world.units
    latest = _last_bin(most["latency_max"])
    bounds = (_last_bin(most["wait_max"]), latest, latest, WAIT_BINS - 1)
    units = np.arange(len(world.units))
    each = [
        in_octaves(world, n).held(units, min(bound, WAIT_BINS - 1) // SUB_BINS + 1) for n, bound in enumerate(bounds)
    ]
    world.touched[:] = 0
    return [Sparse.taken_in_pairs(world.sketches[:, n], octaves) for n, octaves in enumerate(each)]


def no_sketches(world: World) -> Sketches:
    """As ``take_sketches`` of a world whose sketches are empty."""
    waits, (levels, units) = Sparse.empty(by_rows(world.wait_bins).shape), world.level_bins.shape
    each = Sparse.empty((units, levels))
    return Sketches(
        waits, waits, waits, each, Sparse.empty((1, levels)), each, Sparse.empty(world.lag_bins.shape), waits
    )


def _last_bin(longest: NDArray[np.int64]) -> int:
    """The bin behind that of the longest: where a rise begins to pass bins whole, the next one is written to as well."""
    return int(bins_of(longest)[0].max()) + 1


def _last_level(peak: int) -> int:
    return peak if peak < EXACT_LEVELS else LEVEL_BINS
