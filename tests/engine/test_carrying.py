"""Work carried from hour to hour: fluid queues against their closed forms, cuts that cover the month, chances that are known."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from echotally.engine import codes
from echotally.engine.play import begun
from echotally.engine.sampling.carrying import Carried
from echotally.engine.sampling.expecting import expected_events
from echotally.engine.sampling.knowing import known_losses
from echotally.engine.sampling.lanes import Lane
from echotally.engine.sampling.strata import cut_month, expected_in
from echotally.errors import BadInput
from echotally.projection.confidence import counted, expected_count, interval
from echotally.projection.loaded import load, placement_on
from echotally.rates.node_room import floors_on_nodes
from echotally.studies.sweep import is_demand
from tests.conftest import CARD, PRICES

S = 10**9
HOUR = 3_600 * S


def lane(retention_s: float = 1e9) -> Lane:
    return Lane(int(codes.LAY_QUEUE), 0, 0, (0,), int(retention_s * S), 1, 0, 1.0)


def follow(carried: Carried, come_per_s: float, gone_per_s: float, seconds: int, step_s: int, start_s: int = 0):
    """Let a fluid come and go for a time, step by step; answers with the lots of the steps."""
    lots = []
    for at in range(start_s, start_s + seconds, step_s):
        lots.append(carried.moves(at * S, step_s * S, come_per_s * step_s, gone_per_s * step_s))
    return lots


@pytest.mark.parametrize("step_s", [60, 300, 3_600])
def test_a_lane_that_falls_behind_grows_by_the_difference_and_ages_by_its_share(step_s):
    # 5 a second come, 2 go: after 10 h 3 x 36,000 wait, and what goes came when 2 t of 5 t' had come: t' = 0.4 t.
    carried = Carried(lane())
    carried.begins(0.0)
    last = follow(carried, 5, 2, 36_000, step_s)[-1]
    assert carried.held == pytest.approx(3 * 36_000)
    assert last.age_high == pytest.approx(0.6 * 36_000 * S)


@pytest.mark.parametrize("step_s", [60, 300])
def test_what_reaches_the_retention_goes_unhandled(step_s):
    # The age grows by 0.6 a second: after 2 h it is the retention of 4,320 s; from then on 3 a second expire.
    carried = Carried(lane(4_320))
    carried.begins(0.0)
    lots = follow(carried, 5, 2, 36_000, step_s)
    assert sum(lot.expired for lot in lots) == pytest.approx(3 * (36_000 - 7_200), rel=0.01)
    assert max(lot.age_high for lot in lots) <= 4_320 * S * 1.0001
    assert carried.held == pytest.approx(5 * 4_320, rel=0.01)


def test_a_backlog_of_the_start_is_as_old_as_the_month_and_gone_when_it_is_worked_off():
    # 7,200 wait at 0 s, nothing comes, 2 go a second: empty after an hour, the last an hour old.
    carried = Carried(lane())
    carried.begins(0.0, 7_200)
    lots = follow(carried, 0, 2, 3_600, 300)
    assert carried.held == pytest.approx(0)
    assert [lot.age_low / S for lot in lots] == pytest.approx(list(range(0, 3_600, 300)))


def test_what_a_lump_left_keeps_its_ages():
    # 1,000 came an hour before, 1,000 in the last second: the first half goes as one hour old.
    carried = Carried(lane())
    carried.begins(float(HOUR), 2_000, (HOUR, HOUR, S, 0.0))
    first = carried.moves(HOUR, 60 * S, 0.0, 600)
    assert first.age_low == pytest.approx(HOUR)
    assert first.age_high == pytest.approx(HOUR + 60 * S)


@settings(max_examples=40, deadline=None, derandomize=True)
@given(st.lists(st.tuples(st.floats(0, 50), st.floats(0, 50)), min_size=1, max_size=30), st.floats(600, 90_000))
def test_nothing_is_lost_on_the_way_and_no_age_is_above_the_retention(steps, retention_s):
    carried = Carried(lane(retention_s))
    carried.begins(0.0, 100.0)
    came, went = 100.0, 0.0
    for n, (come, gone) in enumerate(steps):
        lot = carried.moves(n * 300 * S, 300 * S, come, gone)
        came, went = came + come, went + lot.gone + lot.expired
        assert lot.gone <= gone + 1e-9
        assert 0 <= lot.age_high <= retention_s * S + 1
        assert carried.held == pytest.approx(came - went, abs=1e-6)


SHAPED = """
[functions.f]
memory = "512 MB"
run = "100 ms"
[endpoints.e]
[queues.q]
[demand.d]
into = "endpoints.e"
rate = "{rate} /s"
day_shape = [1, 1, 1, 1, 1, 2, 3, 4, 5, 6, 7, 8, 9, 9, 8, 7, 6, 5, 4, 3, 2, 1, 1, 1]
week_shape = [1, 1, 1, 1, 2, 3, 3]
surges = [{{ at = "2027-03-10T10:20", lasts = "{lasts} min", times = 3 }}]
[demand.l]
into = "queues.q"
lumps = [{{ cron = "15 2 * * *", count = 500, over = "5 min" }}]
[[triggers]]
from = "endpoints.e"
to = "f"
[[triggers]]
from = "queues.q"
to = "f"
"""


@pytest.mark.parametrize(("rate", "lasts"), [(1, 30), (40, 90), (900, 5)])
@pytest.mark.parametrize("zone", ["UTC", "Europe/Dublin", "Asia/Kathmandu"])
def test_a_cut_covers_the_month_once_and_expects_what_the_month_does(write, rate, lasts, zone):
    loaded = load(write(SHAPED.format(rate=rate, lasts=lasts), zone=zone))
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    expected = expected_events(loaded.model, loaded.month, placement)
    cut = cut_month(loaded.model, loaded.month, placement, expected)
    assert [s.start_ns for s in cut.segments[1:]] == [s.end_ns for s in cut.segments[:-1]]
    assert (cut.segments[0].start_ns, cut.segments[-1].end_ns) == (0, loaded.month.clock.length_ns)
    steady = math.fsum(float(g.rates.sum()) * g.whole_ns for g in cut.groups)
    as_they_are = math.fsum(
        expected_in(cut.taps, cut.segments[n].start_ns, cut.segments[n].end_ns) for kind in cut.kinds for n in kind
    )
    assert steady + as_they_are == pytest.approx(sum(t.expected for t in cut.taps), rel=1e-9)
    # The hours of the nightly lump are one kind or a few, and each segment is of a group or of a kind.
    assert sum(len(kind) for kind in cut.kinds) == 31
    assert all((s.group is None) != (s.kind is None) for s in cut.segments)


RETRIES = """
[functions.f]
memory = "512 MB"
run = "1 s"
timeout = "10 s"
{function}
[queues.q]
visibility = "1 min"
{queue}
[queues.dead]
[demand.d]
into = "queues.q"
rate = "1 /min"
[[triggers]]
from = "queues.q"
to = "f"
{trigger}
"""


@pytest.mark.parametrize(
    ("function", "queue", "trigger", "chance"),
    [
        ("error_rate = 0.1", 'dead_letter = "queues.dead"\ntries = 3', "", 0.1**3),
        ("error_rate = 0.1\npoison_rate = 0.02", 'dead_letter = "queues.dead"\ntries = 2', "", 0.02 + 0.98 * 0.01),
        ("", 'dead_letter = "queues.dead"', "", 0.0),
        ("error_rate = 0.1", "", "", 0.0),
        ("error_rate = 0.1", 'dead_letter = "queues.dead"', "batch = 10", 0.1**5),
        ("poison_rate = 0.1", 'dead_letter = "queues.dead"', "batch = 10", None),
        ("poison_rate = 0.1", 'dead_letter = "queues.dead"', 'batch = 10\non_failure = "failed"', 0.1),
        ("error_rate = 0.1", 'visibility = "1 s"\ndead_letter = "queues.dead"', "", None),
    ],
)  # fmt: skip
def test_chances_of_a_loss_that_follow_from_the_model(write, function, queue, trigger, chance):
    text = RETRIES.format(function=function, queue=queue, trigger=trigger)
    text = text.replace('visibility = "1 min"\n', "", 1) if "visibility" in queue else text
    loaded = load(write(text))
    losses = known_losses(loaded.model, placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"]))
    found = losses.get("f")
    assert (found is None) if chance is None else (found is not None and found.chance == pytest.approx(chance))


def test_a_known_chance_is_what_brute_force_counts():
    # Every outcome of three tries of an event that is poison once in 50 and fails otherwise once in ten.
    total = 0.0
    for poison in (True, False):
        for tries in itertools.product((True, False), repeat=3):
            weight = 0.02 if poison else 0.98
            for fails in tries:
                weight *= (1.0 if fails else 0.0) if poison else (0.1 if fails else 0.9)
            total += weight if all(tries) else 0.0
    assert total == pytest.approx(0.02 + 0.98 * 0.1**3)


def test_the_interval_of_a_known_count_holds_poisson_counts():
    chance = np.random.default_rng(1)
    for mean in (0.5, 3.0, 40.0, 900.0):
        low, high = expected_count(mean, 1)
        draws = chance.poisson(mean, 20_000)
        assert np.mean((draws >= low) & (draws <= high)) >= 0.93
    assert expected_count(0.0, 5) == (0.0, 0.0)


def test_the_interval_of_a_sampled_count_holds_the_months_count():
    # A twelfth of a month was seen in four parts: what the whole month counts lies inside at least 95 of 100 times.
    chance = np.random.default_rng(2)
    for mean in (2.0, 50.0, 5_000.0):
        held = 0
        for _ in range(500):
            parts = chance.poisson(mean / 48, 4) * 48.0
            low, high = counted(list(parts), 1 / 12)
            held += low <= chance.poisson(mean) <= high
        assert held >= 475


def test_an_interval_is_never_below_zero_and_as_wide_as_the_method_is_rough():
    assert interval([0.0, 0.0, 0.0, 0.0]) == (0.0, 0.0)
    low, high = interval([100.0] * 4)
    assert (low, high) == (pytest.approx(99.95), pytest.approx(100.05))
    assert interval([1.0, 2.0, 3.0, 90.0])[0] == 0.0


NODES = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "nodes"
memory = {{ choices = ["256 MB", "512 MB", "1 GB"] }}
vcpu_per_gb = 1
node_memory = "2 GB"
node_vcpu = 1.5
nodes_limit = {limit}
[plans.plan.price]
node_hours = {{ unit = "1" }}
"""


