"""Reading the quantile sketches that kernels keep: bins back to values, quantiles, sums.

The bins are those of ``kernel.sketch``; where each begins and how wide it is stands here once, in two tables.
A quantile of waits is the mean of what is in its bin, so a constant wait comes out exactly.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from typing import Any, Protocol

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine.layout import EXACT_LEVELS, LEVEL_BINS, OFFSET_BITS, SUB_BINS, WAIT_BINS

_PLACES = np.arange(WAIT_BINS)
_OCTAVES = np.maximum(_PLACES // SUB_BINS - 1, 0)
#: Where each bin begins and how wide it is, ns.
STARTS: NDArray[np.int64] = np.where(
    _PLACES < 2 * SUB_BINS, _PLACES, (SUB_BINS + _PLACES % SUB_BINS) << _OCTAVES
).astype(np.int64)
WIDTHS: NDArray[np.int64] = np.int64(1) << _OCTAVES
#: The middle of each bin; what is exact is its own middle.
MIDDLES: NDArray[np.float64] = np.where(WIDTHS == 1, STARTS.astype(float), STARTS + WIDTHS / 2 - 0.5)
#: The unit in which the second row of a sketch says how far into their bins values are.
_UNITS: NDArray[np.float64] = 2.0 ** np.maximum(_OCTAVES - OFFSET_BITS, 0)
_FIRST_OCTAVE_OF_LEVELS = int(np.searchsorted(STARTS, EXACT_LEVELS))
#: A level sketch halved again and again, as long as that leaves whole bins by eights.
_LEAST_LEVELS = LEVEL_BINS >> 6
#: The level each bin of a level sketch stands for.
LEVELS: NDArray[np.int64] = np.concatenate(
    [
        np.arange(EXACT_LEVELS),
        np.rint(MIDDLES[_FIRST_OCTAVE_OF_LEVELS : _FIRST_OCTAVE_OF_LEVELS + LEVEL_BINS - EXACT_LEVELS]).astype(
            np.int64
        ),
    ]
)


class OfUnits(Protocol):
    """A sketch for each unit (see ``engine.layout.World``): a whole array, or what makes the n-th when it is asked for."""

    def __getitem__(self, n: int, /) -> NDArray[np.int64]: ...


class Made(OfUnits, Protocol):
    """What is no array, and makes several at once."""

    def some(self, units: range) -> NDArray[np.int64]:
        """Those of units that follow on each other."""


#: Quantiles that are told of waits.
_SHARES = (0.5, 0.95, 0.99)


class Level(Struct, frozen=True):
    """A level over time (calls in flight, instances): time-weighted."""

    mean: float
    p95: int
    p99: int
    peak: int


class Waits(Struct, frozen=True):
    """Waits or latencies of events, seconds; None where there were none. Quantiles within 0.8 %."""

    p50: float | None
    p95: float | None
    p99: float | None
    max: float | None


class KeptWaits(Struct, frozen=True):
    """A sketch of waits without its empty bins: where the others are, how many waits each has, how far in they lie."""

    places: NDArray[np.int16]
    counts: NDArray[Any]
    into: NDArray[Any]

    @classmethod
    def of(cls, sketch: NDArray[Any]) -> KeptWaits:
        """A sketch of shape (2, bins)."""
        places = np.flatnonzero(sketch[0])
        return cls(places.astype(np.int16), sketch[0][places], sketch[1][places])

    @classmethod
    def nothing(cls) -> KeptWaits:
        """An empty sketch."""
        return cls(np.zeros(0, np.int16), np.zeros(0, np.int64), np.zeros(0, np.int64))

    @property
    def sum_ns(self) -> float:
        """The sum of all waits, ns."""
        starts = STARTS[self.places] * self.counts.astype(float)
        return float((starts + self.into * _UNITS[self.places]).sum())

    def quantile(self, q: float) -> float | None:
        """As ``wait_quantile``."""
        return self.quantiles((q,))[0]

    def quantiles(self, shares: Sequence[float]) -> list[float | None]:
        """Nearest-rank quantiles, s; None of an empty sketch."""
        if not len(self.places):
            return [None] * len(shares)
        passed = np.cumsum(self.counts)
        total = int(passed[-1])
        found: list[float | None] = []
        for q in shares:
            # The smallest place with at least q of all at or below it; a rounding error must not add one.
            at = int(passed.searchsorted(max(1, math.ceil(q * total - 1e-9))))
            place = int(self.places[at])
            into = float(self.into[at]) * float(_UNITS[place]) / float(self.counts[at])
            found.append((int(STARTS[place]) + into) / 1e9)
        return found

    def place(self, q: float) -> int:
        """The bin that a quantile of waits is in."""
        passed = np.cumsum(self.counts)
        return int(self.places[passed.searchsorted(max(1, math.ceil(q * int(passed[-1]) - 1e-9)))])

    def share_up_to(self, place: int) -> float:
        """The share of waits in a bin and all before it."""
        return float(self.counts[: self.places.searchsorted(place, "right")].sum() / max(1, self.counts.sum()))

    def waits(self, longest: int) -> Waits:
        """As ``waits_of``."""
        p50, p95, p99 = self.quantiles(_SHARES)
        return Waits(p50, p95, p99, None if p50 is None else longest / 1e9)

    def whole(self) -> NDArray[Any]:
        """The sketch, of shape (2, bins)."""
        sketch = np.zeros((2, WAIT_BINS), self.counts.dtype)
        sketch[0][self.places], sketch[1][self.places] = self.counts, self.into
        return sketch


class InOctaves(Struct, frozen=True):
    """The sketches of several units, of shape (units, 2, bins), and of each a bit for every octave that may hold something.

    None: it is not known, and all are looked at. Memory that nobody has written to is made when it is read, a page at a time, which
    takes longer than all else that is done with it.
    """

    bins: NDArray[Any]
    octaves: NDArray[np.int64] | None = None

    def __getitem__(self, n: int) -> NDArray[Any]:
        return self.bins[n]  # type: ignore[no-any-return]

    def held(self, units: NDArray[np.int64], octaves: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """The octaves of these units that may hold something, of the first so many, in order: whose, by number, and which."""
        if self.octaves is None:
            some: NDArray[np.bool_] = np.any(self._blocks[:, 0, :octaves], axis=2)
            some = some[units]
        else:
            some = (self.octaves[units, None] >> np.arange(octaves)) & 1 != 0
        unit, octave = np.nonzero(some)
        return unit, octave

    def blocks(self, units: NDArray[np.int64], octaves: NDArray[np.int64], row: int) -> NDArray[Any]:
        """One row of such octaves, (octaves, bins)."""
        found: NDArray[Any] = self._blocks[units, row, octaves]
        return found

    @property
    def _blocks(self) -> NDArray[Any]:
        """The bins by octaves, (units, 2, octaves, bins of an octave), without a copy."""
        return self.bins.reshape(*self.bins.shape[:2], -1, SUB_BINS)


class ManyWaits(Struct, frozen=True):
    """The sketches of several units without their empty bins, one after the other: those of the n-th are from ``edges[n]`` to
    ``edges[n + 1]``.
    """

    places: NDArray[np.int16]
    counts: NDArray[Any]
    into: NDArray[Any]
    edges: NDArray[np.int64]

    @classmethod
    def of(cls, units: NDArray[np.int64], bins: int, sketches: InOctaves) -> ManyWaits:
        """Of some units, by their places in the sketches; no more than the first so many bins hold anything."""
        unit, octave = sketches.held(units, -(-bins // SUB_BINS))
        counts, into = (sketches.blocks(units[unit], octave, row).reshape(-1) for row in (0, 1))
        # An octave after the other; its number says where it belongs.
        at = np.flatnonzero(counts != 0).astype(np.int32)
        places = at + ((octave - np.arange(len(octave))) * SUB_BINS).astype(np.int32)[at // SUB_BINS]
        edges = at.searchsorted((unit.searchsorted(np.arange(len(units) + 1)) * SUB_BINS).astype(np.int32))
        return cls(places.astype(np.int16), counts[at], into[at], edges)

    def plus(self, other: ManyWaits) -> ManyWaits:
        """The sketches of the same units, added up."""
        if not len(other.places):
            return self
        if not len(self.places):
            return other
        mine, its = self._bins(), other._bins()
        both = np.sort(np.concatenate((mine, its)))
        both = both[np.diff(both, prepend=-1) > 0]
        counts, into = np.zeros(len(both), np.int64), np.zeros(len(both), np.int64)
        for some, bins in ((self, mine), (other, its)):
            at = both.searchsorted(bins)
            counts[at] += some.counts
            into[at] += some.into
        units = np.arange(len(self.edges)) * WAIT_BINS
        return ManyWaits((both % WAIT_BINS).astype(np.int16), counts, into, both.searchsorted(units))

    @classmethod
    def joined(cls, each: Sequence[KeptWaits]) -> ManyWaits:
        """Of several units, from each one's (one at least)."""
        edges = np.cumsum([0, *(len(kept.places) for kept in each)])
        places, counts, into = zip(*((kept.places, kept.counts, kept.into) for kept in each), strict=True)
        return cls(np.concatenate(places), np.concatenate(counts), np.concatenate(into), edges)

    def __getitem__(self, unit: int) -> NDArray[Any]:
        """A unit's sketch, whole."""
        return next(self.some(range(unit, unit + 1)).each()).whole()

    def some(self, units: range) -> ManyWaits:
        """Those of units that follow on each other."""
        edges = self.edges[units.start : units.stop + 1]
        these = slice(int(edges[0]), int(edges[-1]))
        return ManyWaits(self.places[these], self.counts[these], self.into[these], edges - edges[0])

    def since(self, before: ManyWaits) -> ManyWaits:
        """What has been added to the sketches of the same units since they held ``before``."""
        bins, earlier = self._bins(), before._bins()
        # What was in a bin is in it still.
        at = bins.searchsorted(earlier)
        counts, into = self.counts.copy(), self.into.copy()
        counts[at] -= before.counts
        into[at] -= before.into
        some = np.flatnonzero(counts)
        return ManyWaits(self.places[some], counts[some], into[some], np.searchsorted(some, self.edges))

    def _bins(self) -> NDArray[np.int64]:
        """A number for each bin of each unit, rising."""
        units = np.repeat(np.arange(len(self.edges) - 1), np.diff(self.edges))
        return units * WAIT_BINS + self.places

    def each(self) -> Iterator[KeptWaits]:
        """Each unit's sketch."""
        for first, end in pairwise(self.edges.tolist()):
            yield KeptWaits(self.places[first:end], self.counts[first:end], self.into[first:end])

    def quantiles(self, shares: Sequence[float]) -> list[list[float | None]]:
        """As ``KeptWaits.quantiles``, of each unit."""
        passed = np.concatenate([[0], np.cumsum(self.counts)])
        before = passed[self.edges[:-1]]
        totals = passed[self.edges[1:]] - before
        found: list[list[float | None]] = [[None] * len(shares) for _ in totals]
        some = np.flatnonzero(totals)
        ranks = np.maximum(1, np.ceil(np.multiply.outer(totals[some], shares) - 1e-9)).astype(np.int64)
        at = passed.searchsorted(before[some, None] + ranks) - 1
        place = self.places[at]
        into = self.into[at].astype(float) * _UNITS[place] / self.counts[at]
        for n, values in zip(some.tolist(), ((STARTS[place] + into) / 1e9).tolist(), strict=True):
            found[n] = values
        return found


