"""Schedules, folders and topics push: what finds no room comes again, what fails is repeated (rule 4.3)."""

from __future__ import annotations

from echotally.engine.codes import (
    ARRIVALS,
    BACKOFF,
    COMES_BACK,
    DUE,
    FRESH,
    K_RETRY,
    L_FRESH,
    L_LINE,
    LAID,
    PER_CALL,
    WAITING,
    YES,
)
from echotally.engine.kernel import again, diary, endings, pools, series, singles
from echotally.engine.kernel.access import (
    World,
    call_at,
    cargo_at,
    clock_of,
    event_at,
    pause_at,
    source_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.compiled import hot, kernel


@hot
def arrive(w: World, s: int, payload: int, tap: int) -> None:
    """An event at a schedule or folder is handed to each of its functions."""
    source = source_at(w, s)
    source.sends += 1
    for g in range(source.first_trigger, source.first_trigger + source.trigger_n):
        hand_over(w, s, g, payload, tap)


@hot
def hand_over(w: World, s: int, g: int, payload: int, tap: int) -> None:
    """An event becomes a call of trigger ``g``, which asks for room."""
    if unit_at(w, trigger_at(w, g).unit).full == YES and tap != LAID and _stands_behind(w, g, payload):
        return
    c = singles.taken_in(w, s, g, payload, tap)
    if c >= 0:
        ask(w, c)


@kernel
def _stands_behind(w: World, g: int, payload: int) -> bool:
    """Whether an event would only stand behind what a sampled month has laid into its unit's line: it is counted."""
    trigger = trigger_at(w, g)
    unit, source = unit_at(w, trigger.unit), source_at(w, trigger.source)
    if trigger.skip == YES or (unit.payload_limit >= 0 and payload > unit.payload_limit):
        return False
    series.add(w, trigger.unit, ARRIVALS, trigger.items)
    source.arrived += 1
    clock_of(w).number += 1
    return True


@hot
def ask(w: World, c: int) -> None:
    """A call asks for room: on polled and reserved plans it waits in line, on others it starts at this instant or is throttled."""
    if unit_at(w, call_at(w, c).unit).plan_kind != PER_CALL:
        singles.lines_up(w, c, WAITING, L_LINE)
    elif not singles.alone(w, c):
        singles.lines_up(w, c, FRESH, L_FRESH)
    elif not singles.starts_at_once(w, c):
        throttle(w, c)


@kernel
def throttle(w: World, c: int) -> None:
    """There is no room: the call is sent away, to come again after a wait that doubles, until it is given up. It is in no list."""
    singles.counted_as_throttled(w, c)
    clock, call = clock_of(w), call_at(w, c)
    u, g = call.unit, call.trigger
    unit = unit_at(w, u)
    # Doubling from the first wait, up to the longest (rule 4.3).
    call.wait = min(max(unit.first_wait, 2 * call.wait), unit.longest_wait)
    # Not whether it has waited so long, but whether it would have when it came again.
    if clock.now + call.wait > call.arrived + unit.give_up:
        unit.waiting -= call.items
        trigger_at(w, g).active -= 1
        endings.given_up(w, cargo_at(w, call.head).event, u, g)
        pools.free_call(w, c)
        return
    call.state = BACKOFF
    if unit.waits >= 0:
        again.joins(w, c)
    else:
        put(w, clock.now + call.wait, DUE, call.number, K_RETRY, c)
    diary.call_comes_back(w, c, COMES_BACK, clock.now + call.wait)


@hot
def handled(w: World, c: int, e: int) -> None:
    """A run handled the event."""
    call = call_at(w, c)
    endings.handled(w, e, call.unit, call.run_at - event_at(w, e).at)


@hot
def over(w: World, c: int, bad: int) -> None:
    """The run's event is settled: done, or to be tried again."""
    if bad == 0:
        singles.over(w, c)
    else:
        _again(w, c)


@kernel
def _again(w: World, c: int) -> None:
    """The call failed: another try after a wait, until its tries are used up. Doubling waits begin anew (rule 7.17)."""
    call = call_at(w, c)
    u, g = call.unit, call.trigger
    unit = unit_at(w, u)
    call.tries += 1
    call.wait = 0
    if call.tries >= trigger_at(w, g).tries:
        trigger_at(w, g).active -= 1
        endings.given_up(w, cargo_at(w, call.head).event, u, g)
        pools.free_call(w, c)
        return
    call.state = BACKOFF
    unit.waiting += call.items
    # The last wait is used for all later tries.
    pause = pause_at(w, unit.retry_from + min(call.tries - 1, unit.retry_n - 1)).v
    put(w, clock_of(w).now + pause, DUE, call.number, K_RETRY, c)
    diary.call_comes_back(w, c, COMES_BACK, clock_of(w).now + pause)
