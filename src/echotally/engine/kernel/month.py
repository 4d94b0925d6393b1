"""The month's two ends and its hours: what is there at 0 s, what is carried over an hour, what is counted at the end."""

from __future__ import annotations

import numpy as np

from echotally.engine.codes import (
    ABSENT,
    ACTIVE,
    ARRIVE,
    BACKLOG_PEAK,
    COLD,
    COUNT_PEAK,
    DONE,
    GONE,
    IN_FLIGHT,
    IN_FLIGHT_PEAK,
    K_CLIENT,
    K_LOOK,
    K_TAP,
    K_TICK,
    LOOK,
    MORE_ROOM,
    NEVER,
    NO,
    OLDEST_AGE,
    POLLED,
    RESERVED,
    RUNNING,
    STILL_RUNNING,
    TAP_CLIENTS,
    TICK,
    UNFINISHED,
    YES,
    ZERO,
)
from echotally.engine.kernel import (
    beside,
    diary,
    dispatch,
    endings,
    kinds,
    lag,
    levels,
    lifecycle,
    nodes,
    queues,
    series,
    short_way,
    starting,
    taps,
    turns,
)
from echotally.engine.kernel.access import (
    World,
    account_at,
    call_at,
    cargo_at,
    clock_of,
    event_at,
    instance_at,
    n_calls,
    n_events,
    n_instances,
    n_nodes,
    n_sources,
    n_taps,
    node_at,
    source_at,
    tap_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.calendar import grows_long, put
from echotally.engine.kernel.chance import size_along, whole
from echotally.engine.kernel.compiled import kernel
from echotally.engine.layout import WIDE_BITS, WIDE_LOW


@kernel
def begin(w: World) -> None:
    """What is there at 0 s: taps, clients, floors, the first looks and the hours (rule 1.2)."""
    clock = clock_of(w)
    for p in range(n_taps(w)):
        _first_arrivals(w, p)
    beside.moves_on(w, clock.beside_at)
    for u in range(clock.units):
        unit = unit_at(w, u)
        if unit.plan_kind != RESERVED:
            # Floors take no token, and are ready at 0 s.
            for _ in range(min(unit.floor, unit.limit)):
                # A floor that finds no room on the nodes is not there (rule 7.33).
                if not nodes.fits(w, u):
                    break
                lifecycle.new_instance(w, u, ZERO, NO)
        if unit.plan_kind == POLLED:
            unit.target = unit.floor
            put(w, ZERO, LOOK, u, K_LOOK, u)
    put(w, clock.hour_ns, TICK, ZERO, K_TICK, ZERO)
    turns.arm(w)


@kernel
def _first_arrivals(w: World, p: int) -> None:
    """A tap's first event; of clients each one's, spread over one pause."""
    clock, tap = clock_of(w), tap_at(w, p)
    if tap.kind == TAP_CLIENTS:
        for k in range(tap.clients):
            put(w, whole(tap.think_scale * k / tap.clients), ARRIVE, p, K_CLIENT, p)
    elif tap.stretch_n > 0:
        coming = taps.next_arrival(w, p)
        if coming >= clock.horizon:
            return
        if p == clock.beside:
            clock.beside_at = coming
        elif p == clock.behind:
            clock.behind_at = coming
        else:
            put(w, coming, ARRIVE, p, K_TAP, p)


@kernel
def backlog(w: World, s: int, n: int, payload: int) -> int:
    """Lay up to ``n`` messages into queue ``s`` before anything leaves; returns how many fitted."""
    for k in range(n):
        if dispatch.low(w):
            return k
        clock_of(w).outside += 1
        queues.arrive(w, s, payload, NO)
    return n


@kernel
def lay(w: World, n: int) -> int:
    """Put up to ``n`` events into the lane the clock names, before anything starts; returns how many fitted.

    They have the sizes of what feeds the lane. Of their waits nothing is kept: ``engine.sampling`` knows their ages.
    """
    clock = clock_of(w)
    for k in range(n):
        if dispatch.low(w):
            return k
        payload = clock.lay_payload
        if clock.lay_tap >= 0:
            payload = taps.payload_of(w, clock.lay_tap)
        elif clock.lay_edge >= 0:
            payload = size_along(w, clock.lay_edge, clock.lay_stream)
        kinds.lay(w, payload)
    return n


@kernel
def hour_turns(w: World) -> None:
    """Note the age of the oldest event waiting and carry the levels into the next hour of the series."""
    clock = clock_of(w)
    # Ages belong to the hour that ends, levels to the one that begins.
    for u in range(clock.units):
        _age_noted(w, u)
    clock.hour = min(clock.hour + 1, clock.hours - 1)
    grows_long(w)
    for u in range(clock.units):
        unit = unit_at(w, u)
        series.put_down(w, u, IN_FLIGHT_PEAK, np.float64(unit.in_flight))
        series.put_down(w, u, COUNT_PEAK, np.float64(unit.count))
        series.put_down(w, u, BACKLOG_PEAK, np.float64(unit.waiting))


@kernel
def _age_noted(w: World, u: int) -> None:
    oldest = kinds.waiting_since(w, u)
    series.put_down(w, u, OLDEST_AGE, (clock_of(w).now - oldest) * 1e-9 if oldest < NEVER else 0.0)


@kernel
def flush(w: World) -> None:
    """Bring every integral over time up to this instant; doing it twice adds nothing."""
    clock = clock_of(w)
    for u in range(clock.units):
        # A change by nothing weighs what the level was until now.
        levels.in_flight_changes(w, u, ZERO)
        levels.instances_change(w, u, ZERO)
        levels.busy_changes(w, u, ZERO)
        if unit_at(w, u).stream_n > 0:
            lag.changes(w, u, unit_at(w, u).lag_oldest)
    for s in range(n_sources(w)):
        kinds.idle(w, s)
    for x in range(n_nodes(w)):
        node = node_at(w, x)
        if node.up == YES:
            nodes.was_up(account_at(w, node.account), clock.now - node.since)
            node.since = clock.now


@kernel
def finish(w: World) -> int:
    """The month's end: bill what is in flight, close every integral, count what is unfinished. Returns DONE or MORE_ROOM."""
    clock = clock_of(w)
    for c in range(n_calls(w)):
        if call_at(w, c).state == RUNNING and call_at(w, c).tap >= 0:
            if clock.events_left == 0 or clock.cargo_left == 0:
                return MORE_ROOM
            short_way.unfold(w, c)
    _bill_what_runs(w)
    _bill_what_lives(w)
    for e in range(n_events(w)):
        _left_over(w, e)
    flush(w)
    for u in range(clock_of(w).units):
        _age_noted(w, u)
    return DONE


@kernel
def _bill_what_runs(w: World) -> None:
    for c in range(n_calls(w)):
        call = call_at(w, c)
        if call.state >= COLD:
            own, unit = starting.charge(w, c, clock_of(w).now), unit_at(w, call.unit)
            unit.running_ns += own & WIDE_LOW
            unit.running_hi += own >> WIDE_BITS
            diary.carries_all(w, c)
            diary.noted(w, c, call.items, call.run_at, STILL_RUNNING)
            link = call.head
            while link >= 0:
                # Its run is in flight: unfinished, but not left behind (rule 7.38).
                event_at(w, cargo_at(w, link).event).hold = IN_FLIGHT
                link = cargo_at(w, link).next


@kernel
def _bill_what_lives(w: World) -> None:
    now = clock_of(w).now
    for i in range(n_instances(w)):
        instance = instance_at(w, i)
        # Reserved instances belong to no unit; they are billed by the month.
        if instance.state == ABSENT or instance.unit < 0:
            continue
        unit = unit_at(w, instance.unit)
        if instance.active_since >= 0 and unit.bills == ACTIVE:
            lifecycle.bill(unit, now - instance.active_since)
        lifecycle.lived(unit, now - instance.created)


@kernel
def _left_over(w: World, e: int) -> None:
    """An event that is still there ends as unfinished."""
    event = event_at(w, e)
    if event.state == GONE:
        return
    u = trigger_at(w, event.trigger).unit if event.trigger >= 0 else source_at(w, event.at_source).home
    if event.hold == IN_FLIGHT and u >= 0:
        unit_at(w, u).flying += event.items
    # Held, so that it is not given back while the pool is walked.
    event.refs += 1
    endings.ends(w, e, u, UNFINISHED)
