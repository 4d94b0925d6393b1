"""Pools of records: taking a free one, giving it back. Free ones are linked through ``next``."""

from __future__ import annotations

from echotally.engine.codes import FREE, GONE, NO, NONE
from echotally.engine.kernel import diary
from echotally.engine.kernel.access import (
    World,
    call_at,
    cargo_at,
    clock_of,
    event_at,
    expected_at,
    n_expected,
    source_at,
    trigger_at,
)
from echotally.engine.kernel.compiled import hot, kernel


@hot
def blank_event(w: World, source: int, number: int, at: int, payload: int) -> int:
    """A record of an event that came to a source at that time, which nobody has taken in yet."""
    clock = clock_of(w)
    e = clock.free_event
    event = event_at(w, e)
    # Free records are a stack through ``next``; ``dispatch.low`` has seen to it that it is not empty.
    clock.free_event = event.next
    clock.events_left -= 1
    event.number = number
    event.at = at
    event.seen = at
    event.receipts = 0
    event.payload = payload
    event.at_source = source
    # Nowhere yet: who takes it in says where it waits.
    event.state = GONE
    event.refs = 0
    event.tap = -1
    event.tries = 0
    event.trigger = -1
    event.items = 1
    event.handled = NO
    event.hold = NO
    event.asker = NONE
    event.asking = 0
    event.prev = -1
    event.next = -1
    return e


@hot
def new_event(w: World, source: int, payload: int) -> int:
    """An event that arrives at a source now."""
    clock = clock_of(w)
    e = blank_event(w, source, clock.number, clock.now, payload)
    clock.number += 1
    clock.arrived += 1
    source_at(w, source).arrived += 1
    event_at(w, e).asker = clock.asker
    event_at(w, e).asking = clock.asking
    diary.comes(w, e)
    return e


@hot
def free_event(w: World, e: int) -> None:
    """Give an event back once nothing refers to it."""
    clock = clock_of(w)
    event_at(w, e).state = GONE
    event_at(w, e).next = clock.free_event
    clock.free_event = e
    clock.events_left += 1


@hot
def new_call(w: World, g: int, number: int) -> int:
    """An empty call of trigger ``g``; ``number`` is its oldest event's."""
    clock = clock_of(w)
    c = clock.free_call
    clock.free_call = call_at(w, c).next
    clock.calls_left -= 1
    blank(w, c, g, number)
    return c


@hot
def blank(w: World, c: int, g: int, number: int) -> None:
    """Call ``c`` holds nothing yet, and nothing of what it was before."""
    clock, call = clock_of(w), call_at(w, c)
    call.unit = trigger_at(w, g).unit
    call.trigger = g
    call.number = number
    call.arrived = clock.now
    call.events = 0
    call.items = 0
    call.head = -1
    call.tail = -1
    call.instance = -1
    call.timed_out = NO
    call.condition = -1
    call.quiet = NO
    call.decided = NO
    call.failed = NO
    call.asking = 0
    call.cold_ns = 0
    call.tries = 0
    call.wait = 0
    call.payload = 0
    # Counted in ``Unit.calls`` when it starts for the first time, however often it is tried.
    call.counted = NO
    call.partition = -1
    call.timer = -1
    call.tap = -1
    call.prev = -1
    call.next = -1


@hot
def free_call(w: World, c: int) -> None:
    """Give a call and its cargo back; events that ended meanwhile go with their last call."""
    clock = clock_of(w)
    link = call_at(w, c).head
    # Events that ended while the call carried them are given back with it.
    while link >= 0:
        after = cargo_at(w, link).next
        drop_cargo(w, link)
        link = after
    call_at(w, c).state = FREE
    # Answers that come later find nobody.
    call_at(w, c).asking = 0
    call_at(w, c).next = clock.free_call
    clock.free_call = c
    clock.calls_left += 1


@hot
def drop_cargo(w: World, link: int) -> None:
    """Free one cargo link and, if it was the last on an ended event, the event."""
    clock = clock_of(w)
    e = cargo_at(w, link).event
    event_at(w, e).refs -= 1
    # The last link to an event that has ended: a message may be in two calls at once, if it came back meanwhile.
    if event_at(w, e).refs == 0 and event_at(w, e).state == GONE:
        free_event(w, e)
    cargo_at(w, link).next = clock.free_cargo
    clock.free_cargo = link
    clock.cargo_left += 1


@hot
def free_all(w: World, c: int, first: int, last: int) -> None:
    """Give back all that call ``c`` carries: events from ``first`` to ``last``, linked through ``next``, that are gone with it."""
    clock, call = clock_of(w), call_at(w, c)
    event_at(w, last).next = clock.free_event
    clock.free_event = first
    clock.events_left += call.events
    cargo_at(w, call.tail).next = clock.free_cargo
    clock.free_cargo = call.head
    clock.cargo_left += call.events
    unloaded(w, c)


@hot
def load_event(w: World, c: int, e: int) -> None:
    """Put an event into a call's cargo."""
    clock, call = clock_of(w), call_at(w, c)
    link = clock.free_cargo
    clock.free_cargo = cargo_at(w, link).next
    clock.cargo_left -= 1
    cargo_at(w, link).event = e
    cargo_at(w, link).next = -1
    # At the end: the first event of a call is its oldest, by which it stands in line.
    if call.tail >= 0:
        cargo_at(w, call.tail).next = link
    else:
        call.head = link
        call.arrived = event_at(w, e).at
    call.tail = link
    call.events += 1
    call.items += event_at(w, e).items
    # A firing weighs its items (rule 7.48).
    call.payload += event_at(w, e).payload * event_at(w, e).items
    event_at(w, e).refs += 1


@hot
def unload(w: World, c: int, before: int, link: int) -> None:
    """Take a link out of a call's cargo; ``before`` is the link before it, -1 for the first."""
    call, after = call_at(w, c), cargo_at(w, link).next
    event = event_at(w, cargo_at(w, link).event)
    if before >= 0:
        cargo_at(w, before).next = after
    else:
        call.head = after
    # Before it is given back, the call's own ends must not point at it.
    if call.tail == link:
        call.tail = before
    call.items -= event.items
    call.events -= 1
    call.payload -= event.payload * event.items
    drop_cargo(w, link)


@hot
def unloaded(w: World, c: int) -> None:
    """Call ``c`` holds nothing any more: its links have been given back one by one."""
    call = call_at(w, c)
    call.head = -1
    call.tail = -1
    call.items = 0
    call.events = 0
    call.payload = 0


@kernel
def expect(w: World, target: int, payload: int) -> None:
    """An event put out or dead-lettered now: it arrives at ``target`` in the arrivals of this instant."""
    clock = clock_of(w)
    # A ring; it is grown between steps, never here.
    place = expected_at(w, (clock.expected_first + clock.expected_n) % n_expected(w))
    place.source = target
    place.payload = payload
    place.asker = NONE
    place.origin = clock.emitter
    place.sent = clock.put_out
    place.whose = clock.whose
    clock.put_out += 1
    clock.expected_n += 1


@kernel
def expect_request(w: World, target: int, payload: int, c: int) -> None:
    """A request that call ``c`` asks now."""
    clock = clock_of(w)
    place = expected_at(w, (clock.expected_first + clock.expected_n) % n_expected(w))
    expect(w, target, payload)
    place.asker = c
    place.asking = call_at(w, c).asking
