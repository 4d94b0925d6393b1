"""Taps: where the outside world's events come from, one at a time, in order.

A rate process is piecewise constant; ``even`` puts the k-th event where the integrated rate reaches
k - 0.5, ``poisson`` draws exponential gaps of integrated rate, ``bursty`` draws Poisson bursts of
geometric size. A counted stretch holds exactly ``count`` events: evenly, or as uniform order statistics
drawn in sequence (Bentley and Saxe, "Generating sorted lists of random numbers", 1980).
"""

from __future__ import annotations

import math

import numpy as np

from echotally.engine.kernel.access import clock, sg, tp
from echotally.engine.kernel.chance import exponential, uniform, whole
from echotally.engine.kernel.compiled import entry, hot, kernel
from echotally.engine.records import BURSTY, EVEN, NEVER, TAP_RATE


@hot
def next_arrival(w, p):
    """Time of the tap's next event, ns; NEVER when it has run dry."""
    t = tp(w, p)
    if t.same > 0:
        t.same -= 1
        return t.at
    if t.kind == TAP_RATE:
        if t.spread == EVEN:
            return _next_even(w, p)
        at = _next_poisson(w, p)
        if t.spread == BURSTY and at < NEVER:
            t.same = _burst_size(w, t.rng, t.burst) - 1
        return at
    return _next_counted(w, p)


@hot
def _next_poisson(w, p):
    t = tp(w, p)
    area = exponential(w, t.rng)
    if t.spread == BURSTY:
        # Bursts come as much less often as they are larger, so that events keep the rate.
        area *= t.burst
    while t.seg < t.seg_n:
        s = sg(w, t.first_seg + t.seg)
        left = s.end - t.at
        gap = area * s.gap
        if gap < left:
            t.at += np.int64(gap + 0.5)
            return t.at
        area -= left * s.rate
        t.at = s.end
        t.seg += 1
    return NEVER


@kernel
def _next_even(w, p):
    t = tp(w, p)
    target = t.k + 0.5
    t.k += 1
    while t.seg < t.seg_n:
        s = sg(w, t.first_seg + t.seg)
        room = (s.end - s.start) * s.rate
        if target < t.area + room:
            t.at = s.start + np.int64((target - t.area) / s.rate + 0.5)
            return t.at
        t.area += room
        t.seg += 1
    return NEVER


@kernel
def _burst_size(w, stream, mean):
    if mean <= 1.0:
        return 1
    return 1 + whole(math.floor(math.log(uniform(w, stream)) / math.log1p(-1.0 / mean)))


@kernel
def _next_counted(w, p):
    t = tp(w, p)
    while t.left == 0:
        t.seg += 1
        if t.seg >= t.seg_n:
            return NEVER
        s = sg(w, t.first_seg + t.seg)
        t.left = s.count
        t.at = s.start
    s = sg(w, t.first_seg + t.seg)
    length = s.end - s.start
    if t.spread == EVEN or length == 0:
        done = s.count - t.left
        t.at = s.start + np.int64((done + 0.5) / s.count * length + 0.5) if length > 0 else s.start
        t.left -= 1
        return t.at
    bursts = max(1.0, math.ceil(t.left / t.burst))
    share = 1.0 - uniform(w, t.rng) ** (1.0 / bursts)
    t.at = min(t.at + np.int64((s.end - t.at) * share), s.end - 1)
    size = min(_burst_size(w, t.rng, t.burst), t.left)
    t.same = size - 1
    t.left -= size
    return t.at


@entry
def count_arrivals(addresses, p, bins, bin_ns):
    """Draw tap ``p`` to its end and add its events to ``bins`` of ``bin_ns`` each; returns how many."""
    w = addresses[0]
    horizon = clock(w).horizon
    n, b, edge = np.int64(0), np.int64(0), bin_ns
    at = next_arrival(w, p)
    while at < horizon:
        # Arrivals rise, so the bin is found by walking, without a division each.
        while at >= edge:
            b += 1
            edge += bin_ns
        bins[b] += 1
        n += 1
        at = next_arrival(w, p)
    return n
