"""The short way of most calls: one event that starts at once on a warm instance, which nobody watches, and that goes well.

On the usual way such a call writes an event, a call and a cargo link and takes them apart again, though nothing ever looks at
them. Here a call is a few fields of its record; and as long as nothing else happens in the whole estate (``played``), what its
arrivals and ends add up to is kept in local numbers, which a compiler holds in registers. What comes out is the same to the byte.
Whatever is unusual (no warm instance, a neighbour at the same instant, a failure, an incident) goes the usual way: an arrival that
has not been taken in yet, or a call that is given its event after all (``unfold``).
"""

from __future__ import annotations

from echotally.engine.codes import (
    ARRIVALS,
    BACKLOG_PEAK,
    CARRIED,
    END,
    ERROR_STREAM,
    FELL,
    FREE,
    IN_FLIGHT_PEAK,
    K_SHORT_END,
    K_TAP,
    L_FREE,
    NEVER,
    NO,
    NONE,
    ROSE,
    RUNNING,
    RUNS,
    WHOLE_LOG,
    YES,
    ZERO,
)
from echotally.engine.kernel import (
    beside,
    diary,
    dispatch,
    kinds,
    lifecycle,
    pools,
    records_way,
    series,
    settle,
    starting,
    taps,
    waits,
)
from echotally.engine.kernel.access import (
    World,
    account_at,
    call_at,
    chain_at,
    clock_of,
    entry_at,
    estate_level_at,
    event_at,
    instance_at,
    level_bin_at,
    n_born,
    n_calendar,
    n_carried,
    n_diary,
    n_log,
    n_moments,
    source_at,
    tap_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.calendar import KIND_BITS, drop_first, put, replace_first
from echotally.engine.kernel.chance import uniform, whole
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.kernel.sketch import level_bin
from echotally.engine.layout import SENTINELS, WIDE_BITS, WIDE_LOW

_KIND_MASK: int = (YES << KIND_BITS) - YES


@hot
def unwatched(w: World) -> bool:
    """Whether nothing is written down of single events and attempts: whoever watches wants their records."""
    return (
        # One line is what every world has that keeps none.
        n_diary(w) <= 1 and n_carried(w) <= 1 and n_born(w) <= 1 and n_moments(w) <= 1
    )


@hot
def _busy_now(w: World, u: int) -> bool:
    """Whether something is going on that every call has to do with: at this instant, at the unit's limits, or an incident."""
    clock, unit = clock_of(w), unit_at(w, u)
    return (
        clock.marked_n > 0
        or clock.expected_n > 0
        or unit.waiting > 0
        or unit.condition >= 0
        or account_at(w, unit.account).blocked == YES
    )


@hot
def _highest(w: World, u: int) -> int:
    """The unit's calls in flight from which on its account is full."""
    unit = unit_at(w, u)
    account = account_at(w, unit.account)
    return account.limit - (account.in_flight - unit.in_flight) if account.limit >= 0 else NEVER


@kernel
def played(w: World, p: int, most: int) -> int:  # noqa: PLR0915 - one loop, whose numbers a compiler keeps in registers
    """Play up to ``most`` entries that are arrivals of tap ``p`` or ends of its short calls; returns how many that were.

    Records of a stream that come in between and only wait do not end the run, and are not counted here. None: the next entry goes
    the usual way. Counts and levels are written back before anybody else looks at them.
    """
    clock, g, u = clock_of(w), tap_at(w, p).short, trigger_at(w, tap_at(w, p).short).unit
    unit, idle = unit_at(w, u), unit_at(w, u).lists + L_FREE
    if _busy_now(w, u):
        return ZERO
    margin, items = clock.margin, trigger_at(w, g).items
    limit, fullest = min(clock.until, clock.horizon), n_calendar(w) - SENTINELS - 4 * margin
    most = min(most, _room_in_log(w))
    heaviest, highest = unit.payload_limit if unit.payload_limit >= 0 else NEVER, _highest(w, u)
    # Others' calls in flight neither come nor go meanwhile.
    level, others, peak = unit.in_flight, clock.in_flight - unit.in_flight, ZERO
    since, since_all = unit.level_since, clock.level_since
    starts, ends, last_end, payload, longest, usual, bad = ZERO, ZERO, ZERO, ZERO, ZERO, ZERO, NONE
    busy, busy_hi, billed, billed_hi = ZERO, ZERO, ZERO, ZERO
    asked, puts_out = kinds.is_answered(trigger_at(w, g).kind), unit.emit_n > 0
    stays = True
    # Where a pool is low Python makes it larger first.
    while stays and starts + ends < most and clock.entries_n + clock.aside_n <= fullest and clock.calls_left >= margin:
        # Ends come before arrivals of an instant (rule 1.3), which the keys say.
        comes, what, at = beside.comes_first(w), entry_at(w, 0).what, beside.next_at(w)
        if at >= limit:
            break
        if comes and clock.beside != p:
            # A record of a stream; what another tap brings may go a short way of its own.
            if tap_at(w, clock.beside).short >= 0 or dispatch.low(w):
                break
            most -= records_way.played(w, most - starts - ends)
            stays = not _busy_now(w, u)
        elif comes or what == (p << KIND_BITS) | K_TAP:
            clock.now = at
            payload = _arrives(w, p, comes)
            i = chain_at(w, idle).head
            # An arrival with company at its instant goes with it: what starts first is ``dispatch``'s to say.
            stays = beside.next_at(w) > at and payload <= heaviest and level < highest and i >= 0
            if stays:
                since, since_all = _weighed(w, u, level, others, since, since_all)
                longest = max(longest, _starts(w, p, i, items, payload))
                level += 1
                peak = max(peak, level)
                starts += 1
            else:
                usual = YES
        elif _may_end(w, what, p):
            clock.now = at
            drop_first(w)
            bad = _failing(w, what >> KIND_BITS, u)
            # What is put out arrives at this instant, before anything else of it.
            stays = bad < 0 and not puts_out
            if bad < 0:
                since, since_all = _weighed(w, u, level, others, since, since_all)
                ran, own = _ends(w, what >> KIND_BITS, u, asked, items)
                busy, busy_hi = busy + (ran & WIDE_LOW), busy_hi + (ran >> WIDE_BITS)
                billed, billed_hi = billed + (own & WIDE_LOW), billed_hi + (own >> WIDE_BITS)
                level -= 1
                ends, last_end = ends + 1, at
        else:
            break
    unit.level_since, clock.level_since, unit.longest_run = since, since_all, max(unit.longest_run, longest)
    _spent(w, u, busy, busy_hi, billed, billed_hi)
    n = starts + ends + usual + (bad >= 0)
    _counted(w, p, n, starts + usual, starts, ends)
    _seen(w, p, starts > 0, peak, last_end)
    _afterwards(w, p, usual > 0, ends > 0, payload, bad)
    return n


@hot
def _room_in_log(w: World) -> int:
    """How many entries may write a line into the log, if one is kept, before Python makes it larger."""
    clock = clock_of(w)
    return n_log(w) - clock.log_n - clock.margin if clock.keeps_log >= WHOLE_LOG else NEVER


@hot
def _arrives(w: World, p: int, is_beside: bool) -> int:
    """An event of a tap comes, whose next one stands beside the calendar or in it; returns its size, bytes."""
    payload, first = taps.payload_of(w, p), entry_at(w, 0)
    coming = taps.next_arrival(w, p)
    if is_beside:
        beside.moves_on(w, coming)
    elif coming < clock_of(w).horizon:
        replace_first(w, coming, first.key, first.what)
    else:
        drop_first(w)
    return payload


@hot
def _weighed(w: World, u: int, level: int, others: int, since: int, since_all: int) -> tuple[int, int]:
    """Until now so many calls were in flight, in the unit and, with ``others``, in all (as ``levels.in_flight_changes``).

    Returns since when the next levels hold.
    """
    now = clock_of(w).now
    # What happens at one instant weighs nothing.
    if now > since:
        level_bin_at(w, level_bin(level) * clock_of(w).units + u).v += now - since
        since = now
    if now > since_all:
        estate_level_at(w, level_bin(level + others)).v += now - since_all
        since_all = now
    return since, since_all


@hot
def _starts(w: World, p: int, i: int, items: int, payload: int) -> int:
    """A call starts on instance ``i``, the one released last; returns how long it would run, ns, if nothing ended it."""
    clock, u = clock_of(w), instance_at(w, i).unit
    unit, c = unit_at(w, u), clock.free_call
    call = call_at(w, c)
    clock.free_call = call.next
    clock.calls_left -= 1
    lifecycle.takes(w, i)
    lifecycle.activate(w, i)
    ns = _run_ns(w, u, i, items, payload)
    if ns == 0:
        clock.instant = YES
    call.timed_out = YES if ns > unit.timeout else NO
    call.state = RUNNING
    call.tap = p
    # Numbered as its event would be, since ties go by it.
    call.number = clock.number
    call.instance = i
    call.started = clock.now
    call.payload = payload
    clock.number += 1
    diary.logged(w, unit.account, ROSE, WHOLE_LOG)
    put(w, clock.now + min(ns, unit.timeout), END, call.number, K_SHORT_END, c)
    return ns


@hot
def _run_ns(w: World, u: int, i: int, items: int, payload: int) -> int:
    """How long a run on instance ``i`` takes, as ``starting.begin`` has it."""
    unit, instance = unit_at(w, u), instance_at(w, i)
    work = starting.usual_work(w, u, items, payload * items)
    load = (instance.calls - instance.quiet) * unit.cpu_load
    if load > unit.cpu_cap:
        work *= load / unit.cpu_cap
    return whole(work)


@hot
def _may_end(w: World, what: int, p: int) -> bool:
    """Whether an entry is the end of a short call from tap ``p``, on an instance that is no old one."""
    if what & _KIND_MASK != K_SHORT_END:
        return False
    call = call_at(w, what >> KIND_BITS)
    return call.tap == p and instance_at(w, call.instance).drained == NO


@hot
def _failing(w: World, c: int, u: int) -> int:
    """Call ``c`` where its run fails, as ``settle`` decides it, else NONE."""
    unit = unit_at(w, u)
    if call_at(w, c).timed_out == YES:
        return c
    return c if unit.error_rate > 0.0 and uniform(w, unit.random + ERROR_STREAM) < unit.error_rate else NONE


@hot
def _ends(w: World, c: int, u: int, asked: bool, items: int) -> tuple[int, int]:
    """A call that went well is over; returns how long it ran, and the time it is charged for, ns."""
    clock, call, unit = clock_of(w), call_at(w, c), unit_at(w, u)
    # It began at once, so that it ran as long as it was in flight.
    ran = clock.now - call.started
    own = lifecycle.rounded(unit, ran) if unit.bills == RUNS else ran
    waits.charge_seen(w, u, own)
    if asked:
        waits.answer_seen(w, u, ran)
    else:
        waits.latency_seen(w, u, ran, items)
    lifecycle.release(w, call.instance)
    diary.logged(w, unit.account, FELL, WHOLE_LOG)
    # No cargo to give back, and no answers that could come late.
    call.state = FREE
    call.next = clock.free_call
    clock.free_call = c
    clock.calls_left += 1
    return ran, own


@hot
def _spent(w: World, u: int, busy: int, busy_hi: int, billed: int, billed_hi: int) -> None:
    """Write back how long runs took, and what of it is billed run by run (wide sums)."""
    unit = unit_at(w, u)
    unit.busy_ns += busy
    unit.busy_hi += busy_hi
    if unit.bills == RUNS:
        unit.billed_ns += billed
        unit.billed_hi += billed_hi


@hot
def _counted(w: World, p: int, n: int, came: int, starts: int, ends: int) -> None:
    """Write back what ``n`` entries, arrivals and ends, add up to."""
    clock, tap = clock_of(w), tap_at(w, p)
    trigger = trigger_at(w, tap.short)
    source, unit, items = source_at(w, trigger.source), unit_at(w, trigger.unit), trigger.items
    clock.steps += n
    clock.outside += came
    tap.came += came
    clock.arrived += starts
    source.sends += starts
    source.arrived += starts
    clock.in_flight += starts - ends
    account_at(w, unit.account).in_flight += starts - ends
    trigger.active += starts - ends
    unit.in_flight += starts - ends
    unit.in_flight_events += (starts - ends) * items
    unit.attempts += starts
    unit.started += starts
    unit.calls += starts
    unit.started_items += starts * items
    unit.succeeded += ends
    unit.served += ends * items
    unit.handled += ends * items
    clock.ended += ends
    source.ended += ends
    # None of them waited.
    unit.at_once += ends * items
    if kinds.is_answered(trigger.kind):
        unit.requests += starts
        unit.replies += ends
    if starts > 0:
        series.add(w, trigger.unit, ARRIVALS, starts * items)


@hot
def _seen(w: World, p: int, started: bool, peak: int, last_end: int) -> None:
    """Write back the highest levels, of calls in flight and of events as each arrived, before it started (rule 7.15); the last end."""
    clock, trigger = clock_of(w), trigger_at(w, tap_at(w, p).short)
    u, items = trigger.unit, trigger.items
    unit, source = unit_at(w, u), source_at(w, trigger.source)
    source.ended_at = max(source.ended_at, last_end)
    if not started:
        return
    unit.level_peak = max(unit.level_peak, peak)
    clock.level_peak = max(clock.level_peak, peak + clock.in_flight - unit.in_flight)
    series.peak(w, u, IN_FLIGHT_PEAK, peak)
    unit.backlog_peak = max(unit.backlog_peak, items)
    series.peak(w, u, BACKLOG_PEAK, items)


@hot
def _afterwards(w: World, p: int, one_more: bool, ended: bool, payload: int, bad: int) -> None:
    """What the last entry leaves for the usual way: an arrival not taken in yet, a call that failed, or what a run puts out."""
    trigger = trigger_at(w, tap_at(w, p).short)
    if bad >= 0:
        _goes_bad(w, bad)
    elif one_more:
        kinds.arrive_apart(w, trigger.source, payload, p)
    elif ended and unit_at(w, trigger.unit).emit_n > 0:
        settle.puts_out(w, trigger.unit, trigger.items)


@kernel
def _goes_bad(w: World, c: int) -> None:
    """A run that failed: its event is needed after all, and the usual way knows what becomes of it."""
    unfold(w, c)
    call = call_at(w, c)
    if call.timed_out == NO:
        # The lot has been drawn; ``settle`` does not draw again.
        call.decided = YES
        call.failed = YES
    settle.over(w, c)


@kernel
def ends(w: World, c: int) -> None:
    """The end of a short call where something else is going on: it goes the usual way."""
    unfold(w, c)
    settle.end(w, c)


@kernel
def unfold(w: World, c: int) -> None:
    """Give a short call the event and the fields that a usual one has: the same as if it had had them from the start."""
    call = call_at(w, c)
    g, number, tap, payload = tap_at(w, call.tap).short, call.number, call.tap, call.payload
    i, started, timed_out, ends_at = call.instance, call.started, call.timed_out, call.ends
    # It has been counted as it came.
    e = pools.blank_event(w, trigger_at(w, g).source, number, started, payload)
    event = event_at(w, e)
    event.state = CARRIED
    event.tap = tap
    event.trigger = g
    event.items = trigger_at(w, g).items
    pools.blank(w, c, g, number)
    pools.load_event(w, c, e)
    call.state = RUNNING
    call.instance = i
    call.started = started
    call.run_at = started
    call.ends = ends_at
    call.timed_out = timed_out
    call.counted = YES
