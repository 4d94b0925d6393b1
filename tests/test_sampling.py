"""The sampled month against the exact one, replications, the hourly series."""

from __future__ import annotations

import csv
import json
import math

import pytest

from echotally.engine import sampling
from echotally.projection.figures import figures, series_frame
from echotally.projection.placement import load
from echotally.projection.project import project_loaded, project_plan
from echotally.projection.replicate import replicate, replication_seeds
from tests.conftest import run_program

MODEL = """
[functions.f]
memory = "512 MB"
run = { median = "120 ms", p95 = "400 ms" }
cpu_share = 0
instance_limit = 4
[functions.nightly]
memory = "256 MB"
run = "5 s"
[functions.later]
memory = "256 MB"
run = "50 ms"
[endpoints.e]
[queues.q]
[schedules.s]
cron = "0 2 * * *"
[demand.d]
into = "endpoints.e"
rate = "3 /s"
day_shape = [1, 1, 1, 1, 1, 1, 2, 3, 4, 4, 4, 4, 4, 4, 4, 4, 4, 4, 4, 3, 2, 2, 1, 1]
surges = [{ at = "2027-03-09T10:00", lasts = "2 h", times = 3 }]
[demand.l]
into = "queues.q"
lumps = [{ at = "2027-03-20T06:30", count = 5_000 }]
[[triggers]]
from = "endpoints.e"
to = "f"
[[triggers]]
from = "schedules.s"
to = "nightly"
[[triggers]]
from = "queues.q"
to = "later"
"""


@pytest.fixture
def both(write, monkeypatch):
    """The month exactly, and sampled as if it were large."""
    loaded = load(write(MODEL, keys="keep_alive = '2 min'"))
    offer = loaded.offers["test.plan"]
    exact = project_plan(loaded, offer, 1)
    monkeypatch.setattr(sampling, "SAMPLED_FROM", 0)
    return exact, project_plan(loaded, offer, 1)


def test_the_sampled_month_is_close_to_the_exact_one_and_says_how_close(both):
    exact, sampled = both
    assert (exact.method, sampled.method) == ("exact", "sampled")
    assert float(sampled.bill.unrounded) == pytest.approx(float(exact.bill.unrounded), rel=0.01)
    a, b = figures(exact), figures(sampled)
    assert b["throttled_share"] == pytest.approx(a["throttled_share"], abs=0.001)
    assert b["concurrency.mean"] == pytest.approx(a["concurrency.mean"], rel=0.01)
    low, high = sampled.confidence.cost
    assert low < float(sampled.bill.unrounded) < high
    assert (high - low) / low < 0.03


def test_schedules_and_lumps_are_played_in_full(both):
    _, sampled = both
    units = {u.unit.function: u for u in sampled.measured.units}
    assert units["nightly"].events["succeeded"] == 31
    assert units["later"].events["in"] == 5_000
    assert units["nightly"].concurrency.mean == pytest.approx(31 * 5.4 / (744 * 3_600), rel=0.05)


def test_the_sums_of_a_sampled_month_hold(both):
    for unit in both[1].measured.units:
        a = unit.attempts
        assert a["total"] == a["succeeded"] + a["failed"] + a["timed_out"] + a["throttled"] + a["running"]
        assert unit.events["in"] == sum(n for name, n in unit.events.items() if name != "in")


def test_a_sampled_backlog_that_grows_is_said(write, monkeypatch):
    monkeypatch.setattr(sampling, "SAMPLED_FROM", 0)
    text = MODEL.replace('run = "50 ms"', 'run = "1 s"\ninstance_limit = 1').replace(
        "lumps = [{ at", 'rate = "3 /s" # [{ at'
    )
    loaded = load(write(text))
    plan = project_plan(loaded, loaded.offers["test.plan"], 1)
    later = next(u for u in plan.measured.units if u.unit.function == "later")
    # Three a second come, one is handled.
    assert later.events["unfinished"] == pytest.approx(2 * 744 * 3_600, rel=0.02)
    assert any(name == "later" and "--exact" in text for name, text in plan.hints)


def test_a_month_of_billions_is_sampled_by_itself_and_exact_can_be_asked_for(write):
    loaded = load(write(MODEL), [("demand.d.rate", "1000 /s")])
    assert sampling.wants_sampling(loaded.month)
    assert not sampling.wants_sampling(load(write(MODEL)).month)


def test_replications_give_intervals_that_hold_the_truth_whatever_the_workers(write):
    # Events of a month are Poisson with a known mean; its 95 % interval over eight replications holds it here.
    loaded = load(write(MODEL.replace("rate =", "monthly = 50_000 #")))
    one, two = replicate(loaded, 8, workers=1), replicate(loaded, 8, workers=2)
    assert one.figures == two.figures
    assert one.seeds == tuple(replication_seeds(1, 8))
    found = one.figures["test.plan"]["functions.f.live.attempts.total"]
    surge = 50_000 * 2 * 2 * (4 / (64 / 24)) / 744
    assert found.low < 50_000 + surge < found.high
    spread = math.sqrt(50_000 / 8) * 2.4
    assert (found.high - found.low) / 2 < 3 * spread


def test_further_replications_leave_the_first_ones_as_they_are():
    assert replication_seeds(7, 9)[:4] == replication_seeds(7, 4)


def test_the_hourly_series_adds_up_to_the_month(write):
    loaded = load(write(MODEL))
    projection = project_loaded(loaded, [])
    frame = series_frame(projection)
    assert len(frame) == 3 * 744
    unit = projection.plans[0].measured.units[0]
    own = frame[frame["function"] == "f"]
    assert own["arrivals"].sum() == unit.events["in"]
    assert own["throttled"].sum() == unit.attempts["throttled"]
    assert own["concurrency_peak"].max() == unit.concurrency.peak
    assert own["instances_peak"].max() == unit.instances.peak


def test_the_program_writes_series_as_csv_and_parquet_and_replications_as_json(write, tmp_path):
    write(MODEL)
    for name in ("s.csv", "s.parquet"):
        assert run_program("project", "model.toml", "--series", name, cwd=tmp_path).returncode == 0
    with (tmp_path / "s.csv").open() as file:
        rows = list(csv.DictReader(file))
    assert rows[0]["hour"] == "2027-03-01T00:00:00+00:00"
    import duckdb

    assert duckdb.sql(f"select count(*) from '{tmp_path / 's.parquet'}'").fetchall() == [(len(rows),)]
    assert run_program("project", "model.toml", "--series", "s.xls", cwd=tmp_path).returncode == 2
    done = run_program("project", "model.toml", "--replications", "3", "--format", "json", cwd=tmp_path)
    data = json.loads(done.stdout)["replications"]
    assert (data["n"], data["level"], len(data["seeds"])) == (3, 0.95, 3)
    shown = run_program("project", "model.toml", "--replications", "3", cwd=tmp_path).stdout
    assert "picked test.plan in 3 of 3 replications" in shown


def test_unpinned_ignores_the_pins(river):
    pinned = load(river, [("functions.charts.plan", "osier.fixed")])
    free = project_loaded(pinned.unpinned(), ["heron.per-run"])
    assert {u.unit.offer.name for u in free.plans[0].measured.units} == {"heron.per-run"}
