"""Load-trial results: fitted to a run time and a capacity, then played by our own simulation beside what was measured.

Closed loop without waiting: the latency of an answered call is its run time wherever no more clients ask than instances
serve. Saturated, throughput is limit x slots / mean run (utilization law: Denning and Buzen, 1978).
"""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct

from echotally.errors import BadInput, Problem
from echotally.evidence.fit.estimates import Z95, Estimate
from echotally.evidence.logs.text_files import hold_against
from echotally.files import opened, text_of
from echotally.model.addresses import dotted
from echotally.model.loading import ModelSource
from echotally.projection.loaded import Loaded
from echotally.studies.load_trial import LoadRow, load_trial

FORMS = "a CSV with the columns clients, limit, calls, seconds, refused and latencies p50_ms, p95_ms (mean_ms, p99_ms)"
#: Heading, without unit and words such as "latency", by our name.
_NAMES = {
    "clients": "clients",
    "limit": "limit",
    "calls": "calls",
    "seconds": "seconds",
    "refused": "refused",
    "mean_ms": "mean",
    "p50_ms": "p50",
    "p95_ms": "p95",
    "p99_ms": "p99",
}
_MOST_ROWS = 1_000
_Z = 1.959963984540054


class TrialRow(Struct, frozen=True):
    """One measured trial; latencies of answered calls in ms, None where the file has none."""

    clients: int
    limit: int | None
    calls: int
    seconds: float
    refused: int
    mean_ms: float | None
    p50_ms: float | None
    p95_ms: float | None
    p99_ms: float | None

    @property
    def answers_per_s(self) -> float:
        """Answered calls a second."""
        return (self.calls - self.refused) / self.seconds


class TrialFit(Struct, frozen=True):
    """The fitted run time (ms) and capacity (answers a second of one instance), and each trial played anew."""

    function: str
    plan: str
    median: Estimate
    p95: Estimate
    per_instance: float | None
    rows: tuple[tuple[TrialRow, LoadRow], ...]
    notes: tuple[str, ...]

    @property
    def worst_throughput(self) -> float:
        """Largest relative misfit of throughput."""
        return max(
            abs(p.calls_per_s * (1 - p.refused_share) / m.answers_per_s - 1) for m, p in self.rows if m.answers_per_s
        )


def is_trial(path: Path) -> bool:
    """Whether a file looks like load-trial results: a CSV headed by clients and calls."""
    if path.suffix != ".csv" or not path.is_file():
        return False
    with opened(path) as file:
        headings = [_bare(h) for h in file.readline(4_096).decode("utf-8-sig", "replace").split(",")]
    return {"clients", "calls"} <= set(headings)


def _bare(heading: str) -> str:
    words = heading.strip().lower().replace(" ", "_").split("_")
    return "_".join(word for word in words if word not in ("ms", "s", "latency", "number", "of"))


def read_trials(path: Path) -> tuple[list[TrialRow], list[str]]:
    """The rows of a trial file and what was left out, in words. Raises ``BadInput`` if none is usable."""
    hold_against(path, FORMS)
    reader = csv.DictReader(io.StringIO(text_of(path)))
    try:
        return _read(path, reader)
    except csv.Error as error:
        raise BadInput(Problem(f"is no CSV: {error}", file=path.name, line=reader.line_num)) from error


def _read(path: Path, reader: csv.DictReader[str]) -> tuple[list[TrialRow], list[str]]:
    theirs = {_bare(h): h for h in reader.fieldnames or []}
    missing = [name for name in ("clients", "calls", "seconds") if name not in theirs]
    if missing:
        raise BadInput(Problem(f"has no column {missing[0]}", file=path.name, allowed=FORMS))
    rows: list[TrialRow] = []
    notes: list[str] = []
    for line, raw in enumerate(reader, 2):
        try:
            rows.append(_row(raw, theirs))
        except (ValueError, TypeError) as error:
            notes.append(f"{path.name}:{line} left out: {error}")
        if len(rows) > _MOST_ROWS:
            raise BadInput(Problem("has too many trials", file=path.name, allowed=f"at most {_MOST_ROWS:,} rows"))
    if not rows:
        raise BadInput(Problem("has no usable trial", file=path.name, allowed=FORMS))
    return rows, notes


