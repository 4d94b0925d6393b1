"""Crossings against closed forms, and what of them is not known."""

from __future__ import annotations

import json

import numpy as np
import pytest

from echotally.errors import BadInput, TooLarge
from echotally.output.studies.crossover_view import crossover_json, crossover_text
from echotally.output.studies.sweep_view import sweep_text
from echotally.projection.project import project_plan
from echotally.studies import jobs
from echotally.studies.crossover import _per_decade, crossover
from echotally.studies.jobs import row_of
from echotally.studies.sweep import sweep
from tests.studies.made_up_plans import FIXED, MODEL, RUNS


@pytest.mark.parametrize(
    ("calls", "hour", "fixed_calls", "truth"),
    [
        # N calls at 0.01 against 744 h x 0.05 = 37.20: N = 3,720, 3.72 times today.
        ("0.01", "0.05", "0", 3.72),
        # 0.02 N = 74.40 + 0.005 N: N = 4,960.
        ("0.02", "0.10", "0.005", 4.96),
    ],
)
def test_two_linear_plans_cross_where_algebra_says(estate, calls, hour, fixed_calls, truth):
    path = estate(
        MODEL,
        RUNS.format(name="each", calls=calls, seconds="0", free=0),
        FIXED.format(name="flat", hour=hour, calls=fixed_calls),
    )
    found = crossover(path, 0.1, 100, workers=1)
    (crossing,) = found.crossings
    assert crossing.scale == pytest.approx(truth, rel=0.01)
    assert crossing.events == pytest.approx(truth * 1_000, rel=0.01)
    assert (crossing.below, crossing.above, crossing.cheapest) == ("c.each", "c.flat", True)
    assert found.cheapest(found.scales[0])["plan"] == "c.each"
    assert found.cheapest(found.scales[-1])["plan"] == "c.flat"


@pytest.mark.parametrize("scale", [(0.1, 10), (0.5, 2), (1, 100)])
def test_a_crossing_at_a_volume_looked_at_is_found_too(estate, scale):
    # 1,000 calls at 0.0372 are 37.20, as much as 744 h x 0.05: the plans cost the same today, to the last digit.
    path = estate(
        MODEL,
        RUNS.format(name="each", calls="0.0372", seconds="0", free=0),
        FIXED.format(name="flat", hour="0.05", calls="0"),
    )
    crossings = crossover(path, *scale, workers=1).crossings
    # Looked at from today on, the order never changes.
    assert [c.scale for c in crossings] == ([] if scale[0] == 1 else [pytest.approx(1, rel=0.01)])


def test_a_price_that_falls_for_all_at_a_tier_crosses_three_times(estate):
    # 37.20 is reached at 3,720 calls of 0.01; above 5,000 every call costs 0.005, which is 25 and reaches 37.20 at 7,440.
    tiers = 'calls = { volume = true, tiers = [{ up_to = 5_000, unit = "0.01" }, { unit = "0.005" }] }'
    each = RUNS.format(name="each", calls="1", seconds="0", free=0).replace('calls = { unit = "1" }', tiers)
    found = crossover(estate(MODEL, each, FIXED.format(name="flat", hour="0.05", calls="0")), 1, 100, workers=2)
    assert [c.scale for c in found.crossings] == pytest.approx([3.72, 5.0, 7.44], rel=0.01)
    assert [c.below for c in found.crossings] == ["c.each", "c.flat", "c.each"]
    # At the step the two plans do not cost the same; what stands there is a cost of one of them near it.
    assert found.crossings[0].cost == pytest.approx(37.2, rel=0.01) == found.crossings[2].cost


def test_the_crossings_do_not_depend_on_the_workers(estate):
    plans = [RUNS.format(name=f"p{n}", calls=f"0.0{n}", seconds="0", free=0) for n in (1, 3)]
    path = estate(MODEL, *plans, *(FIXED.format(name=f"f{n}", hour=f"0.0{n}", calls="0.001") for n in (2, 5)))
    alone, together = crossover(path, 0.1, 100, workers=1), crossover(path, 0.1, 100, workers=3)
    assert alone.crossings == together.crossings and len(alone.crossings) == 4
    assert sum(c.cheapest for c in alone.crossings) == 1


