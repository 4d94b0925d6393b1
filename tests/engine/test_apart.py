"""Parts played apart against the same month played jointly: everything measured, to the byte."""

from __future__ import annotations

import gc
import pickle
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress

import numpy as np
import pytest
from msgspec import Struct
from msgspec.structs import replace

from echotally.engine import watch
from echotally.engine.apart import (
    Bucket,
    Followed,
    Memory,
    merging,
    month,
    parts_of,
    playing,
    remembering,
    simulate_month,
    spread,
)
from echotally.engine.build import world
from echotally.engine.machines import Machines
from echotally.engine.play import Wanted, simulate
from echotally.errors import BadInput
from echotally.projection.loaded import load, placement_on
from tests.conftest import rest_by_night
from tests.small_estates import soon_played

PART = """
[functions.ask{n}]
memory = "512 MB"
run = {{ mean = "2 s", shape = "exponential" }}
cold_start = "700 ms"
instance_limit = 4
instance_floor = {floor}
emits = [{{ into = "queues.work{n}", each = 0.6 }}]
[functions.map{n}]
memory = "512 MB"
run = {{ median = "300 ms", p95 = "2 s" }}
error_rate = 0.1
[endpoints.e{n}]
[queues.work{n}]
tries = 2
dead_letter = "queues.dead{n}"
[queues.dead{n}]
[topics.loose{n}]
feeds = []
[schedules.s{n}]
cron = "*/{step} * * * *"
[demand.d{n}]
into = "endpoints.e{n}"
rate = "{rate} /s"
[[triggers]]
from = "endpoints.e{n}"
to = "ask{n}"
[[triggers]]
from = "queues.work{n}"
to = "map{n}"
batch = 3
[[triggers]]
from = "schedules.s{n}"
to = "map{n}"
"""
TWO = """
[environments.live]
account = "one"
[environments.try]
account = "{account}"
demand = 0.5
"""
PLANS = {
    "free": "",
    "far limit": "concurrency_limit = 500",
    "near limit": "concurrency_limit = 6",
    "shared tokens": 'scaling = { kind = "per-call", burst = 400, ramp = "60 /min", scope = "account" }',
    "few tokens": 'scaling = { kind = "per-call", burst = 2, ramp = "1 /min", scope = "account" }',
    "own tokens": 'scaling = { kind = "per-call", burst = 2, ramp = "1 /min", scope = "function" }',
    "polled": 'scaling = { kind = "polled", every = "15 s", step = 2, per_instance = 3 }\nkeep_alive = "5 min"',
}
#: By day each way in which parts may share what they have, or none, or run out of it.
SOME = rest_by_night(["far limit", "near limit", "shared tokens", "polled", "free", "few tokens", "own tokens"], 4)
#: Of what the second environment bills to; one account of both is tried by night where two are by day.
ACCOUNTS = [pytest.param("one", marks=pytest.mark.nightly), "two"]
#: Where what is shared runs out, the month must be played jointly; where not, apart.
TOGETHER = {"near limit", "few tokens"}


def plain(value):
    """Whatever it is, as something that can be compared."""
    if isinstance(value, np.ndarray):
        return value.shape, value.dtype.str, value.tobytes()
    if isinstance(value, Struct):
        return {name: plain(getattr(value, name)) for name in value.__struct_fields__ if name != "offer"}
    if isinstance(value, list | tuple):
        return [plain(each) for each in value]
    return [(key, plain(each)) for key, each in value.items()] if isinstance(value, dict) else value


@pytest.fixture
def always(monkeypatch):
    """Parts are played apart however few they are, in many short stretches; what came of it is noted."""
    came = []
    monkeypatch.setattr(month, "_MANY", 1)
    monkeypatch.setattr(month, "_EACH", -1)
    monkeypatch.setattr(month, "_TOGETHER", 1)
    monkeypatch.setattr(playing, "_AT_ONCE", 3_000)
    monkeypatch.setattr(playing, "_FOR_EACH_PART", 1)
    monkeypatch.setattr(month, "_IN_THE_WAY", month._InTheWay())
    real = month._apart
    monkeypatch.setattr(month, "_apart", lambda *a, **k: (found := real(*a, **k), came.append(found is not None))[0])
    return came


