"""Ends of a forecast's inputs told from the part that an input belongs to, beside the same forecast with whole months played."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from echotally.output.studies.forecast_view import forecast_json
from echotally.projection.loaded import Loaded, load
from echotally.projection.project import why_not
from echotally.studies import forecast_months, forecast_trials
from echotally.studies.forecast import forecast
from echotally.studies.later_months import month_with
from tests.small_estates import soon_played
from tests.studies.made_up_plans import FIXED, RUNS

PARTS = "".join(
    f"""
[functions.f{n}]
memory = "512 MB"
run = "{n} s"
error_rate = 0.1
run_range = {{ low = 0.5, high = 1.7 }}
[{kind}.s{n}]
[demand.d{n}]
into = "{kind}.s{n}"
rate = "{9 * n} /h"
growth = 0.2
range = {{ low = 0.7, high = 1.5 }}
[[triggers]]
from = "{kind}.s{n}"
to = "f{n}"
"""
    for n, kind in enumerate(("endpoints", "queues", "streams"), 1)
)
PLAN = RUNS.format(name="p", calls="0.00001", seconds="0.00002", free=5_000)


@pytest.fixture
def told(monkeypatch: pytest.MonkeyPatch) -> list[bool]:
    """Whether each end that was asked for was told from its part."""
    asked: list[bool] = []
    usual = forecast_trials.Moving.with_factor

    def with_factor(trials: forecast_trials.Moving, *moved: object) -> object:
        found = usual(trials, *moved)  # type: ignore[arg-type]
        asked.append(found is not None)
        return found

    monkeypatch.setattr(forecast_trials.Moving, "with_factor", with_factor)
    return asked


def _both_ways(model: Loaded, monkeypatch: pytest.MonkeyPatch, *plans: str) -> tuple[str, str]:
    """The forecast with large months from this many events on: none, and all."""
    found = []
    for large in (10**18, 0):
        monkeypatch.setattr(forecast_trials, "_LARGE", large)
        found.append(forecast_json(forecast(model, 3, 20, plans=plans)))
    return found[0], found[1]


def test_random_estates(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, told: list[bool]) -> None:
    for _, loaded, offer, placement in soon_played(tmp_path, (2, 14, 29, 33)):
        if why_not(loaded, placement):
            continue
        whole, parted = _both_ways(loaded, monkeypatch, offer.name)
        assert parted == whole
    assert sum(told) > 10


def test_ranges(estate: Callable[..., Path], monkeypatch: pytest.MonkeyPatch, told: list[bool]) -> None:
    """Six inputs, each at both ends in three months on two plans; the second plan's instances are everybody's, so that it has no parts."""
    model = load(estate(PARTS, PLAN, FIXED.format(name="r", hour="0.01", calls="0.000001")))
    whole, parted = _both_ways(model, monkeypatch)
    assert parted == whole
    assert told == [True] * 36


def test_a_limit_that_is_shared(estate: Callable[..., Path], monkeypatch: pytest.MonkeyPatch, told: list[bool]) -> None:
    """Where calls of all parts may come to their account's limit, whole months are played."""
    plan = PLAN.replace("vcpu_per_gb = 1", "vcpu_per_gb = 1\nconcurrency_limit = 2")
    whole, parted = _both_ways(load(estate(PARTS, plan)), monkeypatch)
    assert parted == whole
    assert told
    assert not any(told)


def test_no_whole_month_is_made_for_what_a_part_tells(
    estate: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    made: list[object] = []

    def with_factors(loaded: Loaded, step: int, factors: object = None) -> Loaded:
        made.append(factors)
        return month_with(loaded, step, factors)  # type: ignore[arg-type]

    model = load(estate(PARTS, PLAN))
    monkeypatch.setattr(forecast_trials, "_LARGE", 0)
    monkeypatch.setattr(forecast_months, "month_with", with_factors)
    forecast(model, 1, 1)
    # But the one draw that is played to see how far off the answer is.
    assert len([factors for factors in made if factors]) <= 1
