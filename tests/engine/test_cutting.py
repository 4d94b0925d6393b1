"""Hours of a sampled month are cut as arrays: the same as stretch by stretch. Where too few can be left out, none is."""

from __future__ import annotations

from random import Random

import numpy as np
import pytest

from echotally.demand.clock import month_clock
from echotally.demand.month import Tap
from echotally.demand.stretches import Stretch, Stretches
from echotally.engine.sampling import eventful, hours, player, strata
from echotally.model.sources import SourceRef
from echotally.projection.loaded import load
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from echotally.projection.tables import figures

HOUR = 3_600 * 10**9


def drawn(chance: Random, counted: bool) -> list[Stretch]:
    """Stretches in order, with gaps; counted ones may be instants."""
    found, at = [], 0
    for _ in range(chance.randrange(1, 40)):
        at += chance.choice([0, 1, HOUR // 3])
        end = at + chance.choice([1, HOUR // 7, HOUR, 3 * HOUR, *([0] if counted else [])])
        found.append(
            Stretch(at, end, 0.0, chance.randrange(50)) if counted else Stretch(at, end, chance.random() / 1e9)
        )
        at = max(end, at + 1)
    return found


@pytest.mark.parametrize("seed", range(20))
def test_what_rates_bring_is_the_sum_over_their_stretches(seed: int) -> None:
    chance = Random(seed)
    stretches = drawn(chance, False)
    windows = [sorted(chance.sample(range(30 * HOUR), 2)) for _ in range(50)]
    found = Stretches.of(stretches).by_rate(*(np.array(edge, np.int64) for edge in zip(*windows, strict=True)))
    for (start, end), value in zip(windows, found, strict=True):
        alone = sum(s.rate * max(0, min(s.end_ns, end) - max(s.start_ns, start)) for s in stretches)
        assert value == pytest.approx(alone, rel=1e-12, abs=1e-12)


@pytest.mark.parametrize("seed", range(20))
def test_a_tap_is_clipped_as_each_of_its_stretches_is(seed: int) -> None:
    chance = Random(seed)
    stretches = drawn(chance, bool(seed % 2))
    start, end = sorted(chance.sample(range(30 * HOUR), 2))
    wanted = []
    for s in stretches:
        low, high = max(s.start_ns, start), min(s.end_ns, end)
        if s.start_ns == s.end_ns and start <= s.start_ns < end:
            wanted.append(Stretch(low - start, high - start, 0.0, s.count))
        elif low < high:
            count = round(s.count * (high - low) / (s.end_ns - s.start_ns))
            wanted.append(Stretch(low - start, high - start, s.rate, count))
    tap = Tap("d", "live", SourceRef("queues.q"), "counted" if seed % 2 else "rate", "random", Stretches.of(stretches))
    assert list(strata.clipped(tap, start, end)) == wanted


@pytest.mark.parametrize("month", ["2027-02", "2027-03", "2027-10"])
def test_every_stretch_is_with_the_hours_that_it_touches(month: str) -> None:
    hours, chance = month_clock(month, "Europe/Dublin").local_hours(), Random(month)
    last = hours[-1].end_ns
    start = np.sort(
        np.array([chance.randrange(last) // HOUR * HOUR + chance.choice([0, 1, HOUR // 2]) for _ in range(200)])
    )
    end = start + np.array([chance.choice([1, HOUR // 2, HOUR, 5 * HOUR]) for _ in start])
    found = {n: which.tolist() for n, which in eventful._by_hour(hours, start, end)}
    for n, hour in enumerate(hours):
        touching = [k for k in range(len(start)) if start[k] < hour.end_ns and end[k] > hour.start_ns]
        assert found.get(n, []) == touching
    assert list(eventful._by_hour(hours, start[:0], end[:0])) == []


@pytest.mark.parametrize("every", [1, 7, 1_800, 3_601])
@pytest.mark.parametrize("reach", [1, HOUR // 2, 3 * HOUR])
def test_firings_that_reach_into_an_hour_stand_next_to_each_other(every: int, reach: int) -> None:
    hours = month_clock("2027-03", "Europe/Dublin").local_hours()[:30]
    at = np.arange(0, 30 * HOUR, every * 10**9) + 5
    tap = Tap("s", "live", SourceRef("schedules.s"), "counted", "even", Stretches.at(at))
    found = dict(eventful._firings_of([tap], hours, {"s": reach}))
    wanted = {n: at[which] - hours[n].start_ns for n, which in eventful._by_hour(hours, at, at + reach)}
    assert found.keys() == wanted.keys()
    # Alike are those of which the same firings reach into the hour.
    for one, firings in wanted.items():
        for other in {one + 1, 0} & wanted.keys():
            assert (found[one] == found[other]) is np.array_equal(firings, wanted[other])


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("at_once", [1, 4, 1 << 17])
def test_firings_at_even_steps_are_one_stretch_however_many_are_looked_at_together(
    seed: int, at_once: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    chance = Random(seed)
    at = np.cumsum([chance.choice([60, 60, 60, 60, 3_600]) for _ in range(chance.choice([3, 4, 50]))])
    known = Stretches.at(at)
    # The same, of which it is not certain that all are instants.
    plain = Stretches(at, at.copy(), np.zeros(len(at)), np.ones(len(at), np.int64))
    assert known.are_instants and known[1:].are_instants and not plain.are_instants
    monkeypatch.setattr("echotally.demand.stretches._AT_ONCE", at_once)
    for of in (known, plain):
        heads, step, count = of.runs()
        told = [start + k * by for start, by, n in zip(heads.start_ns, step, count, strict=True) for k in range(n)]
        assert told == at.tolist() and len(heads) <= 1 + 2 * sum(np.diff(at, n=2) != 0)
    ends = int(at[1]), int(at[-1])
    both = [Tap("s", "live", SourceRef("schedules.s"), "counted", "even", of) for of in (known, plain)]
    assert list(strata.clipped(both[0], *ends)) == list(strata.clipped(both[1], *ends))


def test_however_far_its_firings_go_on_after_an_hour_it_is_played_the_same(write, monkeypatch):
    # Jobs of 50 minutes hold most places of the account: what is sent away meanwhile is left over when the hour ends.
    model = """
[functions.f]
memory = "512 MB"
run = "5 s"
[folders.b]
[demand.d]
into = "folders.b"
rate = "0.6 /s"
[functions.job]
memory = "512 MB"
run = "50 min"
timeout = "60 min"
[schedules.s]
cron = "0,30 */6 * * *"
items = 7
[[triggers]]
from = "folders.b"
to = "f"
[[triggers]]
from = "schedules.s"
to = "job"
"""
    loaded = load(write(model, keys="concurrency_limit = 5"))
    told, began = [], []
    real = player.Player.world

    def counted(self, plan, label):
        began.append(label)
        return real(self, plan, label)

    monkeypatch.setattr(player.Player, "world", counted)
    for following in (0, hours._FOLLOWING_NS, 10**18):
        monkeypatch.setattr(hours, "_FOLLOWING_NS", following)
        began.clear()
        found = project_plan(loaded, loaded.offers["test.plan"], 1, how=Playing(sampled_from=0, alike=True))
        told.append((figures(found), len(began)))
    assert told[0][0] == told[1][0] == told[2][0]
    # Where they end with the hour, some are begun anew.
    assert told[0][1] > told[2][1] and found.method == "sampled"


def test_a_month_that_every_part_would_play_is_played_itself(write):
    # 70 calls an hour come to one instance, which takes a minute for each: what is sent away does not clear in any hour.
    model = """
[functions.f]
memory = "512 MB"
run = { mean = "1 min", shape = "exponential" }
timeout = "10 min"
instance_limit = 1
[folders.b]
[demand.d]
into = "folders.b"
rate = "70 /h"
[[triggers]]
from = "folders.b"
to = "f"
"""
    # Nothing is ever given up, so that an hour depends on all before it.
    loaded = load(write(model, keys='push = { longest_wait = "1 h", give_up = "40 d" }'))
    offer = loaded.offers["test.plan"]
    exact, asked = project_plan(loaded, offer, 1), project_plan(loaded, offer, 1, how=Playing(sampled_from=0))
    assert exact.totals.attempts["throttled"] > 1_000
    assert asked.method == "exact" and figures(asked) == figures(exact)
    # Laid beside another, with and without a change, both are samples.
    beside = project_plan(loaded, offer, 1, how=Playing(sampled_from=0, alike=True))
    assert beside.method == "sampled"
    assert beside.totals.attempts["throttled"] == pytest.approx(exact.totals.attempts["throttled"], rel=0.2)


@pytest.mark.parametrize("seed", range(12))
def test_hours_stand_for_those_with_the_same_firings_however_many_kinds_there_are(seed: int) -> None:
    chance = Random(seed)
    several, firings, lumps = chance.choice([3, 40]), chance.choice([1, 4, 30]), chance.choice([1, 3, 60])
    busy: dict[int, tuple[object, ...]] = {}
    for hour in range(300):
        happens = (("firing", "s", bytes([chance.randrange(firings)])), (0, bytes([chance.randrange(lumps)]), b"n"))
        busy[hour] = happens
    rates = np.array([[chance.randrange(several) / 1e9] for _ in busy])
    segments = [strata.Segment(n * HOUR, (n + 1) * HOUR, n, kind=0) for n in busy]
    kinds = strata._kinds(segments, busy, rates)
    assert sorted(n for members in kinds for n in members) == list(busy)
    whole = {(busy[n], rates[n][0]) for n in busy}
    assert len(kinds) == len(whole) if len(whole) <= strata._MOST_KINDS else len(kinds) <= strata._MOST_KINDS
    for members in kinds:
        # With more patterns of firings than kinds some hours must stand for others.
        assert len({busy[n][0] for n in members}) == 1 or firings > strata._MOST_KINDS
        if len({busy[n] for n in busy}) <= strata._MOST_KINDS:
            assert len({busy[n] for n in members}) == 1
