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


@dataclass(frozen=True, eq=False)
class Hourly:
    """A column for each of ``layout.SERIES``, or the first of them alone, each of shape (units, hours)."""

    columns: tuple[NDArray[Any], ...]

    @classmethod
    def of(cls, series: Floats) -> Hourly:
        """Of numbers of shape (units, hours, columns)."""
        return cls(tuple(_narrow(series[:, :, k]) for k in range(series.shape[2])))

    @classmethod
    def joined(cls, units: Iterable[tuple[Hourly, int]]) -> Hourly:
        """Units of several months of one length, each by its month and its place there."""
        rows = list(units)
        return cls(
            tuple(_narrow(np.stack([month.columns[k][n] for month, n in rows])) for k in range(len(rows[0][0].columns)))
        )

    def rows(self, units: Sequence[int]) -> Hourly:
        """Those of some units."""
        return Hourly(tuple(column[units] for column in self.columns))

    def of_unit(self, n: int) -> Floats:
        """Everything of one unit, (hours, columns)."""
        return np.array([column[n] for column in self.columns], float).T

    def one(self, n: int, column: int) -> Floats:
        """One column of one unit, by hour."""
        return np.asarray(self.columns[column][n], float)

    def all_of(self, column: int) -> Floats:
        """One column of every unit, (units, hours)."""
        return np.asarray(self.columns[column], float)

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Hourly) or len(self.columns) != len(other.columns):
            return False
        return all(map(np.array_equal, self.columns, other.columns))

    __hash__ = None  # type: ignore[assignment]

    @property
    def nbytes(self) -> int:
        """What it takes of memory."""
        return sum(column.nbytes for column in self.columns)


def _narrow(column: NDArray[Any]) -> NDArray[Any]:
    """The same numbers in the least whole type that holds them; as they are where none does."""
    column = np.ascontiguousarray(column)
    if not column.size or (column.min() >= 0 and np.array_equal(column, np.floor(column))):
        most = column.max(initial=0)
        for kind in _SMALL:
            if most <= np.iinfo(kind).max:
                return column.astype(kind)
    return column
