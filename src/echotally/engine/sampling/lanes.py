"""Lanes: the places where work waits in order and may be left over for hours - queues, partitions, lines of calls.

Why it exists: hours are not independent where work is left over. A lane that has work from earlier hours is played
with work always waiting (laid in, so that it never runs dry) to learn at which rate it is handled; the backlog itself
and the ages in it are carried by ``carrying``, hour by hour.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from echotally.demand.month import Tap
from echotally.engine import records as r
from echotally.engine.build import Built
from echotally.engine.running import ask, with_room
from echotally.errors import OurFault

#: A lane with more waiting than this share of the square root of what came in is looked at more closely. A queue that is
#: just critical has about |Z| sqrt(arrivals) waiting, Z standard normal (Glynn, "Diffusion approximations", 1990).
_SUSPICIOUS = 0.25
#: Lanes with so many waiting, and this share of all that came, fill.
_MUCH, _MOST = 100_000, 0.3
_NEVER = int(r.NEVER)
_QUANTILES = 65


@dataclass(frozen=True)
class Lane:
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


def lanes_of(built: Built) -> list[Lane]:
    """Every lane of a world, in a fixed order."""
    w = built.world
    found: list[Lane] = []
    lines: dict[int, int] = {}
    for g in range(len(w.tr) if any(w.so["trigger_n"]) else 0):
        t = w.tr[g]
        source, unit = int(t["source"]), int(t["unit"])
        s = w.so[source]
        batch, wait = int(t["batch"]), int(t["batch_wait"])
        if t["kind"] == r.QUEUE and g == s["first_trigger"]:
            units = tuple(dict.fromkeys(int(w.tr[x]["unit"]) for x in range(g, g + int(s["trigger_n"]))))
            found.append(
                Lane(int(r.LAY_QUEUE), source, source, units, int(s["retention"]), batch, wait + int(s["delay"]), 1.0)
            )
        elif t["kind"] == r.STREAM:
            for k in range(int(t["part_n"])):
                share = _share(float(s["skew"]), k, int(s["partitions"]))
                found.append(
                    Lane(int(r.LAY_PARTITION), int(t["first_part"]) + k, source, (unit,), int(s["retention"]), batch, wait, share)
                )  # fmt: skip
        elif t["kind"] in (r.TOPIC, r.FOLDER) and w.fn[unit]["plan_kind"] != r.PER_CALL and unit not in lines:
            lines[unit] = g
            found.append(Lane(int(r.LAY_LINE), g, source, (unit,), _NEVER, 1, 0, 1.0))
    return found


def _share(skew: float, place: int, partitions: int) -> float:
    if skew < 0 or partitions == 1:
        return 1 / partitions
    return skew if place == 0 else (1 - skew) / (partitions - 1)


class LaneState:
    """What every lane holds, and what has come and gone, at an instant."""

    def __init__(self, built: Built, lanes: Sequence[Lane]) -> None:
        w = built.world
        self.arrived, self.held, self.waiting = (np.zeros(len(lanes)) for _ in range(3))
        for n, lane in enumerate(lanes):
            if lane.kind == r.LAY_QUEUE:
                q = w.so[lane.ref]
                chain = w.ls[int(q["lists"]) + 1]
                self.arrived[n], self.held[n] = q["arrived"], q["arrived"] - q["ended"]
                self.waiting[n] = chain["n"]
            elif lane.kind == r.LAY_PARTITION:
                part = w.pa[lane.ref]
                self.arrived[n] = part["arrived"]
                self.held[n] = w.ls[part["list"]]["n"] + part["dropped"]
                self.waiting[n] = part["waiting"]
            else:
                unit = lane.units[0]
                sources = {int(w.tr[g]["source"]) for g in _pushed(w, unit)}
                self.arrived[n] = sum(int(w.so[s]["arrived"]) for s in sources)
                self.held[n] = self.arrived[n] - sum(int(w.so[s]["ended"]) for s in sources)
                chain = w.ls[int(w.fn[unit]["lists"])]
                self.waiting[n] = chain["n"]

    def suspicious(self, lanes: Sequence[Lane], start: LaneState, elapsed_ns: float) -> set[int]:
        """Lanes in which so much waits, ``elapsed_ns`` after an empty start, that they may not keep up."""
        found = set()
        for n, lane in enumerate(lanes):
            came = self.arrived[n] - start.arrived[n]
            usual = 2 * lane.batch + 2 * came / max(elapsed_ns, 1.0) * lane.filling_ns
            if self.waiting[n] > usual + _SUSPICIOUS * came**0.5:
                found.add(n)
        return found

    def filling(self, start: LaneState) -> set[int]:
        """Lanes in which much waits and most of what came does: they need not be watched for longer."""
        came = self.arrived - start.arrived
        return {n for n in range(len(came)) if self.waiting[n] > _MUCH and self.waiting[n] > _MOST * came[n]}


def _pushed(w: Any, unit: int) -> list[int]:
    """Triggers of a unit whose calls wait in its line."""
    return [
        g
        for g in range(len(w.tr))
        if w.tr[g]["unit"] == unit and w.tr[g]["kind"] in (r.TOPIC, r.FOLDER, r.SCHEDULE) and w.so[w.tr[g]["source"]]["trigger_n"]
    ]  # fmt: skip


def lay(built: Built, lane: Lane, count: int, taps: Sequence[Tap]) -> None:
    """Fill a lane with ``count`` events that are there at the start, of the sizes of what feeds it; none of them expires."""
    clock = built.world.ck[0]
    clock["lay_kind"], clock["lay_ref"], clock["lay_payload"] = lane.kind, lane.ref, 1_000
    clock["lay_tap"], clock["lay_edge"], clock["lay_stream"] = _feeder(built, lane, taps)
    built.world.so[lane.source]["retention"] = _NEVER // 2
    left = count
    while left > 0:
        left -= ask(built.world, r.LAY, 0, left)
        if left > 0:
            built.world = with_room(built.world)
    if lane.kind == r.LAY_QUEUE:
        built.world.so[lane.ref]["full"] = 1
    elif lane.kind == r.LAY_PARTITION:
        built.world.pa[lane.ref]["full"] = 1


def _feeder(built: Built, lane: Lane, taps: Sequence[Tap]) -> tuple[int, int, int]:
    """The tap, or the function's edge and its stream of sizes, that puts most into a lane's source; -1 for none."""
    w = built.world
    feeding = {lane.source} | {
        topic for topic in range(len(built.sources)) for x in _edges(w, topic) if w.ed[x]["target"] == lane.source
    }
    rates = [
        (math.fsum(s.rate * (s.end_ns - s.start_ns) + s.count for s in tap.stretches), n)
        for n, tap in enumerate(taps)
        if built.sources.index((tap.environment, tap.source)) in feeding
    ]
    if rates:
        return max(rates)[1], -1, 0
    for u in range(len(built.units)):
        f = w.fn[u]
        for x in range(int(f["first_emit"]), int(f["first_emit"] + f["emit_n"])):
            if int(w.ed[x]["target"]) in feeding:
                return -1, x, int(f["rng"]) + 5
    return -1, -1, 0


def _edges(w: Any, source: int) -> range:
    q = w.so[source]
    return range(int(q["first_edge"]), int(q["first_edge"] + q["edge_n"]))


def ran_dry(built: Built, lane: Lane) -> bool:
    """Whether a lane that was to stay full has run out of what was laid."""
    w = built.world
    if lane.kind == r.LAY_QUEUE:
        head = int(w.ls[int(w.so[lane.ref]["lists"]) + 1]["head"])
        return head < 0 or bool(w.ev[head]["tap"] != r.LAID)
    if lane.kind == r.LAY_PARTITION:
        head = int(w.pa[lane.ref]["first"])
        return head < 0 or bool(w.ev[head]["tap"] != r.LAID)
    call = int(w.ls[int(w.fn[lane.units[0]]["lists"])]["head"])
    if call < 0:
        return True
    cargo = int(w.ca[call]["head"])
    if cargo < 0:
        raise OurFault("a waiting call carries nothing")
    return bool(w.ev[w.cg[cargo]["event"]]["tap"] != r.LAID)


def ages_in(built: Built, lane: Lane) -> tuple[float, ...]:
    """Ages of what waits in a lane, ns, as ``_QUANTILES`` quantiles, oldest first; none where nothing waits.

    Partitions of one stream are looked at together: what they hold came at the same times.
    """
    w = built.world
    if lane.kind == r.LAY_LINE:
        came = w.ca[(w.ca["state"] == r.WAITING) & (w.ca["unit"] == lane.units[0])]["arrived"]
    else:
        here = (w.ev["state"] == r.VISIBLE) & (w.ev["source"] == lane.source) & (w.ev["tap"] != r.LAID)
        came = w.ev[here]["at"]
    if not len(came):
        return ()
    ordered = np.sort(came)
    places = np.linspace(0, len(ordered) - 1, _QUANTILES).astype(int)
    return tuple(float(w.ck[0]["now"] - at) for at in ordered[places])


def unfinished_outside(built: Built, lanes: Sequence[Lane]) -> NDArray[np.float64]:
    """Events of each unit that are neither over nor in a lane: sent away, or waiting to be tried again."""
    w = built.world
    found = np.zeros(len(built.units))
    inside = {lane.source for lane in lanes}
    for call in w.ca[w.ca["state"] == r.BACKOFF]:
        if int(w.tr[call["trigger"]]["source"]) not in inside:
            found[call["unit"]] += call["items"]
    return found


def oldest_throttled_ns(built: Built) -> NDArray[np.float64]:
    """Of each unit, the age of its oldest event that was sent away for lack of room and will come again; 0: none."""
    w = built.world
    found = np.zeros(len(built.units))
    away = w.ca[(w.ca["state"] == r.BACKOFF) & (w.ca["wait"] > 0)]
    for call in away:
        age = float(w.ck[0]["now"] - call["arrived"])
        found[call["unit"]] = max(found[call["unit"]], age)
    return found
