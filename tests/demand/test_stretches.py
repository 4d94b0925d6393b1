"""Stretches of a month: instants at even steps are three numbers, and say what their columns would."""

from __future__ import annotations

import pickle

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from echotally.demand.stretches import EvenSteps, Stretches

MONTH_NS = 31 * 86_400 * 10**9
steps = st.tuples(st.integers(0, 10**12), st.sampled_from([1, 10**6, 10**9, 60 * 10**9]), st.integers(64, 300))


def columns(its: Stretches) -> list[list[float]]:
    return [column.tolist() for column in (its.start_ns, its.end_ns, its.rate, its.count)]


def plain(first: int, step: int, n: int) -> Stretches:
    """The same instants, with columns that are kept."""
    at = first + np.arange(n, dtype=np.int64) * step
    return Stretches(at, at, np.zeros(n), np.ones(n, np.int64))


@given(steps, st.lists(st.integers(-5, 305), min_size=2, max_size=6), st.integers(-1, 1))
def test_even_steps_say_what_their_columns_say(even, places, beside):
    first, step, n = even
    wanted = plain(*even)
    found = Stretches.at(wanted.start_ns)
    assert isinstance(found, EvenSteps)
    assert (len(found), found.expected, found.are_instants) == (n, wanted.expected, True)
    assert found.closest_ns == wanted.closest_ns == step
    assert columns(found) == columns(wanted)
    # Before, at and behind an instant.
    at = np.array([first + place * step + beside for place in places])
    assert found.places(at).tolist() == wanted.places(at).tolist()
    low, high = sorted(at.tolist())[:2]
    assert columns(found.between(low, high)) == columns(wanted.between(low, high))
    assert columns(found[places[0] : places[1]]) == columns(wanted[places[0] : places[1]])
    heads, by, many = found.runs()
    assert (heads.start_ns.tolist(), by.tolist(), many.tolist()) == ([first], [step], [n])
    # So are their columns put together, where they are kept.
    heads, by, many = wanted.runs()
    assert (heads.start_ns.tolist(), by.tolist(), many.tolist()) == ([first], [step], [n])
    inside = places[0] % n
    assert found[inside] == wanted[inside]
    assert columns(pickle.loads(pickle.dumps(found))) == columns(wanted)


@given(steps, st.data())
def test_one_instant_moved_is_no_even_step(even, data):
    wanted = plain(*even).start_ns.copy()
    moved = data.draw(st.integers(1, len(wanted) - 1))
    wanted[moved:] += 1
    found = Stretches.at(wanted)
    assert not isinstance(found, EvenSteps)
    assert found.start_ns is wanted and found.are_instants


def test_a_firing_a_second_takes_no_room_for_a_month():
    found = Stretches.at(np.arange(0, MONTH_NS, 10**9))
    assert isinstance(found, EvenSteps) and len(found) == 31 * 86_400
    assert len(pickle.dumps(found)) < 1_000
    with pytest.raises(IndexError):
        found[31 * 86_400]
