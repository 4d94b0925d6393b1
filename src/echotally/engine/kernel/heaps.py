"""Heaps of who has something to start: the oldest event first, of equals the fewest batches in flight, then by the file (rule 9.9).

A heap is part of an array of ``Lined``, from a place ``first`` on. ``noted`` is told where each of them comes to stand.
"""

from __future__ import annotations

from collections.abc import Callable

from echotally.engine.kernel.access import Accessor, World
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import Lined

Noted = Callable[[World, int, int], None]


@hot
def comes_before(one: Lined, other: Lined) -> bool:
    """Whether one has its turn before another."""
    if one.number != other.number:
        return one.number < other.number
    if one.tie != other.tie:
        return one.tie < other.tie
    return one.which < other.which


@hot
def _swap(w: World, rows: Accessor[Lined], noted: Noted, i: int, j: int) -> None:
    one, other = rows(w, i), rows(w, j)
    one.who, other.who = other.who, one.who
    one.number, other.number = other.number, one.number
    one.tie, other.tie = other.tie, one.tie
    one.which, other.which = other.which, one.which
    one.line, other.line = other.line, one.line
    noted(w, one.who, i)
    noted(w, other.who, j)


@kernel
def rises(w: World, rows: Accessor[Lined], noted: Noted, first: int, k: int) -> int:
    """Let the one in place ``k`` rise to where it belongs; returns its place."""
    while k > first:
        up = first + ((k - first - 1) >> 1)
        if not comes_before(rows(w, k), rows(w, up)):
            break
        _swap(w, rows, noted, k, up)
        k = up
    return k


@kernel
def sinks(w: World, rows: Accessor[Lined], noted: Noted, first: int, n: int, k: int) -> None:
    """Let the one in place ``k`` of a heap of ``n`` sink to where it belongs."""
    while True:
        child = first + 2 * (k - first) + 1
        if child >= first + n:
            return
        if child + 1 < first + n and comes_before(rows(w, child + 1), rows(w, child)):
            child += 1
        if not comes_before(rows(w, child), rows(w, k)):
            return
        _swap(w, rows, noted, k, child)
        k = child
