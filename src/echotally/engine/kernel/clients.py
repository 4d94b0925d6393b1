"""Closed-loop clients: each asks, waits for the answer, pauses, asks again."""

from __future__ import annotations

from echotally.engine.codes import ARRIVE, K_CLIENT, THINK_STREAM
from echotally.engine.kernel.access import World, clock_of, event_at, tap_at
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.chance import Law, draw, whole
from echotally.engine.kernel.compiled import hot


@hot
def pauses(w: World, e: int, refused: int) -> None:
    """If a client asked, it pauses and asks again (a refused one pauses at least what its demand says, else 1 ms: rule 7.74)."""
    p = event_at(w, e).tap
    # From inside the estate, or of a demand without clients.
    if p < 0 or tap_at(w, p).clients == 0:
        return
    tap = tap_at(w, p)
    think = draw(
        w, tap.random + THINK_STREAM, Law(tap.think_kind, tap.think_scale, tap.think_sigma, tap.think_from, tap.think_n)
    )
    pause = whole(think)
    if refused:
        pause = max(pause, tap.refused_pause)
    put(w, clock_of(w).now + pause, ARRIVE, p, K_CLIENT, p)
