"""What is due next stands in a row, or is a heap, and what is due later stands aside in lists: the order is the same."""

from __future__ import annotations

import os
import subprocess
import sys
from types import SimpleNamespace

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
#: Calls of a function of many instances, which run for seconds.
BUSY = """
[functions.look]
memory = "512 MB"
run = {{ mean = "9 s", shape = "exponential" }}
[folders.pictures]
[demand.flood]
into = "folders.pictures"
rate = "1 /h"
lumps = [{lumps}]
[[triggers]]
from = "folders.pictures"
to = "look"
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


def played(loaded, aside=True):
    """The world at the month's end, with room ``aside`` or none, and the most entries that stood there at an hour's end."""
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    built = begun(loaded.model, loaded.month.arrivals, placement, 3)
    if not aside:
        built.world = built.world._replace(aside=built.world.aside[:1])
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
    # What is left is what is due after the month.
    left = world.clock[0]["aside_n"]
    assert left < 10 and (world.ahead != codes.NONE).sum() <= left and len(world.ahead) == layout.AHEAD + 1
    monkeypatch.setattr(pools, "_room_beside", lambda *_: {})
    in_one_heap, none = played(loaded, aside=False)
    assert none == 0 and world.clock[0]["steps"] == in_one_heap.clock[0]["steps"] > 100_000
    for name in COUNTED:
        assert getattr(world, name).tobytes() == getattr(in_one_heap, name).tobytes(), name


#: Entries come and go as drawn, few and many by turns, against a list that is sorted anew each time: close together and far apart.
DRAWN = """
import random
import sys
from types import SimpleNamespace
from echotally.engine import codes, layout, records
from echotally.engine.build import link_free
from echotally.engine.kernel import calendar
from echotally.engine.kernel.access import clock_of, entry_at
from echotally.engine.kernel.checked import CheckedWorld

seed, scale, room = map(int, sys.argv[1:])
arrays = {name: layout.records(kind, 1) for name, kind in layout.HOLDS.items()}
arrays["calendar"], arrays["aside"], arrays["ahead"] = layout.empty_calendar(400), layout.records(records.Aside, room), layout.none_ahead()
link_free(arrays["aside"], 0)
for name, value in (("near_until", codes.BEYOND), ("row", layout.ROW), ("horizon", codes.NEVER)):
    arrays["clock"][0][name] = value
world = CheckedWorld(SimpleNamespace(**{name: arrays.get(name, layout.records(records.Whole, 1)) for name in layout.World._fields}))
draw, there, number, now, forms, bits = random.Random(seed), [], 0, 0, set(), set()

def due():
    return now + scale * draw.choice((0, 1, draw.randrange(60), draw.randrange(100_000)))

for turn in range(40):
    most = draw.choice((0, 3, 30, 70, 300))
    while len(there) != most:
        forms.add(clock_of(world).row)
        bits.add(clock_of(world).bits)
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
        if turn % 7 == 6 and number % 50 == 0:
            calendar.grows_long(world)
        assert clock_of(world).entries_n + clock_of(world).aside_n == len(there)
    if not there:
        assert entry_at(world, 0).at == codes.BEYOND
print(*sorted(forms), len(bits))
"""


@pytest.mark.parametrize(("scale", "room"), [(1, 1), (1, 400), (1_000, 400), (10**7, 400)])
@pytest.mark.parametrize("seed", [1, 2])
def test_entries_come_in_order_from_a_row_as_from_a_heap_and_from_aside(seed, scale, room):
    plain = {**os.environ, "ECHOTALLY_KERNELS": "checked"}
    line = [sys.executable, "-c", DRAWN, str(seed), str(scale), str(room)]
    ran = subprocess.run(line, capture_output=True, text=True, env=plain, check=False)
    heap, row, lengths = map(int, ran.stdout.split() or [0, 0, 0])
    # Stretches are as long as entries are apart, where there is room aside.
    assert (heap, row, ran.stderr) == (0, layout.ROW, "") and (lengths > 2) == (scale > 1)


def test_stretches_grow_longer_at_night_and_shorter_by_day(write):
    """Thousands of calls a minute for an hour, one in an hour for a day: lists are neither walked through in vain nor full."""
    busy = BUSY.format(
        lumps=", ".join(f'{{ at = "2027-03-{day:02}T12:00", count = 90_000, over = "1 h" }}' for day in (2, 9))
    )
    loaded = load(write(busy))
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    built = begun(loaded.model, loaded.month.arrivals, placement, 3)
    lengths = []
    for hour in (36.5, 60, 204.5, 230):
        play(built, int(hour * 3_600 * 10**9))
        lengths.append(int(built.world.clock[0]["bits"]))
    day, night, again, after = lengths
    # Twenty-five calls a second end one after the other: 40 ms are 2^25 ns.
    assert 22 <= day <= 28 and 22 <= again <= 28 and (night, after) >= (day, again)


@pytest.mark.parametrize("before", [40, 5_000])
def test_room_for_what_is_put_aside_grows_with_what_is_in_it(before):
    world = begun_small(before)
    grown = pools._room_beside(world, 9_000)
    free, n = int(world.clock[0]["free_aside"]), 0
    while free < len(grown["aside"]):
        free, n = int(grown["aside"][free]["next"]), n + 1
    # All places but those taken, each once, and what was in them is as it was.
    assert n == 9_000 - (before - 2)
    assert (grown["aside"]["at"][2:before] == np.arange(2, before)).all()


def begun_small(before):
    """A stand-in for a world with so many places aside, of which two are free."""
    aside = layout.records(layout.HOLDS["aside"], before)
    aside["at"] = np.arange(len(aside))
    aside["next"][:2] = [1, before]
    return SimpleNamespace(aside=aside, clock=layout.records(layout.HOLDS["clock"], 1))
