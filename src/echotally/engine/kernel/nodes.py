"""Nodes: which one holds an instance, when another is started, when an empty one goes (rule 3.7)."""

from __future__ import annotations

from echotally.engine.codes import IDLE, K_NODE_IDLE, NO, OTHERS, YES
from echotally.engine.kernel import marking
from echotally.engine.kernel.access import World, account_at, clock_of, instance_at, node_at, unit_at
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.layout import WIDE_BITS, WIDE_LOW
from echotally.engine.records import Account


@kernel
def fits(w: World, u: int) -> bool:
    """Whether a node, up or still to be started, can hold one more instance of the unit."""
    unit = unit_at(w, u)
    account = account_at(w, unit.account)
    if account.node_n == 0:
        return True
    for x in range(account.first_node, account.first_node + account.node_n):
        node = node_at(w, x)
        # A node that is not up yet has all its room, so the first such decides; later ones are not looked at.
        if node.up == NO or (node.memory >= unit.memory and node.vcpu >= unit.vcpu - 1e-9):
            return account.node_memory >= unit.memory and account.node_vcpu >= unit.vcpu - 1e-9
    return False


@kernel
def place(w: World, u: int) -> int:
    """First fit in node order; starts a node where none fits. Returns the node, -1 without nodes."""
    unit = unit_at(w, u)
    account = account_at(w, unit.account)
    now = clock_of(w).now
    chosen = -1
    for x in range(account.first_node, account.first_node + account.node_n):
        node = node_at(w, x)
        if node.up == YES and node.memory >= unit.memory and node.vcpu >= unit.vcpu - 1e-9:
            chosen = x
            break
    # ``fits`` has seen that one can be started.
    if chosen < 0:
        for x in range(account.first_node, account.first_node + account.node_n):
            if node_at(w, x).up == NO:
                chosen = x
                up(w, x, unit.account, now + account.node_start)
                break
    if chosen >= 0:
        node_at(w, chosen).memory -= unit.memory
        node_at(w, chosen).vcpu -= unit.vcpu
        node_at(w, chosen).instances += 1
    return chosen


@kernel
def up(w: World, x: int, a: int, ready: int) -> None:
    """A node starts now and is ready at ``ready``."""
    node, account = node_at(w, x), account_at(w, a)
    node.up = YES
    node.ready = ready
    node.since = clock_of(w).now
    node.memory = account.node_memory
    node.vcpu = account.node_vcpu
    node.instances = 0
    node.idle_since = clock_of(w).now
    account.nodes_up += 1


@kernel
def leave(w: World, i: int) -> None:
    """An instance goes from its node; an empty node is looked at again after its keep-alive."""
    x = instance_at(w, i).node
    if x < 0:
        return
    instance, node, unit = instance_at(w, i), node_at(w, x), unit_at(w, instance_at(w, i).unit)
    node.memory += unit.memory
    node.vcpu += unit.vcpu
    node.instances -= 1
    if node.instances == 0:
        node.idle_since = clock_of(w).now
        # Each time it becomes empty; an entry whose node was used in between finds it not idle long enough.
        put(w, clock_of(w).now + account_at(w, instance.account).node_keep_alive, IDLE, OTHERS + x, K_NODE_IDLE, x)


@kernel
def idle(w: World, x: int) -> None:
    """A node has been empty for its keep-alive: it goes, unless it is one of the floor."""
    node = node_at(w, x)
    a = node.account
    account = account_at(w, a)
    now = clock_of(w).now
    if (
        node.up == YES
        and node.instances == 0
        and node.idle_since + account.node_keep_alive <= now
        and account.nodes_up > account.nodes_floor
    ):
        node.up = NO
        account.nodes_up -= 1
        was_up(account, now - node.since)
        marking.mark_blocked(w, a)


@hot
def was_up(account: Account, ns: int) -> None:
    """Add a node's time up to the account's."""
    # A wide sum: thousands of nodes over a month leave 64 bits.
    account.node_hours_ns += ns & WIDE_LOW
    account.node_hours_hi += ns >> WIDE_BITS
