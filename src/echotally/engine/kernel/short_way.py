"""The short way of most calls: one event that starts at once on a warm instance, which nobody watches, and that goes well.

On the usual way such a call writes an event, a call and a cargo link and takes them apart again, though nothing ever looks at
them. Here a call is a few fields of its record; and as long as nothing else happens in the whole estate (``played``), what its
arrivals and ends add up to is kept in local numbers, which a compiler holds in registers. What comes out is the same to the byte.
Whatever is unusual (no warm instance, a neighbour at the same instant, a failure, an incident) goes the usual way: an arrival that
has not been taken in yet, or a call that is given its event after all (``unfold``).
"""

from __future__ import annotations

from typing import NamedTuple

from echotally.engine.codes import (
    CARRIED,
    END,
    ERROR_STREAM,
    FELL,
    FREE,
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
    alone,
    beside,
    diary,
    dispatch,
    kinds,
    lifecycle,
    pools,
    records_way,
    settle,
    starting,
    tally,
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
    event_at,
    highest_bit,
    instance_at,
    n_born,
    n_calendar,
    n_carried,
    n_diary,
    n_log,
    n_moments,
    tap_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.aside import KIND_BITS
from echotally.engine.kernel.calendar import drop_first, put, replace_first
from echotally.engine.kernel.chance import uniform, whole
from echotally.engine.kernel.compiled import hot, kernel, rare
from echotally.engine.kernel.tally import Tally
from echotally.engine.layout import SENTINELS
from echotally.engine.records import Unit
from echotally.model.spread import CONSTANT

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


class Way(NamedTuple):
    """What is the same for all short calls of a tap as long as nothing else happens: read once."""

    tap: int
    unit: int
    idle: int  # the list of idle instances
    items: int  # events of a call
    payload: int  # size of each event, bytes; NONE: drawn each time
    heaviest: int  # the largest event that may start, bytes
    alone: bool  # see ``kernel.alone``
    slower: float  # times so much a run takes on an instance that has no other call


@hot
def _way(w: World, p: int) -> Way:
    tap, trigger = tap_at(w, p), trigger_at(w, tap_at(w, p).short)
    u, unit = trigger.unit, unit_at(w, trigger.unit)
    return Way(
        p,
        u,
        unit.lists + L_FREE,
        trigger.items,
        whole(tap.payload_scale) if tap.payload_kind == CONSTANT else NONE,
        unit.payload_limit if unit.payload_limit >= 0 else NEVER,
        alone.is_alone(unit),
        # As ``_run_ns`` has it, for one call.
        unit.cpu_load / unit.cpu_cap if unit.cpu_load > unit.cpu_cap else 1.0,
    )


@kernel
def played(w: World, p: int, most: int) -> int:  # noqa: PLR0915 - one loop, whose numbers a compiler keeps in registers
    """Play up to ``most`` entries that are arrivals of tap ``p`` or ends of its short calls; returns how many that were.

    Records of a stream that come in between and only wait do not end the run, and are not counted here. None: the next entry goes
    the usual way. Counts and levels are written back before anybody else looks at them.
    """
    clock, way = clock_of(w), _way(w, p)
    u, unit, idle = way.unit, unit_at(w, way.unit), chain_at(w, way.idle)
    if _busy_now(w, u):
        return ZERO
    limit = min(clock.until, clock.horizon)
    most = min(most, _room_in_log(w), _summable(unit), _room(w))
    # Others' calls in flight neither come nor go meanwhile.
    level, others, peak, highest = unit.in_flight, clock.in_flight - unit.in_flight, ZERO, _highest(w, u)
    since = tally.level_since(w, u)
    starts, ends, last_end, payload, usual, bad = ZERO, ZERO, ZERO, ZERO, ZERO, NONE
    busy, billed = ZERO, ZERO
    asked, puts_out = kinds.is_answered(trigger_at(w, tap_at(w, p).short).kind), unit.emit_n > 0
    stays = True
    while stays and starts + ends < most:
        # Ends come before arrivals of an instant (rule 1.3), which the keys say.
        comes, what, at = beside.comes_first(w), entry_at(w, 0).what, beside.next_at(w)
        if at >= limit:
            break
        if comes and clock.beside != p:
            # A record of a stream; what another tap brings may go a short way of its own.
            if tap_at(w, clock.beside).short >= 0 or dispatch.low(w):
                break
            most -= records_way.played(w, most - starts - ends)
            most = min(most, starts + ends + _room(w))
            stays = not _busy_now(w, u)
        elif comes or what == (p << KIND_BITS) | K_TAP:
            clock.now = at
            payload = _arrives(w, way, comes)
            # An arrival with company at its instant goes with it: what starts first is ``dispatch``'s to say.
            stays = beside.next_at(w) > at and payload <= way.heaviest and level < highest and idle.head >= 0
            if stays:
                since = tally.weighed(w, u, level, others, since, at)
                _starts(w, way, at, payload)
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
                since = tally.weighed(w, u, level, others, since, at)
                ran, own = _ends(w, way, what >> KIND_BITS, at, asked)
                busy, billed = busy + ran, billed + own
                level -= 1
                ends, last_end = ends + 1, at
        else:
            break
    n = starts + ends + usual + (bad >= 0)
    clock.steps += n
    tally.written_back(w, p, Tally(starts + usual, starts, ends, peak, since, last_end, busy, billed))
    _afterwards(w, p, usual > 0, ends > 0, payload, bad)
    return n


@hot
def _room_in_log(w: World) -> int:
    """How many entries may write a line into the log, if one is kept, before Python makes it larger."""
    clock = clock_of(w)
    return n_log(w) - clock.log_n - clock.margin if clock.keeps_log >= WHOLE_LOG else NEVER


@hot
def _room(w: World) -> int:
    """How many entries may be played before a pool is low, which Python then makes larger; an entry takes one place of each at most."""
    clock = clock_of(w)
    fullest = n_calendar(w) - SENTINELS - 4 * clock.margin
    return min(fullest - clock.entries_n - clock.aside_n, clock.calls_left - clock.margin) + 1


@hot
def _summable(unit: Unit) -> int:
    """So many of a unit's runs, and of the times they are billed for, add up to less than 2^62 ns."""
    return NEVER >> (highest_bit(unit.timeout + unit.round_ns + unit.least_ns + 1) + 1)


@hot
def _arrives(w: World, way: Way, is_beside: bool) -> int:
    """An event of a tap comes, whose next one stands beside the calendar or in it; returns its size, bytes."""
    payload, first = way.payload if way.payload >= 0 else taps.payload_of(w, way.tap), entry_at(w, 0)
    coming = taps.next_arrival(w, way.tap)
    if is_beside:
        beside.moves_on(w, coming)
    elif coming < clock_of(w).horizon:
        replace_first(w, coming, first.key, first.what)
    else:
        drop_first(w)
    return payload


@hot
def _starts(w: World, way: Way, now: int, payload: int) -> None:
    """A call starts on the instance released last."""
    clock, i = clock_of(w), chain_at(w, way.idle).head
    unit, c = unit_at(w, way.unit), clock.free_call
    call, number = call_at(w, c), clock.number
    clock.free_call = call.next
    clock.calls_left -= 1
    # Numbered as its event would be, since ties go by it.
    clock.number = number + 1
    call.state = RUNNING
    call.tap = way.tap
    call.number = number
    call.instance = i
    call.started = now
    call.payload = payload
    if way.alone:
        alone.takes(w, way.idle, i, now)
    else:
        _takes_beside_others(w, i)
    ns = _run_ns(w, way, i, payload)
    if ns == 0:
        clock.instant = YES
    call.timed_out = YES if ns > unit.timeout else NO
    diary.logged(w, unit.account, ROSE, WHOLE_LOG)
    unit.longest_run = max(unit.longest_run, ns)
    put(w, now + min(ns, unit.timeout), END, number, K_SHORT_END, c)


@kernel
def _takes_beside_others(w: World, i: int) -> None:
    lifecycle.takes(w, i)
    lifecycle.activate(w, i)


@hot
def _run_ns(w: World, way: Way, i: int, payload: int) -> int:
    """How long a run on instance ``i`` takes, as ``starting.begin`` has it."""
    unit, instance = unit_at(w, way.unit), instance_at(w, i)
    work = starting.usual_work(w, way.unit, way.items, payload * way.items)
    if way.alone:
        return whole(work * way.slower)
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
def _ends(w: World, way: Way, c: int, now: int, asked: bool) -> tuple[int, int]:
    """A call that went well is over; returns how long it ran, and the time it is charged for, ns."""
    clock, call, unit = clock_of(w), call_at(w, c), unit_at(w, way.unit)
    # It began at once, so that it ran as long as it was in flight.
    ran = now - call.started
    own = lifecycle.rounded(unit, ran) if unit.bills == RUNS else ran
    # No cargo to give back, and no answers that could come late.
    call.state = FREE
    call.next = clock.free_call
    clock.free_call = c
    clock.calls_left += 1
    if way.alone:
        alone.gives_back(w, way.unit, way.idle, call.instance, now)
    else:
        _leaves_others(w, call.instance)
    diary.logged(w, unit.account, FELL, WHOLE_LOG)
    waits.charge_seen(w, way.unit, own)
    if asked:
        waits.answer_seen(w, way.unit, ran)
    else:
        waits.latency_seen(w, way.unit, ran, way.items)
    return ran, own


@kernel
def _leaves_others(w: World, i: int) -> None:
    lifecycle.release(w, i)


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


@rare
def _goes_bad(w: World, c: int) -> None:
    """A run that failed: its event is needed after all, and the usual way knows what becomes of it."""
    unfold(w, c)
    call = call_at(w, c)
    if call.timed_out == NO:
        # The lot has been drawn; ``settle`` does not draw again.
        call.decided = YES
        call.failed = YES
    settle.over(w, c)


@rare
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
