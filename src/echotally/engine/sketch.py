"""Reading the quantile sketches that kernels keep: bins back to values, quantiles, sums.

The bins are those of ``kernel.sketch``; where each begins and how wide it is stands here once, in two tables.
A quantile of waits is the mean of what is in its bin, so a constant wait comes out exactly.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
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


@dataclass(frozen=True)
class Level:
    """A level over time (calls in flight, instances): time-weighted."""

    mean: float
    p95: int
    p99: int
    peak: int


@dataclass(frozen=True)
class Waits:
    """Waits or latencies of events, seconds; None where there were none. Quantiles within 0.8 %."""

    p50: float | None
    p95: float | None
    p99: float | None
    max: float | None


@dataclass(frozen=True)
class KeptWaits:
    """A sketch of waits without its empty bins: where the others are, how many waits each has, how far in they lie."""

    places: NDArray[np.int16]
    counts: NDArray[Any]
    into: NDArray[Any]

    @classmethod
    def of(cls, sketch: NDArray[Any]) -> KeptWaits:
        """A sketch of shape (2, bins)."""
        places = np.flatnonzero(sketch[0])
        return cls(places.astype(np.int16), sketch[0][places], sketch[1][places])

    @property
    def sum_ns(self) -> float:
        """The sum of all waits, ns."""
        starts = STARTS[self.places] * self.counts.astype(float)
        return float((starts + self.into * _UNITS[self.places]).sum())

    def quantile(self, q: float) -> float | None:
        """As ``wait_quantile``."""
        return wait_quantile(self.whole(), q)

    def whole(self) -> NDArray[Any]:
        """The sketch, of shape (2, bins)."""
        sketch = np.zeros((2, WAIT_BINS), self.counts.dtype)
        sketch[0][self.places], sketch[1][self.places] = self.counts, self.into
        return sketch


def bins_of(ns: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """The bin of each time, ns, and how far into it the time is, in the unit of the sketch's second row."""
    ns = np.maximum(ns, 0)
    place = np.searchsorted(STARTS, ns, side="right") - 1
    return place, (ns - STARTS[place]) / _UNITS[place]


def wait_sums(sketch: NDArray[Any]) -> NDArray[np.float64]:
    """Sum of the waits in each bin of a sketch of shape (2, bins), ns."""
    bins, into = sketch
    sums: NDArray[np.float64] = STARTS * bins.astype(float) + into * _UNITS
    return sums


def waits_of(sketch: NDArray[Any], longest: int) -> Waits:
    """Nearest-rank quantiles of a sketch of ns, shape (2, bins); the maximum is exact (above 2 s, a constant to 1e-9 of it)."""
    p50, p95, p99 = _quantiles(sketch, (0.5, 0.95, 0.99))
    return Waits(p50, p95, p99, None if p50 is None else longest / 1e9)


def wait_quantile(sketch: NDArray[Any], q: float) -> float | None:
    """One quantile of a sketch, s; None of an empty one."""
    return _quantiles(sketch, (q,))[0]


def _quantiles(sketch: NDArray[Any], shares: tuple[float, ...]) -> list[float | None]:
    bins = sketch[0]
    # Most functions have an empty sketch or two, and a sketch has thousands of bins.
    if not bins.any():
        return [None] * len(shares)
    cumulative = np.cumsum(bins)
    total = int(cumulative[-1])
    found: list[float | None] = []
    for q in shares:
        # Nearest rank: the smallest place with at least q of all at or below it; a rounding error must not add one.
        place = int(cumulative.searchsorted(max(1, math.ceil(q * total - 1e-9))))
        into = float(sketch[1][place]) * float(_UNITS[place]) / float(bins[place])
        found.append((int(STARTS[place]) + into) / 1e9)
    return found


def level_of(bins: NDArray[Any], peak: int, length_ns: int) -> Level:
    """A level from the time spent at each, ns, over ``length_ns``."""
    # Above the peak there is nothing. Sums are added up in pairs, halves first, so that so many bins give the bits of all.
    n = _LEAST_LEVELS
    while n <= min(peak, EXACT_LEVELS):
        n *= 2
    if n > EXACT_LEVELS:
        n = LEVEL_BINS
    bins, values = bins[:n], np.minimum(LEVELS[:n], max(peak, EXACT_LEVELS - 1))
    cumulative = np.cumsum(bins)
    mean = float((values * (bins / length_ns)).sum())

    def quantile(q: float) -> int:
        return min(peak, int(values[int(np.searchsorted(cumulative, q * length_ns))])) if cumulative[-1] else 0

    return Level(mean, quantile(0.95), quantile(0.99), peak)


def lag_quantile(bins: NDArray[Any], zero_ns: int, q: float) -> float:
    """The lag, s, not exceeded for a share ``q`` of the time; ``bins[1]`` counts rises that passed a bin whole."""
    time = bins[0] + np.cumsum(bins[1]) * WIDTHS.astype(float)
    cumulative = np.cumsum(time) + zero_ns
    place = int(np.searchsorted(cumulative, q * cumulative[-1]))
    return 0.0 if zero_ns >= q * cumulative[-1] else float(MIDDLES[place]) / 1e9
