"""Changes to a large part of an estate: how many are tried, that the others are said, and that all can be."""

from __future__ import annotations

import json
import os
from collections import Counter

import pytest

from echotally import findings
from echotally.engine.sampling import expecting
from echotally.findings import check_model, context
from echotally.projection.project import project
from tests.conftest import run_program

ONE = """
[functions.f{n}]
memory = "512 MB"
timeout = "30 s"
run = {{ median = "{median} ms", p95 = "900 ms" }}
cpu_share = 0
[endpoints.e{n}]
[demand.d{n}]
into = "endpoints.e{n}"
rate = "5 /h"
[[triggers]]
from = "endpoints.e{n}"
to = "f{n}"
"""
#: One more than is always tried; together they run into what the account allows, or never do.
ESTATE = "".join(ONE.format(n=n, median=200 + 10 * n) for n in range(11))
NEAR, FAR = 'concurrency_limit = 1\ntimeout_limit = "15 min"', 'concurrency_limit = 1000\ntimeout_limit = "15 min"'


@pytest.fixture
def little(monkeypatch):
    """So little work is allowed that each rule tries the fewest."""
    monkeypatch.setattr(context, "_WORK", 1)


def _changes(checked):
    return Counter(f.rule.code for f in checked.findings if f.noticed.outcome)


def test_of_a_part_that_is_the_estate_each_rule_tries_a_few_and_says_how_many_not(write, little):
    path = write(ESTATE, NEAR)
    few, all_of_them = check_model(path), check_model(path, every=True)
    given, tried = _changes(all_of_them), _changes(few)
    assert given["C03"] == 11 and not all_of_them.untried
    assert tried["C03"] == 3 and few.untried["C03"] == 8
    # What is noticed does not depend on it where the rule needs no play; and what was tried says the same.
    assert [f.noticed.address for f in few.findings if f.rule.code == "C03"] == [
        f.noticed.address for f in all_of_them.findings if f.rule.code == "C03"
    ]
    known = {(f.rule.code, f.noticed.address): f.noticed for f in all_of_them.findings}
    for f in few.findings:
        if f.noticed.outcome:
            assert f.noticed == known[f.rule.code, f.noticed.address]
        else:
            assert f.noticed.sets == () and f.noticed.saves is None


def test_where_a_single_change_is_much_each_rule_tries_one(write, little, monkeypatch):
    monkeypatch.setattr(context, "_MUCH", 1)
    checked = check_model(write(ESTATE, NEAR))
    assert (_changes(checked)["C03"], checked.untried["C03"]) == (1, 10)


def test_a_search_is_one_change(write, little):
    # Each function refuses calls at its limit; the smallest that would not takes several months to find.
    busy = "".join(
        ONE.format(n=n, median=2_000)
        .replace("900 ms", "4500 ms")
        .replace("cpu_share", "instance_limit = 1\ncpu_share")
        .replace("5 /h", "120 /h")
        for n in range(11)
    )
    path = write(busy, NEAR.replace("= 1\n", "= 7\n"))
    checked = check_model(path)
    few = {f.noticed.address: f.noticed for f in checked.findings if f.rule.code == "L02"}
    assert len(few) == 11 and checked.untried["L02"] == 8
    found = [noticed.sets for noticed in few.values() if noticed.sets]
    assert 0 < len(found) <= 3 and any(int(limit) > 2 for ((_, limit),) in found)
    # The smallest with which no more is refused than without a limit, by the account.
    ((address, limit),) = found[0]
    less, with_it, without = (_refused(path, address, n) for n in (int(limit) - 1, int(limit), 1_000))
    assert with_it <= without < less


def _refused(path, address, limit):
    """Calls of a function that are refused where its own limit is another."""
    unit = next(
        u
        for u in project(path, [(address, str(limit))]).played[0].measured.units
        if u.unit.function == address.split(".")[1]
    )
    return unit.attempts["throttled"]


