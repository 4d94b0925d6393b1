"""The world put together: every array, the pools' first sizes, the clock."""

from __future__ import annotations

import contextlib
import math
import mmap
import sys
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from echotally.demand.month import Arrivals
from echotally.engine import codes, layout, records
from echotally.engine.build.accounts import accounts_of, crowds_of
from echotally.engine.build.shared import Shared, Unit, stream_seeds
from echotally.engine.build.sources import backlogs_of, edges_of, partitions_of, sources_of, triggers_of, wire
from echotally.engine.build.taps import lead_short_ways, taps_beside, taps_of
from echotally.engine.build.turns import turns_of
from echotally.engine.build.units import units_of
from echotally.engine.hourly import Hourly
from echotally.errors import BadInput
from echotally.model.estate import Model
from echotally.model.sources import SourceRef
from echotally.rates.card_loading import Offer

_HOUR_NS = 3_600 * 10**9
#: More records than that for one step are more than memory holds.
_MOST_AT_ONCE = 20_000_000
#: Records of a pool at first, beside twice the margin: some, and enough for some dozens of steps before anybody must look again.
_ROOM, _STEPS, _MOST_ROOM = 16, 30, 1024

#: The series of a world had better take no more than about so many bytes, and need not have fewer hours than that.
_SERIES_BYTES, _FEWEST_HOURS = 2**18, 24


