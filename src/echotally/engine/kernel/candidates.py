"""What a unit would start next: the oldest event of its lines, its partitions and the queues it reads (rule 4.1)."""

from __future__ import annotations

from echotally.engine.codes import L_FRESH, L_LINE, L_PARTS, NEVER, NONE, ZERO
from echotally.engine.kernel import kinds
from echotally.engine.kernel.access import World, call_at, chain_at, partition_at, trigger_at, unit_at
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import Lined

#: What a candidate is: nothing, a call of a line, a batch of a queue, a batch of a partition.
NOTHING, CALL, BATCH, PARTITION = range(4)


@hot
def candidate(w: World, u: int) -> tuple[int, int, int, int]:
    """What unit ``u`` would start next: (line, which, oldest event's number, batches in flight)."""
    unit = unit_at(w, u)
    line, which, number, tie = NOTHING, NONE, NEVER, ZERO
    # Marked because room came free, not because something waits.
    if unit.waiting == 0:
        return line, which, number, tie
    for chain in (unit.lists + L_LINE, unit.lists + L_FRESH):
        c = chain_at(w, chain).head
        if c >= 0 and call_at(w, c).number < number:
            line, which, number = CALL, c, call_at(w, c).number
    p = chain_at(w, unit.lists + L_PARTS).head
    if p >= 0 and partition_at(w, p).number < number:
        line, which, number = PARTITION, p, partition_at(w, p).number
    g = unit.first_trigger
    while g >= 0:
        oldest = kinds.next_batch(w, g, number)
        if oldest < NEVER:
            # Two triggers on one queue compete: of equals the one with fewer batches in flight takes it.
            line, which, number, tie = BATCH, g, oldest, trigger_at(w, g).in_flight
        g = trigger_at(w, g).after
    return line, which, number, tie


@kernel
def looked_up(w: World, u: int, row: Lined) -> bool:
    """Write what unit ``u`` would start next into a row; False where that is nothing."""
    row.line, row.which, row.number, row.tie = candidate(w, u)
    return row.line != NOTHING
