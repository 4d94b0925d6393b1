"""Pushed calls that were sent away come again: each asks anew, or all of a list are sent away again, one after the other.

A topic that gets more than its function can take has each event tried a hundred times. Where a unit surely has no room, and nothing
else in the estate happens before, those are not looked at more closely than their waits and counts need.
"""

from __future__ import annotations

from echotally.engine.codes import L_FREE, L_STARTING, NONE, THROTTLES, YES, ZERO
from echotally.engine.kernel import again, beside, kinds, lists, nodes, placing, series, short_way
from echotally.engine.kernel.access import (
    World,
    account_at,
    call_at,
    chain_at,
    clock_of,
    fetch_call,
    n_refusals,
    unit_at,
)
from echotally.engine.kernel.compiled import hot, kernel


@kernel
def comes(w: World, lst: int, number: int) -> None:
    """The first of a list comes again."""
    c = chain_at(w, lst).head
    # Another one may have come to stand in front of it meanwhile.
    if c < 0 or call_at(w, c).number != number or call_at(w, c).ends != clock_of(w).now:
        return
    u = call_at(w, c).unit
    if not _given_up(w, c) and _lacks_room(w, u):
        _sent_away(w, lst, u)
        return
    lists.remove(w, call_at, lst, c)
    # Before it asks: who asks looks whether others come at the same instant.
    if chain_at(w, lst).head >= 0:
        again.armed(w, lst)
    kinds.try_again(w, c)


@hot
def _given_up(w: World, c: int) -> bool:
    """Whether call ``c`` is given up where it finds no room now."""
    call = call_at(w, c)
    unit = unit_at(w, call.unit)
    return call.ends + min(2 * call.wait, unit.longest_wait) > call.arrived + unit.give_up


@hot
def _lacks_room(w: World, u: int) -> bool:
    """Whether nothing else happens at this instant, nobody watches, and unit ``u`` has no room, as ``placing.room_for`` would find."""
    clock, unit = clock_of(w), unit_at(w, u)
    if clock.marked_n > 0 or clock.expected_n > 0 or beside.next_at(w) <= clock.now:
        return False
    if not short_way.unwatched(w) or n_refusals(w) > 1:
        return False
    account = account_at(w, unit.account)
    if placing.is_full(account):
        account.blocked = YES
        return True
    if chain_at(w, unit.lists + L_FREE).head >= 0 or chain_at(w, unit.lists + L_STARTING).head >= 0:
        return False
    if unit.count >= unit.limit or account.no_new == YES:
        return True
    # One that lacks a start token now lacks it until the entry that this look puts into the calendar.
    return nodes.fits(w, u) and not placing.token_left(w, u)


@hot
def _sent_away(w: World, lst: int, u: int) -> None:
    """The first of a list and those behind it find no room, one after the other, until something else happens.

    What ``pushed.throttle`` would do with each.
    """
    clock, unit = clock_of(w), unit_at(w, u)
    series.backlog_seen(w, u)
    # No further than playing goes: each is a step.
    most, over, n, items = clock.last - clock.steps, min(clock.until, clock.horizon), ZERO, ZERO
    c = chain_at(w, lst).head
    into = lst if call_at(w, c).wait >= unit.longest_wait else lst + 1
    while True:
        call = call_at(w, c)
        clock.now = call.ends
        after = call.next
        if after >= 0:
            # The one behind the next: the next has been brought near before.
            fetch_call(w, max(ZERO, call_at(w, after).next))
        n += 1
        items += call.items
        lists.remove(w, call_at, lst, c)
        call.wait = min(2 * call.wait, unit.longest_wait)
        call.ends += call.wait
        again.stands(w, into, c)
        # One that stands in its list alone has had its entry as it came to stand there.
        c = chain_at(w, lst).head if chain_at(w, lst).head != c else NONE
        if c < 0:
            break
        if n > most or call_at(w, c).ends >= min(over, beside.next_at(w)) or _given_up(w, c):
            break
    # The first has been counted as a step.
    clock.steps += n - 1
    unit.attempts += n
    unit.throttled += n
    unit.refused_since += items
    series.add(w, u, THROTTLES, n)
    if c >= 0:
        again.armed(w, lst)
