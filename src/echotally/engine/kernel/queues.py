"""Queues: messages wait, are taken in batches, come back, expire, go to the dead letter."""

from __future__ import annotations

from echotally.engine.kernel import endings, lists, measures, rooms
from echotally.engine.kernel.access import ca, cg, clock, ev, fn, ls, series, so, tr
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.compiled import kernel
from echotally.engine.records import (
    DELAYED,
    DOWN,
    DUE,
    EXPIRE,
    GONE,
    INVISIBLE,
    K_DELAY_OVER,
    K_EXPIRE_QUEUE,
    K_READER,
    K_VISIBLE,
    K_WAKE,
    L_DELAYED,
    L_INVISIBLE,
    L_VISIBLE,
    NEVER,
    SAME,
    THROTTLED,
    UP,
    VISIBLE,
    WAKE,
)  # fmt: skip

_PAUSE_NS = 1_000_000_000


@kernel
def message_in(w, s, payload, sent):
    """A message arrives at queue ``s``; ``sent`` 0 for what was there when the month began."""
    q, ck = so(w, s), clock(w)
    q.sends += sent
    if q.home >= 0:
        series(w, (q.home * clock(w).hours + ck.hour) * 6 + 0).v += 1
    if q.full == 1 and sent == UP:
        # A lane that a sampled month keeps full: what comes is counted, and would only stand behind what is laid.
        q.arrived += 1
        ck.number += 1
        return
    e = rooms.new_event(w, s, payload)
    if q.payload_limit >= 0 and payload > q.payload_limit:
        endings.ends(w, e, q.home, endings.LARGE)
        return
    # A delay does not apply to what was there when the month began (fine print 32).
    if q.delay > 0 and sent == UP:
        ev(w, e).state = DELAYED
        ev(w, e).due = ck.now + q.delay
        lists.append(w, ev, q.lists + L_DELAYED, e)
        if q.delay_timer >= NEVER:
            q.delay_timer = ev(w, e).due
            put(w, q.delay_timer, DUE, s, K_DELAY_OVER, s)
    else:
        _show(w, s, e)


@kernel
def _show(w, s, e):
    """Message ``e`` waits where readers can see it."""
    q, now = so(w, s), clock(w).now
    v = ev(w, e)
    v.state = VISIBLE
    v.seen = now
    chain = q.lists + L_VISIBLE
    if ls(w, chain).n == 0:
        q.idle_ns += now - q.idle_since
    lists.insert(w, ev, chain, e)
    _count_waiting(w, s, UP)
    over = max(v.at + q.retention, now)
    if over < q.expire_timer:
        q.expire_timer = over
        put(w, over, EXPIRE, s, K_EXPIRE_QUEUE, s)


@kernel
def _hide(w, s, e):
    q = so(w, s)
    chain = q.lists + L_VISIBLE
    lists.remove(w, ev, chain, e)
    _count_waiting(w, s, DOWN)
    if ls(w, chain).n == 0:
        q.idle_since = clock(w).now


@kernel
def _count_waiting(w, s, by):
    q = so(w, s)
    for g in range(q.first_trigger, q.first_trigger + q.trigger_n):
        u = tr(w, g).unit
        fn(w, u).waiting += by
        if by > 0:
            rooms.mark(w, u)


@kernel
def delay_over(w, s):
    """The delay of the oldest messages is over."""
    q, now = so(w, s), clock(w).now
    chain = q.lists + L_DELAYED
    while ls(w, chain).head >= 0 and ev(w, ls(w, chain).head).due <= now:
        e = ls(w, chain).head
        lists.remove(w, ev, chain, e)
        _show(w, s, e)
    q.delay_timer = NEVER
    if ls(w, chain).head >= 0:
        q.delay_timer = ev(w, ls(w, chain).head).due
        put(w, q.delay_timer, DUE, s, K_DELAY_OVER, s)


@kernel
def visibility_over(w, s):
    """Messages received ``visibility`` ago and not deleted come back, or go to the dead letter."""
    q, now = so(w, s), clock(w).now
    chain = q.lists + L_INVISIBLE
    e = ls(w, chain).head
    # One message an entry: the timer comes back at this instant for the next, so that room can grow between.
    if e >= 0 and ev(w, e).due <= now:
        _let_go(w, s, e)
        if q.dead_letter >= 0 and ev(w, e).receipts >= q.tries:
            rooms.expect(w, q.dead_letter, ev(w, e).payload)
            tr(w, ev(w, e).trigger).letters += 1
            endings.ends(w, e, tr(w, ev(w, e).trigger).unit, endings.DEAD)
        else:
            _show(w, s, e)
    q.inv_timer = NEVER
    _arm_visibility(w, s)


@kernel
def _arm_visibility(w, s):
    q = so(w, s)
    head = ls(w, q.lists + L_INVISIBLE).head
    if q.inv_timer >= NEVER and head >= 0:
        q.inv_timer = ev(w, head).due
        put(w, q.inv_timer, DUE, s, K_VISIBLE, s)


@kernel
def _let_go(w, s, e):
    """Take ``e`` off the invisible list; in strict order, its batch's place may come free with it."""
    q = so(w, s)
    lists.remove(w, ev, q.lists + L_INVISIBLE, e)
    if ev(w, e).hold == 1:
        ev(w, e).hold = 0
        q.gate -= 1
        _mark_readers(w, s)


