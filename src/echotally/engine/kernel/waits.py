"""How long events waited and how long they took: a sketch for each unit, and the longest.

The sketches of many units lie far apart, each on pages of its own. Where each number were put in as it comes, all would wait while
the processor looks up where its page is. So they are written down, and put in some hundred at a time: what one waits for, the
others wait for as well. Sums of whole numbers are the same in any order.
"""

from __future__ import annotations

import numpy as np

from echotally.engine.codes import YES, ZERO
from echotally.engine.kernel.access import World, bin_at, clock_of, fetch_bin, n_seen, seen_at, touched_at, unit_at
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.kernel.sketch import placed
from echotally.engine.layout import CHARGES, LATENCIES, OFFSET_BITS, REQUESTS, SKETCHES, SUB_BITS, WAIT_BINS, WAITS

_WAITS: int = np.int64(WAITS)  # type: ignore[assignment]
_LATENCIES: int = np.int64(LATENCIES)  # type: ignore[assignment]
_REQUESTS: int = np.int64(REQUESTS)  # type: ignore[assignment]
_CHARGES: int = np.int64(CHARGES)  # type: ignore[assignment]
_BINS: int = np.int64(WAIT_BINS)  # type: ignore[assignment]
_SUB_BITS: int = np.int64(SUB_BITS)  # type: ignore[assignment]


@hot
def wait_seen(w: World, u: int, wait_ns: int, n: int) -> None:
    """The wait of ``n`` events of one firing or of one event, arrival to the start of its successful run."""
    unit = unit_at(w, u)
    # Most events start as they arrive.
    if wait_ns == 0:
        unit.at_once += n
        return
    _add(w, u, _WAITS, wait_ns, n)
    unit.wait_max = max(unit.wait_max, wait_ns)


@kernel
def latency_seen(w: World, u: int, latency_ns: int, n: int) -> None:
    """The latency of ``n`` events, arrival to the end of the run: of what was handled, and of requests answered by an error.

    Requests that were handled are kept by ``answer_seen``.
    """
    _add(w, u, _LATENCIES, latency_ns, n)
    unit = unit_at(w, u)
    unit.latency_max = max(unit.latency_max, latency_ns)


@kernel
def answer_seen(w: World, u: int, latency_ns: int) -> None:
    """The latency of a request that was handled, from asking to the answer."""
    _add(w, u, _REQUESTS, latency_ns, 1)
    unit = unit_at(w, u)
    unit.latency_max = max(unit.latency_max, latency_ns)


@hot
def charge_seen(w: World, u: int, ns: int) -> None:
    """The time that one attempt is charged for."""
    _add(w, u, _CHARGES, ns, 1)


@hot
def _add(w: World, u: int, sketch: int, ns: int, n: int) -> None:
    clock = clock_of(w)
    if clock.lean == YES:
        return
    b, into, octave = placed(ns)
    place = (u * SKETCHES + sketch) * WAIT_BINS + b
    # The sum is of how far into their bin the waits are, in 2^24ths of a wide bin, so that billions of long waits
    # stay inside an int64.
    into = (into >> max(ZERO, octave - OFFSET_BITS)) * n
    # Those of few units are near at hand.
    if n_seen(w) == 1:
        _put_in(w, place, n, into)
    else:
        _written_down(w, place, n, into)


@kernel
def _written_down(w: World, place: int, n: int, into: int) -> None:
    clock = clock_of(w)
    seen = seen_at(w, clock.seen_n)
    seen.place = place
    seen.n = n
    seen.into = into
    clock.seen_n += 1
    if clock.seen_n == n_seen(w):
        _all_put_in(w)


@hot
def _put_in(w: World, place: int, n: int, into: int) -> None:
    its = bin_at(w, place)
    its.n += n
    its.into += into


@kernel
def _all_put_in(w: World) -> None:
    """Put in what is written down; all its bins are asked for first, so that they come near side by side."""
    clock = clock_of(w)
    for k in range(clock.seen_n):
        fetch_bin(w, seen_at(w, k).place)
    for k in range(clock.seen_n):
        seen = seen_at(w, k)
        _put_in(w, seen.place, seen.n, seen.into)
        _touched(w, seen.place)
    clock.seen_n = ZERO


@hot
def _touched(w: World, place: int) -> None:
    """Keep in mind which octaves of a sketch hold something: whoever reads it looks at no others."""
    sketch = place // _BINS
    its = touched_at(w, sketch)
    its.v |= 1 << ((place - sketch * _BINS) >> _SUB_BITS)


@kernel
def complete(w: World) -> None:
    """Put in whatever is still to be: Python reads the sketches next."""
    clock = clock_of(w)
    _all_put_in(w)
    for u in range(clock.units):
        unit = unit_at(w, u)
        if unit.at_once > 0 and clock.lean != YES:
            place = (u * SKETCHES + _WAITS) * WAIT_BINS
            _put_in(w, place, unit.at_once, ZERO)
            if n_seen(w) > 1:
                _touched(w, place)
        unit.at_once = ZERO
