"""Lists of pushed calls that were sent away and come again (rule 4.3): those of a unit that wait equally long stand in one.

Each waits as long as the others of its list, so that they come again in the order in which they stand, and only the first of a list
has an entry in the calendar. Units that also read queues or streams, or are asked, have no such lists (``build.units``).
"""

from __future__ import annotations

from echotally.engine.codes import DUE, K_AGAIN
from echotally.engine.kernel import lists
from echotally.engine.kernel.access import World, call_at, chain_at, clock_of, unit_at
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.compiled import hot, kernel


@kernel
def joins(w: World, c: int) -> None:
    """Call ``c`` comes again after its wait."""
    clock, call = clock_of(w), call_at(w, c)
    unit = unit_at(w, call.unit)
    # Waits double, so that their number says which it is.
    lst, wait = unit.waits, min(unit.first_wait, unit.longest_wait)
    while wait < call.wait:
        lst, wait = lst + 1, min(2 * wait, unit.longest_wait)
    call.ends = clock.now + call.wait
    stands(w, lst, c)


@hot
def stands(w: World, lst: int, c: int) -> None:
    """Put call ``c`` where it belongs by when it comes again: nearly always at the end."""
    call, before = call_at(w, c), chain_at(w, lst).tail
    call.list = lst
    while before >= 0 and _comes_later(w, before, c):
        before = call_at(w, before).prev
    if before == chain_at(w, lst).tail:
        lists.append(w, call_at, lst, c)
    elif before >= 0:
        lists.insert_behind(w, call_at, lst, before, c)
    else:
        lists.push_front(w, call_at, lst, c)
    if chain_at(w, lst).head == c:
        armed(w, lst)


@hot
def _comes_later(w: World, one: int, other: int) -> bool:
    """Whether call ``one`` comes again after the other; at one instant their numbers decide (rule 1.3)."""
    its, of = call_at(w, one), call_at(w, other)
    return its.ends > of.ends or (its.ends == of.ends and its.number > of.number)


@hot
def armed(w: World, lst: int) -> None:
    """The first of a list has its entry in the calendar."""
    call = call_at(w, chain_at(w, lst).head)
    put(w, call.ends, DUE, call.number, K_AGAIN, lst)
