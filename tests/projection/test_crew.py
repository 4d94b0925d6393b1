"""Tasks that come of others are all done once, as soon as they are known, whoever does them and whatever becomes of them."""

from __future__ import annotations

import os
import signal
import threading
import time
from collections.abc import Callable
from typing import Any

import pytest

from echotally.errors import BadInput
from echotally.projection import aside
from echotally.projection.crew import Weighed, share_work
from tests.conftest import begun

HERE = os.getpid()


@pytest.fixture(autouse=True)
def nothing_is_left():
    before = set(threading.enumerate())
    yield
    # Some of those before may have ended: a pool of an earlier test waits for more work only so long.
    assert begun() == [] and set(threading.enumerate()) <= before


def shared(first: list[Any], do: Callable[[Any], Any], then: Callable[[Any], list[Any]] = lambda _: []) -> list[Any]:
    """Tasks and what they came to, in the order in which they were heard of."""
    heard: list[Any] = []

    def took(task: Any, result: Any) -> list[Weighed[Any]]:
        heard.append((task, result))
        return [Weighed(1, each) for each in then(task)]

    share_work([Weighed(1, task) for task in first], do, took)
    return heard


def test_where_no_process_can_begin_with_what_this_one_has_all_is_done_here(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: 3)
    monkeypatch.setattr(aside, "CAN_FORK", False)
    heard = shared([1], lambda task: os.getpid(), lambda task: [2 * task, 2 * task + 1] if task < 8 else [])
    assert sorted(heard) == [(n, HERE) for n in range(1, 16)]


@pytest.mark.parametrize("cores", [1, 2, 3])
@pytest.mark.parametrize("depth", [0, 1, 6])
def test_whatever_comes_of_tasks_is_done_once(cores: int, depth: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: cores)
    # A tree of bits: each task brings two, down to this depth.
    heard = shared([""], len, lambda bits: [bits + "0", bits + "1"] if len(bits) < depth else [])
    assert sorted(heard) == sorted(
        (f"{n:b}"[1:], size) for size in range(depth + 1) for n in range(2**size, 2 ** (size + 1))
    )
    assert shared([], len) == []


def test_what_comes_of_a_task_does_not_wait_for_those_begun_before(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: 2)

    def do(task: str) -> int:
        time.sleep(1.5 if task == "long" else 0.0)
        return os.getpid()

    heard = shared(["long", "short"], do, lambda task: ["of short"] if task == "short" else [])
    assert [task for task, _ in heard] == ["short", "of short", "long"]
    assert len({where for _, where in heard}) == 2


def test_most_work_is_begun_first_and_the_share_done_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: 1)
    heard, shares = list[Any](), list[float]()

    def took(task: Any, _: None) -> list[Weighed[Any]]:
        heard.append(task)
        # Tasks that cannot be compared, of as much work, keep their order.
        return [Weighed(3, 0), Weighed(7, {"of": "it"}), Weighed(7, {"and": "that"})] if task == "rule" else []

    share_work([Weighed(1, "small"), Weighed(5, "rule")], lambda task: None, took, shares.append)
    assert heard == ["rule", {"of": "it"}, {"and": "that"}, 0, "small"]
    assert shares == [1 / 5, 2 / 5, 3 / 5, 4 / 5, 1.0]


@pytest.mark.parametrize("cores", [2, 3])
def test_tasks_of_a_process_that_was_ended_are_done_here(cores: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: cores)

    def do(task: int) -> int:
        if os.getpid() != HERE:
            os.kill(os.getpid(), signal.SIGKILL)
        time.sleep(0.02)
        return os.getpid()

    heard = shared([1], do, lambda task: [2 * task, 2 * task + 1] if task < 8 else [])
    assert sorted(heard) == [(n, HERE) for n in range(1, 16)]


@pytest.mark.parametrize("where", ["here", "there", "everywhere"])
def test_what_fails_there_is_done_here_and_what_fails_here_fails(where: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: 2)

    def do(task: int) -> int:
        is_here = os.getpid() == HERE
        time.sleep(0.02)
        if task >= 3 and (is_here if where == "here" else not is_here if where == "there" else True):
            raise BadInput("no such change")
        return task

    if where == "there":
        assert sorted(shared([0, 1, 2, 3, 4], do)) == [(n, n) for n in range(5)]
    else:
        # Of several that are left, this process comes to one of them.
        with pytest.raises(BadInput, match="no such change"):
            shared(list(range(12)), do)


@pytest.mark.parametrize("error", [KeyboardInterrupt, ZeroDivisionError])
def test_whatever_ends_it_nothing_is_left(error: type[BaseException], monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: 3)

    def took(task: int, _: None) -> list[Weighed[int]]:
        # Heard of by whichever thread drives the process that has done it.
        if task == 5:
            raise error
        return []

    began = time.monotonic()
    with pytest.raises(error):
        share_work(
            [Weighed(-n, n) for n in range(9)], lambda n: time.sleep(0.02 if n < 6 or os.getpid() == HERE else 60), took
        )
    assert time.monotonic() - began < 30
