"""The event loop: the next entry of the calendar, what it means, and what can start after it."""

from __future__ import annotations

import numpy as np

from echotally.engine.kernel import (
    arrivals,
    dispatch,
    endings,
    instances,
    measures,
    nodes,
    polled,
    queues,
    rooms,
    runs,
    sources,
    streams,
)
from echotally.engine.kernel.access import ac, ca, cg, clock, ed, ev, fn, hp, ins, ls, no, pa, pend, series, so, tp, tr
from echotally.engine.kernel.calendar import KIND_BITS, STEP_SHIFT, drop_first, put, replace_first
from echotally.engine.kernel.chance import draw, whole
from echotally.engine.kernel.compiled import entry, hot, kernel
from echotally.engine.records import (
    ABSENT,
    ARRIVE,
    BACKLOG,
    BEGIN,
    COLD,
    DONE,
    FLUSH,
    GONE,
    K_CLIENT,
    K_DELAY_OVER,
    K_EXPIRE_BATCH,
    K_EXPIRE_PARTITION,
    K_EXPIRE_QUEUE,
    K_IDLE,
    K_LOOK,
    K_NODE_IDLE,
    K_READER,
    K_READY,
    K_REFUSE,
    K_RETRY,
    K_RUN_END,
    K_TAP,
    K_TICK,
    K_VISIBLE,
    K_WAKE,
    K_WAKE_PART,
    LAID,
    LAY,
    LAY_PARTITION,
    LAY_QUEUE,
    LOOK,
    MORE_ROOM,
    NEVER,
    NONE,
    PAUSED,
    PLAY,
    POLLED,
    QUEUE,
    REACHED,
    RESERVED,
    RUNNING,
    SAME,
    TAP_CLIENTS,
    TICK,
    WAKE,
)  # fmt: skip

_KIND_MASK = (np.int64(1) << KIND_BITS) - np.int64(1)
_NUMBER_MASK = (np.int64(1) << STEP_SHIFT) - np.int64(1)
#: At the month's end, in place of an event's hold: a run of it is in flight.
IN_FLIGHT = np.int64(2)


@hot
def _payload(w, p):
    t = tp(w, p)
    size = draw(w, t.rng + 1, t.pay_kind, t.pay_scale, t.pay_sigma, t.pay_from, t.pay_n)
    return whole(size)


@hot
def _tap_flows(w, p):
    """A tap's event arrives; its next one takes its place in the calendar."""
    payload = _payload(w, p)
    coming = arrivals.next_arrival(w, p)
    if coming < clock(w).horizon:
        first = hp(w, 0)
        replace_first(w, coming, first.key, first.what)
    else:
        drop_first(w)
    sources.arrive(w, tp(w, p).source, payload, p)


@kernel
def _happens(w, kind, ref, number):
    """One entry of the calendar, already taken out."""
    ck = clock(w)
    if kind == K_RUN_END:
        runs.end(w, ref)
    elif kind == K_READY:
        runs.ready(w, ref)
    elif kind == K_VISIBLE:
        queues.visibility_over(w, ref)
    elif kind == K_DELAY_OVER:
        queues.delay_over(w, ref)
    elif kind == K_RETRY:
        sources.asks_again(w, ref)
    elif kind == K_READER:
        queues.reader_back(w, ref)
    elif kind == K_EXPIRE_QUEUE:
        queues.expire(w, ref)
    elif kind == K_EXPIRE_PARTITION:
        streams.expire(w, ref)
    elif kind == K_EXPIRE_BATCH:
        streams.expire_batch(w, ref, number)
    elif kind == K_CLIENT:
        sources.arrive(w, tp(w, ref).source, _payload(w, ref), ref)
    elif kind == K_WAKE:
        rooms.mark(w, ref)
    elif kind == K_WAKE_PART:
        streams.refresh(w, ref)
    elif kind == K_REFUSE:
        sources.waited_enough(w, ref, number)
    elif kind == K_LOOK:
        polled.look(w, ref)
    elif kind == K_IDLE:
        instances.idle_looked_at(w, ref)
    elif kind == K_NODE_IDLE:
        nodes.idle(w, ref)
    else:
        measures.hour_turns(w)
        put(w, ck.now + ck.hour_ns, TICK, SAME, K_TICK, SAME)


@kernel
def _play(w, steps):
    """Play up to ``steps`` calendar entries. Returns DONE, PAUSED, MORE_ROOM or REACHED (``until``)."""
    ck = clock(w)
    while True:
        first = hp(w, 0)
        due_now = ck.heap_n > 0 and first.at == ck.now and (first.key >> STEP_SHIFT) <= WAKE
        if ck.dirty_n > 0 and not due_now and ck.pend_n == 0:
            if not dispatch.dispatch(w):
                return MORE_ROOM
            continue
        if dispatch.low(w):
            return MORE_ROOM
        if ck.pend_n > 0 and not (due_now and (first.key >> STEP_SHIFT) < ARRIVE):
            place = pend(w, ck.pend_head)
            source, payload = place.source, place.payload
            ck.pend_head = (ck.pend_head + 1) % w.n_pend
            ck.pend_n -= 1
            sources.arrive(w, source, payload, NONE)
            continue
        if ck.heap_n == 0 or first.at >= min(ck.until, ck.horizon):
            ck.now = min(ck.until, ck.horizon)
            return REACHED if ck.until < ck.horizon else DONE
        if steps == 0:
            return PAUSED
        steps -= 1
        ck.steps += 1
        ck.now = first.at
        kind, ref = first.what & _KIND_MASK, first.what >> KIND_BITS
        if kind == K_TAP:
            _tap_flows(w, ref)
        else:
            number = first.key & _NUMBER_MASK
            drop_first(w)
            _happens(w, kind, ref, number)


