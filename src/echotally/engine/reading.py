"""What a simulated month measured, per unit and source, in plain numbers."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.engine import codes
from echotally.engine.build import Built, Unit
from echotally.engine.counted import Counted, counted
from echotally.engine.distributions import Distributions, distributions, peaks_alone
from echotally.engine.hourly import Hourly
from echotally.engine.layout import World, wide
from echotally.engine.sketch import KeptWaits, Level, Waits, lag_quantile, level_of
from echotally.errors import OurFault
from echotally.model.estate import Model
from echotally.model.sources import SourceRef

#: How events end, by the name of the counter in the answer, and the field of a unit that counts it.
ENDINGS = {
    "succeeded": "handled",
    "errored": "errored",
    "rejected": "rejected",
    "lost": "lost",
    "dead_lettered": "dead_lettered",
    "expired": "expired",
    "too_large": "too_large",
    "skipped": "skipped",
    "unfinished": "unfinished",
}
#: Endings that leave an event unserved whatever became of its run (rule 7.38).
_NOT_SERVED = ("rejected", "lost", "dead_lettered", "expired", "too_large")
#: Endings that nobody handled and nobody was told of.
_LOST = ("lost", "dead_lettered", "expired", "too_large")
_OUTCOMES = ("succeeded", "failed", "timed_out", "throttled")


def throttled_share(attempts: Mapping[str, int]) -> float:
    """Throttled attempts / attempts (rule 5.3); 0 without attempts."""
    return attempts["throttled"] / attempts["total"] if attempts["total"] else 0.0


def lost_events(events: Mapping[str, int]) -> int:
    """Events lost, dead-lettered, expired or too large: what the target ``lost`` counts (rule 6.8)."""
    return sum(events[name] for name in _LOST)


class Outcomes(Struct, frozen=True):
    """Attempts that started by what they came to, and their time, ns (rule 10.1): billed time less its unrounded cold start, or,
    where a plan does not bill attempts one by one, time with runs. ``cold_starts`` is billed cold-start time.
    """

    attempts: dict[str, int]
    times_ns: dict[str, int]


class UnitMeasured(Struct, frozen=True):
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
    answers: Waits
    lag_p95_s: float | None
    lag_max_s: float | None
    backlog_peak: int
    billed_ns: int
    busy_ns: int
    life_ns: int
    idle_floor_ns: int
    requests: int
    replies: int
    wait_sketch: KeptWaits
    order: int
    in_flight_events: int
    cut_requests: int
    longest_run_ns: int
    cold_calls: int
    started_items: int
    served: int
    charge_p95_s: float | None
    outcomes: Outcomes

    @property
    def cold_share(self) -> float | None:
        """Share of started attempts that waited for an instance to start; None where nothing started."""
        return self.cold_calls / self.started if self.started else None

    @property
    def left_behind_events(self) -> int:
        """Events that were not served: rejected, lost, dead-lettered, expired, too large, requests whose run was cut by
        the timeout, and what is unfinished without a run in flight (rule 7.38).
        """
        gone = sum(self.events[name] for name in _NOT_SERVED)
        return gone + self.cut_requests + self.events["unfinished"] - self.in_flight_events

    @property
    def throttled_share(self) -> float:
        """Throttled attempts / attempts."""
        return throttled_share(self.attempts)

    @property
    def lost_events(self) -> int:
        """Events lost, dead-lettered, expired or too large."""
        return lost_events(self.events)

    @property
    def key(self) -> tuple[str, str]:
        """Function and environment."""
        return self.unit.function, self.unit.environment

    @property
    def time_billed_ns(self) -> int:
        """The time the plan bills after rounding, ns; on reserved and nodes plans the busy time."""
        billed = {"runs": self.billed_ns, "active": self.billed_ns, "allocated": self.life_ns}
        return billed.get(self.unit.offer.plan.bills, self.busy_ns)

    @property
    def gb_seconds(self) -> float:
        """Billed time by the memory it is billed for, GB-seconds."""
        return self.time_billed_ns / 1e9 * self.unit.settings.memory_billed_mb / 1024


class SourceMeasured(Struct, frozen=True):
    """One source in one environment: what went through it."""

    environment: str
    source: SourceRef
    arrived: int
    sends: int
    receives: int
    deletes: int
    idle_ns: int
    unread: int


class PutIn(Struct, frozen=True):
    """Events that something inside the estate put into a source: a function's emits or dead letters, or a topic's feed.

    ``writer`` is the function or topic; ``origin`` the source that an event came from, None where a function put it out.
    """

    environment: str
    source: SourceRef
    writer: str
    topic: bool
    events: int
    origin: SourceRef | None = None


class Measured(Struct, frozen=True):
    """A simulated month. ``series`` is what happened by the hour, columns ``layout.SERIES``; ``put_in`` says who put what where.

    ``starts_ns`` are the times at which start tokens of an account were taken, where they were asked for. ``marks`` are what had
    been measured up to instants that were asked for, lives and active periods where they ended, ``passed`` the same as far as they
    had gone: only what meters are made of, levels, waits and hours are nothing.
    """

    units: list[UnitMeasured]
    sources: list[SourceMeasured]
    concurrency: Level
    node_ns: dict[tuple[str, str], int]
    accounts: list[tuple[str, str]]
    month_ns: int
    series: Hourly
    put_in: tuple[PutIn, ...] = ()
    starts_ns: dict[tuple[str, str], NDArray[np.int64]] | None = None
    marks: tuple[Measured, ...] = ()
    passed: tuple[Measured, ...] = ()

    def emptied(self) -> Measured:
        """The same month without what happened in it by function, source and hour."""
        return replace(self, units=[], sources=[], series=Hourly(()), put_in=(), starts_ns=None, marks=(), passed=())


def read_out(model: Model, built: Built, quantities_only: bool = False) -> Measured:
    """Read the measurements out of a finished world; raises ``OurFault`` if a sum does not hold."""
    found = assemble(model, built, counted(built), quantities_only)
    _check_sums(built.world, built, found.units)
    return found


def marked(model: Model, built: Built, at_ns: int, passing: bool) -> Measured:
    """What meters are made of, up to this instant of a world that is being played.

    ``passing``: lives and active periods that have begun count up to now; else where they end.
    """
    w = counted(built, at_ns)
    if passing:
        w = replace(w, units=_with_what_goes_on(built))
    return assemble(model, built, w, quantities_only=True)


def _with_what_goes_on(built: Built) -> Any:
    """The records of the units, with lives and active periods up to now, unrounded."""
    w, units = built.world, built.world.units.copy()
    now, alive = int(w.clock[0]["now"]), w.instances[w.instances["state"] != codes.ABSENT]
    for instance in alive[(alive["unit"] >= 0) & (alive["unit"] < len(built.units))]:
        unit = units[int(instance["unit"])]
        unit["life_ns"] += now - int(instance["created"])
        if unit["bills"] == codes.ACTIVE and instance["active_since"] >= 0:
            unit["billed_ns"] += now - int(instance["active_since"])
    return units


def assemble(model: Model, built: Built, w: Counted, quantities_only: bool = False) -> Measured:
    """Measurements from what was counted, laid out like the world of ``built``; ``quantities_only``: no levels, waits and hours."""
    length, order = w.length_ns, _file_order(model)
    told = peaks_alone(w.units) if quantities_only else distributions(w, len(built.units))
    return Measured(
        units=[
            _unit(w, n, unit, order[unit.environment, unit.function], its)
            for (n, unit), its in zip(enumerate(built.units), told, strict=False)
        ],
        sources=[_source(w, n, env, source) for n, (env, source) in enumerate(built.sources)],
        concurrency=Level(0.0, 0, 0, w.level_peak)
        if quantities_only
        else level_of(w.estate_levels, w.level_peak, length),
        node_ns={key: wide(w.accounts[n], "node_hours_ns") for n, key in enumerate(built.accounts)},
        accounts=built.accounts,
        month_ns=length,
        series=Hourly(()) if quantities_only else w.hours(),
        put_in=(*_fed(built, w), *_dead_lettered(built, w), *_emitted(built, w)),
    )


def _fed(built: Built, w: Counted) -> Iterator[PutIn]:
    """What topics put into the queues they feed."""
    for n, (env, source) in enumerate(built.sources):
        for edge in _range(w.edges, w.sources[n], "first_edge", "edge_n"):
            yield PutIn(env, built.sources[int(edge["target"])][1], source, True, int(edge["sent"]), source)


def _dead_lettered(built: Built, w: Counted) -> Iterator[PutIn]:
    """What went to dead letters, by the function that gave it up."""
    for n, (env, source) in enumerate(built.sources):
        letter = int(w.sources[n]["dead_letter"])
        for trigger in _range(w.triggers, w.sources[n], "first_trigger", "trigger_n"):
            target = letter if letter >= 0 else int(trigger["dead_letter"])
            if target >= 0:
                writer = built.units[int(trigger["unit"])].function
                yield PutIn(env, built.sources[target][1], writer, False, int(trigger["letters"]), source)


def _emitted(built: Built, w: Counted) -> Iterator[PutIn]:
    """What functions put out, and what they asked."""
    for n, unit in enumerate(built.units):
        for what in ("emit", "ask"):
            for edge in _range(w.edges, w.units[n], f"first_{what}", f"{what}_n"):
                into = built.sources[int(edge["target"])][1]
                yield PutIn(unit.environment, into, unit.function, False, int(edge["sent"]))


def _range(array: Any, record: Any, first: str, n: str) -> Any:
    """The records of an array that another one names by their first and their number."""
    return array[int(record[first]) : int(record[first] + record[n])]


#: Counts of a unit that are told as they were kept.
_COUNTED = (
    "duplicates",
    "calls",
    "started",
    "backlog_peak",
    "requests",
    "replies",
    "cut_requests",
    "cold_calls",
    "started_items",
    "served",
)


def _numbers(record: Any) -> dict[str, Any]:
    """A record's fields as plain numbers, all at once: field by field takes a hundred times as long."""
    return dict(zip(record.dtype.names, record.item(), strict=True))


