"""Sweeps, drains and load trials against cases worked by hand and closed forms."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import sqlite3
import subprocess
import sys
import time

import pytest

from echotally.errors import BadInput
from echotally.projection.project import project
from echotally.studies.drain import drain
from echotally.studies.load_trial import load_trial
from echotally.studies.sweep import pareto_front, parse_axis, sweep
from tests.conftest import CARD, PRICES, run_program

F = '[functions.f]\nmemory = "512 MB"\nrun = "{run}"\ncold_start = "{cold}"\ncpu_share = 0\n{more}\n'
Q = '[queues.q]\nvisibility = "1 min"\n[demand.d]\ninto = "queues.q"\nrate = "{rate}"\n[[triggers]]\nfrom = "queues.q"\nto = "f"\n'
E = '[endpoints.e]\n[demand.d]\ninto = "endpoints.e"\nrate = "{rate}"\n[[triggers]]\nfrom = "endpoints.e"\nto = "f"\n'


def function(run: str = "1 s", cold: str = "0 ms", more: str = "") -> str:
    return F.format(run=run, cold=cold, more=more)


@pytest.mark.parametrize(
    ("text", "values"),
    [
        ("a.b=1,2 , 5", ("1", "2", "5")),
        ("a.b=1..9:5", ("1", "3", "5", "7", "9")),
        ("a.b=1..100:3:log", ("1", "10", "100")),
        ("a.b=128 MB..1 GB:4:log", ("128 MB", "256 MB", "512 MB", "1024 MB")),
        ("a.b=1 s..2 min:2", ("1 s", "2 min")),
        ("a.b=0.1..0.3:3", ("0.1", "0.2", "0.3")),
    ],
)
def test_an_axis_is_a_list_or_a_range_even_or_logarithmic(text, values):
    assert parse_axis(text).values == values


@pytest.mark.parametrize("text", ["a.b", "a.b=1..5", "a.b=1..5:1", "a.b=x..y:3", "a.b=0..5:3:log", "=1,2"])
def test_what_is_no_axis_is_refused(text):
    with pytest.raises(BadInput):
        parse_axis(text)


def test_the_front_holds_what_nothing_else_beats():
    def row(cost, wait, share, feasible=True):
        return {"cost_total": cost, "wait_p95_s": wait, "throttled_share": share, "feasible": feasible}

    rows = [row(1, 9, 0), row(2, 5, 0), row(3, 5, 0), row(2, 9, 0.1), row(9, 1, 0), row(0, 0, 0, False), row(2, 5, 0)]
    assert pareto_front(rows) == [True, True, False, False, True, False, True]


def test_every_point_of_a_sweep_is_the_projection_of_its_change(write):
    path = write(function() + Q.format(rate="20 /h") + '[targets]\nwait_p95 = "3 s"\n')
    found = sweep(path, ["functions.f.memory=256 MB,1 GB", "functions.f.run=1 s,5 s"], workers=2)
    assert len(found.rows) == 4
    for row in found.rows:
        sets = [(axis.address, row[axis.address]) for axis in found.axes]
        plan = project(path, sets).plans[0]
        assert row["cost_total"] == float(plan.bill.unrounded)
        assert row["meets_targets"] == (not plan.misses)
    assert (found.best["functions.f.memory"], found.best["functions.f.run"]) == ("256 MB", "1 s")


def test_a_refused_value_is_refused_before_anything_is_played(write):
    with pytest.raises(BadInput, match="is not a quantity"):
        sweep(write(function() + Q.format(rate="1 /h")), ["functions.f.memory=1 GB,much"])


SWEEP = ["sweep", "model.toml", "--vary", "functions.f.instance_limit=1..40:40", "--format", "csv", "-o", "out.csv"]


def test_a_killed_sweep_goes_on_and_ends_with_the_same_file(write, tmp_path):
    write(function() + Q.format(rate="6 /min"))
    assert run_program(*SWEEP, "--workers", "1", cwd=tmp_path).returncode == 0
    whole = (tmp_path / "out.csv").read_bytes()
    (tmp_path / "out.csv").unlink()
    command = [sys.executable, "-m", "echotally", *SWEEP, "--store", "points.db", "--workers", "2"]
    for pause in (1.5, 2.5):
        started = subprocess.Popen(
            command, cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
        )
        time.sleep(pause)
        os.killpg(started.pid, signal.SIGKILL)
        started.wait()
    assert subprocess.run(command, cwd=tmp_path, capture_output=True, timeout=120, check=False).returncode == 0
    assert (tmp_path / "out.csv").read_bytes() == whole


def test_a_store_of_another_study_is_refused(write, tmp_path):
    path = write(function() + Q.format(rate="1 /h"))
    vary = ["functions.f.instance_limit=1,2"]
    first = sweep(path, vary, workers=1, store=tmp_path / "s.db")
    assert sweep(path, vary, workers=1, store=tmp_path / "s.db").rows == first.rows
    with pytest.raises(BadInput, match="another study"):
        sweep(path, vary, [("functions.f.run", "2 s")], workers=1, store=tmp_path / "s.db")
    (tmp_path / "bad.db").write_text("no database at all, but text that is long enough to be looked at" * 9)
    with pytest.raises(BadInput, match="is not a store"):
        sweep(path, vary, workers=1, store=tmp_path / "bad.db")


def test_a_drain_under_polled_scaling_is_the_one_worked_by_hand(write):
    # As in test_by_hand: 4 instances from 2 s, 8 from 32 s, the last batches leave at 141 s and end at 142 s.
    keys = 'scaling = { kind = "polled", every = "30 s", per_instance = 16, step = 4 }\nkeep_alive = "5 min"'
    path = write(function("1 s", "2 s") + Q.format(rate="1 /h"), keys=keys)
    (row,) = drain(path, "q", 10_000, [8], batches=[10]).rows
    assert (row.empty_s, row.oldest_s, row.handled, row.peak_instances) == (142.0, 141.0, 10_000, 8)
    assert row.starts_s == (0.0,) * 4 + (30.0,) * 4
    assert row.instances == ((0.0, 4), (30.0, 8), (450.0, 0))
    # 1,000 calls at 0.20 a million, 1,000 s of runs x 0.5 GB at 0.00002.
    assert float(row.cost) == pytest.approx(0.0002 + 0.01, abs=1e-9)


def test_the_backlog_that_can_be_cleared_in_time(write):
    # One instance, a second a message, no cold start: 60 in a minute.
    path = write(function() + Q.format(rate="1 /h"))
    (row,) = drain(path, "q", 10, [1], within_ns=60 * 10**9).rows
    assert (row.empty_s, row.clears) == (10.0, 60)
    # One is handled at the end of each second; instants are those of a sketch's bins, whose width is a hundredth at most.
    assert [n for _, n in row.left] == [*range(10, -1, -1)]
    assert [at for at, _ in row.left] == pytest.approx([*range(11)], rel=0.01)


@pytest.mark.parametrize(
    ("queue", "says"), [("nope", "there is no such queue"), ("lonely", "no function reads this queue")]
)
def test_a_queue_that_cannot_be_drained_is_refused(write, queue, says):
    path = write(function() + Q.format(rate="1 /h") + "[queues.lonely]\nbacklog = 1\n")
    with pytest.raises(BadInput, match=says):
        drain(path, queue, 10)


def test_a_load_trial_of_constant_runs_is_worked_by_hand(write):
    # Four clients, two instances, 1 s a run, waiting allowed: two answers a second; each asks and waits 2 s in all.
    path = write(function() + E.format(rate="1 /h"), keys='wait_limit = "1 h"')
    (row,) = load_trial(path, "f", [4], [2], calls=1_000).rows
    assert (row.calls, row.refused, row.instances.peak, row.concurrency.peak) == (1_000, 0, 2, 2)
    assert row.seconds == 500
    assert (row.latency.p50, row.latency.max) == (2.0, 2.0)
    # 1,000 calls cost 0.0002, their 1,000 s x 0.5 GB x 0.00002 = 0.01: 10.20 a million.
    assert float(row.cost_per_million) == pytest.approx(10.2)


def test_a_load_trial_follows_the_machine_repairman_formula(write):
    # As in test_queueing_theory: 12 clients, 3 instances, think 4 s, run 1 s, both exponential.
    weights = [1.0]
    for n in range(1, 13):
        weights.append(weights[-1] * (12 - n + 1) / 4 / min(n, 3))
    busy = sum(w * min(n, 3) for n, w in enumerate(weights)) / sum(weights)
    from echotally.model.spread import EXPONENTIAL, Spread

    model = function('X"').replace('"X""', '{ mean = "1 s", shape = "exponential" }')
    path = write(model + E.format(rate="1 /h"), keys='wait_limit = "1 h"')
    (row,) = load_trial(path, "f", [12], [3], calls=200_000, warm_up_s=600, think=Spread(EXPONENTIAL, 4e9)).rows
    assert row.calls_per_s == pytest.approx(busy, rel=0.01)
    # Little's law over the loop: clients = throughput x (latency + think).
    assert row.calls_per_s * (row.latency_mean_s + 4) == pytest.approx(12, rel=0.01)


def test_refusals_and_the_limit_that_is_enough(write):
    path = write(function("100 ms") + E.format(rate="1 /h"), keys='wait_limit = "1 h"')
    found = load_trial(path, "f", [1, 8], [1, 8, 20], calls=500)
    assert found.enough == 8
    assert [r.calls_per_s for r in found.rows if r.clients == 8] == pytest.approx([10, 80, 80], rel=0.02)
    refusing = load_trial(write(function() + E.format(rate="1 /h")), "f", [5], [1], calls=100).rows[0]
    assert refusing.refused > 0
    assert refusing.calls == refusing.refused + round(refusing.calls_per_s * refusing.seconds)


def test_the_program_answers_in_the_forms_of_the_design(river, tmp_path):
    done = run_program("drain", str(river), "--queue", "sms", "--backlog", "500", "--limit", "2", "--plan", "heron.shared",
                       "--format", "json", "--plot", "d.png", cwd=tmp_path)  # fmt: skip
    row = json.loads(done.stdout)["rows"][0]
    assert {"plan", "limit", "batch", "empty_s", "oldest_s", "handled", "expired", "dead_lettered", "peak_instances", "starts_s",
            "instances", "cost"} <= set(row)  # fmt: skip
    done = run_program("load", str(river), "--function", "map", "--clients", "1,5", "--plan", "heron.per-run", "--format", "json",
                       "--plot", "l.svg", cwd=tmp_path)  # fmt: skip
    row = json.loads(done.stdout)["rows"][0]
    assert {"clients", "limit", "calls", "seconds", "calls_per_s", "refused", "refused_share", "latency_ms", "instances",
            "concurrency", "cost_per_million"} <= set(row)  # fmt: skip
    done = run_program("sweep", str(river), "--vary", "functions.map.instance_limit=4,12", "--plan", "heron.per-run", "--plot",
                       "s.png", "--format", "json", cwd=tmp_path)  # fmt: skip
    assert len(json.loads(done.stdout)["rows"]) == 2
    assert (tmp_path / "d.png").read_bytes()[:4] == b"\x89PNG" == (tmp_path / "s.png").read_bytes()[:4]
    assert (tmp_path / "l.svg").read_text().startswith("<?xml")


def test_pareto_ignores_plans_that_cannot_be_used(write):
    card = CARD.format(keys='timeout_limit = "1 s"', prices=PRICES)
    found = sweep(write(function() + Q.format(rate="1 /h"), card=card), ["functions.f.timeout=1 s,2 s"], workers=1)
    assert [row["feasible"] for row in found.rows] == [True, False]
    assert [row["front"] for row in found.rows] == [True, False]


def test_an_interrupted_sweep_says_what_was_kept_and_how_to_go_on(write, tmp_path):
    write(function() + Q.format(rate="6 /min"))
    # So many points that none is too quick to be caught, whatever else the machine does.
    many = ["--vary", "functions.f.run=1 s,2 s,3 s,4 s,5 s,6 s,7 s,8 s,9 s,10 s"]
    command = [sys.executable, "-m", "echotally", *SWEEP, *many, "--store", "points.db", "--workers", "1"]
    started = subprocess.Popen(
        command,
        cwd=tmp_path,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
        # Tests started in the background of a shell ignore it, and so would what they start.
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # noqa: PLW1509 - no thread of ours runs here
    )
    try:
        for _ in range(600):
            if _points(tmp_path / "points.db") > 0:
                break
            time.sleep(0.05)
        started.send_signal(signal.SIGINT)
        _, told = started.communicate(timeout=30)
    finally:
        started.kill()
        started.communicate()
    kept = _points(tmp_path / "points.db")
    assert started.returncode == 130 and kept > 0
    assert f"Interrupted; {kept} point(s) are kept in points.db, and the same command goes on from there." in told


def _points(path):
    """How many points a store has, 0 while it is not there."""
    try:
        with contextlib.closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as database:
            return database.execute("SELECT count(*) FROM point").fetchone()[0]
    except sqlite3.Error:
        return 0
