"""Lanes: the places where work waits in order and may be left over for hours - queues, partitions, lines of calls.

Why it exists: hours are not independent where work is left over. A lane that has work from earlier hours is played
with work always waiting (laid in, so that it never runs dry) to learn at which rate it is handled; the backlog itself
and the ages in it are carried by ``carrying``, hour by hour.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine import codes
from echotally.engine.build import Built
from echotally.engine.groups import Groups
from echotally.engine.layout import World
from echotally.engine.sampling.sparse import Floats

#: A lane with more waiting than this share of the square root of what came in is looked at more closely. A queue that is
#: just critical has about |Z| sqrt(arrivals) waiting, Z standard normal (Glynn, "Diffusion approximations", 1990).
_SUSPICIOUS = 0.25
#: Lanes with so many waiting, of all lanes together and of one, and this share of all that came, fill.
_MUCH, _SOME, _MOST = 100_000, 20_000, 0.3
#: An instant that does not come, ns.
NEVER = int(codes.NEVER)
_QUANTILES = 65


class Lane(Struct, frozen=True):
    """A lane of a world: what it is, whose it is, how long its events may wait, and what fills its batches by itself.

    ``ref`` is a source (queue), a partition, or a trigger (line); ``units`` take from it; ``filling_ns`` is how long
    events wait there with nothing amiss (delay, batch wait).
    """

    kind: int
    ref: int
    source: int
    units: tuple[int, ...]
    retention_ns: int
    batch: int
    filling_ns: int
    share: float

    @property
    def holds_apart(self) -> bool:
        """Whether what comes is kept out of it while it is full."""
        return self.kind != codes.LAY_LINE


def _lanes_of(built: Built) -> list[Lane]:
    """Every lane of a world, in a fixed order."""
    w = built.world
    found: list[Lane] = []
    lines: dict[int, int] = {}
    for g in range(len(w.triggers) if any(w.sources["trigger_n"]) else 0):
        t = w.triggers[g]
        source, unit = int(t["source"]), int(t["unit"])
        s = w.sources[source]
        batch, wait = int(t["batch"]), int(t["batch_wait"])
        if t["kind"] == codes.QUEUE and g == s["first_trigger"]:
            units = tuple(dict.fromkeys(int(w.triggers[x]["unit"]) for x in range(g, g + int(s["trigger_n"]))))
            found.append(
                Lane(
                    int(codes.LAY_QUEUE), source, source, units, int(s["retention"]), batch, wait + int(s["delay"]), 1.0
                )
            )
        elif t["kind"] == codes.STREAM:
            for k in range(int(t["partition_n"])):
                share = _share(float(s["skew"]), k, int(s["partitions"]))
                found.append(
                    Lane(
                        int(codes.LAY_PARTITION),
                        int(t["first_partition"]) + k,
                        source,
                        (unit,),
                        int(s["retention"]),
                        batch,
                        wait,
                        share,
                    )
                )
        elif (
            t["kind"] in (codes.TOPIC, codes.FOLDER)
            and w.units[unit]["plan_kind"] != codes.PER_CALL
            and unit not in lines
        ):
            lines[unit] = g
            found.append(Lane(int(codes.LAY_LINE), g, source, (unit,), NEVER, 1, 0, 1.0))
    return found


def _share(skew: float, place: int, partitions: int) -> float:
    if skew < 0 or partitions == 1:
        return 1 / partitions
    return skew if place == 0 else (1 - skew) / (partitions - 1)


class Lanes(list[Lane]):
    """Every lane of a world in a fixed order, and where each kind of them is counted."""

    def __init__(self, built: Built) -> None:
        w = built.world
        super().__init__(_lanes_of(built))
        self._queues, sources = self._those(codes.LAY_QUEUE)
        self._sources, self._chains = sources, w.sources["lists"][sources] + 1
        self._partitions, self._parts = self._those(codes.LAY_PARTITION)
        self._lines, _ = self._those(codes.LAY_LINE)
        self._line_chains = w.units["lists"][[self[n].units[0] for n in self._lines]]
        self._pushed, self._from = _pushed(w, {self[n].units[0]: int(n) for n in self._lines})
        self.batch = np.array([lane.batch for lane in self])
        self.filling_ns = np.array([lane.filling_ns for lane in self])
        self.of_unit: dict[int, list[int]] = {}
        for n, lane in enumerate(self):
            for unit in lane.units:
                self.of_unit.setdefault(unit, []).append(n)
        lines = {self[n].units[0] for n in self._lines}
        waiting = (codes.QUEUE, codes.STREAM)
        #: Units that also take what waits in no lane.
        self.elsewhere = {int(t["unit"]) for t in w.triggers if t["kind"] not in waiting} - lines
        groups = Groups[int]()
        for first, *others in self.of_unit.values():
            for other in others:
                groups.join(other, first)
        #: A number for each lane, the same for those that have a unit in common, directly or by others.
        self.company = [groups.root(n) for n in range(len(self))]

    def _those(self, kind: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Which lanes are of a kind, and their sources, partitions or triggers."""
        which = [n for n, lane in enumerate(self) if lane.kind == kind]
        return np.array(which, np.int64), np.array([self[n].ref for n in which], np.int64)

    def units_of(self, some: Iterable[int]) -> set[int]:
        """The units that take from some of the lanes."""
        return {unit for lane in some for unit in self[lane].units}

    def only_from(self, full: Collection[int]) -> set[int]:
        """The units that take from these lanes and nothing else."""
        return {u for u in self.units_of(full) - self.elsewhere if all(n in full for n in self.of_unit[u])}

    def counted(self, w: World) -> tuple[Floats, Floats, Floats]:
        """What has arrived in each lane of a world laid out like the first, what it holds, and what of that waits."""
        arrived, held, waiting = (np.zeros(len(self)) for _ in range(3))
        came, length = w.sources["arrived"], w.chains["length"]
        inside = came - w.sources["ended"]
        arrived[self._queues], held[self._queues] = came[self._sources], inside[self._sources]
        waiting[self._queues] = length[self._chains]
        parts = w.partitions[self._parts]
        arrived[self._partitions], waiting[self._partitions] = parts["arrived"], parts["waiting"]
        held[self._partitions] = length[parts["list"]] + parts["dropped"]
        np.add.at(arrived, self._pushed, came[self._from])
        np.add.at(held, self._pushed, inside[self._from])
        waiting[self._lines] = length[self._line_chains]
        return arrived, held, waiting


