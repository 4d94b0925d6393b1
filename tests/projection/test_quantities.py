"""Months of which only quantities are asked: what they cost and which targets they miss is that of the month as ever."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

import echotally
from echotally.engine import layout
from echotally.engine.play import begun, flushed, keep_quantities, play
from echotally.errors import BadInput
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import load, placement_on
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from echotally.projection.verdict import asks_for_times
from echotally.studies.demand_points import demand_points
from tests.small_estates import soon_played

TIMES = ("wait_p95", "latency_p95")


def test_what_it_costs_and_misses_is_what_the_whole_month_says(tmp_path: Path) -> None:
    compared, missed = 0, 0
    for _, loaded, offer, _ in soon_played(tmp_path, range(70)):
        try:
            whole = project_plan(loaded, offer, 1)
        except BadInput:
            continue
        lean = project_plan(loaded, offer, 1, how=Playing(quantities_only=True))
        if not isinstance(whole, PlayedPlan):
            assert lean == whole
            continue
        assert isinstance(lean, PlayedPlan)
        assert (lean.bill, lean.metered, lean.totals.attempts) == (whole.bill, whole.metered, whole.totals.attempts)
        assert _no_times(lean.checks) == _no_times(whole.checks)
        for one, other in zip(lean.units, whole.units, strict=True):
            assert (one.events, one.attempts, one.cold_starts) == (other.events, other.attempts, other.cold_starts)
            assert one.waits.p95 is None
        compared, missed = compared + 1, missed + bool(whole.misses)
    assert compared > 40 and missed > 5


def test_nothing_is_written_into_sketches(river: Path) -> None:
    loaded = load(river, [("environments.live.demand", "0.01")])
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["heron.per-run"])
    sizes = []
    for lean in (False, True):
        built = begun(loaded.model, loaded.month.arrivals, placement, 1)
        if lean:
            keep_quantities(built)
        play(built)
        flushed(built)
        levels = {
            name: bool(getattr(built.world, name).any()) for name in ("level_bins", "estate_levels", "count_bins")
        }
        sizes.append(levels | {f"sketch {n}": bool(built.world.sketches[:, n].any()) for n in range(layout.SKETCHES)})
    assert all(sizes[0].values()) and not any(sizes[1].values())


@pytest.mark.parametrize(
    ("targets", "own", "asks"),
    [
        ("", "", False),
        ('throttled = 0.01\nlost = 3\nmonthly_cost = "5"', "left_behind = 0.1", False),
        ('wait_p95 = "1 s"', "", True),
        ("", 'latency_p95 = "1 s"', True),
    ],
)
def test_targets_about_times_are_known(write: Any, targets: str, own: str, asks: bool) -> None:
    text = f'[targets]\n{targets}\n[functions.f]\nmemory = "128 MB"\nrun = "1 s"\n[functions.f.targets]\n{own}\n'
    assert asks_for_times(load(write(text)).model) is asks


def test_the_slider_is_the_same_from_quantities_alone(river: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    loaded = load(river, [("environments.live.demand", "0.02")])
    projection = echotally.project(loaded, plans=["heron.shared", "osier.fixed"])
    points = []
    for asks in (True, False):
        monkeypatch.setattr("echotally.studies.demand_points.asks_for_times", lambda _, asks=asks: asks)
        points.append(demand_points(loaded, projection, (0.5, 2.0)))
    without = [[replace(plan, misses=_no_times(plan.misses), undecided=()) for plan in p.plans] for p in points[0]]
    assert without == [
        [replace(plan, misses=_no_times(plan.misses), undecided=()) for plan in p.plans] for p in points[1]
    ]


def _no_times(checks: Any) -> Any:
    return tuple(check for check in checks if check.target not in TIMES)
