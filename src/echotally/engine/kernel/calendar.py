"""The calendar of coming happenings: a binary heap ordered by (time, step, number).

The key packs step and number, so that the total order of rules.md section 1 is two comparisons.
"""

from __future__ import annotations

import numpy as np

from echotally.engine.kernel.access import clock, hp
from echotally.engine.kernel.compiled import hot
from echotally.engine.records import SAME

#: An entry's key is step and number, its ``what`` reference and kind: three words move faster than six.
STEP_SHIFT = np.int64(54)
KIND_BITS = np.int64(5)


@hot
def _copy(w, i, j):
    to, of = hp(w, i), hp(w, j)
    to.at = of.at
    to.key = of.key
    to.what = of.what


@hot
def _write(w, i, at, key, what):
    e = hp(w, i)
    e.at = at
    e.key = key
    e.what = what


@hot
def _earlier(w, child):
    """The earlier of two neighbouring entries, without a branch that a processor would have to guess."""
    one, other = hp(w, child), hp(w, child + 1)
    return child + ((other.at < one.at) | ((other.at == one.at) & (other.key < one.key)))


@hot
def put(w, at, step, number, kind, ref):
    """Add an entry. ``number`` is the oldest event's number, which breaks ties within a step."""
    ck = clock(w)
    key = (step << STEP_SHIFT) | number
    what = (ref << KIND_BITS) | kind
    i = ck.heap_n
    ck.heap_n = i + 1
    while i > 0:
        up = (i - 1) >> 1
        if hp(w, up).at < at or (hp(w, up).at == at and hp(w, up).key <= key):
            break
        _copy(w, i, up)
        i = up
    _write(w, i, at, key, what)


@hot
def _sink(w, at, key, what):
    """Let an entry fall from the top to where it belongs.

    The hole first falls all the way along the smaller children, then the entry climbs back: half the
    comparisons of the textbook way for an entry that came from the bottom (Wegener, "Bottom-up heapsort", 1993).
    """
    n = clock(w).heap_n
    i, child = SAME, SAME + 1
    while child + 1 < n:
        child = _earlier(w, child)
        _copy(w, i, child)
        i = child
        child = 2 * i + 1
    if child < n:
        _copy(w, i, child)
        i = child
    while i > 0:
        up = (i - 1) >> 1
        e = hp(w, up)
        if e.at < at or (e.at == at and e.key <= key):
            break
        _copy(w, i, up)
        i = up
    _write(w, i, at, key, what)


@hot
def replace_first(w, at, key, what):
    """Another entry takes the first one's place: it falls only as far as it must, which is a step or two for one due soon."""
    n = clock(w).heap_n
    i, child = SAME, SAME + 1
    while child < n:
        if child + 1 < n:
            child = _earlier(w, child)
        e = hp(w, child)
        if e.at > at or (e.at == at and e.key >= key):
            break
        _copy(w, i, child)
        i = child
        child = 2 * i + 1
    _write(w, i, at, key, what)


@hot
def drop_first(w):
    """Take the first entry out; the last one takes its place and sinks."""
    ck = clock(w)
    ck.heap_n -= 1
    last = hp(w, ck.heap_n)
    _sink(w, last.at, last.key, last.what)
