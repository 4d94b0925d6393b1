"""``--by`` wherever a cost is shown: the parts add up to it, in every command that has the option."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest

from echotally import project, sweep
from echotally.cli.failing import exit_code
from echotally.cli.main import cli

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


def test_a_report_has_the_split_that_was_asked_for(river: Path, tmp_path: Path) -> None:
    page = tmp_path / "page.html"
    assert exit_code(cli, ["report", str(river), "--by", "tag:team", "--plan", "heron.shared", "-o", str(page)]) == 0
    text = page.read_text()
    assert "By tag:team (EUR)" in text
    best = project(river, plans=["heron.shared"]).best
    assert best is not None
    table = text[text.index("By tag:team (EUR)") :]
    costs = [float(value) for value in re.findall(r'data-value="([\d.]+)"', table[: table.index("</table>")])]
    assert any(value == pytest.approx(max(costs)) for value in costs) and "hydrology" in table


@pytest.mark.parametrize(
    "command", ["report {}", "choose {}", "sweep {} --vary functions.map.instance_limit=4,9", "project {}"]
)
def test_what_is_no_way_to_split_is_refused_before_anything_is_played(command: str, river: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    assert exit_code(cli, [*command.format(river).split(), "--by", "team"]) == 2
    assert "error: --by: is not a way to split (found team)" in capsys.readouterr().err