def _unit(w: Counted, n: int, unit: Unit, order: int, told: Distributions) -> UnitMeasured:
    f = _numbers(w.units[n])
    events = {ending: int(f[field]) for ending, field in ENDINGS.items()}
    reserved = unit.offer.plan.bills == "reserved"
    limit = None if f["shown_limit"] < 0 else int(f["shown_limit"])
    instances = told.instances
    if reserved:
        # Reserved instances are there whatever runs (rule 7.13).
        limit = unit.offer.plan.instances or 0
        instances = Level(float(limit), limit, limit, limit)
    lag_p95, lag_max = _lag(w, n) if told.whole else (None, None)
    return UnitMeasured(
        unit=unit,
        events={"in": sum(events.values()), **events},
        **{name: int(f[name]) for name in _COUNTED},
        attempts={"total": int(f["attempts"]), **{o: int(f[o]) for o in _OUTCOMES}, "running": int(f["in_flight"])},
        cold_starts=0 if reserved else int(f["cold_starts"]),
        concurrency=told.concurrency,
        instances=instances,
        instance_limit=limit,
        at_limit_ns=0 if limit is None or reserved else int(f["at_limit_ns"]),
        waits=told.waits,
        latency=told.latency,
        answers=told.answers,
        lag_p95_s=lag_p95,
        lag_max_s=lag_max,
        **{name: wide(f, name) for name in ("billed_ns", "busy_ns", "life_ns", "idle_floor_ns")},
        wait_sketch=told.wait_sketch,
        order=order,
        in_flight_events=int(f["flying"]),
        longest_run_ns=int(f["longest_run"]),
        charge_p95_s=told.charge_p95_s,
        outcomes=_outcomes(f, unit.offer.plan.bills == "runs"),
    )


