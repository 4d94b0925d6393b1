"""How events are gathered into batches: the largest batch, and how long a batch waits to fill.

While a batch waits ``w`` after its first event, events come at the rate of that hour: C of them, Poisson(rate x w), or fewer where
they are dealt out to partitions in turn. It leaves with 1 + C of them, or sooner, full. So w is the time in which as many would be
expected to come along as came (the moment equation of a truncated Poisson, which is its maximum likelihood).
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.evidence.fit.estimates import Estimate
from echotally.evidence.survey.tables import Sampled

_Z = 1.959963984540054
#: Gaps shorter than most of the wait, as a share of those that chance would leave, up to which batches are made by waiting.
_SHORT_GAPS = 0.75
#: A start so soon after another attempt's end waited for room, not for events, s.
_BEHIND_S = 0.05
#: Times are logged to the millisecond: an end may stand so long after a start that waited for it, s.
_LATE_S = 0.002
#: Batches of which fewer than so many tell no wait.
_FEW = 20
#: The largest batch taken where none was ever full.
_OTHERWISE = 10
#: Numbers of partitions that are tried where nothing tells how many there are.
_TRIED = (*range(2, 17), 20, 24, 32, 48, 64)
#: Up to so many batches too soon, of those that chance would have, a number of partitions is the right one,
_NONE_SOONER = 0.02
#: if with the number before it there were so many.
_MANY_SOONER = 0.08


class Batching(Struct, frozen=True):
    """The largest batch seen, how many were that large, the wait for a batch to fill (s), where there is one, and their mean size.

    ``batch`` is a setting where batches came full again and again (``capped``), else at least what was seen.
    """

    batch: int
    full: int
    wait_s: Estimate | None
    mean: float = 1.0
    capped: bool = True
    partitions: int = 1
    #: How many batches left sooner than such a wait allows, as a share of those that would by chance; 1: no wait was found.
    sooner: float = 1.0
    #: Whether nearly all were full: the wait is one in which they fill, and may be longer.
    filled: bool = False
    #: Where batches start as others end: how many ran at a time, if mostly as many did.
    at_once: int | None = None

    def with_larger(self, events: NDArray[np.float64]) -> Batching:
        """The same where batches elsewhere in the log, of so many events, were larger than those in a row."""
        largest = int(events.max(initial=1))
        if largest <= self.batch:
            return self
        full = int(np.sum(events >= largest))
        return replace(self, batch=largest, full=full, capped=_many(full, len(events)))


def batching_of(
    sample: Sampled, rate: NDArray[np.float64], partitions: int | None, shares: NDArray[np.float64] | None = None
) -> Batching:
    """``rate``: events a second when each attempt of the sample started; ``shares``: which part of them its partition gets, where
    they are dealt out by lot and not in turn. ``partitions`` None: the fewest with which the times of batches agree, 1 where none do.
    """
    if partitions is not None:
        return _batching(sample, rate, partitions, shares)
    one = _batching(sample, rate, 1, None)
    if one.mean == 1 or one.at_once is not None or one.sooner <= _NONE_SOONER or _together(sample, rate):
        return one
    # With the right number hardly a batch leaves too soon, and with one fewer many do. Where a partition is hot none is right:
    # then the fewest that explain some of the gaps, with a wait that makes as many batches.
    before = found = one
    for n in _TRIED:
        tried = _batching(sample, rate, n, None)
        if before.sooner >= _MANY_SOONER and tried.sooner <= _NONE_SOONER:
            return tried
        found, before = found if found.wait_s is not None else tried, tried
    return found if found.wait_s is not None else one


def _together(sample: Sampled, rate: NDArray[np.float64]) -> bool:
    """Whether batches mostly leave at once with others, so that they came together and have not waited apart."""
    order = np.argsort(sample.t[sample.ran])
    gaps = np.diff(sample.t[sample.ran][order]) * rate[sample.ran][order][1:]
    return bool(np.mean(gaps < 0.1) > 0.3) if len(gaps) and sample.every == 1 else False


def _batching(
    sample: Sampled, rate: NDArray[np.float64], partitions: int, shares: NDArray[np.float64] | None
) -> Batching:
    ran = sample.ran
    events, rate = sample.events[ran], rate[ran]
    largest = int(events.max(initial=1))
    # One batch as large as the largest is no limit; many are.
    full = int(np.sum(events >= largest))
    mean = float(events.mean()) if len(events) else 1.0
    if largest == 1:
        return Batching(1, full, None, partitions=partitions)
    # By lot those of one partition are dealt out like any others (a thinned Poisson process).
    in_turn, own = (partitions, rate) if shares is None else (1, rate * shares[ran])
    wait, capped = _wait(events, own, in_turn)
    some = sample.where(ran)
    if _behind(some):
        capped = _many(full, len(events))
        batch = largest if capped else max(largest, _OTHERWISE)
        return Batching(batch, full, None, mean, capped, partitions, at_once=_at_once(some))
    apart = partitions > 1 or not _together(some, rate)
    if wait is None and apart and len(events) >= _FEW and full > len(events) - _FEW:
        return Batching(largest, full, _to_fill(own, in_turn, largest), mean, True, partitions, filled=True)
    sooner = 1.0
    if wait is not None:
        sooner = _sooner(some, rate / mean, wait.value, partitions, capped) if apart else 1.0
        if sooner >= _SHORT_GAPS:
            wait, capped = None, _many(full, len(events))
    batch = largest if capped else max(largest, _OTHERWISE)
    waited = _near(wait) if wait is not None and wait.value > 0.05 else None
    return Batching(batch, full, waited, mean, capped, partitions, sooner if waited is not None else 1.0)


def _wait(events: NDArray[np.float64], rate: NDArray[np.float64], partitions: int) -> tuple[Estimate | None, bool]:
    """The wait, and whether batches were cut at the largest seen: if not, some would have been larger."""
    largest = int(events.max())
    along = float(np.sum(events - 1))
    if len(events) < _FEW or along <= 0 or rate.sum() <= 0:
        return None, True
    wait = _solved(along, _coming(rate, partitions, None))
    # Had nothing cut them, some would be larger than the largest seen.
    capped = _beyond(rate, partitions, wait, largest) > 5
    if capped:
        part = events < largest
        along, rate = float(np.sum(events[part] - 1)), rate[part]
        if part.sum() < _FEW or along <= 0:
            return None, True
        wait = _solved(along, _coming(rate, partitions, largest - 2))
    half = _Z * wait / math.sqrt(along)
    return Estimate(wait, max(0.0, wait - half), wait + half), capped


def _at_least(rate: NDArray[np.float64], partitions: int, wait: float, steps: NDArray[np.int64]) -> NDArray[np.float64]:
    """P(C >= k) by k (rows) and rate: the k-th along is the (k p)-th event of all (Cox, "Renewal Theory", 1962)."""
    from scipy.special import gammainc

    return np.asarray(gammainc(steps[:, None] * partitions, np.maximum(rate * wait, 1e-12)))


def _coming(rate: NDArray[np.float64], partitions: int, most: int | None) -> Callable[[float], float]:
    """How many are expected to come along in a wait, in all; ``most``: of batches in which no more did."""
    # Rates in thirty-two classes: a sum over classes, and not over a million batches, for each wait tried.
    edges = np.quantile(rate, np.linspace(0, 1, 33))
    place = np.clip(np.searchsorted(edges, rate, "right") - 1, 0, 31)
    many = np.bincount(place, minlength=32).astype(float)
    mean = np.bincount(place, rate, 32) / np.maximum(many, 1.0)

    def expected(wait: float) -> float:
        last = most if most is not None else int(np.max(mean) * wait / partitions * 3 + 12)
        least = _at_least(mean, partitions, wait, np.arange(1, last + 2))
        if most is None:
            return float(np.sum(many * least.sum(axis=0)))
        over = least[-1]
        return float(np.sum(many * (least[:-1] - over).sum(axis=0) / np.maximum(1 - over, 1e-12)))

    return expected


def _solved(along: float, expected: Callable[[float], float]) -> float:
    """The wait in which ``along`` are expected; the longest tried where none is long enough."""
    from scipy.optimize import brentq

    longest = 1.0
    while expected(longest) < along and longest < 86_400:
        longest *= 2
    return float(brentq(lambda w: expected(w) - along, 0.0, longest, xtol=1e-4)) if longest < 86_400 else longest


def _beyond(rate: NDArray[np.float64], partitions: int, wait: float, largest: int) -> float:
    """How many batches would hold more than the largest seen if nothing cut them."""
    return float(_at_least(rate, partitions, wait, np.array([largest])).sum())


def _many(full: int, of: int) -> bool:
    """Whether so many batches as large as the largest are no chance."""
    return full >= max(3, 0.01 * of)


def _to_fill(rate: NDArray[np.float64], partitions: int, largest: int) -> Estimate:
    """A wait in which one batch in a thousand would not be full, at the median rate."""
    from scipy.special import gammaincinv

    wait = float(gammaincinv((largest - 1) * partitions, 0.999) / np.median(rate))
    return Estimate(wait, wait, wait)


def _behind(sample: Sampled) -> bool:
    """Whether batches of several events mostly start as another attempt ends: they gathered while no room was free.

    Of a sample it cannot be told, and they are believed to have waited.
    """
    several = sample.t[sample.events > 1]
    if sample.every > 1 or not len(several):
        return False
    ended = np.sort(_ended(sample))
    before = np.searchsorted(ended, several + _LATE_S, "right") - 1
    behind = (before >= 0) & (several - ended[np.maximum(before, 0)] < _BEHIND_S)
    return bool(np.mean(behind) > 0.5)


def _at_once(sample: Sampled) -> int | None:
    """How many attempts run at a time, where as batches of several start it is mostly as many: the most there may be."""
    started, ended = np.sort(sample.t), np.sort(_ended(sample))
    several = sample.t[sample.events > 1]
    running = np.searchsorted(started, several, "right") - np.searchsorted(ended, several + _LATE_S, "right")
    most = int(np.max(running))
    return most if most > 0 and np.mean(running == most) > 0.5 else None


def _ended(sample: Sampled) -> NDArray[np.float64]:
    return np.asarray(sample.t + (np.where(sample.cold, sample.cold_ms, 0.0) + sample.run) / 1_000)


def _sooner(sample: Sampled, rate: NDArray[np.float64], wait: float, partitions: int, capped: bool) -> float:
    """How many batches leave sooner than if they were made by waiting, and not by events that come together, as a share of those
    that would by chance (1: as many, or nothing tells).

    Of those that waited hardly one leaves sooner than the wait after the one before, or, of n partitions, after the n-th before:
    of n + 1 batches two come from one partition. ``rate`` is that of batches. Full ones do not wait (``capped``). Of a sample it
    cannot be told, and they are believed to have waited.
    """
    from scipy.special import gammainc

    if sample.every > 1:
        return 0.0
    order = np.argsort(sample.t)
    t, n = sample.t[order], partitions
    if len(t) <= n:
        return 1.0
    waited = _none_full(sample.events[order], n) if capped else np.ones(len(t) - n, dtype=bool)
    # As many gaps as chance would leave: of n batches in a row, Gamma distributed.
    free = float(np.sum(gammainc(n, rate[order][n:][waited] * 0.8 * wait)))
    sooner = float(np.sum((t[n:] - t[:-n])[waited] < 0.8 * wait))
    return sooner / free if free > 5 else 1.0


def _none_full(events: NDArray[np.float64], n: int) -> NDArray[np.bool_]:
    """Whether none of the ``n`` batches that follow on one is as large as the largest."""
    full = np.concatenate([[0], np.cumsum(events >= events.max())])
    return np.asarray(full[n + 1 :] - full[1:-n] == 0)


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
