"""The figures of a projected plan as one flat table: for replications, sweeps and comparisons."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from echotally.engine.layout import SERIES
from echotally.engine.reading import UnitMeasured
from echotally.engine.sketch import Level
from echotally.projection.project import PlanProjection, Projection
from echotally.projection.verdict import lost_events, throttled_share

if TYPE_CHECKING:
    import pandas as pd


def figures(plan: PlanProjection) -> dict[str, float | None]:
    """Every figure of a feasible plan by its dotted name (``functions.map.live.wait_s.p95``); None: no such thing.

    Units as in the projection's JSON: money in the card's currency, waits in s, shares as fractions.
    """
    assert plan.measured is not None and plan.bill is not None
    units = plan.measured.units
    attempts = {key: sum(u.attempts[key] for u in units) for key in units[0].attempts}
    waits = [u.waits.p95 for u in units if u.waits.p95 is not None]
    found: dict[str, float | None] = {
        "cost.total": float(plan.bill.unrounded),
        "cost.idle": float(plan.bill.idle),
        "throttled_share": throttled_share(attempts),
        "lost_events": sum(lost_events(u.events) for u in units),
        "wait_p95_s": max(waits, default=None),
        "cold_starts": sum(u.cold_starts for u in units),
        "misses": len(plan.misses),
        **{f"attempts.{key}": n for key, n in attempts.items()},
        **_level("concurrency", plan.measured.concurrency),
    }
    for unit in sorted(units, key=lambda u: u.order):
        key = (unit.unit.function, unit.unit.environment)
        prefix = f"functions.{key[0]}.{key[1]}"
        found |= {f"{prefix}.{name}": value for name, value in _unit(unit)}
        found[f"{prefix}.cost"] = float(plan.bill.functions[key])
    return found


def _level(name: str, level: Level) -> dict[str, float | None]:
    return {f"{name}.mean": level.mean, f"{name}.p95": level.p95, f"{name}.p99": level.p99, f"{name}.peak": level.peak}


def _unit(unit: UnitMeasured) -> Iterator[tuple[str, float | None]]:
    yield from ((f"events.{name}", n) for name, n in unit.events.items())
    yield from ((f"attempts.{name}", n) for name, n in unit.attempts.items())
    yield "throttled_share", throttled_share(unit.attempts)
    yield "cold_starts", unit.cold_starts
    yield from _level("concurrency", unit.concurrency).items()
    yield from _level("instances", unit.instances).items()
    waits = unit.waits
    yield from (
        (f"wait_s.{name}", value)
        for name, value in (("p50", waits.p50), ("p95", waits.p95), ("p99", waits.p99), ("max", waits.max))
    )
    yield "latency_s.p95", unit.latency.p95
    yield "backlog_peak", unit.backlog_peak
    yield "billed_s", unit.time_billed_ns / 1e9


def series_frame(projection: Projection) -> pd.DataFrame:
    """Hour by hour of every feasible plan, function and environment.

    Columns: plan, function, environment, hour (local time with offset, ISO 8601), arrivals and throttled (counts
    of the hour), concurrency_peak, instances_peak and backlog_peak (levels), oldest_age_s (age of the oldest
    event waiting when the hour ends).
    """
    import pandas as pd

    clock = projection.month.clock
    length = 3_600 * 10**9
    hours = [clock.instant(n * length).astimezone(clock.zone).isoformat() for n in range(-(-clock.length_ns // length))]
    frames = []
    for plan in projection.plans:
        units = plan.measured.units if plan.measured else []
        for number, unit in enumerate(units):
            assert plan.measured is not None
            frame = pd.DataFrame(plan.measured.series[number], columns=list(SERIES))
            # All but the age are counts; a sampled month has fractions of them.
            counts = list(SERIES[:-1])
            frame[counts] = frame[counts].round().astype("int64")
            frame.insert(0, "hour", hours)
            frame.insert(0, "environment", unit.unit.environment)
            frame.insert(0, "function", unit.unit.function)
            frame.insert(0, "plan", plan.offer.name)
            frames.append((plan.offer.name, unit.order, frame))
    frames.sort(key=lambda f: ([p.offer.name for p in projection.plans].index(f[0]), f[1]))
    empty = pd.DataFrame(columns=["plan", "function", "environment", "hour", *SERIES])
    return pd.concat([frame for _, _, frame in frames], ignore_index=True) if frames else empty
