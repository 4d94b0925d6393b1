"""Pools of records that ran low are made larger between two chunks of work; kernels never make room themselves."""

from __future__ import annotations

from typing import Any

import numpy as np

from echotally.engine import layout, records, spilling
from echotally.engine.build import link_free
from echotally.engine.layout import World

#: Pools with a list of free records: how many are left is counted by the clock.
_POOLS = ("events", "calls", "cargo", "instances")
_MANY = 200_000


def _room_beside(world: World, n: int) -> dict[str, Any]:
    """Room for as many entries put aside as the calendar has for all of them."""
    before = len(world.aside)
    longer = np.zeros(n, world.aside.dtype)
    longer[:before] = world.aside
    link_free(longer, before)
    return {"aside": longer}


def lengthened(array: Any, n: int) -> Any:
    """The array with so many places, those that are new of zeros; raises ``MemoryError`` where there is no room for them.

    In its own memory where that can be made longer: a copy of a large pool would stand beside it while it is made.
    """
    if n * array.itemsize >= spilling.LARGE:
        longer = spilling.lengthened(array, n)
        if longer is not None:
            return longer
        if not spilling.room_for(n * array.itemsize):
            raise MemoryError
    if not array.flags.owndata:
        longer = np.zeros(n, array.dtype)
        longer[: len(array)] = array
        return longer
    # Whoever else looks at it does so through the world, which is another one from here on.
    array.resize(n, refcheck=False)
    return array


def with_room(world: World, events: int = 0) -> World:
    """The same world with every pool that is low made twice as large, or a quarter larger where it is large already.

    ``events``: so many are known to come at once.
    """
    clock = world.clock[0]
    margin = int(clock["margin"])
    changed: dict[str, Any] = {}
    for name in _POOLS:
        if clock[f"{name}_left"] <= margin:
            array, before = getattr(world, name), len(getattr(world, name))
            # Of very many a few more at a time, and of those in a file as many as may be in memory.
            more = before if before < _MANY else before // 4
            if spilling.is_spilled(array):
                more = spilling.LARGE // 2 // array.itemsize
            if events and name == "events":
                more = events + events // 4
            changed[name] = longer = lengthened(array, before + more + margin)
            # The old free list ends by pointing one past the array, which is where the new part begins.
            link_free(longer, before)
            clock[f"{name}_left"] += len(longer) - before
    if len(world.calendar) - layout.SENTINELS - clock["entries_n"] - clock["aside_n"] <= 4 * margin:
        changed["calendar"] = longer = layout.empty_calendar(2 * len(world.calendar) + 4 * margin)
        longer[: len(world.calendar)] = world.calendar
        changed |= _room_beside(world, len(longer))
    if len(world.expected) - clock["expected_n"] <= margin:
        changed["expected"] = longer = layout.records(records.Expected, 2 * len(world.expected) + margin)
        # The ring is unrolled, so that its first place is the first again.
        order = (int(clock["expected_first"]) + np.arange(int(clock["expected_n"]))) % len(world.expected)
        longer[: len(order)] = world.expected[order]
        clock["expected_first"] = 0
    if clock["keeps_log"] and len(world.log) - clock["log_n"] <= margin:
        changed["log"] = longer = np.zeros(2 * len(world.log) + margin, np.int64)
        longer[: len(world.log)] = world.log
    return world._replace(**changed)
