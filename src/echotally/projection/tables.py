"""A projection as flat tables: a plan's figures by name, and plans, functions, bill lines and hours as frames."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

from msgspec import Struct
from msgspec.structs import asdict

from echotally.engine.layout import SERIES
from echotally.engine.reading import UnitMeasured
from echotally.engine.sketch import Level
from echotally.projection.bills import merged_lines
from echotally.showing import late

if TYPE_CHECKING:
    import pandas as pd

    from echotally.projection.answer import PlayedPlan, Projection


def frame_of(rows: Iterable[Any]) -> pd.DataFrame:
    """Rows as a table; names inside a row are joined by dots."""
    import pandas as pd

    return pd.json_normalize([_as_dict(row) for row in rows])


def _as_dict(row: Any) -> Any:
    """A row by its names, and what it holds by theirs."""
    return {name: _as_dict(value) for name, value in asdict(row).items()} if isinstance(row, Struct) else row


def figures(plan: PlayedPlan) -> dict[str, float | None]:
    """Every figure of a feasible plan by its dotted name (``functions.map.live.wait_s.p95``); None: no such thing.

    Units as in the projection's JSON: money in the card's currency, waits in s, shares as fractions.
    """
    found = figures_in_all(plan)
    for unit in plan.units:
        prefix = f"functions.{unit.unit.function}.{unit.unit.environment}"
        found |= {f"{prefix}.{name}": value for name, value in _unit_figures(unit)}
        found[f"{prefix}.cost"] = float(plan.bill.functions[unit.key])
    return found


def figures_in_all(plan: PlayedPlan) -> dict[str, float | None]:
    """As ``figures``, without those of functions."""
    totals = plan.totals
    return {
        "cost.total": float(plan.bill.unrounded),
        "cost.idle": float(plan.bill.idle),
        "throttled_share": totals.throttled_share,
        "lost_events": totals.lost,
        "left_behind": totals.left_behind_share,
        "wait_p95_s": totals.wait_p95_s,
        **{f"latency_{name}_ms": _slowest(plan, name) for name in ("p50", "p95", "p99")},
        "cold_share": max((u.cold_share or 0.0 for u in plan.units if u.answers.p50 is not None), default=None),
        "cold_starts": totals.cold_starts,
        "misses": len(plan.misses),
        **{f"attempts.{key}": n for key, n in totals.attempts.items()},
        **_level_figures("concurrency", plan.measured.concurrency),
    }


def _slowest(plan: PlayedPlan, name: str) -> float | None:
    """The highest latency of a function that answers requests, ms; None without one."""
    found = [getattr(unit.answers, name) for unit in plan.units]
    return max((1e3 * value for value in found if value is not None), default=None)


def _level_figures(name: str, level: Level) -> dict[str, float | None]:
    return {f"{name}.mean": level.mean, f"{name}.p95": level.p95, f"{name}.p99": level.p99, f"{name}.peak": level.peak}


def _unit_figures(unit: UnitMeasured) -> Iterator[tuple[str, float | None]]:
    yield from ((f"events.{name}", n) for name, n in unit.events.items())
    yield from ((f"attempts.{name}", n) for name, n in unit.attempts.items())
    yield "throttled_share", unit.throttled_share
    yield "cold_starts", unit.cold_starts
    yield from _level_figures("concurrency", unit.concurrency).items()
    yield from _level_figures("instances", unit.instances).items()
    waits = unit.waits
    yield from (
        (f"wait_s.{name}", value)
        for name, value in (("p50", waits.p50), ("p95", waits.p95), ("p99", waits.p99), ("max", waits.max))
    )
    yield "latency_s.p95", unit.latency.p95
    answered = unit.answers.p50 is not None
    yield from ((f"latency_ms.{name}", None if value is None else 1e3 * value) for name, value in _answers(unit))
    yield "cold_share", unit.cold_share if answered else None
    yield "backlog_peak", unit.backlog_peak
    yield "billed_s", unit.time_billed_ns / 1e9


LEVELS = ("plans", "functions", "bill", "series", "attempts")
_WHOLE = (
    "events_in",
    "lost_events",
    "left_behind_events",
    "calls",
    "attempts",
    "failed",
    "timed_out",
    "throttled",
    "dead_lettered",
    "duplicates",
    "cold_starts",
    "concurrency_p99",
    "concurrency_peak",
    "instances_peak",
    "instance_limit",
    "backlog_peak",
)


def frame_at(projection: Projection, level: str) -> pd.DataFrame:
    """One level of a projection as a table: "plans", "functions", "bill", "series" or "attempts"; raises ``ValueError`` for another."""
    frames = {
        "plans": plans_frame,
        "functions": functions_frame,
        "bill": bill_frame,
        "series": series_frame,
        "attempts": _attempts_frame,
    }
    if level not in frames:
        raise ValueError(f"no level {level!r}; there are {', '.join(LEVELS)}")
    return frames[level](projection)


def _attempts_frame(projection: Projection) -> pd.DataFrame:
    # The log of attempts is evidence, which stands above.
    frame: pd.DataFrame = late("echotally.evidence.run_log:attempts_frame")(projection)
    return frame


def plans_frame(projection: Projection) -> pd.DataFrame:
    """A row for each plan, over all its functions and environments; those without figures with the reason.

    Columns: plan, feasible (empty where not played), meets_targets (empty where undecided), method, cost (currency of the card, unrounded) and, of a
    sampled month, its interval, then counts, shares and waits (s) named as in the projection's JSON.
    """
    rows: list[dict[str, Any]] = []
    for plan in projection.plans:
        head: dict[str, Any] = {
            "plan": plan.offer.name,
            "feasible": plan.feasible,
            "meets_targets": plan.meets_targets,
            "method": plan.method,
        }
        if plan.feasible is not True:
            rows.append({**head, "reason": "; ".join(f"{n}: {t}" for n, t in plan.reasons)})
            continue
        found, totals = figures_in_all(plan), plan.totals
        low, high = plan.confidence.cost if plan.confidence else (None, None)
        rows.append(
            {
                **head,
                "cost": float(plan.bill.unrounded),
                "cost_low": low,
                "cost_high": high,
                "events_in": totals.events["in"],
                "left_behind": totals.left_behind_share,
                **{name: found[name] for name in ("throttled_share", "lost_events", "wait_p95_s", "cold_starts")},
                "attempts": found["attempts.total"],
                "concurrency_p99": found["concurrency.p99"],
                "concurrency_peak": found["concurrency.peak"],
            }
        )
    return _whole_numbers(rows)


def functions_frame(projection: Projection) -> pd.DataFrame:
    """A row for each plan that can be used, function and environment; names and units as in the projection's JSON."""
    rows: list[dict[str, Any]] = []
    for plan in projection.played:
        for unit in plan.units:
            key = (unit.unit.function, unit.unit.environment)
            rows.append(
                {
                    "plan": plan.offer.name,
                    "function": key[0],
                    "environment": key[1],
                    "cost": float(plan.bill.functions[key]),
                    "events_in": unit.events["in"],
                    "lost_events": unit.lost_events,
                    "dead_lettered": unit.events["dead_lettered"],
                    "left_behind_events": unit.left_behind_events,
                    "duplicates": unit.duplicates,
                    "calls": unit.calls,
                    "attempts": unit.attempts["total"],
                    "failed": unit.attempts["failed"],
                    "timed_out": unit.attempts["timed_out"],
                    "throttled": unit.attempts["throttled"],
                    "throttled_share": unit.throttled_share,
                    "cold_starts": unit.cold_starts,
                    "concurrency_p99": unit.concurrency.p99,
                    "concurrency_peak": unit.concurrency.peak,
                    "instances_peak": unit.instances.peak,
                    "instance_limit": unit.instance_limit,
                    "hours_at_limit": unit.at_limit_ns / 3.6e12,
                    "wait_p50_s": unit.waits.p50,
                    "wait_p95_s": unit.waits.p95,
                    "wait_max_s": unit.waits.max,
                    **{f"latency_{n}_ms": None if v is None else 1e3 * v for n, v in _answers(unit)},
                    "cold_share": None if unit.answers.p50 is None else unit.cold_share,
                    "lag_p95_s": unit.lag_p95_s,
                    "lag_max_s": unit.lag_max_s,
                    "backlog_peak": unit.backlog_peak,
                    "billed_s": unit.time_billed_ns / 1e9,
                }
            )
    return _whole_numbers(rows)