def test_which_are_tried_is_the_same_however_threads_take_turns(write, little):
    path = write(ESTATE, NEAR)
    again = [check_model(path) for _ in range(3)]
    assert len({tuple((f.rule.code, f.noticed) for f in checked.findings).__repr__() for checked in again}) == 1
    assert again[0].untried == again[1].untried == again[2].untried
    # As when the plans have been played already, which ``report`` does.
    known = project(path)
    assert check_model(path, known=known).untried == again[0].untried


@pytest.mark.parametrize(("estate", "keys"), [(ESTATE, FAR), (ESTATE.split("[functions.f10]")[0], NEAR)])
def test_small_parts_and_small_estates_are_tried_in_full(write, little, estate, keys):
    assert not check_model(write(estate, keys)).untried


def test_the_work_allowed_is_by_events_and_functions(write, monkeypatch):
    path = write(ESTATE, NEAR)
    attempts = sum(u.attempts["total"] for u in project(path).played[0].measured.units)
    work = attempts + 11 * 5_000
    for allowed, tried in ((work * 5, 5), (work * 5 - 1, 4), (work * 11, 11)):
        monkeypatch.setattr(context, "_WORK", allowed)
        checked = check_model(path)
        assert (_changes(checked)["C03"], checked.untried.get("C03", 0)) == (tried, 11 - tried)


def test_every_form_says_what_was_not_tried(write, little):
    path = write(ESTATE, NEAR)
    text = run_program("check", str(path), cwd=path.parent).stdout
    said = next(line for line in text.splitlines() if line.startswith("Changes that were not tried: "))
    # Among the first lines: what follows is not all there is.
    assert text.splitlines().index(said) < 5 and "8 of C03" in said and "--every" in text
    data = json.loads(run_program("check", str(path), "--format", "json", cwd=path.parent).stdout)
    assert data["untried"]["C03"] == 8
    log = json.loads(run_program("check", str(path), "--format", "sarif", cwd=path.parent).stdout)
    (note,) = log["runs"][0]["invocations"][0]["toolExecutionNotifications"]
    assert "8 of C03" in note["message"]["text"]
    rows = run_program("check", str(path), "--format", "csv", cwd=path.parent)
    assert "8 of C03" in rows.stderr and "not tried" not in rows.stdout
    run_program("report", str(path), "-o", "page.html", cwd=path.parent)
    assert "8 of C03" in (path.parent / "page.html").read_text()
    run_program("check", str(path), "--plot", "found.svg", cwd=path.parent)
    left = sum(data["untried"].values())
    assert f"{left} more changes were not tried" in (path.parent / "found.svg").read_text()
    every = json.loads(run_program("check", str(path), "--every", "--format", "json", cwd=path.parent).stdout)
    assert every["untried"] == {}


def test_of_a_large_month_the_sample_as_it_is_is_played_once_for_all_rules(write, little, monkeypatch):
    monkeypatch.setattr(context, "_MOST_REPLAYED", 100)
    monkeypatch.setattr(expecting, "OF_EACH_FUNCTION", 0)
    as_it_is, play = [], context.Context._project

    def counted(self, loaded):
        as_it_is.append(loaded is self.loaded)
        return play(self, loaded)

    monkeypatch.setattr(context.Context, "_project", counted)
    assert any(f.noticed.outcome.sampled for f in check_model(write(ESTATE, NEAR)).findings if f.noticed.outcome)
    assert as_it_is.count(True) == 1 < len(as_it_is)


@pytest.mark.parametrize("limits", [NEAR, FAR])
def test_several_processes_find_and_leave_untried_the_same(limits, write, little, monkeypatch):
    path = write(ESTATE, limits)
    expected = check_model(path)
    monkeypatch.setattr(findings, "_ASIDE", 1)
    monkeypatch.setattr(os, "cpu_count", lambda: 3)
    found = check_model(path, aside=True)
    assert found.findings == expected.findings and found.untried == expected.untried
    assert any(f.noticed.outcome for f in found.findings) and bool(found.untried) is (limits == NEAR)
