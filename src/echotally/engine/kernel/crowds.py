"""Crowds: units that wait for what they share, an account's limit, memory of reserved instances or room on nodes (rule 4.1).

Those of an account that need the same are one crowd: what is full for one of them is full for all. So whoever ends a call wakes
crowds and not units, and only the first of a crowd is looked at, however many wait: but for those who have an instance and waited
for the account alone, which are looked at by themselves where the first finds no node. Members stand in a heap by what they would
start next; it may have gone meanwhile, and is looked up again when its turn comes. It never comes earlier than the heap says:
whoever gets something older to start is marked, and joins again if there is no room.
"""

from __future__ import annotations

from echotally.engine.codes import L_FREE, L_STARTING, NO, NONE, YES
from echotally.engine.kernel import candidates, heaps, marking
from echotally.engine.kernel.access import World, chain_at, crowd_at, crowded_at, unit_at
from echotally.engine.kernel.compiled import hot, kernel


@hot
def _noted(w: World, u: int, k: int) -> None:
    unit_at(w, u).crowd_at = k


@kernel
def joins(w: World, u: int) -> None:
    """Unit ``u`` found no room in what it shares: it waits with the others, if it still has something to start."""
    unit = unit_at(w, u)
    crowd, k = crowd_at(w, unit.crowd), unit.crowd_at
    if k < 0:
        k = crowd.first + crowd.n
        crowd.n += 1
        crowded_at(w, k).who = u
        unit.crowd_at = k
    if candidates.looked_up(w, u, crowded_at(w, k)):
        if _has_instance(w, u):
            crowd.warm = YES
        _finds_its_place(w, unit.crowd, k)
    else:
        leaves(w, u)


@kernel
def leaves(w: World, u: int) -> None:
    """Unit ``u``, which waits with others, waits no more, or for something of its own."""
    unit = unit_at(w, u)
    crowd, k = crowd_at(w, unit.crowd), unit.crowd_at
    crowd.n -= 1
    unit.crowd_at = NONE
    last = crowd.first + crowd.n
    if k == last:
        return
    row, of = crowded_at(w, k), crowded_at(w, last)
    row.who, row.number, row.tie, row.which, row.line = of.who, of.number, of.tie, of.which, of.line
    _noted(w, row.who, k)
    _finds_its_place(w, unit.crowd, k)


@hot
def _has_instance(w: World, u: int) -> bool:
    """Whether a free or starting instance of its own would take a call of unit ``u``."""
    lists = unit_at(w, u).lists
    return chain_at(w, lists + L_FREE).head >= 0 or chain_at(w, lists + L_STARTING).head >= 0


@kernel
def with_instances_are_marked(w: World, x: int) -> None:
    """Members of crowd ``x`` that have an instance of their own are looked at by themselves: they waited for the account alone."""
    crowd = crowd_at(w, x)
    if crowd.warm == NO:
        return
    # Who then still finds no room joins again; whose instance comes free later is marked by that.
    crowd.warm = NO
    for k in range(crowd.first, crowd.first + crowd.n):
        u = crowded_at(w, k).who
        if _has_instance(w, u):
            marking.mark(w, u)


@hot
def _finds_its_place(w: World, x: int, k: int) -> None:
    first = crowd_at(w, x).first
    k = heaps.rises(w, crowded_at, _noted, first, k)
    heaps.sinks(w, crowded_at, _noted, first, crowd_at(w, x).n, k)


@kernel
def first_of(w: World, x: int) -> int:
    """The unit of crowd ``x`` whose turn it is, NONE where nobody has anything to start."""
    crowd = crowd_at(w, x)
    row = crowded_at(w, crowd.first)
    while crowd.n > 0:
        u, number, tie = row.who, row.number, row.tie
        if not candidates.looked_up(w, u, row):
            leaves(w, u)
        elif row.number == number and row.tie == tie:
            return u
        else:
            # It has less to hurry for than it had: perhaps another comes before it now.
            heaps.sinks(w, crowded_at, _noted, crowd.first, crowd.n, crowd.first)
    return NONE