def _answers(unit: UnitMeasured) -> Iterator[tuple[str, float | None]]:
    """What callers of an endpoint see, s."""
    yield from (("p50", unit.answers.p50), ("p95", unit.answers.p95), ("p99", unit.answers.p99))


def _whole_numbers(rows: list[dict[str, Any]]) -> pd.DataFrame:
    """A table whose counts stay whole beside missing ones."""
    import pandas as pd

    frame = pd.DataFrame(rows)
    for name in _WHOLE:
        if name in frame:
            frame[name] = frame[name].astype("Int64")
    return frame


def bill_frame(projection: Projection) -> pd.DataFrame:
    """A row for each plan and meter: quantity - allowance = billable, and the amount in the card's currency."""
    import pandas as pd

    rows = [
        {
            "plan": plan.offer.name,
            "billed_on": line.plan,
            "meter": line.meter,
            "quantity": float(line.quantity),
            "allowance": float(line.allowance),
            "billable": float(line.billable),
            "amount": float(line.amount),
        }
        for plan in projection.played
        for line in merged_lines(plan.bill)
    ]
    columns = ["plan", "billed_on", "meter", "quantity", "allowance", "billable", "amount"]
    return pd.DataFrame(rows, columns=columns)


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
    for plan in projection.played:
        for number, unit in enumerate(plan.measured.units):
            frame = pd.DataFrame(plan.measured.series.of_unit(number), columns=list(SERIES))
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
