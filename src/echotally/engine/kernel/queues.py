"""Queues: messages wait, are taken in batches, come back, expire, go to the dead letter (rule 4.4)."""

from __future__ import annotations

from echotally.engine.codes import (
    ARRIVALS,
    DEAD_LETTERED,
    DELAYED,
    DOWN,
    DUE,
    EXPIRE,
    EXPIRED,
    GONE,
    INVISIBLE,
    K_DELAY_OVER,
    K_EXPIRE_QUEUE,
    K_READER,
    K_VISIBLE,
    K_WAKE,
    L_DELAYED,
    L_INVISIBLE,
    L_VISIBLE,
    NEVER,
    NO,
    OTHERS,
    SEEN_AGAIN,
    TOO_LARGE,
    UP,
    VISIBLE,
    WAKE,
    YES,
)
from echotally.engine.kernel import diary, endings, lists, marking, pools, series, singles
from echotally.engine.kernel.access import (
    World,
    call_at,
    cargo_at,
    chain_at,
    clock_of,
    event_at,
    source_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.compiled import kernel

_PAUSE_NS = 1_000_000_000


@kernel
def arrive(w: World, s: int, payload: int, sent: int) -> None:
    """A message arrives at queue ``s``; ``sent`` NO for what was there when the month began."""
    source, clock = source_at(w, s), clock_of(w)
    source.sends += sent
    if source.home >= 0:
        series.add(w, source.home, ARRIVALS, 1)
    if source.full == YES and sent == YES:
        # A lane that a sampled month keeps full: what comes is counted, and would only stand behind what is laid.
        source.arrived += 1
        clock.number += 1
        return
    e = pools.new_event(w, s, payload)
    if source.payload_limit >= 0 and payload > source.payload_limit:
        endings.ends(w, e, source.home, TOO_LARGE)
        return
    # A delay does not apply to what was there when the month began (rule 7.32).
    if source.delay > 0 and sent == YES:
        event_at(w, e).state = DELAYED
        event_at(w, e).due = clock.now + source.delay
        lists.append(w, event_at, source.lists + L_DELAYED, e)
        if source.delay_timer >= NEVER:
            source.delay_timer = event_at(w, e).due
            put(w, source.delay_timer, DUE, s, K_DELAY_OVER, s)
    else:
        _show(w, s, e)


@kernel
def _show(w: World, s: int, e: int) -> None:
    """Message ``e`` waits where readers can see it."""
    source, now = source_at(w, s), clock_of(w).now
    event = event_at(w, e)
    event.state = VISIBLE
    event.seen = now
    chain = source.lists + L_VISIBLE
    # Polls find something from now on.
    if chain_at(w, chain).length == 0:
        source.idle_ns += now - source.idle_since
    lists.insert(w, event_at, chain, e)
    _count_waiting(w, s, UP)
    # A message that comes back after its retention expires at this same instant, before anybody takes it.
    over = max(event.at + source.retention, now)
    if over < source.expire_timer:
        source.expire_timer = over
        put(w, over, EXPIRE, s, K_EXPIRE_QUEUE, s)


@kernel
def _hide(w: World, s: int, e: int) -> None:
    source = source_at(w, s)
    chain = source.lists + L_VISIBLE
    first = chain_at(w, chain).head == e
    lists.remove(w, event_at, chain, e)
    _count_waiting(w, s, DOWN)
    head = chain_at(w, chain).head
    if head < 0:
        # Polls find nothing from now on.
        source.idle_since = clock_of(w).now
    elif first and event_at(w, head).seen < event_at(w, e).seen:
        _ripens(w, s)


@kernel
def _ripens(w: World, s: int) -> None:
    """The oldest message is now one that has been visible for longer: a batch may be due for whoever reads the queue.

    A message that came back stands before younger ones that waited all the while, so the timers of their readers were set by it.
    """
    source = source_at(w, s)
    for g in range(source.first_trigger, source.first_trigger + source.trigger_n):
        u = trigger_at(w, g).unit
        if unit_at(w, u).marked == YES:
            clock_of(w).line_up = YES
        marking.mark(w, u)


@kernel
def _count_waiting(w: World, s: int, by: int) -> None:
    source = source_at(w, s)
    # Every trigger of a queue sees every message: they compete.
    for g in range(source.first_trigger, source.first_trigger + source.trigger_n):
        u = trigger_at(w, g).unit
        unit_at(w, u).waiting += by
        if by > 0:
            marking.mark(w, u)


@kernel
def delay_over(w: World, s: int) -> None:
    """The delay of the oldest messages is over."""
    source, now = source_at(w, s), clock_of(w).now
    chain = source.lists + L_DELAYED
    while chain_at(w, chain).head >= 0 and event_at(w, chain_at(w, chain).head).due <= now:
        e = chain_at(w, chain).head
        lists.remove(w, event_at, chain, e)
        _show(w, s, e)
    source.delay_timer = NEVER
    if chain_at(w, chain).head >= 0:
        source.delay_timer = event_at(w, chain_at(w, chain).head).due
        put(w, source.delay_timer, DUE, s, K_DELAY_OVER, s)


@kernel
def visibility_over(w: World, s: int) -> None:
    """Messages received ``visibility`` ago and not deleted come back, or go to the dead letter."""
    source, now = source_at(w, s), clock_of(w).now
    chain = source.lists + L_INVISIBLE
    e = chain_at(w, chain).head
    # One message an entry: the timer comes back at this instant for the next, so that room can grow between.
    if e >= 0 and event_at(w, e).due <= now:
        _let_go(w, s, e)
        # Receipts count, not failures: what was received often and never deleted is given up.
        if source.dead_letter >= 0 and event_at(w, e).receipts >= source.tries:
            pools.expect(w, source.dead_letter, event_at(w, e).payload)
            trigger_at(w, event_at(w, e).trigger).letters += 1
            endings.ends(w, e, trigger_at(w, event_at(w, e).trigger).unit, DEAD_LETTERED)
        else:
            _show(w, s, e)
            diary.comes_back(w, e, trigger_at(w, event_at(w, e).trigger).unit, SEEN_AGAIN, now)
    source.visibility_timer = NEVER
    _arm_visibility(w, s)


@kernel
def _arm_visibility(w: World, s: int) -> None:
    source = source_at(w, s)
    head = chain_at(w, source.lists + L_INVISIBLE).head
    if source.visibility_timer >= NEVER and head >= 0:
        source.visibility_timer = event_at(w, head).due
        put(w, source.visibility_timer, DUE, OTHERS + s, K_VISIBLE, s)


@kernel
def _let_go(w: World, s: int, e: int) -> None:
    """Take ``e`` off the invisible list; in strict order, its batch's place may come free with it."""
    source = source_at(w, s)
    lists.remove(w, event_at, source.lists + L_INVISIBLE, e)
    if event_at(w, e).hold == YES:
        event_at(w, e).hold = NO
        source.held -= 1
        _mark_readers(w, s)


@kernel
def _mark_readers(w: World, s: int) -> None:
    source = source_at(w, s)
    if chain_at(w, source.lists + L_VISIBLE).length > 0:
        for g in range(source.first_trigger, source.first_trigger + source.trigger_n):
            marking.mark(w, trigger_at(w, g).unit)


@kernel
def expire(w: World, s: int) -> None:
    """Waiting messages that outlived the retention go."""
    source, now = source_at(w, s), clock_of(w).now
    if source.expire_timer > now:
        return
    chain = source.lists + L_VISIBLE
    while chain_at(w, chain).head >= 0 and event_at(w, chain_at(w, chain).head).at + source.retention <= now:
        e = chain_at(w, chain).head
        _hide(w, s, e)
        last = event_at(w, e).trigger
        endings.ends(w, e, trigger_at(w, last).unit if last >= 0 else source.home, EXPIRED)
    source.expire_timer = NEVER
    if chain_at(w, chain).head >= 0:
        source.expire_timer = event_at(w, chain_at(w, chain).head).at + source.retention
        put(w, source.expire_timer, EXPIRE, s, K_EXPIRE_QUEUE, s)


@kernel
def can_leave(w: World, g: int) -> bool:
    """Whether a batch may leave to trigger ``g`` now, room aside; if only time is missing, look again then."""
    trigger = trigger_at(w, g)
    source = source_at(w, trigger.source)
    chain = chain_at(w, source.lists + L_VISIBLE)
    if (
        chain.length == 0
        or trigger.in_flight >= trigger.readers
        or (source.fifo == YES and source.held >= source.groups)
    ):
        return False
    # By number of messages; the payload limit may make the batch smaller.
    if chain.length >= trigger.batch:
        return True
    due = event_at(w, chain.head).seen + trigger.batch_wait
    if due <= clock_of(w).now:
        return True
    if trigger.wake_timer != due:
        trigger.wake_timer = due
        put(w, due, WAKE, trigger.unit, K_WAKE, trigger.unit)
    return False


@kernel
def take_batch(w: World, g: int) -> int:
    """The oldest messages, up to a batch and what the plan's payload limit holds, as a call."""
    trigger, now = trigger_at(w, g), clock_of(w).now
    source = source_at(w, trigger.source)
    chain = source.lists + L_VISIBLE
    c = pools.new_call(w, g, event_at(w, chain_at(w, chain).head).number)
    while chain_at(w, chain).head >= 0 and call_at(w, c).events < trigger.batch:
        e = chain_at(w, chain).head
        event = event_at(w, e)
        if (
            call_at(w, c).events > 0
            and source.payload_limit >= 0
            and call_at(w, c).payload + event.payload > source.payload_limit
        ):
            break
        _hide(w, trigger.source, e)
        event.state = INVISIBLE
        event.due = now + source.visibility
        event.receipts += 1
        # Whoever receives it last is whose event it is (rule 7.1).
        event.trigger = g
        lists.append(w, event_at, source.lists + L_INVISIBLE, e)
        pools.load_event(w, c, e)
    source.receives += 1
    trigger.in_flight += 1
    if source.fifo == YES:
        source.held += 1
    call_at(w, c).arrived = now
    _arm_visibility(w, trigger.source)
    return c


@kernel
def handled(w: World, c: int, e: int) -> None:
    """A run handled message ``e``: delete it wherever it is; handled before, it is a duplicate."""
    call, event = call_at(w, c), event_at(w, e)
    s = trigger_at(w, call.trigger).source
    if event.state == GONE:
        if event.handled == YES:
            unit_at(w, call.unit).duplicates += 1
        return
    # It came back while the run went on, and is deleted before anybody takes it again.
    if event.state == VISIBLE:
        _hide(w, s, e)
    elif event.state == INVISIBLE:
        _let_go(w, s, e)
    endings.handled(w, e, trigger_at(w, event.trigger).unit, call.run_at - event.at)


@kernel
def over(w: World, c: int, good: int) -> None:
    """The run of a batch ended: its reader is free, its messages deleted or left to come back."""
    call = call_at(w, c)
    trigger = trigger_at(w, call.trigger)
    source = source_at(w, trigger.source)
    # One delete for the batch, if anything of it was handled (rule 7.14).
    if good > 0:
        source.deletes += 1
    trigger.in_flight -= 1
    if source.fifo == YES:
        _free_place(w, c)
    marking.mark(w, call.unit)
    pools.free_call(w, c)


@kernel
def _free_place(w: World, c: int) -> None:
    """Strict order: the batch keeps its place until its failed messages have come back."""
    call = call_at(w, c)
    source = source_at(w, trigger_at(w, call.trigger).source)
    link, holder = call.head, -1
    while link >= 0:
        e = cargo_at(w, link).event
        # Its own receipt, not a later one of the same message.
        if event_at(w, e).state == INVISIBLE and event_at(w, e).due == call.arrived + source.visibility:
            holder = e
        link = cargo_at(w, link).next
    if holder >= 0:
        event_at(w, holder).hold = YES
    else:
        source.held -= 1


@kernel
def refused_batch(w: World, c: int) -> None:
    """An eager reader took a batch that found no room: a throttled attempt, and the reader pauses 1 s (rule 4.4)."""
    call = call_at(w, c)
    singles.counted_as_throttled(w, c)
    put(w, clock_of(w).now + _PAUSE_NS, DUE, call.number, K_READER, call.trigger)
    if source_at(w, trigger_at(w, call.trigger).source).fifo == YES:
        _free_place(w, c)
    pools.free_call(w, c)


@kernel
def reader_back(w: World, g: int) -> None:
    """An eager reader's pause is over."""
    trigger_at(w, g).in_flight -= 1
    marking.mark(w, trigger_at(w, g).unit)