def test_an_allowance_moves_the_crossing_by_itself(estate):
    # 0.01 (N - 500) = 37.20: N = 4,220.
    path = estate(
        MODEL,
        RUNS.format(name="each", calls="0.01", seconds="0", free=500),
        FIXED.format(name="flat", hour="0.05", calls="0"),
    )
    (crossing,) = crossover(path, 1, 10, workers=1).crossings
    assert crossing.scale == pytest.approx(4.22, rel=0.01)


@pytest.mark.parametrize(("largest", "said"), [(3.0, "from 3.981 x on"), (0.0, None)])
def test_a_plan_whose_months_are_too_large_is_left_out(estate, monkeypatch, largest, said):
    path = estate(
        MODEL,
        RUNS.format(name="each", calls="0.01", seconds="0", free=0),
        RUNS.format(name="late", calls="0.001", seconds="0", free=0),
        FIXED.format(name="flat", hour="0.05", calls="0"),
    )

    def played(loaded, offer, *given, **more):
        if sum(tap.expected for tap in loaded.month.taps) > largest * 1_000 and (offer.name == "c.late" or not said):
            raise TooLarge("more than may be played")
        return project_plan(loaded, offer, *given, **more)

    monkeypatch.setattr(jobs, "project_plan", played)
    if not said:
        with pytest.raises(BadInput, match="even a sample"):
            crossover(path, 1, 10, workers=1)
        return
    found = crossover(path, 1, 10, workers=1)
    # What is left out says nothing of the others: 0.01 N = 37.20.
    (crossing,) = found.crossings
    assert (crossing.below, crossing.above) == ("c.each", "c.flat") and crossing.scale == pytest.approx(3.72, rel=0.01)
    assert {plan for _, plan in found.too_large} == {"c.late"} and min(found.too_large)[0] > largest
    # Up to there it is the cheapest; beyond it is not known, and the text says so before any figure.
    assert found.picks()[0] == (1.0, "c.late") and found.picks()[-1][1] == "c.flat"
    told = crossover_text(found, 120)
    assert f"c.late is left out {said}" in told.split("\n\n")[0].replace("\n", " ")
    assert json.loads(crossover_json(found))["too_large"][0] == {"scale": min(found.too_large)[0], "plan": "c.late"}
    assert [row["scale"] for row in found.rows if row["plan"] == "c.late"] == [s for s in found.scales if s <= largest]


@pytest.mark.parametrize("stored", [False, True], ids=["at once", "cut off and gone on"])
def test_larger_months_of_a_plan_that_is_left_out_are_not_tried(estate, monkeypatch, tmp_path, stored):
    path = estate(MODEL, *(RUNS.format(name=name, calls="0.01", seconds="0", free=0) for name in ("calm", "late")))
    asked, cut = [], [3] if stored else []

    def played(loaded, offer, *given, **more):
        events = sum(tap.expected for tap in loaded.month.taps)
        if cut and sum(name == "c.calm" for name, _ in asked) > cut[0]:
            raise KeyboardInterrupt
        asked.append((offer.name, events))
        if events > 2_000 and offer.name == "c.late":
            raise TooLarge("more than may be played")
        return project_plan(loaded, offer, *given, **more)

    monkeypatch.setattr(jobs, "project_plan", played)
    monkeypatch.setattr("echotally.studies.crossover._LARGE", 1_500)
    store = tmp_path / "points.sqlite" if stored else None
    if stored:
        with pytest.raises(KeyboardInterrupt):
            crossover(path, 1, 10, workers=1, store=store)
        cut.clear()
    found = crossover(path, 1, 10, workers=1, store=store)
    tried = [events for name, events in asked if name == "c.late"]
    # Once beyond 2,000 events, and never twice at a volume.
    assert sum(events > 2_000 for events in tried) == 1 and len(set(tried)) == len(tried)
    assert {plan for _, plan in found.too_large} == {"c.late"} and len(found.too_large) == 4
    assert [row["scale"] for row in found.rows if row["plan"] == "c.calm"] == list(found.scales)


