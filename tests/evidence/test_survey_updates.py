"""A model that stands, month after month: what moved is changed, with before and after; all else is left as it is."""

from __future__ import annotations

import json
import random
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pandas as pd
import pytest

from echotally.evidence.survey.survey import survey
from echotally.evidence.survey.updating import updated
from echotally.projection.loaded import load
from tests.conftest import run_program
from tests.evidence.test_survey_bills import bill, row

CARD = """schema = "echotally-rates/1"
[card]
name = "reed"
currency = "EUR"
[plans.a]
bills = "runs"
memory = { from = "128 MB", to = "4 GB", step = "64 MB" }
vcpu_per_gb = 1
price = { calls = { per = 1_000_000, unit = "0.2" } }
"""
MODEL = """schema = "echotally-model/1"
[estate]
name = "weir"
month = "2027-02"
timezone = "Europe/Berlin"
rate_cards = ["card.toml"]

[functions.charts]                 # drawn at night
memory = "512 MB"
run = "20 s"
[functions.sort]
memory = "256 MB"
run = { median = "80 ms", p95 = "160 ms" }
timeout = "45 s"                   # by agreement
[functions.mill]
memory = "128 MB"
run = "1 s"

[schedules.nightly]
cron = "30 2 * * *"
[queues.levels]
[demand.gauges]
into = "queues.levels"
rate = "12 /h"

[[triggers]]
from = "schedules.nightly"
to = "charts"
[[triggers]]
from = "queues.levels"
to = "sort"
"""


def _log(
    path: Path, sort_ms: float = 80, rate_h: float = 12, hour: int = 2, memory: int = 256, more: str | None = None
) -> Path:
    """A month of what the model says, or of what it does not."""
    chance, start, rows = random.Random(9), datetime(2027, 2, 1, tzinfo=UTC), []
    zone = ZoneInfo("Europe/Berlin")
    for day in range(28):
        at = datetime(2027, 2, 1 + day, hour, 30, tzinfo=zone).astimezone(UTC) + timedelta(seconds=0.4)
        rows.append(
            {
                "time": at,
                "function": "charts",
                "run_ms": 20_000,
                "memory_mb": 512,
                "trigger": "timer",
                "source": "nightly",
            }
        )
    second = 0.0
    while second < 28 * 86_400:
        second += chance.expovariate(rate_h / 3_600)
        at = start + timedelta(seconds=second)
        run = sort_ms * chance.lognormvariate(0, 0.4214)
        rows.append(
            {"time": at, "function": "sort", "run_ms": run, "memory_mb": memory, "trigger": "queue", "source": "levels"}
        )
        if more:
            rows.append(
                {
                    "time": at + timedelta(seconds=200),
                    "function": more,
                    "run_ms": 40,
                    "memory_mb": 256,
                    "trigger": "http",
                    "source": more,
                }
            )
    frame = pd.DataFrame(rows).sort_values("time", kind="stable")
    frame["time"] = [at.isoformat() for at in frame["time"]]
    frame.to_csv(path, index=False)
    return path


def _standing(folder: Path) -> Path:
    (folder / "model.toml").write_text(MODEL)
    (folder / "card.toml").write_text(CARD)
    return folder / "model.toml"


def _moves(folder: Path, log: Path) -> dict[str, tuple[str, str]]:
    path = _standing(folder)
    changed = updated(survey([log], hold_back_s=0, timezone="Europe/Berlin"), path, load(path))
    return {moved.address: (moved.before, moved.after) for moved in changed.moved}


def test_a_month_like_the_model_moves_nothing(tmp_path: Path) -> None:
    assert _moves(tmp_path, _log(tmp_path / "log.csv")) == {}


@pytest.mark.parametrize(
    ("drift", "address", "before", "after"),
    [
        ({"hour": 4}, "schedules.nightly.cron", '"30 2 * * *"', '"30 4 * * *"'),
        ({"memory": 512}, "functions.sort.memory", '"256 MB"', '"512 MB"'),
    ],
    ids=["another hour", "another size"],
)
def test_what_moved_is_said_with_before_and_after(
    drift: dict[str, int], address: str, before: str, after: str, tmp_path: Path
) -> None:
    moves = _moves(tmp_path, _log(tmp_path / "log.csv", **drift))  # type: ignore[arg-type]
    assert moves == {address: (before, after)}


