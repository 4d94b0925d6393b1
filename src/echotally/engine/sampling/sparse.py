"""Sketches of a sample, by the bins that hold something: few of thousands do.

A sample reads the sketches of its worlds hundreds of times, and adds them up weighed. Whole, those of a thousand functions
are half a gigabyte each time.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine.layout import SUB_BINS

Floats = NDArray[np.float64]
Shape = tuple[int, ...]
Places = NDArray[np.uint16] | NDArray[np.int32]
Values = NDArray[np.int32] | Floats
#: Records of a sketch, and octaves of theirs, in order: a pair a place.
Octaves = tuple[NDArray[np.int64], ...]
#: A sketch and how often it counts.
Term = tuple["Sparse", float]
#: Places of sketches that are added up at once.
_PLACES = 2**20


class Sparse(Struct, frozen=True, dict=True):
    """The bins of a sketch that hold something, by their places in the flattened array, in order; ``shape`` is the whole one's.

    The first number of ``shape`` is how many records there are: one for each unit.
    """

    shape: Shape
    places: Places
    values: Values

    @classmethod
    def empty(cls, shape: Shape) -> Sparse:
        """Nothing in any bin."""
        return cls(shape, np.zeros(0, np.int32), np.zeros(0, np.int32))

    @classmethod
    def taken(cls, bins: NDArray[Any], most: int) -> Sparse:
        """What a world's sketch holds, which is emptied; nothing is beyond the bin ``most``, and what is in each stands alone."""
        width, flat = min(most + 1, bins.shape[-1]), bins.reshape(-1)
        # A column for each row of a record.
        row, column = np.divmod(np.flatnonzero(bins.reshape(-1, bins.shape[-1])[:, :width] != 0), width)
        places = row * bins.shape[-1] + column
        values = _narrow(flat[places])
        flat[places] = 0
        return cls(bins.shape, _counted(places, bins.size), values)

    @classmethod
    def taken_in_pairs(cls, bins: NDArray[Any], octaves: Octaves) -> Sparse:
        """As ``taken``, of what has a count in each bin and what is nothing where that is, side by side (``layout.by_rows``).

        Only these octaves hold something: of each record the numbers, in order.
        """
        records, whole, rows = bins.shape
        which, octave = octaves
        blocks = bins.reshape(records, -1, SUB_BINS, rows)
        # The counts say it all.
        block, column = np.divmod(np.flatnonzero(blocks[which, octave, :, 0]), SUB_BINS)
        record, column = which[block], octave[block] * SUB_BINS + column
        values = bins[record, column].T.reshape(-1)
        blocks[which, octave] = 0
        places = ((record * rows * whole + column) + np.arange(rows)[:, None] * whole).reshape(-1)
        # Two that are in order each: that is soon merged.
        order = np.argsort(places, kind="stable")
        order = order[values[order] != 0]
        return cls((records, rows, whole), _counted(places[order], bins.size), _narrow(values[order]))

    @classmethod
    def taken_by_units(cls, bins: NDArray[Any], most: int) -> Sparse:
        """As ``taken``, of what stands as levels do, a bin after the other and in each the units (``layout.by_units``)."""
        whole, records = bins.shape
        bin_, record = np.divmod(np.flatnonzero(bins[: min(most + 1, whole)] != 0), records)
        order = np.argsort(record, kind="stable")
        bin_, record = bin_[order], record[order]
        values = _narrow(bins[bin_, record])
        bins[bin_, record] = 0
        return cls((records, whole), _counted(record * whole + bin_, bins.size), values)

    @property
    def records(self) -> NDArray[np.integer[Any]]:
        """Which record each place is in."""
        return self.places // np.int32(math.prod(self.shape[1:]))

    def record(self, n: int) -> Floats:
        """The n-th record, whole."""
        found: Floats = self.some(range(n, n + 1))[0]
        return found

    def some(self, records: range) -> Floats:
        """Records that follow on each other, whole."""
        part = self.part(records)
        whole = np.zeros(part.shape)
        whole.reshape(-1)[part.places] = part.values
        return whole

    def part(self, records: range) -> Sparse:
        """Records that follow on each other."""
        first, last = self._begins[[records.start, records.stop]]
        places = self.places[first:last] - self.places.dtype.type(records.start * math.prod(self.shape[1:]))
        return Sparse((len(records), *self.shape[1:]), places, self.values[first:last])

    @cached_property
    def _begins(self) -> NDArray[np.int64]:
        """Where the places of each record begin, and where the last ones end."""
        return np.searchsorted(self.places, np.arange(self.shape[0] + 1, dtype=np.int32) * math.prod(self.shape[1:]))

    def kept(self, which: NDArray[np.bool_]) -> Sparse:
        """Some of the places."""
        return Sparse(self.shape, self.places[which], self.values[which])


