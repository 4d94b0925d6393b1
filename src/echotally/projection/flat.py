"""A projection as flat tables: plans, functions, bill lines. For CSV, workbooks and ``to_frame``."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from echotally.projection.bills import merged_lines
from echotally.projection.figures import figures
from echotally.projection.verdict import lost_events, throttled_share

if TYPE_CHECKING:
    import pandas as pd

    from echotally.projection.project import Projection


def frame_of(rows: Iterable[Any]) -> pd.DataFrame:
    """Rows (dataclasses or dictionaries) as a table; names inside a row are joined by dots."""
    import pandas as pd

    return pd.json_normalize([row if isinstance(row, dict) else asdict(row) for row in rows])


def functions_frame(projection: Projection) -> pd.DataFrame:
    """A row for each plan and unit, after a row for the whole plan (function and environment empty).

    Columns: plan, function, environment, feasible, meets_targets, cost (currency of the card, unrounded), then counts,
    shares, levels and waits (s) named as in the projection's JSON. Infeasible plans have one row, with the reason.
    """
    import pandas as pd

    rows: list[dict[str, Any]] = []
    for plan in projection.plans:
        head: dict[str, Any] = {"plan": plan.offer.name, "function": "", "environment": "", "feasible": plan.feasible}
        if plan.measured is None or plan.bill is None:
            rows.append({**head, "meets_targets": False, "reason": "; ".join(f"{n}: {t}" for n, t in plan.reasons)})
            continue
        found = figures(plan)
        whole = {"meets_targets": not plan.misses, "cost": float(plan.bill.unrounded)}
        names = ("throttled_share", "lost_events", "wait_p95_s", "cold_starts")
        rows.append({**head, **whole, **{name: found[name] for name in names}, "attempts": found["attempts.total"],
                     "concurrency_p99": found["concurrency.p99"], "concurrency_peak": found["concurrency.peak"]})  # fmt: skip
        for unit in sorted(plan.measured.units, key=lambda u: u.order):
            key = (unit.unit.function, unit.unit.environment)
            rows.append({
                **head, "function": key[0], "environment": key[1], "cost": float(plan.bill.functions[key]),
                "events_in": unit.events["in"], "lost_events": lost_events(unit.events), "calls": unit.calls,
                "attempts": unit.attempts["total"], "failed": unit.attempts["failed"], "timed_out": unit.attempts["timed_out"],
                "throttled": unit.attempts["throttled"], "throttled_share": throttled_share(unit.attempts),
                "cold_starts": unit.cold_starts, "concurrency_p99": unit.concurrency.p99, "concurrency_peak": unit.concurrency.peak,
                "instances_peak": unit.instances.peak, "instance_limit": unit.instance_limit, "hours_at_limit": unit.at_limit_ns / 3.6e12,
                "wait_p50_s": unit.waits.p50, "wait_p95_s": unit.waits.p95, "wait_max_s": unit.waits.max,
                "backlog_peak": unit.backlog_peak, "billed_s": unit.time_billed_ns / 1e9,
            })  # fmt: skip
    whole_numbers = (
        "events_in", "lost_events", "calls", "attempts", "failed", "timed_out", "throttled", "cold_starts", "concurrency_p99",
        "concurrency_peak", "instances_peak", "instance_limit", "backlog_peak",
    )  # fmt: skip
    frame = pd.DataFrame(rows)
    for name in whole_numbers:
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
