"""A call starts: it takes an instance, waits out its cold start, and its run begins."""

from __future__ import annotations

import numpy as np

from echotally.engine.codes import (
    COLD,
    END,
    K_RUN_END,
    L_FREE,
    L_STARTING,
    NEVER,
    NEW_INSTANCE,
    NO,
    POLLED,
    READY,
    RESERVED,
    RUN_STREAM,
    RUNNING,
    RUNS,
    UP,
    YES,
)
from echotally.engine.kernel import diary, levels, lifecycle, lists, marking, reserved
from echotally.engine.kernel.access import World, account_at, call_at, clock_of, instance_at, unit_at
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.chance import draw, whole
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.layout import WIDE_BITS, WIDE_LOW


@hot
def start(w: World, c: int, i: int) -> None:
    """Call ``c`` starts on instance ``i`` (NEW_INSTANCE: a new one): it is in flight from now on."""
    clock, call = clock_of(w), call_at(w, c)
    u = call.unit
    unit = unit_at(w, u)
    if i == NEW_INSTANCE:
        i = lifecycle.new_instance(w, u, call.number, YES)
    call.instance = i
    call.started = clock.now
    call.run_at = NEVER
    # An earlier attempt of the same call may have waited out a cold start; this one has not.
    call.cold_ns = 0
    call.next = -1
    unit.attempts += 1
    unit.started += 1
    if call.counted == NO:
        call.counted = YES
        unit.calls += 1
    # Polled looks count them as running, cold start or not (rule 7.26).
    unit.in_flight_events += call.items
    levels.in_flight_changes(w, u, UP)
    if unit.plan_kind == RESERVED:
        reserved.takes(w, i, u)
        begin(w, c)
        return
    lifecycle.takes(w, i)
    # A new instance without cold start is ready at once.
    if instance_at(w, i).state == READY:
        lifecycle.activate(w, i)
        begin(w, c)
        return
    _waits_out(w, c, i)


@hot
def _waits_out(w: World, c: int, i: int) -> None:
    """Call ``c`` waits until its instance has started, behind the calls that wait for it already."""
    call, instance = call_at(w, c), instance_at(w, i)
    call.state = COLD
    # It waits out no more than is left of the cold start, and a node's start is no billed cold start (rule 7.20).
    call.cold_ns = min(instance.ready - clock_of(w).now, instance.cold_ns)
    # Where cold starts are billed, active time begins with them (rule 7.8).
    if unit_at(w, call.unit).cold_billed:
        lifecycle.activate(w, i)
    if instance.first_waiting < 0:
        instance.first_waiting = c
        return
    # A short walk: at most its slots wait for one instance.
    last = instance.first_waiting
    while call_at(w, last).next >= 0:
        last = call_at(w, last).next
    call_at(w, last).next = c


@kernel
def ready(w: World, i: int) -> None:
    """An instance has started: the calls that waited for it begin to run."""
    instance = instance_at(w, i)
    u = instance.unit
    unit = unit_at(w, u)
    instance.released = clock_of(w).now
    instance.state = READY
    diary.count_changed(w, u, YES)
    # One whose slots are all taken stands in no list.
    if instance.listed == L_STARTING:
        lists.remove(w, instance_at, unit.lists + L_STARTING, i)
        instance.listed = 0
        # Wanted when it was started, not any more.
        if instance.calls == 0 and unit.plan_kind == POLLED and unit.count > unit.target:
            lifecycle.gone(w, i)
            return
        instance.listed = L_FREE
        lists.push_front(w, instance_at, unit.lists + L_FREE, i)
        marking.mark(w, u)
    # In the order in which they came; all were drawn a place when they joined.
    c = instance.first_waiting
    instance.first_waiting = -1
    while c >= 0:
        after = call_at(w, c).next
        lifecycle.activate(w, i)
        begin(w, c)
        c = after


@hot
def begin(w: World, c: int) -> None:
    """The run begins: draw how long it takes, stretched by what else runs there, cut at the timeout (rules 3.1 to 3.3)."""
    clock, call = clock_of(w), call_at(w, c)
    unit = unit_at(w, call.unit)
    instance = instance_at(w, call.instance)
    drawn = draw(w, unit.random + RUN_STREAM, unit.run_kind, unit.run_scale, unit.run_sigma, unit.run_from, unit.run_n)
    # As floats: as whole numbers a long time for each of many items would leave an int64 before it is held.
    work = (drawn + np.float64(unit.per_item) * call.items + unit.per_mb * (call.payload * 1e-6)) * unit.cpu_factor
    shared = unit.plan_kind == RESERVED
    load = instance.load if shared else instance.calls * unit.cpu_load
    cap = account_at(w, unit.account).cpu_cap if shared else unit.cpu_cap
    if load > cap:
        # Calls share the instance's vCPUs from now on: the whole run is stretched, and stays so (rule 3.2).
        work *= load / cap
    ns = whole(work)
    unit.longest_run = max(unit.longest_run, ns)
    call.timed_out = NO
    # A run as long as the timeout is done (rule 3.3).
    if ns > unit.timeout:
        ns = unit.timeout
        call.timed_out = YES
    call.state = RUNNING
    call.run_at = clock.now
    call.ends = clock.now + ns
    if ns == 0:
        clock.instant = YES
    put(w, call.ends, END, call.number, K_RUN_END, c)


@hot
def charge(w: World, c: int, until: int) -> None:
    """Bill the attempt of call ``c`` up to ``until`` (its end, or the month's)."""
    call = call_at(w, c)
    unit = unit_at(w, call.unit)
    # A call that still waits out its cold start at the month's end has run nothing.
    ran = until - call.run_at if call.state == RUNNING else 0
    cold = call.cold_ns if call.state == RUNNING else until - call.started
    unit.busy_ns += ran & WIDE_LOW
    unit.busy_hi += ran >> WIDE_BITS
    if unit.bills == RUNS and (call.state == RUNNING or unit.cold_billed):
        lifecycle.bill(unit, ran + (cold if unit.cold_billed else 0))