@kernel
def _begin(w):
    """What is there at 0 s: taps, clients, backlogs' timers, floors, the first looks and the hours."""
    ck = clock(w)
    for p in range(w.n_tp):
        t = tp(w, p)
        if t.seg_n == 0 and t.kind != TAP_CLIENTS:
            continue
        if t.kind == TAP_CLIENTS:
            for k in range(t.clients):
                put(w, whole(t.think_scale * k / t.clients), ARRIVE, p, K_CLIENT, p)
            continue
        coming = arrivals.next_arrival(w, p)
        if coming < ck.horizon:
            put(w, coming, ARRIVE, p, K_TAP, p)
    for u in range(ck.units):
        f = fn(w, u)
        if f.plan_kind != RESERVED:
            for _ in range(min(f.floor, f.limit)):
                # A floor that finds no room on the nodes is not there (fine print 33).
                if not nodes.fits(w, u):
                    break
                instances.new_instance(w, u, SAME, SAME)
        if f.plan_kind == POLLED:
            f.target = f.floor
            put(w, SAME, LOOK, u, K_LOOK, u)
    put(w, ck.hour_ns, TICK, SAME, K_TICK, SAME)


@kernel
def _backlog(w, s, n, payload):
    """Lay up to ``n`` messages into queue ``s`` before anything leaves; returns how many fitted."""
    for k in range(n):
        if dispatch.low(w):
            return k
        queues.message_in(w, s, payload, SAME)
    return n


@kernel
def _lay(w, n):
    """Put up to ``n`` events into the lane the clock names, before anything starts; returns how many fitted.

    They have the sizes of what feeds the lane. Of their waits nothing is kept: ``engine.sampling`` knows their ages.
    """
    ck = clock(w)
    for k in range(n):
        if dispatch.low(w):
            return k
        payload = ck.lay_payload
        if ck.lay_tap >= 0:
            payload = _payload(w, ck.lay_tap)
        elif ck.lay_edge >= 0:
            x = ed(w, ck.lay_edge)
            payload = whole(draw(w, ck.lay_stream, x.pay_kind, x.pay_scale, x.pay_sigma, x.pay_from, x.pay_n))
        e = ck.free_ev
        if ck.lay_kind == LAY_QUEUE:
            queues.message_in(w, ck.lay_ref, payload, SAME)
            ev(w, e).tap = LAID
        elif ck.lay_kind == LAY_PARTITION:
            g = pa(w, ck.lay_ref).trigger
            streams.copy_in(w, tr(w, g).source, g, ck.lay_ref, payload)
            ev(w, e).tap = LAID
        else:
            sources.hand_over(w, tr(w, ck.lay_ref).source, ck.lay_ref, payload, LAID)
    return n


@kernel
def _finish(w):
    """The month's end: bill what is in flight, close every integral, count what is unfinished."""
    ck = clock(w)
    for c in range(w.n_ca):
        state = ca(w, c).state
        if state == RUNNING or state == COLD:
            runs.charge(w, c, ck.now)
            node = ca(w, c).head
            while node >= 0:
                # Its run is in flight: unfinished, but not left behind (fine print 38).
                ev(w, cg(w, node).event).hold = IN_FLIGHT
                node = cg(w, node).next
    for i in range(w.n_ins):
        v = ins(w, i)
        if v.alive == ABSENT or v.unit < 0:
            continue
        f = fn(w, v.unit)
        if v.active_since >= 0 and f.bills == 1:
            instances.bill(f, ck.now - v.active_since)
        instances.lived(f, ck.now - v.created)
    for e in range(w.n_ev):
        v = ev(w, e)
        if v.state != GONE:
            unit = tr(w, v.trigger).unit if v.trigger >= 0 else so(w, v.source).home
            if v.hold == IN_FLIGHT and unit >= 0:
                fn(w, unit).ev_flying += v.items
            v.refs += 1
            endings.ends(w, e, unit, endings.LEFT)
    _flush(w)
    for u in range(ck.units):
        oldest = measures.oldest_waiting(w, u)
        series(w, (u * clock(w).hours + ck.hour) * 6 + 5).v = (ck.now - oldest) * 1e-9 if oldest < NEVER else 0.0


@kernel
def _flush(w):
    """Bring every integral over time up to this instant; doing it twice adds nothing."""
    ck = clock(w)
    for u in range(ck.units):
        measures.in_flight_changes(w, u, SAME)
        measures.instances_change(w, u, SAME)
        measures.busy_changes(w, u, SAME)
        if fn(w, u).stream_n > 0:
            measures.lag_changes(w, u, fn(w, u).lag_oldest)
    for s in range(w.n_so):
        q = so(w, s)
        if q.kind == QUEUE and ls(w, q.lists + 1).n == 0:
            q.idle_ns += ck.now - q.idle_since
            q.idle_since = ck.now
    for x in range(w.n_no):
        if no(w, x).up == 1:
            nodes.was_up(ac(w, no(w, x).account), ck.now - no(w, x).since)
            no(w, x).since = ck.now


@entry
def simulation(addresses, step, a, b):
    """The one door for Python: BEGIN; BACKLOG of ``b`` messages for queue ``a``; LAY ``b``
    events; PLAY ``a`` entries; FLUSH; FINISH.

    ``addresses`` is ``access.door(world)``. Returns a state (PLAY) or a count (BACKLOG, LAY).
    """
    w = addresses[0]
    if step == BEGIN:
        _begin(w)
    elif step == BACKLOG:
        return _backlog(w, a, b, np.int64(1_000))
    elif step == PLAY:
        return _play(w, a)
    elif step == FLUSH:
        _flush(w)
    elif step == LAY:
        return _lay(w, b)
    else:
        _finish(w)
    return DONE
