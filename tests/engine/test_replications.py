"""Replications and their intervals, the hourly series, plans without pins."""

from __future__ import annotations

import csv
import json
import math

from echotally.projection.loaded import load
from echotally.projection.project import project_loaded
from echotally.projection.replicate import replicate, replication_seeds
from echotally.projection.tables import series_frame
from tests.conftest import run_program
from tests.engine.test_sampling import MODEL


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
    write(MODEL.replace('"3 /s"', '"3 /min"'))
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
