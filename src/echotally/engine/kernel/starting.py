"""A call starts: it takes an instance, waits out its cold start, and its run begins."""

from __future__ import annotations

import numpy as np

from echotally.engine.codes import (
    COLD,
    END,
    FIRST_NUMBER,
    K_COLD_LONG,
    K_RUN_END,
    KIND_STREAM,
    L_FREE,
    L_STARTING,
    NEVER,
    NEW_INSTANCE,
    NO,
    NONE,
    OTHER_KIND_STREAM,
    OTHER_STREAM,
    POLLED,
    READY,
    RESERVED,
    RUN_STREAM,
    RUNNING,
    RUNS,
    STARTING,
    UP,
    YES,
    ZERO,
)
from echotally.engine.kernel import diary, levels, lifecycle, lists, marking, placing, reserved, waits
from echotally.engine.kernel.access import (
    World,
    account_at,
    call_at,
    cargo_at,
    clock_of,
    condition_at,
    event_at,
    instance_at,
    unit_at,
)
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.chance import Law, draw, draw_for, whole
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.layout import WIDE_BITS, WIDE_LOW


@kernel
def start(w: World, c: int, i: int) -> None:
    """Call ``c`` starts on instance ``i`` (NEW_INSTANCE: a new one): it is in flight from now on."""
    clock, call = clock_of(w), call_at(w, c)
    u = call.unit
    unit = unit_at(w, u)
    if i == NEW_INSTANCE:
        placing.spend_token(w, u)
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
    unit.started_items += call.items
    # Polled looks count them as running, cold start or not (rule 7.26).
    unit.in_flight_events += call.items
    levels.in_flight_changes(w, u, UP)
    if unit.plan_kind == RESERVED:
        reserved.takes(w, i, u)
    else:
        lifecycle.takes(w, i)
        # A new instance without cold start is ready at once.
        if instance_at(w, i).state != READY:
            _waits_out(w, c, i)
            return
        lifecycle.activate(w, i)
    begin(w, c)


@hot
def _waits_out(w: World, c: int, i: int) -> None:
    """Call ``c`` waits until its instance has started, behind the calls that wait for it already."""
    call, instance, now = call_at(w, c), instance_at(w, i), clock_of(w).now
    unit = unit_at(w, call.unit)
    call.state = COLD
    unit.cold_calls += 1
    # It waits out no more than is left of the cold start, and a node's start is no billed cold start (rule 7.20).
    call.cold_ns = min(instance.ready - now, instance.cold_ns)
    if unit.covers_cold == YES and instance.ready - now > unit.timeout:
        # Its clock runs already: it will be ended before it has run (rule 7.57).
        put(w, now + unit.timeout, END, call.number, K_COLD_LONG, c)
    # Where cold starts are billed, active time begins with them (rule 7.8).
    if unit.cold_billed:
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
def waits_no_more(w: World, c: int) -> None:
    """Call ``c`` leaves the instance that it waited for, which goes on starting."""
    i = call_at(w, c).instance
    instance = instance_at(w, i)
    before, at = NONE, instance.first_waiting
    while at != c:
        before, at = at, call_at(w, at).next
    if before >= 0:
        call_at(w, before).next = call_at(w, c).next
    else:
        instance.first_waiting = call_at(w, c).next
    instance.calls -= 1
    if instance.calls == 0:
        lifecycle.deactivate(w, i)
    if instance.drained == YES:
        if instance.calls == 0:
            lifecycle.old_one_goes(w, i)
    elif instance.listed == 0:
        # It has a free slot again.
        _back_in_line(w, i)


@hot
def _back_in_line(w: World, i: int) -> None:
    """A starting instance stands in line again where it stood: by when it is ready, and of equal ones by which was made first."""
    instance = instance_at(w, i)
    lst = unit_at(w, instance.unit).lists + L_STARTING
    instance.listed = L_STARTING
    lists.insert(w, instance_at, lst, i)
    before = instance.prev
    while (
        before >= 0 and instance_at(w, before).number == instance.number and instance_at(w, before).made > instance.made
    ):
        before = instance_at(w, before).prev
    if before == instance.prev:
        return
    lists.remove(w, instance_at, lst, i)
    if before >= 0:
        lists.insert_behind(w, instance_at, lst, before, i)
    else:
        lists.push_front(w, instance_at, lst, i)


@kernel
def ready(w: World, i: int, number: int) -> None:
    """An instance has started: the calls that waited for it begin to run."""
    instance = instance_at(w, i)
    # An entry of one that is gone: another may stand in its place.
    if instance.state != STARTING or instance.ready != clock_of(w).now or instance.key != number:
        return
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
        if instance.calls == 0 and unit.plan_kind == POLLED and lifecycle.current(unit) > unit.target:
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
    # One that a floor or a release brought, when the floor is lower again.
    if instance.calls == 0:
        lifecycle.arm_idle(w, u)


