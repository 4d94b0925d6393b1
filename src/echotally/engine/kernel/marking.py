"""Units that may have something to start at this instant: marked, and looked at once its arrivals are over."""

from __future__ import annotations

from echotally.engine.codes import NO, YES
from echotally.engine.kernel.access import World, account_at, clock_of, crowd_at, marked_at, n_refusals, unit_at
from echotally.engine.kernel.compiled import hot, kernel


@hot
def mark(w: World, u: int) -> None:
    """Remember that a unit may have something to start at this instant."""
    # Once is enough: an instant may bring a unit thousands of reasons to look.
    if unit_at(w, u).marked == NO:
        unit_at(w, u).marked = YES
        _stands(w, u)


@hot
def _stands(w: World, who: int) -> None:
    marked_at(w, clock_of(w).marked_n).who = who
    clock_of(w).marked_n += 1


@kernel
def mark_waiting(w: World, a: int) -> None:
    """What an account's units share has changed: all of them that wait may start."""
    account = account_at(w, a)
    # Set again by the first that still finds no room.
    account.blocked = NO
    for u in range(account.first_unit, account.first_unit + account.unit_n):
        if unit_at(w, u).waiting > 0:
            mark(w, u)


@kernel
def mark_blocked(w: World, a: int) -> None:
    """Something shared came free: wake whoever found no room for lack of it."""
    if account_at(w, a).blocked == YES:
        _wake(w, a)


@kernel
def _wake(w: World, a: int) -> None:
    account = account_at(w, a)
    if n_refusals(w) > 1:
        # Whoever reads what was in the way wants to know it of each.
        mark_waiting(w, a)
        return
    account.blocked = NO
    for x in range(account.first_crowd, account.first_crowd + account.crowd_n):
        crowd = crowd_at(w, x)
        if crowd.n > 0 and crowd.marked == NO:
            crowd.marked = YES
            _stands(w, -1 - x)
