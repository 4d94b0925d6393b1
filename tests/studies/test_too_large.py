"""Studies in which months of some plan are too large even for a sample."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from importlib import import_module
from pathlib import Path
from types import ModuleType
from typing import Any

import pytest

from echotally.errors import BadInput, Problem, TooLarge
from echotally.output.studies.forecast_view import forecast_assumptions, forecast_json, forecast_verdict
from echotally.output.studies.sweep_view import sweep_json, sweep_text, sweep_verdict
from echotally.projection.answer import PlanProjection
from echotally.projection.demand import view_demand
from echotally.projection.loaded import Loaded
from echotally.projection.project import project_plan
from echotally.rates.card_loading import Offer
from echotally.studies import drain as draining
from echotally.studies import forecast as forecasting
from echotally.studies import forecast_months, jobs
from echotally.studies.drain import drain
from echotally.studies.follow.follow import follow
from echotally.studies.forecast import forecast
from echotally.studies.later_months import month_with
from echotally.studies.sweep import sweep
from tests.conftest import run_program
from tests.studies.made_up_plans import RUNS
from tests.studies.test_ahead import MODEL

Refused = Callable[[str, int, Mapping[str, float]], bool]


def _too_large_where(refused: Refused, monkeypatch: pytest.MonkeyPatch) -> None:
    """Months are too large even for a sample where ``refused`` says so of plan, step, and factors by address."""
    asked: list[tuple[Loaded, int, Mapping[str, float]]] = []

    def with_factors(loaded: Loaded, step: int, factors: Mapping[str, float] | None = None) -> Loaded:
        asked.append((month_with(loaded, step, factors), step, factors or {}))
        return asked[-1][0]

    def played(loaded: Loaded, offer: Offer, *more: Any) -> PlanProjection:
        _, step, factors = next(each for each in asked if each[0] is loaded)
        if refused(offer.name, step, factors):
            raise TooLarge(Problem("too large"))
        return project_plan(loaded, offer, *more)

    for module in (forecasting, forecast_months):
        monkeypatch.setattr(module, "month_with", with_factors)
    monkeypatch.setattr(forecast_months, "project_plan", played)


@pytest.fixture
def two_plans(estate: Callable[..., Path]) -> Path:
    prices = (("p", "0.00001"), ("q", "0.00002"))
    return estate(
        MODEL.replace("1 GB", "512 MB"),
        *(RUNS.format(name=name, calls=calls, seconds="0.00002", free=0) for name, calls in prices),
    )


@pytest.mark.parametrize(
    "where", [lambda step, factors: step == 0, lambda step, factors: step == 2, lambda step, factors: bool(factors)]
)
def test_a_plan_of_which_some_month_is_too_large_is_left_out_and_said_to_be(
    two_plans: Path, monkeypatch: pytest.MonkeyPatch, where: Callable[[int, Mapping[str, float]], bool]
) -> None:
    usual = forecast(two_plans, 3, 50)
    assert usual.plan == "c.p" and json.loads(forecast_json(usual))["unplayed"] == []
    _too_large_where(lambda plan, step, factors: plan == "c.p" and where(step, factors), monkeypatch)
    found = forecast(two_plans, 3, 50)
    assert [plan.plan for plan in found.plans] == ["c.q"] == [found.plan] and found.unplayed == ("c.p",)
    assert found.plans[0].total == usual.plans[1].total
    lines = forecast_verdict(found)
    assert "of those played" in lines[0] and "c.p was not played, and may cost less" in lines[1]
    assert json.loads(forecast_json(found))["unplayed"] == ["c.p"]
    _too_large_where(lambda plan, step, factors: where(step, factors), monkeypatch)
    with pytest.raises(TooLarge, match="too large"):
        forecast(two_plans, 3, 50)


def test_what_is_moved_or_drawn_is_left_out_alone_where_it_is_too_large(
    two_plans: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    text = two_plans.read_text().replace("[targets]", '[demand.more]\ninto = "endpoints.e"\nrate = "9 /h"\n[targets]')
    two_plans.write_text(text)
    usual = forecast(two_plans, 3, 50)
    assert [swing.input.address for swing in usual.tornado if not swing.input.declared] == ["demand.more"]
    # Draws move all inputs with a range at once.
    _too_large_where(lambda plan, step, factors: "demand.more" in factors or len(factors) > 1, monkeypatch)
    found = forecast(two_plans, 3, 50)
    assert found.plans == usual.plans and found.unplayed == () and found.error is None
    assert [swing for swing in usual.tornado if swing.input.declared] == list(found.tornado)
    assert "not moved, since even a sample of the month is too large there: demand.more" in found.notes
    assert any("was not checked" in line for line in forecast_assumptions(found))
    assert json.loads(forecast_json(found))["error"] is None


QUEUED = """
[functions.f]
memory = "512 MB"
run = "100 ms"
[queues.e]
[demand.d]
into = "queues.e"
rate = "90 /h"
[[triggers]]
from = "queues.e"
to = "f"
"""


def _no_month_where(refused: Callable[[Loaded, str], bool], where: ModuleType, monkeypatch: pytest.MonkeyPatch) -> None:
    def played(loaded: Loaded, offer: Offer, *more: Any, **how: Any) -> PlanProjection:
        if refused(loaded, offer.name):
            raise TooLarge(Problem("too large"))
        return project_plan(loaded, offer, *more, **how)

    monkeypatch.setattr(where, "project_plan", played)


@pytest.mark.parametrize("vary", ["functions.f.memory=256 MB,512 MB", "demand.d.rate=90 /h,900 /h"])
def test_a_sweep_goes_on_without_the_points_that_are_too_large_and_says_so(
    two_plans: Path, monkeypatch: pytest.MonkeyPatch, vary: str
) -> None:
    first = vary.split("=")[1].split(",", maxsplit=1)[0]
    usual = sweep(two_plans, [vary])
    seen: list[object] = []

    def refused(loaded: Loaded, plan: str) -> bool:
        here = (loaded.model.functions["f"].memory, loaded.model.demand["d"].rate)
        seen.append(here)
        return plan == "c.p" and here == seen[0]

    _no_month_where(refused, jobs, monkeypatch)
    found = sweep(two_plans, [vary], workers=1)
    assert found.unplayed == (("c.p", 1),) and usual.unplayed == ()
    left = [row for row in usual.rows if (row["plan"], row[vary.split("=", maxsplit=1)[0]]) != ("c.p", first)]
    assert [row | {"front": None} for row in found.rows] == [row | {"front": None} for row in left]
    assert "of those played" in sweep_verdict(found) and "of those played" not in sweep_verdict(usual)
    assert "c.p was not played at 1 of 2 points" in " ".join(sweep_text(found, 300).split())
    assert json.loads(sweep_json(found))["unplayed"] == [{"plan": "c.p", "points": 1}]
    # What no plan could take is no answer either where the others were not played.
    short = RUNS.format(name="short", calls="0.1", seconds="0.1", free=0)
    card = two_plans.with_name("card.toml")
    card.write_text(card.read_text() + short.replace('bills = "runs"', 'bills = "runs"\ntimeout_limit = "1 ms"'))
    _no_month_where(lambda loaded, plan: plan != "c.short", jobs, monkeypatch)
    with pytest.raises(TooLarge, match="too large"):
        sweep(two_plans, [vary], workers=1)


def test_a_drain_leaves_out_plans_whose_own_month_is_too_large(
    estate: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    path = estate(QUEUED, *(RUNS.format(name=name, calls="0.1", seconds="0.1", free=0) for name in "pq"))
    usual = drain(path, "e", 50, limits=(1, 2))
    _no_month_where(lambda loaded, plan: plan == "c.p", draining, monkeypatch)
    found = drain(path, "e", 50, limits=(1, 2))
    assert found.rows == tuple(row for row in usual.rows if row.plan == "c.q") and len(found.rows) == 2
    assert [plan for plan, why in found.reasons if "too large" in why] == ["c.p"]
    _no_month_where(lambda loaded, plan: True, draining, monkeypatch)
    with pytest.raises(TooLarge, match="too large"):
        drain(path, "e", 50)


@pytest.mark.parametrize("rate", ["4000 /s", "1000000000000 /s"])
def test_more_events_than_can_be_drawn_are_refused(estate: Callable[..., Path], rate: str) -> None:
    path = estate(QUEUED.replace("90 /h", rate), RUNS.format(name="p", calls="0.1", seconds="0.1", free=0))
    with pytest.raises(TooLarge, match="drawn one by one"):
        view_demand(path)


def test_what_needs_every_event_is_refused_before_a_large_month_is_played(
    estate: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    # 54 million events, on two plans of which one would have to be picked first.
    path = estate(
        QUEUED.replace("90 /h", "20 /s"), *(RUNS.format(name=name, calls="0.1", seconds="0.1", free=0) for name in "pq")
    )

    def played(*_: object, **__: object) -> None:
        raise AssertionError("nothing is played")

    monkeypatch.setattr(import_module("echotally.studies.follow.follow"), "project_loaded", played)
    monkeypatch.setattr(import_module("echotally.projection.project"), "project", played)
    with pytest.raises(BadInput, match="too large to be played event by event"):
        follow(path)
    in_steps = "the month has too many events to be seen step by step"
    for asked, said in (
        (["--plot", "a.png", "--chart", "dashboard"], f"--chart: {in_steps}"),
        (["--plot", "a.png", "--chart", "levels", "--from", "2027-03-02"], f"--from: {in_steps}"),
        (["--log", "a.csv"], "--log: the month has too many events for a log of each"),
    ):
        done = run_program("project", path.name, *asked, cwd=path.parent)
        assert done.returncode == 2 and said in done.stderr
