"""Pushed calls that were sent away come again: each asks anew, or all of a list are sent away again, one after the other.

A topic that gets more than its function can take has each event tried a hundred times. Where a unit surely has no room, and nothing
else in the estate happens before, those are not looked at more closely than their waits and counts need.
"""

from __future__ import annotations

from echotally.engine.codes import L_FREE, L_STARTING, NEVER, NO, NONE, THROTTLES, YES, ZERO
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
    c, now = chain_at(w, lst).head, clock_of(w).now
    # Another one may have come to stand in front of it meanwhile.
    if c < 0 or call_at(w, c).number != number or call_at(w, c).ends != now:
        return
    u = call_at(w, c).unit
    full_until = now if _given_up(w, c) else _full_until(w, u)
    if full_until > now:
        _sent_away(w, lst, u, full_until)
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
def _full_until(w: World, u: int) -> int:
    """Before when unit ``u`` surely has no room, as ``placing.room_for`` would find, if nothing else happens; now, where it may have.

    Runs that end now have ended (rule 1.3). What else comes now asks for room as well, which leaves nobody more.
    """
    clock, unit = clock_of(w), unit_at(w, u)
    # Whoever watches wants to hear of each. What is missing of a floor has its turn after all that comes again.
    if not short_way.unwatched(w) or n_refusals(w) > 1 or unit.filling == YES:
        return clock.now
    account = account_at(w, unit.account)
    if placing.is_full(account):
        account.blocked = YES
        return NEVER
    if chain_at(w, unit.lists + L_FREE).head >= 0 or chain_at(w, unit.lists + L_STARTING).head >= 0:
        return clock.now
    if unit.count >= unit.limit or account.no_new == YES:
        return NEVER
    # The first that lacks a token tells so itself (``Clock.short``).
    if clock.short == NO or unit.token_cost == 0 or not nodes.fits(w, u):
        return clock.now
    level = placing.filled(w, u)
    return placing.next_token_at(w, u, level) if level < unit.token_cost else clock.now + _is_too_late(w, u, level)


@hot
def _is_too_late(w: World, u: int, level: int) -> int:
    """YES where others that come again now, all of older events, surely take every token that is left; else ZERO, and it is one of them.

    One of a unit that has no instance with room and no other candidate now takes a token, or finds that there is none. That they are
    older is the calendar's order, and the older event starts first (rule 4.1).
    """
    clock, unit = clock_of(w), unit_at(w, u)
    account = account_at(w, unit.account)
    # Which of them a node has room for is not known before.
    if unit.token_scope == NO or account.node_n > 0 or unit.marked == YES:
        return ZERO
    rivals = account.rivals if account.rivals_at == clock.now else ZERO
    if rivals * unit.token_cost + unit.token_cost > level:
        return YES
    account.rivals, account.rivals_at = rivals + 1, clock.now
    return ZERO


@hot
def _as_it_is_until(w: World) -> int:
    """Before when nothing happens that could give a unit room which has none at this instant."""
    clock = clock_of(w)
    this_instant = clock.now + YES
    if clock.marked_n > 0 or clock.expected_n > 0:
        return this_instant
    return max(this_instant, beside.next_at(w))


@hot
def _sent_away(w: World, lst: int, u: int, full_until: int) -> None:
    """The first of a list and those behind it find no room, one after the other, before ``full_until`` and until something happens.

    What ``pushed.throttle`` would do with each.
    """
    clock, unit = clock_of(w), unit_at(w, u)
    series.backlog_seen(w, u)
    # No further than playing goes: each is a step.
    most, over, n, items = clock.last - clock.steps, min(clock.until, clock.horizon, full_until), ZERO, ZERO
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
        if n > most or call_at(w, c).ends >= min(over, _as_it_is_until(w)) or _given_up(w, c):
            break
    # The first has been counted as a step.
    clock.steps += n - 1
    unit.attempts += n
    unit.throttled += n
    unit.refused_since += items
    series.add(w, u, THROTTLES, n)
    if c >= 0:
        again.armed(w, lst)
