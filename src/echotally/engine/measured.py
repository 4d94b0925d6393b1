"""What a simulated month measured, per unit and source, in plain numbers."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from echotally.engine import records as r
from echotally.engine.build import Built, Unit
from echotally.errors import OurFault
from echotally.model.estate import Model

ENDINGS = (
    "succeeded",
    "errored",
    "rejected",
    "lost",
    "dead_lettered",
    "expired",
    "too_large",
    "skipped",
    "unfinished",
)
_FIELDS = (
    "ev_ok",
    "ev_errored",
    "ev_rejected",
    "ev_lost",
    "ev_dead",
    "ev_expired",
    "ev_large",
    "ev_skipped",
    "ev_left",
)


@dataclass(frozen=True)
class Level:
    """A level over time (calls in flight, instances): time-weighted."""

    mean: float
    p95: int
    p99: int
    peak: int


@dataclass(frozen=True)
class Waits:
    """Waits or latencies of events, seconds; None where there were none. Quantiles within 0.8 %."""

    p50: float | None
    p95: float | None
    p99: float | None
    max: float | None


@dataclass(frozen=True)
class UnitMeasured:
    """One function in one environment: counts, levels, waits, billed quantities (ns, exact integers)."""

    unit: Unit
    events: dict[str, int]
    duplicates: int
    calls: int
    attempts: dict[str, int]
    started: int
    cold_starts: int
    concurrency: Level
    instances: Level
    instance_limit: int | None
    at_limit_ns: int
    waits: Waits
    latency: Waits
    lag_p95_s: float | None
    lag_max_s: float | None
    backlog_peak: int
    billed_ns: int
    busy_ns: int
    life_ns: int
    idle_floor_ns: int
    requests: int
    replies: int
    wait_bins: NDArray[np.int64]
    order: int
    in_flight_events: int
    cut_requests: int
    longest_run_ns: int

    @property
    def left_behind_events(self) -> int:
        """Events that were not served: rejected, lost, dead-lettered, expired, too large, requests whose run was cut by
        the timeout, and what is unfinished without a run in flight (rules.md, fine print 38)."""
        gone = sum(self.events[name] for name in ("rejected", "lost", "dead_lettered", "expired", "too_large"))
        return gone + self.cut_requests + self.events["unfinished"] - self.in_flight_events

    @property
    def time_billed_ns(self) -> int:
        """The time the plan bills after rounding, ns; on reserved and nodes plans the busy time."""
        billed = {"runs": self.billed_ns, "active": self.billed_ns, "allocated": self.life_ns}
        return billed.get(self.unit.offer.plan.bills, self.busy_ns)


@dataclass(frozen=True)
class SourceMeasured:
    """One source in one environment: what went through it."""

    environment: str
    source: str
    arrived: int
    sends: int
    receives: int
    deletes: int
    idle_ns: int
    unread: int


@dataclass(frozen=True)
class PutIn:
    """Events that something inside the estate put into a source: a function's emits or dead letters, or a topic's feed."""

    environment: str
    source: str
    writer: str
    topic: bool
    events: int


@dataclass(frozen=True)
class Measured:
    """A simulated month. ``series`` has shape (units, hours, 6), columns ``records.SERIES``; ``put_in`` says who put what where."""

    units: list[UnitMeasured]
    sources: list[SourceMeasured]
    concurrency: Level
    node_ns: dict[tuple[str, str], int]
    accounts: list[tuple[str, str]]
    steps: int
    month_ns: int
    series: NDArray[np.float64]
    put_in: tuple[PutIn, ...] = ()


def read_out(model: Model, built: Built) -> Measured:
    """Read the measurements out of a finished world; raises ``OurFault`` if a sum does not hold."""
    found = assemble(model, built, built.world)
    _check_sums(built.world, built, found.units)
    return found


def assemble(model: Model, built: Built, w: Any) -> Measured:
    """Measurements from the arrays of ``w``, laid out like the world of ``built``."""
    clock = w.ck[0]
    length = int(clock["horizon"])
    units = [_unit(model, w, n, unit, length) for n, unit in enumerate(built.units)]
    sources = [_source(w, n, env, name) for n, (env, name) in enumerate(built.sources)]
    nodes = {key: r.wide(w.ac[n], "node_hours_ns") for n, key in enumerate(built.accounts)}
    total = _level(w.h_conc[len(units)], int(clock["peak"]), length)
    put_in = tuple(_put_in(built, w))
    return Measured(units, sources, total, nodes, built.accounts, int(clock["steps"]), length, w.series, put_in)


def _put_in(built: Built, w: Any) -> Iterator[PutIn]:
    for n, (env, name) in enumerate(built.sources):
        for x in range(int(w.so[n]["first_edge"]), int(w.so[n]["first_edge"] + w.so[n]["edge_n"])):
            yield PutIn(env, built.sources[int(w.ed[x]["target"])][1], name, True, int(w.ed[x]["sent"]))
        letter = int(w.so[n]["dead_letter"])
        for g in range(int(w.so[n]["first_trigger"]), int(w.so[n]["first_trigger"] + w.so[n]["trigger_n"])):
            target = letter if letter >= 0 else int(w.tr[g]["dead_letter"])
            if target >= 0:
                unit = built.units[int(w.tr[g]["unit"])]
                yield PutIn(env, built.sources[target][1], unit.function, False, int(w.tr[g]["letters"]))
    for n, unit in enumerate(built.units):
        for x in range(int(w.fn[n]["first_emit"]), int(w.fn[n]["first_emit"] + w.fn[n]["emit_n"])):
            into = built.sources[int(w.ed[x]["target"])][1]
            yield PutIn(unit.environment, into, unit.function, False, int(w.ed[x]["sent"]))


def _unit(model: Model, w: Any, n: int, unit: Unit, length: int) -> UnitMeasured:
    f = w.fn[n]
    events = {ending: int(f[field]) for ending, field in zip(ENDINGS, _FIELDS, strict=True)}
    attempts = {name: int(f[name]) for name in ("succeeded", "failed", "timed_out", "throttled")}
    attempts = {"total": int(f["attempts"]), **attempts, "running": int(f["in_flight"])}
    reserved = unit.offer.plan.bills == "reserved"
    instances = _level(w.h_inst[n], int(f["inst_peak"]), length)
    limit = None if f["shown_limit"] < 0 else int(f["shown_limit"])
    if reserved:
        limit = unit.offer.plan.instances or 0
        instances = Level(float(limit), limit, limit, limit)
    streams = f["stream_n"] > 0
    return UnitMeasured(
        unit, {"in": sum(events.values()), **events}, int(f["duplicates"]), int(f["calls"]), attempts, int(f["started"]),
        0 if reserved else int(f["cold_starts"]), _level(w.h_conc[n], int(f["conc_peak"]), length), instances, limit,
        int(f["at_limit_ns"]) if limit is not None and not reserved else 0, waits_of(w.h_wait[n], int(f["wait_max"])),
        waits_of(w.h_late[n], int(f["late_max"])),
        min(_lag_quantile(w.h_lag[n], int(f["lag_zero"]), 0.95), int(f["lag_max"]) / 1e9) if streams else None,
        int(f["lag_max"]) / 1e9 if streams else None, int(f["backlog_peak"]),
        r.wide(f, "billed_ns"), r.wide(f, "busy_ns"), r.wide(f, "life_ns"), r.wide(f, "idle_floor_ns"),
        int(f["requests"]), int(f["replies"]), w.h_wait[n].copy(), _file_order(model, unit),
        int(f["ev_flying"]), int(f["ev_cut"]), int(f["longest_run"]),
    )  # fmt: skip


def _file_order(model: Model, unit: Unit) -> int:
    """Units in the order of the file: environment by environment, functions as written."""
    return list(model.environments).index(unit.environment) * len(model.functions) + list(model.functions).index(
        unit.function
    )


def _source(w: Any, n: int, environment: str, name: str) -> SourceMeasured:
    q = w.so[n]
    arrived, sends, receives, deletes, idle = (
        int(q[f]) for f in ("arrived", "sends", "receives", "deletes", "idle_ns")
    )
    return SourceMeasured(environment, name, arrived, sends, receives, deletes, idle, int(q["trigger_n"] == 0))


def levels(built: Built, n: int, length_ns: int) -> tuple[Level, Level]:
    """Calls in flight and instances of the n-th unit, weighed over the first ``length_ns``."""
    w, f = built.world, built.world.fn[n]
    return _level(w.h_conc[n], int(f["conc_peak"]), length_ns), _level(w.h_inst[n], int(f["inst_peak"]), length_ns)


def _check_sums(w: Any, built: Built, units: list[UnitMeasured]) -> None:
    for unit in units:
        a = unit.attempts
        if a["total"] != a["succeeded"] + a["failed"] + a["timed_out"] + a["throttled"] + a["running"]:
            raise OurFault(f"attempts of {unit.unit.function} do not add up: {a}")
    for n, (environment, name) in enumerate(built.sources):
        if w.so[n]["arrived"] != w.so[n]["ended"]:
            raise OurFault(f"events of {name} ({environment}): {w.so[n]['arrived']} came, {w.so[n]['ended']} ended")
    if w.ck[0]["in_flight"] != sum(u.attempts["running"] for u in units):
        raise OurFault("calls in flight at the end do not add up")


def bin_value(index: NDArray[np.int64] | int) -> Any:
    """The middle of a sketch bin (see ``kernel.measures.sketch_bin``), in the sketch's unit."""
    index = np.asarray(index, np.int64)
    octave = np.maximum(index // 128 - 1, 0)
    low = np.where(index < 256, index, (128 + index % 128) << octave)
    return np.where(index < 256, index.astype(float), low + (1 << octave) / 2 - 0.5)


def bins_of(ns: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """The sketch bin of each time, ns, and how far into it the time is, in the unit of the sketch's second row."""
    ns = np.maximum(ns, 0)
    octave = np.maximum(np.frexp(ns.astype(float))[1] - 8, 0)
    place = np.minimum(np.where(ns < 128, ns, (octave + 1) * 128 + (ns >> octave) - 128), r.WAIT_BINS - 1)
    start = np.where(ns < 256, ns, (ns >> octave) << octave)
    return place, (ns - start) / 2.0 ** np.maximum(octave - r.OFFSET_BITS, 0)


def wait_sums(sketch: NDArray[np.int64]) -> NDArray[np.float64]:
    """Sum of the waits in each bin of a sketch of shape (2, bins), ns."""
    bins, into = sketch
    index = np.arange(len(bins))
    octave = np.maximum(index // 128 - 1, 0)
    start = np.where(index < 256, index, (128 + index % 128) << octave)
    sums: NDArray[np.float64] = start * bins.astype(float) + into * 2.0 ** np.maximum(octave - r.OFFSET_BITS, 0)
    return sums


def waits_of(sketch: NDArray[np.int64], longest: int) -> Waits:
    """Nearest-rank quantiles from a sketch of ns, shape (2, bins): counts and places in the bin; the maximum is exact.

    A quantile is the mean of the values in its bin, so a constant wait comes out exactly (above 2 s, to 1e-9 of it).
    """
    p50, p95, p99 = (wait_quantile(sketch, q) for q in (0.5, 0.95, 0.99))
    return Waits(p50, p95, p99, None if p50 is None else longest / 1e9)


def wait_quantile(sketch: NDArray[np.int64], q: float) -> float | None:
    """One quantile of a sketch, s; None of an empty one."""
    bins = sketch[0]
    cumulative = np.cumsum(bins)
    total = int(cumulative[-1])
    if total == 0:
        return None
    place = int(np.searchsorted(cumulative, max(1, int(np.ceil(q * total - 1e-9)))))
    # One bin only: a month reads dozens of sketches of thousands of bins.
    octave = max(place // 128 - 1, 0)
    start = place if place < 256 else (128 + place % 128) << octave
    return (start + float(sketch[1][place]) * 2.0 ** max(octave - r.OFFSET_BITS, 0) / float(bins[place])) / 1e9


def _level_values() -> NDArray[np.int64]:
    high = bin_value(np.arange(640, 640 + r.LEVEL_BINS - 2_048))
    return np.concatenate([np.arange(2_048), np.rint(high).astype(np.int64)])


def _level(bins: NDArray[np.int64], peak: int, length: int) -> Level:
    values = np.minimum(_level_values(), max(peak, 2_047))
    cumulative = np.cumsum(bins)
    mean = float((values * (bins / length)).sum())

    def quantile(q: float) -> int:
        return min(peak, int(values[int(np.searchsorted(cumulative, q * length))])) if cumulative[-1] else 0

    return Level(mean, quantile(0.95), quantile(0.99), peak)


def _lag_quantile(bins: NDArray[np.int64], zero_ns: int, q: float) -> float:
    """The lag not exceeded for a share ``q`` of the time; bins[1] counts rises that passed a bin whole."""
    index = np.arange(r.WAIT_BINS)
    octave = np.maximum(index // 128 - 1, 0)
    width = (np.int64(1) << octave).astype(float)
    time = bins[0] + np.cumsum(bins[1]) * width
    cumulative = np.cumsum(time) + zero_ns
    place = int(np.searchsorted(cumulative, q * cumulative[-1]))
    return 0.0 if zero_ns >= q * cumulative[-1] else float(bin_value(place)) / 1e9
