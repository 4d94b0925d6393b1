"""What the clock brings: incidents that begin and end, releases, floors that change (rule 8).

Turns stand in ``World.turns`` in the order in which they come; one entry of the calendar stands for the next of them. They come at step
(2) of their instant, before everything else of it: arrivals see the new state, runs and cold starts that end there saw the old one
(rules 7.47 and 7.71).
"""

from __future__ import annotations

from echotally.engine.codes import (
    ABSENT,
    DUE,
    K_TURN,
    L_FREE,
    L_STARTING,
    NO,
    POLLED,
    READY,
    RESERVED,
    T_FLOOR,
    T_LIMIT,
    T_RELEASE,
    T_RUNS,
    YES,
    ZERO,
)
from echotally.engine.kernel import levels, lifecycle, lists, marking, polled
from echotally.engine.kernel.access import (
    World,
    account_at,
    clock_of,
    instance_at,
    n_instances,
    n_turns,
    turn_at,
    unit_at,
)
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.compiled import kernel


@kernel
def arm(w: World) -> None:
    """Put the next turn into the calendar, if there is one."""
    clock = clock_of(w)
    # The array always has a row; where nothing comes, it is one that never does.
    if clock.turn < n_turns(w) and turn_at(w, clock.turn).at < clock.horizon:
        put(w, turn_at(w, clock.turn).at, DUE, ZERO, K_TURN, ZERO)


@kernel
def comes(w: World) -> None:
    """The next turn comes."""
    clock = clock_of(w)
    turn = turn_at(w, clock.turn)
    clock.turn += 1
    if turn.kind == T_RUNS:
        unit_at(w, turn.ref).condition = turn.value
    elif turn.kind == T_FLOOR:
        _floor_is(w, turn.ref, turn.value)
    elif turn.kind == T_RELEASE:
        _released(w, turn.ref)
    elif turn.kind == T_LIMIT:
        account_at(w, turn.ref).limit = turn.value
        # It may have been raised.
        marking.mark_waiting(w, turn.ref)
    else:
        _growth(w, turn.ref, turn.value)
    arm(w)


@kernel
def _growth(w: World, a: int, stopped: int) -> None:
    """From now on no instance may start in account ``a``, or they may again, and what is missing does (rule 7.58)."""
    account = account_at(w, a)
    account.no_new = stopped
    if stopped == NO:
        for u in range(account.first_unit, account.first_unit + account.unit_n):
            lifecycle.fill_up(w, u)
        marking.mark_waiting(w, a)


@kernel
def _floor_is(w: World, u: int, floor: int) -> None:
    """The floor is another one: what is missing starts, what is too many may go (rules 7.55 and 7.56)."""
    unit = unit_at(w, u)
    # A floor's time without a call is weighed by the floor that was.
    levels.busy_changes(w, u, ZERO)
    unit.floor = floor
    if unit.plan_kind == POLLED:
        # What looks wanted lately stands; only it is held above the floor now.
        unit.target = max(unit.target, floor)
        if lifecycle.current(unit) != floor and unit.look_armed == NO:
            polled.look_again(w, u)
    lifecycle.fill_up(w, u)
    lifecycle.arm_idle(w, u)


@kernel
def _released(w: World, u: int) -> None:
    """A new version goes live: idle instances go, those with calls take no further ones (rule 8.2)."""
    unit = unit_at(w, u)
    if unit.plan_kind == RESERVED:
        return
    left = before = lifecycle.current(unit)
    # The pool may have room for a million, of which this unit has a few.
    for i in range(n_instances(w)):
        if left == 0:
            break
        instance = instance_at(w, i)
        if instance.state == ABSENT or instance.unit != u or instance.drained == YES:
            continue
        left -= 1
        if instance.listed > 0:
            lists.remove(w, instance_at, unit.lists + (L_FREE if instance.state == READY else L_STARTING), i)
            instance.listed = 0
        if instance.calls == 0:
            lifecycle.gone(w, i)
        else:
            instance.drained = YES
            unit.drained += 1
    unit.fill = max(unit.fill, before)
    if unit.plan_kind == POLLED and unit.look_armed == NO and (unit.floor > 0 or unit.look_rests == YES):
        # The floor may find no room; looks want it then. What rested counted on the instances that went.
        polled.look_again(w, u)
    lifecycle.fill_up(w, u)
