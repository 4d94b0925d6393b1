"""The world of a simulation as arrays: what the kernels read and write. Each record is described in ``engine.records``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

from echotally.engine.codes import BEYOND, FIRST_NUMBER, NONE
from echotally.engine.records import (
    Account,
    Aside,
    Asked,
    Attempt,
    Bin,
    Born,
    Call,
    Cargo,
    Carried,
    Chain,
    Change,
    Clock,
    Condition,
    Crowd,
    Edge,
    Entry,
    Event,
    Expected,
    Instance,
    Lined,
    Moment,
    Node,
    Partition,
    Portion,
    Random,
    Real,
    Refusal,
    Seen,
    Source,
    Stretch,
    Tap,
    Trigger,
    Turn,
    Unit,
    Whole,
)

# Quantile sketch: 2^7 = 128 bins an octave, so that a bin's middle is within 0.4 % of what is in it.
SUB_BITS = 7
SUB_BINS = 1 << SUB_BITS
WAIT_BINS = 48 * SUB_BINS
#: What each unit has sketches of, by their places among them.
WAITS, LATENCIES, REQUESTS, CHARGES = range(4)
SKETCHES = 4
#: From so many units on what is to be put into their sketches is written down first, and so much at a time.
MANY_UNITS, SEEN_AT_ONCE = 16, 512
#: Entries behind the calendar's last that never come: what has one child has all four (``kernel.calendar``).
SENTINELS = 4
#: So many entries stand in a row; more are a heap.
ROW = 64
#: What is due later than the present stretch of time is put aside, in lists for so many stretches (a power of two); what is due after
#: all of them stands together. Of more entries than so many stretches are 2^30 ns long at least.
FEW_ENTRIES, AHEAD, AHEAD_BITS = 4_096, 1_024, 30
#: Places in a bin are kept in 2^24ths of it.
OFFSET_BITS = 24
#: Levels are exact below this, then as waits.
EXACT_LEVELS = 2_048
LEVEL_BINS = EXACT_LEVELS + 24 * SUB_BINS
SERIES = ("arrivals", "throttled", "concurrency_peak", "instances_peak", "backlog_peak", "oldest_age_s")


class World(NamedTuple):
    """Every array of a simulation; kernels see their addresses, or checked views of them."""

    clock: NDArray[Any]
    chains: NDArray[Any]
    units: NDArray[Any]
    accounts: NDArray[Any]
    triggers: NDArray[Any]
    sources: NDArray[Any]
    partitions: NDArray[Any]
    taps: NDArray[Any]
    stretches: NDArray[Any]
    turns: NDArray[Any]  # in the order in which they come
    conditions: NDArray[Any]
    portions: NDArray[Any]
    edges: NDArray[Any]
    instances: NDArray[Any]
    nodes: NDArray[Any]
    calls: NDArray[Any]
    events: NDArray[Any]
    cargo: NDArray[Any]
    calendar: NDArray[Any]  # a heap of entries
    aside: NDArray[Any]  # entries due later, where there are many: lists by stretches of time
    ahead: NDArray[Any]  # the first of each list
    expected: NDArray[Any]  # a ring
    marked: NDArray[Any]  # who may have something to start: first a heap of those looked at
    crowds: NDArray[Any]  # those who wait for the same
    crowded: NDArray[Any]  # their members, a heap for each
    oldest: NDArray[
        Any
    ]  # when the oldest record of each partition came, a tree for each trigger of a stream (``kernel.lag``)
    window: NDArray[Any]  # what looks wanted, a ring for each polled unit
    random: NDArray[Any]  # states of all random streams
    samples: NDArray[Any]  # the ziggurat's tables, then samples of spreads
    pauses: NDArray[Any]  # waits after failed runs, ns
    sketches: NDArray[Any]  # (units, SKETCHES, WAIT_BINS, 2): counts, and places in the bin; see ``by_rows``
    seen: NDArray[Any]  # what is still to be put into them, where there are many units
    touched: NDArray[
        Any
    ]  # of each sketch (units * SKETCHES,), where there are many units, a bit for each octave that was put into
    level_bins: NDArray[Any]  # ns at each level (LEVEL_BINS, units); see ``by_units``
    estate_levels: NDArray[Any]  # the same of all units together (LEVEL_BINS,)
    count_bins: NDArray[Any]  # ns at each number of instances (LEVEL_BINS, units)
    lag_bins: NDArray[Any]  # ns at each lag, and rises that passed a bin whole (units, 2, WAIT_BINS)
    trail: NDArray[Any]
    diary: NDArray[Any]
    carried: NDArray[Any]  # what the diary's attempts held
    born: NDArray[Any]  # where events came from
    moments: NDArray[Any]  # what became of them
    refusals: NDArray[Any]  # calls that found no room
    rounds: NDArray[Any]  # for which events calls asked
    counts: NDArray[Any]  # events by spans of the month, where they are drawn and not played
    log: NDArray[Any]  # changes of the calls in flight, packed (``codes.LOG_SHIFT``)
    series: NDArray[Any]  # (hours, units, SERIES); see ``by_units``

    @property
    def wait_bins(self) -> NDArray[Any]:
        """Waits, as all of the sketches (units, WAIT_BINS, 2)."""
        return self._sketch(WAITS)

    @property
    def latency_bins(self) -> NDArray[Any]:
        """Latencies of all else but handled requests."""
        return self._sketch(LATENCIES)

    @property
    def request_bins(self) -> NDArray[Any]:
        """Latencies of handled requests."""
        return self._sketch(REQUESTS)

    @property
    def charge_bins(self) -> NDArray[Any]:
        """Time that each attempt was charged for."""
        return self._sketch(CHARGES)

    def _sketch(self, which: int) -> NDArray[Any]:
        found: NDArray[Any] = self.sketches[:, which]
        return found


#: What each array of the world holds.
HOLDS: dict[str, type] = {
    "clock": Clock,
    "chains": Chain,
    "units": Unit,
    "accounts": Account,
    "triggers": Trigger,
    "sources": Source,
    "partitions": Partition,
    "taps": Tap,
    "stretches": Stretch,
    "turns": Turn,
    "conditions": Condition,
    "portions": Portion,
    "edges": Edge,
    "instances": Instance,
    "nodes": Node,
    "calls": Call,
    "events": Event,
    "cargo": Cargo,
    "calendar": Entry,
    "aside": Aside,
    "ahead": Whole,
    "expected": Expected,
    "marked": Lined,
    "crowds": Crowd,
    "crowded": Lined,
    "oldest": Whole,
    "window": Whole,
    "random": Random,
    "samples": Real,
    "pauses": Whole,
    "sketches": Bin,
    "seen": Seen,
    "touched": Whole,
    "level_bins": Whole,
    "estate_levels": Whole,
    "count_bins": Whole,
    "lag_bins": Whole,
    "trail": Change,
    "diary": Attempt,
    "carried": Carried,
    "born": Born,
    "moments": Moment,
    "refusals": Refusal,
    "rounds": Asked,
    "counts": Whole,
    "log": Whole,
    "series": Real,
}
_NUMBERS: dict[str, Any] = {"int": np.int64, "float": np.float64, "Bits": np.uint64, "Small": np.int32}


def fields_of(record: type) -> dict[str, Any]:
    """Each field of a kind of record with its number type, in the order in which they stand in memory."""
    return {name: _NUMBERS[kind] for name, kind in record.__annotations__.items()}


DTYPES: dict[type, np.dtype[Any]] = {
    record: np.dtype(list(fields_of(record).items()), align=True) for record in HOLDS.values()
}
#: What kernels are handed in the compiled form: the address of each array of the world, and its length.
ADDRESSES = np.dtype([(name, np.int64) for name in World._fields] + [(f"n_{name}", np.int64) for name in World._fields])

#: Sums of times over thousands of instances leave an int64 of nanoseconds. They are kept in two words:
#: ``X_hi`` counts 2^26 ns, ``X_ns`` the rest (not carried over, so no addition branches). ``wide`` puts them together.
WIDE_BITS: int = np.int64(26)  # type: ignore[assignment]
WIDE_LOW: int = np.int64(2**26 - 1)  # type: ignore[assignment]
WIDE = {
    name: name.removesuffix("_ns") + "_hi"
    for name in (
        "billed_ns",
        "busy_ns",
        "life_ns",
        "idle_floor_ns",
        "node_hours_ns",
        "warming_ns",
        "failed_ns",
        "cut_ns",
        "again_ns",
        "running_ns",
    )
}


def wide(record: Any, name: str) -> int:
    """A sum of times of one record, ns, whatever its size."""
    return (int(record[WIDE[name]]) << int(WIDE_BITS)) + int(record[name])


def wide_floats(array: Any, name: str) -> NDArray[np.float64]:
    """A field of a record array as floats; sums of times are put together from their two words."""
    values: NDArray[np.float64] = array[name].astype(float)
    return values + array[WIDE[name]] * 2.0 ** int(WIDE_BITS) if name in WIDE else values


def set_wide(array: Any, name: str, values: NDArray[np.float64]) -> None:
    """Put floats into a field as whole numbers, sums of times into their two words."""
    if name in WIDE:
        array[WIDE[name]], values = np.divmod(values, 2.0 ** int(WIDE_BITS))
    array[name] = np.rint(values)


def by_rows(sketches: NDArray[Any]) -> NDArray[Any]:
    """Sketches of waits as they are read, (units, 2, WAIT_BINS): a row of counts and one of sums, without a copy."""
    return sketches.swapaxes(1, 2)


def by_units(found: NDArray[Any]) -> NDArray[Any]:
    """Levels and series with the unit in front, (units, ...), without a copy.

    In memory the units stand side by side: what a thousand of them do in an hour, at the few levels that they have, is in a few
    pages, while a page for each would leave the processor looking up addresses.
    """
    return found.swapaxes(0, 1)


def events_so_far(world: World) -> int:
    """How many events a world has seen come."""
    return int(world.clock[0]["number"] - FIRST_NUMBER)


def attempts_so_far(world: World) -> int:
    """How many attempts a world has seen, throttled ones with them."""
    return int(world.units["attempts"].sum())


def records(kind: type, n: int) -> NDArray[Any]:
    """``n`` zeroed records (at least one, so that a kernel never sees an empty array)."""
    return np.zeros(max(1, n), DTYPES[kind])


def none_ahead() -> NDArray[Any]:
    """Lists for what is put aside, all of them empty."""
    return np.full(AHEAD + 1, NONE, np.int64)


def empty_calendar(n: int) -> NDArray[Any]:
    """A calendar with room for ``n`` entries, and for those behind the last that never come (``kernel.calendar``)."""
    places = records(Entry, n + SENTINELS)
    places["at"] = BEYOND
    return places
