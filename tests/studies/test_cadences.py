"""``firings``: what other cadences cost, against the same models played whole with the schedule changed."""

from __future__ import annotations

import os

import pytest

from echotally.demand.preview import CADENCES
from echotally.projection.loaded import load
from echotally.projection.project import project_loaded, project_plan
from echotally.studies import firings
from tests.engine.test_apart import estate


def test_a_cadence_costs_what_the_whole_month_costs_with_it(write):
    path = write(estate(3))
    view = firings.view_firings(path)
    assert [s.name for s in view.schedules] == ["s0", "s1", "s2"]
    for schedule in view.schedules:
        for cadence in schedule.cadences[:4]:
            changed = load(path, [(f"schedules.{schedule.name}.cron", CADENCES[cadence.name])])
            played = project_plan(changed, changed.offers["test.plan"], 1)
            assert cadence.cost == played.bill.total, (schedule.name, cadence.name)


@pytest.mark.parametrize("asked", [False, True])
def test_of_a_large_month_cadences_are_costed_only_where_that_is_asked_for(asked, write, monkeypatch):
    monkeypatch.setattr(firings, "_LARGE", 100)
    monkeypatch.setattr(firings, "CADENCES", {"every hour": "0 * * * *"})
    view = firings.view_firings(write(estate(2)), cadences=asked)
    assert all(bool(s.cadences) is asked for s in view.schedules)
    assert (view.cost_now is not None) is asked and view.plan == "test.plan"


@pytest.mark.parametrize(("vcpu", "asked"), [(2, False), (1, True)])
def test_a_plan_to_look_at_runs_on_is_looked_for_only_where_plans_differ_in_them(
    vcpu, asked, write, tmp_path, monkeypatch
):
    monkeypatch.setattr(firings, "_LARGE", 100)
    path = write(estate(2))
    card = (tmp_path / "card.toml").read_text()
    plan = card[card.index("[plans.plan]") :].replace("[plans.plan", "[plans.other")
    (tmp_path / "card.toml").write_text(card + plan.replace("vcpu_per_gb = 2", f"vcpu_per_gb = {vcpu}"))
    played = list[str]()
    monkeypatch.setattr(firings, "project_loaded", lambda *a, **k: played.append("") or project_loaded(*a, **k))
    view = firings.view_firings(path, measured := [(f"functions.map{n}.measured_vcpu", "1") for n in range(2)])
    assert bool(played) is asked and (view.plan is not None) is asked
    assert [s.overlap for s in view.schedules] == [
        s.overlap for s in firings.view_firings(path, measured, cadences=True).schedules
    ]


def test_several_processes_find_the_same_costs(write, monkeypatch):
    path = write(estate(3))
    expected = firings.view_firings(path)
    monkeypatch.setattr(firings, "_WORTH_MORE", 1)
    monkeypatch.setattr(os, "cpu_count", lambda: 3)
    shares = list[float]()
    found = firings.view_firings(
        path, aside=True, progress=lambda what, share: shares.append(share) if what == "cadences" else None
    )
    assert [s.cadences for s in found.schedules] == [s.cadences for s in expected.schedules]
    assert shares == sorted(shares) and shares[-1] <= 1
