"""Runs: from the moment a call has an instance until its run ends and its events are settled."""

from __future__ import annotations

import numpy as np

from echotally.engine.kernel import endings, instances, lists, measures, queues, rooms, streams
from echotally.engine.kernel.access import ac, ca, cg, clock, ed, ev, fn, ins, so, tr, waits_ns
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.chance import draw, hashed, uniform, whole
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import (
    BACKOFF,
    COLD,
    DOWN,
    DUE,
    END,
    ENDPOINT,
    FAILED,
    K_RETRY,
    K_RUN_END,
    L_FREE,
    L_LINE,
    L_STARTING,
    NEVER,
    POLLED,
    QUEUE,
    READY,
    RESERVED,
    RUNNING,
    SAME,
    STREAM,
    SUCCEEDED,
    TIMED_OUT,
    UP,
    WAITING,
    WIDE_BITS,
    WIDE_LOW,
)  # fmt: skip


@hot
def start(w, c, i):
    """Call ``c`` starts on instance ``i`` (NEW_INSTANCE: a new one): it is in flight from now on."""
    ck, call = clock(w), ca(w, c)
    u = call.unit
    f = fn(w, u)
    if i == instances.NEW_INSTANCE:
        i = instances.new_instance(w, u, call.number, UP)
    call.instance = i
    call.started = ck.now
    call.run_at = NEVER
    # An earlier attempt of the same call may have waited out a cold start; this one has not.
    call.cold_ns = 0
    call.next = -1
    v = ins(w, i)
    f.attempts += 1
    f.started += 1
    if call.counted == 0:
        call.counted = 1
        f.calls += 1
    f.in_flight_events += call.items
    measures.in_flight_changes(w, u, UP)
    if f.plan_kind == RESERVED:
        v.n += 1
        v.memory_free -= f.memory_cost
        v.load += f.cpu_load
        begin(w, c)
        return
    instances.takes(w, i)
    if v.alive == READY:
        instances.activate(w, i)
        begin(w, c)
        return
    call.state = COLD
    call.cold_ns = min(v.ready - ck.now, v.cold_ns)
    if f.cold_billed:
        instances.activate(w, i)
    if v.cold_call < 0:
        v.cold_call = c
        return
    last = v.cold_call
    while ca(w, last).next >= 0:
        last = ca(w, last).next
    ca(w, last).next = c


@kernel
def ready(w, i):
    """An instance has started: the calls that waited for it begin to run."""
    v = ins(w, i)
    u = v.unit
    f = fn(w, u)
    v.released = clock(w).now
    v.alive = READY
    measures.became_ready(w, u)
    if v.listed == L_STARTING:
        lists.remove(w, ins, f.lists + L_STARTING, i)
        v.listed = 0
        if v.n == 0 and f.plan_kind == POLLED and f.count > f.target:
            instances.gone(w, i)
            return
        v.listed = L_FREE
        lists.push_front(w, ins, f.lists + L_FREE, i)
        rooms.mark(w, u)
    c = v.cold_call
    v.cold_call = -1
    while c >= 0:
        after = ca(w, c).next
        instances.activate(w, i)
        begin(w, c)
        c = after


@hot
def begin(w, c):
    """The run begins: draw how long it takes, stretched by what else runs there, cut at the timeout."""
    ck, call = clock(w), ca(w, c)
    f = fn(w, call.unit)
    v = ins(w, call.instance)
    drawn = draw(w, f.rng, f.run_kind, f.run_scale, f.run_sigma, f.run_from, f.run_n)
    # As floats: as whole numbers a long time for each of many items would leave an int64 before it is held.
    work = (drawn + np.float64(f.per_item) * call.items + f.per_mb * (call.payload * 1e-6)) * f.cpu_factor
    reserved = f.plan_kind == RESERVED
    load = v.load if reserved else v.n * f.cpu_load
    cap = ac(w, f.account).cpu_cap if reserved else f.cpu_cap
    if load > cap:
        work *= load / cap
    ns = whole(work)
    f.longest_run = max(f.longest_run, ns)
    call.timed_out = 0
    if ns > f.timeout:
        ns = f.timeout
        call.timed_out = 1
    call.state = RUNNING
    call.run_at = ck.now
    call.ends = ck.now + ns
    put(w, call.ends, END, call.number, K_RUN_END, c)


@hot
def charge(w, c, until):
    """Bill the attempt of call ``c`` up to ``until`` (its end, or the month's)."""
    call = ca(w, c)
    f = fn(w, call.unit)
    ran = until - call.run_at if call.state == RUNNING else 0
    cold = call.cold_ns if call.state == RUNNING else until - call.started
    f.busy_ns += ran & WIDE_LOW
    f.busy_hi += ran >> WIDE_BITS
    if f.bills == 0 and (call.state == RUNNING or f.cold_billed):
        instances.bill(f, ran + (cold if f.cold_billed else 0))


@hot
def end(w, c):
    """A run ends: bill it, free its slot, settle its events."""
    ck, call = clock(w), ca(w, c)
    u = call.unit
    f = fn(w, u)
    charge(w, c, ck.now)
    i = call.instance
    measures.in_flight_changes(w, u, DOWN)
    f.in_flight_events -= call.items
    if f.plan_kind == RESERVED:
        v = ins(w, i)
        v.n -= 1
        v.memory_free += f.memory_cost
        v.load = v.load - f.cpu_load if v.n > 0 else 0.0
    else:
        instances.release(w, i)
    rooms.mark_blocked(w, f.account)
    if f.waiting > 0:
        rooms.mark(w, u)
    _settle(w, c)


