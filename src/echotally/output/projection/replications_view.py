"""Replications in the terminal and as data: how sure the figures and the verdict are."""

from __future__ import annotations

from typing import Any

from rich.console import RenderableType
from rich.text import Text

from echotally.output.base.terminal import Column, table
from echotally.projection.replicate import LEVEL, Interval, Replicated


def replication_parts(found: Replicated, width: int | None = None) -> list[RenderableType]:
    """How often each plan was picked, and the plans' main figures with their intervals."""
    n = len(found.seeds)
    picks = ", ".join(
        f"{name or 'no plan'} in {k} of {n}" for name, k in sorted(found.picks.items(), key=lambda p: -p[1])
    )
    columns = [
        Column("plan", False),
        Column("month", False),
        Column("throttled %", False),
        Column("wait p95 s", False, rank=1),
        Column("peak calls", False, rank=2),
        Column("cold starts", False, rank=3),
    ]
    rows = [
        [
            name,
            _text(f["cost.total"], 2),
            _text(f["throttled_share"], 3, 100),
            _text(f.get("wait_p95_s"), 3),
            _text(f["concurrency.peak"], 1),
            _text(f["cold_starts"], 0),
        ]
        for name, f in found.figures.items()
    ]
    title = f"Over {n} replications: mean ± half of the {LEVEL:.0%} interval"
    return [Text(f"How sure: picked {picks} replications."), Text(""), table(title, columns, rows, width=width)]


def _text(interval: Interval | None, places: int, times: float = 1) -> str:
    if interval is None:
        return "–"
    return f"{interval.mean * times:,.{places}f} ± {(interval.high - interval.mean) * times:,.{places}f}"


def replications_dict(found: Replicated) -> dict[str, Any]:
    """The replications as data, beside the projection of the first."""
    return {
        "n": len(found.seeds),
        "level": LEVEL,
        "seeds": list(found.seeds),
        "picks": [{"plan": name, "times": k} for name, k in sorted(found.picks.items(), key=lambda p: str(p[0]))],
        "figures": {
            plan: {name: {"mean": i.mean, "low": i.low, "high": i.high} for name, i in rows.items()}
            for plan, rows in found.figures.items()
        },
    }
