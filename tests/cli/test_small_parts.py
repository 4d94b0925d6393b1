"""Mistakes of the command line, and the stand-in platform's log."""

from __future__ import annotations

import platform
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pandas as pd
import pytest

from tests.conftest import run_program


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        ("fit", "no log is given"),
        ("fit nothing.csv", "cannot be read"),
        ("fit river-watch/logs/look.csv --write", "--write needs the model"),
        ("fit river-watch/logs/look.csv --function mill", "no such function in the log"),
        ("fit river-watch/logs/look.csv --column run", "is not OURS=THEIRS"),
        ("fit river-watch/logs/look.csv --timezone Mars", "--timezone"),
        ("fit --trace t.csv --url http://127.0.0.1:9 --query up --from 2027-01-01 --to 2027-01-02", "did not answer"),
        (
            "fit --trace t.csv --url file:///etc/passwd --query up --from 2027-01-01 --to 2027-01-02",
            "not the address of a server",
        ),
        ("fit --trace t.csv --url http://127.0.0.1:9", "needs a query and a time"),
        ("firings river-watch/river.toml --log river-watch/logs/look.csv --schedule x", "no such schedule"),
        ("reconcile river-watch/river.toml river-watch/logs/look.csv", "is a log of runs, and a bill"),
        ("reconcile river-watch/river.toml river-watch/logs/bill.csv --plan x.y", "no such plan on any rate card"),
        ("compare river-watch/river.toml river-watch/river.toml", "is a model, and a saved projection is wanted"),
        ("forecast river-watch/river.toml --months 0", "--months"),
        ("forecast river-watch/river.toml --months 2 --set demand.visitors.repeat=false", "shorter than the month"),
        ("project river-watch/river.toml --chart levels --plot x.bmp", ".png or .svg"),
        ("project river-watch/river.toml --log x.doc", ".csv or .parquet"),
        ("project river-watch/river.toml --format focus -o x.xlsx", "FOCUS rows go into CSV or Parquet"),
        ("report river-watch/river.toml -o nowhere/r.html", "cannot be written"),
    ],
)
def test_a_mistake_gets_one_clear_line_and_leaves_with_two(arguments: str, said: str, stranger: Path) -> None:
    done = run_program(*arguments.split(), cwd=stranger)
    assert done.returncode == 2 and said in done.stderr and "Traceback" not in done.stderr


@pytest.fixture(scope="module")
def stranger(tmp_path_factory: pytest.TempPathFactory) -> Path:
    from tests.small_river import write_small_river

    folder = tmp_path_factory.mktemp("stranger")
    write_small_river(folder / "river-watch")
    return folder


def test_the_log_of_the_stand_in_adds_up_to_the_projection(stranger: Path) -> None:
    from echotally import load, project, run_log

    river = stranger / "river-watch/river.toml"
    log = pd.concat(run_log(load(river), "heron.shared"))
    plan = project(river, plans=["heron.shared"]).played[0]
    for unit in plan.measured.units:
        mine = log[(log["function"] == unit.unit.function) & (log["environment"] == unit.unit.environment)]
        ended = unit.attempts["total"] - unit.attempts["running"]
        assert len(mine) == ended and (mine["outcome"] == "error").sum() == unit.attempts["failed"]
        assert mine["billed_ms"].sum() == pytest.approx(unit.billed_ns / 1e6, rel=1e-9)
        assert (mine["cold_start_ms"] > 0).sum() == unit.cold_calls


@pytest.mark.parametrize("billed", ["true", "false"])
def test_the_log_holds_attempts_that_the_timeout_ended_before_they_ran(write: Callable[..., Path], billed: str) -> None:
    """A cold start of 7 s under a timeout of 5 s that covers it: 5 s of cold start, no run."""
    from echotally.evidence.run_log import run_log
    from echotally.projection.loaded import load

    model = """
[functions.f]
memory = "512 MB"
timeout = "5 s"
run = "1 s"
cold_start = "7 s"
[endpoints.e]
[demand.d]
into = "endpoints.e"
lumps = [{ at = "2027-03-01T00:00", count = 1 }]
[[triggers]]
from = "endpoints.e"
to = "f"
"""
    loaded = load(write(model, keys=f"timeout_covers_cold_start = true\ncold_start_billed = {billed}"))
    row = pd.concat(run_log(loaded, "test.plan")).iloc[0]
    assert (row["outcome"], row["run_ms"], row["cold_start_ms"]) == ("timeout", 0.0, 5_000.0)
    assert row["billed_ms"] == (5_000.0 if billed == "true" else 0.0)


def test_every_value_in_force_is_shown_those_that_depend_on_the_source_too(tmp_path: Path) -> None:
    """Of a trigger on a queue, a queue with a dead letter, a stream and a topic: their readers and their tries (rules 4.2, 4.4)."""
    (tmp_path / "m.toml").write_text(
        """schema = "echotally-model/1"
[estate]
name = "gauges"
month = "2027-03"
timezone = "UTC"
rate_cards = ["c.toml"]
[functions.read]
memory = "256 MB"
run = "10 ms"
[queues.plain]
[queues.parked]
[queues.kept]
dead_letter = "queues.parked"
tries = 4
[streams.levels]
[topics.flood]
"""
        + "".join(
            f'[[triggers]]\nfrom = "{source}"\nto = "read"\n'
            for source in ("queues.plain", "queues.kept", "streams.levels", "topics.flood")
        ),
        encoding="utf-8",
    )
    (tmp_path / "c.toml").write_text(
        """schema = "echotally-rates/1"
[card]
name = "c"
currency = "EUR"
[plans.p]
bills = "runs"
memory = { from = "128 MB", to = "1 GB", step = "64 MB" }
vcpu_per_gb = 1
[plans.p.price]
calls = { unit = "0.01" }
""",
        encoding="utf-8",
    )
    done = run_program("check", "m.toml", "--defaults", cwd=tmp_path)
    shown = dict(line.split(" = ", 1) for line in done.stdout.splitlines() if " = " in line)
    assert {n: (shown.get(f"triggers.{n}.readers"), shown.get(f"triggers.{n}.tries")) for n in range(4)} == {
        0: ("100", "until the retention ends"),
        1: ("100", "4 receipts"),
        2: ("1", "without end"),
        3: (None, "3"),
    }


@pytest.mark.skipif(platform.libc_ver()[0] != "glibc", reason="tunes glibc")
def test_memory_that_is_let_go_goes_back_to_the_system() -> None:
    program = """
import sys, threading
from pathlib import Path
from echotally.cli import room

def resident():
    return int(Path("/proc/self/statm").read_text().split()[1]) * 4 // 1024

def work():
    for _ in range(3):
        taken = []
        for n in range(400):
            taken.append(bytearray(b"x" * 300_000))
            kept.append(bytearray(5_000))
        del taken

kept = []
if sys.argv[1] == "tuned":
    room.set_up()
before = resident()
threads = [threading.Thread(target=work) for _ in range(3)]
[thread.start() for thread in threads]
[thread.join() for thread in threads]
print(resident() - before)
"""

    def grown(how: str) -> int:
        return int(subprocess.run([sys.executable, "-c", program, how], capture_output=True, check=True).stdout)

    # 18 MB are kept; without it, holes of what was between them stay as well. How many there are depends on whether threads
    # happened to work at the same time.
    assert any((tuned := grown("tuned")) < 60 and tuned < grown("left alone") / 2 for _ in range(5))
