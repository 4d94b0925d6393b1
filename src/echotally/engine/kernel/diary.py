"""What is written down of single attempts, instances and levels, where a run keeps a diary, a trail or a log; most keep none."""

from __future__ import annotations

from echotally.engine.codes import LOG_TIME_SHIFT, LOG_WHAT_SHIFT, NONE, THROTTLED, ZERO
from echotally.engine.kernel.access import (
    World,
    born_at,
    call_at,
    cargo_at,
    carried_at,
    clock_of,
    diary_at,
    event_at,
    log_at,
    n_born,
    n_carried,
    n_diary,
    n_trail,
    trail_at,
    unit_at,
)
from echotally.engine.kernel.compiled import hot, kernel


@kernel
def noted(w: World, c: int, items: int, run_at: int, outcome: int) -> None:
    """Write an attempt that is over into the diary, while there is room."""
    clock, call = clock_of(w), call_at(w, c)
    if clock.diary_n >= n_diary(w):
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
    clock.noted += 1


@hot
def carries(w: World, c: int) -> None:
    """Write down what the attempt that will be noted next holds, where that is kept at all."""
    # One line is what every world has that keeps none.
    if n_carried(w) > 1:
        _carries(w, c)


@kernel
def _carries(w: World, c: int) -> None:
    clock, link = clock_of(w), call_at(w, c).head
    while link >= 0 and clock.carried_n < n_carried(w):
        line = carried_at(w, clock.carried_n)
        line.attempt = clock.noted
        line.number = event_at(w, cargo_at(w, link).event).number
        clock.carried_n += 1
        link = cargo_at(w, link).next


@hot
def comes(w: World, e: int) -> None:
    """Write down where an event came from, where that is kept."""
    if n_born(w) > 1:
        _comes(w, event_at(w, e).number, event_at(w, e).at_source)


@hot
def put_out(w: World, s: int) -> None:
    """Write down what arrives at source ``s`` from inside, whatever becomes of it there."""
    if n_born(w) > 1:
        _comes(w, NONE, s)


@kernel
def _comes(w: World, number: int, s: int) -> None:
    clock = clock_of(w)
    if clock.born_n >= n_born(w):
        return
    line = born_at(w, clock.born_n)
    line.number = number
    line.source = s
    line.at = clock.now
    line.origin = clock.origin
    line.asker = call_at(w, clock.asker).number if clock.asker >= 0 else -1
    line.sent = clock.sent
    clock.born_n += 1


@kernel
def count_changed(w: World, u: int, ready: int) -> None:
    """Write a unit's number of instances into the trail; ``ready`` YES: it is the same, and one became ready."""
    clock = clock_of(w)
    if clock.trail_n < n_trail(w):
        change = trail_at(w, clock.trail_n)
        change.at = clock.now
        change.unit = u
        change.count = unit_at(w, u).count
        change.ready = ready
        clock.trail_n += 1


@hot
def logged(w: World, a: int, what: int, least: int) -> None:
    """Write a change into a log that keeps ``least`` or more: what (FELL, ROSE, TOKEN), and of which account.

    ``dispatch.low`` sees to its room.
    """
    clock = clock_of(w)
    if clock.keeps_log >= least:
        log_at(w, clock.log_n).v = (clock.now << LOG_TIME_SHIFT) | (what << LOG_WHAT_SHIFT) | a
        clock.log_n += 1