def estate(parts: int, account: str = "one") -> str:
    text = "".join(PART.format(n=n, step=7 + n, rate=0.0005 * (n + 1), floor=n % 2) for n in range(parts))
    return text + TWO.format(account=account)


class Elsewhere(Machines):
    """Machines that see only what is sent to them, and send only what is fetched."""

    width = 2

    def share(self, value):
        return pickle.dumps(value)

    def keep(self, function, *given):
        return pickle.dumps(function(*map(self._there, given)))

    def _there(self, value):
        if isinstance(value, list):
            return [self._there(each) for each in value]
        return pickle.loads(value) if isinstance(value, bytes) else pickle.loads(pickle.dumps(value))

    def fetch(self, tell, kept):
        if tell:
            tell(0.0)
        return pickle.loads(kept)

    def run(self, tell, function, *given):
        return self.fetch(tell, self.keep(function, *given))


@pytest.mark.parametrize("account", ACCOUNTS)
@pytest.mark.parametrize("keys", SOME)
def test_a_month_on_other_machines_is_the_month_jointly(keys, account, write, monkeypatch):
    monkeypatch.setattr(month, "_MANY", 1)
    monkeypatch.setattr(month, "_EACH", -1)
    monkeypatch.setattr(spread, "_AT_ONCE", 1_000)
    came, shares, real = [], [], spread.spread_out
    monkeypatch.setattr(month, "spread_out", lambda *a: (found := real(*a), came.append(found is not None))[0])
    loaded = load(write(estate(5, account), PLANS[keys]))
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    jointly = simulate(loaded.model, loaded.month.arrivals, placement, 3)
    wanted = Wanted(places=Elsewhere())
    away = simulate_month(loaded.model, loaded.month.arrivals, placement, 3, shares.append, wanted)
    assert plain(away) == plain(jointly)
    assert came == [keys not in TOGETHER]
    assert shares == sorted(shares) or keys in TOGETHER


@pytest.mark.parametrize("account", ACCOUNTS)
@pytest.mark.parametrize("keys", SOME)
def test_months_that_share_parts_are_each_the_month_jointly(keys, account, write, monkeypatch):
    memory, played, real = Memory(), [], remembering.play_parts
    monkeypatch.setattr(
        remembering, "play_parts", lambda month, *a: (played.append(list(month.model.functions)), real(month, *a))[1]
    )
    base = load(write(estate(5, account), PLANS[keys]))
    changes = [
        (),
        (("functions.map2.run", "1 s"),),
        (("demand.d1.rate", "0.004 /s"),),
        (),
        (("functions.map2.timeout", "9 s"),),
    ]
    for sets in changes:
        loaded = base.changed(sets)
        placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
        jointly = simulate(loaded.model, loaded.month.arrivals, placement, 3)
        found = simulate_month(loaded.model, loaded.month.arrivals, placement, 3, wanted=Wanted(memory=memory))
        assert plain(found) == plain(jointly)
    # Where parts meet the month is played jointly, and no part is played for nothing again.
    again = [] if keys in TOGETHER else [2, 2, 1, 1, 2, 2]
    assert played == [[f"ask{n}", f"map{n}"] for n in [*range(5), *range(5), *again]]


def test_a_study_whose_months_have_nothing_in_common_is_played_as_ever(write, monkeypatch):
    tried = []
    real = Memory.month
    monkeypatch.setattr(Memory, "month", lambda *a: (tried.append(1), real(*a))[1])
    base, memory = load(write(estate(3))), Memory()
    for n in range(9):
        loaded = base.changed([("environments.live.demand", f"1.{n}"), ("environments.try.demand", f"0.{n + 1}")])
        placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
        simulate_month(loaded.model, loaded.month.arrivals, placement, 3, wanted=Wanted(memory=memory))
    # The first, which cannot spare anything, and two by which it is judged.
    assert len(tried) == 3


def test_parts_with_few_events_are_sooner_played_with_the_others(write, monkeypatch):
    tried = []
    real = Memory.month
    monkeypatch.setattr(Memory, "month", lambda *a: (tried.append(1), real(*a))[1])
    base = load(write(estate(4)))
    for each in (0.0, 10_000.0):
        monkeypatch.setattr(remembering, "_EACH", each)
        memory = Memory()
        for n in range(6):
            # A quarter of the functions is as it was, which spares a quarter of the events and makes worlds for the others.
            sets = tuple((f"functions.map{m}.timeout", f"{n + m + 5} s") for m in range(3))
            loaded = base.changed(sets)
            placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
            simulate_month(loaded.model, loaded.month.arrivals, placement, 3, wanted=Wanted(memory=memory))
    assert len(tried) == 6 + 3


