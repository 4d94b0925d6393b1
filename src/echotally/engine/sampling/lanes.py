"""Lanes: the places where work waits in order and may be left over for hours - queues, partitions, lines of calls.

Why it exists: hours are not independent where work is left over. A lane that has work from earlier hours is played
with work always waiting (laid in, so that it never runs dry) to learn at which rate it is handled; the backlog itself
and the ages in it are carried by ``carrying``, hour by hour.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.demand.month import Tap
from echotally.engine import codes
from echotally.engine.build import Built
from echotally.engine.groups import Groups
from echotally.engine.layout import World
from echotally.engine.play import ask
from echotally.engine.pools import with_room
from echotally.engine.sampling.sparse import Floats
from echotally.errors import OurFault

#: A lane with more waiting than this share of the square root of what came in is looked at more closely. A queue that is
#: just critical has about |Z| sqrt(arrivals) waiting, Z standard normal (Glynn, "Diffusion approximations", 1990).
_SUSPICIOUS = 0.25
#: Lanes with so many waiting, of all lanes together and of one, and this share of all that came, fill.
_MUCH, _SOME, _MOST = 100_000, 20_000, 0.3
_NEVER = int(codes.NEVER)
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
            found.append(Lane(int(codes.LAY_LINE), g, source, (unit,), _NEVER, 1, 0, 1.0))
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


def _lay(built: Built, lane: Lane, count: int, feeder: tuple[int, int, int]) -> None:
    """Fill a lane with ``count`` events that are there at the start, of the sizes of what feeds it; none of them expires."""
    clock = built.world.clock[0]
    clock["lay_kind"], clock["lay_ref"], clock["lay_payload"] = lane.kind, lane.ref, 1_000
    clock["lay_tap"], clock["lay_edge"], clock["lay_stream"] = feeder
    built.world.sources[lane.source]["retention"] = _NEVER // 2
    left = count
    while left > 0:
        left -= ask(built.world, codes.LAY, 0, left)
        if left > 0:
            built.world = with_room(built.world, left)
    if lane.kind == codes.LAY_QUEUE:
        built.world.sources[lane.ref]["full"] = 1
    elif lane.kind == codes.LAY_PARTITION:
        built.world.partitions[lane.ref]["full"] = 1
    else:
        built.world.units[lane.units[0]]["full"] = 1


class KeptFull:
    """Lanes that are kept full: before each part of a stretch so much is laid into them that ``most`` of each wait.

    Into a line of calls it is all laid at once, as much as ``parts`` parts take: others may stand in line with it. ``open_``: what comes
    to a queue or a partition stands behind what was laid there; else it is kept out.
    """

    def __init__(
        self,
        built: Built,
        lanes: Lanes,
        most: Mapping[int, int],
        parts: int,
        taps: Sequence[Tap],
        *,
        open_: bool = False,
    ) -> None:
        self.built, self.lanes, self.open = built, lanes, open_
        self._feeders = _Feeders(built, taps) if most else None
        self.most = {n: most[n] * (1 if lanes[n].holds_apart else parts) for n in most}
        self.laid = dict.fromkeys(most, 0)
        self._there, self._since = dict.fromkeys(most, 0), 0

    def least_rate(self, n: int) -> float:
        """At least so many events a ns have gone out of lane ``n``, which has run dry.

        Since the last laying alone as well: in all of the time a lane that is dry for most of a part seems slower than it is, and
        however often as much more is laid it would be dry again.
        """
        now = int(self.built.world.clock[0]["now"])
        return max(self.laid[n] / max(1, now), self._there[n] / max(1, now - self._since))

    def again(self) -> bool:
        """Lay into each as much as has gone; returns whether any was laid."""
        if not self._feeders:
            return False
        before = dict(self.laid)
        self._since = int(self.built.world.clock[0]["now"])
        _, _, waiting = self.lanes.counted(self.built.world)
        for n, most in self.most.items():
            lane, more = self.lanes[n], most - int(waiting[n])
            if more > 0 and (lane.holds_apart or not self.laid[n]):
                _lay(self.built, lane, more, self._feeders.into(lane))
                self.laid[n] += more
            self._there[n] = int(waiting[n]) + self.laid[n] - before[n]
        if self.open:
            w = self.built.world
            w.sources["full"], w.partitions["full"] = 0, 0
        return before != self.laid


class _Feeders:
    """What puts most into each source of a world: a tap, or a function's edge. Looked up once for hundreds of lanes."""

    def __init__(self, built: Built, taps: Sequence[Tap]) -> None:
        w, number = built.world, {key: n for n, key in enumerate(built.sources)}
        self._taps: dict[int, tuple[float, int]] = {}
        for n, tap in enumerate(taps):
            source = number[tap.environment, tap.source]
            self._taps[source] = max(self._taps.get(source, (-math.inf, -1)), (tap.expected, n))
        self._topics: dict[int, set[int]] = {}
        targets = w.edges["target"].tolist()
        for topic in np.flatnonzero(w.sources["edge_n"]).tolist():
            for target in targets[_edges(w.sources[topic], "first_edge", "edge_n")]:
                self._topics.setdefault(target, set()).add(topic)
        # By what they put into: edges in the order of their functions, and each function's stream of sizes.
        self._emits: dict[int, tuple[int, int, int]] = {}
        for order, unit in enumerate(w.units):
            for x in range(*_edges(unit, "first_emit", "emit_n").indices(len(targets))):
                self._emits.setdefault(targets[x], (order, x, int(unit["random"]) + 5))

    def into(self, lane: Lane) -> tuple[int, int, int]:
        """The tap, or the edge and its stream of sizes, that puts most into a lane's source; -1 for none."""
        feeding = {lane.source} | self._topics.get(lane.source, set())
        if taps := [self._taps[source] for source in feeding if source in self._taps]:
            return max(taps)[1], -1, 0
        if emits := [self._emits[source] for source in feeding if source in self._emits]:
            return -1, *min(emits)[1:]
        return -1, -1, 0


