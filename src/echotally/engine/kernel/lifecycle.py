"""Instances: a new one, one that takes a call or ends its last, an idle one that goes (rules 3.4, 6.1)."""

from __future__ import annotations

from typing import Any

import numpy as np

from echotally.engine.codes import (
    ABSENT,
    ACTIVE,
    ALLOCATED,
    COLD_STREAM,
    DOWN,
    DUE,
    END,
    IDLE,
    K_FILL,
    K_IDLE,
    K_READY,
    L_FREE,
    L_STARTING,
    NEVER,
    NO,
    NONE,
    PER_CALL,
    POLLED,
    READY,
    STARTING,
    UP,
    YES,
    ZERO,
)
from echotally.engine.kernel import levels, lists, marking, nodes
from echotally.engine.kernel.access import World, account_at, chain_at, clock_of, instance_at, node_at, unit_at
from echotally.engine.kernel.calendar import LAST, put
from echotally.engine.kernel.chance import Law, draw, whole
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.layout import WIDE_BITS, WIDE_LOW
from echotally.engine.records import Unit

_MS: int = np.int64(1_000_000)  # type: ignore[assignment]
_MS_UNSIGNED: Any = np.uint64(1_000_000)


@kernel
def new_instance(w: World, u: int, number: int, cold: int) -> int:
    """An instance of unit ``u``; ``cold`` NO: it is ready at once (floors at the month's start). It takes no token here."""
    clock, unit = clock_of(w), unit_at(w, u)
    i = clock.free_instance
    instance = instance_at(w, i)
    clock.free_instance = instance.next
    clock.instances_left -= 1
    instance.unit = u
    instance.account = unit.account
    instance.calls = 0
    instance.quiet = 0
    instance.drained = NO
    instance.made = clock.made_n
    clock.made_n += 1
    instance.created = clock.now
    instance.released = clock.now
    instance.first_waiting = NONE
    instance.active_since = NONE
    instance.load = 0.0
    instance.cold_ns = 0
    instance.ready = clock.now
    # A node that must be started first makes the cold start longer (``_warm_up``).
    instance.node = nodes.place(w, u)
    levels.instances_change(w, u, UP)
    if cold:
        _warm_up(w, u, i, number)
        return i
    # Floors are there at 0 s, and so are the nodes that hold them (rule 7.33).
    if instance.node >= 0:
        node_at(w, instance.node).ready = clock.now
    instance.state = READY
    instance.listed = L_FREE
    # At the back: among floors the first one made is the first one used.
    lists.append(w, instance_at, unit.lists + L_FREE, i)
    return i


@kernel
def _warm_up(w: World, u: int, i: int, number: int) -> None:
    """A new instance's cold start is drawn, its node's start waited for first."""
    clock, unit, instance = clock_of(w), unit_at(w, u), instance_at(w, i)
    unit.cold_starts += 1
    drawn = draw(
        w, unit.random + COLD_STREAM, Law(unit.cold_kind, unit.cold_scale, unit.cold_sigma, unit.cold_from, unit.cold_n)
    )
    instance.cold_ns = whole(drawn * unit.cold_factor)
    # A node's start counts as cold start in waits, but is not billed as one (rule 7.20).
    begins = max(clock.now, node_at(w, instance.node).ready) if instance.node >= 0 else clock.now
    instance.ready = begins + instance.cold_ns
    if instance.ready == clock.now:
        # Ready in the step that makes it, so that the next call of this instant finds it warm (rule 7.34).
        instance.state = READY
        instance.listed = L_FREE
        lists.push_front(w, instance_at, unit.lists + L_FREE, i)
        return
    instance.state = STARTING
    # They stand in line by when they are ready, ties by who came first.
    instance.number = instance.ready
    instance.listed = L_STARTING
    lists.insert(w, instance_at, unit.lists + L_STARTING, i)
    instance.key = number
    put(w, instance.ready, END, number, K_READY, i)


