"""Waits of many functions are written down and put into their sketches together: the sketches are the same."""

from __future__ import annotations

import numpy as np
import pytest

from echotally.engine import layout
from echotally.engine.play import begun, keep_quantities, play
from echotally.projection.loaded import load, placement_on

#: Requests that start at once or wait for room, batches that fail and come again, and one in a million that takes hours.
BUSY = """
[functions.map]
memory = "512 MB"
run = { median = "300 ms", p95 = "3 s" }
instance_limit = 2
emits = [{ into = "queues.late", each = 0.4 }]
[functions.look]
memory = "256 MB"
run = { mean = "2 s", shape = "exponential" }
per_item = "10 ms"
error_rate = 0.05
[endpoints.map]
[queues.late]
[demand.visitors]
into = "endpoints.map"
rate = "2000 /h"
[[triggers]]
from = "endpoints.map"
to = "map"
[[triggers]]
from = "queues.late"
to = "look"
batch = 3
"""
HOUR = 3_600 * 10**9
SKETCHES = ("wait_bins", "latency_bins", "request_bins", "charge_bins")


@pytest.fixture
def playing(write, monkeypatch):
    """Plays some hours, with so many units as write waits down, so many at a time; the world, looked at after each pause."""
    loaded = load(write(BUSY))
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])

    def playing(many: int, at_once: int, pauses: tuple[int, ...], lean: bool = False) -> layout.World:
        monkeypatch.setattr(layout, "MANY_UNITS", many)
        monkeypatch.setattr(layout, "SEEN_AT_ONCE", at_once)
        built = begun(loaded.model, loaded.month.arrivals, placement, 3)
        assert len(built.world.seen) == (at_once if many <= 2 else 1)
        if lean:
            keep_quantities(built)
        for hour in pauses:
            play(built, hour * HOUR)
            # Nothing is held back from whoever reads now.
            world = built.world
            assert world.clock[0]["seen_n"] == 0 and not world.units["at_once"].any()
            handled = int(world.units["handled"].sum())
            assert world.wait_bins[:, :, 0].sum() == (0 if lean else handled)
        return built.world

    return playing


@pytest.mark.parametrize("at_once", [2, 3, 64, layout.SEEN_AT_ONCE])
def test_sketches_are_the_same_however_many_are_put_in_together(playing, at_once):
    one_by_one, together = playing(10**9, 512, (60,)), playing(1, at_once, (1, 2, 17, 60))
    for name in SKETCHES:
        expected = getattr(one_by_one, name)
        assert expected.any() and np.array_equal(getattr(together, name), expected), name
    # Both kinds of wait: none at all, and some.
    assert 0 < one_by_one.wait_bins[0, 0, 0] < one_by_one.wait_bins[0, :, 0].sum()


def test_where_only_quantities_are_asked_nothing_is_put_in(playing):
    world = playing(1, 512, (10, 20), lean=True)
    assert not world.sketches.any() and not world.level_bins.any() and world.units["handled"].all()


def test_units_stand_side_by_side_and_are_read_one_by_one(playing):
    world = playing(1, 512, (30,))
    levels, hours = layout.by_units(world.level_bins), layout.by_units(world.series)
    # Every unit was at some level all the time, and so was the estate.
    assert levels.sum(axis=1).tolist() == [30 * HOUR] * 2 and world.estate_levels.sum() == 30 * HOUR
    assert hours[:, :, 0].sum() == world.sources["arrived"].sum() and hours[:, :30, 0].all() and not hours[:, 31:].any()