def _edges(record: Any, first: str, many: str) -> slice:
    return slice(int(record[first]), int(record[first] + record[many]))


def ran_dry(built: Built, lane: Lane) -> bool:
    """Whether a lane that was to stay full has run out of what was laid."""
    w = built.world
    if lane.kind == codes.LAY_QUEUE:
        head = int(w.chains[int(w.sources[lane.ref]["lists"]) + 1]["head"])
        return head < 0 or bool(w.events[head]["tap"] != codes.LAID)
    if lane.kind == codes.LAY_PARTITION:
        head = int(w.partitions[lane.ref]["first"])
        return head < 0 or bool(w.events[head]["tap"] != codes.LAID)
    call = int(w.chains[int(w.units[lane.units[0]]["lists"])]["head"])
    if call < 0:
        return True
    cargo = int(w.calls[call]["head"])
    if cargo < 0:
        raise OurFault("a waiting call carries nothing")
    return bool(w.events[w.cargo[cargo]["event"]]["tap"] != codes.LAID)


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


def unfinished_outside(built: Built, lanes: Sequence[Lane]) -> Floats:
    """Events of each unit that are neither over nor in a lane: sent away, or waiting to be tried again."""
    w = built.world
    found = np.zeros(len(built.units))
    # Field by field: there may be hundreds of thousands, of which a copy of the records takes many times as much.
    away = np.flatnonzero(w.calls["state"] == codes.BACKOFF)
    away = away[~np.isin(w.triggers["source"][w.calls["trigger"][away]], [lane.source for lane in lanes])]
    np.add.at(found, w.calls["unit"][away], w.calls["items"][away].astype(float))
    return found


def oldest_throttled_ns(built: Built) -> Floats:
    """Of each unit, the age of its oldest event that was sent away for lack of room and will come again; 0: none."""
    w = built.world
    found = np.zeros(len(built.units))
    away = np.flatnonzero((w.calls["state"] == codes.BACKOFF) & (w.calls["wait"] > 0))
    np.maximum.at(found, w.calls["unit"][away], (w.clock[0]["now"] - w.calls["arrived"][away]).astype(float))
    return found