@hot
def takes(w: World, i: int) -> None:
    """Instance ``i`` takes one more call; a full one leaves its list."""
    instance = instance_at(w, i)
    instance.calls += 1
    unit = unit_at(w, instance.unit)
    # ``listed`` 0 is also the place of a list (L_LINE), in which no instance ever stands: it means none.
    if instance.calls >= unit.slots and instance.listed > 0:
        lists.remove(w, instance_at, unit.lists + instance.listed, i)
        instance.listed = 0


@hot
def activate(w: World, i: int) -> None:
    """The instance has a call from now on: active time begins."""
    instance = instance_at(w, i)
    # A second call of the same period changes nothing.
    if instance.active_since < 0:
        instance.active_since = clock_of(w).now
        levels.busy_changes(w, instance.unit, UP)


@hot
def rounded(unit: Unit, ns: int) -> int:
    """Billed time of ``ns``: up to the plan's unit, at least its minimum."""
    # In whole ns, so that no cent depends on a float (rule 6.1). A division by a number that is known is a multiplication, which
    # has less to set right where no number is below 0.
    if unit.round_ns == _MS:
        begun: int = np.int64(np.uint64(ns + _MS - 1) // _MS_UNSIGNED)  # type: ignore[assignment]
        return max(begun * _MS, unit.least_ns)
    return max((ns + unit.round_ns - 1) // unit.round_ns * unit.round_ns, unit.least_ns)


@hot
def bill(unit: Unit, ns: int) -> int:
    """Add a time to what is billed, rounded (a wide sum, see ``records.WIDE``); returns it."""
    billed = rounded(unit, ns)
    unit.billed_ns += billed & WIDE_LOW
    unit.billed_hi += billed >> WIDE_BITS
    return billed


@hot
def deactivate(w: World, i: int) -> None:
    """The instance's last call ended: the active period is billed where the plan bills that."""
    instance = instance_at(w, i)
    unit = unit_at(w, instance.unit)
    if instance.active_since >= 0:
        # The period is rounded as a whole, not call by call (rule 6.1).
        if unit.bills == ACTIVE:
            bill(unit, clock_of(w).now - instance.active_since)
        instance.active_since = -1
        levels.busy_changes(w, instance.unit, DOWN)


@hot
def release(w: World, i: int) -> None:
    """A call of instance ``i`` ended: it is now the one released most recently."""
    clock, instance = clock_of(w), instance_at(w, i)
    u = instance.unit
    unit = unit_at(w, u)
    instance.calls -= 1
    instance.released = clock.now
    if instance.calls == 0:
        deactivate(w, i)
        if instance.drained == YES:
            old_one_goes(w, i)
            return
        # Busy instances above a polled target go when they finish (rule 3.5).
        if unit.plan_kind == POLLED and current(unit) > unit.target:
            # To the front, even if it stands in the list already: the last one released is the next one used.
            if instance.listed > 0:
                lists.remove(w, instance_at, unit.lists + instance.listed, i)
            gone(w, i)
            return
    # One of an old release takes no further calls.
    if instance.drained == YES:
        return
    if instance.listed > 0:
        lists.remove(w, instance_at, unit.lists + instance.listed, i)
    instance.listed = L_FREE
    lists.push_front(w, instance_at, unit.lists + L_FREE, i)
    # Asked here, since a timer is armed already nearly always.
    if instance.calls == 0 and unit.idle_timer >= NEVER:
        arm_idle(w, u)


@hot
def current(unit: Unit) -> int:
    """Instances that are not of an old release: what a floor and a polled target are held against (rule 7.44)."""
    return unit.count - unit.drained


@kernel
def old_one_goes(w: World, i: int) -> None:
    """The last call of an instance of an old release has ended: it goes, and what is missing may take its place."""
    u = instance_at(w, i).unit
    unit_at(w, u).drained -= 1
    gone(w, i)
    fill_up(w, u)


@hot
def _missing(unit: Unit) -> int:
    """Instances there should be and are not: of the floor, or of what was there before a release."""
    wanted = max(unit.floor, min(unit.fill, unit.target)) if unit.plan_kind == POLLED else unit.floor
    return min(wanted - current(unit), unit.limit - unit.count)


@kernel
def fill_up(w: World, u: int) -> None:
    """Start what is missing, at once and without a token: one an entry, so that room can grow between.

    After the other dues of the instant, so that all that the clock brings has come.
    """
    unit = unit_at(w, u)
    if current(unit) >= unit.fill:
        unit.fill = ZERO
    if _missing(unit) > 0 and unit.filling == NO:
        unit.filling = YES
        put(w, clock_of(w).now, DUE, LAST + u, K_FILL, u)


@kernel
def fill(w: World, u: int) -> None:
    """Start one of what is missing, if nodes have room for it and nothing forbids new instances."""
    unit, clock = unit_at(w, u), clock_of(w)
    unit.filling = NO
    if _missing(unit) <= 0 or account_at(w, unit.account).no_new == YES or not nodes.fits(w, u):
        return
    new_instance(w, u, clock.looked_n, YES)
    clock.looked_n += 1
    marking.mark(w, u)
    fill_up(w, u)


@kernel
def arm_idle(w: World, u: int) -> None:
    """Look again when the instance idle longest has been idle for the keep-alive, if it may go then."""
    unit = unit_at(w, u)
    # One timer a unit, for the instance idle longest: others are looked at when it comes.
    if unit.plan_kind == PER_CALL and unit.idle_timer >= NEVER and current(unit) > unit.floor:
        oldest = oldest_idle(w, u)
        if oldest >= 0:
            _looks_at(w, u, oldest)


@hot
def _looks_at(w: World, u: int, oldest: int) -> None:
    """Arm the unit's one idle timer for the instance that has been idle longest."""
    unit = unit_at(w, u)
    unit.idle_timer = max(clock_of(w).now, instance_at(w, oldest).released + unit.keep_alive)
    put(w, unit.idle_timer, IDLE, u, K_IDLE, u)


@kernel
def oldest_idle(w: World, u: int) -> int:
    """The instance of a unit that has been idle longest; -1 if none is."""
    i = chain_at(w, unit_at(w, u).lists + L_FREE).tail
    # From the back; those in front of the first idle one were released later, though some have free slots and calls.
    while i >= 0 and instance_at(w, i).calls > 0:
        i = instance_at(w, i).prev
    return i


@kernel
def idle_looked_at(w: World, u: int) -> None:
    """The idle timer: instances idle for the keep-alive go, oldest first, but not below the floor."""
    unit = unit_at(w, u)
    now = clock_of(w).now
    unit.idle_timer = NEVER
    i = oldest_idle(w, u)
    while i >= 0 and current(unit) > unit.floor and instance_at(w, i).released + unit.keep_alive <= now:
        lists.remove(w, instance_at, unit.lists + L_FREE, i)
        gone(w, i)
        i = oldest_idle(w, u)
    # The others may go later, in their turn.
    if i >= 0 and current(unit) > unit.floor:
        _looks_at(w, u, i)


@hot
def lived(unit: Unit, ns: int) -> None:
    """Add an instance's life to the sum of lives, rounded where the plan bills it."""
    life = rounded(unit, ns) if unit.bills == ALLOCATED else ns
    unit.life_ns += life & WIDE_LOW
    unit.life_hi += life >> WIDE_BITS


@kernel
def gone(w: World, i: int) -> None:
    """The instance goes; its life is billed where the plan bills that. It must be in no list."""
    clock, instance = clock_of(w), instance_at(w, i)
    unit = unit_at(w, instance.unit)
    lived(unit, clock.now - instance.created)
    instance.listed = 0
    instance.state = ABSENT
    levels.instances_change(w, instance.unit, DOWN)
    # Before the record is given back, since it says on which node the instance was.
    nodes.leave(w, i)
    instance.next = clock.free_instance
    clock.free_instance = i
    clock.instances_left += 1
    # Its memory, its node and its place under the limit are free: whoever was blocked may start.
    marking.mark_blocked(w, unit.account)
