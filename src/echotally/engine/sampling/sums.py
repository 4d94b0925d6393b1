"""Quantities that add up over stretches of time, a column each: of units, of sources, of what is put on, of sketches.

The columns are those of the records in ``engine.layout`` that have the same names; all arithmetic is done over all of
them at once, so that a column that is added here is added everywhere.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, fields
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from echotally.engine.layout import World, set_wide, wide_floats

Floats = NDArray[np.float64]
Mine = TypeVar("Mine", bound="Columns")


class Columns:
    """Base of the dataclasses below: arithmetic over all columns."""

    @classmethod
    def each(cls: type[Mine], make: Callable[[str], Any]) -> Mine:
        """Every column as ``make`` gives it for its name."""
        return cls(**{field.name: make(field.name) for field in fields(cls)})  # type: ignore[arg-type]

    def items(self) -> Iterator[tuple[str, Any]]:
        """Names and columns."""
        return ((field.name, getattr(self, field.name)) for field in fields(self))  # type: ignore[arg-type]

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


@dataclass
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


@dataclass
class UnitTimes(Columns):
    """Integrals over the whole time of each unit, whether or not anything happened, ns."""

    life_ns: Floats
    idle_floor_ns: Floats
    at_limit_ns: Floats
    lag_zero: Floats


@dataclass
class Maxima(Columns):
    """The highest of each unit: levels, and waits, latency, lag and runs, ns."""

    level_peak: NDArray[np.int64]
    count_peak: NDArray[np.int64]
    wait_max: NDArray[np.int64]
    latency_max: NDArray[np.int64]
    backlog_peak: NDArray[np.int64]
    lag_max: NDArray[np.int64]
    longest_run: NDArray[np.int64]

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


@dataclass
class SourceCounts(Columns):
    """What went through each source."""

    arrived: Floats
    ended: Floats
    sends: Floats
    receives: Floats
    deletes: Floats


@dataclass
class SourceTimes(Columns):
    """Integrals over the whole time of each source, ns."""

    idle_ns: Floats


@dataclass
class Sparse:
    """The bins of a sketch that hold something, by their places in the flattened array: few of thousands do."""

    places: NDArray[np.int64]
    values: Floats

    @classmethod
    def of(cls, bins: Floats) -> Sparse:
        """Of a whole sketch."""
        flat = bins.ravel()
        places = np.flatnonzero(flat)
        return cls(places, flat[places])

    def kept(self, which: NDArray[np.bool_]) -> Sparse:
        """Some of them."""
        return Sparse(self.places[which], self.values[which])

    def added_to(self, bins: Floats, weight: float = 1.0) -> None:
        """Add them to a whole sketch, ``weight`` times."""
        bins.reshape(-1)[self.places] += weight * self.values


@dataclass
class Sketches(Columns):
    """The sketches of a world (see ``engine.sketch``): whole arrays, or ``Sparse`` ones."""

    wait_bins: Any
    latency_bins: Any
    request_bins: Any
    level_bins: Any
    count_bins: Any
    lag_bins: Any
    charge_bins: Any


@dataclass
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


def read_sketches(world: World) -> Sketches:
    """The sketches of a world, as floats."""
    return Sketches.each(lambda name: getattr(world, name).astype(float))
