"""The calendar of coming happenings, ordered by (time, step, number): what is near, and what stands aside until later.

What is due in the present stretch of time stands in a row or a heap (``near``). When the row is full, what is due later stands
aside, in a list for each stretch to come (``aside``), and comes near when its stretch begins.
"""

from __future__ import annotations

import numpy as np

from echotally.engine.codes import BEYOND, ZERO
from echotally.engine.kernel.access import World, aside_at, clock_of, earlier, entry_at, highest_bit, n_aside
from echotally.engine.kernel.aside import (
    KIND_BITS,
    are_long,
    count_stretch,
    let_go,
    lists_begin,
    next_stretch,
    stands_aside,
)
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.kernel.near import (
    becomes_heap,
    copy,
    drop_first_of_heap,
    enters,
    into_row,
    replace_first_of_heap,
    takes_its_place,
    write,
)
from echotally.engine.layout import FEW_ENTRIES, ROW

#: An entry's key is step and number: with its ``what`` and its time three words, which move faster than six.
STEP_SHIFT: int = np.int64(54)  # type: ignore[assignment]
#: Added to a number, an entry comes after all others of its instant and step: there are fewer events than that.
LAST: int = np.int64(2**53)  # type: ignore[assignment]
#: So many entries stand in a row at most, and so many are left of a heap when they stand in one again.
_ROW: int = np.int64(ROW)  # type: ignore[assignment]
_FEW: int = np.int64(ROW * 5 // 8)  # type: ignore[assignment]
#: The same where others stand aside: in few stretches there are more.
_VERY_FEW: int = np.int64(ROW // 8)  # type: ignore[assignment]
#: From the row's first to its so-manieth entry: how far apart entries are.
_SOME: int = np.int64(ROW // 4)  # type: ignore[assignment]


@hot
def put(w: World, at: int, step: int, number: int, kind: int, ref: int) -> None:
    """Add an entry. ``number`` is the oldest event's number, which breaks ties within a step."""
    clock = clock_of(w)
    key, what = (step << STEP_SHIFT) | number, (ref << KIND_BITS) | kind
    if at >= clock.near_until:
        stands_aside(w, at, key, what)
    elif clock.entries_n < clock.row:
        into_row(w, at, key, what)
    else:
        _put_elsewhere(w, at, key, what)


@kernel
def _put_elsewhere(w: World, at: int, key: int, what: int) -> None:
    """The row is full, or it is a heap already."""
    clock = clock_of(w)
    if clock.row > 0 and not _spreads(w):
        becomes_heap(w)
    if at >= clock.near_until:
        stands_aside(w, at, key, what)
    elif clock.row > 0:
        into_row(w, at, key, what)
    else:
        enters(w, at, key, what)


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
        copy(w, ZERO, last)
        takes_its_place(w, last, at, key, what)
    else:
        write(w, ZERO, at, key, what)


@kernel
def _replace_first_elsewhere(w: World, at: int, key: int, what: int) -> None:
    """It is due after the present stretch, or there is a heap."""
    if at >= clock_of(w).near_until:
        stands_aside(w, at, key, what)
        drop_first(w)
    else:
        replace_first_of_heap(w, at, key, what)
        _looks_ahead(w)


@hot
def drop_first(w: World) -> None:
    """Take the first entry out; the next one stands in front."""
    clock = clock_of(w)
    if clock.row == 0:
        _drop_first_elsewhere(w)
        return
    last = clock.entries_n - 1
    clock.entries_n = last
    if last > 0:
        copy(w, ZERO, last)
    else:
        entry_at(w, ZERO).at = BEYOND
        _looks_ahead(w)


@kernel
def _drop_first_elsewhere(w: World) -> None:
    """There is a heap, which is a row again when few are left."""
    clock = clock_of(w)
    drop_first_of_heap(w)
    _looks_ahead(w)
    # Of very many each stretch holds many.
    if clock.entries_n <= (_FEW if clock.near_until == BEYOND else _VERY_FEW) and clock.aside_n <= FEW_ENTRIES:
        _becomes_row(w)


@kernel
def _becomes_row(w: World) -> None:
    """Few are left of a heap: the first one is in front already, the others are put into the row or aside one by one."""
    clock, n = clock_of(w), clock_of(w).entries_n
    clock.row = _ROW
    clock.entries_n = min(n, ZERO + 1)
    for k in range(1, n):
        its = entry_at(w, k)
        if its.at >= clock.near_until:
            stands_aside(w, its.at, its.key, its.what)
        else:
            takes_its_place(w, clock.entries_n, its.at, its.key, its.what)
            clock.entries_n += 1


@hot
def _spreads(w: World) -> bool:
    """Put aside what is due after the stretch that begins now; False where that is nothing, so that the row stays full."""
    clock, first, n = clock_of(w), entry_at(w, ZERO), clock_of(w).entries_n
    # Where there are lists already, and this is the stretch that has begun, more than a row holds come at once.
    if n_aside(w) <= 1 or (clock.aside_n > 0 and clock.near_until - first.at <= 2 << clock.bits):
        return False
    # As long as some of the next ones are apart; those that come at once say nothing.
    apart = (entry_at(w, n - _SOME).at - first.at) // _SOME
    lists_begin(w, first.at, highest_bit(apart) + 2 if apart > 0 else clock.bits)
    until = clock.near_until
    # Those due last stand first, behind the one in front.
    far = ZERO
    while far < n - 1 and entry_at(w, far + 1).at >= until:
        far += 1
        entry = entry_at(w, far)
        stands_aside(w, entry.at, entry.key, entry.what)
    for k in range(far + 1, n):
        copy(w, k - far, k)
    clock.entries_n = n - far
    return far > 0


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
        i = next_stretch(w)
        while i >= 0:
            aside = aside_at(w, i)
            _comes_near(w, aside.at, aside.key, aside.what)
            i = let_go(w, i)
        count_stretch(w)
    if clock.aside_n == 0:
        clock.near_until = BEYOND


@hot
def _comes_near(w: World, at: int, key: int, what: int) -> None:
    """Put what stood aside into the row, or into the heap if it is one or has to be."""
    clock = clock_of(w)
    if clock.row > 0 and clock.entries_n >= clock.row:
        becomes_heap(w)
    if clock.row > 0:
        into_row(w, at, key, what)
    else:
        enters(w, at, key, what)


@kernel
def grows_long(w: World) -> None:
    """Make stretches longer where very many entries stand aside, or begin to put them aside where they are a heap."""
    clock = clock_of(w)
    if n_aside(w) > 1 and clock.entries_n + clock.aside_n > FEW_ENTRIES:
        # Nothing aside may come before the first of the heap.
        are_long(w, entry_at(w, ZERO).at)
