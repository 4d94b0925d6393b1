"""Lays work into lanes and keeps them full, to see at which rate what waits there is handled."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from echotally.demand.month import Tap
from echotally.engine import codes
from echotally.engine.build import Built
from echotally.engine.play import ask
from echotally.engine.pools import with_room
from echotally.engine.sampling.lanes import NEVER, Lane, Lanes
from echotally.errors import OurFault


def _lay(built: Built, lane: Lane, count: int, feeder: tuple[int, int, int]) -> None:
    """Fill a lane with ``count`` events that are there at the start, of the sizes of what feeds it; none of them expires."""
    clock = built.world.clock[0]
    clock["lay_kind"], clock["lay_ref"], clock["lay_payload"] = lane.kind, lane.ref, 1_000
    clock["lay_tap"], clock["lay_edge"], clock["lay_stream"] = feeder
    built.world.sources[lane.source]["retention"] = NEVER // 2
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

    @property
    def now_ns(self) -> int:
        """How far its world has come, ns since its start."""
        return int(self.built.world.clock[0]["now"])

    def dry(self) -> list[int]:
        """Lanes that were to stay full and have run out of what was laid."""
        return [n for n in self.most if _ran_dry(self.built, self.lanes[n])]

    def least_rate(self, n: int) -> float:
        """At least so many events a ns have gone out of lane ``n``, which has run dry.

        Since the last laying alone as well: in all of the time a lane that is dry for most of a part seems slower than it is, and
        however often as much more is laid it would be dry again.
        """
        now = self.now_ns
        return max(self.laid[n] / max(1, now), self._there[n] / max(1, now - self._since))

    def again(self) -> bool:
        """Lay into each as much as has gone; returns whether any was laid."""
        if not self._feeders:
            return False
        before = dict(self.laid)
        self._since = self.now_ns
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


def _ran_dry(built: Built, lane: Lane) -> bool:
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