@kernel
def _mark_readers(w, s):
    q = so(w, s)
    if ls(w, q.lists + L_VISIBLE).n > 0:
        for g in range(q.first_trigger, q.first_trigger + q.trigger_n):
            rooms.mark(w, tr(w, g).unit)


@kernel
def expire(w, s):
    """Waiting messages that outlived the retention go."""
    q, now = so(w, s), clock(w).now
    if q.expire_timer > now:
        return
    chain = q.lists + L_VISIBLE
    while ls(w, chain).head >= 0 and ev(w, ls(w, chain).head).at + q.retention <= now:
        e = ls(w, chain).head
        _hide(w, s, e)
        last = ev(w, e).trigger
        endings.ends(w, e, tr(w, last).unit if last >= 0 else q.home, endings.EXPIRED)
    q.expire_timer = NEVER
    if ls(w, chain).head >= 0:
        q.expire_timer = ev(w, ls(w, chain).head).at + q.retention
        put(w, q.expire_timer, EXPIRE, s, K_EXPIRE_QUEUE, s)


@kernel
def can_leave(w, g):
    """Whether a batch may leave to trigger ``g`` now, room aside; if only time is missing, look again then."""
    t = tr(w, g)
    q = so(w, t.source)
    chain = ls(w, q.lists + L_VISIBLE)
    if chain.n == 0 or t.in_flight >= t.readers or (q.fifo == 1 and q.gate >= q.groups):
        return False
    if chain.n >= t.batch:
        return True
    due = ev(w, chain.head).seen + t.batch_wait
    if due <= clock(w).now:
        return True
    if t.wake_at != due:
        t.wake_at = due
        put(w, due, WAKE, SAME, K_WAKE, t.unit)
    return False


@kernel
def take_batch(w, g):
    """The oldest messages, up to a batch and what the plan's payload limit holds, as a call."""
    t, now = tr(w, g), clock(w).now
    q = so(w, t.source)
    chain = q.lists + L_VISIBLE
    c = rooms.new_call(w, g, ev(w, ls(w, chain).head).number)
    while ls(w, chain).head >= 0 and ca(w, c).n < t.batch:
        e = ls(w, chain).head
        v = ev(w, e)
        if ca(w, c).n > 0 and q.payload_limit >= 0 and ca(w, c).payload + v.payload > q.payload_limit:
            break
        _hide(w, t.source, e)
        v.state = INVISIBLE
        v.due = now + q.visibility
        v.receipts += 1
        v.trigger = g
        lists.append(w, ev, q.lists + L_INVISIBLE, e)
        rooms.load_event(w, c, e)
    q.receives += 1
    t.in_flight += 1
    if q.fifo == 1:
        q.gate += 1
        ca(w, c).gate = 1
    ca(w, c).arrived = now
    _arm_visibility(w, t.source)
    return c


@kernel
def succeeded(w, c, e):
    """A run handled message ``e``: delete it wherever it is; handled before, it is a duplicate."""
    call, v = ca(w, c), ev(w, e)
    s = tr(w, call.trigger).source
    if v.state == GONE:
        if v.handled == 1:
            fn(w, call.unit).duplicates += 1
        return
    if v.state == VISIBLE:
        _hide(w, s, e)
    elif v.state == INVISIBLE:
        _let_go(w, s, e)
    endings.handled(w, e, tr(w, v.trigger).unit, call.run_at - v.at)


@kernel
def batch_over(w, c, good):
    """The run of a batch ended: its reader is free, its messages deleted or left to come back."""
    call = ca(w, c)
    t = tr(w, call.trigger)
    q = so(w, t.source)
    if good > 0:
        q.deletes += 1
    t.in_flight -= 1
    if q.fifo == 1:
        _free_gate(w, c)
    rooms.mark(w, call.unit)
    rooms.free_call(w, c)


@kernel
def _free_gate(w, c):
    """Strict order: the batch keeps its place until its failed messages have come back."""
    call = ca(w, c)
    q = so(w, tr(w, call.trigger).source)
    node, holder = call.head, -1
    while node >= 0:
        e = cg(w, node).event
        # Its own receipt, not a later one of the same message.
        if ev(w, e).state == INVISIBLE and ev(w, e).due == call.arrived + q.visibility:
            holder = e
        node = cg(w, node).next
    if holder >= 0:
        ev(w, holder).hold = 1
    else:
        q.gate -= 1


@kernel
def refused_batch(w, c):
    """An eager reader took a batch that found no room: a throttled attempt, and the reader pauses 1 s."""
    ck, call = clock(w), ca(w, c)
    f = fn(w, call.unit)
    f.attempts += 1
    f.throttled += 1
    measures.noted(w, c, call.items, NEVER, THROTTLED)
    f.refused_since += call.items
    series(w, (call.unit * clock(w).hours + ck.hour) * 6 + 1).v += 1
    put(w, ck.now + _PAUSE_NS, DUE, call.number, K_READER, call.trigger)
    if so(w, tr(w, call.trigger).source).fifo == 1:
        _free_gate(w, c)
    rooms.free_call(w, c)


@kernel
def reader_back(w, g):
    """An eager reader's pause is over."""
    tr(w, g).in_flight -= 1
    rooms.mark(w, tr(w, g).unit)
