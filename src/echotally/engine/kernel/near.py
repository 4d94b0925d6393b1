"""What is due in the present stretch of time: a row, or where more is due than one holds, a heap.

The key of an entry packs step and number, so that the total order of rule 1.3 is that of one number of 128 bits. The first entry
always stands in the first place; that of an empty calendar never comes.

Few entries stand in a row, the first one in front and the others behind it with the next one last. What comes is nearly always
due before nearly all of them (most are timers of minutes and days), so that it goes past one or two, and taking one out moves one.

Where more are due in one stretch than a row holds (what comes at one instant), they are a heap of four children each, which stand
side by side, so that a level costs little more than with two, and there are half as many (Johnson, "Priority queues with update",
1975). Behind its last entry stand some that never come: the four are always there.
"""

from __future__ import annotations

import numpy as np

from echotally.engine.codes import BEYOND, ZERO
from echotally.engine.kernel.access import World, clock_of, earlier, entry_at, n_calendar
from echotally.engine.kernel.compiled import hot
from echotally.engine.layout import ROW, SENTINELS

_ROW: int = np.int64(ROW)  # type: ignore[assignment]


@hot
def copy(w: World, i: int, j: int) -> None:
    """The entry in place ``j`` stands in place ``i`` too."""
    to, of = entry_at(w, i), entry_at(w, j)
    to.at = of.at
    to.key = of.key
    to.what = of.what


@hot
def write(w: World, i: int, at: int, key: int, what: int) -> None:
    """Lay an entry down in place ``i``."""
    entry = entry_at(w, i)
    entry.at = at
    entry.key = key
    entry.what = what


@hot
def into_row(w: World, at: int, key: int, what: int) -> None:
    """Put an entry into the row, which has room."""
    clock, first = clock_of(w), entry_at(w, ZERO)
    n = clock.entries_n
    clock.entries_n = n + 1
    if earlier(at, key, first.at, first.key) == 0:
        takes_its_place(w, n, at, key, what)
    else:
        copy(w, n, ZERO)
        write(w, ZERO, at, key, what)


@hot
def takes_its_place(w: World, i: int, at: int, key: int, what: int) -> None:
    """Put an entry into the row, from its end, the free place ``i``, on past those that come before it."""
    while i > 1:
        before = entry_at(w, i - 1)
        if earlier(at, key, before.at, before.key) != 0:
            break
        copy(w, i, i - 1)
        i -= 1
    write(w, i, at, key, what)


@hot
def becomes_heap(w: World) -> None:
    """What stands in order is a heap; only the others have to be turned round, and those behind must never come."""
    clock = clock_of(w)
    n = clock.entries_n
    clock.row = ZERO
    i, j = ZERO + 1, n - 1
    while i < j:
        one = entry_at(w, i)
        at, key, what = one.at, one.key, one.what
        copy(w, i, j)
        write(w, j, at, key, what)
        i, j = i + 1, j - 1
    for k in range(n, min(n_calendar(w), _ROW + SENTINELS)):
        entry_at(w, k).at = BEYOND


@hot
def enters(w: World, at: int, key: int, what: int) -> None:
    """Put an entry into the heap."""
    clock = clock_of(w)
    i = clock.entries_n
    clock.entries_n = i + 1
    _climb(w, i, at, key, what)


@hot
def replace_first_of_heap(w: World, at: int, key: int, what: int) -> None:
    """Another entry takes the first one's place: it falls only as far as it must, which is a step or two for one due soon."""
    n = clock_of(w).entries_n
    i, child = ZERO, ZERO + 1
    while child < n:
        child = _earliest(w, child)
        entry = entry_at(w, child)
        if earlier(entry.at, entry.key, at, key) == 0:
            break
        copy(w, i, child)
        i = child
        child = 4 * i + 1
    write(w, i, at, key, what)


@hot
def drop_first_of_heap(w: World) -> None:
    """Take the first entry out; the last one takes its place and sinks."""
    clock = clock_of(w)
    clock.entries_n -= 1
    last = entry_at(w, clock.entries_n)
    at, key, what = last.at, last.key, last.what
    last.at = BEYOND
    if clock.entries_n > 0:
        _sink(w, at, key, what)


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
        copy(w, i, child)
        i = child
        child = 4 * i + 1
    _climb(w, i, at, key, what)


@hot
def _climb(w: World, i: int, at: int, key: int, what: int) -> None:
    """Put an entry where it belongs, from place ``i`` up until what is above comes no later."""
    while i > 0:
        up = (i - 1) >> 2
        above = entry_at(w, up)
        if earlier(at, key, above.at, above.key) == 0:
            break
        copy(w, i, up)
        i = up
    write(w, i, at, key, what)


@hot
def _earliest(w: World, child: int) -> int:
    """The earliest of four neighbours from ``child`` on."""
    # Two pairs and then the winners: two comparisons that wait for nothing, and one.
    return _before(w, _before(w, child, child + 1), _before(w, child + 2, child + 3))


@hot
def _before(w: World, i: int, j: int) -> int:
    """The earlier of two entries, without a branch that a processor would have to guess."""
    one, other = entry_at(w, i), entry_at(w, j)
    return i + ((j - i) & earlier(other.at, other.key, one.at, one.key))
