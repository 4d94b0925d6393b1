"""What is due after the present stretch of time: a list for each stretch to come (Brown, "Calendar queues", 1988).

A list goes into the row or heap when its stretch begins, so that entries come out in the same order. A stretch is as long as a few
entries are apart, and is made longer or shorter where many lists are found empty or full. Of very many entries each list holds
more, so that what is far off in memory can be fetched for all of them at once.
"""

from __future__ import annotations

import numpy as np

from echotally.engine.codes import K_RETRY, NONE, YES, ZERO
from echotally.engine.kernel.access import (
    World,
    ahead_at,
    aside_at,
    call_at,
    cargo_at,
    clock_of,
    fetch_call,
    fetch_cargo,
    fetch_event,
)
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.layout import AHEAD, AHEAD_BITS, FEW_ENTRIES

#: An entry's ``what`` is reference and kind.
KIND_BITS: int = np.int64(5)  # type: ignore[assignment]
_KIND: int = (YES << KIND_BITS) - YES
#: A stretch is 2^so many ns long: of very many entries, and of others at least and at most.
_BITS: int = np.int64(AHEAD_BITS)  # type: ignore[assignment]
_SHORTEST, _LONGEST = 16, 40
#: After so many stretches it is looked how many entries they held.
_STRETCHES: int = np.int64(256)  # type: ignore[assignment]
_AHEAD: int = np.int64(AHEAD)  # type: ignore[assignment]
_PLACE: int = np.int64(AHEAD - 1)  # type: ignore[assignment]


@kernel
def stands_aside(w: World, at: int, key: int, what: int) -> None:
    """Put an entry into the list of its stretch of time."""
    clock = clock_of(w)
    i = clock.free_aside
    aside = aside_at(w, i)
    clock.free_aside = aside.next
    clock.aside_n += 1
    aside.at = at
    aside.key = key
    aside.what = what
    _listed(w, i)


@hot
def _listed(w: World, i: int) -> None:
    """What stands aside in place ``i`` goes into the list of its stretch, or of all that come after those."""
    aside, clock = aside_at(w, i), clock_of(w)
    stretch = aside.at >> clock.bits
    place = stretch & _PLACE if stretch < clock.stretch + _AHEAD else _AHEAD
    aside.next = ahead_at(w, place).v
    ahead_at(w, place).v = i


@hot
def next_stretch(w: World) -> int:
    """The present stretch ends: the first place of the list that is due in the next one, NONE where nothing is."""
    clock = clock_of(w)
    place = clock.stretch & _PLACE
    if place == 0:
        i = ahead_at(w, _AHEAD).v
        ahead_at(w, _AHEAD).v = NONE
        # The lists have been gone through once: what was due after all of them is looked at anew.
        _each_listed(w, i)
    i = ahead_at(w, place).v
    ahead_at(w, place).v = NONE
    clock.stretch += 1
    clock.near_until = clock.stretch << clock.bits
    if clock.aside_n > FEW_ENTRIES:
        _fetches_calls(w, i)
    return i


@hot
def let_go(w: World, i: int) -> int:
    """The entry in place ``i`` has come near; the place of the next of its list."""
    aside, clock = aside_at(w, i), clock_of(w)
    after = aside.next
    aside.next = clock.free_aside
    clock.free_aside = i
    clock.aside_n -= 1
    clock.came_near += 1
    return after


@hot
def count_stretch(w: World) -> None:
    """One more list has been emptied; every so often it is seen whether stretches are as long as they should be."""
    clock = clock_of(w)
    clock.walked += 1
    if clock.walked == _STRETCHES:
        _fits_stretches(w)


@kernel
def lists_begin(w: World, first_at: int, bits: int) -> None:
    """Stretches are 2^``bits`` ns, within bounds, from here on, and the next one begins after ``first_at``; what stands aside is listed anew."""
    clock = clock_of(w)
    bits = max(_SHORTEST, min(bits, _LONGEST))
    clock.bits = bits
    clock.stretch = (first_at >> bits) + 1
    clock.near_until = clock.stretch << bits
    _all_listed_anew(w)


@kernel
def are_long(w: World, first_at: int) -> None:
    """Very many stand aside from here on: stretches are long. Where none stood aside yet, the first list begins after ``first_at``."""
    clock = clock_of(w)
    if clock.aside_n == 0:
        lists_begin(w, first_at, _BITS)
    elif clock.bits < _BITS:
        clock.bits = _BITS
        clock.stretch = clock.near_until >> _BITS
        _all_listed_anew(w)


@kernel
def _fits_stretches(w: World) -> None:
    """Make stretches shorter where each held many entries, and longer where most held none."""
    clock, bits = clock_of(w), clock_of(w).bits
    if clock.came_near > 8 * _STRETCHES and bits > _SHORTEST and clock.aside_n <= FEW_ENTRIES:
        bits -= 2
    elif 2 * clock.came_near < _STRETCHES and bits < _LONGEST:
        bits += 2
    clock.walked = ZERO
    clock.came_near = ZERO
    if bits != clock.bits:
        clock.bits = bits
        # Where the next stretch has begun by the new lengths, what is left of it is a shorter one.
        clock.stretch = clock.near_until >> bits
        _all_listed_anew(w)


@kernel
def _all_listed_anew(w: World) -> None:
    """What stands aside goes into the lists of stretches that are of another length."""
    clock = clock_of(w)
    clock.walked = ZERO
    clock.came_near = ZERO
    if clock.aside_n == 0:
        return
    all_of_them = NONE
    for k in range(_AHEAD + 1):
        i = ahead_at(w, k).v
        ahead_at(w, k).v = NONE
        while i >= 0:
            after = aside_at(w, i).next
            aside_at(w, i).next = all_of_them
            all_of_them = i
            i = after
    _each_listed(w, all_of_them)


@hot
def _each_listed(w: World, first: int) -> None:
    i = first
    while i >= 0:
        after = aside_at(w, i).next
        _listed(w, i)
        i = after


@hot
def _fetches_calls(w: World, first: int) -> None:
    """Calls that are tried again within a stretch have lain about for long: all are brought near at once, not each waited for."""
    i = first
    while i >= 0:
        if aside_at(w, i).what & _KIND == K_RETRY:
            fetch_call(w, aside_at(w, i).what >> KIND_BITS)
        i = aside_at(w, i).next
    # Where a call's events are stands in the call, and then in its cargo.
    i = first
    while i >= 0:
        link = _cargo_of(w, i)
        if link >= 0:
            fetch_cargo(w, link)
        i = aside_at(w, i).next
    i = first
    while i >= 0:
        link = _cargo_of(w, i)
        if link >= 0:
            fetch_event(w, cargo_at(w, link).event)
        i = aside_at(w, i).next


@hot
def _cargo_of(w: World, i: int) -> int:
    """The cargo of the call that is tried again with the entry aside in place ``i``, NONE where there is none."""
    what = aside_at(w, i).what
    return call_at(w, what >> KIND_BITS).head if what & _KIND == K_RETRY else NONE
