"""Runs a simulation: calls the kernels, gives them room, listens for Ctrl-C, reports progress."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from echotally.demand.month import MonthPlan
from echotally.engine import records as r
from echotally.engine.build import Built, build, link_free
from echotally.engine.measured import Measured, read_out
from echotally.errors import BadInput, OurFault, Problem
from echotally.model.estate import Model
from echotally.rates.card_loading import Offer

#: Calendar entries between two looks at the clock and the keyboard, at most; fewer where they take long.
_STEPS, _FEWEST_STEPS = 400_000, 1_000
_CHUNK_S = (0.1, 0.4)
#: So many times that many entries at one instant are work without end: a month of 40 million events has fewer.
_MOST_AT_ONCE = 100
#: A month plays so many entries, and so many more for each event that came: minutes of work. A queue whose messages
#: come back every half minute for days stays far below; what needs more is tried over and over at next to no distance.
_ENTRIES, _ENTRIES_AN_EVENT = 2_000_000_000, 200
#: From so many entries on, what the whole month would need is looked at, not only what was played.
_LOOK_AHEAD_FROM = 10_000_000
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
    bounded: bool = True,
) -> Measured:
    """Play the month event by event; ``progress`` is told the share of the month that is over (``bounded``: see ``play``)."""
    built = begun(model, month, placement, seed)
    play(built, None, progress, bounded)
    finish(built)
    return read_out(model, built)


def begun(
    model: Model, month: MonthPlan, placement: Mapping[str, Offer], seed: int, trail: int = 1, diary: int = 1
) -> Built:
    """A world at its first instant: backlogs laid, floors ready, nothing played yet.

    ``trail`` is how many changes of instance counts it keeps, with their times; ``diary`` how many attempts.
    """
    built = build(model, month, placement, seed)
    built.world = built.world._replace(trail=r.records("step", trail), diary=r.records("attempt", diary))
    _lay_backlogs(model, built)
    built.world = with_room(built.world)
    ask(built.world, r.BEGIN)
    return built


def ask(world: Any, what: Any, a: int = 0, b: int = 0) -> int:
    """Let the kernels do one thing (``records.BEGIN`` ...) with the world; returns a state or a count."""
    from echotally.engine.kernel.access import door
    from echotally.engine.kernel.loop import simulation

    run: Any = simulation
    return int(run(door(world), what, np.int64(a), np.int64(b)))


class _Watch:
    """Looks at a world between chunks of work: work without end is refused, and a chunk lasts a moment only.

    What is refused is decided by counts, so that every machine decides alike; the clock only sets the size of chunks.
    """

    def __init__(self, built: Built, bounded: bool) -> None:
        self.built, self.bounded = built, bounded
        self.steps = _STEPS
        self.last = (-1, -1, -1)
        self.began, self.since, self.at_once = time.monotonic(), 0, 0

    def chunk(self) -> int:
        """How many entries to play next: never past the next look, so that looks fall at the same counts everywhere."""
        return min(self.steps, _STEPS - int(self.built.world.ck[0]["steps"]) % _STEPS)

    def looks(self) -> None:
        """One more chunk is played. Raises ``BadInput`` where the month would not end, or not within its bounds."""
        clock = self.built.world.ck[0]
        played = int(clock["steps"])
        self._pace()
        if played % _STEPS:
            return
        found = (int(clock["now"]), int(clock["arrived"]), int(clock["ended"]))
        self.at_once = self.at_once + played - self.since if found[0] == self.last[0] else 0
        stuck = self.at_once >= 2 * _STEPS and found[1:] == self.last[1:]
        if stuck or self.at_once > _MOST_AT_ONCE * _STEPS:
            at = f"{found[0] / 1e9:,.3f} s into the month"
            raise _too_much(f"{self.at_once:,} things happen at one instant, {at}, and it does not end")
        if found[0] != self.last[0] or found[1:] == self.last[1:]:
            self.last = found
        self.since = played
        if self.bounded:
            self._within_bounds(found[0], found[1], int(clock["horizon"]), played)

    def _within_bounds(self, now: int, came: int, horizon: int, played: int) -> None:
        over = played > _ENTRIES + _ENTRIES_AN_EVENT * came
        more = horizon / max(1, now)
        ahead = played > _LOOK_AHEAD_FROM and played * more > 2 * (_ENTRIES + _ENTRIES_AN_EVENT * came * more)
        if over or ahead:
            raise _too_much(
                f"{came:,} events are tried so often that {now / max(1, horizon):.2%} of the time took {played:,} steps: "
                f"about {max(played, played * more):,.0f} in all",
                "--exact plays them all; or ",
            )

    def _pace(self) -> None:
        """Chunks of a few tenths of a second, so that Ctrl-C is heard; the size of a chunk changes no answer."""
        now = time.monotonic()
        if now - self.began > _CHUNK_S[1]:
            self.steps = max(_FEWEST_STEPS, self.steps // 2)
        elif now - self.began < _CHUNK_S[0]:
            self.steps = min(_STEPS, self.steps * 2)
        self.began = now


def _too_much(what: str, way_out: str = "") -> BadInput:
    allowed = way_out + "longer waits, pauses, run times or visibility timeouts where work is tried again"
    return BadInput(Problem(what, allowed=allowed))


def play(built: Built, until_ns: int | None = None, progress: Progress | None = None, bounded: bool = True) -> None:
    """Play on to ``until_ns`` after the start, before anything of that instant happens, or to the end.

    Integrals over time are brought up to that instant. Raises ``BadInput`` where work does not end at one instant or,
    ``bounded``, where it is tried so often that the month would not be over in reasonable time.
    """
    built.world.ck[0]["until"] = r.NEVER if until_ns is None else until_ns
    watch = _Watch(built, bounded)
    while (state := ask(built.world, r.PLAY, watch.chunk())) not in (r.DONE, r.REACHED):
        if state == r.MORE_ROOM:
            built.world = with_room(built.world)
            continue
        watch.looks()
        if progress:
            clock = built.world.ck[0]
            progress(int(clock["now"]) / int(clock["horizon"]))
    ask(built.world, r.FLUSH)


def play_entries(built: Built, entries: int) -> bool:
    """Play on by at most so many calendar entries; whether the month is over. Integrals are brought up to the instant."""
    state = ask(built.world, r.PLAY, entries)
    while state == r.MORE_ROOM:
        built.world = with_room(built.world)
        state = ask(built.world, r.PLAY, entries)
    ask(built.world, r.FLUSH)
    return state == r.DONE


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
    ask(built.world, r.FINISH)


def _lay_backlogs(model: Model, built: Built) -> None:
    for source, count in built.backlogs:
        left = count
        while left > 0:
            left -= ask(built.world, r.BACKLOG, source, left)
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
