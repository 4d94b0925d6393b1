"""Instances: which one takes a call, when a new one starts, when an idle one goes."""

from __future__ import annotations

import numpy as np

from echotally.engine.kernel import lists, measures, nodes, rooms
from echotally.engine.kernel.access import ac, clock, fn, ins, ls, no
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.chance import draw, whole
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import (
    ABSENT,
    DOWN,
    END,
    IDLE,
    K_IDLE,
    K_READY,
    K_WAKE,
    L_FREE,
    L_STARTING,
    NEVER,
    PER_CALL,
    POLLED,
    READY,
    RESERVED,
    SAME,
    STARTING,
    UP,
    WAKE,
    WIDE_BITS,
    WIDE_LOW,
)

NO_ROOM, NEW_INSTANCE = np.int64(-1), np.int64(-2)


@hot
def room_for(w, u):
    """The instance that would take a call of unit ``u`` now; NEW_INSTANCE, or NO_ROOM."""
    f = fn(w, u)
    acc = ac(w, f.account)
    if acc.limit >= 0 and acc.in_flight >= acc.limit:
        acc.blocked = 1
        return NO_ROOM
    if f.plan_kind == RESERVED:
        return _most_memory_free(w, u)
    free = ls(w, f.lists + L_FREE).head
    if free >= 0:
        return free
    starting = ls(w, f.lists + L_STARTING).head
    if starting >= 0:
        return starting
    if f.plan_kind == POLLED or f.count >= f.limit:
        return NO_ROOM
    if not nodes.fits(w, u):
        acc.blocked = 1
        return NO_ROOM
    if not _token_left(w, u):
        return NO_ROOM
    return NEW_INSTANCE


@kernel
def _most_memory_free(w, u):
    f = fn(w, u)
    acc = ac(w, f.account)
    best, most = NO_ROOM, np.int64(-1)
    for i in range(acc.first_instance, acc.first_instance + acc.instance_n):
        v = ins(w, i)
        if v.memory_free >= f.memory_cost and v.n < f.slots and v.memory_free > most:
            best, most = i, v.memory_free
    if best == NO_ROOM:
        acc.blocked = 1
    return best


@kernel
def _token_left(w, u):
    """Whether a start token is left; if not and something waits, look again when the next one is there."""
    f = fn(w, u)
    if f.token_cost == 0:
        return True
    holder_at, level = f.token_at, f.token_level
    acc = ac(w, f.account)
    if f.token_scope == 1:
        holder_at, level = acc.token_at, acc.token_level
    now = clock(w).now
    if now - holder_at >= (f.burst_units - level) // f.ramp_units + 1:
        level = f.burst_units
    else:
        level += (now - holder_at) * f.ramp_units
    if f.token_scope == 1:
        acc.token_at, acc.token_level = now, level
    else:
        f.token_at, f.token_level = now, level
    if level >= f.token_cost:
        return True
    again = now + (f.token_cost - level + f.ramp_units - 1) // f.ramp_units
    if f.waiting > 0 and f.token_wake != again:
        f.token_wake = again
        put(w, again, WAKE, SAME, K_WAKE, u)
    return False


@kernel
def _spend_token(w, u):
    f = fn(w, u)
    if f.token_cost > 0:
        if f.token_scope == 1:
            ac(w, f.account).token_level -= f.token_cost
        else:
            f.token_level -= f.token_cost


@kernel
def new_instance(w, u, number, cold):
    """Start an instance of unit ``u``; ``cold`` False: it is ready at once (floors at the month's start)."""
    ck, f = clock(w), fn(w, u)
    i = ck.free_in
    v = ins(w, i)
    ck.free_in = v.next
    ck.in_left -= 1
    v.unit = u
    v.account = f.account
    v.n = 0
    v.created = ck.now
    v.released = ck.now
    v.cold_call = -1
    v.active_since = -1
    v.alive = STARTING if cold else READY
    v.load = 0.0
    v.cold_ns = 0
    v.ready = ck.now
    v.node = nodes.place(w, u)
    measures.instances_change(w, u, UP)
    if cold:
        _spend_token(w, u)
        f.cold_starts += 1
        drawn = draw(w, f.rng + 1, f.cold_kind, f.cold_scale, f.cold_sigma, f.cold_from, f.cold_n)
        v.cold_ns = whole(drawn * f.cold_factor)
        v.ready = (max(ck.now, no(w, v.node).ready) if v.node >= 0 else ck.now) + v.cold_ns
        if v.ready == ck.now:
            # Ready in the step that makes it, so that the next call of this instant finds it warm (fine print 34).
            v.alive = READY
            v.listed = L_FREE
            lists.push_front(w, ins, f.lists + L_FREE, i)
            return i
        v.number = v.ready
        v.listed = L_STARTING
        lists.insert(w, ins, f.lists + L_STARTING, i)
        put(w, v.ready, END, number, K_READY, i)
    else:
        if v.node >= 0:
            no(w, v.node).ready = ck.now
        v.listed = L_FREE
        lists.append(w, ins, f.lists + L_FREE, i)
    return i


