"""A projection as flat tables: plans, functions, bill lines. For CSV, workbooks and ``to_frame``."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from echotally.projection.bills import merged_lines
from echotally.projection.figures import figures
from echotally.projection.verdict import left_behind_share, lost_events, throttled_share

if TYPE_CHECKING:
    import pandas as pd

    from echotally.projection.project import Projection


def frame_of(rows: Iterable[Any]) -> pd.DataFrame:
    """Rows (dataclasses or dictionaries) as a table; names inside a row are joined by dots."""
    import pandas as pd

    return pd.json_normalize([row if isinstance(row, dict) else asdict(row) for row in rows])


LEVELS = ("plans", "functions", "bill", "series")
_WHOLE = (
    "events_in", "lost_events", "left_behind_events", "calls", "attempts", "failed", "timed_out", "throttled", "dead_lettered",
    "duplicates", "cold_starts", "concurrency_p99", "concurrency_peak", "instances_peak", "instance_limit", "backlog_peak",
)  # fmt: skip


def frame_at(projection: Projection, level: str) -> pd.DataFrame:
    """One level of a projection as a table: "plans", "functions", "bill" or "series"; raises ``ValueError`` for another."""
    from echotally.projection.figures import series_frame

    frames = {"plans": plans_frame, "functions": functions_frame, "bill": bill_frame, "series": series_frame}
    if level not in frames:
        raise ValueError(f"no level {level!r}; there are {', '.join(LEVELS)}")
    return frames[level](projection)


def plans_frame(projection: Projection) -> pd.DataFrame:
    """A row for each plan, over all its functions and environments; infeasible ones with the reason.

    Columns: plan, feasible, meets_targets (empty where undecided), method, cost (currency of the card, unrounded) and, of a
    sampled month, its interval, then counts, shares and waits (s) named as in the projection's JSON.
    """
    rows: list[dict[str, Any]] = []
    for plan in projection.plans:
        head: dict[str, Any] = {
            "plan": plan.offer.name, "feasible": plan.feasible, "meets_targets": plan.meets_targets, "method": plan.method,
        }  # fmt: skip
        if plan.measured is None or plan.bill is None:
            rows.append({**head, "reason": "; ".join(f"{n}: {t}" for n, t in plan.reasons)})
            continue
        found, units = figures(plan), plan.measured.units
        low, high = plan.confidence.cost if plan.confidence else (None, None)
        rows.append({
            **head, "cost": float(plan.bill.unrounded), "cost_low": low, "cost_high": high,
            "events_in": sum(u.events["in"] for u in units), "left_behind": left_behind_share(units),
            **{name: found[name] for name in ("throttled_share", "lost_events", "wait_p95_s", "cold_starts")},
            "attempts": found["attempts.total"], "concurrency_p99": found["concurrency.p99"], "concurrency_peak": found["concurrency.peak"],
        })  # fmt: skip
    return _whole_numbers(rows)


def functions_frame(projection: Projection) -> pd.DataFrame:
    """A row for each plan that can be used, function and environment; names and units as in the projection's JSON."""
    rows: list[dict[str, Any]] = []
    for plan in projection.plans:
        for unit in sorted(plan.measured.units, key=lambda u: u.order) if plan.measured else ():
            assert plan.bill is not None
            key = (unit.unit.function, unit.unit.environment)
            rows.append({
                "plan": plan.offer.name, "function": key[0], "environment": key[1], "cost": float(plan.bill.functions[key]),
                "events_in": unit.events["in"], "lost_events": lost_events(unit.events), "dead_lettered": unit.events["dead_lettered"],
                "left_behind_events": unit.left_behind_events, "duplicates": unit.duplicates, "calls": unit.calls,
                "attempts": unit.attempts["total"], "failed": unit.attempts["failed"], "timed_out": unit.attempts["timed_out"],
                "throttled": unit.attempts["throttled"], "throttled_share": throttled_share(unit.attempts),
                "cold_starts": unit.cold_starts, "concurrency_p99": unit.concurrency.p99, "concurrency_peak": unit.concurrency.peak,
                "instances_peak": unit.instances.peak, "instance_limit": unit.instance_limit, "hours_at_limit": unit.at_limit_ns / 3.6e12,
                "wait_p50_s": unit.waits.p50, "wait_p95_s": unit.waits.p95, "wait_max_s": unit.waits.max,
                "lag_p95_s": unit.lag_p95_s, "lag_max_s": unit.lag_max_s,
                "backlog_peak": unit.backlog_peak, "billed_s": unit.time_billed_ns / 1e9,
            })  # fmt: skip
    return _whole_numbers(rows)


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
            "plan": plan.offer.name, "billed_on": line.plan, "meter": line.meter, "quantity": float(line.quantity),
            "allowance": float(line.allowance), "billable": float(line.billable), "amount": float(line.amount),
        }
        for plan in projection.plans
        if plan.bill
        for line in merged_lines(plan.bill)
    ]  # fmt: skip
    columns = ["plan", "billed_on", "meter", "quantity", "allowance", "billable", "amount"]
    return pd.DataFrame(rows, columns=columns)
