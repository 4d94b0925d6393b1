"""Hours of a sampled month are cut as arrays: the same as stretch by stretch. Where too few can be left out, none is."""

from __future__ import annotations

from random import Random

import numpy as np
import pytest

from echotally.demand.clock import month_clock
from echotally.demand.month import Tap
from echotally.demand.stretches import Stretch, Stretches
from echotally.engine.sampling import strata
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
    found = {n: which.tolist() for n, which in strata._by_hour(hours, start, end)}
    for n, hour in enumerate(hours):
        touching = [k for k in range(len(start)) if start[k] < hour.end_ns and end[k] > hour.start_ns]
        assert found.get(n, []) == touching
    assert list(strata._by_hour(hours, start[:0], end[:0])) == []


def test_a_month_that_every_part_would_play_is_played_itself(write):
    # 60 calls an hour come to one instance, which takes a minute for each: what is sent away does not clear in any hour.
    model = """
[functions.f]
memory = "512 MB"
run = { mean = "1 min", shape = "exponential" }
timeout = "10 min"
instance_limit = 1
[folders.b]
[demand.d]
into = "folders.b"
rate = "60 /h"
[[triggers]]
from = "folders.b"
to = "f"
"""
    loaded = load(write(model))
    offer = loaded.offers["test.plan"]
    exact, asked = project_plan(loaded, offer, 1), project_plan(loaded, offer, 1, how=Playing(sampled_from=0))
    assert exact.totals.attempts["throttled"] > 1_000
    assert asked.method == "exact" and figures(asked) == figures(exact)
    # Laid beside another, with and without a change, both are samples.
    beside = project_plan(loaded, offer, 1, how=Playing(sampled_from=0, alike=True))
    assert beside.method == "sampled"
    assert beside.totals.attempts["throttled"] == pytest.approx(exact.totals.attempts["throttled"], rel=0.2)
