"""The event loop: the next entry of the calendar, what it means, and what can start after it.

The order of one instant is that of rule 1.3. The calendar gives entries by (time, step, number); arrivals from inside and what
can start now stand in no entry, so ``_play`` puts them where they belong between two steps.
"""

from __future__ import annotations

import numpy as np

from echotally.engine.codes import (
    ARRIVE,
    BACKLOG,
    BEGIN,
    COUNT,
    DONE,
    FLUSH,
    K_AGAIN,
    K_ANSWERED,
    K_ASKED_LONG,
    K_CLIENT,
    K_DELAY_OVER,
    K_EXPIRE_BATCH,
    K_EXPIRE_PARTITION,
    K_EXPIRE_QUEUE,
    K_FILL,
    K_IDLE,
    K_LOOK,
    K_NODE_IDLE,
    K_READER,
    K_READY,
    K_REFUSE,
    K_RETRY,
    K_RUN_END,
    K_SHORT_END,
    K_TAP,
    K_TICK,
    K_TURN,
    K_VISIBLE,
    K_WAKE,
    LATER,
    LAY,
    MORE_ROOM,
    NONE,
    PAUSED,
    PLAY,
    REACHED,
    TICK,
    WAKE,
    YES,
    ZERO,
)
from echotally.engine.kernel import (
    beside,
    comes_again,
    diary,
    dispatch,
    kinds,
    lifecycle,
    marking,
    month,
    nodes,
    polled,
    queues,
    records_way,
    requests,
    settle,
    short_way,
    starting,
    streams,
    taps,
    turns,
    waits,
)
from echotally.engine.kernel.access import World, call_at, clock_of, entry_at, expected_at, n_expected, tap_at
from echotally.engine.kernel.aside import KIND_BITS
from echotally.engine.kernel.calendar import STEP_SHIFT, drop_first, put, replace_first
from echotally.engine.kernel.compiled import entry, hot, kernel, rare
from echotally.engine.records import Entry

_KIND_MASK: int = (YES << KIND_BITS) - YES
_NUMBER_MASK: int = (YES << STEP_SHIFT) - YES
#: Size of a message of a backlog (rule 7.22).
_BACKLOG_BYTES: int = np.int64(1_000)  # type: ignore[assignment]


@hot
def _tap_flows(w: World, p: int) -> None:
    """A tap's event arrives; its next one takes its place in the calendar."""
    payload = taps.payload_of(w, p)
    coming = taps.next_arrival(w, p)
    if p == clock_of(w).beside:
        beside.moves_on(w, coming)
    elif coming < clock_of(w).horizon:
        # Its own place is the first one: overwriting it spares the calendar a removal and an insertion.
        first = entry_at(w, 0)
        replace_first(w, coming, first.key, first.what)
    else:
        drop_first(w)
    diary.from_outside(w, tap_at(w, p).source, p)
    kinds.arrive(w, tap_at(w, p).source, payload, p)


@rare
def _flows_apart(w: World, p: int) -> None:
    """As ``_tap_flows``, in machine code of its own: few that stand beside the calendar go the usual way."""
    _tap_flows(w, p)


@hot
def _comes_beside(w: World, steps: int) -> None:
    """The next event beside the calendar has its turn, and ``steps`` more at most that come one after the other."""
    clock, p = clock_of(w), clock_of(w).beside
    if tap_at(w, p).short < 0:
        records_way.played(w, steps)
    elif not _goes_short(w, p, steps):
        clock.steps += 1
        clock.now = clock.beside_at
        _flows_apart(w, p)


@hot
def _first_goes_short(w: World, first: Entry, steps: int) -> bool:
    """As ``_goes_short``, of the calendar's first entry."""
    kind, ref = first.what & _KIND_MASK, first.what >> KIND_BITS
    if kind == K_SHORT_END:
        return _goes_short(w, call_at(w, ref).tap, steps)
    return kind == K_TAP and _goes_short(w, ref, steps)


