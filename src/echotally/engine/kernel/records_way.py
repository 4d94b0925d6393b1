"""The way of most records: one comes to a stream and waits there while nothing else goes on, and leaves in a batch that is alone."""

from __future__ import annotations

from echotally.engine.codes import L_LINE, L_PARTS, NO, ZERO
from echotally.engine.kernel import beside, diary, dispatch, placing, starting, streams, taps
from echotally.engine.kernel.access import (
    World,
    chain_at,
    clock_of,
    event_at,
    partition_at,
    tap_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.compiled import hot, kernel


@kernel
def played(w: World, most: int) -> int:
    """Play up to ``most`` records of the tap beside the calendar, the first of which comes next; returns how many that were.

    As many as come one after the other: until something can start or is due before the next one.
    """
    clock, p = clock_of(w), clock_of(w).beside
    over, source = min(clock.until, clock.horizon), tap_at(w, p).source
    n = ZERO
    while True:
        n += 1
        clock.now = clock.beside_at
        payload = taps.payload_of(w, p)
        beside.moves_on(w, taps.next_arrival(w, p))
        diary.from_outside(w, source, p)
        streams.arrives(w, source, payload)
        if n >= most or clock.beside != p or clock.beside_at >= over or clock.marked_n > 0:
            break
        if not beside.comes_first(w) or dispatch.low(w):
            break
    clock.steps += n
    return n


@kernel
def waited_enough(w: World, p: int) -> None:
    """The oldest record of partition ``p`` has waited for others as long as it may: its batch leaves, if nothing is in the way.

    What ``dispatch`` would do, without lists, where nothing else goes on and the unit has a warm instance for it: the usual case.
    """
    i = placing.warm_for(w, trigger_at(w, partition_at(w, p).trigger).unit)
    if i >= 0 and _alone(w, p):
        starting.start(w, streams.take_batch(w, p), i)
    else:
        streams.refresh(w, p)


@hot
def _alone(w: World, p: int) -> bool:
    """Whether a batch of partition ``p`` may leave, and nothing else has to do with this instant or waits for its unit."""
    clock, partition = clock_of(w), partition_at(w, p)
    trigger = trigger_at(w, partition.trigger)
    unit = unit_at(w, trigger.unit)
    return (
        partition.waiting > 0
        and partition.failing == 0
        and partition.in_flight < trigger.readers
        and partition.listed == NO
        and event_at(w, partition.first).at + trigger.batch_wait <= clock.now
        and clock.marked_n == 0
        and clock.expected_n == 0
        and beside.next_at(w) > clock.now
        # Other lines of the unit, and other sources.
        and chain_at(w, unit.lists + L_PARTS).head < 0
        and chain_at(w, unit.lists + L_LINE).head < 0
        and unit.first_trigger == partition.trigger
        and trigger.after < 0
    )
