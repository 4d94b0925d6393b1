"""Sketches of many units, read at once: against waits kept one by one, nearest ranks and levels written out."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from echotally.engine.layout import EXACT_LEVELS, LEVEL_BINS, SUB_BINS, WAIT_BINS
from echotally.engine.sketch import (
    LEVELS,
    InOctaves,
    KeptWaits,
    ManyWaits,
    bins_of,
    bins_until,
    level_of,
    levels_of,
    wait_quantile,
    waits_of,
)

#: From nothing to longer than a month, ns.
WAITS = st.one_of(st.integers(0, 300), st.integers(0, 10**10), st.integers(0, 3 * 10**15))
OF_UNITS = st.lists(st.lists(WAITS, max_size=30), min_size=1, max_size=6)
#: A bin is at most so wide for what is in it.
WIDTH = 1 / 128


def sketch_of(waits: list[int]) -> np.ndarray:
    """The sketch that a kernel keeps of some waits."""
    sketch = np.zeros((2, WAIT_BINS), np.int64)
    places, into = bins_of(np.array(waits, np.int64))
    np.add.at(sketch[0], places, 1)
    np.add.at(sketch[1], places, into.astype(np.int64))
    return sketch


def of(sketches: np.ndarray, bins: int = WAIT_BINS) -> ManyWaits:
    return ManyWaits.of(np.arange(len(sketches)), bins, InOctaves(sketches))


@given(OF_UNITS, st.sampled_from([0.01, 0.5, 0.95, 0.99, 1.0]))
def test_quantiles_are_nearest_ranks_whichever_units_stand_beside(units: list[list[int]], q: float) -> None:
    sketches = np.array([sketch_of(waits) for waits in units])
    found = of(sketches).quantiles((q,))
    for waits, sketch, (value,) in zip(units, sketches, found, strict=True):
        assert value == wait_quantile(sketch, q)
        if value is None:
            assert not waits
            continue
        rank = sorted(waits)[max(1, math.ceil(q * len(waits) - 1e-9)) - 1]
        # Within its bin, and a constant comes out exactly.
        assert value * 1e9 == pytest.approx(rank, rel=WIDTH, abs=1e-3)
    longest = [max(waits, default=0) for waits in units]
    for waits, told in zip(units, waits_of(of(sketches), longest), strict=True):
        assert told.max == (max(waits) / 1e9 if waits else None)
    assert waits_of(of(sketches), longest) == [
        KeptWaits.of(sketch).waits(most) for sketch, most in zip(sketches, longest, strict=True)
    ]


@given(OF_UNITS, st.data())
def test_what_was_added_is_what_is_there_less_what_was(units: list[list[int]], data: st.DataObject) -> None:
    more = [data.draw(st.lists(WAITS, max_size=10)) for _ in units]
    before, added = (np.array([sketch_of(waits) for waits in each]) for each in (units, more))
    since = of(before + added).since(ManyWaits.joined([KeptWaits.of(sketch) for sketch in before]))
    for found, wanted in zip(since.each(), added, strict=True):
        assert np.array_equal(found.whole(), wanted)
        assert found.places.tolist() == np.flatnonzero(wanted[0]).tolist()
    # Several sketches of a unit are one, and those beyond the longest hold nothing.
    longest = max((wait for each in (*units, *more) for wait in each), default=0)
    both = of(before, bins_until(longest)).plus(of(added, bins_until(longest)))
    assert [kept.whole().tolist() for kept in both.each()] == (before + added).tolist()


@given(OF_UNITS, st.data())
def test_where_octaves_are_known_the_others_are_not_looked_at(units: list[list[int]], data: st.DataObject) -> None:
    sketches = np.array([sketch_of(waits) for waits in units])
    octaves = (sketches[:, 0].reshape(len(units), -1, SUB_BINS) != 0).any(axis=2)
    # What is known may be too much, as of sketches that have been emptied since.
    octaves |= np.array(data.draw(st.lists(st.booleans(), min_size=octaves.size, max_size=octaves.size))).reshape(
        octaves.shape
    )
    known = (octaves.astype(np.int64) << np.arange(octaves.shape[1])).sum(axis=1)
    some = np.array(data.draw(st.lists(st.integers(0, len(units) - 1), unique=True)), np.int64)
    found = ManyWaits.of(some, WAIT_BINS, InOctaves(sketches, known))
    assert [kept.whole().tolist() for kept in found.each()] == sketches[some].tolist()
    # Behind an octave that is not known to hold anything nothing is found.
    assert not len(ManyWaits.of(some, WAIT_BINS, InOctaves(sketches, known * 0)).places)


@given(st.lists(st.lists(st.tuples(st.integers(0, 5_000), st.integers(1, 10**12)), max_size=6), min_size=1, max_size=5))
def test_levels_of_many_are_those_of_each_written_out(units: list[list[tuple[int, int]]]) -> None:
    length, bins = 10**13, np.zeros((len(units), LEVEL_BINS), np.int64)
    for n, held in enumerate(units):
        for level, ns in held:
            bins[n, level if level < EXACT_LEVELS else int(np.abs(LEVELS - level).argmin())] += ns
        bins[n, 0] += length - bins[n].sum()
    peaks = [max((level for level, _ in held), default=0) for held in units]
    for n, (found, peak) in enumerate(zip(levels_of(bins, peaks, length), peaks, strict=True)):
        # To the bit.
        assert found == level_of(bins[n], peak, length)
        # What is wider than one level is told by its middle, and never above the peak there was.
        values = np.minimum(LEVELS, max(peak, EXACT_LEVELS - 1))
        assert found.mean == pytest.approx(float((values * bins[n]).sum()) / length, rel=1e-12, abs=1e-12)
        passed = np.cumsum(bins[n])
        wanted = [min(peak, int(values[int((passed >= q * length).argmax())])) for q in (0.95, 0.99)]
        assert [found.p95, found.p99, found.peak] == [*wanted, peak]
    empty = levels_of(np.zeros((2, LEVEL_BINS), np.int64), [0, 3], length)
    assert [(e.mean, e.p95, e.p99, e.peak) for e in empty] == [(0.0, 0, 0, 0), (0.0, 0, 0, 3)]
