"""The calendar of coming happenings, ordered by (time, step, number): a row, and beside it lists of what is due later.

The key packs step and number, so that the total order of rule 1.3 is that of one number of 128 bits. The first entry always
stands in the first place; that of an empty calendar never comes.

Few entries stand in a row, the first one in front and the others behind it with the next one last. What comes is nearly always
due before nearly all of them (most are timers of minutes and days), so that it goes past one or two, and taking one out moves one.

When the row is full, what is due after the present stretch of time stands aside, in a list for each stretch to come, and goes into
the row when its stretch begins (Brown, "Calendar queues", 1988): the order in which they come out is the same. A stretch is as
long as a few entries are apart, and is made longer or shorter where many lists are found empty or full. Of very many entries each
list holds more, so that what is far off in memory can be fetched for all of them at once.

Where more are due in one stretch than a row holds (what comes at one instant), they are a heap of four children each, which stand
side by side, so that a level costs little more than with two, and there are half as many (Johnson, "Priority queues with update",
1975). Behind its last entry stand some that never come: the four are always there.
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
    highest_bit,
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
#: The same where others stand aside: in few stretches there are more.
_VERY_FEW: int = np.int64(ROW // 8)  # type: ignore[assignment]
#: A stretch is 2^so many ns long: of very many entries, and of others at least and at most.
_BITS: int = np.int64(AHEAD_BITS)  # type: ignore[assignment]
_SHORTEST, _LONGEST = 16, 40
#: After so many stretches it is looked how many entries they held.
_STRETCHES: int = np.int64(256)  # type: ignore[assignment]
#: From the row's first to its so-manieth entry: how far apart entries are.
_SOME: int = np.int64(ROW // 4)  # type: ignore[assignment]
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
    elif clock.entries_n < clock.row:
        _into_row(w, at, key, what)
    else:
        _put_elsewhere(w, at, key, what)


@hot
def _into_row(w: World, at: int, key: int, what: int) -> None:
    """Put an entry into the row, which has room."""
    clock, first = clock_of(w), entry_at(w, ZERO)
    n = clock.entries_n
    clock.entries_n = n + 1
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
    if clock.row == 0 or at >= clock.near_until:
        _replace_first_elsewhere(w, at, key, what)
        return
    last = clock.entries_n - 1
    following = entry_at(w, last)
    if last > 0 and earlier(following.at, following.key, at, key) != 0:
        _copy(w, ZERO, last)
        _takes_its_place(w, last, at, key, what)
    else:
        _write(w, ZERO, at, key, what)


@kernel
def _replace_first_elsewhere(w: World, at: int, key: int, what: int) -> None:
    """It is due after the present stretch, or there is a heap."""
    if at >= clock_of(w).near_until:
        _stands_aside(w, at, key, what)
        drop_first(w)
    else:
        _replace_first_of_heap(w, at, key, what)


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
        _looks_ahead(w)


@kernel
def _put_elsewhere(w: World, at: int, key: int, what: int) -> None:
    """The row is full, or it is a heap already."""
    clock = clock_of(w)
    if clock.row > 0 and not _spreads(w):
        _becomes_heap(w)
    if at >= clock.near_until:
        _stands_aside(w, at, key, what)
    elif clock.row > 0:
        _into_row(w, at, key, what)
    else:
        _enters(w, at, key, what)


@hot
def _spreads(w: World) -> bool:
    """Put aside what is due after the stretch that begins now; False where that is nothing, so that the row stays full."""
    clock, first, n = clock_of(w), entry_at(w, ZERO), clock_of(w).entries_n
    # Where there are lists already, and this is the stretch that has begun, more than a row holds come at once.
    if n_aside(w) <= 1 or (clock.aside_n > 0 and clock.near_until - first.at <= 2 << clock.bits):
        return False
    # As long as some of the next ones are apart; those that come at once say nothing.
    apart = (entry_at(w, n - _SOME).at - first.at) // _SOME
    _lists_begin(w, highest_bit(apart) + 2 if apart > 0 else clock.bits)
    until = clock.near_until
    # Those due last stand first, behind the one in front.
    far = ZERO
    while far < n - 1 and entry_at(w, far + 1).at >= until:
        far += 1
        entry = entry_at(w, far)
        _stands_aside(w, entry.at, entry.key, entry.what)
    for k in range(far + 1, n):
        _copy(w, k - far, k)
    clock.entries_n = n - far
    return far > 0


@kernel
def _lists_begin(w: World, bits: int) -> None:
    """Stretches are 2^``bits`` ns from here on, and the next one begins after the first entry; what stands aside is listed anew."""
    clock = clock_of(w)
    bits = max(_SHORTEST, min(bits, _LONGEST))
    clock.bits = bits
    clock.stretch = (entry_at(w, ZERO).at >> bits) + 1
    clock.near_until = clock.stretch << bits
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
    """Few are left of a heap: the first one is in front already, the others are put into the row or aside one by one."""
    clock, n = clock_of(w), clock_of(w).entries_n
    clock.row = _ROW
    clock.entries_n = min(n, ZERO + 1)
    for k in range(1, n):
        its = entry_at(w, k)
        if its.at >= clock.near_until:
            _stands_aside(w, its.at, its.key, its.what)
        else:
            _takes_its_place(w, clock.entries_n, its.at, its.key, its.what)
            clock.entries_n += 1


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
    # Of very many each stretch holds many.
    if clock.entries_n <= (_FEW if clock.near_until == BEYOND else _VERY_FEW) and clock.aside_n <= FEW_ENTRIES:
        _becomes_row(w)


@hot
def _looks_ahead(w: World) -> None:
    """What stands aside and may come before the first entry comes nearer."""
    if entry_at(w, ZERO).at >= clock_of(w).near_until:
        _comes_nearer(w)


@kernel
def _comes_nearer(w: World) -> None:
    """Move a stretch of time after the other out of the lists, until nothing aside can come before the first entry."""
    clock, first = clock_of(w), entry_at(w, ZERO)
    # What is due after the month never comes.
    while clock.aside_n > 0 and first.at >= clock.near_until and clock.near_until < clock.horizon:
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
        while i >= 0:
            aside = aside_at(w, i)
            after = aside.next
            _comes_near(w, aside.at, aside.key, aside.what)
            aside.next = clock.free_aside
            clock.free_aside = i
            clock.aside_n -= 1
            clock.came_near += 1
            i = after
        clock.walked += 1
        if clock.walked == _STRETCHES:
            _fits_stretches(w)
    if clock.aside_n == 0:
        clock.near_until = BEYOND


@hot
def _comes_near(w: World, at: int, key: int, what: int) -> None:
    """Put what stood aside into the row, or into the heap if it is one or has to be."""
    clock = clock_of(w)
    if clock.row > 0 and clock.entries_n >= clock.row:
        _becomes_heap(w)
    if clock.row > 0:
        _into_row(w, at, key, what)
    else:
        _enters(w, at, key, what)


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
    stretch = aside.at >> clock.bits
    place = stretch & _PLACE if stretch < clock.stretch + _AHEAD else _AHEAD
    aside.next = ahead_at(w, place).v
    ahead_at(w, place).v = i


@kernel
def grows_long(w: World) -> None:
    """Make stretches longer where very many entries stand aside, or begin to put them aside where they are a heap."""
    clock = clock_of(w)
    if n_aside(w) <= 1 or clock.entries_n + clock.aside_n <= FEW_ENTRIES:
        return
    if clock.aside_n == 0:
        # Nothing aside may come before the first of the heap.
        _lists_begin(w, _BITS)
    elif clock.bits < _BITS:
        clock.bits = _BITS
        clock.stretch = clock.near_until >> _BITS
        _all_listed_anew(w)
