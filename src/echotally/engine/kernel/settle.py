"""A run ends: it is billed, its slot freed, and what failed is decided event by event (rule 4.5)."""

from __future__ import annotations

from echotally.engine.codes import (
    ASKING,
    COLD,
    DOWN,
    EMIT_STREAM,
    EMITTED_STREAM,
    END,
    ERROR_STREAM,
    FAILED,
    FIRST_NUMBER,
    K_ASKED_LONG,
    NO,
    NONE,
    POISON_STREAM,
    SUCCEEDED,
    TIMED_OUT,
    YES,
    ZERO,
)
from echotally.engine.kernel import asking, diary, kinds, levels, marking, pools, starting
from echotally.engine.kernel.access import (
    World,
    call_at,
    cargo_at,
    clock_of,
    condition_at,
    edge_at,
    event_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.calendar import LAST, put
from echotally.engine.kernel.chance import hashed, many_along, size_along, uniform
from echotally.engine.kernel.compiled import hot, kernel, rare
from echotally.engine.layout import WIDE_BITS, WIDE_LOW
from echotally.engine.records import Unit


@hot
def end(w: World, c: int) -> None:
    """A run ends: what it has to ask is asked; else the attempt is over."""
    call = call_at(w, c)
    if unit_at(w, call.unit).ask_n > 0 and call.timed_out == NO and _asks(w, c):
        return
    over(w, c)


@kernel
def _asks(w: World, c: int) -> bool:
    """The own run is over: what failed is decided, and what did not asks (rule 7.41). False where nothing is asked."""
    call = call_at(w, c)
    unit = unit_at(w, call.unit)
    good = _decide(w, c)
    # From its first ask on: a call that is tried again asks anew.
    call.asks = ZERO
    if good == 0 or not asking.sends(w, c, good):
        return False
    # Waiting is no CPU work; its timeout goes on (rules 7.42 and 8.5), and comes after every run that ends at its instant.
    starting.goes_quiet(w, c)
    call.ends = (call.started if unit.covers_cold == YES else call.run_at) + unit.timeout
    put(w, call.ends, END, LAST + call.number, K_ASKED_LONG, c)
    return True


@rare
def answered(w: World, c: int) -> None:
    """A call has its answers, or one that makes it fail: it asks on, or is over."""
    call = call_at(w, c)
    if call.failed == NO:
        call.asks += 1
        if asking.sends(w, c, _good_items(w, c)):
            return
    over(w, c)


@rare
def asked_long(w: World, c: int, number: int) -> None:
    """The timeout of a call that asks; if it still waits, it is ended, and what it asked goes on (rule 7.66)."""
    call = call_at(w, c)
    # The record may be another call's by now, or the same call's in a later run: number and instant tell.
    if call.state == ASKING and call.number == number - LAST and call.ends == clock_of(w).now:
        call.timed_out = YES
        # Answers that still come find nobody who waits for them.
        call.asking = ZERO
        over(w, c)


@rare
def cold_long(w: World, c: int, number: int) -> None:
    """The timeout of a call that waits for an instance to start, where that is covered: it has run nothing (rule 7.57)."""
    clock, call = clock_of(w), call_at(w, c)
    u = call.unit
    unit = unit_at(w, u)
    if call.state != COLD or call.number != number or call.started + unit.timeout != clock.now:
        return
    call.timed_out = YES
    own = starting.charge(w, c, clock.now)
    levels.in_flight_changes(w, u, DOWN)
    unit.in_flight_events -= call.items
    starting.waits_no_more(w, c)
    marking.mark_blocked(w, unit.account)
    if unit.waiting > 0:
        marking.mark(w, u)
    _settle(w, c, own)


@kernel
def _decide(w: World, c: int) -> int:
    """Settle which events of a run failed, before it asks; returns how many did not."""
    call = call_at(w, c)
    unit = unit_at(w, call.unit)
    rate = _error_rate(w, c)
    call.decided = YES
    if trigger_at(w, call.trigger).fail_each == NO:
        if _call_fails(w, c, rate):
            call.failed = YES
            return ZERO
        return call.items
    link = call.head
    while link >= 0:
        cargo = cargo_at(w, link)
        # In the order of the cargo, which is the order in which lots are drawn.
        cargo.failed = YES if _event_fails(w, unit, cargo.event, rate) else NO
        link = cargo.next
    return _good_items(w, c)


@kernel
def _good_items(w: World, c: int) -> int:
    """Events of a call that did not fail, a firing counted by its items."""
    call = call_at(w, c)
    if trigger_at(w, call.trigger).fail_each == NO:
        return call.items
    good, link = ZERO, call.head
    while link >= 0:
        if cargo_at(w, link).failed == NO:
            good += event_at(w, cargo_at(w, link).event).items
        link = cargo_at(w, link).next
    return good


@hot
def over(w: World, c: int) -> None:
    """An attempt is over: bill it, free its slot, settle its events."""
    clock, call = clock_of(w), call_at(w, c)
    u = call.unit
    unit = unit_at(w, u)
    own = starting.charge(w, c, clock.now)
    # Before its slot is free again, so that levels fall before they rise.
    levels.in_flight_changes(w, u, DOWN)
    unit.in_flight_events -= call.items
    starting.frees(w, c)
    # A call less under the account's limit: whoever was blocked by it may start.
    marking.mark_blocked(w, unit.account)
    if unit.waiting > 0 and not kinds.waits_for_more(w, call.trigger):
        marking.mark(w, u)
    _settle(w, c, own)


@kernel
def _poisoned(w: World, unit: Unit, e: int) -> bool:
    """Whether an event fails every time: by its number, so that every run finds the same."""
    return unit.poison_rate > 0.0 and (
        hashed(w, unit.random + POISON_STREAM, event_at(w, e).number - FIRST_NUMBER) < unit.poison_rate
    )


@hot
def _error_rate(w: World, c: int) -> float:
    """The error rate of a run: its unit's, or that of an incident in which it began (rule 7.62)."""
    call = call_at(w, c)
    if call.condition >= 0 and condition_at(w, call.condition).error_rate >= 0.0:
        return condition_at(w, call.condition).error_rate
    return unit_at(w, call.unit).error_rate


@kernel
def _event_fails(w: World, unit: Unit, e: int, rate: float) -> bool:
    return _poisoned(w, unit, e) or (rate > 0.0 and uniform(w, unit.random + ERROR_STREAM) < rate)


@kernel
def _call_fails(w: World, c: int, rate: float) -> bool:
    """Whether a run with ``on_failure = "whole"`` fails: by its error rate, or for one poisoned event."""
    call = call_at(w, c)
    unit = unit_at(w, call.unit)
    # No rate, no draw: most runs are spared one.
    if rate > 0.0 and uniform(w, unit.random + ERROR_STREAM) < rate:
        return True
    link = call.head if unit.poison_rate > 0.0 else NONE
    while link >= 0:
        if _poisoned(w, unit, cargo_at(w, link).event):
            return True
        link = cargo_at(w, link).next
    return False


@hot
def _settle(w: World, c: int, own: int) -> None:
    """Decide what failed, and hand the events to their source's rules; ``own`` is the time that belongs to its outcome."""
    call = call_at(w, c)
    unit, trigger = unit_at(w, call.unit), trigger_at(w, call.trigger)
    each, rate = trigger.fail_each == YES, _error_rate(w, c)
    may_fail = rate > 0.0 or unit.poison_rate > 0.0
    if call.timed_out == YES:
        failed = True
    elif call.decided == YES:
        failed = call.failed == YES
    else:
        failed = not each and may_fail and _call_fails(w, c, rate)
    # Noted before events leave the cargo.
    items = call.items
    again = kinds.may_come_again(trigger.kind) and _all_handled_before(w, c)
    if failed or (each and (may_fail or call.decided == YES)):
        good, bad = _sort_out(w, c, failed, each, rate)
    else:
        good, bad = _all_handled(w, c), ZERO
    call.decided = NO
    call.failed = NO
    unit.served += good
    if call.timed_out == YES:
        unit.timed_out += 1
        outcome = TIMED_OUT
    elif bad > 0:
        unit.failed += 1
        outcome = FAILED
    else:
        unit.succeeded += 1
        outcome = SUCCEEDED
    if again or outcome != SUCCEEDED:
        _beside_good(unit, outcome, again, own)
    diary.noted(w, c, items, call.run_at, outcome)
    if good > 0:
        # The attempt that was just noted: what it puts out is told as its own.
        clock_of(w).emitter = clock_of(w).noted - 1
        puts_out(w, call.unit, good)
        clock_of(w).emitter = NONE
    kinds.settle(w, c, trigger.kind, good, bad)


@kernel
def _all_handled_before(w: World, c: int) -> bool:
    """Whether every message of a call has been handled by another attempt meanwhile."""
    link = call_at(w, c).head
    while link >= 0:
        # One that is new is enough for the whole attempt to count as one that did something.
        if event_at(w, cargo_at(w, link).event).handled == NO:
            return False
        link = cargo_at(w, link).next
    return True


@kernel
def _beside_good(unit: Unit, outcome: int, again: bool, own: int) -> None:
    """Keep the time of an attempt that did not handle new events (rule 10.1, wide sums)."""
    low, high = own & WIDE_LOW, own >> WIDE_BITS
    if again:
        unit.again += 1
        unit.again_ns += low
        unit.again_hi += high
        if outcome == TIMED_OUT:
            unit.again_cut += 1
        elif outcome == FAILED:
            unit.again_failed += 1
    elif outcome == TIMED_OUT:
        unit.cut_ns += low
        unit.cut_hi += high
    else:
        unit.failed_ns += low
        unit.failed_hi += high


@kernel
def _failed(w: World, c: int, link: int, rate: float) -> bool:
    """Whether an event fails by itself: as decided before the call asked, or by lot now."""
    call = call_at(w, c)
    if call.decided == YES:
        return cargo_at(w, link).failed == YES
    return _event_fails(w, unit_at(w, call.unit), cargo_at(w, link).event, rate)


@hot
def _all_handled(w: World, c: int) -> int:
    """Settle the cargo of a run of which nothing failed; returns how many events that were."""
    call = call_at(w, c)
    kind = trigger_at(w, call.trigger).kind
    if kinds.leaves_as_one(w, kind):
        return kinds.all_handled(w, c)
    good, link = ZERO, call.head
    while link >= 0:
        after, e = cargo_at(w, link).next, cargo_at(w, link).event
        good += event_at(w, e).items
        diary.carries(w, e, YES)
        kinds.handled(w, c, kind, e)
        pools.drop_cargo(w, link)
        link = after
    pools.unloaded(w, c)
    return good


@kernel
def _sort_out(w: World, c: int, failed: bool, each: bool, rate: float) -> tuple[int, int]:
    """Settle each event of the cargo; returns how many events were handled and how many failed."""
    call = call_at(w, c)
    kind = trigger_at(w, call.trigger).kind
    good, bad = ZERO, ZERO
    before, link = -1, call.head
    while link >= 0:
        after, e = cargo_at(w, link).next, cargo_at(w, link).event
        if failed or (each and _failed(w, c, link, rate)):
            bad += 1
            before = link
            diary.carries(w, e, NO)
        else:
            good += event_at(w, e).items
            diary.carries(w, e, YES)
            kinds.handled(w, c, kind, e)
            # Handled events leave the cargo, so that what is left is what failed.
            pools.unload(w, c, before, link)
        link = after
    return good, bad


@kernel
def puts_out(w: World, u: int, n: int) -> None:
    """Events put out for ``n`` handled (rule 4.7), in order, to each of those they are for as many (rule 11.2)."""
    unit = unit_at(w, u)
    x, end = unit.first_emit, unit.first_emit + unit.emit_n
    while x < end:
        edge = edge_at(w, x)
        out = many_along(w, x, unit.random + EMIT_STREAM, n)
        edge.sent += out
        for k in range(out):
            size = size_along(w, x, unit.random + EMITTED_STREAM)
            diary.for_whom(w, k * n // out)
            pools.expect(w, edge.target, size)
        x += 1