class Built(Struct):
    """The world and what its places mean."""

    world: layout.World
    units: list[Unit]
    accounts: list[tuple[str, str]]
    sources: list[tuple[str, SourceRef]]
    backlogs: list[tuple[int, int]]
    _pages: mmap.mmap
    _over: list[Hourly] = field(default_factory=list)
    _door: tuple[layout.World, Any] | None = None

    def door(self, make: Callable[[layout.World], Any]) -> Any:
        """What kernels are handed, made by ``make`` once for each world: pools grow now and then, and are asked of often."""
        if self._door is None or self._door[0] is not self.world:
            self._door = self.world, make(self.world)
        return self._door[1]

    @property
    def hours_at_once(self) -> int:
        """How many hours the world's series had better hold before those that are over are put by."""
        return max(_FEWEST_HOURS, _SERIES_BYTES // int(self.world.series[0].nbytes))

    def puts_hours_by(self) -> None:
        """Take the hours that are over out of the world's series, if there are many; those that come take their places."""
        clock, series = self.world.clock[0], self.world.series
        over = int(clock["hour"])
        if over + 1 >= self.hours_at_once:
            self._over.append(Hourly.of(layout.by_units(series[:over])))
            # The ages of the hour that goes on are written when it ends.
            series[0] = series[over]
            series[1 : over + 1] = 0
            clock["hour"] -= over
            clock["hours"] -= over

    def hourly(self) -> Hourly:
        """All hours: those put by, and after them those that the world has."""
        there = self.world.series[: int(self.world.clock[0]["hours"])]
        return Hourly.in_turn([*self._over, Hourly.of(layout.by_units(there))])

    def forgets_sketches(self) -> bool:
        """Empty all sketches by giving back their pages, which takes less than to look for what they hold; False where that cannot be."""
        # Elsewhere pages given back need not come again as zeros.
        if sys.platform != "linux" or not hasattr(mmap, "MADV_DONTNEED"):
            return False
        self._pages.madvise(mmap.MADV_DONTNEED)
        self.world.touched[:] = 0
        return True


class Site:
    """What of a world is the same whatever comes and whatever the seed: made once where a model is played many times.

    ``placement`` gives each function's plan. Raises ``BadInput`` where one run would put out or start more than can be held.
    """

    def __init__(self, model: Model, placement: Mapping[str, Offer]) -> None:
        self._shared = shared = Shared(model, placement)
        # The order is part of the answer: random streams and lists are numbered as they are asked for.
        units, triggers, sources = units_of(shared), triggers_of(shared), sources_of(shared)
        wire(shared, units, triggers, sources)
        partitions, edges = partitions_of(shared, triggers), edges_of(shared, units, sources)
        accounts, self._instances, nodes, self._reserved = accounts_of(shared)
        crowds, crowded = crowds_of(units, accounts)
        self._margin = _margin(units, triggers, sources, edges, len(nodes))
        self._records = {
            "units": units,
            "accounts": accounts,
            "triggers": triggers,
            "sources": sources,
            "partitions": partitions,
            "edges": edges,
            "nodes": nodes,
            "crowds": crowds,
            "crowded": crowded,
        }

    def built(self, arrivals: Arrivals, seed: int) -> Built:
        """A world on it."""
        shared, ours = self._shared.copied(), {name: array.copy() for name, array in self._records.items()}
        units = ours["units"]
        taps, stretches = taps_of(shared, arrivals.taps)
        lead_short_ways(taps, units, ours["triggers"], ours["sources"])
        turns, conditions = turns_of(shared, arrivals.happenings, ours["accounts"], arrivals.length_ns)
        clock, pools = _pools(arrivals.length_ns, len(units), self._margin, self._instances, self._reserved)
        clock[0]["beside"], clock[0]["behind"] = taps_beside(taps, stretches, ours["sources"])
        fixed = {
            "clock": clock,
            "chains": _chains(shared.lists),
            **ours,
            "taps": taps,
            "stretches": stretches,
            "turns": turns,
            "conditions": conditions,
            "portions": shared.portion_records(),
            # Everybody at once, and somebody to look at when there is nobody.
            "marked": layout.records(records.Lined, len(units) + len(ours["crowds"]) + 1),
            "oldest": np.full(2 * len(ours["partitions"]), codes.NEVER, np.int64),
            **pools,
            **_ring_and_heap(clock, taps),
            **_numbers(shared, seed),
        }
        pages, sketches = _sketches(units, len(shared.units))
        world = layout.World(**fixed, **sketches, **_measures(len(shared.units), int(clock[0]["hours"])))
        return Built(world, shared.units, shared.accounts, shared.sources, backlogs_of(shared), pages)


def build(model: Model, arrivals: Arrivals, placement: Mapping[str, Offer], seed: int) -> Built:
    """The world of one simulation, on a site of its own."""
    return Site(model, placement).built(arrivals, seed)


def _margin(units: Any, triggers: Any, sources: Any, edges: Any, nodes: int) -> int:
    """The most records one step can take: a batch, what it puts out or asks, the copies of one event, nodes that fall empty."""
    # By function: one that is handed thousands of items, which are one event, need not be the one that puts out events for each.
    most = np.maximum(triggers["batch"], triggers["items"])
    put_out = np.array([_put_out(f, edges) for f in units], np.int64)
    handed = int(np.maximum(triggers["batch"], most * put_out[triggers["unit"]]).max())
    copies = int((sources["trigger_n"] + sources["edge_n"]).max())
    # A look that finds no instance may bring more than others.
    looks = int(np.maximum(units["look_step"], units["look_first"]).max())
    margin = max(handed, copies, looks, int(units["floor"].sum()), nodes) + 16
    if margin > _MOST_AT_ONCE:
        raise BadInput(f"one run would put out or start {margin:,} things at once; that is more than can be simulated")
    return margin


def _put_out(f: Any, edges: Any) -> int:
    """The most that a unit's run puts out for an event, or asks at once, the larger."""
    emits = sum(int(edges[x]["whole"]) + 1 for x in range(f["first_emit"], f["first_emit"] + f["emit_n"]))
    asks = max((int(edges[x]["whole"]) + 1 for x in range(f["first_ask"], f["first_ask"] + f["ask_n"])), default=0)
    return max(emits, asks)


def _pools(length_ns: int, units: int, margin: int, instances: Any, reserved: int) -> tuple[Any, dict[str, Any]]:
    """The clock, and pools of free records with room for the first step."""
    clock = layout.records(records.Clock, 1)
    c = clock[0]
    c["horizon"], c["until"], c["near_until"], c["row"] = length_ns, codes.NEVER, codes.BEYOND, layout.ROW
    c["beside_at"], c["behind_at"] = codes.NEVER, codes.NEVER
    c["number"] = codes.FIRST_NUMBER
    c["units"], c["hour_ns"], c["hours"] = units, _HOUR_NS, -(-length_ns // _HOUR_NS)
    c["margin"], c["asker"] = margin, -1
    c["emitter"], c["origin"], c["sent"] = -1, -1, -1
    size = _size(margin)
    pools = {name: layout.records(layout.HOLDS[name], size) for name in ("events", "calls", "cargo")}
    pools["instances"] = _longer(instances, len(instances) + size)
    for name, head in (("events", "event"), ("calls", "call"), ("cargo", "cargo"), ("instances", "instance")):
        first = reserved if name == "instances" else 0
        link_free(pools[name], first)
        c[f"free_{head}"], c[f"{name}_left"] = first, len(pools[name]) - first
    return clock, pools


def _size(margin: int) -> int:
    """Records of a pool at first."""
    return 2 * margin + _ROOM + min(_STEPS * margin, _MOST_ROOM)


def _ring_and_heap(clock: Any, taps: Any) -> dict[str, Any]:
    size = _size(int(clock[0]["margin"]))
    # What stands in it at 0 s is put there before anybody looks for room: a tap's first event, or one for each of its clients.
    entries = 4 * size + len(taps) + int(taps["clients"].sum()) + 4 * int(clock[0]["units"])
    aside = layout.records(records.Aside, entries)
    link_free(aside, 0)
    return {
        "calendar": layout.empty_calendar(entries),
        "aside": aside,
        "ahead": layout.none_ahead(),
        "expected": layout.records(records.Expected, size),
    }


def _chains(n: int) -> Any:
    found = layout.records(records.Chain, n)
    for name in ("head", "tail", "hint"):
        found[name] = -1
    return found


def _numbers(shared: Shared, seed: int) -> dict[str, Any]:
    """Plain arrays of numbers; each has one place more, so that none is empty."""
    return {
        "window": np.zeros(shared.window + 1, np.int64),
        "random": np.append(stream_seeds(seed, shared.streams), np.uint64(0)),
        "samples": np.array([*shared.samples, 0.0]),
        "pauses": np.array([*shared.pauses, 0], np.int64),
    }


def _sketches(units: Any, n: int) -> tuple[mmap.mmap, dict[str, NDArray[np.int64]]]:
    """The sketches of ``n`` units, and the memory that they alone are in."""
    lag_rows = n if any(units["stream_n"]) else 1
    return _untouched(
        {
            "sketches": (n, layout.SKETCHES, layout.WAIT_BINS, 2),
            "level_bins": (layout.LEVEL_BINS, n),
            "estate_levels": (layout.LEVEL_BINS,),
            "count_bins": (layout.LEVEL_BINS, n),
            "lag_bins": (lag_rows, 2, layout.WAIT_BINS),
        }
    )


def _measures(n: int, hours: int) -> dict[str, Any]:
    """The series, and a trail and a diary of one line: most runs keep none."""
    return {
        "seen": layout.records(records.Seen, layout.SEEN_AT_ONCE if n >= layout.MANY_UNITS else 1),
        "touched": np.zeros(n * layout.SKETCHES if n >= layout.MANY_UNITS else 1, np.int64),
        "trail": layout.records(records.Change, 1),
        "diary": layout.records(records.Attempt, 1),
        "carried": layout.records(records.Carried, 1),
        "born": layout.records(records.Born, 1),
        "moments": layout.records(records.Moment, 1),
        "refusals": layout.records(records.Refusal, 1),
        "rounds": layout.records(records.Asked, 1),
        "counts": np.zeros(1, np.int64),
        "log": np.zeros(1, np.int64),
        "series": np.zeros((max(1, hours), n, len(layout.SERIES))),
    }


def _untouched(shapes: Mapping[str, tuple[int, ...]]) -> tuple[mmap.mmap, dict[str, NDArray[np.int64]]]:
    """Memory, and arrays of zeros in it, of which only those pages take any that are written to: a sketch uses few of its bins."""
    sizes = {name: math.prod(shape) for name, shape in shapes.items()}
    # NumPy asks for pages of 2 MB, of which a thousand functions would use a little each.
    # Shared memory, which ``mmap`` gives otherwise, would take a page for each that is only read.
    private = {"flags": mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS} if hasattr(mmap, "MAP_PRIVATE") else {}
    memory = mmap.mmap(-1, 8 * sum(sizes.values()), **private)
    if hasattr(mmap, "MADV_NOHUGEPAGE"):
        with contextlib.suppress(OSError):
            memory.madvise(mmap.MADV_NOHUGEPAGE)
    found, place = {}, 0
    for name, shape in shapes.items():
        found[name] = np.frombuffer(memory, np.int64, sizes[name], place).reshape(shape)
        place += 8 * sizes[name]
    return memory, found


def link_free(array: Any, first: int) -> None:
    """Chain records ``first`` onwards into a free list."""
    array["next"][first:] = np.arange(first + 1, len(array) + 1)


def _longer(array: Any, n: int) -> Any:
    longer = np.zeros(n, array.dtype)
    longer[: len(array)] = array
    return longer
