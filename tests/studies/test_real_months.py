"""Studies of real months: warm hours that are chosen, jobs that grow into their timeout, what callers see, sampled trouble."""

from __future__ import annotations

import json

import pytest

from echotally.engine.sampling import expected_events
from echotally.projection.loaded import load, placement_on
from echotally.projection.project import project
from echotally.studies.choose import choose
from echotally.studies.forecast import forecast
from echotally.studies.load_trial import load_trial
from echotally.studies.warm_hours import _shortest
from tests.conftest import run_program, unit
from tests.engine.test_by_hand import function, source
from tests.engine.test_trouble_by_hand import ANSWER, asking

IDLE = 'calls = { unit = "0.0001" }\nidle_gb_seconds = { unit = "0.001" }'
DAY = "day_shape = [0,0,0,0,0,0,0,0,1,1,1,1,1,1,1,1,1,1,0,0,0,0,0,0]"


def by_day(more: str) -> str:
    """Requests from 08:00 to 18:00; a cold one takes 3 s."""
    demand = f'[demand.d]\ninto = "endpoints.e"\nrate = "4 /min"\n{DAY}\n'
    trigger = '[[triggers]]\nfrom = "endpoints.e"\nto = "f"\n'
    return function("100 ms", "3 s", more) + f"[endpoints.e]\n{demand}{trigger}"


def test_hours_are_proposed_where_they_are_cheaper_than_all_day_and_keep_the_target(write):
    model = by_day("instance_floor = 2")
    path = write(model + '[targets]\nlatency_p95 = "1 s"\n', prices=IDLE)
    found = choose(path)
    sets = dict(found.sets)
    assert sets["functions.f.instance_floor"] == "0"
    assert (
        sets["functions.f.instance_floors"] == '[{ cron = "0 8 * * *", floor = 2 }, { cron = "0 18 * * *", floor = 0 }]'
    )
    assert not found.chosen.misses
    # Half a GB of two instances, 14 of 24 hours less: what is left is 10/24.
    assert float(found.chosen.bill.unrounded) == pytest.approx(float(found.today.bill.unrounded) * 10 / 24, rel=0.02)


def test_without_a_target_nobody_can_say_what_a_floor_is_for(write):
    found = choose(write(by_day("instance_floor = 2"), prices=IDLE))
    assert not any("floor" in address for address, _ in found.sets)


@pytest.mark.parametrize(
    ("busy", "stretch"),
    [([8, 9, 17], (8, 18)), ([22, 23, 0, 3], (22, 4)), (list(range(24)), None), ([], None), ([5], (5, 6))],
)
def test_the_shortest_stretch_of_a_day_may_go_around_midnight(busy, stretch):
    assert _shortest(sorted(busy)) == stretch


def test_a_forecast_names_the_month_in_which_a_growing_job_meets_its_timeout_and_loses_events(write):
    # 100 items of 1 s, a tenth more each month: 110, 121, 133, 146 s ...; the timeout is 2 min, so the third month is the first.
    schedule = '[schedules.s]\ncron = "0 3 1 * *"\nitems = 100\nitems_growth = 0.1\n[[triggers]]\nfrom = "schedules.s"\nto = "f"\n'
    model = function("0 s", more='per_item = "1 s"').replace('"1 min"', '"2 min"') + schedule
    found = forecast(write(model), 5, 10)
    crossed = {c.what: c.month for c in found.plans[0].crossed}
    assert crossed == {"f is first cut by its timeout": "2027-05", "events of f are first lost": "2027-05"}


def test_a_load_trial_of_a_function_that_asks_waits_for_the_answers(write):
    # One client: 1 s of its own and 2 s of the answer.
    found = load_trial(write(asking('{ to = "endpoints.p" }')), "f", [1], calls=20)
    row = found.rows[0]
    assert row.latency.p50 == pytest.approx(3.0, rel=0.005) and row.cold_share == 0.0


def test_what_callers_see_is_in_json_tables_sweeps_and_targets(write, tmp_path):
    # Ten requests far apart: each starts cold, 4 s + 1 s.
    each = "".join(source(f"endpoints.e{n}", 1, at=f"{n:02}:00") for n in range(3))
    write(function("1 s", "4 s") + each + '[targets]\nlatency_p95 = "4 s"\n', keys='keep_alive = "1 min"')
    data = json.loads(run_program("project", "model.toml", "--format", "json", cwd=tmp_path).stdout)["plans"][0]
    assert data["functions"][0]["latency_ms"]["p95"] == pytest.approx(5_000, rel=0.005)
    assert data["functions"][0]["cold_share"] == 1.0
    assert data["misses"] == [
        {"target": "latency_p95", "function": "f", "wanted": 4.0, "found": pytest.approx(5.0, rel=0.005)}
    ]
    rows = run_program("project", "model.toml", "--format", "csv", cwd=tmp_path).stdout
    assert "latency_p95_ms" in rows.splitlines()[0] and "cold_share" in rows.splitlines()[0]
    text = run_program("project", "model.toml", cwd=tmp_path).stdout
    assert "What callers see on test.plan" in text and "latency p95 5.0" in text
    swept = run_program(
        "sweep", "model.toml", "--vary", "functions.f.cold_start=1s,4s", "--format", "json", cwd=tmp_path
    )
    found = [row["latency_p95_ms"] for row in json.loads(swept.stdout)["rows"]]
    assert found == [pytest.approx(2_000, rel=0.005), pytest.approx(5_000, rel=0.005)]


SAMPLED = """
[functions.f]
memory = "256 MB"
run = "200 ms"
cold_start = "2 s"
timeout = "10 s"
cpu_share = 0
releases = [{ cron = "0 12 * * *" }]
instance_floors = [{ cron = "0 7 * * *", floor = 3 }, { cron = "0 19 * * *", floor = 0 }]
asks = [{ to = "endpoints.p", each = 1.3, needs = false }]
[queues.q]
[demand.d]
into = "queues.q"
rate = "8 /min"
day_shape = [1,1,1,1,1,1,2,3,3,3,3,3,3,3,3,3,3,2,2,2,1,1,1,1]
[[triggers]]
from = "queues.q"
to = "f"
[[incidents]]
name = "slow"
cron = "0 3 * * *"
lasts = "20 min"
functions = ["g"]
run_times = 10
"""


def test_a_sampled_month_has_its_troubles_in_full(write):
    model = SAMPLED + ANSWER.format(run="300 ms", more="")
    path = write(model, prices=IDLE + '\ngb_seconds = { unit = "0.01" }')
    exact, sampled = project(path).played[0], project(path, sampled_from=1_000).played[0]
    assert sampled.confidence is not None
    low, high = sampled.confidence.cost
    assert low <= float(exact.bill.unrounded) <= high < 1.2 * low
    loaded = load(path)
    placed = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    # Requests are events as well: one, and 1.3 for it.
    assert expected_events(loaded.model, loaded.month, placed) == pytest.approx(2.3 * 8 * 60 * 744, rel=1e-6)
    # Times within a few per cent; of two thousand cold starts a sixth is seen, and they come in bunches.
    for name, figure, off in (
        ("f", "idle_floor_ns", 0.03), ("f", "busy_ns", 0.03), ("g", "busy_ns", 0.03), ("f", "cold_starts", 0.15),
    ):  # fmt: skip
        assert getattr(unit(sampled, name), figure) == pytest.approx(getattr(unit(exact, name), figure), rel=off), (
            figure
        )
