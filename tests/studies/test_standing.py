"""Which of two months, known by samples, surely ranks behind the other."""

from __future__ import annotations

from decimal import Decimal

import pytest

from echotally.studies.standing import Stood


def stood(misses: int, undecided: int, low: str, high: str) -> Stood:
    return Stood(misses, undecided, Decimal(low), {}, (Decimal(low), Decimal(high)))


@pytest.mark.parametrize(
    ("mine", "other", "expected"),
    [
        # Dearer at the least than the other at the most.
        ((0, 0, "11", "12"), (0, 0, "9", "10"), True),
        ((0, 0, "10", "12"), (0, 0, "9", "10"), False),
        ((0, 0, "9", "10"), (0, 0, "11", "12"), False),
        # Misses what the other may not even perhaps.
        ((1, 0, "1", "2"), (0, 0, "9", "10"), True),
        ((1, 0, "1", "2"), (0, 1, "9", "10"), False),
        ((1, 0, "11", "12"), (0, 1, "9", "10"), True),
        # What misses more may cost less, and the other may turn out to miss as much.
        ((2, 0, "1", "2"), (0, 2, "9", "10"), False),
        ((0, 1, "11", "12"), (1, 0, "9", "10"), False),
        # What is not known says nothing.
        ((0, 0, "0", "Infinity"), (0, 0, "9", "10"), False),
    ],
)
def test_what_samples_leave_open_is_not_said_to_be_behind(mine, other, expected):
    assert stood(*mine).is_surely_behind(stood(*other)) is expected
