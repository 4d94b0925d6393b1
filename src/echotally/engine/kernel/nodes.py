"""Nodes: which one holds an instance, when another is started, when an empty one goes."""

from __future__ import annotations

from echotally.engine.kernel import rooms
from echotally.engine.kernel.access import ac, clock, fn, ins, no
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import IDLE, K_NODE_IDLE, WIDE_BITS, WIDE_LOW


@kernel
def fits(w, u):
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
def place(w, u):
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
                up(w, x, f.account, now + acc.node_start)
                break
    if chosen >= 0:
        no(w, chosen).memory -= f.memory
        no(w, chosen).vcpu -= f.vcpu
        no(w, chosen).n += 1
    return chosen


@kernel
def up(w, x, a, ready):
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
def leave(w, i):
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
def idle(w, x):
    """A node has been empty for its keep-alive: it goes, unless it is one of the floor."""
    n = no(w, x)
    a = n.account
    acc = ac(w, a)
    now = clock(w).now
    if n.up == 1 and n.n == 0 and n.idle_since + acc.node_keep_alive <= now and acc.nodes_up > acc.nodes_floor:
        n.up = 0
        acc.nodes_up -= 1
        was_up(acc, now - n.since)
        rooms.mark_blocked(w, a)


@hot
def was_up(acc, ns):
    """Add a node's time up to the account's."""
    acc.node_hours_ns += ns & WIDE_LOW
    acc.node_hours_hi += ns >> WIDE_BITS
