"""Pools of records: taking a free one, giving it back. Links run through ``next``."""

from __future__ import annotations

from echotally.engine.kernel.access import ac, ca, cg, clock, dirty, ev, fn, pend, so, tr
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import FREE, GONE


@hot
def new_event(w, source, payload):
    """An event that arrives at a source now."""
    ck = clock(w)
    e = ck.free_ev
    v = ev(w, e)
    ck.free_ev = v.next
    ck.ev_left -= 1
    v.number = ck.number
    ck.number += 1
    ck.arrived += 1
    so(w, source).arrived += 1
    v.at = ck.now
    v.seen = ck.now
    v.receipts = 0
    v.payload = payload
    v.source = source
    v.state = GONE
    v.refs = 0
    v.tap = -1
    v.tries = 0
    v.trigger = -1
    v.items = 1
    v.handled = 0
    v.hold = 0
    v.prev = -1
    v.next = -1
    return e


@hot
def free_event(w, e):
    """Give an event back once nothing refers to it."""
    ck = clock(w)
    ev(w, e).state = GONE
    ev(w, e).next = ck.free_ev
    ck.free_ev = e
    ck.ev_left += 1


@hot
def new_call(w, g, number):
    """An empty call of trigger ``g``; ``number`` is its oldest event's."""
    ck = clock(w)
    c = ck.free_ca
    v = ca(w, c)
    ck.free_ca = v.next
    ck.ca_left -= 1
    v.unit = tr(w, g).unit
    v.trigger = g
    v.number = number
    v.arrived = ck.now
    v.n = 0
    v.items = 0
    v.head = -1
    v.tail = -1
    v.instance = -1
    v.timed_out = 0
    v.cold_ns = 0
    v.tries = 0
    v.wait = 0
    v.payload = 0
    v.counted = 0
    v.part = -1
    v.timer = -1
    v.prev = -1
    v.next = -1
    return c


@hot
def free_call(w, c):
    """Give a call and its cargo back; events that ended meanwhile go with their last call."""
    ck = clock(w)
    node = ca(w, c).head
    while node >= 0:
        after = cg(w, node).next
        drop_cargo(w, node)
        node = after
    ca(w, c).state = FREE
    ca(w, c).next = ck.free_ca
    ck.free_ca = c
    ck.ca_left += 1


@hot
def drop_cargo(w, node):
    """Free one cargo link and, if it was the last on an ended event, the event."""
    ck = clock(w)
    e = cg(w, node).event
    ev(w, e).refs -= 1
    if ev(w, e).refs == 0 and ev(w, e).state == GONE:
        free_event(w, e)
    cg(w, node).next = ck.free_cg
    ck.free_cg = node
    ck.cg_left += 1


@hot
def load_event(w, c, e):
    """Put an event into a call's cargo."""
    ck, call = clock(w), ca(w, c)
    node = ck.free_cg
    ck.free_cg = cg(w, node).next
    ck.cg_left -= 1
    cg(w, node).event = e
    cg(w, node).next = -1
    if call.tail >= 0:
        cg(w, call.tail).next = node
    else:
        call.head = node
        call.arrived = ev(w, e).at
    call.tail = node
    call.n += 1
    call.items += ev(w, e).items
    call.payload += ev(w, e).payload
    ev(w, e).refs += 1


@hot
def mark(w, u):
    """Remember that a unit may have something to start at this instant."""
    if fn(w, u).dirty == 0:
        fn(w, u).dirty = 1
        dirty(w, clock(w).dirty_n).v = u
        clock(w).dirty_n += 1


@kernel
def mark_waiting(w, a):
    """Something shared by an account came free: all its units that wait may start."""
    acc = ac(w, a)
    acc.blocked = 0
    for u in range(acc.first_unit, acc.first_unit + acc.unit_n):
        if fn(w, u).waiting > 0:
            mark(w, u)


@kernel
def mark_blocked(w, a):
    """Something shared came free: wake whoever found no room for lack of it."""
    if ac(w, a).blocked == 1:
        mark_waiting(w, a)


@kernel
def expect(w, target, payload):
    """An event put out or dead-lettered now: it arrives at ``target`` in the arrivals of this instant."""
    ck = clock(w)
    place = pend(w, (ck.pend_head + ck.pend_n) % w.n_pend)
    place.source = target
    place.payload = payload
    ck.pend_n += 1
