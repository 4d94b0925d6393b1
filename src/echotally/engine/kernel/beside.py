"""The two taps whose events come most often: their next ones stand beside the calendar, the sooner in front.

So one event after the other comes without a place being looked for among all that is due, and what is due is taken out without
them in between. What comes first is the same (rule 1.3), whichever taps they are. Only such as bring records to streams or calls
that go the short way stand here (``build.taps.taps_beside``).
"""

from __future__ import annotations

from echotally.engine.codes import ARRIVE, NEVER, ZERO
from echotally.engine.kernel.access import World, clock_of, earlier, entry_at
from echotally.engine.kernel.calendar import STEP_SHIFT
from echotally.engine.kernel.compiled import hot


@hot
def comes_first(w: World) -> bool:
    """Whether the next event beside the calendar comes before all that stands in it."""
    clock, first = clock_of(w), entry_at(w, ZERO)
    # Hardly ever at the same instant, so that the keys are not made to be compared.
    if clock.beside_at != first.at:
        return clock.beside_at < first.at
    return (ARRIVE << STEP_SHIFT) | clock.beside < first.key


@hot
def next_at(w: World) -> int:
    """When the next thing happens, in the calendar or beside it."""
    return min(entry_at(w, ZERO).at, clock_of(w).beside_at)


@hot
def moves_on(w: World, coming: int) -> None:
    """The tap in front has its next event at ``coming``: whichever of the two comes sooner stands in front."""
    clock = clock_of(w)
    at = coming if coming < clock.horizon else NEVER
    clock.beside_at = at
    # There need not be another one.
    if clock.behind_at < NEVER:
        # Without a branch: which of them it is nobody can guess.
        swaps = earlier(clock.behind_at, clock.behind, at, clock.beside)
        times, taps = (at ^ clock.behind_at) & swaps, (clock.beside ^ clock.behind) & swaps
        clock.beside_at = at ^ times
        clock.behind_at ^= times
        clock.beside ^= taps
        clock.behind ^= taps
