"""Crossings against closed forms; the choice of plans against brute force."""

from __future__ import annotations

import itertools
import json
import random
from dataclasses import replace
from decimal import Decimal

import numpy as np
import pytest

from echotally.errors import BadInput, TooLarge
from echotally.model.writing import with_values
from echotally.output.studies.choose_view import choose_json, choose_verdict
from echotally.output.studies.crossover_view import crossover_json, crossover_text
from echotally.output.studies.sweep_view import sweep_text
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import load
from echotally.projection.project import project, project_plan
from echotally.projection.trial import Trials
from echotally.studies import assigned, jobs, size_trials
from echotally.studies.assigned import AssignedMonths
from echotally.studies.choose import _Chooser, choose
from echotally.studies.crossover import _volumes, crossover
from echotally.studies.jobs import row_of
from echotally.studies.sweep import sweep
from tests.conftest import HEAD, rest_by_night, run_program
from tests.engine import test_apart

CARD = """
schema = "echotally-rates/1"
[card]
name = "c"
currency = "EUR"
"""
RUNS = """
[plans.{name}]
bills = "runs"
memory = {{ choices = ["256 MB", "512 MB"] }}
vcpu_per_gb = 1
[plans.{name}.price]
calls = {{ unit = "{calls}" }}
gb_seconds = {{ unit = "{seconds}" }}
[plans.{name}.allowance]
calls = {free}
"""
FIXED = """
[plans.{name}]
bills = "reserved"
memory = {{ choices = ["256 MB", "512 MB"] }}
instances = 1
instance_memory = "64 GB"
instance_vcpu = 64
[plans.{name}.price]
reserved_hours = {{ unit = "{hour}" }}
calls = {{ unit = "{calls}" }}
"""
MODEL = """
[functions.f]
memory = "512 MB"
run = "1 s"
cpu_share = 0
cold_start = "0 ms"
[queues.q]
[demand.d]
into = "queues.q"
monthly = 1_000
spread = "even"
[[triggers]]
from = "queues.q"
to = "f"
"""


