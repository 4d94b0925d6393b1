"""An instance that takes one call at a time: what ``lifecycle`` does for all, where it comes to a few numbers.

Calls that go the short way take an idle instance and give it back, which for these is to leave its list and to come back into it.
How many have a call is what is in flight; it is written back with the other sums (``gave_back``).
"""

from __future__ import annotations

from echotally.engine.codes import L_FREE, NEVER, NONE, RUNS
from echotally.engine.kernel import lifecycle
from echotally.engine.kernel.access import World, chain_at, instance_at, unit_at
from echotally.engine.kernel.compiled import hot
from echotally.engine.records import Unit


@hot
def is_alone(unit: Unit) -> bool:
    """Whether calls are alone on their instances, and nothing adds up how long an instance has one."""
    return unit.slots == 1 and unit.floor == 0 and unit.bills == RUNS


@hot
def takes(w: World, idle: int, i: int, now: int) -> None:
    """As ``lifecycle.takes`` and ``activate``, for ``i``, the first of the list of ``idle`` ones."""
    chain, instance = chain_at(w, idle), instance_at(w, i)
    after = instance.next
    chain.head = after
    if after >= 0:
        instance_at(w, after).prev = NONE
    else:
        chain.tail = NONE
    instance.calls = 1
    instance.listed = 0
    instance.active_since = now


@hot
def gives_back(w: World, u: int, idle: int, i: int, now: int) -> None:
    """As ``lifecycle.release``, for one of unit ``u`` that is not of an old release."""
    chain, instance = chain_at(w, idle), instance_at(w, i)
    head = chain.head
    instance.calls = 0
    instance.released = now
    instance.active_since = NONE
    instance.listed = L_FREE
    instance.prev = NONE
    instance.next = head
    chain.head = i
    if head >= 0:
        instance_at(w, head).prev = i
    else:
        chain.tail = i
    if unit_at(w, u).idle_timer >= NEVER:
        lifecycle.arm_idle(w, u)


@hot
def gave_back(w: World, u: int, more: int) -> None:
    """So many more of unit ``u``'s instances have a call than before."""
    unit = unit_at(w, u)
    chain_at(w, unit.lists + L_FREE).length -= more
    unit.busy_count += more
