"""A short share of what ``scripts/nightly`` runs by the hour, and the checked form of the kernels on forged worlds."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from random import Random

import pytest

from echotally.engine import layout
from tests.cli.test_unbreakable import FUNCTION
from tests.conftest import rest_by_night
from tests.fuzzing.forms import differing
from tests.fuzzing.kills import COMMANDS, killed
from tests.fuzzing.making import files_of
from tests.fuzzing.targets import READERS
from tests.fuzzing.workers import run
from tests.small_river import write_small_river

#: Cases of the short share: far from those that the nights go through.
FIRST = 900_000_000


@pytest.mark.parametrize("reader", rest_by_night([*READERS], 6))
def test_hundreds_of_files_of_every_reader_are_read_or_refused(reader: str) -> None:
    found, done = run(reader, FIRST, {"log": 6, "bill": 10, "recurrence": 15, "model": 80, "card": 80}.get(reader, 100))
    assert not found.bad and sum(found.counts.values()) == done
    # Made to be valid: were nearly all refused, only the door would be tested.
    assert found.counts["answered"] > done / 4


def test_estates_made_from_the_types_are_valid_and_played() -> None:
    found, done = run("play", FIRST, 12)
    assert not found.bad and found.counts["refused"] <= done / 10


@pytest.mark.parametrize("case", [6_477, 7_728])
def test_releases_every_few_minutes_are_played_on_plans_that_may_start_very_many_instances(case: int) -> None:
    # Each of them looked through the room for all instances, a million; a minute was not enough for either.
    found, done = run("play", case, 1)
    assert not found.bad and found.counts["answered"] == done == 1


def test_one_case_is_the_same_twice() -> None:
    assert files_of(7) == files_of(7) != files_of(8)


def test_a_crash_is_followed_to_its_case(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """The worker is made to die at one case; the rest goes on behind it."""
    (tmp_path / "sitecustomize.py").write_text(
        "import os, sys\n"
        "if 'tests.fuzzing.workers' in ' '.join(sys.orig_argv):\n"
        "    from tests.fuzzing import targets\n"
        "    whole = targets.samples\n"
        "    targets.TARGETS['samples'] = lambda seed, folder: os.abort() if seed == 5 else whole(seed, folder)\n"
    )
    root = str(Path(__file__).parents[2])
    monkeypatch.setenv("PYTHONPATH", f"{tmp_path}:{root}")
    found, done = run("samples", 0, 12)
    assert [case for case, _ in found.bad] == [5] and done == 12 and found.counts["crashed"] == 1


def test_both_forms_of_the_kernels_give_the_same_bytes() -> None:
    compared, different = differing(FIRST, 10)
    assert different == [] and compared >= 3


@pytest.mark.parametrize("part", range(4))
def test_a_killed_command_leaves_old_files_or_whole_ones(part: int, tmp_path: Path) -> None:
    rng = Random(part)
    for number in range(3):
        folder = tmp_path / str(number)
        write_small_river(folder)
        assert killed(list(COMMANDS)[(part * 3 + number) % len(COMMANDS)], folder, rng, 3.0) == []


FORGED = (
    """
schema = "echotally-model/1"
estate = { name = "forged", month = "2027-02", rate_cards = ["card.toml"] }
"""
    + FUNCTION.format(
        run='"100 ms"',
        more='emits = [{ into = "queues.q" }]\nasks = [{ to = "endpoints.r", each = 1 }]\nerror_rate = 0.1',
    )
    + FUNCTION.format(run='"100 ms"', more="").replace("functions.f", "functions.g")
    + """
[folders.e]
[queues.q]
[streams.s]
partitions = 2
[demand.d]
into = "folders.e"
rate = "1 /min"
[demand.t]
into = "streams.s"
rate = "1 /min"
[endpoints.r]
[demand.r]
into = "endpoints.r"
rate = "1 /min"
[[triggers]]
from = "endpoints.r"
to = "g"
[[triggers]]
from = "folders.e"
to = "f"
[[triggers]]
from = "queues.q"
to = "g"
[[triggers]]
from = "streams.s"
to = "g"
"""
)
PLANS = """
schema = "echotally-rates/1"
card = { name = "test", currency = "EUR" }
[plans.calls]
bills = "runs"
memory = { choices = ["256 MB"] }
vcpu_per_gb = 1
price = { calls = { unit = "1" } }
[plans.polled]
bills = "allocated"
memory = { choices = ["256 MB"] }
vcpu_per_gb = 1
scaling = { kind = "polled", every = "30 s", per_instance = 1, step = 1 }
price = { calls = { unit = "1" } }
[plans.nodes]
bills = "nodes"
memory = { choices = ["256 MB"] }
vcpu_per_gb = 1
node_memory = "2 GB"
node_vcpu = 4
nodes_limit = 3
price = { node_hours = { unit = "1" } }
"""


def test_a_forged_index_of_every_kind_of_record_is_caught(tmp_path: Path) -> None:
    (tmp_path / "model.toml").write_text(FORGED)
    (tmp_path / "card.toml").write_text(PLANS)
    command = [sys.executable, "-m", "tests.engine.forging", str(tmp_path / "model.toml")]
    done = subprocess.run(
        command, capture_output=True, text=True, env={**os.environ, "ECHOTALLY_KERNELS": "checked"}, timeout=240
    )
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)
    # Everything a world holds but the one clock, which has no index.
    assert set(found) == set(layout.World._fields) - {"clock"}
    assert {name: text for name, text in found.items() if f"('{name}')" not in text} == {}
