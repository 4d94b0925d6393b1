"""The calendar of coming happenings: a heap of four children each, ordered by (time, step, number).

The key packs step and number, so that the total order of rule 1.3 is that of one number of 128 bits. Four children stand side by
side, so that a level costs little more than with two, and there are half as many (Johnson, "Priority queues with update", 1975).
Behind the last entry stand some that never come: the four are always there, and the first place of an empty calendar says so.

Where it holds very many (what finds no room is tried again, each event by itself), most of them due in minutes or hours, a heap of
all no longer fits the near memory. Then those due after the present stretch of a second stand aside, in a list for each stretch
to come, and go into the heap when their stretch begins (Brown, "Calendar queues", 1988): the order in which they come out is the
same.
"""

from __future__ import annotations

import numpy as np

from echotally.engine.codes import BEYOND, K_RETRY, NONE, YES, ZERO
from echotally.engine.kernel.access import (
    World,
    ahead_at,
    aside_at,
    call_at,
    cargo_at,
    clock_of,
    earlier,
    entry_at,
    fetch_call,
    fetch_cargo,
    fetch_event,
    n_aside,
)
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.layout import AHEAD, AHEAD_BITS, FEW_ENTRIES

#: An entry's key is step and number, its ``what`` reference and kind: three words move faster than six.
STEP_SHIFT: int = np.int64(54)  # type: ignore[assignment]
KIND_BITS: int = np.int64(5)  # type: ignore[assignment]
#: Added to a number, an entry comes after all others of its instant and step: there are fewer events than that.
LAST: int = np.int64(2**53)  # type: ignore[assignment]
_BITS: int = np.int64(AHEAD_BITS)  # type: ignore[assignment]
_KIND: int = (YES << KIND_BITS) - YES
_AHEAD: int = np.int64(AHEAD)  # type: ignore[assignment]
_PLACE: int = np.int64(AHEAD - 1)  # type: ignore[assignment]


@hot
def _copy(w: World, i: int, j: int) -> None:
    to, of = entry_at(w, i), entry_at(w, j)
    to.at = of.at
    to.key = of.key
    to.what = of.what


@hot
def _write(w: World, i: int, at: int, key: int, what: int) -> None:
    entry = entry_at(w, i)
    entry.at = at
    entry.key = key
    entry.what = what


@hot
def _before(w: World, i: int, j: int) -> int:
    """The earlier of two entries, without a branch that a processor would have to guess."""
    one, other = entry_at(w, i), entry_at(w, j)
    return i + ((j - i) & earlier(other.at, other.key, one.at, one.key))


@hot
def _earliest(w: World, child: int) -> int:
    """The earliest of four neighbours from ``child`` on."""
    # Two pairs and then the winners: two comparisons that wait for nothing, and one.
    return _before(w, _before(w, child, child + 1), _before(w, child + 2, child + 3))


@hot
def put(w: World, at: int, step: int, number: int, kind: int, ref: int) -> None:
    """Add an entry. ``number`` is the oldest event's number, which breaks ties within a step."""
    clock = clock_of(w)
    key, what = (step << STEP_SHIFT) | number, (ref << KIND_BITS) | kind
    if at >= clock.near_until:
        _stands_aside(w, at, key, what)
    else:
        _enters(w, at, key, what)


@hot
def _enters(w: World, at: int, key: int, what: int) -> None:
    """Put an entry into the heap."""
    clock = clock_of(w)
    i = clock.entries_n
    clock.entries_n = i + 1
    _climb(w, i, at, key, what)


@hot
def _climb(w: World, i: int, at: int, key: int, what: int) -> None:
    """Put an entry where it belongs, from place ``i`` up until what is above comes no later."""
    while i > 0:
        up = (i - 1) >> 2
        above = entry_at(w, up)
        if earlier(at, key, above.at, above.key) == 0:
            break
        _copy(w, i, up)
        i = up
    _write(w, i, at, key, what)