@hot
def _goes_short(w: World, p: int, steps: int) -> bool:
    """Play on as far as calls of tap ``p`` go the short way, ``steps`` entries at most; False where not even the next one does."""
    # Whoever keeps a diary wants every event, so the usual way.
    if tap_at(w, p).short < 0 or not short_way.unwatched(w):
        return False
    taken = short_way.played(w, p, steps)
    # None of them takes more of the pools than a step of the usual way may.
    clock_of(w).sure -= taken
    return taken > 0


@hot
def _takes_a_step(w: World, first: Entry) -> None:
    """The first entry has its turn, the usual way."""
    clock, kind, ref = clock_of(w), first.what & _KIND_MASK, first.what >> KIND_BITS
    clock.steps += 1
    clock.now = first.at
    if kind == K_TAP:
        _tap_flows(w, ref)
    else:
        number = first.key & _NUMBER_MASK
        drop_first(w)
        _happens(w, kind, ref, number)


@kernel
def _happens(w: World, kind: int, ref: int, number: int) -> None:
    """One entry of the calendar, already taken out."""
    if kind == K_RUN_END:
        settle.end(w, ref)
    elif kind == K_READY:
        starting.ready(w, ref, number)
    elif kind == K_RETRY or kind == K_AGAIN:
        _tries_again(w, kind, ref, number)
    elif kind == K_CLIENT:
        diary.from_outside(w, tap_at(w, ref).source, ref)
        kinds.arrive_apart(w, tap_at(w, ref).source, taps.payload_of(w, ref), ref)
    elif kind == K_WAKE:
        marking.mark(w, ref)
    elif kind == K_REFUSE:
        requests.waited_enough(w, ref, number)
    elif kind == K_LOOK:
        polled.look_comes(w, ref)
    elif kind == K_IDLE:
        lifecycle.idle_looked_at(w, ref)
    # The usual ones are asked for first; what is rare stands in a kernel of its own, out of the way of the rest.
    elif kind >= K_TURN:
        _unusual(w, kind, ref, number)
    else:
        _timer_is_due(w, kind, ref, number)


@hot
def _tries_again(w: World, kind: int, ref: int, number: int) -> None:
    """A pause is over: of a call, or of the first of a list of them."""
    if kind == K_AGAIN:
        comes_again.comes(w, ref, number)
    else:
        kinds.try_again(w, ref)


@kernel
def _unusual(w: World, kind: int, ref: int, number: int) -> None:
    """What the clock brings, and what befalls calls that ask or wait for an instance."""
    if kind == K_TURN:
        turns.comes(w)
    elif kind == K_FILL:
        lifecycle.fill(w, ref)
    elif kind == K_ANSWERED:
        settle.answered(w, ref)
    elif kind == K_SHORT_END:
        short_way.ends(w, ref)
    elif kind == K_ASKED_LONG:
        settle.asked_long(w, ref, number)
    else:
        settle.cold_long(w, ref, number)


@kernel
def _timer_is_due(w: World, kind: int, ref: int, number: int) -> None:
    """Timers of nodes, of the hours, of queues and of streams."""
    if kind == K_NODE_IDLE:
        nodes.idle(w, ref)
    elif kind == K_TICK:
        month.hour_turns(w)
        # Each hour arms the next, so the calendar never holds a month of them.
        put(w, clock_of(w).now + clock_of(w).hour_ns, TICK, ZERO, K_TICK, ZERO)
    elif kind == K_VISIBLE:
        queues.visibility_over(w, ref)
    elif kind == K_DELAY_OVER:
        queues.delay_over(w, ref)
    elif kind == K_READER:
        queues.reader_back(w, ref)
    elif kind == K_EXPIRE_QUEUE:
        queues.expire(w, ref)
    elif kind == K_EXPIRE_PARTITION:
        streams.expire(w, ref)
    elif kind == K_EXPIRE_BATCH:
        streams.expire_batch(w, ref, number)
    else:
        records_way.waited_enough(w, ref)