class WaitsMade(Struct, frozen=True):
    """The sketches of several units, of some that follow on each other made when they are looked at."""

    some: Callable[[range], ManyWaits]

    def __getitem__(self, unit: int) -> NDArray[Any]:
        """A unit's sketch, whole."""
        return self.some(range(unit, unit + 1))[0]


def bins_of(ns: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """The bin of each time, ns, and how far into it the time is, in the unit of the sketch's second row."""
    ns = np.maximum(ns, 0)
    place = np.searchsorted(STARTS, ns, side="right") - 1
    return place, (ns - STARTS[place]) / _UNITS[place]


def bins_until(longest_ns: int) -> int:
    """How many of the first bins hold all times up to the longest."""
    # Of a sample the longest is cut to whole ns and what is in its bins rounded, which may be one more.
    return int(STARTS.searchsorted(longest_ns + 1, side="right"))


def wait_sums(sketch: NDArray[Any]) -> NDArray[np.float64]:
    """Sum of the waits in each bin of a sketch of shape (2, bins), ns."""
    bins, into = sketch
    sums: NDArray[np.float64] = STARTS * bins.astype(float) + into * _UNITS
    return sums


def waits_of(sketches: ManyWaits, longest: Sequence[int]) -> list[Waits]:
    """Nearest-rank quantiles of each unit; the maximum, given in ns, is exact (above 2 s, a constant to 1e-9 of it)."""
    quantiles = sketches.quantiles(_SHARES)
    return [
        Waits(p50, p95, p99, None if p50 is None else most / 1e9)
        for (p50, p95, p99), most in zip(quantiles, longest, strict=True)
    ]


def wait_quantile(sketch: NDArray[Any], q: float) -> float | None:
    """One quantile of a sketch, shape (2, bins), s; None of an empty one."""
    return KeptWaits.of(sketch).quantile(q)


def level_of(bins: NDArray[Any], peak: int, length_ns: int) -> Level:
    """A level from the time spent at each, ns, over ``length_ns``."""
    bins = bins[: _looked_at(peak)]
    values = np.minimum(LEVELS[: len(bins)], max(peak, EXACT_LEVELS - 1))
    passed = np.cumsum(bins)
    mean = float((values * (bins / length_ns)).sum())

    def quantile(q: float) -> int:
        return min(peak, int(values[int(passed.searchsorted(q * length_ns))])) if passed[-1] else 0

    return Level(mean, quantile(0.95), quantile(0.99), peak)


def levels_of(bins: NDArray[Any], peaks: Sequence[int], length_ns: int) -> list[Level]:
    """As ``level_of``, of each unit, from the time it spent at each level, ns, shape (units, bins)."""
    found: list[Level] = [Level(0.0, 0, 0, 0)] * len(bins)
    looked_at = np.array([_looked_at(peak) for peak in peaks])
    # They are few: a set is sooner made than NumPy's module for masked arrays is loaded, which ``np.unique`` brings.
    for n in sorted(set(looked_at.tolist())):
        units = np.flatnonzero(looked_at == n)
        for unit, level in zip(
            units.tolist(),
            _levels(np.ascontiguousarray(bins[units, :n]), np.array(peaks)[units], length_ns),
            strict=True,
        ):
            found[unit] = level
    return found


def _looked_at(peak: int) -> int:
    """How many bins of a level are read: above the peak there is nothing.

    Sums are added up in pairs, halves first, so that so many bins give the bits of all.
    """
    n = _LEAST_LEVELS
    while n <= min(peak, EXACT_LEVELS):
        n *= 2
    return n if n <= EXACT_LEVELS else LEVEL_BINS


def _levels(held: NDArray[Any], peaks: NDArray[np.int64], length_ns: int) -> Iterator[Level]:
    """Levels of which the first so many bins, shape (units, bins), hold all."""
    n = held.shape[1]
    values = np.minimum(LEVELS[:n], np.maximum(peaks, EXACT_LEVELS - 1)[:, None])
    passed, means = np.cumsum(held, axis=1), (values * (held / length_ns)).sum(axis=1).tolist()
    quantiles = []
    for q in (0.95, 0.99):
        place = (passed < q * length_ns).sum(axis=1)
        # Nothing at all was held: it stood at no level.
        place[passed[:, -1] == 0] = 0
        quantiles.append(np.minimum(peaks, values[np.arange(len(held)), place]) * (passed[:, -1] > 0))
    for mean, p95, p99, peak in zip(means, *(q.tolist() for q in quantiles), peaks.tolist(), strict=True):
        yield Level(mean, p95, p99, peak)


def lag_quantile(bins: NDArray[Any], zero_ns: int, q: float) -> float:
    """The lag, s, not exceeded for a share ``q`` of the time; ``bins[1]`` counts rises that passed a bin whole."""
    time = bins[0] + np.cumsum(bins[1]) * WIDTHS.astype(float)
    cumulative = np.cumsum(time) + zero_ns
    place = int(np.searchsorted(cumulative, q * cumulative[-1]))
    return 0.0 if zero_ns >= q * cumulative[-1] else float(MIDDLES[place]) / 1e9