@kernel
def _poisoned(w, f, e):
    return f.poison_rate > 0.0 and hashed(w, f.rng + 4, ev(w, e).number) < f.poison_rate


@kernel
def _event_fails(w, f, e):
    return _poisoned(w, f, e) or (f.error_rate > 0.0 and uniform(w, f.rng + 2) < f.error_rate)


@hot
def _settle(w, c):
    """Decide what failed, and hand the events to their source's rules."""
    call = ca(w, c)
    f = fn(w, call.unit)
    each = tr(w, call.trigger).fail_each == 1
    failed = call.timed_out == 1
    if not failed and not each:
        failed = f.error_rate > 0.0 and uniform(w, f.rng + 2) < f.error_rate
        node = call.head
        while node >= 0 and not failed and f.poison_rate > 0.0:
            failed = _poisoned(w, f, cg(w, node).event)
            node = cg(w, node).next
    kind, items = so(w, tr(w, call.trigger).source).kind, call.items
    good, bad = _sort_out(w, c, kind, failed, each)
    if call.timed_out == 1:
        f.timed_out += 1
        outcome = TIMED_OUT
    elif bad > 0:
        f.failed += 1
        outcome = FAILED
    else:
        f.succeeded += 1
        outcome = SUCCEEDED
    measures.noted(w, c, items, call.run_at, outcome)
    if good > 0:
        _emit(w, call.unit, good)
    _after(w, c, kind, good, bad)


@hot
def _sort_out(w, c, kind, failed, each):
    """Settle each event of the cargo; returns how many events were handled and how many failed."""
    call = ca(w, c)
    f = fn(w, call.unit)
    good, bad = np.int64(0), np.int64(0)
    before, node = -1, call.head
    while node >= 0:
        after, e = cg(w, node).next, cg(w, node).event
        if failed or (each and _event_fails(w, f, e)):
            bad += 1
            before = node
        else:
            good += ev(w, e).items
            _good(w, c, kind, e)
            # Handled events leave the cargo, so that what is left is what failed.
            if before >= 0:
                cg(w, before).next = after
            else:
                call.head = after
            if call.tail == node:
                call.tail = before
            call.items -= ev(w, e).items
            call.n -= 1
            call.payload -= ev(w, e).payload
            rooms.drop_cargo(w, node)
        node = after
    return good, bad


@hot
def _good(w, c, kind, e):
    call = ca(w, c)
    u = call.unit
    if kind == QUEUE:
        queues.succeeded(w, c, e)
    elif kind == STREAM:
        streams.handled(w, call.part, e, call.run_at)
    else:
        if kind == ENDPOINT:
            fn(w, u).replies += 1
            endings.client_pauses(w, e, SAME)
        endings.handled(w, e, u, call.run_at - ev(w, e).at)


@kernel
def _emit(w, u, n):
    """Events put out for ``n`` handled: the whole part for certain, the fraction by lot per event."""
    f = fn(w, u)
    for x in range(f.first_emit, f.first_emit + f.emit_n):
        edge = ed(w, x)
        out = n * edge.whole
        if edge.fraction > 0.0:
            for _ in range(n):
                if uniform(w, f.rng + 3) < edge.fraction:
                    out += 1
        edge.sent += out
        for _ in range(out):
            size = draw(w, f.rng + 5, edge.pay_kind, edge.pay_scale, edge.pay_sigma, edge.pay_from, edge.pay_n)
            rooms.expect(w, edge.target, whole(size))


@hot
def _after(w, c, kind, good, bad):
    call = ca(w, c)
    if kind == QUEUE:
        queues.batch_over(w, c, good)
    elif kind == STREAM:
        if bad > 0:
            streams.failed(w, c)
        else:
            streams.batch_over(w, c)
    elif bad == 0:
        tr(w, call.trigger).active -= 1
        rooms.free_call(w, c)
    elif kind == ENDPOINT:
        e = cg(w, call.head).event
        endings.client_pauses(w, e, SAME)
        measures.latency_seen(w, call.unit, clock(w).now - ev(w, e).at, 1)
        if call.timed_out == 1:
            f = fn(w, call.unit)
            f.ev_cut += 1
        endings.ends(w, e, call.unit, endings.ERRORED)
        rooms.free_call(w, c)
    else:
        _push_again(w, c)


@kernel
def _push_again(w, c):
    """A pushed call failed: another try after a wait, until its tries are used up."""
    call = ca(w, c)
    u, g = call.unit, call.trigger
    f = fn(w, u)
    call.tries += 1
    call.wait = 0
    if call.tries >= tr(w, g).tries:
        tr(w, g).active -= 1
        endings.given_up(w, cg(w, call.head).event, u, g)
        rooms.free_call(w, c)
        return
    call.state = BACKOFF
    f.waiting += call.items
    pause = waits_ns(w, f.retry_from + min(call.tries - 1, f.retry_n - 1)).v
    put(w, clock(w).now + pause, DUE, call.number, K_RETRY, c)


@kernel
def waits_in_line(w, c):
    """Call ``c`` joins its unit's line, oldest event first; its events count as waiting already."""
    ca(w, c).state = WAITING
    ca(w, c).list = L_LINE
    u = ca(w, c).unit
    lists.insert(w, ca, fn(w, u).lists + L_LINE, c)
    rooms.mark(w, u)
