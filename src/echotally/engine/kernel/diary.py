"""What is written down of single attempts and instances, where a run keeps a diary or a trail; most keep none."""

from __future__ import annotations

from echotally.engine.codes import THROTTLED, ZERO
from echotally.engine.kernel.access import World, call_at, clock_of, diary_at, trail_at, unit_at
from echotally.engine.kernel.compiled import kernel


@kernel
def noted(w: World, c: int, items: int, run_at: int, outcome: int) -> None:
    """Write an attempt that is over into the diary, while there is room."""
    clock, call = clock_of(w), call_at(w, c)
    if clock.diary_n >= w.n_diary:
        return
    line = diary_at(w, clock.diary_n)
    line.unit = call.unit
    line.number = call.number
    line.items = items
    line.at = clock.now if outcome == THROTTLED else call.started
    line.run_at = run_at
    line.ended = clock.now
    line.cold_ns = ZERO if outcome == THROTTLED else call.cold_ns
    line.outcome = outcome
    clock.diary_n += 1


@kernel
def count_changed(w: World, u: int, ready: int) -> None:
    """Write a unit's number of instances into the trail; ``ready`` YES: it is the same, and one became ready."""
    clock = clock_of(w)
    if clock.trail_n < w.n_trail:
        change = trail_at(w, clock.trail_n)
        change.at = clock.now
        change.unit = u
        change.count = unit_at(w, u).count
        change.ready = ready
        clock.trail_n += 1
