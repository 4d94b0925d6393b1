"""The lag of a unit's streams: the age of the oldest unhandled record at each instant (rule 7.19)."""

from __future__ import annotations

from echotally.engine.codes import NEVER
from echotally.engine.kernel.access import (
    World,
    chain_at,
    clock_of,
    event_at,
    lag_bin,
    oldest_at,
    partition_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.compiled import kernel
from echotally.engine.kernel.sketch import bin_of, bin_start
from echotally.engine.layout import WAIT_BINS


@kernel
def _rising(w: World, u: int, low: int, high: int) -> None:
    """Lag rose from ``low`` to ``high`` at one ns a ns: spread that time over the bins it passed.

    Only the two ends are touched: the second row counts rises that begin and end to pass bins whole, and is summed up when
    it is read (``engine.reading``), so that a rise over thousands of bins costs four additions.
    """
    first, last = bin_of(low), bin_of(high)
    row, whole_row = 2 * u * WAIT_BINS, (2 * u + 1) * WAIT_BINS
    # Most rises are short, and stay in one bin.
    if first == last:
        lag_bin(w, row + first).v += high - low
        return
    lag_bin(w, row + first).v += bin_start(first + 1) - low
    lag_bin(w, row + last).v += high - bin_start(last)
    lag_bin(w, whole_row + first + 1).v += 1
    lag_bin(w, whole_row + last).v -= 1


@kernel
def changes(w: World, u: int, oldest: int) -> None:
    """The oldest unhandled record of a unit's streams is now one that arrived at ``oldest`` (NEVER: none)."""
    unit, now = unit_at(w, u), clock_of(w).now
    if unit.lag_oldest >= NEVER:
        # Nothing was unhandled until now: that time has no bin of its own.
        unit.lag_zero += now - unit.lag_since
    elif now > unit.lag_since:
        _rising(w, u, unit.lag_since - unit.lag_oldest, now - unit.lag_oldest)
    if unit.lag_oldest < NEVER:
        unit.lag_max = max(unit.lag_max, now - unit.lag_oldest)
    unit.lag_since = now
    unit.lag_oldest = oldest


@kernel
def head_changes(w: World, p: int) -> None:
    """The oldest record of partition ``p`` is another one, or there is none any more.

    Each trigger of a stream has a tree with a leaf for each of its partitions: a node holds the earlier of its two, so that the
    root is the oldest of all, and a change goes up only as far as it is one.
    """
    partition = partition_at(w, p)
    trigger = trigger_at(w, partition.trigger)
    head = chain_at(w, partition.list).head
    # A partition is in the order of arrival, so its head is its oldest.
    oldest = event_at(w, head).at if head >= 0 else NEVER
    root, i = 2 * trigger.first_partition, trigger.partition_n + p - trigger.first_partition
    oldest_at(w, root + i).v = oldest
    while i > 1:
        oldest = min(oldest, oldest_at(w, root + (i ^ 1)).v)
        i >>= 1
        if oldest_at(w, root + i).v == oldest:
            return
        oldest_at(w, root + i).v = oldest


@kernel
def looked_at(w: World, u: int) -> None:
    """Find the oldest unhandled record over the unit's partitions and note the change, if any."""
    unit = unit_at(w, u)
    oldest = NEVER
    g = unit.first_trigger
    while g >= 0:
        trigger = trigger_at(w, g)
        if trigger.partition_n > 0:
            oldest = min(oldest, oldest_at(w, 2 * trigger.first_partition + 1).v)
        g = trigger.after
    if oldest != unit.lag_oldest:
        changes(w, u, oldest)
