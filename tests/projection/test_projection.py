"""The projection as its readers meet it: JSON shape, sums, the verdict, the program's answers."""

from __future__ import annotations

import json
from decimal import Decimal

import pytest

from echotally.output.projection.projection_json import projection_dict
from echotally.output.projection.projection_table import projection_text
from echotally.projection.choosing import Judged, choose_plan
from echotally.projection.project import project
from tests.conftest import run_program, unit

ENDINGS = ["succeeded", "errored", "rejected", "lost", "dead_lettered", "expired", "too_large", "skipped", "unfinished"]


def test_the_json_has_every_key_of_the_design(river_projection):
    data = projection_dict(river_projection)
    assert list(data)[:9] == ["schema", "estate", "month", "hours", "seed", "currency", "pick", "closest", "plans"]
    assert (data["schema"], data["hours"]) == ("echotally-projection/1", 743)
    plan = next(p for p in data["plans"] if p["feasible"])
    for key in ("plan", "reasons", "meets_targets", "misses", "cost", "attempts", "throttled_share", "concurrency",
                "method", "confidence", "functions", "undecided", "left_behind"):  # fmt: skip
        assert key in plan
    function = plan["functions"][0]
    assert set(function) == {
        "function", "environment", "plan", "events", "calls", "attempts", "throttled_share", "cold_starts", "concurrency",
        "instances", "wait_s", "latency_s", "latency_ms", "cold_share", "lag_s", "backlog_peak", "billed_s", "gb_seconds", "cost", "cost_per_call", "left_behind",
    }  # fmt: skip
    assert set(function["events"]) == {"in", *ENDINGS, "duplicates"}
    refused = next(p for p in data["plans"] if not p["feasible"])
    assert refused["cost"] is None
    assert refused["functions"] is None


def test_events_attempts_and_money_add_up_on_every_plan(river_projection):
    for plan in projection_dict(river_projection)["plans"]:
        for f in plan["functions"] or []:
            assert f["events"]["in"] == sum(f["events"][ending] for ending in ENDINGS)
            a = f["attempts"]
            assert a["total"] == a["succeeded"] + a["failed"] + a["timed_out"] + a["throttled"] + a["running"]
        if plan["feasible"]:
            lines = sum(Decimal(line["amount"]) for line in plan["cost"]["lines"])
            assert abs(lines - Decimal(plan["cost"]["total"])) <= Decimal("0.00501")
            shares = sum(Decimal(f["cost"]) for f in plan["functions"]) + Decimal(plan["cost"]["idle"])
            flat = sum(Decimal(line["amount"]) for line in plan["cost"]["lines"] if line["meter"] == "flat_months")
            assert abs(shares + flat - lines) < Decimal("0.0001")


def test_the_verdict_comes_first_and_the_assumptions_last(river_projection):
    text = projection_text(river_projection, width=120).splitlines()
    assert text[1].startswith("Pick heron.shared: ")
    assert text[-1].startswith("Assumed: ")


@pytest.mark.parametrize("width", [60, 80, 100, 140])
def test_tables_stay_inside_the_width_and_keep_what_matters(river_projection, width):
    text = projection_text(river_projection, width)
    assert max(len(line) for line in text.splitlines() if not line.startswith(("Assumed", "Pick"))) <= width
    assert "heron.shared" in text
    assert str(river_projection.best.bill.total) in text


def test_one_seed_gives_identical_bytes_whatever_is_asked_beside_it(river, tmp_path):
    whole = run_program("project", str(river), "--format", "json", cwd=tmp_path)
    again = run_program("project", str(river), "--format", "json", cwd=tmp_path)
    assert whole.returncode == 0
    assert whole.stdout == again.stdout
    one = run_program("project", str(river), "--format", "json", "--plan", "osier.fixed", cwd=tmp_path)
    among = next(p for p in json.loads(whole.stdout)["plans"] if p["plan"] == "osier.fixed")
    assert json.loads(one.stdout)["plans"] == [among]


def test_the_result_can_go_to_a_file_that_appears_whole(river, tmp_path):
    done = run_program(
        "project", str(river), "--plan", "osier.fixed", "--format", "json", "-o", "out.json", cwd=tmp_path
    )
    assert (done.returncode, done.stdout) == (0, "")
    assert json.loads((tmp_path / "out.json").read_text())["estate"] == "Fenwater river watch"
    assert [p.name for p in tmp_path.iterdir()] == ["out.json"]