def test_threads_and_plans_share_what_is_played_once(write, monkeypatch):
    played, real = [], remembering.play_parts
    monkeypatch.setattr(remembering, "play_parts", lambda *a: (played.append(1), time.sleep(0.01), real(*a))[2])
    monkeypatch.setattr(remembering, "_EACH", 0.0)
    base, memory = load(write(estate(3))), Memory()
    offer = base.offers["test.plan"]
    plans = [replace(offer, name=f"test.{n}") for n in range(5)]
    months = [base.changed([("functions.map1.timeout", f"{n + 5} s")]) for n in range(4)]

    def play(loaded, offer):
        placement = dict.fromkeys(loaded.model.functions, offer)
        return simulate_month(loaded.model, loaded.month.arrivals, placement, 3, wanted=Wanted(memory=memory))

    with ThreadPoolExecutor(8) as pool:
        for month_of in list(pool.map(lambda both: play(*both), [(m, p) for m in months for p in plans])):
            assert month_of.units
    # Of each plan two other parts in two environments once, and the one that differs in each month.
    assert len(played) == len(plans) * (2 * 2 + 2 * len(months))
    placement = dict.fromkeys(base.model.functions, plans[2])
    assert plain(play(months[3], plans[2])) == plain(simulate(months[3].model, base.month.arrivals, placement, 3))


def test_what_is_remembered_has_bounds(write, monkeypatch):
    monkeypatch.setattr(remembering, "_MOST_BYTES", 400_000)
    base, memory = load(write(estate(3))), Memory()
    for n in range(6):
        loaded = base.changed([("functions.map1.timeout", f"{n + 5} s")])
        placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
        found = simulate_month(loaded.model, loaded.month.arrivals, placement, 3, wanted=Wanted(memory=memory))
        kept = [played.result().nbytes for _, played in memory._kept.values()]
        assert sum(kept) == memory._bytes <= 400_000 and 0 < len(kept) < 12
    assert plain(found) == plain(simulate(loaded.model, loaded.month.arrivals, placement, 3))


@pytest.mark.parametrize("how", [(1, 1), (2, 1), (1, 4)], ids="{0[0]} cores, {0[1]} units a world".format)
@pytest.mark.parametrize("account", ACCOUNTS)
@pytest.mark.parametrize("keys", PLANS)
def test_a_month_apart_is_the_month_jointly(keys, account, how, write, always, monkeypatch):
    cores, together = how
    monkeypatch.setattr(month, "_TOGETHER", together)
    loaded = load(write(estate(5, account), PLANS[keys]))
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    jointly = simulate(loaded.model, loaded.month.arrivals, placement, 3)
    apart = simulate_month(loaded.model, loaded.month.arrivals, placement, 3, wanted=Wanted(cores=cores))
    assert plain(apart) == plain(jointly)
    assert always == [keys not in TOGETHER]


def test_any_estate_apart_is_that_estate_jointly(tmp_path, always, monkeypatch):
    compared = 0
    monkeypatch.setattr(watch, "_STEPS", 20_000)
    monkeypatch.setattr(watch, "_ENTRIES", 100_000)
    monkeypatch.setattr(watch, "_LOOK_AHEAD_FROM", 40_000)
    for case, loaded, offer, placement in soon_played(tmp_path, range(70)):
        monkeypatch.setattr(month, "_TOGETHER", 1 + case % 4)
        found = []
        # The last two with hours that are over put by, every hour or so.
        for play, hours in ((simulate, 1_000), (simulate, 1 + case % 30), (simulate_month, 1 + case % 7)):
            monkeypatch.setattr(world, "_SERIES_BYTES", 1)
            monkeypatch.setattr(world, "_FEWEST_HOURS", hours)
            with suppress(BadInput):
                found.append(play(loaded.model, loaded.month.arrivals, placement, 1, wanted=Wanted(cores=1)))
        if found:
            whole, jointly, apart = map(plain, found)
            assert apart == jointly == whole, (case, offer.name)
            compared += 1
    assert compared > 50 and True in always and False in always