def _row(raw: dict[str, Any], theirs: dict[str, str]) -> TrialRow:
    def number(ours: str) -> float | None:
        text = (raw.get(theirs.get(_NAMES[ours], "")) or "").strip()
        if not text or text in ("-", "–"):
            return None
        value = float(text)
        if not math.isfinite(value) or value < 0:
            raise ValueError(f"{ours} is {text}, not a number from 0")
        return value

    clients, limit, calls, seconds = (number(name) for name in ("clients", "limit", "calls", "seconds"))
    refused = number("refused") or 0.0
    if not clients or not calls or not seconds or refused > calls or clients > 1e6 or calls > 1e8:
        raise ValueError("clients, calls and seconds must be above 0, and no more refused than asked")
    late = [number(name) for name in ("mean_ms", "p50_ms", "p95_ms", "p99_ms")]
    return TrialRow(int(clients), int(limit) if limit else None, int(calls), seconds, int(refused), *late)


def fit_trials(
    model: ModelSource | Loaded,
    function: str,
    path: Path | str,
    plan: str | None = None,
    sets: Sequence[tuple[str, str]] = (),
) -> TrialFit:
    """Fit a function's run time to trials, and play every trial with it. Raises ``BadInput``."""
    rows, notes = read_trials(Path(path))
    calm = [r for r in rows if r.limit is None or r.clients <= r.limit] or [min(rows, key=lambda r: r.clients)]
    median, p95 = _run(calm, notes)
    fitted = [*sets, (dotted(("functions", function, "run")), _spread(median.value, p95.value))]
    played = []
    the_plan = plan
    for row in rows:
        trial = load_trial(
            model,
            function,
            (row.clients,),
            (row.limit,),
            calls=row.calls,
            seconds=None,
            warm_up_s=0.0,
            think=None,
            plan=the_plan,
            sets=fitted,
        )
        the_plan = trial.plan
        played.append((row, trial.rows[0]))
    busy = [r.answers_per_s / r.limit for r in rows if r.limit and r.clients > r.limit]
    return TrialFit(function, the_plan or "", median, p95, max(busy, default=None), tuple(played), tuple(notes))


def _run(calm: list[TrialRow], notes: list[str]) -> tuple[Estimate, Estimate]:
    """Log-normal run time from the latencies of trials in which nobody waited, weighted by their calls."""
    told = [r for r in calm if r.p50_ms and r.p95_ms]
    if not told:
        means = [(r.mean_ms or r.p50_ms or 1e3 * r.clients / r.answers_per_s, r.calls) for r in calm if r.answers_per_s]
        if not means:
            raise BadInput(Problem("no trial has an answered call"))
        value = math.fsum(m * n for m, n in means) / sum(n for _, n in means)
        notes.append("no p50 and p95 of an unsaturated trial: run time taken as constant, from mean latency")
        return Estimate(value, value, value), Estimate(value, value, value)
    calls = sum(r.calls - r.refused for r in told)
    mean_log = math.fsum(math.log(r.p50_ms or 1) * (r.calls - r.refused) for r in told) / calls
    sigma = math.fsum(math.log((r.p95_ms or 1) / (r.p50_ms or 1)) * (r.calls - r.refused) for r in told) / calls / Z95
    sigma = max(sigma, 1e-6)
    # Asymptotic spread of sample quantiles of a log-normal: sqrt(q (1 - q) / n) / density.
    half50 = _Z * sigma * math.sqrt(math.pi / 2 / calls)
    half95 = _Z * sigma * math.sqrt(0.95 * 0.05 / calls) / (math.exp(-(Z95**2) / 2) / math.sqrt(2 * math.pi))
    return tuple(  # type: ignore[return-value]
        Estimate(math.exp(m), math.exp(m - h), math.exp(m + h))
        for m, h in ((mean_log, half50), (mean_log + Z95 * sigma, half95))
    )


def _spread(median: float, p95: float) -> str:
    if p95 <= median * 1.0001:
        return f'"{median:.6f} ms"'
    return f'{{ median = "{median:.6f} ms", p95 = "{p95:.6f} ms" }}'
