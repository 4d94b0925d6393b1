"""The calendar of coming happenings, ordered by (time, step, number): a row, or a heap where it holds many.

The key packs step and number, so that the total order of rule 1.3 is that of one number of 128 bits. The first entry always
stands in the first place; that of an empty calendar never comes.

Few entries stand in a row, the first one in front and the others behind it with the next one last. What comes is nearly always
due before nearly all of them (most are timers of minutes and days), so that it goes past one or two, and taking one out moves one.
Many are a heap of four children each, which stand side by side, so that a level costs little more than with two, and there are
half as many (Johnson, "Priority queues with update", 1975). Behind its last entry stand some that never come: the four are always
there.

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
    n_calendar,
)
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.layout import AHEAD, AHEAD_BITS, FEW_ENTRIES, ROW, SENTINELS

#: An entry's key is step and number, its ``what`` reference and kind: three words move faster than six.
STEP_SHIFT: int = np.int64(54)  # type: ignore[assignment]
KIND_BITS: int = np.int64(5)  # type: ignore[assignment]
#: Added to a number, an entry comes after all others of its instant and step: there are fewer events than that.
LAST: int = np.int64(2**53)  # type: ignore[assignment]
#: So many entries stand in a row at most, and so many are left of a heap when they stand in one again.
_ROW: int = np.int64(ROW)  # type: ignore[assignment]
_FEW: int = np.int64(ROW * 5 // 8)  # type: ignore[assignment]
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
    n, key, what = clock.entries_n, (step << STEP_SHIFT) | number, (ref << KIND_BITS) | kind
    if n >= clock.row:
        _put_into_heap(w, at, key, what)
        return
    clock.entries_n = n + 1
    first = entry_at(w, ZERO)
    if earlier(at, key, first.at, first.key) == 0:
        _takes_its_place(w, n, at, key, what)
    else:
        _copy(w, n, ZERO)
        _write(w, ZERO, at, key, what)


@hot
def _takes_its_place(w: World, i: int, at: int, key: int, what: int) -> None:
    """Put an entry into the row, from its end, the free place ``i``, on past those that come before it."""
    while i > 1:
        before = entry_at(w, i - 1)
        if earlier(at, key, before.at, before.key) != 0:
            break
        _copy(w, i, i - 1)
        i -= 1
    _write(w, i, at, key, what)


@hot
def replace_first(w: World, at: int, key: int, what: int) -> None:
    """Another entry takes the first one's place, in front if it comes before the next, else where it belongs."""
    clock = clock_of(w)
    if clock.row == 0:
        _replace_first_of_heap(w, at, key, what)
        return
    last = clock.entries_n - 1
    following = entry_at(w, last)
    if last > 0 and earlier(following.at, following.key, at, key) != 0:
        _copy(w, ZERO, last)
        _takes_its_place(w, last, at, key, what)
    else:
        _write(w, ZERO, at, key, what)


@hot
def drop_first(w: World) -> None:
    """Take the first entry out; the next one stands in front."""
    clock = clock_of(w)
    if clock.row == 0:
        _drop_first_of_heap(w)
        return
    last = clock.entries_n - 1
    clock.entries_n = last
    if last > 0:
        _copy(w, ZERO, last)
    else:
        entry_at(w, ZERO).at = BEYOND


@kernel
def _put_into_heap(w: World, at: int, key: int, what: int) -> None:
    """The row is full, or it is a heap already."""
    clock = clock_of(w)
    if clock.row > 0:
        _becomes_heap(w)
    if at >= clock.near_until:
        _stands_aside(w, at, key, what)
    else:
        _enters(w, at, key, what)


@hot
def _becomes_heap(w: World) -> None:
    """What stands in order is a heap; only the others have to be turned round, and those behind must never come."""
    clock = clock_of(w)
    n = clock.entries_n
    clock.row = ZERO
    i, j = ZERO + 1, n - 1
    while i < j:
        one = entry_at(w, i)
        at, key, what = one.at, one.key, one.what
        _copy(w, i, j)
        _write(w, j, at, key, what)
        i, j = i + 1, j - 1
    for k in range(n, min(n_calendar(w), _ROW + SENTINELS)):
        entry_at(w, k).at = BEYOND


@kernel
def _becomes_row(w: World) -> None:
    """Few are left of a heap: the first one is in front already, the others are put into the row one by one."""
    clock = clock_of(w)
    clock.row = _ROW
    for k in range(1, clock.entries_n):
        its = entry_at(w, k)
        _takes_its_place(w, k, its.at, its.key, its.what)


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


@kernel
def _replace_first_of_heap(w: World, at: int, key: int, what: int) -> None:
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


@kernel
def _drop_first_of_heap(w: World) -> None:
    """Take the first entry out; the last one takes its place and sinks."""
    clock = clock_of(w)
    clock.entries_n -= 1
    last = entry_at(w, clock.entries_n)
    at, key, what = last.at, last.key, last.what
    last.at = BEYOND
    if clock.entries_n > 0:
        _sink(w, at, key, what)
    _looks_ahead(w)
    if clock.entries_n <= _FEW and clock.near_until == BEYOND:
        _becomes_row(w)


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