@pytest.mark.parametrize("where", ["here", "on another machine"])
def test_a_world_is_let_go_once_it_has_been_read(where, write, always, monkeypatch):
    left, measured = list[int](), playing.Player.measured
    loaded = load(write(estate(5)))
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    own = spread.Month(loaded.model, loaded.month.arrivals, placement, 3, watch.USUAL)

    def read(player):
        left.append(sum(type(each) is world.Built for each in gc.get_objects()))
        return measured(player)

    monkeypatch.setattr(playing.Player, "measured", read)
    if where == "here":
        simulate_month(*own[:4])
    else:
        spread.play_parts(own, dict(enumerate(parts_of(*own[:3]))), [own.arrivals.length_ns])
    # Five parts in each of two environments.
    assert left == list(range(10, 0, -1))


def test_parts_are_what_hangs_together(write):
    loaded = load(write(estate(3, "two")))
    model = loaded.model
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    parts = parts_of(loaded.model, loaded.month.arrivals, placement)
    assert [(list(p.model.environments), list(p.model.functions)) for p in parts] == [
        ([env], [f"ask{n}", f"map{n}"]) for env in model.environments for n in range(3)
    ]
    # Every source and tap stands in one part of each environment, loose ones too.
    for env in model.environments:
        own = [s for p in parts if env in p.model.environments for s in p.model.sources()]
        assert sorted(own) == sorted(model.sources())
    assert sum(len(p.arrivals.taps) for p in parts) == len(loaded.month.taps)