def _outcomes(f: Any, by_attempt: bool) -> Outcomes:
    again_good = int(f["again"] - f["again_failed"] - f["again_cut"])
    attempts = {
        "handled": int(f["succeeded"]) - again_good,
        "failed": int(f["failed"] - f["again_failed"]),
        "timed out": int(f["timed_out"] - f["again_cut"]),
        "duplicates": int(f["again"]),
        "running": int(f["in_flight"]),
    }
    fields = {"failed": "failed_ns", "timed out": "cut_ns", "duplicates": "again_ns", "running": "running_ns"}
    times = {outcome: wide(f, name) for outcome, name in fields.items()}
    cold = wide(f, "warming_ns")
    # In a sampled month sums are rounded each by itself.
    all_of_it = wide(f, "billed_ns") - cold if by_attempt else wide(f, "busy_ns")
    times["handled"] = max(0, all_of_it - sum(times.values()))
    return Outcomes(attempts, {**times, "cold starts": cold})


def _lag(w: Counted, n: int) -> tuple[float | None, float | None]:
    """p95 and maximum of a unit's lag, s; None without streams."""
    f = w.units[n]
    if f["stream_n"] == 0:
        return None, None
    longest = int(f["lag_max"]) / 1e9
    return min(lag_quantile(w.lag_bins[n], int(f["lag_zero"]), 0.95), longest), longest


def _file_order(model: Model) -> dict[tuple[str, str], int]:
    """Units, (environment, function), in the order of the file: environment by environment, functions as written."""
    return {unit: n for n, unit in enumerate(itertools.product(model.environments, model.functions))}


def _source(w: Counted, n: int, environment: str, source: SourceRef) -> SourceMeasured:
    q = _numbers(w.sources[n])
    return SourceMeasured(
        environment=environment,
        source=source,
        arrived=int(q["arrived"]),
        sends=int(q["sends"]),
        receives=int(q["receives"]),
        deletes=int(q["deletes"]),
        idle_ns=int(q["idle_ns"]),
        unread=int(q["trigger_n"] == 0),
    )


def levels(built: Built, n: int, length_ns: int) -> tuple[Level, Level]:
    """Calls in flight and instances of the n-th unit, weighed over the first ``length_ns``."""
    w, f = built.world, built.world.units[n]
    return (
        level_of(w.level_bins[:, n], int(f["level_peak"]), length_ns),
        level_of(w.count_bins[:, n], int(f["count_peak"]), length_ns),
    )


def _check_sums(w: World, built: Built, units: list[UnitMeasured]) -> None:
    for unit in units:
        a = unit.attempts
        if a["total"] != a["succeeded"] + a["failed"] + a["timed_out"] + a["throttled"] + a["running"]:
            raise OurFault(f"attempts of {unit.unit.function} do not add up: {a}")
    for q, (environment, source) in zip(w.sources, built.sources, strict=False):
        if q["arrived"] != q["ended"]:
            raise OurFault(f"events of {source} ({environment}): {q['arrived']} came, {q['ended']} ended")
    if w.clock[0]["in_flight"] != sum(u.attempts["running"] for u in units):
        raise OurFault("calls in flight at the end do not add up")
