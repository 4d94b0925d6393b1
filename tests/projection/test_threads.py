"""Several months side by side on threads."""

from __future__ import annotations

import time

import pytest

from echotally.errors import BadInput, Stopped
from echotally.projection.threads import side_by_side


@pytest.mark.parametrize("workers", [1, 2, 5])
def test_tasks_answer_in_their_order_whatever_the_threads(workers: int) -> None:
    def slow(n: int):  # type: ignore[no-untyped-def]
        def task(tell):  # type: ignore[no-untyped-def]
            time.sleep(0.02 * (5 - n))
            tell(1.0)
            return n

        return task

    assert side_by_side({str(n): slow(n) for n in range(5)}, None, workers) == list(range(5))


def test_one_failure_stops_the_others_and_comes_out() -> None:
    told: list[float] = []

    def fails(tell):  # type: ignore[no-untyped-def]
        time.sleep(0.05)
        raise BadInput("no")

    def goes_on(tell):  # type: ignore[no-untyped-def]
        try:
            for n in range(1_000):
                time.sleep(0.005)
                tell(n / 1_000)
                told.append(n)
        except Stopped:
            told.append(-1)
            raise

    with pytest.raises(BadInput, match="no"):
        side_by_side({"long": goes_on, "bad": fails}, None, 2)
    time.sleep(0.1)
    assert told[-1] == -1 and len(told) < 900


def test_progress_is_the_mean_of_the_tasks() -> None:
    heard: list[tuple[str, float]] = []

    def task(tell):  # type: ignore[no-untyped-def]
        tell(0.5)

    side_by_side({"a": task, "b": task}, lambda what, done: heard.append((what, done)), 1)
    assert heard == [("2 plans", 0.25), ("2 plans", 0.5)]
