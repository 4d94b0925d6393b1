"""A run ends: it is billed, its slot freed, and what failed is decided event by event (rule 4.5)."""

from __future__ import annotations

from echotally.engine.codes import (
    DOWN,
    EMIT_STREAM,
    EMITTED_STREAM,
    ERROR_STREAM,
    FAILED,
    FIRST_NUMBER,
    NONE,
    POISON_STREAM,
    RESERVED,
    SUCCEEDED,
    TIMED_OUT,
    YES,
    ZERO,
)
from echotally.engine.kernel import diary, kinds, levels, lifecycle, marking, pools, reserved, starting
from echotally.engine.kernel.access import World, call_at, cargo_at, clock_of, edge_at, event_at, trigger_at, unit_at
from echotally.engine.kernel.chance import draw, hashed, uniform, whole
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.layout import Unit


@hot
def end(w: World, c: int) -> None:
    """A run ends: bill it, free its slot, settle its events."""
    clock, call = clock_of(w), call_at(w, c)
    u = call.unit
    unit = unit_at(w, u)
    starting.charge(w, c, clock.now)
    # Before its slot is free again, so that levels fall before they rise.
    levels.in_flight_changes(w, u, DOWN)
    unit.in_flight_events -= call.items
    if unit.plan_kind == RESERVED:
        reserved.gives_back(w, call.instance, u)
    else:
        lifecycle.release(w, call.instance)
    # A call less under the account's limit: whoever was blocked by it may start.
    marking.mark_blocked(w, unit.account)
    if unit.waiting > 0:
        marking.mark(w, u)
    _settle(w, c)


@kernel
def _poisoned(w: World, unit: Unit, e: int) -> bool:
    """Whether an event fails every time: by its number, so that every run finds the same."""
    return unit.poison_rate > 0.0 and (
        hashed(w, unit.random + POISON_STREAM, event_at(w, e).number - FIRST_NUMBER) < unit.poison_rate
    )


@kernel
def _event_fails(w: World, unit: Unit, e: int) -> bool:
    return _poisoned(w, unit, e) or (unit.error_rate > 0.0 and uniform(w, unit.random + ERROR_STREAM) < unit.error_rate)


@kernel
def _call_fails(w: World, c: int) -> bool:
    """Whether a run with ``on_failure = "whole"`` fails: by its error rate, or for one poisoned event."""
    call = call_at(w, c)
    unit = unit_at(w, call.unit)
    if unit.error_rate > 0.0 and uniform(w, unit.random + ERROR_STREAM) < unit.error_rate:
        return True
    link = call.head if unit.poison_rate > 0.0 else NONE
    while link >= 0:
        if _poisoned(w, unit, cargo_at(w, link).event):
            return True
        link = cargo_at(w, link).next
    return False


@hot
def _settle(w: World, c: int) -> None:
    """Decide what failed, and hand the events to their source's rules."""
    call = call_at(w, c)
    unit, trigger = unit_at(w, call.unit), trigger_at(w, call.trigger)
    each = trigger.fail_each == YES
    failed = call.timed_out == YES or (
        not each and (unit.error_rate > 0.0 or unit.poison_rate > 0.0) and _call_fails(w, c)
    )
    # Noted before events leave the cargo.
    items = call.items
    good, bad = _sort_out(w, c, failed, each)
    if call.timed_out == YES:
        unit.timed_out += 1
        outcome = TIMED_OUT
    elif bad > 0:
        unit.failed += 1
        outcome = FAILED
    else:
        unit.succeeded += 1
        outcome = SUCCEEDED
    diary.noted(w, c, items, call.run_at, outcome)
    if good > 0:
        _emit(w, call.unit, good)
    kinds.settle(w, c, trigger.kind, good, bad)


@hot
def _sort_out(w: World, c: int, failed: int, each: int) -> tuple[int, int]:
    """Settle each event of the cargo; returns how many events were handled and how many failed."""
    call = call_at(w, c)
    unit, kind = unit_at(w, call.unit), trigger_at(w, call.trigger).kind
    good, bad = ZERO, ZERO
    before, link = -1, call.head
    while link >= 0:
        after, e = cargo_at(w, link).next, cargo_at(w, link).event
        if failed or (each and _event_fails(w, unit, e)):
            bad += 1
            before = link
        else:
            good += event_at(w, e).items
            kinds.handled(w, c, kind, e)
            # Handled events leave the cargo, so that what is left is what failed.
            pools.unload(w, c, before, link)
        link = after
    return good, bad


@kernel
def _emit(w: World, u: int, n: int) -> None:
    """Events put out for ``n`` handled: the whole part for certain, the fraction by lot per event."""
    unit = unit_at(w, u)
    for x in range(unit.first_emit, unit.first_emit + unit.emit_n):
        edge = edge_at(w, x)
        # The whole part for certain, the fraction by lot, an event at a time: the sum's spread is that of single
        # lots.
        out = n * edge.whole
        if edge.fraction > 0.0:
            for _ in range(n):
                if uniform(w, unit.random + EMIT_STREAM) < edge.fraction:
                    out += 1
        edge.sent += out
        for _ in range(out):
            size = draw(
                w,
                unit.random + EMITTED_STREAM,
                edge.payload_kind,
                edge.payload_scale,
                edge.payload_sigma,
                edge.payload_from,
                edge.payload_n,
            )
            pools.expect(w, edge.target, whole(size))
