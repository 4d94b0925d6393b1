"""Sketches kept by their bins and hours kept in few bytes, against whole arrays of NumPy."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from echotally.engine.hourly import Hourly
from echotally.engine.layout import SUB_BINS, by_rows, by_units
from echotally.engine.sampling import sparse
from echotally.engine.sampling.sparse import Sparse, Sum, summed

#: Some fit half the room (32 bits), some just do not.
COUNTS = st.one_of(
    st.just(0), st.integers(0, 3), st.sampled_from([2**31 - 1, 2**31, -(2**31)]), st.integers(-(2**40), 2**50)
)
WEIGHTS = st.one_of(st.just(1.0), st.floats(0, 1e6))


def whole(sketch: Sparse) -> np.ndarray:
    """Every record made whole."""
    return np.array([sketch.record(n) for n in range(sketch.shape[0])])


@st.composite
def pairs(draw):
    """Records with a row of counts, and one that is nothing where they are."""
    counts = np.zeros((draw(st.integers(1, 4)), 3 * SUB_BINS), np.int64)
    inside = counts.copy()
    for _ in range(draw(st.integers(0, 20))):
        at = draw(st.integers(0, counts.shape[0] - 1)), draw(st.integers(0, counts.shape[1] - 1))
        counts[at], inside[at] = draw(st.integers(1, 2**40)), draw(st.integers(0, 2**50))
    return np.stack([counts, inside], axis=1)


@given(arrays(np.int64, st.tuples(st.integers(1, 4), st.integers(1, 2), st.integers(1, 9)), elements=COUNTS))
def test_what_is_taken_is_what_was_there_and_leaves_nothing(bins):
    before = bins.copy()
    most = int(max(np.nonzero(bins)[-1], default=0))
    taken = Sparse.taken(bins, most)
    assert np.array_equal(whole(taken), before) and not bins.any()
    assert (np.diff(taken.places) > 0).all() and taken.values.all()
    # A bound beyond the last bin, as of what has no peak of its own, changes nothing.
    assert np.array_equal(whole(Sparse.taken(before.copy(), bins.shape[-1])), before)


@given(arrays(np.int64, st.tuples(st.integers(1, 4), st.integers(1, 9)), elements=COUNTS))
def test_levels_are_taken_from_units_side_by_side_as_unit_by_unit(bins):
    side_by_side = by_units(bins).copy()
    taken, expected = Sparse.taken_by_units(side_by_side, bins.shape[-1]), Sparse.taken(bins.copy(), bins.shape[-1])
    assert not side_by_side.any() and taken.shape == expected.shape
    assert np.array_equal(taken.places, expected.places) and np.array_equal(taken.values, expected.values)


@given(pairs(), st.data())
def test_pairs_are_taken_by_their_counts_from_the_octaves_that_hold_some(bins, data):
    # As a world has them: of each bin the two stand side by side.
    side_by_side = by_rows(bins).copy()
    held = bins[:, 0].reshape(len(bins), -1, SUB_BINS).any(axis=2)
    # Octaves that hold nothing after all are looked at in vain.
    held[data.draw(st.integers(0, len(bins) - 1)), data.draw(st.integers(0, 2))] = True
    taken = Sparse.taken_in_pairs(side_by_side, np.nonzero(held))
    assert np.array_equal(whole(taken), bins) and not side_by_side.any() and (np.diff(taken.places) > 0).all()
    assert np.array_equal(by_rows(by_rows(bins)), bins)


@given(st.lists(st.tuples(arrays(np.int64, (3, 2, 5), elements=COUNTS), WEIGHTS), min_size=1, max_size=5), st.data())
def test_sums_are_those_of_whole_arrays_to_the_bit(terms, data):
    expected, total = np.zeros((3, 2, 5)), Sum((3, 2, 5))
    for bins, weight in terms:
        expected += weight * bins
        total.add(Sparse.taken(bins.copy(), 5), weight)
    assert np.array_equal(whole(total.whole()), expected)
    gone = data.draw(st.sets(st.integers(0, 2)))
    total.empties(np.array(sorted(gone), np.int64))
    expected[sorted(gone)] = 0
    # Several to one bin, as ages in pieces are.
    total.add_to_row((1, 1), np.array([4, 0, 4]), np.array([1.0, 2.0, 8.0]))
    expected[1, 1, [0, 4]] += [2.0, 9.0]
    assert np.array_equal(whole(total.whole()), expected)
    mean = Sum.mean([total, total, Sum((3, 2, 5))]).whole()
    assert np.array_equal(whole(mean), (expected + expected) / 3)
    both = summed((3, 2, 5), [(total.whole(), 1.0), (mean, -0.5)])
    assert np.array_equal(whole(both), expected - 0.5 * whole(mean))


NUMBERS = st.one_of(
    st.integers(0, 300).map(float), st.integers(0, 2**53).map(float), st.floats(-1e300, 1e300, allow_nan=False)
)


@given(arrays(np.float64, st.tuples(st.integers(1, 3), st.integers(1, 4), st.just(3)), elements=NUMBERS))
def test_hours_come_back_as_they_were(series):
    kept = Hourly.of(series)
    units, _, columns = series.shape
    assert all(np.array_equal(kept.of_unit(n), series[n]) for n in range(units))
    assert all(np.array_equal(kept.all_of(k), series[:, :, k]) for k in range(columns))
    assert np.array_equal(kept.one(units - 1, 1), series[-1, :, 1]) and kept.nbytes <= series.nbytes
    turned = [(kept, n) for n in reversed(range(units))]
    assert Hourly.joined(turned) == Hourly.of(series[::-1]) == kept.rows(list(reversed(range(units))))
    assert (Hourly.of(series + 1) == kept) == np.array_equal(series + 1, series)
    # Units of several months, in any order among each other.
    other = Hourly.of(series // 2)
    mixed = Hourly.joined([pair for n in range(units) for pair in ((other, n), (kept, n))])
    assert mixed == Hourly.of(np.stack([series // 2, series], axis=1).reshape(2 * units, -1, columns))


@given(
    arrays(
        np.float64, st.tuples(st.integers(0, 3), st.integers(1, 40), st.just(2)), elements=NUMBERS, fill=st.just(0.0)
    ),
    st.lists(st.integers(1, 39), max_size=4, unique=True),
)
def test_hours_in_turn_are_all_of_them_in_as_few_bytes(series, cuts):
    whole = Hourly.of(series)
    assert all(np.array_equal(whole.all_of(k), series[:, :, k]) for k in range(2))
    assert all(np.array_equal(whole.of_unit(n), series[n]) for n in range(len(series)))
    edges = [0, *sorted(cut for cut in cuts if cut < series.shape[1]), series.shape[1]]
    in_turn = Hourly.in_turn([Hourly.of(series[:, first:end]) for first, end in pairwise(edges)])
    assert in_turn == whole and in_turn.nbytes == whole.nbytes
    # What they were taken from is written to again.
    written = series.copy()
    kept = Hourly.of(written)
    written += 1.0
    assert kept == whole
    some = list(range(0, len(series), 2))
    assert whole.rows(some) == Hourly.of(series[some])
    # Added up as they come, then divided, to the bit.
    with np.errstate(over="ignore", invalid="ignore"):
        mean = (series + series[:, ::-1] + series) / 3
    if np.isfinite(mean).all():
        assert Hourly.mean([whole, Hourly.of(series[:, ::-1]), whole]) == Hourly.of(mean)


def test_what_is_nearly_always_0_takes_a_few_bytes_for_what_is_not():
    ages = np.zeros((9, 743, 1))
    ages[4, 7], ages[4, 742], ages[8, 0] = 0.25, 3_600.123, 1e9
    kept = Hourly.of(ages)
    # Three numbers of eight bytes and their hours of two; where each unit's begin, four.
    assert kept.nbytes == 3 * (8 + 2) + (9 + 1) * 4
    assert np.array_equal(kept.one(4, 0), ages[4, :, 0]) and not kept.one(5, 0).any()
    assert Hourly.of(np.tile(ages, (1, 100, 1))).one(4, 0)[74_299] == 3_600.123


@given(
    st.lists(st.tuples(arrays(np.int64, (5, 2, 3), elements=COUNTS), WEIGHTS), min_size=2, max_size=4),
    st.integers(1, 31),
)
def test_sums_are_the_same_however_many_places_are_added_up_at_once(terms, at_once):
    taken = [(Sparse.taken(bins.copy(), 3), weight) for bins, weight in terms]
    expected = summed((5, 2, 3), taken)
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(sparse, "_PLACES", at_once)
        found = summed((5, 2, 3), taken)
    assert np.array_equal(found.places, expected.places) and np.array_equal(found.values, expected.values)
    assert found.places.dtype == expected.places.dtype
    part = found.part(range(1, 4))
    assert np.array_equal(whole(part), whole(expected)[1:4]) and part.shape == (3, 2, 3)


@pytest.mark.parametrize(
    ("most", "bytes_each"), [(255, 1), (256, 2), (65_536, 4), (2**32, 8), (63.75, 1), (64.25, 2), (0.3, 8), (-1, 8)]
)
def test_hours_take_as_few_bytes_as_hold_them(most, bytes_each):
    assert Hourly.of(np.array([[[0.0], [most]]])).nbytes == 2 * bytes_each
