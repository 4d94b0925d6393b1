"""Work done aside, in a process of its own, comes to what it would have come to here."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

import pytest

import echotally
from echotally.errors import BadInput
from echotally.projection.aside import as_they_come, set_aside
from echotally.projection.crew import by_processes
from echotally.projection.loaded import load
from echotally.studies.otherwise import otherwise
from tests.conftest import begun


@pytest.mark.parametrize("cores", [1, 2])
def test_what_is_asked_for_is_what_the_work_came_to_wherever_it_is_done(
    cores: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: cores)
    with set_aside(lambda tell: (os.getpid(), {"cost": 1.25})) as aside:
        where, found = aside.result("work")
        assert found == {"cost": 1.25}
        assert (where == os.getpid()) is (cores == 1)
    assert begun() == []


@pytest.mark.parametrize("end", [signal.SIGKILL, signal.SIGTERM])
def test_work_whose_process_is_ended_is_done_here(end: signal.Signals) -> None:
    here = os.getpid()

    def work(tell):  # type: ignore[no-untyped-def]
        if os.getpid() != here:
            os.kill(os.getpid(), end)
            time.sleep(60)
        return "done"

    with set_aside(work) as aside:
        assert aside.result("work") == "done"


def test_what_fails_there_fails_here_with_its_own_error() -> None:
    def work(tell):  # type: ignore[no-untyped-def]
        raise BadInput("demand is no number")

    with set_aside(work) as aside, pytest.raises(BadInput, match="demand is no number"):
        aside.result("work")


def test_whoever_waits_hears_how_far_it_is_and_an_interruption_is_not_its_own() -> None:
    here, heard = os.getpid(), []

    def work(tell):  # type: ignore[no-untyped-def]
        if os.getpid() != here:
            # As from a terminal, which interrupts both.
            os.kill(os.getpid(), signal.SIGINT)
        if tell:
            tell("months", 0.5)
        time.sleep(0.7)
        return os.getpid()

    with set_aside(work) as aside:
        assert aside.result("other months", lambda what, share: heard.append((what, share))) != here
    assert ("other months", 0.5) in heard


def test_nothing_is_left_of_work_that_nobody_asks_for() -> None:
    began = time.monotonic()
    with pytest.raises(KeyboardInterrupt), set_aside(lambda tell: time.sleep(60)):
        raise KeyboardInterrupt
    assert begun() == [] and time.monotonic() - began < 30


def test_other_months_are_the_same_aside(river: Path) -> None:
    loaded = load(river, [("environments.live.demand", "0.01")])
    result = echotally.project(loaded, plans=["heron.per-run", "heron.shared"])
    with set_aside(lambda tell: otherwise(loaded, result, tell)) as aside:
        found = aside.result("other months")
    assert found == otherwise(loaded, result) and found.seeds == 5
    assert {"cost.total", "left_behind", "wait_p95_s"} <= set(found.figures or {})
    # Of a thousand functions, none of theirs.
    assert not any(name.startswith("functions.") for name in found.figures or {})


def test_it_ends_with_the_process_that_began_it(tmp_path: Path) -> None:
    script = (
        "import os, pathlib, time\n"
        "from echotally.projection.aside import set_aside\n"
        "def work(tell):\n"
        "    pathlib.Path('there').write_text(str(os.getpid()))\n"
        "    time.sleep(300)\n"
        "with set_aside(work):\n"
        "    while not pathlib.Path('there').exists() or not pathlib.Path('there').read_text():\n"
        "        time.sleep(0.01)\n"
        # As an interruption ends the program that is too busy to end by itself.
        "    os._exit(130)\n"
    )
    assert subprocess.run([sys.executable, "-c", script], cwd=tmp_path, check=False).returncode == 130
    status = Path("/proc") / (tmp_path / "there").read_text() / "status"

    def is_there() -> bool:
        try:
            # What has ended may stand in the list until somebody asks for it.
            return "(zombie)" not in status.read_text()
        except OSError:
            return False

    until = time.monotonic() + 30
    while is_there() and time.monotonic() < until:
        time.sleep(0.05)
    assert not is_there()


@pytest.mark.parametrize("cores", [1, 2, 3])
@pytest.mark.parametrize("n", [0, 1, 7])
def test_tasks_of_several_processes_answer_in_their_order(
    cores: int, n: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: cores)

    def task(k: int) -> tuple[int, int]:
        # Nobody goes on before all have come, however long a process takes to begin.
        (tmp_path / str(os.getpid())).touch()
        until = time.monotonic() + 60
        while len(list(tmp_path.iterdir())) < min(cores, n) and time.monotonic() < until:
            time.sleep(0.01)
        return k, os.getpid()

    # Shared memory is a file that stays open, from the first time on.
    by_processes([partial(int, k) for k in range(3)], "tasks")
    before = len(os.listdir("/proc/self/fd"))
    found = by_processes([partial(task, k) for k in range(n)], "tasks")
    assert [k for k, _ in found] == list(range(n))
    # Whoever is free takes the next one.
    assert len({where for _, where in found}) == min(cores, n)
    assert begun() == [] and len(os.listdir("/proc/self/fd")) <= before


def test_more_tasks_than_a_pipe_holds_are_taken_some_at_a_time() -> None:
    assert all_as_they_come([partial(int, n) for n in range(40_001)], "tasks") == list(range(40_001))


def test_how_far_tasks_are_is_told() -> None:
    heard = list[tuple[str, float]]()
    assert by_processes([partial(int, n) for n in range(50)], "tasks", lambda *told: heard.append(told)) == list(
        range(50)
    )
    assert heard == [("tasks", (n + 1) / 50) for n in range(50)]


def all_as_they_come(tasks: Sequence[Callable[[], int]], _: str) -> list[int]:
    """In their order, each of them once."""
    came = list(as_they_come(tasks, 2))
    assert len(came) == len(tasks)
    return [found for _, found in sorted(came)]


def test_tasks_come_as_they_are_done_and_by_processes_beside_this_one() -> None:
    def slow_or_quick(n: int) -> int:
        time.sleep(1.0 if n == 0 else 0.0)
        return os.getpid()

    came = list(as_they_come([partial(slow_or_quick, n) for n in range(6)], 2))
    assert [n for n, _ in came] == [1, 2, 3, 4, 5, 0]
    assert len({where for _, where in came}) == 2 and os.getpid() not in {where for _, where in came}
    assert list(as_they_come([], 2)) == [] and begun() == []


def test_nothing_is_left_of_tasks_whose_answers_nobody_waits_for() -> None:
    coming = as_they_come([partial(time.sleep, 0.2 * n * n) for n in range(20)], 2)
    assert next(coming)[0] == 0 and len(begun()) == 2
    coming.close()
    assert begun() == []


@pytest.mark.parametrize("by_several", [by_processes, all_as_they_come])
def test_tasks_of_a_process_that_was_ended_are_done_here_and_what_fails_fails_here(
    by_several: Callable[[Sequence[Callable[[], int]], str], list[int]],
) -> None:
    here = os.getpid()

    def ends_elsewhere(n: int) -> int:
        if os.getpid() != here:
            os.kill(os.getpid(), signal.SIGKILL)
        time.sleep(0.02)
        return n

    assert by_several([partial(ends_elsewhere, n) for n in range(9)], "tasks") == list(range(9))

    def fails(n: int) -> int:
        if n == 5:
            raise BadInput("no such task")
        time.sleep(0.02)
        return n

    with pytest.raises(BadInput, match="no such task"):
        by_several([partial(fails, n) for n in range(9)], "tasks")
    assert begun() == []
