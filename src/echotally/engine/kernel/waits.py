"""How long events waited and how long they took: a sketch for each unit, and the longest."""

from __future__ import annotations

from echotally.engine.codes import YES, ZERO
from echotally.engine.kernel.access import (
    Accessor,
    World,
    charge_bin,
    clock_of,
    latency_bin,
    request_bin,
    unit_at,
    wait_bin,
)
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.kernel.sketch import placed
from echotally.engine.layout import OFFSET_BITS, WAIT_BINS
from echotally.engine.records import Whole


@hot
def wait_seen(w: World, u: int, wait_ns: int, n: int) -> None:
    """The wait of ``n`` events of one firing or of one event, arrival to the start of its successful run."""
    _add(w, wait_bin, u, wait_ns, n)
    unit = unit_at(w, u)
    unit.wait_max = max(unit.wait_max, wait_ns)


@kernel
def latency_seen(w: World, u: int, latency_ns: int, n: int) -> None:
    """The latency of ``n`` events, arrival to the end of the run: of what was handled, and of requests answered by an error.

    Requests that were handled are kept by ``answer_seen``.
    """
    _add(w, latency_bin, u, latency_ns, n)
    unit = unit_at(w, u)
    unit.latency_max = max(unit.latency_max, latency_ns)


@kernel
def answer_seen(w: World, u: int, latency_ns: int) -> None:
    """The latency of a request that was handled, from asking to the answer."""
    _add(w, request_bin, u, latency_ns, 1)
    unit = unit_at(w, u)
    unit.latency_max = max(unit.latency_max, latency_ns)


@hot
def charge_seen(w: World, u: int, ns: int) -> None:
    """The time that one attempt is charged for."""
    _add(w, charge_bin, u, ns, 1)


@hot
def _add(w: World, sketch: Accessor[Whole], u: int, ns: int, n: int) -> None:
    if clock_of(w).lean == YES:
        return
    b, into, octave = placed(ns)
    # Count and sum stand side by side: of hundreds of functions neither is near, and one brings the other.
    place = 2 * (u * WAIT_BINS + b)
    # The sum is of how far into their bin the waits are, in 2^24ths of a wide bin, so that billions of long waits
    # stay inside an int64.
    into >>= max(ZERO, octave - OFFSET_BITS)
    sketch(w, place).v += n
    sketch(w, place + 1).v += into * n
