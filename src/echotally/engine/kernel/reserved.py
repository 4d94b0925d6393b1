"""Reserved instances: they run all functions of an account together, each call where most memory is free (rule 3.6)."""

from __future__ import annotations

from echotally.engine.codes import ALL_TAKEN, NO_MEMORY, NONE, YES
from echotally.engine.kernel import diary
from echotally.engine.kernel.access import World, account_at, instance_at, unit_at
from echotally.engine.kernel.compiled import hot, kernel


@kernel
def most_memory_free(w: World, u: int) -> int:
    """The instance with most memory free that can hold one more call of the unit, lowest number first; ALL_TAKEN without."""
    unit = unit_at(w, u)
    account = account_at(w, unit.account)
    best, most = ALL_TAKEN, NONE
    for i in range(account.first_instance, account.first_instance + account.instance_n):
        instance = instance_at(w, i)
        # Strictly more: of equals the lowest number stays (rule 3.6).
        if instance.memory_free >= unit.memory_cost and instance.calls < unit.slots and instance.memory_free > most:
            best, most = i, instance.memory_free
    if best == ALL_TAKEN:
        account.blocked = YES
        diary.no_room(w, u, NO_MEMORY, account.in_flight, account.instance_n)
    return best


@hot
def takes(w: World, i: int, u: int) -> None:
    """Instance ``i`` holds one more call of the unit."""
    unit, instance = unit_at(w, u), instance_at(w, i)
    instance.calls += 1
    instance.memory_free -= unit.memory_cost
    instance.load += unit.cpu_load


@hot
def rests(w: World, i: int, u: int) -> None:
    """A call of the unit on instance ``i`` does no CPU work from now on."""
    instance_at(w, i).load -= unit_at(w, u).cpu_load


@hot
def gives_back(w: World, i: int, u: int, rested: int) -> None:
    """A call of the unit on instance ``i`` ended; ``rested`` YES: it did no CPU work any more."""
    unit, instance = unit_at(w, u), instance_at(w, i)
    instance.calls -= 1
    instance.memory_free += unit.memory_cost
    # An empty instance has no load, whatever the sums of fractions left over.
    if instance.calls == 0:
        instance.load = 0.0
    elif not rested:
        instance.load -= unit.cpu_load
