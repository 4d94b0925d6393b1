"""Polled scaling: looks at what waits every so often, adds by steps, shrinks to what was wanted lately (rule 3.5)."""

from __future__ import annotations

from echotally.engine.codes import K_LOOK, L_FREE, LOOK, NEVER, NO, NONE, YES, ZERO
from echotally.engine.kernel import lifecycle, lists, marking, nodes
from echotally.engine.kernel.access import World, account_at, clock_of, instance_at, unit_at, window_at
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import Unit


@kernel
def look_again(w: World, u: int) -> None:
    """Arm the next look, a whole number of intervals after the month's start.

    Looks stop while nothing waits or runs and only the floor is there, and rest while they would change nothing of what else is
    there; what they would have seen is written into the window when they begin again.
    """
    unit, now = unit_at(w, u), clock_of(w).now
    coming = unit.last_look + unit.look_every
    if coming < now:
        # Looks stand on a grid from the month's start, whenever they begin again.
        coming = (now + unit.look_every - 1) // unit.look_every * unit.look_every
    unit.look_armed = YES
    unit.look_rests = NO
    unit.next_look = coming
    put(w, coming, LOOK, u, K_LOOK, u)


@kernel
def _rests(w: World, u: int) -> None:
    """Nothing waits or runs: until something comes looks want nothing, and shrink nothing until the highest leaves the window."""
    unit = unit_at(w, u)
    unit.look_rests = YES
    # One timer a unit. It is never too late: while the highest stays, so does its place, and the next one's is later.
    if unit.look_timer >= NEVER:
        unit.look_timer = _matters_at(unit)
        put(w, unit.look_timer, LOOK, u, K_LOOK, u)


@hot
def _matters_at(unit: Unit) -> int:
    """When the highest that looks wanted has just left the window, if no look is left out of it."""
    return unit.last_look + (unit.window_top_at + unit.window_size + 1 - unit.window_n) * unit.look_every


@kernel
def look_comes(w: World, u: int) -> None:
    """A look that was armed, or the timer of one that rests, which may have been armed or put off meanwhile."""
    unit, now = unit_at(w, u), clock_of(w).now
    if unit.look_timer <= now:
        unit.look_timer = NEVER
    if unit.look_armed == YES:
        if unit.next_look == now:
            _look(w, u)
    elif unit.look_rests == YES:
        if _matters_at(unit) <= now:
            _look(w, u)
        else:
            _rests(w, u)


@kernel
def _look(w: World, u: int) -> None:
    """Polled scaling looks: add at most ``look_step``, or shrink to the highest wanted of the keep-alive."""
    unit = unit_at(w, u)
    # Looks left out would have wanted nothing: nothing waited and nothing ran.
    for _ in range(min((clock_of(w).now - unit.last_look) // unit.look_every - 1, unit.window_size)):
        _remember(w, unit, ZERO)
    # A request refused since the last look is wanted room for as well (rule 3.5).
    seen = unit.waiting + unit.in_flight_events + unit.refused_since
    unit.refused_since = 0
    unit.last_look = clock_of(w).now
    unit.look_armed = NO
    unit.look_rests = NO
    # Rounded up, then within floor and limit. The floor of a later look may be another (rule 7.55).
    wanted = min((seen + unit.look_per - 1) // unit.look_per, unit.limit)
    _remember(w, unit, wanted)
    wanted = min(max(wanted, unit.floor), unit.limit)
    there = lifecycle.current(unit)
    if wanted > there:
        most = unit.look_first if unit.count == 0 else unit.look_step
        for _ in range(min(wanted - there, most, unit.limit - unit.count)):
            # The rest is not wanted less: the next look tries again.
            if account_at(w, unit.account).no_new == YES or not nodes.fits(w, u):
                break
            # Those of one look may be ready at one instant: in the order they were made, and before what calls wait for.
            lifecycle.new_instance(w, u, clock_of(w).looked_n, YES)
            clock_of(w).looked_n += 1
        # Those that are starting count: nothing shrinks while it grows.
        unit.target = max(lifecycle.current(unit), unit.floor)
        marking.mark(w, u)
    elif wanted < there:
        _shrink(w, u)
    else:
        unit.target = max(unit.target, wanted)
    # Else looking stops until something happens: a month of looks at nothing would be most of its entries.
    # A floor that found no room on the nodes is still wanted.
    there = lifecycle.current(unit)
    if seen > 0 or there < unit.floor:
        look_again(w, u)
    elif there > unit.floor:
        _rests(w, u)


@kernel
def _remember(w: World, unit: Unit, wanted: int) -> None:
    """Write down what a look wanted, and whether it is the most of the window."""
    window_at(w, unit.window_at + unit.window_n % unit.window_size).v = wanted
    # Of equals the newest, which stays in the window longest.
    if unit.window_n == 0 or wanted >= unit.window_top:
        unit.window_top = wanted
        unit.window_top_at = unit.window_n
    unit.window_n += 1


@kernel
def _highest_wanted(w: World, unit: Unit) -> int:
    """The most that a look of the keep-alive wanted.

    Looked for anew only when the last one has left the window, from the newest look back, so that of equals the one is
    found that stays longest: a window may hold a million looks.
    """
    if unit.window_n - unit.window_top_at > unit.window_size:
        unit.window_top = NONE
        for k in range(1, unit.window_size + 1):
            seen = window_at(w, unit.window_at + (unit.window_n - k) % unit.window_size).v
            if seen > unit.window_top:
                unit.window_top = seen
                unit.window_top_at = unit.window_n - k
    return unit.window_top


@kernel
def _shrink(w: World, u: int) -> None:
    unit = unit_at(w, u)
    unit.target = max(_highest_wanted(w, unit), unit.floor)
    # Idle ones now, busy ones when they finish (``lifecycle.release``).
    i = lifecycle.oldest_idle(w, u)
    while i >= 0 and lifecycle.current(unit) > unit.target:
        lists.remove(w, instance_at, unit.lists + L_FREE, i)
        lifecycle.gone(w, i)
        i = lifecycle.oldest_idle(w, u)