@pytest.fixture
def estimated(monkeypatch):
    """Have every month known to 5 % only, as if it were a sample; returns the list of months asked for."""
    asked = []

    def rows(plan):
        asked.append(plan.offer.name)
        row = row_of(plan)
        return row | {"cost_low": row["cost_total"] * 0.95, "cost_high": row["cost_total"] * 1.05}

    monkeypatch.setattr(jobs, "row_of", rows)
    return asked


def test_a_crossing_of_samples_is_told_with_its_interval_and_sought_no_further(estate, estimated):
    path = estate(
        MODEL,
        RUNS.format(name="each", calls="0.01", seconds="0", free=0),
        FIXED.format(name="flat", hour="0.05", calls="0"),
    )
    found = crossover(path, 1, 10, workers=1)
    (crossing,) = found.crossings
    # 10 N thousand calls a month against 37.20, each to 5 %: 2.63 together, which is 0.263 of a volume at a slope of 10.
    assert crossing.low < 3.72 < crossing.high
    assert crossing.high - crossing.low == pytest.approx(2 * 0.263, rel=0.1)
    # Six volumes of two plans, and two looks between two of them; searched for to 1 % it would take more.
    assert len(estimated) <= 2 * 6 + 4
    told = crossover_text(found, 120)
    assert "Costs with ~ are estimates from samples, from 1 x on" in told and "within 5 %" in told
    assert f"c.flat from {crossing.scale:.2g} x ({crossing.low:.2g} to {crossing.high:.2g})" in told
    assert "~37.20" in told and "95 % interval" in told
    data = json.loads(crossover_json(found))
    assert data["crossings"][0]["low"] == crossing.low
    assert data["rows"][0]["cost_high"] == pytest.approx(data["rows"][0]["cost_total"] * 1.05)


def test_large_multiples_are_told_in_digits(estate, estimated):
    # One call a month: the crossing of 3,720 calls is as many times today's.
    path = estate(
        MODEL.replace("1_000", "1"),
        RUNS.format(name="each", calls="0.01", seconds="0", free=0),
        FIXED.format(name="flat", hour="0.05", calls="0"),
    )
    told = crossover_text(crossover(path, 1_000, 10_000, workers=1), 120)
    assert "c.flat from 3,700 x (3," in told and "e+0" not in told


def test_a_sweep_of_samples_says_what_may_change_places(estate, estimated):
    # 1,000 calls of 2 and 4 s and a price of a second: 2 and 4, and 2.1 on the plan that is 5 % dearer.
    plans = [
        RUNS.format(name=name, calls="0", seconds=price, free=0) for name, price in (("a", "0.002"), ("b", "0.0021"))
    ]
    path = estate(MODEL, *plans)
    found = sweep(path, ["functions.f.run=2 s,4 s"], workers=1)
    told = sweep_text(found, 140)
    assert "Costs with ~ are estimates from samples" in told and "within 5 %" in told
    assert "1 other point(s) may cost as little as the best" in told
    assert f"~{found.best['cost_total']:.2f}" in told


def test_plans_that_samples_do_not_tell_apart_do_not_cross(estate, estimated):
    # 3 % apart, and crossing at 3.72 by algebra: neither is known to be the cheaper anywhere.
    path = estate(
        MODEL,
        RUNS.format(name="one", calls="0.0103", seconds="0", free=0),
        RUNS.format(name="other", calls="0.01", seconds="0.001", free=0),
    )
    assert not crossover(path, 1, 10, workers=1).crossings


