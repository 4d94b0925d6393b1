"""Work done aside, in a process of its own, comes to what it would have come to here."""

from __future__ import annotations

import multiprocessing
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

import echotally
from echotally.errors import BadInput
from echotally.projection.aside import set_aside
from echotally.projection.loaded import load
from echotally.studies.otherwise import otherwise


@pytest.mark.parametrize("cores", [1, 2])
def test_what_is_asked_for_is_what_the_work_came_to_wherever_it_is_done(
    cores: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: cores)
    with set_aside(lambda tell: (os.getpid(), {"cost": 1.25})) as aside:
        where, found = aside.result("work")
        assert found == {"cost": 1.25}
        assert (where == os.getpid()) is (cores == 1)
    assert multiprocessing.active_children() == []


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
    assert multiprocessing.active_children() == [] and time.monotonic() - began < 30


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
