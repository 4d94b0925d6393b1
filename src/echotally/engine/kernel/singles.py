"""Calls of one event, pushed or requested: taken in, put into line, started at once where nothing is in the way."""

from __future__ import annotations

from echotally.engine.codes import (
    ALL_TAKEN,
    ARRIVALS,
    CARRIED,
    NEVER,
    NO,
    NO_ROOM,
    NONE,
    PER_CALL,
    SKIPPED,
    THROTTLED,
    THROTTLES,
    TOO_LARGE,
    YES,
    ZERO,
)
from echotally.engine.kernel import (
    asking,
    beside,
    clients,
    diary,
    endings,
    lists,
    marking,
    placing,
    pools,
    series,
    starting,
)
from echotally.engine.kernel.access import World, call_at, clock_of, event_at, source_at, trigger_at, unit_at
from echotally.engine.kernel.compiled import hot


@hot
def taken_in(w: World, s: int, g: int, payload: int, tap: int) -> int:
    """A single event at source ``s`` becomes a call of trigger ``g``; NONE where it ends at once, skipped or too large."""
    trigger = trigger_at(w, g)
    u = trigger.unit
    unit = unit_at(w, u)
    e = pools.new_event(w, s, payload)
    event = event_at(w, e)
    event.tap = tap
    event.trigger = g
    event.items = trigger.items
    event.state = CARRIED
    series.add(w, u, ARRIVALS, event.items)
    # Before a call is made: a skipped firing is no call.
    if trigger.skip == YES and trigger.active > 0:
        endings.ends(w, e, u, SKIPPED)
        return NONE
    if unit.payload_limit >= 0 and payload > unit.payload_limit:
        clients.pauses(w, e, YES)
        asking.answers(w, e, NO)
        endings.ends(w, e, u, TOO_LARGE)
        return NONE
    c = pools.new_call(w, g, event.number)
    pools.load_event(w, c, e)
    trigger.active += 1
    unit.waiting += event.items
    return c


@hot
def lines_up(w: World, c: int, state: int, line: int) -> None:
    """Call ``c`` joins a line of its unit: L_LINE, where it may wait, or L_FRESH, where it starts at this instant or is throttled."""
    call = call_at(w, c)
    call.state = state
    call.list = line
    lists.insert(w, call_at, unit_at(w, call.unit).lists + line, c)
    marking.mark(w, call.unit)


@hot
def alone(w: World, c: int) -> bool:
    """Whether nothing else happens at this instant and nothing else of the unit waits: the usual case of a call."""
    clock, call = clock_of(w), call_at(w, c)
    unit = unit_at(w, call.unit)
    return (
        clock.marked_n == 0
        and clock.expected_n == 0
        and unit.plan_kind == PER_CALL
        and unit.waiting == call.items
        # Anything else of this instant may take the room first (rule 1.3).
        and beside.next_at(w) > clock.now
        and source_at(w, trigger_at(w, call.trigger).source).trigger_n == 1
    )


@hot
def starts_at_once(w: World, c: int) -> bool:
    """What ``dispatch`` would do with a call that is alone, without lists: start it; False where there is no room."""
    u = call_at(w, c).unit
    series.backlog_seen(w, u)
    i = placing.room_for(w, u)
    if i == NO_ROOM or i == ALL_TAKEN:
        return False
    # It alone was waiting (``alone``).
    unit_at(w, u).waiting = ZERO
    starting.start(w, c, i)
    return True


@hot
def counted_as_throttled(w: World, c: int) -> None:
    """One more attempt that found no room."""
    call = call_at(w, c)
    unit = unit_at(w, call.unit)
    unit.attempts += 1
    # An attempt that found no room is an attempt (rule 5.3).
    unit.throttled += 1
    diary.carries_all(w, c)
    diary.noted(w, c, call.items, NEVER, THROTTLED)
    unit.refused_since += call.items
    series.add(w, call.unit, THROTTLES, 1)


@hot
def over(w: World, c: int) -> None:
    """The call is over."""
    trigger_at(w, call_at(w, c).trigger).active -= 1
    pools.free_call(w, c)
