"""What the next entries of the calendar are about is brought near while the present one has its turn.

Of a thousand functions each one's records have left the near memory by the time something befalls it again, and every step would
wait for a dozen of its lines one after the other. Asked for a step ahead they come side by side, while there is something to do
(Chen, Gibbons and Mowry, "Improving index performance through prefetching", 2001). Nothing is read that could change an answer.
"""

from __future__ import annotations

from echotally.engine.codes import K_IDLE, K_READY, K_RETRY, K_RUN_END, K_SHORT_END, K_TAP, YES, ZERO
from echotally.engine.kernel.access import (
    World,
    call_at,
    clock_of,
    entry_at,
    fetch_call,
    fetch_instance,
    fetch_source,
    fetch_tap,
    fetch_unit,
    instance_at,
    source_at,
    tap_at,
)
from echotally.engine.kernel.calendar import KIND_BITS, earlier_of
from echotally.engine.kernel.compiled import hot, kernel

_KIND_MASK: int = (YES << KIND_BITS) - YES


@hot
def looks(w: World) -> None:
    """Have brought near what comes next, where the calendar holds so many entries that it is a heap."""
    if clock_of(w).row == 0:
        _looks_further(w)


@kernel
def _looks_further(w: World) -> None:
    # The four below the first entry: the next one is among them, and the one after that as often as not.
    one, other = earlier_of(w, ZERO + 1, ZERO + 2), earlier_of(w, ZERO + 3, ZERO + 4)
    following = earlier_of(w, one, other)
    _record(w, entry_at(w, one + other - following).what)
    _whose(w, entry_at(w, following).what)


@hot
def _record(w: World, what: int) -> None:
    """The record that an entry is about."""
    kind, ref = what & _KIND_MASK, what >> KIND_BITS
    if kind == K_RUN_END or kind == K_SHORT_END or kind == K_RETRY:
        fetch_call(w, ref)
    elif kind == K_TAP:
        fetch_tap(w, ref)
    elif kind == K_READY:
        fetch_instance(w, ref)


@hot
def _whose(w: World, what: int) -> None:
    """The unit that an entry is about, found through its record, which was asked for earlier."""
    kind, ref = what & _KIND_MASK, what >> KIND_BITS
    if kind == K_RUN_END or kind == K_SHORT_END or kind == K_RETRY:
        call = call_at(w, ref)
        fetch_unit(w, call.unit)
        if call.instance >= 0:
            fetch_instance(w, call.instance)
    elif kind == K_TAP:
        s = tap_at(w, ref).source
        fetch_source(w, s)
        if source_at(w, s).home >= 0:
            fetch_unit(w, source_at(w, s).home)
    elif kind == K_READY:
        fetch_unit(w, instance_at(w, ref).unit)
    elif kind == K_IDLE:
        fetch_unit(w, ref)
