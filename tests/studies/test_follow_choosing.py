"""Which event a question finds, on pages made by hand: the most, the middle, the first of equals, at some places only."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from echotally.engine import codes
from echotally.engine.layout import DTYPES
from echotally.engine.records import Attempt, Carried, Moment
from echotally.engine.watching import Pages
from echotally.errors import BadInput
from echotally.studies.follow.choosing import ByAttempts, Happened, Middle

HANDLED, LOST, LETTER = int(codes.HANDLED), int(codes.LOST), int(codes.DEAD_LETTERED)


def lines(kind: type, rows: Sequence[dict[str, int]]) -> Any:
    """Records of a kind with these fields, the others 0."""
    found = np.zeros(len(rows), DTYPES[kind])
    for record, row in zip(found, rows, strict=True):
        for name, value in row.items():
            record[name] = value
    return found


Rows = Sequence[dict[str, int]]


def page(moments: Rows = (), diary: Rows = (), carried: Rows = ()) -> Pages:
    none = np.zeros(0)
    return Pages(lines(Attempt, diary), lines(Carried, carried), none, lines(Moment, moments), none, none)


def ended(number: int, took: int, what: int = HANDLED, **more: int) -> dict[str, int]:
    return {"number": number, "came": 1_000, "at": 1_000 + took, "what": what, **more}


def found_by(question: Any, *pages: Pages) -> int:
    for each in pages:
        question.look(each)
    number = question.target().number
    assert number is not None
    return int(number)


def test_the_slowest_is_the_first_of_those_that_took_longest() -> None:
    first, second = page([ended(1, 5), ended(2, 9), ended(3, 9)]), page([ended(4, 9), ended(5, 2), ended(6, 50, LOST)])
    assert found_by(Happened("slowest", None, None, ""), first, second) == 2
    assert found_by(Happened("lost", None, None, ""), first, second) == 6
    with pytest.raises(BadInput, match="no event went to a dead letter at q"):
        found_by(Happened("dead-letter", None, None, " at q"), first, second)


@given(st.lists(st.integers(0, 6), min_size=1, max_size=40), st.integers(1, 10))
def test_the_median_is_the_lower_middle_by_time_and_number(took: list[int], each: int) -> None:
    events = [ended(n, t) for n, t in enumerate(took)]
    pages = [page(events[n : n + each]) for n in range(0, len(events), each)]
    expected = sorted((t, n) for n, t in enumerate(took))[(len(took) - 1) // 2]
    assert found_by(Middle(None, None, ""), *pages) == expected[1]


def test_places_are_kept_apart() -> None:
    moments = [ended(1, 9, source=3, unit=0), ended(2, 5, source=4, unit=1), ended(3, 7, source=4, unit=2)]
    assert found_by(Happened("slowest", {4}, None, ""), page(moments)) == 3
    assert found_by(Happened("slowest", {4}, {1}, ""), page(moments)) == 2
    assert found_by(Middle({3}, None, ""), page(moments)) == 1


def test_throttles_are_counted_by_event_and_cold_starts_by_attempt() -> None:
    refused, ran = int(codes.THROTTLED), int(codes.SUCCEEDED)
    diary = [
        {"index": 7, "number": 1, "outcome": refused, "trigger": 0, "unit": 0},
        {"index": 9, "number": 1, "outcome": ran, "cold_ns": 40, "trigger": 0, "unit": 0},
        {"index": 12, "number": 2, "outcome": refused, "trigger": 1, "unit": 1},
        {"index": 13, "number": 2, "outcome": ran, "cold_ns": 90, "trigger": 1, "unit": 1},
    ]
    carried = [
        {"attempt": 7, "number": 1},
        {"attempt": 7, "number": 5},
        {"attempt": 12, "number": 2},
        {"attempt": 12, "number": 5},
    ]
    sources = np.array([3, 4])

    def ask(what: str, at: set[int] | None = None, of: set[int] | None = None) -> int:
        return found_by(ByAttempts(what, at, of, "", sources), page(diary=diary, carried=carried))

    # In both refused batches stood event 5.
    assert (ask("throttled"), ask("throttled", {3}), ask("throttled", None, {1})) == (5, 1, 2)
    assert (ask("coldest"), ask("coldest", {3})) == (2, 1)
