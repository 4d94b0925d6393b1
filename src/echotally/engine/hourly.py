"""What happened in each hour of a month, by unit, in as few bytes as hold it exactly.

As floats, those of a thousand functions take 36 MB for each plan, and most of them are small counts.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
_SMALL = (np.uint8, np.uint16, np.uint32)


#: Of a sample an hour is the mean of four: whole numbers of quarters.
_PARTS = 4


@dataclass(frozen=True, eq=False)
class Column:
    """Numbers of shape (units, hours), each one of ``values`` / ``per``."""

    values: NDArray[Any]
    per: int = 1

    @classmethod
    def of(cls, numbers: NDArray[Any]) -> Column:
        """The same numbers in the least whole type that holds them or four times them; as they are where none does."""
        numbers = np.ascontiguousarray(numbers)
        for per in (1, _PARTS):
            many = numbers * per
            if not many.size or (many.min() >= 0 and np.array_equal(many, np.floor(many))):
                most = many.max(initial=0)
                for kind in _SMALL:
                    if most <= np.iinfo(kind).max:
                        return cls(many.astype(kind), per)
        return cls(numbers)

    def __getitem__(self, units: Any) -> Column:
        return Column(self.values[units], self.per)

    @property
    def numbers(self) -> Floats:
        """The numbers themselves."""
        found: Floats = np.asarray(self.values, float)
        return found if self.per == 1 else found / self.per


@dataclass(frozen=True, eq=False)
class Hourly:
    """A column for each of ``layout.SERIES``, or the first of them alone, each of shape (units, hours)."""

    columns: tuple[Column, ...]

    @classmethod
    def of(cls, series: Floats) -> Hourly:
        """Of numbers of shape (units, hours, columns)."""
        return cls(tuple(Column.of(series[:, :, k]) for k in range(series.shape[2])))

    @classmethod
    def joined(cls, units: Iterable[tuple[Hourly, int]]) -> Hourly:
        """Units of several months of one length, each by its month and its place there."""
        rows = list(units)
        return cls(
            tuple(Column.of(np.stack([month.one(n, k) for month, n in rows])) for k in range(len(rows[0][0].columns)))
        )

    def rows(self, units: Sequence[int]) -> Hourly:
        """Those of some units."""
        return Hourly(tuple(column[units] for column in self.columns))

    def of_unit(self, n: int) -> Floats:
        """Everything of one unit, (hours, columns)."""
        return np.array([column[n].numbers for column in self.columns]).T

    def one(self, n: int, column: int) -> Floats:
        """One column of one unit, by hour."""
        return self.columns[column][n].numbers

    def all_of(self, column: int) -> Floats:
        """One column of every unit, (units, hours)."""
        return self.columns[column].numbers

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Hourly) or len(self.columns) != len(other.columns):
            return False
        return all(
            np.array_equal(mine.numbers, its.numbers) for mine, its in zip(self.columns, other.columns, strict=True)
        )

    __hash__ = None  # type: ignore[assignment]

    @property
    def nbytes(self) -> int:
        """What it takes of memory."""
        return sum(column.values.nbytes for column in self.columns)
