"""How many partitions a stream has, and whether one of them is hot: from the bill, from spans that name them, or from the times of
its batches.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

from msgspec import Struct

#: How much more than an even share the busiest partition gets before it is called hot.
_HOT = 1.25
#: And by how many standard deviations of a share by lot.
_SURE = 5.0


class Partitions(Struct, frozen=True):
    """Partitions of a stream: how many, the share of events in the busiest (None: even), and what that rests on.

    ``sure``: there are no more than these; ``guess``: it is only what the times of batches agree with; ``open``: spans name one
    alone, as some exporters do whatever there is, and the times of batches have the last word.
    """

    n: int
    skew: float | None
    evidence: str
    sure: bool = True
    guess: bool = False
    open: bool = False


def told(events: Sequence[float], batches: int, billed: int) -> Partitions | None:
    """From the bill's partition-hours first (``billed``, 0: none) and else from the partitions that spans name: ``events`` by each,
    the busiest first, in ``batches``. None where neither tells.
    """
    if billed:
        return Partitions(billed, _skew(events, batches, billed), "stream_partition_hours on the bill")
    if not events:
        return None
    n = len(events)
    # Of n dealt out by lot all have been seen after n ln n, on average (the collector's problem); thrice that is sure enough.
    sure = batches >= 3 * n * (math.log(n) + 1)
    return Partitions(n, _skew(events, batches, n), "as its spans name", sure, open=n == 1)


def _skew(events: Sequence[float], batches: int, n: int) -> float | None:
    """The share of events in the busiest of ``n`` partitions, where it is plainly more than an even one."""
    total = sum(events)
    # One name alone may be no name: some exporters write the same one always.
    if n < 2 or len(events) < 2 or total <= 0:
        return None
    share, even = events[0] / total, 1 / n
    # Whole batches fall to a partition: their number is what chance has to go by.
    chance = math.sqrt(even * (1 - even) / max(1, batches))
    return share if share > _HOT * even and share - even > _SURE * chance else None


def guessed(n: int) -> Partitions:
    """From the times of batches: of two from one partition the second leaves the wait after the first, or later."""
    return Partitions(n, None, "with fewer its batches would leave later after one another", sure=False, guess=True)