def _counted(places: NDArray[np.int64], size: int) -> Places:
    # Spans are kept by the thousand, and no sketch has more bins than this counts: that of 174,000 functions.
    assert size < 2**31
    return places.astype(np.uint16) if size < 2**16 else places.astype(np.int32)


def _narrow(values: NDArray[np.int64]) -> Values:
    """What was counted, in half the room where that holds it."""
    # Steps of a lag go down as well as up.
    narrow = values.max(initial=0) < 2**31 and values.min(initial=0) >= -(2**31)
    return values.astype(np.int32) if narrow else values.astype(float)


def summed(shape: Shape, terms: Sequence[Term]) -> Sparse:
    """Sketches of one shape added up, each so many times, in their order; the places come out in order."""
    if len(terms) == 1 and terms[0][1] == 1.0:
        return terms[0][0]
    size = math.prod(shape)
    if size <= _PLACES:
        return Sparse(shape, *_added_up(size, [(term.places, term.values, weight) for term, weight in terms]))
    # So many places at a time: what is looked up stays in the processor's memory, and little memory is taken for it.
    firsts = np.arange(0, size, _PLACES, dtype=np.int32)
    edges = [[*term.places.searchsorted(firsts.astype(term.places.dtype)), len(term.places)] for term, _ in terms]
    found = []
    for n, first in enumerate(firsts):
        slices = (slice(each[n], each[n + 1]) for each in edges)
        there = [
            (term.places[its] - first, term.values[its], weight)
            for its, (term, weight) in zip(slices, terms, strict=True)
        ]
        places, values = _added_up(_PLACES, there)
        found.append((places + first, values))
    return Sparse(shape, *map(np.concatenate, zip(*found, strict=True)))


def _added_up(size: int, terms: Sequence[tuple[Any, Any, float]]) -> tuple[NDArray[np.int32], Floats]:
    """Places that any of the terms (places, values, weight) holds, of so many, and what they come to there."""
    held = np.zeros(size, np.bool_)
    for its, _, _ in terms:
        held[its] = True
    places = np.flatnonzero(held)
    # Where each place has come to stand: looked up, which takes no sorting.
    rank = np.zeros(size, np.int32)
    rank[places] = np.arange(len(places), dtype=np.int32)
    found = np.zeros(len(places))
    for its, values, weight in terms:
        # A whole weight times narrow counts would run over.
        found[rank[its]] += float(weight) * values
    return places.astype(np.int32), found


class Sum:
    """A sketch that is added to; put together when it is asked for."""

    def __init__(self, shape: Shape) -> None:
        self.shape, self._terms = shape, list[Term]()

    def add(self, term: Sparse, weight: float = 1.0) -> None:
        """Add a sketch, ``weight`` times. Each of its places stands there once."""
        self._terms.append((term, weight))

    def add_to_row(self, at: tuple[int, int], places: NDArray[np.int64], values: Floats) -> None:
        """Add values to bins of the row ``at`` (record, row in it); several to one bin if need be."""
        first = (at[0] * self.shape[1] + at[1]) * self.shape[2]
        which, to = np.unique(places, return_inverse=True)
        self.add(Sparse(self.shape, (first + which).astype(np.int32), np.bincount(to, values).astype(float)))

    def empties(self, records: NDArray[np.int64]) -> None:
        """Forget what these records hold."""
        whole = self.whole()
        self._terms = [(whole.kept(~np.isin(whole.records, records)), 1.0)]

    def whole(self) -> Sparse:
        """Everything that was added."""
        self._terms = [(summed(self.shape, self._terms), 1.0)]
        return self._terms[0][0]

    @classmethod
    def mean(cls, sums: Sequence[Sum]) -> Sum:
        """The mean of several."""
        found = cls(sums[0].shape)
        total = summed(found.shape, [(each.whole(), 1.0) for each in sums])
        found.add(Sparse(found.shape, total.places, total.values / len(sums)))
        return found


class Records(Struct, frozen=True):
    """The records of a sketch, some that follow on each other made when they are looked at."""

    some: Callable[[range], NDArray[np.int64]]

    def __getitem__(self, record: int) -> NDArray[np.int64]:
        found: NDArray[np.int64] = self.some(range(record, record + 1))[0]
        return found