def test_where_a_target_is_undecided_its_change_is_told_between_what_is_decided(estate, monkeypatch):
    def rows(plan):
        row = row_of(plan)
        cost = row["cost_total"]
        met = None if 20 <= cost < 30 else cost < 20
        return row | {"meets_targets": met, "cost_low": cost, "cost_high": cost}

    monkeypatch.setattr(jobs, "row_of", rows)
    found = crossover(estate(MODEL, RUNS.format(name="each", calls="0.01", seconds="0", free=0)), 1, 10, workers=1)
    (change,) = found.changes
    # 10 a volume: met below 2, missed from 3 on.
    assert not change.meets and change.low < change.scale < change.high
    assert change.low <= 2 <= change.low * 1.06 and change.high >= 3 >= change.high / 1.06
    told = crossover_text(found, 120)
    assert f"none for certain from {change.scale:.2g} x ({change.low:.2g} to {change.high:.2g})" in told.replace(
        "\n", " "
    )
    assert "as far as it is decided" in told


@pytest.mark.parametrize(("events", "functions", "a_decade"), [(30_000, 10, 5), (3_000_000, 10, 2), (30_000, 1_000, 2)])
def test_large_studies_look_at_fewer_volumes(events, functions, a_decade):
    assert _per_decade(0.01, 100, events, 7, functions) == a_decade


@pytest.mark.parametrize(
    # How much is soon played, in events; two plans of a thousand events today and one function, which counts as 2,500.
    ("soon", "low", "high", "volumes"),
    [
        # 0.01 to 100 times at two a decade: 2 x (9 x 2,500 + 1,000 x 146.2), more for the function.
        (340_000, 0.01, 100, 21),
        (330_000, 0.01, 30, 8),
        # 0.01 to 10 times: 2 x (7 x 2,500 + 1,000 x 14.6).
        (70_000, 0.01, 10, 7),
        (1, 0.5, 2, 3),
    ],
)
def test_where_nobody_says_how_far_it_is_as_far_as_is_soon_played(
    estate, monkeypatch: pytest.MonkeyPatch, soon, low, high, volumes
):
    monkeypatch.setattr("echotally.studies.crossover._SOON", soon)
    calls = RUNS.format(name="each", calls="0.0372", seconds="0", free=0)
    path = estate(MODEL, calls, FIXED.format(name="flat", hour="0.05", calls="0"))
    found = crossover(path, workers=1)
    assert [found.scales[0], found.scales[-1]] == pytest.approx([low, high])
    assert len(found.scales) == volumes and found.narrowed is (high < 100)
    assert np.diff(np.log(found.scales)) == pytest.approx(np.log(high / low) / (volumes - 1))
    # Both cost the same today, wherever one looks from.
    assert [c.scale for c in found.crossings] == [pytest.approx(1, rel=0.01)]
    said = f"From {low} to {high} times today's demand, which is soon played" in crossover_text(found, 160)
    assert said is found.narrowed is json.loads(crossover_json(found))["narrowed"]
    # Half of it being asked for, the other half is as usual.
    assert crossover(path, high=2, workers=1).scales[0] == 0.01


def test_a_step_is_a_crossing_between_the_volumes_around_it(estate):
    # From 5,001 calls on every call costs a tenth: 37.20 is passed downwards in one step, at 5.0005 times today at the latest.
    tiers = 'calls = { volume = true, tiers = [{ up_to = 5_000, unit = "0.01" }, { unit = "0.001" }] }'
    each = RUNS.format(name="each", calls="0", seconds="0", free=0).replace('calls = { unit = "0" }', tiers)
    assert tiers in each
    found = crossover(
        estate(MODEL, each, FIXED.format(name="flat", hour="0.05", calls="0")), 1, 10, workers=1
    ).crossings
    assert [(c.below, c.above) for c in found] == [("c.each", "c.flat"), ("c.flat", "c.each")]
    for crossing, truth in zip(found, (3.72, 5.0), strict=True):
        assert crossing.low <= truth * 1.01 and truth * 0.99 <= crossing.high
        assert crossing.scale == pytest.approx(truth, rel=0.01) and crossing.high / crossing.low <= 1.021


def test_volumes_that_are_no_range_are_refused(estate):
    with pytest.raises(BadInput, match="is not a range of volumes"):
        crossover(estate(MODEL, RUNS.format(name="each", calls="1", seconds="0", free=0)), 5, 1)
