"""Months played with somebody looking on: what the diary tells of events and attempts, a page at a time.

Why it exists: a run keeps no diary unless it is asked to, and one that somebody follows keeps only what he asks about. The same
entries are played in the same order, so that a month that is watched is the month that is not.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine import codes, layout
from echotally.engine.build import Built
from echotally.engine.compiling import form
from echotally.engine.play import Progress, ask, finish
from echotally.engine.pools import with_room
from echotally.engine.watch import USUAL, Bounds, Watch
from echotally.errors import OurFault

#: Arrays of the world that a watched run fills, and the clock's count of the lines in each.
_COUNTS = {
    "diary": "diary_n",
    "carried": "carried_n",
    "born": "born_n",
    "moments": "moments_n",
    "refusals": "refusals_n",
    "rounds": "rounds_n",
}
EVERYTHING = frozenset(_COUNTS)
#: Lines of which a page may lack the last ones: the first of them are what is asked for.
_LOSSY = frozenset({"refusals"})
#: Entries of the calendar on a page, at first and at the most, and lines a page has room for at least.
_FIRST, _MOST, _LINES = 256, 50_000, 1 << 17


class Pages(NamedTuple):
    """What was written down since the page before, records of ``engine.records`` by array; empty where it is not kept.

    It is the world's own paper: the next page is written over it.
    """

    diary: NDArray[Any]
    carried: NDArray[Any]
    born: NDArray[Any]
    moments: NDArray[Any]
    refusals: NDArray[Any]
    rounds: NDArray[Any]


class Watched(Struct, dict=True):
    """A world that is being played while somebody looks on; ``keeps`` names the arrays that are kept from now on.

    ``troubled``: of attempts only those that were throttled or waited for a cold start. ``noted`` is how many were over before.
    """

    built: Built
    keeps: frozenset[str]
    bounds: Bounds = USUAL
    troubled: bool = False
    noted: int = 0

    def __post_init__(self) -> None:
        clock = self.built.world.clock[0]
        for count in _COUNTS.values():
            clock[count] = 0
        # Attempts are numbered as in the month's log: those that ended or were throttled before are counted, not noted.
        units = self.built.world.units
        clock["noted"] = self.noted = int(units["attempts"].sum() - units["in_flight"].sum())
        clock["keeps_diary"] = codes.TROUBLED if self.troubled else codes.YES
        self._make_room()

    def _make_room(self) -> None:
        """Room for a page at least, and for the end of every event and call there is, which may come at one instant."""
        world = self.built.world
        most = len(world.events) + len(world.calls) + len(world.cargo) + 2 * int(world.clock[0]["margin"])
        longer = {
            name: np.zeros(_LINES + 2 * most, layout.DTYPES[layout.HOLDS[name]])
            for name in self.keeps
            if len(getattr(world, name)) < _LINES + most
        }
        self.built.world = world._replace(**longer)

    def pages(self, progress: Progress | None = None) -> Iterator[Pages]:
        """Play to the month's end and finish it, handing over what was written a page at a time; the last is of the end itself.

        Raises ``BadInput`` as ``engine.play.play`` does, ``OurFault`` where a page was too small.
        """
        watch, clock = Watch(self.built, self.bounds), self.built.world.clock[0]
        over, entries = False, _FIRST
        while not over:
            self._make_room()
            over = self._play(watch, entries)
            yield self._page()
            entries = min(2 * entries, _MOST)
            if progress:
                progress(int(clock["now"]) / int(clock["horizon"]))
        ask(self.built.world, codes.FLUSH)
        self._make_room()
        finish(self.built)
        yield self._page()

    def _play(self, watch: Watch, entries: int) -> bool:
        """Play the entries of a page, or as many as it holds; whether the month is over."""
        kernels, clock = form(), self.built.world.clock[0]
        clock["until"] = codes.NEVER
        until = int(clock["steps"]) + entries
        while True:
            steps = min(until - int(clock["steps"]), watch.chunk())
            state = kernels.run(self.built.door(kernels.door), codes.PLAY, steps, 0)
            if state == codes.MORE_ROOM:
                watch.grows()
                before = [*map(len, self.built.world)]
                self.built.world = with_room(self.built.world)
                if [*map(len, self.built.world)] != before:
                    continue
                # Nothing was low but the page, which is full.
                return False
            watch.looks()
            if state == codes.DONE or int(clock["steps"]) >= until:
                return bool(state == codes.DONE)

    def _page(self) -> Pages:
        world, found = self.built.world, {}
        for name, count in _COUNTS.items():
            lines, n = getattr(world, name), int(world.clock[0][count])
            if name not in self.keeps:
                n = 0
            elif n >= len(lines) and name not in _LOSSY:
                raise OurFault(f"the {name} of {len(lines)} lines overflowed")
            found[name] = lines[:n]
            world.clock[0][count] = 0
        return Pages(**found)


def in_flight(built: Built) -> NDArray[Any]:
    """Calls in flight at this instant: records ``unit``, ``started``."""
    calls = built.world.calls
    found: NDArray[Any] = calls[calls["state"] >= codes.COLD][["unit", "started"]]
    return found


def carried_now(built: Built, numbers: NDArray[np.int64]) -> bool:
    """Whether a call carries any of the events of these numbers at this instant."""
    events = built.world.events
    return bool(np.any((events["refs"] > 0) & np.isin(events["number"], numbers)))