def _pushed(w: World, lines: Mapping[int, int]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Lanes of calls that wait in their unit's line, ``lines``, and the sources these come from: each pair once."""
    found = set()
    for t in w.triggers:
        unit, source = int(t["unit"]), int(t["source"])
        if (
            unit in lines
            and t["kind"] in (codes.TOPIC, codes.FOLDER, codes.SCHEDULE)
            and w.sources[source]["trigger_n"]
        ):
            found.add((lines[unit], source))
    pairs = np.array(sorted(found), np.int64).reshape(-1, 2)
    return pairs[:, 0], pairs[:, 1]


class LaneState:
    """What every lane holds, and what has come and gone, at an instant."""

    def __init__(self, built: Built, lanes: Lanes) -> None:
        self.arrived, self.held, self.waiting = lanes.counted(built.world)

    def suspicious(self, lanes: Lanes, start: LaneState, elapsed_ns: float) -> set[int]:
        """Lanes in which so much waits, ``elapsed_ns`` after an empty start, that they may not keep up."""
        came = self.arrived - start.arrived
        usual = 2 * lanes.batch + 2 * came / max(elapsed_ns, 1.0) * lanes.filling_ns
        return set(np.flatnonzero(self.waiting > usual + _SUSPICIOUS * came**0.5).tolist())

    def filling(self, start: LaneState) -> set[int]:
        """Lanes in which much waits and most of what came does: they need not be watched for longer."""
        fill = (self.waiting > _SOME) & (self.waiting > _MOST * (self.arrived - start.arrived))
        return set(np.flatnonzero(fill).tolist()) if self.waiting[fill].sum() > _MUCH else set()


def ages_in(built: Built, lanes: Mapping[int, Lane]) -> dict[int, tuple[float, ...]]:
    """Ages of what waits in each of some lanes, ns, as ``_QUANTILES`` quantiles, oldest first; none where nothing waits.

    Partitions of one stream are looked at together: what they hold came at the same times.
    """
    w = built.world
    # Hundreds of lanes may hold millions of events: those are gone through once, and not once for each lane.
    lines = any(lane.kind == codes.LAY_LINE for lane in lanes.values())
    calls = np.flatnonzero(w.calls["state"] == codes.WAITING) if lines else np.empty(0, np.int64)
    in_line = _ordered(w.calls["unit"][calls], w.calls["arrived"][calls])
    events = np.flatnonzero((w.events["state"] == codes.VISIBLE) & (w.events["tap"] != codes.LAID))
    elsewhere = _ordered(w.events["at_source"][events], w.events["at"][events])
    now, found = w.clock[0]["now"], dict[int, tuple[float, ...]]()
    for n, lane in lanes.items():
        whose, came = in_line if lane.kind == codes.LAY_LINE else elsewhere
        place = lane.units[0] if lane.kind == codes.LAY_LINE else lane.source
        first, after = np.searchsorted(whose, [place, place + 1]).tolist()
        places = first + np.linspace(0, after - first - 1, _QUANTILES).astype(int)
        found[n] = tuple(float(now - at) for at in came[places]) if after > first else ()
    return found


def _ordered(whose: NDArray[Any], came: NDArray[Any]) -> tuple[NDArray[Any], NDArray[Any]]:
    """Whose what waits is, and when it came: one after the other, the oldest of each first."""
    order = np.lexsort((came, whose))
    return whose[order], came[order]