def test_a_missed_target_leaves_with_three_under_gate(river, tmp_path):
    arguments = ["project", str(river), "--plan", "osier.fixed"]
    assert run_program(*arguments, cwd=tmp_path).returncode == 0
    assert run_program(*arguments, "--gate", cwd=tmp_path).returncode == 3
    assert run_program("project", str(river), "--gate", cwd=tmp_path).returncode == 0


def test_demo_and_start_write_what_the_next_command_reads(tmp_path):
    demo = run_program("demo", "watch", cwd=tmp_path)
    assert demo.returncode == 0
    assert "Pick heron.shared" in demo.stdout
    assert "Try next" in demo.stdout
    assert run_program("start", "mine", cwd=tmp_path).returncode == 0
    done = run_program("project", "mine/model.toml", cwd=tmp_path)
    assert done.returncode == 0
    assert "Pick starter.per-run" in done.stdout
    (tmp_path / "mine/model.toml").write_text("mine now")
    again = run_program("start", "mine", cwd=tmp_path)
    assert again.returncode == 2
    assert (tmp_path / "mine/model.toml").read_text() == "mine now"


def test_check_says_there_is_nothing_wrong_and_shows_the_defaults(river, tmp_path):
    done = run_program("check", str(river), cwd=tmp_path)
    assert done.returncode == 0
    assert "no errors" in done.stdout
    values = run_program("check", str(river), "--defaults", cwd=tmp_path).stdout
    assert "functions.map.cold_start = median 700 ms, p95 1500 ms" in values
    assert "queues.parked.visibility = 30 s" in values


def test_help_imports_nothing_heavy():
    import subprocess
    import sys

    code = (
        "import sys\nfrom echotally.cli.main import cli\n"
        "try: cli.main(['--help'])\nexcept SystemExit: pass\n"
        "heavy={'numpy','numba','pandas','pydantic','rich','matplotlib','duckdb'}\n"
        "sys.exit(' '.join(heavy & set(sys.modules)))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert done.stderr.strip() == ""
    assert "in the order people work" in done.stdout


@pytest.mark.parametrize(
    ("judged", "expected"),
    [
        ([("a", 3, 0, 0), ("b", 2, 0, 0), ("c", 1, 1, 0)], ("b", None)),
        ([("b", 2, 0, 0), ("a", 2, 0, 0)], ("a", None)),
        ([("a", 1, 2, 0), ("b", 9, 1, 0), ("c", 8, 1, 0)], (None, "c")),
        ([("a", 1, 0, 1), ("b", 9, 0, 0)], ("b", None)),
        ([("a", 5, 0, 1), ("b", 4, 0, 2), ("c", 1, 1, 0)], ("b", None)),
        ([("a", 5, 1, 3), ("b", 4, 1, 0)], (None, "b")),
        ([], (None, None)),
    ],
    ids=[
        "cheapest that meets",
        "ties by name",
        "fewest misses, then cheapest",
        "undecided only where none is sure",
        "undecided, cheapest",
        "undecided are no misses",
        "nothing feasible",
    ],
)
def test_the_pick_and_the_closest(judged, expected):
    assert choose_plan([Judged(name, Decimal(cost), *counts) for name, cost, *counts in judged]) == expected


def test_a_pinned_function_stays_on_its_plan_and_lines_name_theirs(river):
    result = project(river, [("functions.charts.plan", "osier.fixed")], ["heron.per-run"])
    plan = result.plans[0]
    assert unit(plan, "charts").unit.offer.name == "osier.fixed"
    assert unit(plan, "map").unit.offer.name == "heron.per-run"
    lines = projection_dict(result)["plans"][0]["cost"]["lines"]
    assert {line["plan"] for line in lines} == {"heron.per-run", "osier.fixed", "outside"}


def test_an_infeasible_pin_makes_every_candidate_infeasible(river):
    result = project(river, [("functions.charts.plan", "osier.preview")], ["heron.per-run", "osier.fixed"])
    assert [p.feasible for p in result.plans] == [False, False]
    assert result.pick is None