@hot
def _goes_before(w: World, first: Entry) -> bool:
    """Whether what was put out at this instant, or else what can start, has its turn before the calendar's first entry.

    What was put out arrives after the instant's ends, dues and expiries, with the arrivals from outside. What can start does so
    once nothing of the instant up to WAKE is left, and before requests are refused.
    """
    clock = clock_of(w)
    step = first.key >> STEP_SHIFT if first.at == clock.now else LATER
    if clock.expected_n > 0:
        return step >= ARRIVE
    # What stands beside the calendar arrives before that.
    return step > WAKE and clock.beside_at > clock.now


@hot
def _at_this_instant(w: World) -> bool:
    """One event from inside arrives, or everything starts that can; False where room must be made first."""
    if clock_of(w).expected_n == 0:
        return dispatch.dispatch(w)
    if dispatch.low(w):
        return False
    _arrives_from_inside(w)
    return True


@kernel
def _play(w: World, steps: int) -> int:
    """Play up to ``steps`` calendar entries. Returns DONE, PAUSED, MORE_ROOM or REACHED (``until``)."""
    # The calendar's first place: whatever stands there, and where it is empty what is beyond every month.
    clock, first = clock_of(w), entry_at(w, 0)
    over, last = min(clock.until, clock.horizon), clock.steps + steps
    clock.last = last
    while True:
        # Most steps leave nothing behind at their instant.
        if (clock.marked_n > 0 or clock.expected_n > 0) and _goes_before(w, first):
            if not _at_this_instant(w):
                return MORE_ROOM
            continue
        # Room is made between two steps, never in one: a step may hold addresses of what would move.
        if dispatch.low(w):
            return MORE_ROOM
        if beside.next_at(w) >= over:
            # Where the stretch ends and not at its last event: integrals are brought up to here (``month.flush``).
            clock.now = over
            return REACHED if clock.until < clock.horizon else DONE
        if clock.steps == last:
            return PAUSED
        if beside.comes_first(w):
            _comes_beside(w, last - clock.steps)
        elif not _first_goes_short(w, first, last - clock.steps):
            _takes_a_step(w, first)


@kernel
def _arrives_from_inside(w: World) -> None:
    """The next event put out at this instant arrives at its source."""
    clock = clock_of(w)
    place = expected_at(w, clock.expected_first)
    s, payload = place.source, place.payload
    clock.asker, clock.asking = place.asker, place.asking
    clock.origin, clock.sent, clock.whose = place.origin, place.sent, place.whose
    # A ring: what is put out at this instant arrives in the order in which it was put out (rule 1.3).
    clock.expected_first = (clock.expected_first + 1) % n_expected(w)
    clock.expected_n -= 1
    diary.put_out(w, s)
    kinds.arrive_apart(w, s, payload, NONE)
    # Whatever comes next from outside has nobody inside who sent it.
    clock.asker, clock.origin, clock.sent = NONE, NONE, NONE


@entry
def simulation(w: World, step: int, a: int, b: int) -> int:
    """The one entry for Python: BEGIN; BACKLOG of ``b`` messages for queue ``a``; LAY ``b`` events; PLAY ``a`` entries; FLUSH;
    FINISH; COUNT the events of tap ``a`` by spans of ``b`` ns.

    ``w`` is what ``compiling.form().door`` makes of a world. Returns a state (PLAY, FINISH) or a count (BACKLOG, LAY, COUNT).
    """
    # Python may have put other pools in place of these.
    clock_of(w).sure = ZERO
    if step == BEGIN:
        month.begin(w)
    elif step == BACKLOG:
        return month.backlog(w, a, b, _BACKLOG_BYTES)
    elif step == PLAY:
        state = _play(w, a)
        waits.complete(w)
        return state
    elif step == FLUSH:
        month.flush(w)
    elif step == LAY:
        return month.lay(w, b)
    elif step == COUNT:
        return taps.count_arrivals(w, a, b)
    else:
        state = month.finish(w)
        waits.complete(w)
        return state
    return DONE
