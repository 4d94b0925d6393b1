"""Runs a simulation: calls the kernels, gives them room, listens for Ctrl-C, reports progress."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from echotally.demand.month import MonthPlan
from echotally.engine import records as r
from echotally.engine.build import Built, build, link_free
from echotally.engine.measured import Measured, read_out
from echotally.errors import OurFault
from echotally.model.estate import Model
from echotally.rates.loading import Offer

#: Calendar entries between two looks at the clock and the keyboard: well under a second of work.
_STEPS = np.int64(400_000)
_NIL = np.int64(0)
Progress = Callable[[float], None]
_POOLS = {
    "ev": ("free_ev", "ev_left"),
    "ca": ("free_ca", "ca_left"),
    "cg": ("free_cg", "cg_left"),
    "ins": ("free_in", "in_left"),
}


def simulate(
    model: Model,
    month: MonthPlan,
    placement: Mapping[str, Offer],
    seed: int,
    progress: Progress | None = None,
) -> Measured:
    """Play the month event by event; ``progress`` is told the share of the month that is over."""
    built = begun(model, month, placement, seed)
    play(built, None, progress)
    finish(built)
    return read_out(model, built)


def begun(
    model: Model, month: MonthPlan, placement: Mapping[str, Offer], seed: int, trail: int = 1, diary: int = 1
) -> Built:
    """A world at its first instant: backlogs laid, floors ready, nothing played yet.

    ``trail`` is how many changes of instance counts it keeps, with their times; ``diary`` how many attempts.
    """
    from echotally.engine.kernel.loop import BEGIN, simulation

    built = build(model, month, placement, seed)
    built.world = built.world._replace(trail=r.records("step", trail), diary=r.records("attempt", diary))
    _lay_backlogs(model, built)
    built.world = with_room(built.world)
    simulation(r.addresses(built.world), BEGIN, _NIL, _NIL)
    return built


def play(built: Built, until_ns: int | None = None, progress: Progress | None = None) -> None:
    """Play on to ``until_ns`` after the start, before anything of that instant happens, or to the end.

    Integrals over time are brought up to that instant.
    """
    from echotally.engine.kernel.loop import DONE, FLUSH, MORE_ROOM, PLAY, REACHED, simulation

    built.world.ck[0]["until"] = r.NEVER if until_ns is None else until_ns
    while (state := simulation(r.addresses(built.world), PLAY, _STEPS, _NIL)) not in (DONE, REACHED):
        if state == MORE_ROOM:
            built.world = with_room(built.world)
        elif progress:
            clock = built.world.ck[0]
            progress(int(clock["now"]) / int(clock["horizon"]))
    simulation(r.addresses(built.world), FLUSH, _NIL, _NIL)


def play_entries(built: Built, entries: int) -> bool:
    """Play on by at most so many calendar entries; whether the month is over. Integrals are brought up to the instant."""
    from echotally.engine.kernel.loop import DONE, FLUSH, MORE_ROOM, PLAY, simulation

    state = simulation(r.addresses(built.world), PLAY, np.int64(entries), _NIL)
    while state == MORE_ROOM:
        built.world = with_room(built.world)
        state = simulation(r.addresses(built.world), PLAY, np.int64(entries), _NIL)
    simulation(r.addresses(built.world), FLUSH, _NIL, _NIL)
    return bool(state == DONE)


def attempts(built: Built) -> Iterator[NDArray[Any]]:
    """Play to the month's end, handing over the attempts that ended, as records ``attempt``, a chunk at a time.

    Times are ns since the month's start, ``outcome`` one of SUCCEEDED, FAILED, TIMED_OUT, THROTTLED. The world
    must have been begun with a diary; raises ``OurFault`` if it overflows.
    """
    clock, diary = built.world.ck[0], built.world.diary
    over = False
    while not over:
        # An entry of the calendar ends one run and refuses few calls; a quarter of the diary leaves room for them.
        over = play_entries(built, len(diary) // 4)
        if clock["diary_n"] >= len(diary):
            raise OurFault(f"the diary of {len(diary)} attempts overflowed")
        yield diary[: int(clock["diary_n"])].copy()
        clock["diary_n"] = 0


def finish(built: Built) -> None:
    """The month's end: what is in flight is billed, what is left is counted."""
    from echotally.engine.kernel.loop import FINISH, simulation

    simulation(r.addresses(built.world), FINISH, _NIL, _NIL)


def _lay_backlogs(model: Model, built: Built) -> None:
    from echotally.engine.kernel.loop import BACKLOG, simulation

    for source, count in built.backlogs:
        left = count
        while left > 0:
            left -= int(simulation(r.addresses(built.world), BACKLOG, np.int64(source), np.int64(left)))
            if left > 0:
                built.world = with_room(built.world)


def with_room(world: Any) -> Any:
    """The same world with every pool that is low made twice as large."""
    clock = world.ck[0]
    margin = int(clock["margin"])
    changed: dict[str, Any] = {}
    for name, (head, left) in _POOLS.items():
        if clock[left] <= margin:
            array = getattr(world, name)
            longer = np.zeros(2 * len(array) + margin, array.dtype)
            longer[: len(array)] = array
            link_free(longer, len(array))
            # The old free list ends by pointing one past the array, which is where the new part begins.
            clock[left] += len(longer) - len(array)
            changed[name] = longer
            del head
    if len(world.hp) - clock["heap_n"] <= 4 * margin:
        longer = r.records("entry", 2 * len(world.hp) + 4 * margin)
        longer[: len(world.hp)] = world.hp
        changed["hp"] = longer
    if len(world.pend) - clock["pend_n"] <= margin:
        longer = r.records("pending", 2 * len(world.pend) + margin)
        order = (int(clock["pend_head"]) + np.arange(int(clock["pend_n"]))) % len(world.pend)
        longer[: len(order)] = world.pend[order]
        clock["pend_head"] = 0
        changed["pend"] = longer
    return world._replace(**changed)
