"""Units that may have something to start at this instant: marked, and looked at once its arrivals are over."""

from __future__ import annotations

from echotally.engine.codes import NO, YES
from echotally.engine.kernel.access import World, account_at, clock_of, marked_at, unit_at
from echotally.engine.kernel.compiled import hot, kernel


@hot
def mark(w: World, u: int) -> None:
    """Remember that a unit may have something to start at this instant."""
    # Once is enough: an instant may bring a unit thousands of reasons to look.
    if unit_at(w, u).marked == NO:
        unit_at(w, u).marked = YES
        marked_at(w, clock_of(w).marked_n).v = u
        clock_of(w).marked_n += 1


@kernel
def mark_waiting(w: World, a: int) -> None:
    """Something shared by an account came free: all its units that wait may start."""
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
        mark_waiting(w, a)
