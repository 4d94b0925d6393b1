"""The switchboard of the kinds of source: the only place that compares kinds.

Each kind has a file with the same verbs: ``arrive`` (an event comes), ``handled`` (a run handled one), ``over`` (what a run left
over), ``throttle`` and ``try_again`` where it has them.
"""

from __future__ import annotations

from echotally.engine.codes import (
    ENDPOINT,
    L_FRESH,
    L_LINE,
    L_PARTS,
    L_VISIBLE,
    LAID,
    LAY_PARTITION,
    LAY_QUEUE,
    NEVER,
    NO,
    NONE,
    PER_CALL,
    QUEUE,
    STREAM,
    TOPIC,
    YES,
)
from echotally.engine.kernel import diary, pushed, queues, requests, streams, topics
from echotally.engine.kernel.access import (
    World,
    call_at,
    chain_at,
    clock_of,
    event_at,
    partition_at,
    source_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.compiled import hot, kernel, rare


@hot
def arrive(w: World, s: int, payload: int, tap: int) -> None:
    """One event arrives at source ``s`` now. ``tap`` is where it came from, NONE from inside the estate."""
    # Compared and not called through a table: machine code inlines the branch that is taken most.
    kind = source_at(w, s).kind
    if kind == QUEUE:
        queues.arrive(w, s, payload, YES)
    elif kind == STREAM:
        streams.arrive(w, s, payload)
    elif kind == TOPIC:
        topics.arrive(w, s, payload)
    elif kind == ENDPOINT:
        requests.arrive(w, s, payload, tap)
    else:
        pushed.arrive(w, s, payload, tap)


@kernel
def arrive_apart(w: World, s: int, payload: int, tap: int) -> None:
    """As ``arrive``, in machine code of its own: for ways few events take, where one more copy is only compile time."""
    arrive(w, s, payload, tap)


@hot
def next_batch(w: World, g: int, number: int) -> int:
    """Number of the oldest message that trigger ``g`` could take in a batch now, if it is below ``number``; else NEVER."""
    trigger = trigger_at(w, g)
    head = chain_at(w, trigger.visible_list).head if trigger.kind == QUEUE else NONE
    # Whether a batch may leave is asked last: it sets a timer where only time is missing.
    if head >= 0 and event_at(w, head).number < number and queues.can_leave(w, g):
        return event_at(w, head).number
    return NEVER


@kernel
def throttle(w: World, c: int) -> None:
    """A call that may not wait found no room. It is in no list."""
    if source_at(w, trigger_at(w, call_at(w, c).trigger).source).kind == ENDPOINT:
        requests.throttle(w, c)
    else:
        pushed.throttle(w, c)


@kernel
def try_again(w: World, c: int) -> None:
    """A pause is over: a failed run's, a throttled call's or a refused client's."""
    kind = source_at(w, trigger_at(w, call_at(w, c).trigger).source).kind
    if kind == STREAM:
        streams.waits_in_line(w, c)
    elif kind == ENDPOINT:
        requests.try_again(w, c)
    else:
        pushed.ask(w, c)


@hot
def handled(w: World, c: int, kind: int, e: int) -> None:
    """A run of call ``c`` handled its event ``e``."""
    # The trigger's kind, read once for the whole call.
    if kind == QUEUE:
        queues.handled(w, c, e)
    elif kind == STREAM:
        streams.handled(w, c, e)
    elif kind == ENDPOINT:
        requests.handled(w, c, e)
    else:
        pushed.handled(w, c, e)


@hot
def waits_for_more(w: World, g: int) -> bool:
    """Whether all that waits for the unit of trigger ``g`` waits for its batches to fill, so that a free slot starts nothing."""
    trigger = trigger_at(w, g)
    unit = unit_at(w, trigger.unit)
    # Records that may leave are listed, and what failed stands in line.
    return (
        trigger.kind == STREAM
        and unit.plan_kind == PER_CALL
        and unit.first_trigger == g
        and trigger.after < 0
        and chain_at(w, unit.lists + L_PARTS).head < 0
        and chain_at(w, unit.lists + L_LINE).head < 0
    )


@hot
def leaves_as_one(w: World, kind: int) -> bool:
    """Whether the cargo of a run that went well leaves its source as one: a stream's, if nobody wants to know of each."""
    return kind == STREAM and not diary.tells_of_events(w)


@hot
def all_handled(w: World, c: int) -> int:
    """A run of call ``c`` handled all of its cargo, which ``leaves_as_one``; returns how many events that were."""
    return streams.all_handled(w, c)


@hot
def is_answered(kind: int) -> bool:
    """Whether whoever sends to such a source waits for an answer."""
    return kind == ENDPOINT


@hot
def may_come_again(kind: int) -> bool:
    """Whether an event of such a source may be handled by another attempt while one runs (messages come back)."""
    return kind == QUEUE


@hot
def settle(w: World, c: int, kind: int, good: int, bad: int) -> None:
    """A run ended and its events are sorted out: ``good`` handled, ``bad`` still in the call."""
    if kind == QUEUE:
        queues.over(w, c, good)
    elif kind == STREAM:
        streams.over(w, c, bad)
    elif kind == ENDPOINT:
        requests.over(w, c, bad)
    else:
        pushed.over(w, c, bad)


@kernel
def waiting_since(w: World, u: int) -> int:
    """Arrival time of the oldest event waiting for a unit; NEVER if none."""
    unit = unit_at(w, u)
    oldest = NEVER
    for line in (unit.lists + L_LINE, unit.lists + L_FRESH):
        if chain_at(w, line).head >= 0:
            oldest = min(oldest, call_at(w, chain_at(w, line).head).arrived)
    g = unit.first_trigger
    while g >= 0:
        trigger = trigger_at(w, g)
        if trigger.kind == QUEUE and chain_at(w, trigger.visible_list).head >= 0:
            oldest = min(oldest, event_at(w, chain_at(w, trigger.visible_list).head).at)
        # Partitions whose batch is still filling are in no list.
        for p in range(trigger.first_partition, trigger.first_partition + trigger.partition_n):
            if partition_at(w, p).waiting > 0:
                oldest = min(oldest, event_at(w, partition_at(w, p).first).at)
        g = trigger.after
    return oldest


@kernel
def idle(w: World, s: int) -> None:
    """Bring the time in which nothing waits at a queue up to this instant; other kinds are not polled."""
    source, now = source_at(w, s), clock_of(w).now
    if source.kind == QUEUE and chain_at(w, source.lists + L_VISIBLE).length == 0:
        source.idle_ns += now - source.idle_since
        source.idle_since = now


@rare
def lay(w: World, payload: int) -> None:
    """Put an event into the lane the clock names (``engine.sampling``), before anything starts."""
    clock = clock_of(w)
    # The record it will get: once it has arrived it may be in any list.
    e = clock.free_event
    if clock.lay_kind == LAY_QUEUE:
        queues.arrive(w, clock.lay_ref, payload, NO)
        event_at(w, e).tap = LAID
    elif clock.lay_kind == LAY_PARTITION:
        g = partition_at(w, clock.lay_ref).trigger
        streams.copy_in(w, trigger_at(w, g).source, g, clock.lay_ref, payload)
        event_at(w, e).tap = LAID
    else:
        pushed.hand_over(w, trigger_at(w, clock.lay_ref).source, clock.lay_ref, payload, LAID)