@settings(max_examples=25, deadline=None, derandomize=True)
@given(
    st.lists(st.tuples(st.sampled_from(["256 MB", "512 MB", "1 GB"]), st.integers(0, 5)), min_size=1, max_size=4),
    st.integers(1, 4),
)
def test_the_floors_said_to_find_room_are_those_the_engine_starts(tmp_path_factory, floors, limit):
    folder = tmp_path_factory.mktemp("nodes")
    text = ""
    for n, (memory, floor) in enumerate(floors):
        text += f'[functions.f{n}]\nmemory = "{memory}"\nrun = "1 s"\ninstance_floor = {floor}\n[queues.q{n}]\nbacklog = 0\n'
        text += f'[[triggers]]\nfrom = "queues.q{n}"\nto = "f{n}"\n'
    (folder / "card.toml").write_text(NODES.format(limit=limit))
    (folder / "model.toml").write_text(
        'schema = "echotally-model/1"\n[estate]\nname = "t"\nmonth = "2027-03"\nrate_cards = ["card.toml"]\n' + text
    )
    loaded = load(folder / "model.toml")
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    built = begun(loaded.model, loaded.month.arrivals, placement, 1)
    started = {u.function: int(built.world.units[n]["count"]) for n, u in enumerate(built.units)}
    assert {room.function: room.found for room in floors_on_nodes(loaded.model, placement)} == started


@pytest.mark.parametrize(
    ("address", "demand"),
    [
        ("demand.d.rate", True), ("demand.d.monthly", True), ("demand.d.client_pause", False), ("environments.live.demand", True),
        ("environments.live.account", False), ("schedules.s.cron", True), ("schedules.s.overlap", False), ("queues.q.backlog", True),
        ("queues.q.visibility", False), ("functions.f.memory", False), ("estate.month", True), ("triggers.0.batch", False),
    ],
)  # fmt: skip
def test_which_addresses_are_demand(address, demand):
    assert is_demand(address) is demand


def test_a_sample_that_would_play_more_than_it_may_is_refused_before_it_plays(write):
    from echotally.projection.project import project_plan

    text = SHAPED.format(rate=2_000_000, lasts=30)
    loaded = load(write(text, card=CARD.format(keys="", prices=PRICES)))
    with pytest.raises(BadInput, match="even a sample would play more than 40,000,000"):
        project_plan(loaded, loaded.offers["test.plan"], 1)
