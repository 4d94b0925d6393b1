"""Small parts of ``measure``: what is handed over, when it is enough, how an empty program is found."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from pathlib import Path

import pytest
from msgspec.structs import replace

from echotally.evidence.measure import bench, machine, requesting, trying
from echotally.evidence.measure.bench import Child
from tests.evidence.test_measure import a_try


def test_events_are_handed_over_again_and_again_in_their_order() -> None:
    asked = trying.Asked([1, {"level": 2}, "three"])
    assert [json.loads(asked.text(1)) for _ in range(4)] == [1, {"level": 2}, "three", 1]
    assert json.loads(asked.text(2)) == [{"level": 2}, "three"]


def test_batches_are_arrays_also_of_one_and_without_events_each_has_its_number() -> None:
    asked = trying.Asked(batches=(1, 3), whole=True)
    assert [json.loads(asked.text(size)) for size in (1, 3)] == [
        [{"number": 1}],
        [{"number": 2}, {"number": 3}, {"number": 4}],
    ]
    assert json.loads(trying.Asked().text(1)) == {"number": 1}


@pytest.mark.parametrize(
    ("times", "share", "enough"),
    [([0.1] * 3, 0.01, True), ([0.1] * 2, 0.01, False), ([0.1, 0.2] * 10, 0.02, False), ([0.1, 0.2] * 2_000, 0.02, True)],
)  # fmt: skip
def test_runs_are_enough_once_their_mean_is_narrow(times: list[float], share: float, enough: bool) -> None:
    assert trying._narrow([times], share) is enough
    # Of several batch sizes the widest decides.
    assert trying._narrow([times, [1.0] * 9], share) is enough and not trying._narrow([], share)


@pytest.mark.parametrize(
    ("command", "empty"),
    [
        (["python3.11", "answer.py"], ["python3.11", "-c", ""]),
        (["/usr/bin/sh", "-c", "sleep 1"], ["/usr/bin/sh", "-c", ":"]),
        (["./watch", "now"], ["true"]),
        (["python"], ["true"]),
        ([], ["true"]),
    ],
)  # fmt: skip
def test_the_empty_program_is_one_of_the_interpreter(command: list[str], empty: list[str]) -> None:
    assert machine._does_nothing(command) == empty


def test_a_machine_is_busy_above_a_load_and_never_where_it_tells_none() -> None:
    here = a_try([0.1]).machine
    assert [replace(here, load=load).busy for load in (None, 0.3, 1.2, 1.21)] == [False, False, False, True]


@pytest.mark.skipif(sys.platform != "linux", reason="descendants are read from /proc")
def test_a_line_is_counted_when_it_is_whole() -> None:
    child = Child(["cat"], None)
    child._count(b"ab\ncd", 1.0)
    child._count(b"ef\n\n", 2.0)
    assert child.lines == [(1.0, 2), (2.0, 4), (2.0, 0)]
    child.keeps_open = False
    child._shut()
    assert child.finish()["signal"] in (None, 9)


@pytest.mark.skipif(sys.platform != "linux", reason="descendants are read from /proc")
def test_only_what_the_program_started_is_ended() -> None:
    with subprocess.Popen(["sleep", "60"]) as before:
        child = Child(["sh", "-c", "sleep 60 & sleep 60 & wait"], b"")
        while len(theirs := bench._tree(child.pid)) < 3:
            time.sleep(0.01)
        child.finish()
        spared = before.poll() is None
        before.kill()
    assert spared
    # What was ended has no command line any more; on a busy machine that takes a moment.
    for _ in range(500):
        if not any(_running(pid) for pid in theirs):
            break
        time.sleep(0.01)
    assert [pid for pid in theirs if _running(pid)] == []


def _running(pid: int) -> bool:
    try:
        return bool(Path(f"/proc/{pid}/cmdline").read_bytes())
    except OSError:
        return False


@pytest.mark.parametrize(
    ("url", "target"), [("http://h:1", "/"), ("http://h/a/b", "/a/b"), ("http://h/a?x=1&y=2", "/a?x=1&y=2")]
)  # fmt: skip
def test_what_is_asked_for_at_an_address(url: str, target: str) -> None:
    assert requesting._target(url) == target
