"""Streams: ordered partitions, one copy of the record per trigger, batches repeated in place (rule 4.6)."""

from __future__ import annotations

from echotally.engine.codes import (
    ARRIVALS,
    CARRIED,
    EXPIRE,
    EXPIRED,
    GONE,
    K_EXPIRE_BATCH,
    K_EXPIRE_PARTITION,
    K_WAKE_PART,
    L_LINE,
    L_PARTS,
    NEVER,
    NO,
    NONE,
    OTHERS,
    POLLED,
    TOO_LARGE,
    VISIBLE,
    WAITING,
    WAKE,
    YES,
    ZERO,
)
from echotally.engine.kernel import endings, lag, lists, marking, pools, series
from echotally.engine.kernel.access import (
    World,
    call_at,
    cargo_at,
    clock_of,
    event_at,
    partition_at,
    source_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.chance import uniform
from echotally.engine.kernel.compiled import hot, kernel


@kernel
def arrive(w: World, s: int, payload: int) -> None:
    """As ``arrives``, in machine code of its own."""
    arrives(w, s, payload)


@hot
def arrives(w: World, s: int, payload: int) -> None:
    """A record arrives: each trigger of the stream gets a copy in the same partition."""
    source = source_at(w, s)
    source.sends += 1
    place = _partition(w, s)
    # Mostly one: counted by hand, a range's own arithmetic takes longer than all else here.
    g, end = source.first_trigger, source.first_trigger + source.trigger_n
    while g < end:
        copy_in(w, s, g, trigger_at(w, g).first_partition + place, payload)
        g += 1


@kernel
def _partition(w: World, s: int) -> int:
    """In turn, or by lot where the first partition gets ``skew`` and the others share the rest."""
    source = source_at(w, s)
    if source.skew < 0.0 or source.partitions == 1:
        place = source.turn
        # Compared and not divided, which takes as long as all the rest.
        source.turn = place + 1 if place + 1 < source.partitions else ZERO
        return place
    u = uniform(w, source.random)
    if u < source.skew:
        return 0
    # The rest of the unit interval is spread over the other partitions; rounding must not lead past the last.
    return 1 + min(source.partitions - 2, int((u - source.skew) / (1.0 - source.skew) * (source.partitions - 1)))


@hot
def copy_in(w: World, s: int, g: int, p: int, payload: int) -> None:
    """A copy of a record for trigger ``g``, at the end of its partition ``p``."""
    u = trigger_at(w, g).unit
    unit, partition = unit_at(w, u), partition_at(w, p)
    series.add(w, u, ARRIVALS, 1)
    if partition.full == YES:
        # Kept full by a sampled month, as a queue may be.
        partition.arrived += 1
        partition.dropped += 1
        source_at(w, s).arrived += 1
        clock_of(w).number += 1
        return
    e = pools.new_event(w, s, payload)
    event = event_at(w, e)
    event.trigger = g
    if unit.payload_limit >= 0 and payload > unit.payload_limit:
        endings.ends(w, e, u, TOO_LARGE)
        return
    partition.arrived += 1
    event.state = VISIBLE
    # A partition is one list; ``first`` is where what waits begins, before it stands what is carried.
    lists.append(w, event_at, partition.list, e)
    partition.waiting += 1
    unit.waiting += 1
    if partition.first < 0:
        partition.first = e
        _first_to_wait(w, p)
    elif partition.waiting == trigger_at(w, g).batch or partition.listed == YES:
        refresh(w, p)
    if unit.marked == NO:
        # Nothing can leave, so nobody will look at the unit at this instant.
        series.backlog_seen(w, u)
    if unit.plan_kind == POLLED and unit.look_armed == NO:
        # Nothing can leave yet, but scaling must look at what waits.
        marking.mark(w, u)


@kernel
def _first_to_wait(w: World, p: int) -> None:
    """A record waits in partition ``p`` where none did: what hangs on its oldest begins. Younger ones change nothing of it."""
    partition = partition_at(w, p)
    trigger, event = trigger_at(w, partition.trigger), event_at(w, partition.first)
    if event.prev < 0:
        lag.head_changes(w, p)
    # It is the oldest unhandled record from now on.
    if unit_at(w, trigger.unit).lag_oldest >= NEVER:
        lag.changes(w, trigger.unit, clock_of(w).now)
    # One timer a partition, for its oldest waiting record.
    if partition.timer >= NEVER:
        partition.timer = event.at + source_at(w, trigger.source).retention
        put(w, partition.timer, EXPIRE, OTHERS + p, K_EXPIRE_PARTITION, p)
    refresh(w, p)


@hot
def refresh(w: World, p: int) -> None:
    """Put the partition into, or take it out of, the unit's list of partitions with a batch to go."""
    # After most batches it is empty, and has been taken out.
    if partition_at(w, p).waiting > 0 or partition_at(w, p).listed == YES:
        _listed_anew(w, p)


@kernel
def _listed_anew(w: World, p: int) -> None:
    partition = partition_at(w, p)
    trigger = trigger_at(w, partition.trigger)
    now = clock_of(w).now
    chain = unit_at(w, trigger.unit).lists + L_PARTS
    willing = partition.waiting > 0 and partition.failing == 0 and partition.in_flight < trigger.readers
    # Not full yet: it leaves when its oldest record has waited long enough.
    if willing and partition.waiting < trigger.batch:
        due = event_at(w, partition.first).at + trigger.batch_wait
        if due > now:
            willing = False
            if partition.wake_timer != due:
                partition.wake_timer = due
                put(w, due, WAKE, OTHERS + p, K_WAKE_PART, p)
    # Its place in line is by its oldest record: another oldest means another place.
    if partition.listed == YES and not (willing and partition.number == event_at(w, partition.first).number):
        lists.remove(w, partition_at, chain, p)
        partition.listed = 0
    if willing and partition.listed == 0:
        partition.listed = YES
        partition.number = event_at(w, partition.first).number
        lists.insert(w, partition_at, chain, p)
    if willing:
        marking.mark(w, trigger.unit)


@kernel
def take_batch(w: World, p: int) -> int:
    """The oldest waiting records of a partition, up to a batch and the payload limit, as a call."""
    partition = partition_at(w, p)
    trigger = trigger_at(w, partition.trigger)
    unit = unit_at(w, trigger.unit)
    c = pools.new_call(w, partition.trigger, event_at(w, partition.first).number)
    call_at(w, c).partition = p
    e = partition.first
    while e >= 0 and call_at(w, c).events < trigger.batch:
        # A single record too large for a batch was never taken in, so one always fits.
        if (
            call_at(w, c).events > 0
            and unit.payload_limit >= 0
            and call_at(w, c).payload + event_at(w, e).payload > unit.payload_limit
        ):
            break
        event_at(w, e).state = CARRIED
        pools.load_event(w, c, e)
        e = event_at(w, e).next
    partition.first = e
    partition.waiting -= call_at(w, c).events
    unit.waiting -= call_at(w, c).events
    partition.in_flight += 1
    # More may leave at once, if it has readers left.
    refresh(w, p)
    return c


@kernel
def _taken_out(w: World, p: int, e: int) -> None:
    """Record ``e`` needs no more handling: out of the partition, and look at the lag."""
    u = trigger_at(w, partition_at(w, p).trigger).unit
    was_head = event_at(w, e).prev < 0
    lists.remove(w, event_at, partition_at(w, p).list, e)
    if was_head:
        lag.head_changes(w, p)
    # Only the oldest record's going changes the lag.
    if event_at(w, e).at <= unit_at(w, u).lag_oldest:
        lag.looked_at(w, u)


@hot
def handled(w: World, c: int, e: int) -> None:
    """A run handled record ``e``; once all of the batch are settled, ``over`` looks at the lag."""
    call = call_at(w, c)
    lists.remove(w, event_at, partition_at(w, call.partition).list, e)
    endings.handled(w, e, call.unit, call.run_at - event_at(w, e).at)


@kernel
def all_handled(w: World, c: int) -> int:
    """A run handled all records of batch ``c``, and nobody watches; returns how many.

    The same as one by one: they stand in their partition one behind the other, as they were taken, and so leave it as one.
    """
    clock, call = clock_of(w), call_at(w, c)
    u, n, items, link, last = call.unit, call.events, call.items, call.head, NONE
    while link >= 0:
        last = cargo_at(w, link).event
        event = event_at(w, last)
        endings.waited(w, last, u, call.run_at - event.at)
        event.state = GONE
        event.refs = 0
        link = cargo_at(w, link).next
    first = cargo_at(w, call.head).event
    lists.remove_run(w, event_at, partition_at(w, call.partition).list, first, last, n)
    pools.free_all(w, c, first, last)
    unit_at(w, u).handled += items
    source = source_at(w, trigger_at(w, call.trigger).source)
    clock.ended += n
    source.ended += n
    source.ended_at = clock.now
    return items


@kernel
def over(w: World, c: int, bad: int) -> None:
    """The run of a batch ended: the partition goes on, or the batch is repeated."""
    p = call_at(w, c).partition
    # Once a batch: what was the oldest record between two of an instant weighs nothing.
    lag.head_changes(w, p)
    lag.looked_at(w, trigger_at(w, partition_at(w, p).trigger).unit)
    if bad > 0:
        _failed(w, c)
    else:
        _batch_over(w, c)


@hot
def _batch_over(w: World, c: int) -> None:
    """All of a batch is settled: the partition goes on."""
    call = call_at(w, c)
    p = call.partition
    partition = partition_at(w, p)
    partition.in_flight -= 1
    # It had failed and blocked the partition until now.
    if call.tries > 0:
        partition.failing -= 1
    pools.free_call(w, c)
    refresh(w, p)


@kernel
def _failed(w: World, c: int) -> None:
    """A batch failed: too old records expire, tries may run out, else it is repeated at once."""
    call = call_at(w, c)
    p = call.partition
    partition = partition_at(w, p)
    trigger = trigger_at(w, call.trigger)
    u = trigger.unit
    call.tries += 1
    # Later batches in flight end, and none leaves until this one is over (rule 7.18).
    if call.tries == 1:
        partition.failing += 1
    out_of_tries = trigger.tries > 0 and call.tries >= trigger.tries
    _sort_out(w, c, out_of_tries)
    if call.events == 0:
        _batch_over(w, c)
        return
    # Before it stands in line again: nothing of the partition may leave in front of it.
    refresh(w, p)
    unit_at(w, u).waiting += call.items
    waits_in_line(w, c)
    _expires_later(w, c)


@kernel
def waits_in_line(w: World, c: int) -> None:
    """Call ``c`` joins its unit's line, oldest event first; its events count as waiting already."""
    call = call_at(w, c)
    call.state = WAITING
    call.list = L_LINE
    lists.insert(w, call_at, unit_at(w, call.unit).lists + L_LINE, c)
    marking.mark(w, call.unit)


@kernel
def _sort_out(w: World, c: int, out_of_tries: int) -> None:
    """Take out of a failed batch the records that are too old, or all of them where its tries are used up."""
    call = call_at(w, c)
    over = clock_of(w).now - source_at(w, trigger_at(w, call.trigger).source).retention
    before, link = -1, call.head
    while link >= 0:
        after, e = cargo_at(w, link).next, cargo_at(w, link).event
        if out_of_tries or event_at(w, e).at <= over:
            _taken_out(w, call.partition, e)
            if out_of_tries:
                endings.given_up(w, e, call.unit, call.trigger)
            else:
                endings.ends(w, e, call.unit, EXPIRED)
            pools.unload(w, c, before, link)
        else:
            before = link
        link = after


@kernel
def _expires_later(w: World, c: int) -> None:
    """A failed batch waits for room: look again when its oldest record outlives the retention."""
    call = call_at(w, c)
    due = event_at(w, cargo_at(w, call.head).event).at + source_at(w, trigger_at(w, call.trigger).source).retention
    # One entry a record: a batch that fails many times a second must not fill the calendar.
    if call.timer != due:
        call.timer = due
        put(w, due, EXPIRE, call.number, K_EXPIRE_BATCH, c)


@kernel
def expire_batch(w: World, c: int, number: int) -> None:
    """Records of a failed batch that still waits for room outlived the retention (rule 7.30)."""
    call = call_at(w, c)
    # The record may belong to another call by now: its number tells.
    if call.number != number or call.state != WAITING or call.partition < 0:
        return
    unit = unit_at(w, call.unit)
    # Taken off as a whole and put back with what is left.
    unit.waiting -= call.items
    _sort_out(w, c, False)
    if call.events == 0:
        lists.remove(w, call_at, unit.lists + L_LINE, c)
        _batch_over(w, c)
        return
    unit.waiting += call.items
    _expires_later(w, c)


@kernel
def expire(w: World, p: int) -> None:
    """Waiting records that outlived the retention go."""
    partition, now = partition_at(w, p), clock_of(w).now
    trigger = trigger_at(w, partition.trigger)
    retention = source_at(w, trigger.source).retention
    while partition.first >= 0 and event_at(w, partition.first).at + retention <= now:
        e = partition.first
        partition.first = event_at(w, e).next
        partition.waiting -= 1
        unit_at(w, trigger.unit).waiting -= 1
        _taken_out(w, p, e)
        endings.ends(w, e, trigger.unit, EXPIRED)
    partition.timer = NEVER
    if partition.first >= 0:
        partition.timer = event_at(w, partition.first).at + retention
        put(w, partition.timer, EXPIRE, OTHERS + p, K_EXPIRE_PARTITION, p)
    refresh(w, p)
