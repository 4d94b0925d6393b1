"""What the stand-in platform plays: an estate on one plan, with a diary of its attempts.

Why it exists: run logs, spans and metrics are three views of one played month, and are made from the same pages.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine.build import Built, Unit
from echotally.engine.codes import NEVER, THROTTLED
from echotally.engine.play import Page, Room, begun, finish, pages
from echotally.errors import BadInput, Problem
from echotally.model.sources import SourceKind, SourceRef
from echotally.projection.loaded import Loaded, placement_on
from echotally.rates.feasibility import reasons_against

#: Attempts that a page of the diary has room for, lines of what they held, and entries of the calendar that are played for one.
_DIARY, _CARGO, _ENTRIES = 400_000, 1 << 17, 100_000
OUTCOMES = ("ok", "error", "timeout", "throttled")
#: What sets a function off, in the words of the semantic conventions (``faas.trigger``).
TRIGGERS = {
    SourceKind.SCHEDULES: "timer",
    SourceKind.QUEUES: "pubsub",
    SourceKind.TOPICS: "pubsub",
    SourceKind.STREAMS: "pubsub",
    SourceKind.ENDPOINTS: "http",
    SourceKind.FOLDERS: "datasource",
}


class StandIn(Struct, frozen=True):
    """A month about to be played on one plan."""

    loaded: Loaded
    built: Built
    seed: int
    start: datetime
    #: The sources of each function.
    sources: dict[str, set[SourceRef]]

    def pages(self) -> Iterator[Page]:
        """The diary, a page at a time; the month is over when the last has been taken."""
        yield from pages(self.built, _ENTRIES)
        finish(self.built)

    @property
    def sources_of_triggers(self) -> list[SourceRef]:
        """What each trigger hands on, in the order in which attempts name them."""
        return [self.built.sources[place][1] for place in self.built.world.triggers["source"].tolist()]

    def trigger_of(self, unit: Unit) -> str:
        """What sets a unit's function off, "" where several kinds of source do."""
        found = {TRIGGERS[source.kind] for source in self.sources[unit.function]}
        return found.pop() if len(found) == 1 else ""


def stand_in(loaded: Loaded, plan: str, seed: int | None = None, cargo: bool = False) -> StandIn:
    """A month at its first instant; ``cargo``: the diary also keeps what attempts held and where events came from.

    Raises ``BadInput`` for a plan no card has or that cannot run a function.
    """
    offer = loaded.offer(plan)
    placement = placement_on(loaded.model, loaded.offers, offer)
    against = [text for name, at in placement.items() for text in reasons_against(loaded.model, name, at.plan)]
    if against:
        raise BadInput(Problem("cannot run this estate", value=plan, allowed=f"a plan that can; {against[0]}"))
    seed = loaded.model.estate.seed if seed is None else seed
    room = Room(diary=_DIARY, cargo=_CARGO if cargo else 1)
    built = begun(loaded.model, loaded.month.arrivals, placement, seed, room)
    sources: dict[str, set[SourceRef]] = {name: set() for name in loaded.model.functions}
    for trigger in loaded.model.triggers:
        sources[trigger.to].add(trigger.from_)
    return StandIn(loaded, built, seed, loaded.month.clock.start, sources)


def run_times(attempts: NDArray[np.void]) -> tuple[NDArray[np.bool_], NDArray[np.int64], NDArray[np.int64]]:
    """Which attempts ran at all, how long, and what they waited for an instance to start, ns."""
    started = attempts["outcome"] != THROTTLED
    # One that the timeout ended while its instance started has run nothing (rule 7.57).
    ran = started & (attempts["run_at"] < NEVER)
    run_ns = np.where(ran, attempts["ended"] - attempts["run_at"], 0)
    cold_ns = np.where(started, np.where(ran, attempts["run_at"], attempts["ended"]) - attempts["at"], 0)
    return ran, run_ns, cold_ns
