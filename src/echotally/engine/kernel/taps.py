"""Taps: where the outside world's events come from, one at a time, in order.

A rate process is piecewise constant; ``even`` puts the k-th event where the integrated rate reaches
k - 0.5, ``poisson`` draws exponential gaps of integrated rate, ``bursty`` draws Poisson bursts of
geometric size (rule 2.2). A counted stretch holds exactly ``count`` events: evenly, or as uniform order statistics
drawn in sequence (Bentley and Saxe, "Generating sorted lists of random numbers", 1980).
"""

from __future__ import annotations

import math

from echotally.engine.codes import BURSTY, EVEN, NEVER, PAYLOAD_STREAM, TAP_RATE, ZERO
from echotally.engine.kernel.access import World, clock_of, span_at, stretch_at, tap_at
from echotally.engine.kernel.chance import Law, draw, exponential, truncated, uniform, whole
from echotally.engine.kernel.compiled import hot, kernel


@hot
def next_arrival(w: World, p: int) -> int:
    """Time of the tap's next event, ns; NEVER when it has run dry."""
    tap = tap_at(w, p)
    # The rest of a burst comes at the same instant.
    if tap.burst_left > 0:
        tap.burst_left -= 1
        return tap.at
    if tap.kind == TAP_RATE:
        if tap.spread == EVEN:
            return _next_even(w, p)
        at = _next_poisson(w, p)
        if tap.spread == BURSTY and at < NEVER:
            tap.burst_left = _burst_size(w, tap.random, tap.burst) - 1
        return at
    return _next_counted(w, p)


@hot
def _next_poisson(w: World, p: int) -> int:
    tap = tap_at(w, p)
    area = exponential(w, tap.random)
    if tap.spread == BURSTY:
        # Bursts come as much less often as they are larger, so that events keep the rate.
        area *= tap.burst
    while tap.stretch < tap.stretch_n:
        stretch = stretch_at(w, tap.first_stretch + tap.stretch)
        left = stretch.end - tap.at
        gap = area * stretch.gap
        if gap < left:
            tap.at += truncated(gap + 0.5)
            return tap.at
        # What is left of the exponential number is used up in the next stretch: rates change, the process does not
        # begin anew.
        area -= left * stretch.rate
        tap.at = stretch.end
        tap.stretch += 1
    return NEVER


@kernel
def _next_even(w: World, p: int) -> int:
    tap = tap_at(w, p)
    # The k-th event stands where the integrated rate reaches k - 0.5 (rule 2.2).
    target = tap.placed + 0.5
    tap.placed += 1
    while tap.stretch < tap.stretch_n:
        stretch = stretch_at(w, tap.first_stretch + tap.stretch)
        room = (stretch.end - stretch.start) * stretch.rate
        if target < tap.integral + room:
            tap.at = stretch.start + truncated((target - tap.integral) / stretch.rate + 0.5)
            return tap.at
        tap.integral += room
        tap.stretch += 1
    return NEVER


@kernel
def _burst_size(w: World, stream: int, mean: float) -> int:
    # Geometric on 1, 2, ... with the mean asked for.
    if mean <= 1.0:
        return 1
    return 1 + whole(math.floor(math.log(uniform(w, stream)) / math.log1p(-1.0 / mean)))


@kernel
def _next_counted(w: World, p: int) -> int:
    tap = tap_at(w, p)
    while tap.left == 0:
        tap.stretch += 1
        if tap.stretch >= tap.stretch_n:
            return NEVER
        stretch = stretch_at(w, tap.first_stretch + tap.stretch)
        tap.left = stretch.count
        tap.at = stretch.start
    stretch = stretch_at(w, tap.first_stretch + tap.stretch)
    if stretch.step > 0:
        tap.at = stretch.start + (stretch.count - tap.left) * stretch.step
        tap.left -= 1
        return tap.at
    length = stretch.end - stretch.start
    if tap.spread == EVEN or length == 0:
        done = stretch.count - tap.left
        tap.at = stretch.start + truncated((done + 0.5) / stretch.count * length + 0.5) if length > 0 else stretch.start
        tap.left -= 1
        return tap.at
    bursts = max(1.0, math.ceil(tap.left / tap.burst))
    # The smallest of so many uniform numbers in what is left of the stretch.
    share = 1.0 - uniform(w, tap.random) ** (1.0 / bursts)
    tap.at = min(tap.at + truncated((stretch.end - tap.at) * share), stretch.end - 1)
    size = min(_burst_size(w, tap.random, tap.burst), tap.left)
    tap.burst_left = size - 1
    tap.left -= size
    return tap.at


@hot
def payload_of(w: World, p: int) -> int:
    """The size of a tap's next event, bytes."""
    tap = tap_at(w, p)
    size = draw(
        w,
        tap.random + PAYLOAD_STREAM,
        Law(tap.payload_kind, tap.payload_scale, tap.payload_sigma, tap.payload_from, tap.payload_n),
    )
    return whole(size)


@kernel
def count_arrivals(w: World, p: int, span_ns: int) -> int:
    """Draw tap ``p`` to its end and count its events by spans of the month, in ``World.counts``; returns how many."""
    horizon = clock_of(w).horizon
    n, b, edge = ZERO, ZERO, span_ns
    at = next_arrival(w, p)
    while at < horizon:
        # Arrivals rise, so the span is found by walking, without a division each.
        while at >= edge:
            b += 1
            edge += span_ns
        span_at(w, b).v += 1
        n += 1
        at = next_arrival(w, p)
    return n
