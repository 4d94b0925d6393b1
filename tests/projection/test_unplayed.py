"""A plan whose month is too large even for a sample stands beside the others, and is told from one that cannot be had."""

from __future__ import annotations

import csv
import io
import json
import weakref

import pytest

from echotally.errors import BadInput, Problem, TooLarge
from echotally.evidence.bill.focus import focus_rows
from echotally.evidence.bill.reconcile import reconcile
from echotally.projection import project as projecting
from echotally.projection.answer import RefusedPlan
from echotally.projection.project import project
from echotally.projection.replicate import replicate
from tests.conftest import run_program

WHY = (
    "expects 117,350,514 events, of which even a sample would play more than 40,000,000: work is left over for so long"
)
PLANS = ("--plan", "heron.per-run", "--plan", "osier.cluster", "--plan", "heron.shared")


@pytest.fixture
def too_large(monkeypatch):
    """Lets the months of some plans be too large."""
    played, those = projecting.project_plan, set[str]()

    def project_plan(loaded, candidate, *arguments, **words):
        if candidate.name in those:
            raise TooLarge(Problem(WHY, "2027-03", allowed="--exact plays them all"))
        return played(loaded, candidate, *arguments, **words)

    monkeypatch.setattr(projecting, "project_plan", project_plan)
    return those


def asked(river, *more):
    return run_program("project", river.name, *PLANS, *more, cwd=river.parent)


def test_the_others_are_told_and_the_verdict_says_which_is_not(river, too_large):
    too_large.add("heron.per-run")
    said = asked(river)
    assert (said.returncode, said.stderr) == (0, "")
    head = said.stdout.splitlines()[:8]
    text = " ".join(said.stdout.split())
    # The caveat stands in the first lines; the plan has no figures, and is not said to be impossible.
    assert any("heron.per-run was not played, and may cost less" in line for line in head), head
    assert "every function not played: expects 117,350,514 events" in text
    assert "project --plan heron.per-run --exact plays it" in text
    plans = {plan["plan"]: plan for plan in json.loads(asked(river, "--format", "json").stdout)["plans"]}
    left_out = plans["heron.per-run"]
    assert [left_out[key] for key in ("feasible", "meets_targets", "method", "cost", "functions")] == [None] * 5
    assert left_out["reasons"][0]["function"] == "estate" and WHY in left_out["reasons"][0]["text"]
    others = [plan for name, plan in plans.items() if name != "heron.per-run"]
    assert len(others) == 2 and all(plan["cost"] for plan in others)
    rows = {
        row["plan"]: row
        for row in csv.DictReader(io.StringIO(asked(river, "--format", "csv", "--level", "plans").stdout))
    }
    assert rows["heron.per-run"]["feasible"] == "" and rows["osier.cluster"]["feasible"] == "True"


class Sample:
    """What a month that turns out too large had been played to."""


def test_what_had_been_played_of_it_is_let_go(river, monkeypatch):
    played, gone = projecting.project_plan, list[weakref.ref]()

    def project_plan(loaded, candidate, *arguments, **words):
        if candidate.name == "heron.per-run":
            sample = Sample()
            gone.append(weakref.ref(sample))
            try:
                raise BadInput("first")
            except BadInput:
                raise TooLarge(Problem(WHY)) from None
        return played(loaded, candidate, *arguments, **words)

    monkeypatch.setattr(projecting, "project_plan", project_plan)
    found = project(river, plans=["heron.per-run", "heron.shared"])
    assert [type(plan) is RefusedPlan for plan in found.plans] == [True, False] and gone[0]() is None


def test_a_report_has_it_beside_the_others(river, too_large, tmp_path):
    too_large.add("heron.per-run")
    said = run_program("report", str(river), *PLANS, "-o", "r.html", cwd=tmp_path)
    assert said.returncode == 0
    page = (tmp_path / "r.html").read_text()
    assert "Not played" in page and "heron.per-run was not played" in page and "117,350,514" in page


@pytest.mark.parametrize("plans", [("heron.per-run",), ("heron.per-run", "heron.shared")])
def test_where_none_is_left_the_first_one_asked_for_says_why(river, too_large, plans):
    too_large.update(plans)
    words = [word for name in plans for word in ("--plan", name)]
    said = run_program("project", river.name, *words, cwd=river.parent)
    assert said.returncode == 2 and said.stderr.startswith("error: 2027-03: expects 117,350,514") and not said.stdout


def test_a_bill_is_not_held_against_it_and_it_has_no_rows(river, too_large, tmp_path):
    too_large.add("heron.per-run")
    found = project(river, plans=["heron.per-run", "heron.shared"])
    plan = found.plan("heron.per-run")
    assert isinstance(plan, RefusedPlan) and found.unplayed == [plan] and found.pick != "heron.per-run"
    assert "was not played" in str(plan) and "cannot run" not in str(plan)
    assert focus_rows(found, "heron.per-run") == []
    with pytest.raises(BadInput, match=r"not played: expects 117,350,514 events.*found heron\.per-run"):
        reconcile(found, tmp_path / "bill.csv", "heron.per-run")


def test_beside_a_saved_projection_it_is_named(river, too_large, tmp_path):
    tight = ("--set", "targets.monthly_cost=1", "--format")
    assert asked(river, *tight, "json", "-o", str(tmp_path / "before.json")).returncode == 0
    too_large.add("heron.shared")
    assert asked(river, *tight, "json", "-o", str(tmp_path / "after.json")).returncode == 0
    assert "No plan that was played meets every target." in asked(river, *tight, "table").stdout
    said = run_program("compare", "before.json", "after.json", cwd=tmp_path)
    text = " ".join(said.stdout.split())
    assert said.returncode == 0 and "after.json: not played, and may cost less: heron.shared" in text
    assert "before.json: not played" not in text and "after.json: no plan that was played meets every target" in text


def test_replications_are_of_those_that_were_played(river, too_large):
    too_large.add("heron.per-run")
    found = replicate(river, 2, ["heron.per-run", "heron.shared"])
    assert list(found.figures) == ["heron.shared"] and set(found.picks) == {"heron.shared"}
    # A month that is too large with one seed alone is no row of its own: it would be an interval of fewer.
    too_large.add("heron.shared")
    with pytest.raises(TooLarge):
        replicate(river, 2, ["heron.shared"], first=found.first)
