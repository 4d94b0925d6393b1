"""Few entries of the calendar stand in a row, more are a heap, and of very many what is due later is put aside: the order is the same."""

from __future__ import annotations

import os
import subprocess
import sys

import numpy as np
import pytest

from echotally.engine import codes, layout, pools
from echotally.engine.play import begun, play
from echotally.projection.loaded import load, placement_on

#: Thousands of files come at once for a function that takes one at a time: each is tried again by itself, for hours. Calls of a
#: function that also reads a queue stand in no lists (``kernel.again``).
CROWDED = """
[functions.look]
memory = "512 MB"
run = { median = "20 s", p95 = "60 s" }
instance_limit = 1
error_rate = 0.02
[functions.other]
memory = "256 MB"
run = "1 s"
[folders.pictures]
[queues.late]
[endpoints.map]
[demand.flood]
into = "folders.pictures"
lumps = [{ at = "2027-03-02T04:00", count = 9_000, over = "20 min" }, { at = "2027-03-09T04:00", count = 6_000, over = "1 min" }]
[demand.visitors]
into = "endpoints.map"
rate = "40 /h"
[[triggers]]
from = "folders.pictures"
to = "look"
[[triggers]]
from = "queues.late"
to = "look"
[[triggers]]
from = "endpoints.map"
to = "other"
"""
COUNTED = (
    "units",
    "sources",
    "series",
    "wait_bins",
    "latency_bins",
    "level_bins",
    "estate_levels",
    "count_bins",
    "charge_bins",
)


def played(loaded):
    """The world at the month's end, and the most entries that stood aside at an hour's end."""
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    built = begun(loaded.model, loaded.month.arrivals, placement, 3)
    most = 0
    for hour in [*range(27, 40), *range(195, 205)]:
        play(built, hour * 3_600 * 10**9)
        most = max(most, int(built.world.clock[0]["aside_n"]))
    play(built)
    return built.world, most


def test_what_is_put_aside_comes_in_its_order(write, monkeypatch):
    loaded = load(write(CROWDED))
    world, most = played(loaded)
    # Nine thousand wait, but for those done and those due within the second.
    assert most > 5_000
    # Once they are few again none stands aside, and none is lost.
    assert world.clock[0]["aside_n"] == 0 and world.clock[0]["near_until"] == codes.BEYOND
    assert (world.ahead == codes.NONE).all() and len(world.ahead) == layout.AHEAD + 1
    monkeypatch.setattr(pools, "_room_beside", lambda *_: {})
    in_one_heap, none = played(loaded)
    assert none == 0 and world.clock[0]["steps"] == in_one_heap.clock[0]["steps"] > 100_000
    for name in COUNTED:
        assert getattr(world, name).tobytes() == getattr(in_one_heap, name).tobytes(), name


#: Entries come and go as drawn, few and many by turns, against a list that is sorted anew each time.
DRAWN = """
import random
import sys
from types import SimpleNamespace
from echotally.engine import codes, layout, records
from echotally.engine.kernel import calendar
from echotally.engine.kernel.access import clock_of, entry_at
from echotally.engine.kernel.checked import CheckedWorld

arrays = {name: layout.records(kind, 1) for name, kind in layout.HOLDS.items()}
arrays["calendar"], arrays["ahead"] = layout.empty_calendar(400), layout.none_ahead()
arrays["clock"][0]["near_until"], arrays["clock"][0]["row"] = codes.BEYOND, layout.ROW
world = CheckedWorld(SimpleNamespace(**{name: arrays.get(name, layout.records(records.Whole, 1)) for name in layout.World._fields}))
draw, there, number, now, forms = random.Random(int(sys.argv[1])), [], 0, 0, set()

def due():
    return now + draw.choice((0, 1, draw.randrange(60), draw.randrange(100_000)))

for turn in range(40):
    most = draw.choice((0, 3, 30, 70, 300))
    while len(there) != most:
        forms.add(clock_of(world).row)
        number, what = number + 1, draw.randrange(1 << 40)
        if there and (len(there) > most or draw.random() < 0.3):
            there.sort()
            now = there[0][0]
            first = entry_at(world, 0)
            assert (first.at, first.key, first.what) == there.pop(0)
            if draw.random() < 0.5:
                there.append((due(), 3 << 54 | number, what))
                calendar.replace_first(world, *there[-1])
            else:
                calendar.drop_first(world)
        else:
            there.append((due(), 5 << 54 | number, what << 5 | 7))
            calendar.put(world, there[-1][0], 5, number, 7, what)
        assert clock_of(world).entries_n == len(there)
    if not there:
        assert entry_at(world, 0).at == codes.BEYOND
print(*sorted(forms))
"""


@pytest.mark.parametrize("seed", ["1", "2", "3"])
def test_entries_come_in_order_from_a_row_as_from_a_heap_and_between_the_two(seed):
    plain = {**os.environ, "ECHOTALLY_KERNELS": "checked"}
    ran = subprocess.run([sys.executable, "-c", DRAWN, seed], capture_output=True, text=True, env=plain, check=False)
    assert (ran.stdout.split(), ran.stderr) == (["0", str(layout.ROW)], "")


@pytest.mark.parametrize("before", [0, 5_000])
def test_room_for_what_is_put_aside_grows_with_what_is_in_it(before):
    world = begun_small(before)
    grown = pools._room_beside(world, 9_000)
    free, n = int(world.clock[0]["free_aside"]), 0
    while free < len(grown["aside"]):
        free, n = int(grown["aside"][free]["next"]), n + 1
    # All places but those taken, each once, and what was in them is as it was.
    assert n == 9_000 - (before - 2 if before else 0)
    if before:
        assert (grown["aside"]["at"][2:before] == np.arange(2, before)).all()


def begun_small(before):
    """A stand-in for a world with so many places aside, of which two are free."""
    from types import SimpleNamespace

    aside = layout.records(layout.HOLDS["aside"], max(1, before))
    aside["at"] = np.arange(len(aside))
    clock = layout.records(layout.HOLDS["clock"], 1)
    if before:
        aside["next"][:2] = [1, before]
    return SimpleNamespace(aside=aside, ahead=layout.none_ahead() if before else np.zeros(1, np.int64), clock=clock)
