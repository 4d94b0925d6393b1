"""Where a call starts: the account's limit, a free slot, a starting instance, a new one with a start token (rule 3.4)."""

from __future__ import annotations

from echotally.engine.codes import (
    ALL_TAKEN,
    AT_ACCOUNT,
    K_WAKE,
    L_FREE,
    L_STARTING,
    NEW_INSTANCE,
    NO_NODE,
    NO_ROOM,
    NO_TOKEN,
    NONE,
    PER_CALL,
    POLLED,
    RESERVED,
    STARTS_ONLY,
    TOKEN,
    WAKE,
    YES,
    ZERO,
)
from echotally.engine.kernel import diary, nodes, reserved
from echotally.engine.kernel.access import World, account_at, chain_at, clock_of, unit_at
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import Account, Unit


@hot
def lacks_a_node(w: World, u: int) -> bool:
    """Whether it is nodes that are full for unit ``u``, and not its account, which has a limit.

    Then room is lacking for those who need a new instance; who waited for the limit alone may have one.
    """
    unit = unit_at(w, u)
    account = account_at(w, unit.account)
    return unit.plan_kind != RESERVED and account.limit >= 0 and account.in_flight < account.limit


@hot
def is_full(account: Account) -> bool:
    """Whether an account has as many calls in flight as it may."""
    return account.limit >= 0 and account.in_flight >= account.limit


@hot
def room_for(w: World, u: int) -> int:
    """The instance that would take a call of unit ``u`` now; NEW_INSTANCE; NO_ROOM, or ALL_TAKEN of what it shares with others."""
    unit = unit_at(w, u)
    account = account_at(w, unit.account)
    # The account's limit comes first: it holds whatever room there is. Whoever is blocked is woken by the next end.
    if is_full(account):
        account.blocked = YES
        diary.no_room(w, u, AT_ACCOUNT, account.in_flight, account.limit)
        return ALL_TAKEN
    if unit.plan_kind == RESERVED:
        return reserved.most_memory_free(w, u)
    # The list of free instances is a stack: its head is the one released most recently, so that others may grow idle.
    free = chain_at(w, unit.lists + L_FREE).head
    if free >= 0:
        return free
    # In order of when they are ready; a call may join one that already has calls waiting, up to its slots.
    starting = chain_at(w, unit.lists + L_STARTING).head
    if starting >= 0:
        return starting
    # Polled plans get instances by looks only, never for a call.
    if unit.plan_kind == POLLED or unit.count >= unit.limit or account.no_new == YES:
        diary.no_instance(w, u)
        return NO_ROOM
    if not nodes.fits(w, u):
        account.blocked = YES
        diary.no_room(w, u, NO_NODE, unit.count, unit.limit)
        return ALL_TAKEN
    # Asked last: looking takes no token, but it arms the timer for the next one.
    if not token_left(w, u):
        diary.no_room(w, u, NO_TOKEN, unit.count, unit.limit)
        return NO_ROOM
    return NEW_INSTANCE


@hot
def warm_for(w: World, u: int) -> int:
    """The instance that ``room_for`` names where an instance comes a call and one has a free slot; else NONE.

    Nobody is told that there is no room.
    """
    unit = unit_at(w, u)
    if unit.plan_kind != PER_CALL or is_full(account_at(w, unit.account)):
        return NONE
    return chain_at(w, unit.lists + L_FREE).head


@hot
def _refilled(level: int, since: int, now: int, unit: Unit) -> int:
    """Units in a bucket of start tokens now, of ``level`` at ``since``.

    A bucket holds ``burst_units`` and gets ``ramp_units`` each ns; a token costs ``token_cost`` of them, so that a ramp of
    any fraction is exact in whole numbers. How long it has been is compared first: the product could leave 64 bits.
    """
    if now - since >= (unit.burst_units - level) // unit.ramp_units + 1:
        return unit.burst_units
    return level + (now - since) * unit.ramp_units


@hot
def filled(w: World, u: int) -> int:
    """Units in the bucket of start tokens of ``u``, its own or its account's, brought up to now.

    It is filled whenever it is looked at, so that its level never needs a timer of its own.
    """
    unit, now = unit_at(w, u), clock_of(w).now
    account = account_at(w, unit.account)
    if unit.token_scope == YES:
        level = _refilled(account.token_level, account.token_at, now, unit)
        account.token_at, account.token_level = now, level
    else:
        level = _refilled(unit.token_level, unit.token_at, now, unit)
        unit.token_at, unit.token_level = now, level
    return level


@hot
def next_token_at(w: World, u: int, level: int) -> int:
    """When a bucket of ``level`` units, too few for a token, holds enough for one."""
    unit = unit_at(w, u)
    # Rounded up: at that ns the missing part is there, and not a ns earlier.
    return clock_of(w).now + (unit.token_cost - level + unit.ramp_units - 1) // unit.ramp_units


@kernel
def token_left(w: World, u: int) -> bool:
    """Whether a start token is left; if not and something waits, look again when the next one is there."""
    unit = unit_at(w, u)
    if unit.token_cost == 0:
        return True
    level = filled(w, u)
    if level >= unit.token_cost:
        return True
    clock_of(w).short = YES
    # Where what finds no room comes again in lists, nothing waits for a token.
    if unit.waiting > 0 and unit.waits < 0:
        again = next_token_at(w, u, level)
        # One entry a moment: many calls may ask in vain at one instant.
        if unit.token_timer != again:
            unit.token_timer = again
            put(w, again, WAKE, u, K_WAKE, u)
    return False


@kernel
def spend_token(w: World, u: int) -> None:
    """A new instance takes a start token; ``room_for`` has seen that one is left."""
    unit = unit_at(w, u)
    if unit.token_cost > 0:
        if unit.token_scope == YES:
            account = account_at(w, unit.account)
            account.token_level -= unit.token_cost
            # Who asked for it has been answered.
            account.rivals = ZERO
            diary.logged(w, unit.account, TOKEN, STARTS_ONLY)
        else:
            unit.token_level -= unit.token_cost
