"""Studies played on the workers of a Dask cluster: the answer is the one this machine gives, from files that are sent along."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
from distributed import Client, LocalCluster

from echotally.engine.apart import spread
from echotally.engine.machines import cluster as reached
from echotally.errors import BadInput, Stopped
from echotally.projection.project import project
from echotally.projection.replicate import replicate
from echotally.studies.choose import choose
from echotally.studies.crossover import crossover
from echotally.studies.forecast import forecast
from echotally.studies.sweep import sweep
from tests import conftest
from tests.conftest import run_program
from tests.engine.test_apart import estate as parted_estate
from tests.engine.test_apart import plain
from tests.studies.test_studies import Q, function

#: Two plans, one cheaper for little and one for much, and a demand that is not known: every study has something to find.
FLAT = """
[plans.flat]
bills = "reserved"
memory = { from = "128 MB", to = "8 GB", step = "64 MB" }
instances = 2
instance_memory = "16 GB"
instance_vcpu = 16
[plans.flat.price]
reserved_hours = { unit = "0.0003" }
"""
CARD = conftest.CARD.format(keys="", prices=conftest.PRICES) + FLAT
VARY = ["functions.f.instance_limit=1..6:6"]


@pytest.fixture(scope="module")
def workers() -> Iterator[str]:
    """The scheduler's address of a cluster of two processes of one thread each."""
    with LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=":0") as found:
        yield found.scheduler_address


@pytest.fixture
def mortal() -> Iterator[str]:
    """The same, of one test that lets workers die: now and then one of those is not started again."""
    found = LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=":0")
    try:
        yield found.scheduler_address
    finally:
        # Closing fails where one is just being started again, which says nothing of the test.
        with suppress(Exception):
            found.close(timeout=30)


@pytest.fixture
def estate(write: Any, tmp_path: Path) -> Path:
    """An estate that reads a file of samples, and whose demand grows and is uncertain."""
    (tmp_path / "runs.csv").write_text("ms\n" + "\n".join(str(n * 37 % 900 + 20) for n in range(60)))
    text = function().replace('run = "1 s"', 'run = { samples = "runs.csv" }') + Q.format(rate="1 /min")
    # Growth and range are what a forecast is of.
    text = text.replace('rate = "1 /min"', 'rate = "1 /min"\ngrowth = 0.05\nrange = { low = 0.8, high = 1.3 }')
    path: Path = write(text, card=CARD)
    return path


def _blind_to(address: str, folder: Path) -> None:
    """The workers stand elsewhere, and see nothing of the folder."""
    with Client(address) as client:
        client.run(os.chdir, "/")
        client.run(_blind, str(folder))


def test_every_study_gives_the_same_from_files_it_is_sent(estate: Path, tmp_path: Path, workers: str) -> None:
    _blind_to(workers, tmp_path)
    here, there = sweep(estate, VARY, workers=1), sweep(estate, VARY, cluster=workers)
    assert there.rows == here.rows
    files = [found.to_frame().to_csv(index=False).encode() for found in (here, there)]
    assert files[0] == files[1]
    lines = [crossover(estate, 0.5, 8, workers=1), crossover(estate, 0.5, 8, cluster=workers)]
    assert len(lines[0].crossings) == 1
    assert (lines[0].rows, lines[0].crossings, lines[0].changes) == (
        lines[1].rows,
        lines[1].crossings,
        lines[1].changes,
    )
    ahead = [forecast(estate, 3, 50), forecast(estate, 3, 50, cluster=workers)]
    assert ahead[0] == ahead[1]
    again = [replicate(estate, 5, workers=1), replicate(estate, 5, cluster=workers)]
    assert (again[0].figures, again[0].picks, again[0].seeds) == (again[1].figures, again[1].picks, again[1].seeds)
    picks = [choose(estate), choose(estate, cluster=workers)]
    assert (picks[0].sets, picks[0].chosen.bill, picks[0].played) == (
        picks[1].sets,
        picks[1].chosen.bill,
        picks[1].played,
    )