@hot
def begin(w: World, c: int) -> None:
    """The run begins: draw how long it takes, stretched by what else runs there, cut at the timeout (rules 3.1 to 3.3)."""
    clock, call = clock_of(w), call_at(w, c)
    unit = unit_at(w, call.unit)
    instance = instance_at(w, call.instance)
    call.condition = unit.condition
    if unit.condition >= 0 or unit.same_run == YES:
        work = _unusual(w, c)
    else:
        work = usual_work(w, call.unit, call.items, call.payload)
    shared = unit.plan_kind == RESERVED
    load = instance.load if shared else (instance.calls - instance.quiet) * unit.cpu_load
    cap = account_at(w, unit.account).cpu_cap if shared else unit.cpu_cap
    if load > cap and call.quiet == NO:
        # Calls share the instance's vCPUs from now on: the whole run is stretched, and stays so (rule 3.2).
        work *= load / cap
    ns = whole(work)
    unit.longest_run = max(unit.longest_run, ns)
    call.timed_out = NO
    # What is left of its timeout: where that covers cold starts, the clock has run since the attempt started.
    left = unit.timeout if unit.covers_cold == NO else unit.timeout - (clock.now - call.started)
    # A run as long as the timeout is done (rule 3.3).
    if ns > left:
        ns = left
        call.timed_out = YES
    call.state = RUNNING
    call.run_at = clock.now
    call.ends = clock.now + ns
    if ns == 0:
        clock.instant = YES
    put(w, call.ends, END, call.number, K_RUN_END, c)


@hot
def _run_of(w: World, u: int) -> Law:
    unit = unit_at(w, u)
    return Law(unit.run_kind, unit.run_scale, unit.run_sigma, unit.run_from, unit.run_n)


@hot
def usual_work(w: World, u: int, items: int, payload: int) -> float:
    """Run time, ns, of a call of so many events and bytes in all, before it shares its instance's vCPUs (rule 3.1)."""
    unit = unit_at(w, u)
    drawn = draw(w, unit.random + RUN_STREAM, _run_of(w, u))
    # As floats: as whole numbers a long time for each of many items would leave an int64 before it is held.
    return (drawn + np.float64(unit.per_item) * items + unit.per_mb * (payload * 1e-6)) * unit.cpu_factor


@kernel
def _unusual(w: World, c: int) -> float:
    """Run time, ns, of a call whose run belongs to its event, or is what an incident makes of it (rules 8.1 and 8.7)."""
    call = call_at(w, c)
    unit = unit_at(w, call.unit)
    same, number = unit.same_run == YES, event_at(w, cargo_at(w, call.head).event).number - FIRST_NUMBER
    times = 1.0
    if call.condition >= 0:
        condition = condition_at(w, call.condition)
        times = condition.times
        if condition.run_kind >= 0:
            # Who hangs does no CPU work: the whole run is that long, whatever the memory and whoever runs beside it.
            goes_quiet(w, c)
            random = condition.random
            law = Law(condition.run_kind, condition.run_scale, condition.run_sigma, condition.run_from, condition.run_n)
            return times * _either(w, same, random + OTHER_STREAM, random + OTHER_KIND_STREAM, number, law)
    drawn = _either(w, same, unit.random + RUN_STREAM, unit.random + KIND_STREAM, number, _run_of(w, call.unit))
    own = (drawn + np.float64(unit.per_item) * call.items) * times
    return (own + unit.per_mb * (call.payload * 1e-6)) * unit.cpu_factor


@kernel
def _either(w: World, same: bool, anew: int, own: int, number: int, law: Law) -> float:
    """A value drawn anew from stream ``anew``, or the one that belongs to an event, from the streams ``own`` on."""
    if same:
        return draw_for(w, own, number, law)
    return draw(w, anew, law)


@kernel
def goes_quiet(w: World, c: int) -> None:
    """Call ``c`` does no CPU work from now on: those that begin beside it are not stretched for it (rule 7.42)."""
    call = call_at(w, c)
    if call.quiet == YES:
        return
    call.quiet = YES
    if unit_at(w, call.unit).plan_kind == RESERVED:
        reserved.rests(w, call.instance, call.unit)
    else:
        instance_at(w, call.instance).quiet += 1


@hot
def frees(w: World, c: int) -> None:
    """An attempt is over: its slot is free."""
    call = call_at(w, c)
    if unit_at(w, call.unit).plan_kind == RESERVED:
        reserved.gives_back(w, call.instance, call.unit, call.quiet)
        call.quiet = NO
        return
    if call.quiet == YES:
        instance_at(w, call.instance).quiet -= 1
        call.quiet = NO
    lifecycle.release(w, call.instance)


@hot
def charge(w: World, c: int, until: int) -> int:
    """Bill the attempt of call ``c`` up to ``until`` (its end, or the month's).

    Returns the part of its time that belongs to its outcome (rule 10.1): billed time less its cold start, rounding included; where
    attempts are not billed one by one, the time it ran.
    """
    call = call_at(w, c)
    unit = unit_at(w, call.unit)
    # A call that still waits out its cold start has run nothing.
    has_run = call.state != COLD
    ran = until - call.run_at if has_run else 0
    cold = call.cold_ns if has_run else max(0, until - (instance_at(w, call.instance).ready - call.cold_ns))
    unit.busy_ns += ran & WIDE_LOW
    unit.busy_hi += ran >> WIDE_BITS
    warming = cold if unit.cold_billed == YES else ZERO
    unit.warming_ns += warming & WIDE_LOW
    unit.warming_hi += warming >> WIDE_BITS
    own = ran
    if unit.bills == RUNS and (has_run or unit.cold_billed):
        own = lifecycle.bill(unit, ran + warming) - warming
    waits.charge_seen(w, call.unit, own + warming)
    call.charged = own + warming
    return own
