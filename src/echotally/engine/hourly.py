"""What happened in each hour of a month, by unit, in as few bytes as hold it exactly.

As floats, those of a thousand functions take 36 MB for each plan; most of them are small counts, and many are 0.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

Floats = NDArray[np.float64]
#: Whole numbers of one, two and four bytes, and the most that each holds.
_SMALL = tuple((kind, int(np.iinfo(kind).max)) for kind in (np.uint8, np.uint16, np.uint32))
#: Of a sample an hour is the mean of four: whole numbers of quarters.
_PARTS = 4
#: What an hour's number in two bytes and a place in four can be.
_MOST_HOURS, _MOST_PLACES = (int(np.iinfo(kind).max) for kind in (np.uint16, np.uint32))
#: Where no more than one in so many is not 0, two bytes of each of those say its hour.
_SELDOM = 8


class Narrow(Struct, frozen=True, eq=False):
    """Numbers of any shape, each one of ``values`` / ``per``."""

    values: NDArray[Any]
    per: int = 1

    @classmethod
    def of(cls, numbers: NDArray[Any]) -> Narrow:
        """The same numbers in the least whole type that holds them or four times them; as they are where none does."""
        # A copy in any case: what they are taken from is written to again.
        for per in (1, _PARTS):
            many = numbers * per if per > 1 else numbers
            most = many.max(initial=0)
            kind = next((kind for kind, its_most in _SMALL if most <= its_most), None)
            if kind is None or many.min(initial=0) < 0:
                continue
            small = many.astype(kind, order="C")
            if many.dtype.kind == "u" or np.array_equal(small, many):
                return cls(small, per)
        return cls(np.array(numbers, order="C"))

    def __getitem__(self, place: Any) -> Narrow:
        return Narrow(self.values[place], self.per)

    @property
    def plain(self) -> NDArray[Any]:
        """The numbers in as few bytes as they are kept in: as floats, those of a month take eight times as much."""
        return self.values if self.per == 1 else self.numbers

    @property
    def numbers(self) -> Floats:
        """The numbers themselves."""
        found: Floats = np.asarray(self.values, float)
        return found if self.per == 1 else found / self.per


class Column(Struct, frozen=True, eq=False):
    """Numbers of shape (units, hours), each in its place."""

    kept: Narrow

    @classmethod
    def of(cls, numbers: NDArray[Any]) -> Column | Seldom:
        """Kept whichever way takes less."""
        return Seldom.of(numbers) or cls(Narrow.of(numbers))

    @classmethod
    def in_turn(cls, times: Sequence[Column | Seldom]) -> Column | Seldom:
        """Stretches of hours that follow each other."""
        return cls.of(np.concatenate([its.plain for its in times], axis=1))

    @classmethod
    def put_together(
        cls, months: Sequence[Column | Seldom], units: Sequence[tuple[NDArray[Any], NDArray[Any]]]
    ) -> Column | Seldom:
        """Units of several months: of each some of its units, and their places among all."""
        each = [its.plain for its in months]
        found = np.empty((sum(len(here) for here, _ in units), each[0].shape[1]), np.result_type(*each))
        for numbers, (here, there) in zip(each, units, strict=True):
            found[there] = numbers[here]
        return cls.of(found)

    @property
    def plain(self) -> NDArray[Any]:
        """As ``Narrow.plain``."""
        return self.kept.plain

    @property
    def numbers(self) -> Floats:
        """The numbers themselves."""
        return self.kept.numbers

    def row(self, n: int) -> Floats:
        """Those of one unit, by hour."""
        return self.kept[n].numbers

    def rows(self, units: Sequence[int]) -> Column:
        """Those of some units."""
        return Column(self.kept[units])

    @property
    def nbytes(self) -> int:
        """What it takes of memory."""
        return self.kept.values.nbytes


class Seldom(Struct, frozen=True, eq=False):
    """Numbers of shape (units, hours) of which few are not 0: ``kept`` has those of all units in turn.

    ``firsts`` (units + 1) says where those of each unit begin, ``at`` the hour of each.
    """

    hours: int
    firsts: NDArray[np.uint32]
    at: NDArray[np.uint16]
    kept: Narrow

    @classmethod
    def of(cls, numbers: NDArray[Any]) -> Seldom | None:
        """The same numbers; None where they had better be kept each in its place, or are of very many hours or units."""
        units, hours = numbers.shape
        # Truths are counted and found many times as fast as numbers.
        there = numbers != 0
        some = np.count_nonzero(there)
        if hours > _MOST_HOURS or numbers.size > _MOST_PLACES or some > numbers.size // _SELDOM:
            return None
        unit, at = np.divmod(np.flatnonzero(there), max(1, hours))
        kept, firsts = Narrow.of(numbers[unit, at]), np.searchsorted(unit, np.arange(units + 1))
        return cls(hours, firsts.astype(np.uint32), at.astype(np.uint16), kept)

    @property
    def plain(self) -> NDArray[Any]:
        """As ``Narrow.plain``."""
        numbers = self.kept.plain
        found = np.zeros((len(self.firsts) - 1, self.hours), numbers.dtype)
        found[np.repeat(np.arange(len(found)), np.diff(self.firsts)), self.at] = numbers
        return found

    @property
    def numbers(self) -> Floats:
        """The numbers themselves."""
        return np.asarray(self.plain, float)

    def row(self, n: int) -> Floats:
        """Those of one unit, by hour."""
        found = np.zeros(self.hours)
        its = slice(int(self.firsts[n]), int(self.firsts[n + 1]))
        found[self.at[its]] = self.kept[its].numbers
        return found

    def rows(self, units: Sequence[int]) -> Column | Seldom:
        """Those of some units."""
        return Column.of(np.array([self.row(n) for n in units]).reshape(len(units), self.hours))

    @property
    def nbytes(self) -> int:
        """What it takes of memory."""
        return self.firsts.nbytes + self.at.nbytes + self.kept.values.nbytes


class Hourly(Struct, frozen=True, eq=False):
    """A column for each of ``layout.SERIES``, or the first of them alone, each of shape (units, hours)."""

    columns: tuple[Column | Seldom, ...]

    @classmethod
    def of(cls, series: Floats) -> Hourly:
        """Of numbers of shape (units, hours, columns)."""
        return cls(tuple(map(Column.of, np.ascontiguousarray(np.moveaxis(series, 2, 0)))))

    @classmethod
    def in_turn(cls, times: Sequence[Hourly]) -> Hourly:
        """Stretches of hours that follow each other, of the same units and columns."""
        if len(times) == 1:
            return times[0]
        return cls(tuple(Column.in_turn(columns) for columns in zip(*(each.columns for each in times), strict=True)))

    @classmethod
    def mean(cls, months: Sequence[Hourly]) -> Hourly:
        """The mean of several months of the same units and columns."""
        columns = zip(*(month.columns for month in months), strict=True)
        return cls(tuple(Column.of(sum(its.numbers for its in each) / len(months)) for each in columns))

    @classmethod
    def joined(cls, units: Iterable[tuple[Hourly, int]]) -> Hourly:
        """Units of several months of one length, each by its month and its place there."""
        months, rows = dict[int, Hourly](), defaultdict[int, list[tuple[int, int]]](list)
        for there, (month, here) in enumerate(units):
            months[id(month)] = month
            rows[id(month)].append((here, there))
        places = [(its[:, 0], its[:, 1]) for its in map(np.array, rows.values())]
        columns = zip(*(month.columns for month in months.values()), strict=True)
        return cls(tuple(Column.put_together(each, places) for each in columns))

    def rows(self, units: Sequence[int]) -> Hourly:
        """Those of some units."""
        return Hourly(tuple(column.rows(units) for column in self.columns))

    def of_unit(self, n: int) -> Floats:
        """Everything of one unit, (hours, columns)."""
        return np.array([column.row(n) for column in self.columns]).T

    def one(self, n: int, column: int) -> Floats:
        """One column of one unit, by hour."""
        return self.columns[column].row(n)

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
        return sum(column.nbytes for column in self.columns)
