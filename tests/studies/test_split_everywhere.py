"""``--by`` wherever a cost is shown: the parts add up to it, in every command that has the option."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest

from echotally import compare, crossover, forecast, project, reconcile, sweep
from echotally.cli.failing import exit_code
from echotally.cli.main import cli
from echotally.errors import BadInput
from echotally.evidence.bill.reconcile import by_labels
from echotally.output.evidence.reconcile_view import reconcile_json, reconcile_text
from echotally.output.studies.compare_view import compare_markdown
from echotally.output.studies.crossover_view import crossover_text
from echotally.output.studies.forecast_view import forecast_json, forecast_text
from echotally.projection.loaded import load
from echotally.projection.showback import showback

BY = ["function", "tag:team", "outcome", "environment,tag:team", "source,function"]


@pytest.mark.parametrize("by", BY)
def test_the_parts_of_a_point_add_up_to_its_cost(by: str, river: Path) -> None:
    rows = sweep(
        river, ["functions.map.instance_limit=4,9"], plans=["heron.shared", "osier.fixed"], workers=1, by=by
    ).rows
    for row in rows:
        parts = [value for name, value in row.items() if name.startswith("cost_by:")]
        assert len(parts) > 1 and sum(parts) == pytest.approx(row["cost_total"], abs=0.006)


def test_without_it_a_point_is_what_it_was(river: Path) -> None:
    plain, split = (
        sweep(river, ["functions.map.instance_limit=4,9"], plans=["heron.shared"], workers=1, by=by).rows
        for by in (None, "function")
    )
    assert [{k: v for k, v in row.items() if not k.startswith("cost_by:")} for row in split] == list(plain)


@pytest.mark.parametrize("by", ["tag:team", "function,outcome"])
def test_a_choice_shows_each_part_today_and_as_chosen(by: str, river: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert exit_code(cli, ["choose", str(river), "--no-sizes", "--by", by, "--format", "json"]) == 0
    data = json.loads(capsys.readouterr().out)
    for which in ("today", "chosen"):
        total = sum(float(part[which]) for part in data["by"])
        assert total == pytest.approx(float(data[which]["cost"]), abs=0.006)
    assert all(len(part["labels"]) == by.count(",") + 1 for part in data["by"])
    assert exit_code(cli, ["choose", str(river), "--no-sizes", "--by", by]) == 0
    assert f"By {by.replace(',', ' and ')} (EUR)" in capsys.readouterr().out


#: A report draws charts of every function: one is enough here.
ONE = """
schema = "echotally-model/1"
[estate]
name = "one gauge"
month = "2027-03"
rate_cards = ["rates/heron.toml"]
[functions.read]
memory = "256 MB"
run = "800 ms"
tags = { team = "hydrology" }
[schedules.hourly]
cron = "0 * * * *"
[[triggers]]
from = "schedules.hourly"
to = "read"
"""


def test_a_report_has_the_split_that_was_asked_for(river: Path, tmp_path: Path) -> None:
    (tmp_path / "rates").mkdir()
    (tmp_path / "rates/heron.toml").write_bytes((river.parent / "rates/heron.toml").read_bytes())
    model, page = tmp_path / "one.toml", tmp_path / "page.html"
    model.write_text(ONE)
    assert exit_code(cli, ["report", str(model), "--by", "tag:team", "--plan", "heron.shared", "-o", str(page)]) == 0
    text = page.read_text()
    assert "By tag:team (EUR)" in text
    best = project(model, plans=["heron.shared"]).best
    assert best is not None
    (share,) = (each for each in showback(load(model).model, best, "tag:team") if each.labels == ("hydrology",))
    table = text[text.index("By tag:team (EUR)") :]
    costs = [float(value) for value in re.findall(r'data-value="([\d.]+)"', table[: table.index("</table>")])]
    assert any(value == pytest.approx(float(share.cost), abs=1e-4) for value in costs) and "hydrology" in table


@pytest.mark.parametrize("by", ["tag:team", "function,outcome"])
def test_a_crossover_splits_the_cost_of_every_volume(by: str, river: Path) -> None:
    found = crossover(river, 0.5, 2.0, ["heron.shared", "osier.fixed"], workers=1, by=by)
    for row in found.rows:
        parts = [value for name, value in row.items() if name.startswith("cost_by:")]
        assert len(parts) > 1 and sum(parts) == pytest.approx(row["cost_total"], abs=0.006)
    assert f"By {by.replace(',', ' and ')} on the cheapest plan (EUR)" in crossover_text(found, 200)


def test_the_parts_of_a_forecast_add_up_month_by_month(river: Path) -> None:
    found = forecast(river, 3, 50, plans=["heron.shared"], by="tag:team,environment")
    (plan,) = found.plans
    for n, month in enumerate(plan.months):
        assert sum(part.expected[n] for part in plan.parts) == pytest.approx(month.expected_cost)
    assert {part.labels[0] for part in plan.parts} > {"hydrology", "warnings"}
    # Every draw's bill is shared out whole, so parts at the median lie about its median.
    assert sum(part.total[1] for part in plan.parts) == pytest.approx(plan.total[1], rel=0.01)
    assert sum(1 for row in json.loads(forecast_json(found))["by"]) == 3 * len(plan.parts)
    assert "By tag:team and environment on heron.shared (EUR)" in forecast_text(found, 200)


@pytest.fixture(scope="module")
def two_months(river: Path, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """A projection saved with its outcomes, and one at twice the memory of the map."""
    folder = tmp_path_factory.mktemp("saved")
    first, second = folder / "first.json", folder / "second.json"
    only = ["--plan", "heron.shared", "--by", "outcome", "-o"]
    assert exit_code(cli, ["project", str(river), *only, str(first)]) == 0
    assert exit_code(cli, ["project", str(river), "--set", "functions.map.memory=4 GB", *only, str(second)]) == 0
    return first, second


@pytest.mark.parametrize("by", ["function", "tag:team", "environment,tag:team", "outcome"])
def test_two_projections_part_by_part(by: str, two_months: tuple[Path, Path]) -> None:
    found = compare(*two_months, by=by)
    for side, total in zip(("before", "after"), found.unrounded, strict=True):
        assert float(sum(getattr(part, side) for part in found.parts)) == pytest.approx(float(total), abs=1e-5)
    if by == "function":
        assert found.parts[0].labels == ("map",) and found.parts[0].after > found.parts[0].before
    assert f"**By {by.replace(',', ' and ')} (EUR)**" in compare_markdown(found)


def test_a_file_without_the_split_says_how_to_save_it(two_months: tuple[Path, Path]) -> None:
    with pytest.raises(BadInput, match="project --by source,function"):
        compare(*two_months, by="source,function")


@pytest.mark.parametrize("by", ["function", "tag:team", "environment", "tag:team,function"])
def test_a_bill_beside_its_projection_part_by_part(by: str, river: Path) -> None:
    played = project(river, plans=["heron.shared"])
    found = reconcile(played, river.parent / "logs" / "bill.csv", "heron.shared")
    parts = by_labels(found.rows, played.model, by)
    assert sum(row.projected for row in parts.values()) == found.projected
    assert sum(row.difference for row in parts.values()) + found.unmapped == found.billed - found.projected
    assert f"By {by.replace(',', ' and ')} (EUR)" in reconcile_text(found, 200, by=by)
    assert len(json.loads(reconcile_json(found, by))["by"]) == len(parts) > 1


def test_a_bill_knows_neither_outcomes_nor_sources(river: Path, capsys: pytest.CaptureFixture[str]) -> None:
    bill = str(river.parent / "logs" / "bill.csv")
    assert exit_code(cli, ["reconcile", str(river), bill, "--by", "outcome"]) == 2
    assert "is not on a bill (found outcome)" in capsys.readouterr().err


@pytest.mark.parametrize(
    "command",
    [
        "forecast {}",
        "crossover {}",
        "report {}",
        "choose {}",
        "sweep {} --vary functions.map.instance_limit=4,9",
        "project {}",
    ],
)
def test_what_is_no_way_to_split_is_refused_before_anything_is_played(command: str, river: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    assert exit_code(cli, [*command.format(river).split(), "--by", "team"]) == 2
    assert "error: --by: is not a way to split (found team)" in capsys.readouterr().err