@pytest.fixture
def estate(tmp_path):
    """Write a model and a card of the plans given; returns the model's path."""

    def writer(model: str, *plans: str):
        (tmp_path / "card.toml").write_text(CARD + "".join(plans))
        (tmp_path / "m.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + model)
        return tmp_path / "m.toml"

    return writer


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


@pytest.mark.parametrize(("events", "functions", "volumes"), [(30_000, 10, 21), (3_000_000, 10, 9), (30_000, 1_000, 9)])
def test_large_studies_look_at_fewer_volumes(events, functions, volumes):
    found = _volumes(0.01, 100, events, 7, functions)
    assert len(found) == volumes and (found[0], found[-1]) == (0.01, pytest.approx(100))
    assert np.diff(np.log(found)) == pytest.approx(np.log(1e4) / (volumes - 1))


def test_volumes_that_are_no_range_are_refused(estate):
    with pytest.raises(BadInput, match="is not a range of volumes"):
        crossover(estate(MODEL, RUNS.format(name="each", calls="1", seconds="0", free=0)), 5, 1)


def small_estate(seed: int) -> tuple[str, list[str]]:
    """Two or three functions and plans with random prices: some better for many calls, some for long runs."""
    rng = random.Random(seed)
    model = ""
    for name in ["f", "g", "h"][: rng.choice([2, 3])]:
        model += (
            f'[functions.{name}]\nmemory = "{rng.choice(["256 MB", "512 MB"])}"\nrun = "{rng.choice([1, 5, 20])} s"\ncpu_share = 0\n'
            f'cold_start = "0 ms"\n[queues.{name}]\nvisibility = "1 min"\n[demand.{name}]\ninto = "queues.{name}"\nspread = "even"\n'
            f'monthly = {rng.choice([50, 400, 3_000])}\n[[triggers]]\nfrom = "queues.{name}"\nto = "{name}"\n'
        )
    plans = [
        RUNS.format(
            name=f"p{n}",
            calls=f"{rng.uniform(0, 0.02):.4f}",
            seconds=f"{rng.uniform(0, 0.004):.5f}",
            free=rng.choice([0, 300]),
        )
        for n in range(2)
    ]
    plans.append(FIXED.format(name="flat", hour=f"{rng.uniform(0.01, 0.08):.3f}", calls=f"{rng.uniform(0, 0.004):.4f}"))
    return model, plans


@pytest.mark.parametrize("seed", rest_by_night(range(20), 12))
def test_the_choice_is_the_one_that_brute_force_finds(estate, seed):
    model, plans = small_estate(seed)
    path = estate(model, *plans)
    loaded = load(path)
    costs: dict[tuple[str, ...], Decimal] = {}
    for assignment in itertools.product(loaded.offers, repeat=len(loaded.model.functions)):
        pins = [(f"functions.{name}.plan", plan) for name, plan in zip(loaded.model.functions, assignment, strict=True)]
        costs[assignment] = project(path, pins, [assignment[0]]).plans[0].bill.unrounded
    found = choose(path, sizes=False)
    assert found.chosen.bill.unrounded == min(costs.values())
    assert found.bound is None
    again = project(path, found.sets, [next(iter(found.assignment.values()))]).plans[0]
    assert again.bill.unrounded == found.chosen.bill.unrounded


def test_where_the_best_estimates_miss_a_target_the_others_still_leave_the_dear_plan(estate):
    # Five functions, two plans: two calls at a time for 7.44, or 0.01 a call. By cost alone the sixteen best have all of f's 4,000
    # calls, which come two hundred at once and may wait a second, on the first.
    lumps = ", ".join(f'{{ at = "2027-03-{day:02}T00:00", count = 200 }}' for day in range(1, 21))
    model = "[functions.f.targets]\nwait_p95 = '1 s'\n"
    for name, demand in (("f", f"lumps = [{lumps}]"), *((name, 'monthly = 300\nspread = "even"') for name in "ghij")):
        model += (
            f'[functions.{name}]\nmemory = "512 MB"\nrun = "2 s"\ncpu_share = 0\ncold_start = "0 ms"\n[queues.{name}]\n'
            f'[demand.{name}]\ninto = "queues.{name}"\n{demand}\n[[triggers]]\nfrom = "queues.{name}"\nto = "{name}"\nreaders = 500\n'
        )
    small = FIXED.format(name="small", hour="0.01", calls="0").replace("64 GB", "1 GB")
    path = estate(model, RUNS.format(name="each", calls="0.01", seconds="0", free=0), small)
    found = choose(path, sizes=False)
    assert found.assignment == {"f": "c.each", **dict.fromkeys("ghij", "c.small")}
    assert found.chosen.bill.unrounded == Decimal("47.44") and not found.chosen.misses
    # Today, the only single plan that meets the target: 5,200 calls of 0.01.
    assert found.today.bill.unrounded == 52


def test_many_assignments_are_searched_with_a_bound_below_the_answer(estate, monkeypatch):
    model, plans = small_estate(3)
    path = estate(model, *plans)
    every = choose(path, sizes=False)
    monkeypatch.setattr("echotally.studies.assignments._ALL", 1)
    searched = choose(path, sizes=False)
    assert searched.bound is not None
    assert searched.bound <= every.chosen.bill.unrounded <= searched.chosen.bill.unrounded
    assert "descent" in searched.method


SIZED = """
[functions.f]
memory = "512 MB"
memory_used = "200 MB"
run = "1 s"
cpu_share = 0
instance_limit = 50
cold_start = "0 ms"
[endpoints.e]
[demand.d]
into = "endpoints.e"
lumps = [{ at = "2027-03-05T00:00", count = 7 }]
[[triggers]]
from = "endpoints.e"
to = "f"
[targets]
refused = 0
"""


def test_sizes_are_the_smallest_that_keep_the_targets(estate):
    # Seven requests at once, none may be refused: seven instances; 200 MB fit into 256 MB, at half the GB-seconds.
    path = estate(SIZED, RUNS.format(name="each", calls="0", seconds="1", free=0))
    found = choose(path)
    assert dict(found.sets) == {
        "functions.f.plan": "c.each",
        "functions.f.memory": "256 MB",
        "functions.f.instance_limit": "7",
    }
    assert found.chosen.bill.unrounded * 2 == found.today.bill.unrounded


def test_the_program_prints_the_change_and_writes_it_with_comments_kept(estate, tmp_path):
    path = estate("# a comment that stays\n" + SIZED, RUNS.format(name="each", calls="0", seconds="1", free=0))
    done = run_program("choose", "m.toml", "--write", "--width", "200", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "--set 'functions.f.memory=256 MB'" in done.stdout
    assert "every assignment was looked at" in done.stdout
    text = path.read_text()
    assert "# a comment that stays" in text
    assert 'memory = "256 MB"' in text
    data = json.loads(run_program("choose", "m.toml", "--format", "json", cwd=tmp_path).stdout)
    assert data["set"] == []
    assert data["chosen"]["cost"] == data["today"]["cost"]


def test_values_are_written_into_tables_arrays_and_new_tables():
    text = '[functions.f] # here\nmemory = "1 GB"\n[[triggers]]\nto = "f" # there\n'
    sets = [("functions.f.memory", "2 GB"), ("triggers.0.batch", "5"), ("environments.live.demand", "0.5")]
    written = with_values(text, sets)
    assert 'memory = "2 GB"' in written
    assert "batch = 5" in written
    assert "# here" in written and "# there" in written
    assert "demand = 0.5" in written
    with pytest.raises(BadInput, match="plain value"):
        with_values(text, [("functions.f.memory.x", "1")])


def test_what_small_samples_decided_is_decided_again_in_the_month(estate, monkeypatch):
    model, plans = small_estate(3)
    path = estate(model, *plans)
    best = choose(path, sizes=False)
    played, asked = AssignedMonths.try_out, []

    def misled(self, assignment, sets=(), *, rough=False, **how):
        found = played(self, assignment, sets, rough=False, **how)
        asked.append(rough)
        if not rough or not isinstance(found, PlayedPlan):
            return found
        # A sample in which everything that is not the best costs next to nothing.
        cost = found.bill.unrounded * (1 if assignment == best.assignment else Decimal("0.001"))
        return replace(found, bill=replace(found.bill, unrounded=cost))

    monkeypatch.setattr(AssignedMonths, "large", True)
    monkeypatch.setattr(AssignedMonths, "try_out", misled)
    again = choose(path, sizes=False)
    assert {True, False} <= set(asked)
    # Of what seemed cheap the cheapest, and never dearer than today's month as it is told.
    assert again.chosen.bill.unrounded == again.assigned <= again.today.bill.unrounded
    assert (
        again.chosen.bill.unrounded
        == played(AssignedMonths(again.loaded, 7, lambda month, _: month), again.assignment).bill.unrounded
    )


def test_a_size_that_does_not_hold_in_the_month_is_left_out_alone(estate, monkeypatch):
    # With one instance six of seven requests are refused: that size goes, the others stay.
    path = estate(SIZED, RUNS.format(name="each", calls="0", seconds="1", free=0))
    sizes = (
        ("functions.f.memory", "256 MB"),
        ("functions.f.instance_limit", "1"),
        ("functions.f.timeout", "20 s"),
        ("functions.f.instance_limit", "6"),
        ("functions.f.error_rate", "0"),
    )
    monkeypatch.setattr(_Chooser, "sizes", lambda self, assignment: sizes)
    found = choose(path)
    assert found.sets == (("functions.f.plan", "c.each"), sizes[0], sizes[2], sizes[4])
    assert not found.chosen.misses


WAITING = """
[functions.f]
memory = "512 MB"
run = "1 s"
cpu_share = 0
cold_start = "0 ms"
[queues.q]
[demand.d]
into = "queues.q"
lumps = [{ at = "2027-03-05T00:00", count = 500 }]
[[triggers]]
from = "queues.q"
to = "f"
readers = 50
[targets]
throttled = 0.5
"""


def test_work_that_comes_to_wait_without_a_target_is_told(estate):
    path = estate(WAITING, RUNS.format(name="each", calls="0", seconds="1", free=0))
    found = choose(path)
    # One instance takes them one after the other, a second each: 475 of 500 are there within 474 s.
    assert ("functions.f.instance_limit", "1") in found.sets
    [(name, today, chosen)] = found.made_to_wait()
    assert name == "f" and today == pytest.approx(9, rel=0.02) and chosen == pytest.approx(474, rel=0.01)
    assert "No target says how long work may wait: f would wait" in "\n".join(choose_verdict(found))
    assert not choose(path, [("targets.wait_p95", "1 h")]).made_to_wait()


def test_sizes_are_the_same_whether_parts_or_the_whole_month_are_played(write, monkeypatch):
    # Three parts in each of two environments; a batch of three that may be smaller, limits of four.
    path = write(test_apart.estate(3))
    # Long runs, so that the second and third part need more than one instance.
    sets = [
        (f"functions.ask{n}.{key}", value)
        for n in (1, 2)
        for key, value in (("run", '{ mean = "400 s", shape = "exponential" }'), ("timeout", "2 h"))
    ]
    in_parts = choose(path, sets)
    monkeypatch.setattr(Trials, "pair", lambda *arguments: None)
    assert choose(path, sets).sets == in_parts.sets
    limits = [address for address, _ in in_parts.sets if address.endswith(".instance_limit")]
    assert {f"functions.ask{n}.instance_limit" for n in range(3)} & set(limits)


def test_sizes_that_only_whole_months_tell_are_tried_as_far_as_work_allows_and_the_rest_is_said(estate, monkeypatch):
    path = estate(SIZED, RUNS.format(name="each", calls="0", seconds="1", free=0))
    monkeypatch.setattr(Trials, "pair", lambda *arguments: None)
    every = choose(path)
    assert not every.unsized and "Not every size" not in "\n".join(choose_verdict(every))
    monkeypatch.setattr(size_trials, "_WORK", 0)
    none = choose(path)
    # No size without the month that it was tried in.
    assert none.unsized == ("f",) and none.sets == (("functions.f.plan", "c.each"),)
    assert none.played < every.played and json.loads(choose_json(none))["unsized"] == ["f"]
    assert "Not every size of 1 function(s) was tried, as each takes the whole month: f." in choose_verdict(none)


def test_months_of_very_large_estates_are_played_once_and_kept_by_what_is_asked_of_them(estate, monkeypatch):
    model, plans = small_estate(3)
    path = estate(model, *plans)
    small = choose(path)
    real, played = AssignedMonths.try_out, []

    def counted(self, assignment, sets=(), **words):
        played.append((tuple(assignment.values()), sets))
        return real(self, assignment, sets, **words)

    monkeypatch.setattr(assigned, "MANY", 1)
    monkeypatch.setattr(AssignedMonths, "try_out", counted)
    large = choose(path)
    same = [replace(found, played=0) for found in (small, large)]
    assert choose_json(same[0]) == choose_json(same[1]) and same[0].assigned == same[1].assigned
    # Today's month and the chosen one are wanted whole in the end, the chosen one's also to lay sizes beside.
    assert max(played.count(each) for each in set(played)) <= 4
    assert sum(played.count(each) > 1 for each in set(played)) <= 2
