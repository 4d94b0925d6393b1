"""Instances: which one takes a call, when a new one starts, when an idle one goes."""

from __future__ import annotations

import numpy as np

from echotally.engine.kernel import lists, measures, rooms
from echotally.engine.kernel.access import ac, clock, fn, ins, ls, no, window
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.chance import draw, whole
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import (
    ABSENT,
    DOWN,
    END,
    IDLE,
    K_IDLE,
    K_LOOK,
    K_NODE_IDLE,
    K_READY,
    K_WAKE,
    L_FREE,
    L_STARTING,
    LOOK,
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
)  # fmt: skip

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
    if not node_fits(w, u):
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
def node_fits(w, u):
    """Whether a node, up or still to be started, can hold one more instance of the unit."""
    f = fn(w, u)
    acc = ac(w, f.account)
    if acc.node_n == 0:
        return True
    for x in range(acc.first_node, acc.first_node + acc.node_n):
        n = no(w, x)
        if n.up == 0 or (n.memory >= f.memory and n.vcpu >= f.vcpu - 1e-9):
            return acc.node_memory >= f.memory and acc.node_vcpu >= f.vcpu - 1e-9
    return False


@kernel
def _place_on_node(w, u):
    """First fit in node order; starts a node where none fits. Returns the node, -1 without nodes."""
    f = fn(w, u)
    acc = ac(w, f.account)
    now = clock(w).now
    chosen = -1
    for x in range(acc.first_node, acc.first_node + acc.node_n):
        n = no(w, x)
        if n.up == 1 and n.memory >= f.memory and n.vcpu >= f.vcpu - 1e-9:
            chosen = x
            break
    if chosen < 0:
        for x in range(acc.first_node, acc.first_node + acc.node_n):
            if no(w, x).up == 0:
                chosen = x
                node_up(w, x, f.account, now + acc.node_start)
                break
    if chosen >= 0:
        no(w, chosen).memory -= f.memory
        no(w, chosen).vcpu -= f.vcpu
        no(w, chosen).n += 1
    return chosen


@kernel
def node_up(w, x, a, ready):
    """A node starts now and is ready at ``ready``."""
    n, acc = no(w, x), ac(w, a)
    n.up = 1
    n.ready = ready
    n.since = clock(w).now
    n.memory = acc.node_memory
    n.vcpu = acc.node_vcpu
    n.n = 0
    n.idle_since = clock(w).now
    acc.nodes_up += 1


@kernel
def _leave_node(w, i):
    x = ins(w, i).node
    if x < 0:
        return
    v, n, f = ins(w, i), no(w, x), fn(w, ins(w, i).unit)
    n.memory += f.memory
    n.vcpu += f.vcpu
    n.n -= 1
    if n.n == 0:
        n.idle_since = clock(w).now
        put(w, clock(w).now + ac(w, v.account).node_keep_alive, IDLE, x, K_NODE_IDLE, x)


@kernel
def node_idle(w, x):
    """A node has been empty for its keep-alive: it goes, unless it is one of the floor."""
    n = no(w, x)
    a = n.account
    acc = ac(w, a)
    now = clock(w).now
    if n.up == 1 and n.n == 0 and n.idle_since + acc.node_keep_alive <= now and acc.nodes_up > acc.nodes_floor:
        n.up = 0
        acc.nodes_up -= 1
        node_was_up(acc, now - n.since)
        mark_blocked(w, a)


@hot
def node_was_up(acc, ns):
    """Add a node's time up to the account's."""
    acc.node_hours_ns += ns & WIDE_LOW
    acc.node_hours_hi += ns >> WIDE_BITS


@kernel
def mark_blocked(w, a):
    """Something shared came free: wake whoever found no room for lack of it."""
    if ac(w, a).blocked == 1:
        rooms.mark_waiting(w, a)


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
    v.node = _place_on_node(w, u)
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
        oldest = _oldest_idle(w, u)
        if oldest >= 0:
            f.idle_timer = max(clock(w).now, ins(w, oldest).released + f.keep_alive)
            put(w, f.idle_timer, IDLE, u, K_IDLE, u)


@kernel
def _oldest_idle(w, u):
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
    i = _oldest_idle(w, u)
    while i >= 0 and f.count > f.floor and ins(w, i).released + f.keep_alive <= now:
        lists.remove(w, ins, f.lists + L_FREE, i)
        gone(w, i)
        i = _oldest_idle(w, u)
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
    _leave_node(w, i)
    v.next = ck.free_in
    ck.free_in = i
    ck.in_left += 1
    mark_blocked(w, f.account)


@kernel
def look_again(w, u):
    """Arm the next look, a whole number of intervals after the month's start.

    Looks stop while nothing waits or runs and only the floor is there; what they would have seen is
    written into the window when they begin again.
    """
    f, now = fn(w, u), clock(w).now
    coming = (now + f.look_every - 1) // f.look_every * f.look_every
    if coming <= f.last_look:
        coming = f.last_look + f.look_every
    for _ in range(min((coming - f.last_look) // f.look_every - 1, f.window_size)):
        _remember(w, f, f.floor)
    f.look_armed = 1
    put(w, coming, LOOK, u, K_LOOK, u)


@kernel
def look(w, u):
    """Polled scaling looks: add at most ``look_step``, or shrink to the highest wanted of the keep-alive."""
    f = fn(w, u)
    seen = f.waiting + f.in_flight_events + f.refused_since
    f.refused_since = 0
    f.last_look = clock(w).now
    f.look_armed = 0
    wanted = min(max((seen + f.look_per - 1) // f.look_per, f.floor), f.limit)
    _remember(w, f, wanted)
    if wanted > f.count:
        for _ in range(min(wanted - f.count, f.look_step)):
            if not node_fits(w, u):
                break
            new_instance(w, u, SAME, UP)
        f.target = f.count
        rooms.mark(w, u)
    elif wanted < f.count:
        _shrink(w, u)
    else:
        f.target = max(f.target, wanted)
    if seen > 0 or f.count > f.floor:
        look_again(w, u)


@kernel
def _remember(w, f, wanted):
    """Write down what a look wanted, and whether it is the most of the window."""
    window(w, f.window_at + f.window_n % f.window_size).v = wanted
    if f.window_n == 0 or wanted >= f.window_top:
        f.window_top = wanted
        f.window_top_at = f.window_n
    f.window_n += 1


@kernel
def _highest_wanted(w, f):
    """The most that a look of the keep-alive wanted. Looked for anew only when the last one has left the window,
    from the newest look back, so that of equals the one is found that stays longest: a window may hold a million looks."""
    if f.window_n - f.window_top_at > f.window_size:
        f.window_top = np.int64(-1)
        for k in range(1, f.window_size + 1):
            seen = window(w, f.window_at + (f.window_n - k) % f.window_size).v
            if seen > f.window_top:
                f.window_top = seen
                f.window_top_at = f.window_n - k
    return f.window_top


@kernel
def _shrink(w, u):
    f = fn(w, u)
    f.target = max(_highest_wanted(w, f), f.floor)
    i = _oldest_idle(w, u)
    while i >= 0 and f.count > f.target:
        lists.remove(w, ins, f.lists + L_FREE, i)
        gone(w, i)
        i = _oldest_idle(w, u)
