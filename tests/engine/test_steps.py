"""A stretch of the month in steps: whatever the steps, they add up to the month, and levels are those of the log."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from pathlib import Path

import numpy as np
import pytest

import echotally
from echotally.engine.layout import SERIES
from echotally.engine.play import begun
from echotally.engine.steps import Stepped, stepped, steps_of
from echotally.errors import BadInput
from echotally.projection.answer import PlayedPlan, Projection
from echotally.projection.loaded import Loaded, load, placement_on
from echotally.projection.window import Look, window

HOUR = 3_600 * 10**9
PLAN = "heron.per-run"


@pytest.fixture(scope="module")
def loaded(river: Path) -> Loaded:
    return load(river)


@pytest.fixture(scope="module")
def month(loaded: Loaded) -> Projection:
    return echotally.project(loaded, plans=[PLAN])


@pytest.fixture(scope="module")
def plan(month: Projection) -> PlayedPlan:
    found = month.plan(PLAN)
    assert isinstance(found, PlayedPlan)
    return found


def seen(loaded: Loaded, edges: list[int]) -> Stepped:
    offer = loaded.offers[PLAN]
    placement = placement_on(loaded.model, loaded.offers, offer)
    return stepped(begun(loaded.model, loaded.month.arrivals, placement, loaded.model.estate.seed), edges)


@pytest.mark.parametrize("step", [HOUR, 7 * HOUR + 11 * 60 * 10**9, 24 * HOUR])
def test_the_steps_of_a_month_add_up_to_it(step: int, loaded: Loaded, plan: PlayedPlan) -> None:
    found = seen(loaded, steps_of(0, loaded.month.clock.length_ns, step))
    place = {(u.function, u.environment): n for n, u in enumerate(found.units)}
    for unit in plan.units:
        mine = {name: values[place[unit.key]] for name, values in found.columns.items()}
        assert mine["started"].sum() == unit.started
        assert mine["cold_starts"].sum() == unit.cold_starts
        assert mine["throttled"].sum() == unit.attempts["throttled"]
        assert [mine[name].sum() for name in ("succeeded", "failed", "timed_out")] == [
            unit.attempts[name] for name in ("succeeded", "failed", "timed_out")
        ]
        assert mine["concurrency_peak"].max() == unit.concurrency.peak
        assert mine["backlog_peak"].max() == unit.backlog_peak
        lag = mine["lag_s"].max()
        assert np.isnan(lag) if unit.lag_max_s is None else lag == pytest.approx(unit.lag_max_s)
        # What still runs at the end is billed there, after the last step.
        assert mine["busy_s"].sum() == pytest.approx(unit.busy_ns / 1e9, rel=1e-6, abs=1e-3) or unit.attempts["running"]


def test_hours_are_those_of_the_series(loaded: Loaded, plan: PlayedPlan) -> None:
    found = seen(loaded, steps_of(0, loaded.month.clock.length_ns, HOUR))
    place = {(u.function, u.environment): n for n, u in enumerate(found.units)}
    order = [place[unit.key] for unit in plan.measured.units]
    for name in ("arrivals", "throttled", "concurrency_peak", "instances_peak", "backlog_peak"):
        # The month's last instant belongs to no step.
        hourly = plan.measured.series.all_of(SERIES.index(name))[:, :-1]
        np.testing.assert_array_equal(found.columns[name][order][:, :-1], hourly)


def test_a_stretch_is_that_part_of_the_month_whatever_came_before(loaded: Loaded) -> None:
    whole = seen(loaded, steps_of(0, 14 * 24 * HOUR, 600 * 10**9))
    part = seen(loaded, steps_of(13 * 24 * HOUR, 14 * 24 * HOUR, 600 * 10**9))
    for name, values in part.columns.items():
        np.testing.assert_array_equal(values, whole.columns[name][:, -len(part.starts_ns) :], err_msg=name)


def test_quantiles_of_a_step_are_those_of_the_waits_in_it(tmp_path: Path, river: Path) -> None:
    """Constant waits: a call every minute finds no warm instance and waits for one of 400 ms."""
    (tmp_path / "rates").mkdir()
    (tmp_path / "rates/heron.toml").write_bytes((river.parent / "rates/heron.toml").read_bytes())
    (tmp_path / "m.toml").write_text(
        'schema = "echotally-model/1"\n[estate]\nname = "w"\nmonth = "2027-02"\nrate_cards = ["rates/heron.toml"]\n'
        '[functions.f]\nmemory = "256 MB"\nrun = "2 s"\ncold_start = "400 ms"\n'
        '[schedules.s]\ncron = "*/20 * * * *"\n[[triggers]]\nfrom = "schedules.s"\nto = "f"\n'
    )
    loaded = load(tmp_path / "m.toml")
    played = echotally.project(loaded, plans=[PLAN]).plan(PLAN)
    assert isinstance(played, PlayedPlan)
    one = window(loaded, played, Look(date(2027, 2, 3), date(2027, 2, 4), "10 min"))
    waits = one.of("wait_p95_s")
    # Fires every twenty minutes, an instance is kept for seven: every other step has one cold call.
    assert list(np.isfinite(waits)) == [True, False] * 72
    assert waits[::2] == pytest.approx(0.4) and one.of("cold_starts").sum() == 72
    frame = one.to_frame()
    assert frame["from"].iloc[0] == "2027-02-03T00:00:00+00:00" and len(frame) == 144


@pytest.mark.parametrize(
    ("when", "step", "why"),
    [
        ((date(2027, 3, 5), date(2027, 3, 5)), None, "is no stretch of time"),
        ((date(2027, 5, 1), None), None, "lies outside the month"),
        ((date(2027, 3, 1), None), "1 ms", "makes too many steps"),
        ((date(2027, 3, 1), None), "often", "is no length of time"),
    ],
)
def test_a_stretch_that_is_none_is_refused(
    when: tuple[date, date | None], step: str | None, why: str, loaded: Loaded, plan: PlayedPlan
) -> None:
    with pytest.raises(BadInput, match=why):
        window(loaded, plan, Look(*when, step))


def test_local_times_hold_across_a_change_of_the_clock(loaded: Loaded, plan: PlayedPlan) -> None:
    night = window(loaded, plan, Look(datetime(2027, 3, 28, 0), datetime(2027, 3, 28, 4), "1 h"))
    assert [at.hour for at in night.times()] == [0, 2, 3]
    assert night.seconds().sum() == timedelta(hours=3).total_seconds()
