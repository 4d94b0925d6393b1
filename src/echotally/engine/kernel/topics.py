"""Topics copy each event to every feed and function, each with its share, independently (rule 4.7)."""

from __future__ import annotations

from echotally.engine.codes import NONE, YES
from echotally.engine.kernel import pushed, queues
from echotally.engine.kernel.access import World, edge_at, source_at, trigger_at
from echotally.engine.kernel.chance import uniform
from echotally.engine.kernel.compiled import kernel


@kernel
def arrive(w: World, s: int, payload: int) -> None:
    """An event is published."""
    source = source_at(w, s)
    source.sends += 1
    for x in range(source.first_edge, source.first_edge + source.edge_n):
        edge = edge_at(w, x)
        # Whoever gets all of it draws no lot, so that adding such a feed moves no other's draws.
        if edge.share_all == YES or uniform(w, source.random) < edge.share:
            edge.sent += 1
            queues.arrive(w, edge.target, payload, YES)
    for g in range(source.first_trigger, source.first_trigger + source.trigger_n):
        trigger = trigger_at(w, g)
        if trigger.share_all == YES or uniform(w, trigger.random) < trigger.share:
            pushed.hand_over(w, s, g, payload, NONE)
