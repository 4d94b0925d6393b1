"""Several months side by side on threads."""

from __future__ import annotations

import sys
import threading
import time
from pathlib import Path

import pytest

from echotally.errors import BadInput, Stopped
from echotally.projection import project, threads
from echotally.projection.loaded import load
from echotally.projection.project import project_loaded
from echotally.projection.threads import shared_out, side_by_side
from echotally.rates.card import Plan


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


@pytest.mark.parametrize(
    ("units", "months", "workers", "room", "expected"),
    [
        # Small ones: as many as there are cores, and what is left of them for parts.
        (12, 7, 4, False, (4, 1)),
        (12, 2, 8, True, (8, 4)),
        (12, 0, 2, False, (2, 2)),
        # Of many functions as many months as memory allows.
        (1_000, 7, 2, True, (2, 1)),
        (1_000, 7, 8, True, (2, 4)),
        (1_000, 7, 8, False, (1, 8)),
        (1_000, 1, 8, True, (1, 8)),
        (1_300, 7, 2, True, (1, 2)),
        (50_000, 7, 4, True, (1, 4)),
    ],
)
def test_many_functions_are_played_at_once_as_far_as_memory_goes(
    units: int, months: int, workers: int, room: bool, expected: tuple[int | None, int]
) -> None:
    assert shared_out(units, months, workers, room=room) == expected


def test_plans_of_many_functions_come_in_their_order_with_what_they_came_to_and_progress_never_goes_back(
    river: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    loaded, heard = load(river, [("environments.live.demand", "0.02")]), list[float]()
    expected = project_loaded(loaded, [], workers=1)
    monkeypatch.setattr(threads, "MANY", 1)
    monkeypatch.setattr(project, "MANY", 1)
    played, begun = project.project_plan, list[Plan]()

    def tells(*asked):  # type: ignore[no-untyped-def]
        begun.append(asked[1].plan)
        for share in (0.25, 1.0):
            asked[3](share)
        return played(*asked)

    monkeypatch.setattr(project, "project_plan", tells)
    found = project_loaded(loaded, [], None, lambda _, share: heard.append(share), None)
    assert found.to_frame().equals(expected.to_frame())
    assert [p.offer.name for p in found.plans] == [p.offer.name for p in expected.plans]
    # A share is told of all of them.
    assert heard == sorted(heard) and 0 < heard[0] < 0.5 < heard[-1] <= 1

    # First those of which all share the nodes, then those whose functions share their start tokens.
    begun.clear()
    project_loaded(loaded, [], workers=1)
    nodes, tokens = ([n for n, plan in enumerate(begun) if its(plan)] for its in (has_nodes, shares_tokens))
    assert nodes == [0] and tokens and tokens == list(range(1, len(tokens) + 1)) and len(begun) > len(tokens) + 1


def has_nodes(plan: Plan) -> bool:
    return plan.bills == "nodes"


def shares_tokens(plan: Plan) -> bool:
    return plan.scaling.scope == "account" and not has_nodes(plan)


def test_threads_take_short_turns_while_they_play():
    before = sys.getswitchinterval()
    found = side_by_side({"a": lambda tell: sys.getswitchinterval(), "b": lambda tell: sys.getswitchinterval()})
    assert max(found) < before / 10 and sys.getswitchinterval() == before
    with pytest.raises(ZeroDivisionError):
        side_by_side({"a": lambda tell: 1 / 0})
    assert sys.getswitchinterval() == before
    # Of two callers at once the first to begin is done first, while the other still plays.
    begun, done = threading.Event(), threading.Event()
    other = threading.Thread(target=lambda: side_by_side({"c": lambda tell: begun.set() or done.wait(10)}))

    def first(tell):
        other.start()
        return begun.wait(10)

    assert side_by_side({"a": first}) == [True] and sys.getswitchinterval() < before / 10
    done.set()
    other.join()
    assert sys.getswitchinterval() == before
