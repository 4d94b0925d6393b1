"""How events are gathered into batches: the largest batch, and how long a batch waits to fill.

While a batch waits ``w`` after its first event, events come at the rate of that hour: it holds 1 + Poisson(rate x w) of them
where it is not full. So w is the sum of what came along, over the sum of the rates at which it came (maximum likelihood).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from echotally.evidence.fit.estimates import Estimate
from echotally.evidence.survey.tables import Sampled

_Z = 1.959963984540054
#: Gaps shorter than most of the wait, as a share of those that chance would leave, up to which batches are made by waiting.
_SHORT_GAPS = 0.75


@dataclass(frozen=True)
class Batching:
    """The largest batch seen, how many were that large, the wait for a batch to fill (s), where there is one, and their mean size."""

    batch: int
    full: int
    wait_s: Estimate | None
    mean: float = 1.0


def batching_of(sample: Sampled, rate: NDArray[np.float64], partitions: int) -> Batching:
    """``rate``: events a second when each attempt of the sample started."""
    ran = sample.outcome != "throttled"
    events, at, rate = sample.events[ran], sample.t[ran], rate[ran]
    largest = int(events.max(initial=1))
    full = int(np.sum(events >= largest))
    if largest == 1:
        return Batching(1, full, None)
    # The largest of a few open batches is full only if it comes again and again.
    capped = full >= max(3, 0.01 * len(events))
    part = events < largest if capped else np.ones(len(events), bool)
    if part.sum() < 20:
        return Batching(largest, full, None, float(events.mean()))
    along, exposure = float(np.sum(events[part] - 1)), float(np.sum(rate[part]))
    if exposure <= 0 or along <= 0:
        return Batching(largest, full, None, float(events.mean()))
    # Events are dealt out to partitions in turn, which makes those of one more regular than chance: of the renewals of such a
    # process a wait sees (p - 1) / 2p fewer (Cox, "Renewal Theory", 1962, 4.2).
    along += float(part.sum()) * (partitions - 1) / (2 * partitions)
    each = along / exposure
    if sample.every == 1 and partitions == 1 and not _waits(at, rate, each):
        return Batching(largest, full, None, float(events.mean()))
    half = _Z * math.sqrt(along) / exposure
    wait = Estimate(each * partitions, max(0.0, (each - half) * partitions), (each + half) * partitions)
    return Batching(largest, full, _near(wait) if wait.value > 0.05 else None, float(events.mean()))


def _waits(at: NDArray[np.float64], rate: NDArray[np.float64], each: float) -> bool:
    """Whether batches are made by waiting: then hardly one leaves sooner after the one before than the wait.

    Without a wait (events that come together) as many do as chance would have it.
    """
    order = np.argsort(at)
    free = float(np.sum(1 - np.exp(-rate[order][1:] * 0.8 * each)))
    sooner = float(np.sum(np.diff(at[order]) < 0.8 * each))
    return free > 5 and sooner < _SHORT_GAPS * free


def _near(wait: Estimate) -> Estimate:
    """The plain number that lies in the interval, if one does: people set waits of 2 minutes, not of 119.3 s."""
    for value in (0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 20, 30, 45, 60, 90, 120, 180, 240, 300, 600, 900):
        if wait.low <= value <= wait.high and wait.high - wait.low < 0.5 * value:
            return Estimate(float(value), wait.low, wait.high)
    return wait
