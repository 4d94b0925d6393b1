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
    if sample.every == 1 and partitions == 1 and not _waits(at, rate / float(events.mean()), along / exposure):
        return Batching(largest, full, None, float(events.mean()))
    each = _wait_of(along, rate[part], partitions)
    half = _Z * each / math.sqrt(along)
    wait = Estimate(each, max(0.0, each - half), each + half)
    return Batching(largest, full, _near(wait) if wait.value > 0.05 else None, float(events.mean()))


def _wait_of(along: float, rate: NDArray[np.float64], partitions: int) -> float:
    """The wait, s, in which so many events come along, at these rates of all partitions together.

    Events are dealt out to partitions in turn, which makes those of one more regular than chance: the k-th after the first is
    the (k p)-th of a Poisson process, so that a wait w sees the sum over k of P(N(rate w) >= k p) (Cox, "Renewal Theory", 1962).
    """
    if partitions == 1:
        return along / float(rate.sum())
    from scipy.optimize import brentq
    from scipy.special import gammainc

    edges = np.quantile(rate, np.linspace(0, 1, 33))
    place = np.clip(np.searchsorted(edges, rate, "right") - 1, 0, 31)
    many = np.bincount(place, minlength=32).astype(float)
    mean = np.bincount(place, rate, 32) / np.maximum(many, 1.0)

    def more(wait: float) -> float:
        most = int(np.max(mean) * wait / partitions * 3 + 12)
        steps = np.arange(1, most + 1)[:, None] * partitions
        return float(np.sum(many * gammainc(steps, np.maximum(mean * wait, 1e-12)).sum(axis=0))) - along

    longest = partitions * (along + len(rate)) / float(rate.sum()) * 4 + 1.0
    return float(brentq(more, 0.0, longest, xtol=1e-3)) if more(longest) > 0 else longest


def _waits(at: NDArray[np.float64], rate: NDArray[np.float64], each: float) -> bool:
    """Whether batches are made by waiting: then hardly one leaves sooner after the one before than the wait.

    Without a wait (events that come together) as many do as chance would have it; ``rate`` is that of batches.
    """
    order = np.argsort(at)
    free = float(np.sum(1 - np.exp(-rate[order][1:] * 0.8 * each)))
    sooner = float(np.sum(np.diff(at[order]) < 0.8 * each))
    return free > 5 and sooner < _SHORT_GAPS * free


#: Lengths of time that people set, s.
_PLAIN = (0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 20, 30, 45, 60, 90, 120, 180, 240, 300, 600, 900)


def _near(wait: Estimate) -> Estimate:
    """The plain number that lies in the interval, if one does: people set waits of 2 minutes, not of 119.3 s."""
    for value in _PLAIN:
        if wait.low <= value <= wait.high and wait.high - wait.low < 0.5 * value:
            return Estimate(float(value), wait.low, wait.high)
    return wait


def plain_near(seconds: float) -> float:
    """The plain length of time within a tenth of ``seconds``, if there is one, else ``seconds``."""
    return next((float(value) for value in _PLAIN if abs(value / seconds - 1) < 0.1), seconds)
