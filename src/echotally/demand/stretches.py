"""The stretches of a month in which events come: as arrays, so that a firing a second is a column and not a million objects."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import overload

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class Stretch:
    """From ``start_ns`` to ``end_ns`` events come at ``rate`` per ns, or exactly ``count`` of them."""

    start_ns: int
    end_ns: int
    rate: float = 0.0
    count: int = 0


@dataclass(frozen=True, eq=False)
class Stretches:
    """Stretches in the order of time: four columns of one length, as ``Stretch`` names them."""

    start_ns: NDArray[np.int64]
    end_ns: NDArray[np.int64]
    rate: NDArray[np.float64]
    count: NDArray[np.int64]

    @classmethod
    def of(cls, stretches: Iterable[Stretch]) -> Stretches:
        """From one object each."""
        rows = [(s.start_ns, s.end_ns, s.rate, s.count) for s in stretches]
        start, end, rate, count = zip(*rows, strict=True) if rows else ((), (), (), ())
        return cls(
            np.array(start, np.int64), np.array(end, np.int64), np.array(rate, np.float64), np.array(count, np.int64)
        )

    @classmethod
    def at(cls, instants_ns: NDArray[np.int64]) -> Stretches:
        """One event at each of these instants, which rise; nothing is copied."""
        n = len(instants_ns)
        if n >= _FEW:
            first, step = int(instants_ns[0]), int(instants_ns[1] - instants_ns[0])
            if step > 0 and int(instants_ns[-1]) == first + (n - 1) * step and np.all(np.diff(instants_ns) == step):
                return EvenSteps(first, step, n)
        return cls(instants_ns, instants_ns, *_one_each(n))

    @property
    def are_instants(self) -> bool:
        """Whether it is certain that one event comes at each of them, at an instant: as ``at`` makes them."""
        return self.end_ns is self.start_ns

    def __len__(self) -> int:
        return len(self.start_ns)

    def places(self, at_ns: Sequence[int] | NDArray[np.int64]) -> NDArray[np.int64]:
        """How many begin before each of these instants."""
        return np.searchsorted(self.start_ns, at_ns)

    @property
    def closest_ns(self) -> int | None:
        """The least time from the beginning of one to that of the next, ns; None where there are not two."""
        return int(np.diff(self.start_ns).min()) if len(self) > 1 else None

    def __iter__(self) -> Iterator[Stretch]:
        return map(Stretch, self.start_ns.tolist(), self.end_ns.tolist(), self.rate.tolist(), self.count.tolist())

    @overload
    def __getitem__(self, place: int) -> Stretch: ...
    @overload
    def __getitem__(self, place: slice) -> Stretches: ...
    def __getitem__(self, place: int | slice) -> Stretch | Stretches:
        if isinstance(place, slice):
            start = self.start_ns[place]
            end = start if self.are_instants else self.end_ns[place]
            return Stretches(start, end, self.rate[place], self.count[place])
        return Stretch(
            int(self.start_ns[place]), int(self.end_ns[place]), float(self.rate[place]), int(self.count[place])
        )

    @property
    def expected(self) -> float:
        """Events expected in all of them."""
        if not self.rate.any():
            return float(self.count.sum())
        return math.fsum((self.count + self.rate * (self.end_ns - self.start_ns)).tolist())

    def runs(self) -> tuple[Stretches, NDArray[np.int64], NDArray[np.int64]]:
        """Neighbours of one event each, at instants equally far apart, put together.

        Returns the first of each run, the ns from one to the next in it, 0 where there is none, and how many events it has.
        """
        n = len(self)
        if n < 3 or not (self.are_instants or ((self.start_ns == self.end_ns) & (self.count == 1)).all()):
            return self, np.zeros(n, np.int64), self.count
        # A run begins where the gap before differs from the gap after. Two that meet at one firing both want it: the earlier has it.
        firsts, last = [0], -1
        for turn in _turns(self.start_ns):
            if turn > last:
                firsts.append(turn + 1)
                last = turn + 1
        first = np.array([k for k in firsts if k < n], np.int64)
        count = np.diff(first, append=n)
        after = np.minimum(first, n - 2)
        step = np.where(count > 1, self.start_ns[after + 1] - self.start_ns[after], 0)
        heads = Stretches(self.start_ns[first], self.end_ns[first], self.rate[first], self.count[first])
        return heads, step, count

    def between(self, start_ns: int, end_ns: int) -> Stretches:
        """Those that begin before ``end_ns``, from the last one on that begins before ``start_ns``."""
        first, last = self.places((start_ns, end_ns)).tolist()
        return self[max(0, first - 1) : last]

    def by_rate(self, start_ns: NDArray[np.int64], end_ns: NDArray[np.int64]) -> NDArray[np.float64]:
        """Events that rates bring between each two instants; counts are left out."""
        found = np.zeros(len(start_ns))
        first, last = np.maximum(0, self.places(start_ns) - 1), self.places(end_ns)
        # A stretch after the other, so that sums are made in the order of time.
        for k in range(int((last - first).max(initial=0))):
            inside = np.flatnonzero(first + k < last)
            at = first[inside] + k
            shared = np.minimum(self.end_ns[at], end_ns[inside]) - np.maximum(self.start_ns[at], start_ns[inside])
            found[inside] += self.rate[at] * np.maximum(0, shared)
        return found


def _turns(at_ns: NDArray[np.int64]) -> Iterator[int]:
    """The places of instants that are not as far from the one before as from the one after."""
    # Some at a time: of a firing a second each column would take as much as a small month.
    for first in range(0, len(at_ns) - 2, _AT_ONCE):
        gaps = np.diff(at_ns[first : first + _AT_ONCE + 2])
        yield from (np.flatnonzero(np.diff(gaps)) + first + 1).tolist()


#: So many instants are looked at together.
_AT_ONCE = 1 << 17
#: Fewer instants than that need no other form.
_FEW = 64


def _one_each(n: int) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """The rates and the counts of ``n`` instants, which take no room."""
    return np.broadcast_to(np.float64(0), n), np.broadcast_to(np.int64(1), n)


class EvenSteps(Stretches):
    """Instants as far apart as each other, one event each: three numbers for the millions that a firing a second makes of a month.

    Columns are made when they are asked for, and not kept.
    """

    first_ns: int
    step_ns: int
    n: int

    def __init__(self, first_ns: int, step_ns: int, n: int) -> None:
        # Whose columns are kept is frozen, and so is this.
        self.__dict__.update(first_ns=first_ns, step_ns=step_ns, n=n)

    def runs(self) -> tuple[Stretches, NDArray[np.int64], NDArray[np.int64]]:
        """All of it is one."""
        return self[:1], np.array([self.step_ns]), np.array([self.n])

    def __getattr__(self, name: str) -> NDArray[np.int64] | NDArray[np.float64]:
        if name in ("start_ns", "end_ns"):
            return self.first_ns + np.arange(self.n, dtype=np.int64) * self.step_ns
        if name in ("rate", "count"):
            return _one_each(self.n)[name == "count"]
        raise AttributeError(name)

    @property
    def are_instants(self) -> bool:
        """Always."""
        return True

    def __len__(self) -> int:
        return self.n

    def places(self, at_ns: Sequence[int] | NDArray[np.int64]) -> NDArray[np.int64]:
        """How many begin before each of these instants."""
        return np.clip(-((self.first_ns - np.asarray(at_ns, np.int64)) // self.step_ns), 0, self.n)

    @overload
    def __getitem__(self, place: int) -> Stretch: ...
    @overload
    def __getitem__(self, place: slice) -> Stretches: ...
    def __getitem__(self, place: int | slice) -> Stretch | Stretches:
        inside = range(self.first_ns, self.first_ns + self.n * self.step_ns, self.step_ns)[place]
        if isinstance(inside, range):
            return EvenSteps(inside.start, inside.step, len(inside))
        return Stretch(inside, inside, count=1)

    @property
    def closest_ns(self) -> int | None:
        """The step, where there is one."""
        return self.step_ns if self.n > 1 else None

    @property
    def expected(self) -> float:
        """One event each."""
        return float(self.n)


NONE = Stretches.of(())