@hot
def _sink(w: World, at: int, key: int, what: int) -> None:
    """Let an entry fall from the top to where it belongs.

    The hole first falls all the way along the earliest children, then the entry climbs back: half the
    comparisons of the textbook way for an entry that came from the bottom (Wegener, "Bottom-up heapsort", 1993).
    """
    n = clock_of(w).entries_n
    i, child = ZERO, ZERO + 1
    # Down along the earliest child, without asking whether the entry would fit here.
    while child < n:
        child = _earliest(w, child)
        _copy(w, i, child)
        i = child
        child = 4 * i + 1
    _climb(w, i, at, key, what)


@hot
def replace_first(w: World, at: int, key: int, what: int) -> None:
    """Another entry takes the first one's place: it falls only as far as it must, which is a step or two for one due soon."""
    n = clock_of(w).entries_n
    i, child = ZERO, ZERO + 1
    while child < n:
        child = _earliest(w, child)
        entry = entry_at(w, child)
        if earlier(entry.at, entry.key, at, key) == 0:
            break
        _copy(w, i, child)
        i = child
        child = 4 * i + 1
    _write(w, i, at, key, what)
    _looks_ahead(w)


@hot
def drop_first(w: World) -> None:
    """Take the first entry out; the last one takes its place and sinks."""
    clock = clock_of(w)
    clock.entries_n -= 1
    last = entry_at(w, clock.entries_n)
    at, key, what = last.at, last.key, last.what
    last.at = BEYOND
    if clock.entries_n > 0:
        _sink(w, at, key, what)
    _looks_ahead(w)


@hot
def _looks_ahead(w: World) -> None:
    """What stands aside and may come before the first of the heap goes into it."""
    if entry_at(w, ZERO).at >= clock_of(w).near_until:
        _comes_nearer(w)


@kernel
def _comes_nearer(w: World) -> None:
    """Move a stretch of time after the other into the heap, until nothing aside can come before its first entry."""
    clock, first = clock_of(w), entry_at(w, ZERO)
    # What is due after the month never comes.
    while clock.aside_n > 0 and first.at >= clock.near_until and clock.near_until < clock.horizon:
        place = clock.stretch & _PLACE
        if place == 0:
            _far_ones_come_nearer(w)
        i = ahead_at(w, place).v
        _fetches_calls(w, i)
        ahead_at(w, place).v = NONE
        clock.stretch += 1
        clock.near_until = clock.stretch << _BITS
        while i >= 0:
            aside = aside_at(w, i)
            after = aside.next
            _enters(w, aside.at, aside.key, aside.what)
            aside.next = clock.free_aside
            clock.free_aside = i
            clock.aside_n -= 1
            i = after
    if clock.aside_n == 0:
        clock.near_until = BEYOND


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


@kernel
def _stands_aside(w: World, at: int, key: int, what: int) -> None:
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
    stretch = aside.at >> _BITS
    place = stretch & _PLACE if stretch < clock.stretch + _AHEAD else _AHEAD
    aside.next = ahead_at(w, place).v
    ahead_at(w, place).v = i


@kernel
def _far_ones_come_nearer(w: World) -> None:
    """The lists have been gone through once: what was due after all of them is looked at anew."""
    i = ahead_at(w, _AHEAD).v
    ahead_at(w, _AHEAD).v = NONE
    while i >= 0:
        after = aside_at(w, i).next
        _listed(w, i)
        i = after


@kernel
def grows_long(w: World) -> None:
    """Put aside what comes from now on, where the heap holds very many entries and there is room beside it."""
    clock = clock_of(w)
    if n_aside(w) > 1 and clock.aside_n == 0 and clock.entries_n > FEW_ENTRIES:
        # Nothing aside may come before the first of the heap.
        clock.stretch = (entry_at(w, ZERO).at >> _BITS) + 1
        clock.near_until = clock.stretch << _BITS
