"""A stretch of the month in steps: what arrived, ran, waited and failed from one instant to the next, function by function.

Why it exists: the series of a month has hours; a flood is over in minutes. The month is played as ever up to the stretch, then on
from step to step; counters and sketches are read in between and their differences taken. Nothing is recorded while it plays, so
that a stretch costs what its playing costs.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine.build import Built, Unit
from echotally.engine.counted import in_octaves
from echotally.engine.distributions import AT_ONCE
from echotally.engine.layout import LATENCIES, REQUESTS, SERIES, WAITS, World, wide_floats
from echotally.engine.play import Progress, flushed, play_watched
from echotally.engine.sketch import KeptWaits, ManyWaits, bins_until
from echotally.engine.watch import Watch

Array = NDArray[np.float64]
#: Columns that are counted up, by the field of a unit.
_COUNTED = {
    "started": "started",
    "succeeded": "succeeded",
    "failed": "failed",
    "timed_out": "timed_out",
    "cold_starts": "cold_starts",
    "handled": "served",
    "lost": "lost",
}
#: Columns that the hourly series keeps as well, counts first, then the highest of the step.
_KEPT_COUNTS, _KEPT_PEAKS = ("arrivals", "throttled"), ("concurrency_peak", "instances_peak", "backlog_peak")
_LEVELS = {"concurrency_peak": "in_flight", "instances_peak": "count", "backlog_peak": "waiting"}
_WAITS = ("wait_p50_s", "wait_p95_s", "latency_p50_s", "latency_p95_s")
#: What there is of each step. ``busy_s`` is time with runs within it, all instances together; waits and latencies are those of
#: events handled, and requests answered, in the step (nan: none); ``lag_s`` is the most that the oldest unhandled record of its
#: streams was old (rule 7.19; nan: it reads none).
COLUMNS = (*_KEPT_COUNTS, *_COUNTED, *_KEPT_PEAKS, "busy_s", *_WAITS, "lag_s")


class Stepped(Struct, frozen=True):
    """``columns[name]`` has shape (units, steps); ``starts_ns`` are the steps' beginnings from the month's start, ``until_ns`` the
    end of the last. Units are in the order of the world.
    """

    units: tuple[Unit, ...]
    starts_ns: NDArray[np.int64]
    until_ns: int
    columns: dict[str, Array]


def stepped(built: Built, edges_ns: Sequence[int], progress: Progress | None = None) -> Stepped:
    """Play a begun world up to the last of ``edges_ns`` (rising), reading from each edge to the next.

    Raises ``BadInput`` as ``engine.play.play`` does. The world is of no use afterwards but to go on playing.
    """
    watch = Watch(built)
    n, steps = len(built.units), len(edges_ns) - 1
    found = {name: np.full((n, steps), np.nan if name in _WAITS else 0.0) for name in COLUMNS}
    _play_to(built, watch, edges_ns[0], progress)
    reading = _Reading(built)
    for step, end in enumerate(edges_ns[1:]):
        _play_to(built, watch, end, progress)
        for name, values in reading.since(built):
            found[name][:, step] = values
    return Stepped(tuple(built.units), np.array(edges_ns[:-1], np.int64), int(edges_ns[-1]), found)


def _play_to(built: Built, watch: Watch, until_ns: int, progress: Progress | None) -> None:
    if until_ns > 0:
        play_watched(built, watch, until_ns, progress)
    flushed(built)


class _Reading:
    """What the counters were at the last edge."""

    def __init__(self, built: Built) -> None:
        # Without their empty bins: the sketches of a thousand functions, twice, take a hundred MB.
        self.waits, self.latencies = list[KeptWaits](), list[KeptWaits]()
        for units in _some_at_a_time(np.arange(len(built.units))):
            waits, latencies = _of_units(built.world, units)
            self.waits += waits.each()
            self.latencies += latencies.each()
        self.remember(built)

    def remember(self, built: Built) -> None:
        """Take the counters as they are, and let the highest levels of a step begin at what they are now."""
        world = built.world
        units, hour = world.units, int(world.clock[0]["hour"])
        self.counts = {field: units[field].astype(np.int64) for field in _COUNTED.values()}
        self.busy = wide_floats(units, "busy_ns")
        self.ended = _ended(units)
        self.hour = hour
        # The kernel raises it at every change and at every flush; what is there now counts again at the next one.
        units["lag_max"] = 0
        for name in _KEPT_COUNTS:
            world.series[hour, :, SERIES.index(name)] = 0.0
        for name, field in _LEVELS.items():
            world.series[hour, :, SERIES.index(name)] = units[field]

    def since(self, built: Built) -> Iterator[tuple[str, Array]]:
        """What has come about since then, by column; and remember what is now."""
        world = built.world
        units = world.units
        # A step may end in a later hour than it began in; what the hours hold is of the step alone.
        kept = world.series[self.hour : int(world.clock[0]["hour"]) + 1]
        for name in _KEPT_COUNTS:
            yield name, kept[:, :, SERIES.index(name)].sum(axis=0)
        for name in _KEPT_PEAKS:
            yield name, kept[:, :, SERIES.index(name)].max(axis=0)
        for name, field in _COUNTED.items():
            yield name, (units[field] - self.counts[field]).astype(float)
        yield "busy_s", (wide_floats(units, "busy_ns") - self.busy) / 1e9
        yield from self._quantiles(built)
        yield "lag_s", np.where(units["stream_n"] > 0, units["lag_max"] / 1e9, np.nan)
        self.remember(built)

    def _quantiles(self, built: Built) -> Iterator[tuple[str, Array]]:
        """Quantiles of what was added to the sketches, s; nan where nothing was."""
        world = built.world
        found = {name: np.full(len(world.units), np.nan) for name in _WAITS}
        # Most functions end nothing in most steps; their sketches, which are large, are not looked through.
        for units in _some_at_a_time(np.flatnonzero(_ended(world.units) - self.ended)):
            waits, latencies = _of_units(world, units)
            for what, now, before in (("wait", waits, self.waits), ("latency", latencies, self.latencies)):
                added = now.since(ManyWaits.joined([before[n] for n in units]))
                p50, p95 = np.array(added.quantiles((0.5, 0.95)), float).T
                found[f"{what}_p50_s"][units], found[f"{what}_p95_s"][units] = p50, p95
                for n, kept in zip(units.tolist(), now.each(), strict=True):
                    before[n] = kept
        yield from found.items()


def _some_at_a_time(units: NDArray[np.int64]) -> Iterator[NDArray[np.int64]]:
    """Units whose sketches are looked at together."""
    return (units[first : first + AT_ONCE] for first in range(0, len(units), AT_ONCE))


def _of_units(world: World, units: NDArray[np.int64]) -> tuple[ManyWaits, ManyWaits]:
    """The sketches of some units' waits and of their latencies, of events handled and of requests answered."""
    longest, latest = (bins_until(int(world.units[name][units].max())) for name in ("wait_max", "latency_max"))
    waits = ManyWaits.of(units, longest, in_octaves(world, WAITS))
    answers, others = (ManyWaits.of(units, latest, in_octaves(world, which)) for which in (REQUESTS, LATENCIES))
    return waits, answers.plus(others)


def _ended(units: Any) -> NDArray[np.int64]:
    """Attempts that ended or found no room: only then a wait or a latency is written down."""
    found: NDArray[np.int64] = units["attempts"] - units["in_flight"]
    return found


def steps_of(from_ns: int, until_ns: int, step_ns: int) -> list[int]:
    """Edges of the steps: a last one that does not come out even is shorter."""
    return [*range(from_ns, until_ns, step_ns), until_ns]
