"""In a pipeline: the steps of the example script, hooks, the container's step, what is said of parts that are not installed."""

from __future__ import annotations

import json
import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import jsonschema
import pytest
import yaml  # type: ignore[import-untyped]

from echotally.cli.failing import exit_code
from echotally.cli.main import cli
from echotally.errors import BadInput
from echotally.parts import PARTS, need

ROOT = Path(__file__).parents[2]
BIN = Path(sys.executable).parent


def git(folder: Path, *words: str) -> None:
    known = ("-c", "user.name=a founder", "-c", "user.email=founder@example.org", "-c", "commit.gpgsign=false")
    subprocess.run(["git", *known, *words], cwd=folder, check=True, capture_output=True)


@pytest.fixture(scope="module")
def repository(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A repository whose main branch has the demo, one step before a change of a limit."""
    from tests.small_river import write_small_river

    place = tmp_path_factory.mktemp("repository")
    write_small_river(place / "estate")
    git(place, "init", "--quiet", "-b", "main")
    git(place, "add", "-A")
    git(place, "commit", "--quiet", "-m", "the estate as it was")
    git(place, "checkout", "--quiet", "-b", "change")
    model = place / "estate/river.toml"
    model.write_text(model.read_text().replace('rate = "24 /h"', 'rate = "48 /h"', 1).replace("seed = 7", "seed = 8"))
    git(place, "commit", "--quiet", "-am", "what is proposed")
    return place


def pipeline(repository: Path, summary: Path) -> subprocess.CompletedProcess[str]:
    surroundings = {**os.environ, "PATH": f"{BIN}:{os.environ['PATH']}", "REVIEW_SUMMARY": str(summary)}
    command = ["bash", str(ROOT / "docs/examples/pipeline.sh"), "estate/river.toml", "main", "results"]
    return subprocess.run(command, cwd=repository, env=surroundings, capture_output=True, text=True, check=False)


def test_the_steps_of_a_pipeline_leave_findings_a_gate_and_a_review(repository: Path, tmp_path: Path) -> None:
    done = pipeline(repository, tmp_path / "summary.md")
    steps = [line.removeprefix("== ") for line in done.stdout.splitlines() if line.startswith("== ")]
    assert steps == ["check", "project", "the model before", "project the model before", "compare"]
    # The demo has warnings, which count; it has a plan that meets every target.
    assert done.returncode == 2, done.stderr
    results = repository / "results"
    sarif = json.loads((results / "findings.sarif").read_text())
    assert sarif["version"] == "2.1.0" and sarif["runs"][0]["results"]
    review = (results / "review.md").read_text()
    assert "estate.seed" in review and (tmp_path / "summary.md").read_text() == review
    before, after = (json.loads((results / f"{name}.json").read_text()) for name in ("before", "after"))
    assert (before["seed"], after["seed"]) == (7, 8)
    assert (
        subprocess.run(
            ["git", "worktree", "list"], cwd=repository, capture_output=True, text=True, check=True
        ).stdout.count("\n")
        == 1
    )


@pytest.mark.nightly
def test_a_gate_that_stays_shut_is_the_worst_code_and_later_steps_run(repository: Path, tmp_path: Path) -> None:
    model = repository / "estate/river.toml"
    kept = model.read_text()
    model.write_text(re.sub(r'monthly_cost = "[^"]*"', 'monthly_cost = "1"', kept, count=1))
    try:
        done = pipeline(repository, tmp_path / "summary.md")
    finally:
        model.write_text(kept)
    assert done.returncode == 3 and "== compare" in done.stdout
    assert "no plan meets every target" in (repository / "results/review.md").read_text()


def test_hooks_are_whole_and_say_what_is_wrong(repository: Path, monkeypatch, capsys) -> None:  # type: ignore[no-untyped-def]
    hooks = yaml.safe_load((ROOT / ".pre-commit-hooks.yaml").read_text())
    assert all({"id", "name", "entry", "language", "files"} <= set(hook) for hook in hooks)
    monkeypatch.chdir(repository)
    codes = {}
    for hook in hooks:
        word, *rest = shlex.split(hook["entry"])
        assert word == "echotally"
        codes[hook["id"]] = exit_code(cli, [*rest, "estate/river.toml"])
    assert codes == {"echotally-check": 2, "echotally-gate": 0}
    assert capsys.readouterr().err == ""


def test_the_containers_step_installs_from_a_folder_alone() -> None:
    lines = (ROOT / "Containerfile").read_text().splitlines()
    (step,) = [line for line in lines if line.startswith("RUN ")]
    assert {"--no-index", "--find-links", "/wheels"} <= set(shlex.split(step)) and "COPY wheels /wheels" in lines


def test_findings_in_sarif_form_are_valid_by_what_every_viewer_needs(repository: Path, monkeypatch, capsys) -> None:  # type: ignore[no-untyped-def]
    monkeypatch.chdir(repository)
    assert exit_code(cli, ["check", "estate/river.toml", "--format", "sarif"]) == 0
    log = json.loads(capsys.readouterr().out)
    place = {
        "type": "object",
        "required": ["physicalLocation"],
        "properties": {"physicalLocation": {"type": "object", "required": ["artifactLocation"]}},
    }
    finding = {
        "type": "object", "required": ["ruleId", "level", "message", "locations"],
        "properties": {"level": {"enum": ["error", "warning", "note", "none"]}, "message": {"type": "object", "required": ["text"]},
                       "locations": {"type": "array", "minItems": 1, "items": place}},
    }  # fmt: skip
    jsonschema.validate(log["runs"][0]["results"], {"type": "array", "minItems": 1, "items": finding})
    known = {rule["id"] for rule in log["runs"][0]["tool"]["driver"]["rules"]}
    assert {result["ruleId"] for result in log["runs"][0]["results"]} <= known


# -- parts --------------------------------------------------------------------------------------------------------
#: Runs the program as if libraries were not installed.
BLOCKED = """
import sys, importlib.abc
blocked = set(sys.argv.pop(1).split(","))
class Blocker(importlib.abc.MetaPathFinder):
    def find_spec(self, name, path, target=None):
        if name.split(".")[0] in blocked:
            raise ModuleNotFoundError(f"No module named {name!r}", name=name)
sys.meta_path.insert(0, Blocker())
import importlib.util
found = importlib.util.find_spec
importlib.util.find_spec = lambda name, package=None: None if name.split(".")[0] in blocked else found(name, package)
from echotally.cli.main import run
run()
"""


def without(libraries: str, line: str, folder: Path) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-c", BLOCKED, libraries, *shlex.split(line)]
    return subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)


def test_the_base_plays_checks_and_studies_without_any_part(repository: Path) -> None:
    everything = ",".join(PARTS)
    for line in (
        "project estate/river.toml --plan heron.shared",
        "check estate/river.toml",
        "sweep estate/river.toml --vary functions.map.instance_limit=5,6 --plan heron.shared --workers 1",
        "follow estate/river.toml --plan heron.per-run --dead-letter",
    ):
        done = without(everything, line, repository)
        assert (done.returncode, done.stderr) == (0, ""), (line, done.stderr)


@pytest.mark.parametrize(
    ("library", "line", "part"),
    [
        ("matplotlib", "project estate/river.toml --plot cost.png", "charts"),
        ("matplotlib", "report estate/river.toml -o page.html", "charts"),
        ("jinja2", "report estate/river.toml -o page.html", "report"),
        ("xlsxwriter", "project estate/river.toml -o month.xlsx", "sheets"),
        ("duckdb", "fit estate/logs/look.csv", "evidence"),
        ("duckdb", "reconcile estate/river.toml estate/logs/bill.csv", "evidence"),
        ("networkx", "survey estate/logs/look.csv -o made", "evidence"),
        ("icalendar", "firings estate/river.toml --ics firings.ics", "calendar"),
        ("urllib3", "measure --url http://127.0.0.1:9/ --seconds 1", "measure"),
        (
            "distributed",
            "sweep estate/river.toml --vary functions.map.instance_limit=5,6 --cluster tcp://127.0.0.1:1",
            "cluster",
        ),
    ],
)
def test_a_part_that_is_missing_is_named_before_anything_is_written(library, line, part, repository) -> None:  # type: ignore[no-untyped-def]
    before = sorted(repository.iterdir())
    done = without(library, line, repository)
    assert done.returncode == 2 and done.stdout == ""
    assert done.stderr.splitlines() == [line for line in done.stderr.splitlines() if line.startswith("error: ")]
    assert f"need {library}, which is not installed. Allowed: pip install 'echotally[{part}]'" in done.stderr
    assert sorted(repository.iterdir()) == before


def test_every_part_is_declared_and_complete() -> None:
    import tomllib

    parts = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["optional-dependencies"]
    for library, (part, _) in PARTS.items():
        assert any(name.replace("-", "_").startswith(library) for name in parts[part]), (library, part)


def test_what_is_there_is_no_mistake_and_what_is_not_is_named(monkeypatch: pytest.MonkeyPatch) -> None:
    need("click")
    monkeypatch.setitem(PARTS, "surely_not_there", ("charts", "charts"))
    with pytest.raises(BadInput, match="charts need surely_not_there"):
        need("click", "surely_not_there")