@pytest.mark.parametrize(
    "line",
    [
        ("sweep", "--vary", VARY[0]),
        ("crossover", "--scale", "0.5..2"),
        ("forecast", "--months", "2", "--draws", "20"),
        ("choose",),
        ("project",),
        ("project", "--replications", "3"),
        ("project", "--sampled-from", "0"),
    ],
    ids=" ".join,
)
def test_the_program_says_the_same_with_a_cluster(
    estate: Path, tmp_path: Path, workers: str, line: tuple[str, ...]
) -> None:
    command, *more = line
    said = [
        run_program(command, str(estate), *more, "--format", "json", *where, cwd=tmp_path)
        for where in ((), ("--cluster", workers))
    ]
    assert [done.returncode for done in said] == [0, 0], said[1].stderr
    assert json.loads(said[0].stdout) == json.loads(said[1].stdout)


def test_a_worker_that_dies_loses_nothing(estate: Path, tmp_path: Path, mortal: str) -> None:
    here = sweep(estate, VARY, workers=1)
    died = tmp_path / "died"
    with Client(mortal) as client:
        client.run(_dies_once, str(died), "echotally.studies.jobs", "_solved")
    there = sweep(estate, VARY, cluster=mortal)
    assert died.exists() and there.rows == here.rows


def test_the_parts_of_a_month_are_played_by_workers_that_may_die(
    write: Any, tmp_path: Path, mortal: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = write(parted_estate(5, "two"), keys="concurrency_limit = 500")
    monkeypatch.setattr("echotally.engine.apart.month._MANY", 1)
    monkeypatch.setattr("echotally.engine.apart.month._EACH", -1)
    monkeypatch.setattr("echotally.engine.apart.spread._AT_ONCE", 2_000)
    came: list[bool] = []

    def noted(*asked: Any) -> Any:
        found = spread.spread_out(*asked)
        came.append(found is not None)
        return found

    monkeypatch.setattr("echotally.engine.apart.month.spread_out", noted)
    here, there = project(path), project(path, cluster=mortal)
    assert plain(there.played[0].measured) == plain(here.played[0].measured)
    assert there.played[0].bill == here.played[0].bill and came == [True]
    died = tmp_path / "died"
    with Client(mortal) as client:
        client.run(_dies_once, str(died), "echotally.engine.apart.spread", "_moved")
    again = project(path, cluster=mortal)
    assert died.exists() and plain(again.played[0].measured) == plain(here.played[0].measured)


def test_work_that_kills_every_worker_is_named_and_not_tried_for_ever(mortal: str) -> None:
    with reached(mortal) as places, pytest.raises(BadInput, match="workers in turn died of the same work"):
        places.run(None, os._exit, 1)


def test_waiting_for_a_cluster_can_be_stopped(workers: str) -> None:
    def stopped(_: float) -> None:
        raise Stopped("interrupted")

    with reached(workers) as places, pytest.raises(Stopped):
        places.run(stopped, _sleeps)


def test_what_is_no_cluster_for_us_is_named(estate: Path, workers: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("echotally.engine.machines._GREETING_S", 1)
    with pytest.raises(BadInput, match="no Dask scheduler answers there"):
        forecast(estate, 2, 10, cluster="tcp://127.0.0.1:9")
    monkeypatch.setattr("echotally.engine.machines._version", _of_another_version)
    with pytest.raises(BadInput, match="of another version"):
        forecast(estate, 2, 10, cluster=workers)
    monkeypatch.undo()
    monkeypatch.setattr(Client, "wait_for_workers", _waits_in_vain)
    with pytest.raises(BadInput, match="has no worker"):
        choose(estate, cluster=workers)


def _waits_in_vain(*_: Any, **__: Any) -> None:
    raise TimeoutError


def _of_another_version() -> str:
    """What this process and a worker say of themselves, which differs."""
    return str(os.getpid())


def _sleeps() -> None:
    import time

    time.sleep(2)


def _dies_once(note: str, module: str, name: str) -> None:
    """Let this process die the first time that any process calls a function."""
    from importlib import import_module

    place = import_module(module)
    real: Any = getattr(place, name)

    def dies(*arguments: Any, **words: Any) -> Any:
        try:
            os.close(os.open(note, os.O_CREAT | os.O_EXCL))
        except FileExistsError:
            return real(*arguments, **words)
        os._exit(1)

    setattr(place, name, dies)


def _blind(folder: str) -> None:
    """Let every look into a folder fail in this process."""
    import sys

    def refused(event: str, args: tuple[object, ...]) -> None:
        if event == "open" and str(args[0]).startswith(folder):
            raise FileNotFoundError(str(args[0]))

    sys.addaudithook(refused)
