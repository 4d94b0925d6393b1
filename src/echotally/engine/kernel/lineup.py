"""Several that may start at one instant: a heap of those that were looked at, at the front of ``World.marked``.

What one starts nearly always changes for others only that they come later: it may have taken the message that they had before
them. So the first is looked at once more before it starts, and nobody else is. Where others may come sooner (``Clock.line_up``) all
are.
"""

from __future__ import annotations

from echotally.engine.codes import NO, ZERO
from echotally.engine.kernel import candidates, crowds, heaps
from echotally.engine.kernel.access import World, clock_of, crowd_at, crowded_at, marked_at, unit_at
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import Lined


@hot
def whose(w: World, row: Lined) -> int:
    """The unit that a row stands for: itself, or the first of a crowd."""
    return row.who if row.who >= 0 else crowded_at(w, crowd_at(w, -1 - row.who).first).who


@hot
def _looked_up(w: World, row: Lined) -> bool:
    """Write what a unit or a crowd would start next into its row; False where that is nothing."""
    if row.who >= 0:
        return candidates.looked_up(w, row.who, row)
    x = -1 - row.who
    if crowds.first_of(w, x) < 0:
        return False
    of = crowded_at(w, crowd_at(w, x).first)
    row.number, row.tie, row.which, row.line = of.number, of.tie, of.which, of.line
    return True


@hot
def _unmarked(w: World, who: int) -> None:
    if who >= 0:
        unit_at(w, who).marked = NO
    else:
        crowd_at(w, -1 - who).marked = NO


@hot
def _moved(w: World, k: int, j: int) -> None:
    """The row in place ``j`` comes to stand in place ``k``."""
    to, of = marked_at(w, k), marked_at(w, j)
    to.who, to.number, to.tie, to.which, to.line = of.who, of.number, of.tie, of.which, of.line


@hot
def _not_noted(w: World, who: int, k: int) -> None:
    """Nobody asks for the place of a marked one."""


@kernel
def lines_up(w: World) -> None:
    """The first that has not been looked at joins the heap, or goes where it has nothing to start."""
    clock = clock_of(w)
    k = clock.lined_n
    row = marked_at(w, k)
    if _looked_up(w, row):
        clock.lined_n += 1
        heaps.rises(w, marked_at, _not_noted, ZERO, k)
        return
    _unmarked(w, row.who)
    clock.marked_n -= 1
    _moved(w, k, clock.marked_n)


@kernel
def is_as_it_was(w: World, first: Lined) -> bool:
    """Whether the heap's first would still start what it would have; else it is given its place by what it would now."""
    number, tie, which = first.number, first.tie, first.which
    if not _looked_up(w, first):
        first_goes(w)
        return False
    if first.number == number and first.tie == tie and first.which == which:
        return True
    heaps.sinks(w, marked_at, _not_noted, ZERO, clock_of(w).lined_n, ZERO)
    return False


@kernel
def first_goes(w: World) -> None:
    """The heap's first is not looked at any more at this instant."""
    clock = clock_of(w)
    _unmarked(w, marked_at(w, 0).who)
    clock.lined_n -= 1
    clock.marked_n -= 1
    _moved(w, ZERO, clock.lined_n)
    _moved(w, clock.lined_n, clock.marked_n)
    heaps.sinks(w, marked_at, _not_noted, ZERO, clock.lined_n, ZERO)