@pytest.mark.parametrize(
    ("units", "sizes"), [(1, [1, 1, 1, 1, 1]), (3, [1, 1, 1, 1, 1]), (4, [2, 2, 1]), (7, [3, 2]), (99, [5])]
)
def test_small_parts_are_put_together_environment_by_environment(write, units, sizes):
    loaded = load(write(estate(5, "two")))
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    parts = parts_of(loaded.model, loaded.month.arrivals, placement, units)
    # Two functions a part as it hangs together; a world is never of functions in other environments than its own.
    own = [(env, len(p.model.functions) // 2) for p in parts for env in p.model.environments]
    assert own == [(env, n) for env in loaded.model.environments for n in sizes]
    assert sum(len(p.model.triggers) for p in parts) == 2 * len(loaded.model.triggers)
    assert sorted(tap.label for p in parts for tap in p.arrivals.taps) == sorted(tap.label for tap in loaded.month.taps)


def test_units_that_share_nodes_are_one_part(write):
    loaded = load(write(estate(3)))
    offer = loaded.offers["test.plan"]
    on_nodes = replace(offer, plan=offer.plan.model_copy(update={"bills": "nodes"}))
    placement = dict.fromkeys(loaded.model.functions, on_nodes)
    assert len(parts_of(loaded.model, loaded.month.arrivals, placement)) == 1


@pytest.mark.parametrize("top", [5, 3_000, 90_000])
def test_a_level_is_followed_as_one_would_by_hand(top):
    random = np.random.default_rng(top)
    times = np.sort(random.integers(0, 10**6, 400)) * 1_000
    level, lines, held, peak, since = 0, [], {}, 0, 0
    for at in times.tolist():
        held[level] = held.get(level, 0) + at - since
        since = at
        step = min(level, top // 3) if level >= top else 1 + top // 200
        rises = level < top
        level += step if rises else -step
        peak = max(peak, level)
        lines += [(at << 11) | (int(rises) << 9)] * step
    held[level] = held.get(level, 0) + 10**9 - since
    rising = merging.Rising()
    for part in np.array_split(np.array(lines), 7):
        rising.follows(random.permutation(part))
    found = rising.until(10**9)
    assert rising.peak == peak == found.peak and rising.level == level
    assert found.mean == pytest.approx(sum(k * ns for k, ns in held.items()) / 10**9, rel=0.004)
    assert rising.held_ns.sum() == 10**9


def test_a_bucket_is_followed_as_a_plain_loop_does():
    random = np.random.default_rng(4)
    for burst, ramp in ((3, 2e-9), (40, 1e-8), (1, 1e-7)):
        gaps = random.exponential(1.3 / ramp, 300)
        times = np.cumsum(gaps).astype(np.int64)
        level, since, enough = float(burst), 0, True
        bucket = Bucket(burst, ramp, burst)
        for part in np.array_split(times, 5):
            for at in part.tolist():
                level, since = min(burst, level + (at - since) * ramp), at
                enough = enough and level >= 1.001
                level -= 1
            assert bucket.enough_for(part) == enough or not enough
            assert bucket.left == pytest.approx(level, abs=1e-6)
            if not enough:
                break


@pytest.mark.parametrize("seed", range(40))
def test_more_starts_find_tokens_where_all_of_them_together_do(seed):
    random = np.random.default_rng(seed)
    bucket = Bucket(burst := int(random.integers(3, 30)), ramp := float(10 ** random.uniform(-9, -7)), burst)
    # From far below the ramp to a little above it, some in clusters, some at one instant.
    said = set()
    for share in (0.02, *random.uniform(0.2, 1.1, 30)):
        n, k = int(random.integers(0, 400)), int(random.integers(0, 60))
        starts = np.cumsum(random.exponential(1 / (share * ramp), n)).astype(np.int64)
        more = random.integers(0, int(starts.max(initial=10**9)) + 10, k) // 1_000
        more = np.concatenate((more * 1_000, random.choice(starts, min(n, k // 4))))
        followed = Followed.over(bucket, random.permutation(starts))
        together = Followed.over(bucket, np.concatenate((starts, more)))
        assert followed.had_enough == Bucket(burst, ramp, burst).enough_for(starts)
        # Within what is left for rounding the two may differ; then it must be the sure one that says no.
        if abs(together.least - 1.001) > 1e-4:
            assert followed.has_room_for(more) == together.had_enough
        said.add(followed.has_room_for(more))
    assert True in said and bucket.left == burst


def test_tokens_lacking_are_worked_off_by_what_would_run_over():
    # A bucket of six, one more a second. Four starts at 10 s leave two; at 12 s there are four, two of which go.
    second = 10**9
    followed = Followed.over(Bucket(6, 1e-9, 6), np.array([10, 12, 10, 10, 12, 10]) * second)
    assert followed.there.tolist() == pytest.approx([6, 5, 4, 3, 4, 3]) and followed.had_enough
    for more, enough in (
        ([5, 6, 7, 8, 9], True),  # each is made up for within a second
        ([10], True),  # finds the second of two, and leaves three and two at 12 s
        ([10, 11], False),  # leaves two and one at 12 s, and one is not certain
        ([10, 10], False),  # the second finds one
        ([15] * 4, True),  # full but for one
        ([15] * 5, False),
        ([16] * 5, True),
        ([], True),
    ):
        assert followed.has_room_for(np.array(more, np.int64) * second) == enough


def test_the_same_part_is_refused_wherever_it_is_played(write, always, monkeypatch):
    loaded = load(write(estate(4)))
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    monkeypatch.setattr(watch, "_STEPS", 50)
    monkeypatch.setattr(watch, "_ENTRIES", 300)
    monkeypatch.setattr(watch, "_ENTRIES_AN_EVENT", 1)
    told = set()
    for wanted in (Wanted(), Wanted(cores=2), Wanted(cores=2), Wanted(places=Elsewhere())):
        with pytest.raises(BadInput) as refused:
            simulate_month(loaded.model, loaded.month.arrivals, placement, 1, wanted=wanted)
        told.add(str(refused.value))
    assert len(told) == 1


def test_months_like_one_whose_parts_got_in_each_others_way_are_seldom_tried_in_parts(write, always):
    loaded = load(write(estate(5, "one"), PLANS["few tokens"]))
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    found = [plain(simulate_month(loaded.model, loaded.month.arrivals, placement, 3)) for _ in range(9)]
    # Whether they are tried or not, the answer is the same; now and then another value may have made room.
    assert always == [False, False] and all(each == found[0] for each in found)
    less = loaded.changed([("environments.live.demand", "0.05"), ("environments.try.demand", "0.05")])
    simulate_month(less.model, less.month.arrivals, placement, 3)
    assert len(always) == 3
    roomier = load(write(estate(5, "one"), PLANS["far limit"]))
    placement = placement_on(roomier.model, roomier.offers, roomier.offers["test.plan"])
    simulate_month(roomier.model, roomier.month.arrivals, placement, 3)
    assert always[3:] == [True]
