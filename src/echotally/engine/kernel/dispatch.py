"""Starting what can start at an instant: among waiting calls the oldest event goes first (rule 4.1)."""

from __future__ import annotations

from echotally.engine.codes import ALL_TAKEN, L_FRESH, NEVER, NO, NO_LOG, NO_ROOM, NONE, POLLED, YES, ZERO
from echotally.engine.kernel import (
    candidates,
    crowds,
    diary,
    kinds,
    lineup,
    lists,
    placing,
    polled,
    queues,
    series,
    starting,
    streams,
)
from echotally.engine.kernel.access import (
    World,
    call_at,
    chain_at,
    clock_of,
    marked_at,
    n_calendar,
    n_expected,
    n_log,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.layout import SENTINELS
from echotally.engine.records import Lined


@hot
def low(w: World) -> bool:
    """Whether a pool is too low for one more step: Python then makes it larger and goes on."""
    clock = clock_of(w)
    # Nearly every step: pools hold many times what one takes, so that looking at them once is enough for as many.
    if clock.sure > 0:
        clock.sure -= 1
        return False
    return _is_low(w)


@kernel
def _is_low(w: World) -> bool:
    """As ``low``; also counts the steps for which that is known now."""
    clock = clock_of(w)
    # A step may take ``margin`` records of each pool; entries up to four times that, since each may arm timers.
    least = min(clock.events_left, clock.calls_left, clock.cargo_left, clock.instances_left)
    least = min(least, n_expected(w) - clock.expected_n)
    least = min(least, (n_calendar(w) - SENTINELS - clock.entries_n - clock.aside_n) // 4)
    if clock.keeps_log > NO_LOG:
        least = min(least, n_log(w) - clock.log_n)
    if least < clock.margin or (clock.keeps_diary == YES and diary.full(w)):
        return True
    # A diary's lines are other ones than these.
    clock.sure = ZERO if clock.keeps_diary == YES else least // clock.margin - 1
    return False


@hot
def _start(w: World, u: int, line: int, which: int, i: int) -> None:
    """Start the candidate on instance ``i``."""
    c = which
    if line == candidates.CALL:
        unit, call = unit_at(w, u), call_at(w, which)
        lists.remove(w, call_at, unit.lists + call.list, which)
        unit.waiting -= call.items
    elif line == candidates.BATCH:
        c = queues.take_batch(w, which)
    else:
        c = streams.take_batch(w, which)
    starting.start(w, c, i)


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
def _seen(w: World) -> None:
    """Before anything starts: the backlog of each marked unit is noted, and looks begin again where something waits."""
    clock = clock_of(w)
    for k in range(clock.lined_n, clock.marked_n):
        u = marked_at(w, k).who
        # What waits in a crowd was noted as it came.
        if u >= 0:
            series.backlog_seen(w, u)
            unit = unit_at(w, u)
            if unit.plan_kind == POLLED and unit.look_armed == NO:
                polled.look_again(w, u)


@hot
def dispatch(w: World) -> bool:
    """Start everything that can start now. Returns False when a pool ran low; call again after growing."""
    clock = clock_of(w)
    _seen(w)
    # Nearly always it is one unit, which needs no heap, and what it starts marks nobody else.
    while clock.marked_n == 1 and marked_at(w, 0).who >= 0:
        clock.lined_n = ZERO
        u = marked_at(w, 0).who
        line, which, _, _ = candidates.candidate(w, u)
        if line == candidates.NOTHING:
            unit_at(w, u).marked = NO
            clock.marked_n = ZERO
            return True
        if low(w):
            return False
        i = placing.room_for(w, u)
        if i == NO_ROOM or i == ALL_TAKEN:
            if not _no_room(w, u):
                return False
            # Throttling may have freed nothing, so the unit has nothing more to do at this instant.
            if i == ALL_TAKEN:
                crowds.joins(w, u)
            unit_at(w, u).marked = NO
            clock.marked_n -= 1
            # What it took without room may have left others something to start.
            marked_at(w, 0).who = marked_at(w, clock.marked_n).who
            continue
        _start(w, u, line, which, i)
    return clock.marked_n == 0 or _one_after_the_other(w)


@kernel
def _one_after_the_other(w: World) -> bool:
    """Start everything that several units and crowds can start, the oldest event first. Returns as ``dispatch``."""
    clock, first = clock_of(w), marked_at(w, 0)
    while True:
        if clock.line_up == YES:
            clock.line_up = NO
            clock.lined_n = ZERO
        while clock.lined_n < clock.marked_n:
            lineup.lines_up(w)
        if clock.marked_n == 0:
            return True
        # Others have started since it was looked at: they may have taken what it would have, or have left it another.
        if not lineup.is_as_it_was(w, first):
            continue
        if low(w):
            return False
        i = placing.room_for(w, lineup.whose(w, first))
        if i != NO_ROOM and i != ALL_TAKEN:
            _start(w, lineup.whose(w, first), first.line, first.which, i)
        elif not _turned_away(w, first, i):
            return False


@kernel
def _turned_away(w: World, first: Lined, room: int) -> bool:
    """The first found no room; returns False when a pool ran low before what may not wait was throttled."""
    u = lineup.whose(w, first)
    if not _no_room(w, u):
        return False
    if first.who < 0 and room == NO_ROOM:
        # It waits for something of its own; the others of the crowd may have that.
        crowds.leaves(w, u)
        return True
    if first.who >= 0 and room == ALL_TAKEN:
        crowds.joins(w, u)
    elif first.who < 0 and placing.lacks_a_node(w, u):
        crowds.with_instances_are_marked(w, -1 - first.who)
    # Of a crowd nobody else finds room where one does not; throttling may have freed nothing.
    lineup.first_goes(w)
    return True