@hot
def takes(w, i):
    """Instance ``i`` takes one more call; a full one leaves its list."""
    v = ins(w, i)
    v.n += 1
    f = fn(w, v.unit)
    if v.n >= f.slots and v.listed > 0:
        lists.remove(w, ins, f.lists + v.listed, i)
        v.listed = 0


@hot
def activate(w, i):
    """The instance has a call from now on: active time begins."""
    v = ins(w, i)
    if v.active_since < 0:
        v.active_since = clock(w).now
        measures.busy_changes(w, v.unit, UP)


@hot
def rounded(f, ns):
    """Billed time of ``ns``: up to the plan's unit, at least its minimum."""
    return max((ns + f.round_ns - 1) // f.round_ns * f.round_ns, f.least_ns)


@hot
def bill(f, ns):
    """Add a time to what is billed, rounded (a wide sum, see ``records.WIDE``)."""
    billed = rounded(f, ns)
    f.billed_ns += billed & WIDE_LOW
    f.billed_hi += billed >> WIDE_BITS


@hot
def deactivate(w, i):
    """The instance's last call ended: the active period is billed where the plan bills that."""
    v = ins(w, i)
    f = fn(w, v.unit)
    if v.active_since >= 0:
        if f.bills == 1:
            bill(f, clock(w).now - v.active_since)
        v.active_since = -1
        measures.busy_changes(w, v.unit, DOWN)


@hot
def release(w, i):
    """A call of instance ``i`` ended: it is now the one released most recently."""
    ck, v = clock(w), ins(w, i)
    u = v.unit
    f = fn(w, u)
    v.n -= 1
    v.released = ck.now
    if v.n == 0:
        deactivate(w, i)
        if f.plan_kind == POLLED and f.count > f.target:
            if v.listed > 0:
                lists.remove(w, ins, f.lists + v.listed, i)
            gone(w, i)
            return
    if v.listed > 0:
        lists.remove(w, ins, f.lists + v.listed, i)
    v.listed = L_FREE
    lists.push_front(w, ins, f.lists + L_FREE, i)
    if v.n == 0:
        _arm_idle(w, u)


@kernel
def _arm_idle(w, u):
    f = fn(w, u)
    if f.plan_kind == PER_CALL and f.idle_timer >= NEVER and f.count > f.floor:
        oldest = oldest_idle(w, u)
        if oldest >= 0:
            f.idle_timer = max(clock(w).now, ins(w, oldest).released + f.keep_alive)
            put(w, f.idle_timer, IDLE, u, K_IDLE, u)


@kernel
def oldest_idle(w, u):
    """The instance of a unit that has been idle longest; -1 if none is."""
    i = ls(w, fn(w, u).lists + L_FREE).tail
    while i >= 0 and ins(w, i).n > 0:
        i = ins(w, i).prev
    return i


@kernel
def idle_looked_at(w, u):
    """The idle timer: instances idle for the keep-alive go, oldest first, but not below the floor."""
    f = fn(w, u)
    now = clock(w).now
    f.idle_timer = NEVER
    i = oldest_idle(w, u)
    while i >= 0 and f.count > f.floor and ins(w, i).released + f.keep_alive <= now:
        lists.remove(w, ins, f.lists + L_FREE, i)
        gone(w, i)
        i = oldest_idle(w, u)
    _arm_idle(w, u)


@hot
def lived(f, ns):
    """Add an instance's life to the sum of lives, rounded where the plan bills it."""
    life = rounded(f, ns) if f.bills == 2 else ns
    f.life_ns += life & WIDE_LOW
    f.life_hi += life >> WIDE_BITS


@kernel
def gone(w, i):
    """The instance goes; its life is billed where the plan bills that. It must be in no list."""
    ck, v = clock(w), ins(w, i)
    f = fn(w, v.unit)
    lived(f, ck.now - v.created)
    f.lives += 1
    v.listed = 0
    v.alive = ABSENT
    measures.instances_change(w, v.unit, DOWN)
    nodes.leave(w, i)
    v.next = ck.free_in
    ck.free_in = i
    ck.in_left += 1
    rooms.mark_blocked(w, f.account)
