"""Starting what can start at an instant: among waiting calls the oldest event goes first (rule 4.1)."""

from __future__ import annotations

from echotally.engine.codes import L_FRESH, L_LINE, L_PARTS, NEVER, NO, NO_LOG, NO_ROOM, NONE, POLLED, YES, ZERO
from echotally.engine.kernel import diary, kinds, lists, placing, polled, queues, series, starting, streams
from echotally.engine.kernel.access import (
    World,
    call_at,
    chain_at,
    clock_of,
    marked_at,
    n_calendar,
    n_expected,
    n_log,
    partition_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.layout import SENTINELS

#: What a candidate is: nothing, a call of a line, a batch of a queue, a batch of a partition.
_NOTHING, _CALL, _BATCH, _PARTITION = range(4)


@hot
def low(w: World) -> bool:
    """Whether a pool is too low for one more step: Python then makes it larger and goes on."""
    clock = clock_of(w)
    # A step may take ``margin`` records of each pool; entries up to four times that, since each may arm timers.
    m = clock.margin
    # Below zero if any of them is: one branch, where each would be one of its own for every step.
    least = (
        (clock.events_left - m)
        | (clock.calls_left - m)
        | (clock.cargo_left - m)
        | (clock.instances_left - m)
        | (n_calendar(w) - SENTINELS - clock.entries_n - 4 * m)
        | (n_expected(w) - clock.expected_n - m)
    )
    if least < 0:
        return True
    return (clock.keeps_log > NO_LOG and n_log(w) - clock.log_n < m) or (clock.keeps_diary == YES and diary.full(w))


@hot
def _candidate(w: World, u: int) -> tuple[int, int, int, int]:
    """What unit ``u`` would start next: (line, which, oldest event's number, batches in flight)."""
    unit = unit_at(w, u)
    line, which, number, tie = _NOTHING, NONE, NEVER, ZERO
    # Marked because room came free, not because something waits.
    if unit.waiting == 0:
        return line, which, number, tie
    for chain in (unit.lists + L_LINE, unit.lists + L_FRESH):
        c = chain_at(w, chain).head
        if c >= 0 and call_at(w, c).number < number:
            line, which, number = _CALL, c, call_at(w, c).number
    p = chain_at(w, unit.lists + L_PARTS).head
    if p >= 0 and partition_at(w, p).number < number:
        line, which, number = _PARTITION, p, partition_at(w, p).number
    g = unit.first_trigger
    while g >= 0:
        oldest = kinds.next_batch(w, g, number)
        if oldest < NEVER:
            # Two triggers on one queue compete: of equals the one with fewer batches in flight takes it.
            line, which, number, tie = _BATCH, g, oldest, trigger_at(w, g).in_flight
        g = trigger_at(w, g).after
    return line, which, number, tie


@hot
def _start(w: World, u: int, line: int, which: int, i: int) -> None:
    """Start the candidate on instance ``i``."""
    if line == _CALL:
        unit, call = unit_at(w, u), call_at(w, which)
        lists.remove(w, call_at, unit.lists + call.list, which)
        unit.waiting -= call.items
        starting.start(w, which, i)
    elif line == _BATCH:
        starting.start(w, queues.take_batch(w, which), i)
    else:
        starting.start(w, streams.take_batch(w, which), i)


@kernel
def _no_room(w: World, u: int) -> bool:
    """What may not wait is throttled; returns False when a pool ran low before all were."""
    unit = unit_at(w, u)
    while chain_at(w, unit.lists + L_FRESH).head >= 0:
        if low(w):
            return False
        c = chain_at(w, unit.lists + L_FRESH).head
        lists.remove(w, call_at, unit.lists + L_FRESH, c)
        kinds.throttle(w, c)
    # Matched readers leave what finds no room where it is.
    g = unit.first_trigger if unit.eager == YES else NONE
    while g >= 0:
        while kinds.next_batch(w, g, NEVER) < NEVER:
            if low(w):
                return False
            queues.refused_batch(w, queues.take_batch(w, g))
        g = trigger_at(w, g).after
    return True


@hot
def _forget(w: World, k: int) -> None:
    """Take the k-th marked unit out; the last one takes its place."""
    clock = clock_of(w)
    unit_at(w, marked_at(w, k).v).marked = NO
    clock.marked_n -= 1
    marked_at(w, k).v = marked_at(w, clock.marked_n).v


@hot
def _forget_unit(w: World, u: int) -> None:
    for k in range(clock_of(w).marked_n):
        if marked_at(w, k).v == u:
            _forget(w, k)
            return


@hot
def _seen(w: World) -> None:
    """Before anything starts: the backlog of each marked unit is noted, and looks begin again where something waits."""
    for k in range(clock_of(w).marked_n):
        u = marked_at(w, k).v
        series.backlog_seen(w, u)
        unit = unit_at(w, u)
        if unit.plan_kind == POLLED and unit.look_armed == NO:
            polled.look_again(w, u)


@hot
def dispatch(w: World) -> bool:
    """Start everything that can start now. Returns False when a pool ran low; call again after growing."""
    clock = clock_of(w)
    _seen(w)
    while clock.marked_n > 0:
        best, best_line, best_which = NONE, _NOTHING, NONE
        best_number, best_tie = NEVER, ZERO
        # Everything is looked at again after each start: it may have taken the room or the reader of another.
        k = ZERO
        while k < clock.marked_n:
            line, which, number, tie = _candidate(w, marked_at(w, k).v)
            if line == _NOTHING:
                _forget(w, k)
                continue
            if number < best_number or (number == best_number and tie < best_tie):
                best, best_line, best_which, best_number, best_tie = k, line, which, number, tie
            k += 1
        if best < 0:
            return True
        if low(w):
            return False
        u = marked_at(w, best).v
        i = placing.room_for(w, u)
        if i != NO_ROOM:
            _start(w, u, best_line, best_which, i)
        elif _no_room(w, u):
            # Throttling may have freed nothing, so the unit has nothing more to do at this instant.
            _forget_unit(w, u)
        else:
            return False
    return True
