"""The plain form of ``access``: the same record arrays with their lengths, every index and every number checked.

It runs with the compiler off (``ECHOTALLY_KERNELS=checked``), some hundred times slower, and gives the same bytes:
the build in which a wrong index is caught, the fallback where the compiler fails, and what coverage can look into.
A field is a memoryview, which refuses what does not fit an int64; an index is compared with the array's length.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from echotally.engine.layout import DTYPES, HOLDS, World
from echotally.engine.records import Clock
from echotally.errors import OurFault


class BadIndex(OurFault):
    """A kernel reached for a record that is not there."""


class _Record:
    """One record of an array: an attribute a field, read and written in place."""

    __slots__ = ("_at", "_columns")

    def __init__(self, columns: tuple[memoryview, ...], at: int) -> None:
        self._columns = columns
        self._at = at


def _field(place: int, bits: bool) -> property:
    def read(self: _Record) -> Any:
        value = self._columns[place][self._at]
        # Random states wrap around at 64 bits, which Python's numbers do not.
        return np.uint64(value) if bits else value

    def write(self: _Record, value: Any) -> None:
        self._columns[place][self._at] = value

    return property(read, write)


def _record_class(kind: type) -> type[_Record]:
    """A class with a property for each field of a kind of record."""
    dtype = DTYPES[kind]
    fields = {name: _field(place, dtype[name] == np.uint64) for place, name in enumerate(dtype.names or ())}
    return type(kind.__name__, (_Record,), {"__slots__": (), **fields})


_CLASSES = {kind: _record_class(kind) for kind in DTYPES}


class CheckedWorld:
    """The world with a length beside each array, as kernels see it."""

    def __init__(self, world: Any) -> None:
        self.columns: dict[str, tuple[memoryview, ...]] = {}
        self.lengths: dict[str, int] = {}
        for name in World._fields:
            dtype = DTYPES[HOLDS[name]]
            array = getattr(world, name).reshape(-1).view(dtype)
            self.columns[name] = tuple(memoryview(array[field]) for field in dtype.names or ())
            # As in the compiled form, ``n_`` counts rows; flat arrays of numbers are compared with all they hold.
            self.lengths[name] = len(getattr(world, name))


def accessor(name: str) -> Any:
    """``at(w, index)``: a record of the array ``name`` of the world; raises ``BadIndex`` where there is none."""
    make = _CLASSES[HOLDS[name]]

    def at(w: CheckedWorld, index: int) -> Any:
        columns = w.columns[name]
        if not 0 <= index < len(columns[0]):
            raise BadIndex(f"{HOLDS[name].__name__.lower()} {index} of {len(columns[0])} ('{name}') was reached for")
        return make(columns, int(index))

    return at


def fetcher(name: str) -> Any:
    """``fetch(w, index)``: of use to compiled code alone."""
    return lambda w, index: None


def length(name: str) -> Any:
    """``n(w)``: how many rows the array ``name`` of the world has."""
    return lambda w: w.lengths[name]


_clock_at = accessor("clock")


def clock_of(w: CheckedWorld) -> Clock:
    """The one clock record of the world."""
    clock: Clock = _clock_at(w, 0)
    return clock


def earlier(at: int, key: int, other_at: int, other_key: int) -> int:
    """-1 where (at, key) comes before the other pair, else 0."""
    return -1 if (at, key) < (other_at, other_key) else 0


def highest_bit(value: int) -> int:
    """The place of the highest bit set in a number above 0."""
    return int(value).bit_length() - 1