def test_a_rate_and_a_run_time_that_left_their_intervals_are_changed(tmp_path: Path) -> None:
    moves = _moves(tmp_path, _log(tmp_path / "log.csv", sort_ms=120, rate_h=18))
    assert set(moves) == {"functions.sort.run", "demand.gauges.rate"}
    assert moves["demand.gauges.rate"][0] == '"12 /h"' and moves["functions.sort.run"][0].startswith("{")


def test_what_the_log_does_not_show_stays_and_is_named(tmp_path: Path) -> None:
    path = _standing(tmp_path)
    changed = updated(survey([_log(tmp_path / "log.csv")], hold_back_s=0), path, load(path))
    assert "mill" in " ".join(changed.notes) and changed.text == MODEL


def test_a_function_that_is_new_is_added_whole_and_can_be_played(tmp_path: Path) -> None:
    _standing(tmp_path)
    _log(tmp_path / "log.csv", more="ferry")
    done = run_program(
        "survey",
        "log.csv",
        "--model",
        "model.toml",
        "-o",
        ".",
        "--timezone",
        "Europe/Berlin",
        "--hold-back",
        "0 s",
        "--format",
        "json",
        cwd=tmp_path,
    )
    assert done.returncode == 0, done.stderr
    data = json.loads(done.stdout)
    assert data["added"] == ["ferry"] and data["drifted"] == []
    text = (tmp_path / "model.toml").read_text()
    assert text.startswith(MODEL.rstrip()) and "# by agreement" in text
    assert [line for line in MODEL.splitlines() if line not in text.splitlines()] == []
    model = load(tmp_path / "model.toml").model
    assert "ferry" in model.functions and "ferry" in model.endpoints
    assert [t.to for t in model.triggers] == ["charts", "sort", "ferry"]
    assert run_program("project", "model.toml", cwd=tmp_path).returncode == 0


def test_a_second_run_changes_nothing_more(tmp_path: Path) -> None:
    _standing(tmp_path)
    _log(tmp_path / "log.csv", sort_ms=120, more="ferry")
    arguments = (
        "survey",
        "log.csv",
        "--model",
        "model.toml",
        "-o",
        ".",
        "--timezone",
        "Europe/Berlin",
        "--hold-back",
        "0 s",
    )
    assert run_program(*arguments, cwd=tmp_path).returncode == 0
    once = (tmp_path / "model.toml").read_text()
    again = run_program(*arguments, cwd=tmp_path)
    assert again.returncode == 0 and (tmp_path / "model.toml").read_text() == once
    assert "No value of the model has drifted" in again.stdout


def test_a_model_whose_files_lie_elsewhere_is_not_laid_out_anew(tmp_path: Path) -> None:
    inner = tmp_path / "inner"
    inner.mkdir()
    (inner / "model.toml").write_text(MODEL.replace('"card.toml"', '"../card.toml"'))
    (tmp_path / "card.toml").write_text(CARD)
    _log(tmp_path / "log.csv", sort_ms=120)
    done = run_program(
        "survey", "log.csv", "--model", "inner/model.toml", "-o", "out", "--hold-back", "0 s", cwd=tmp_path
    )
    assert done.returncode == 2 and "../card.toml" in done.stderr and "-o" in done.stderr
    assert not (tmp_path / "out/model.toml").exists()
    assert (inner / "model.toml").read_text() == MODEL.replace('"card.toml"', '"../card.toml"')


def test_prices_that_moved_are_said_and_the_card_stays(tmp_path: Path) -> None:
    path = _standing(tmp_path)
    charge = row("calls", "1000000", "0.00000025", "Calls", "sort", x_Plan="reed.a")
    made = survey([_log(tmp_path / "log.csv")], bills=[bill(tmp_path / "bill.csv", [charge])], hold_back_s=0)
    assert "calls: 0.2 for 1,000,000 on the card, 0.25 on the bill" in " ".join(updated(made, path, load(path)).notes)


@pytest.mark.parametrize("key", ['per_item = "5 ms"', "measured_vcpu = 1"])
def test_a_run_time_the_log_cannot_tell_apart_is_left_alone(key: str, tmp_path: Path) -> None:
    """Written over, what the other key says would count twice."""
    path = _standing(tmp_path)
    path.write_text(MODEL.replace('timeout = "45 s"', f'{key}\ntimeout = "45 s"'))
    changed = updated(
        survey([_log(tmp_path / "log.csv", sort_ms=120)], hold_back_s=0, timezone="Europe/Berlin"), path, load(path)
    )
    assert changed.moved == () and "sort: its run time" in " ".join(changed.notes)
