"""What a model made without the last days says of those days, beside what happened."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine.codes import THROTTLED
from echotally.evidence.stand_in import run_times, stand_in
from echotally.evidence.survey.facts import Value
from echotally.evidence.survey.metrics import Metrics
from echotally.evidence.survey.tables import Tables, Unit
from echotally.projection.loaded import Loaded

_Z = 1.959963984540054
#: Runs kept of a function for its p95.
_KEPT = 20_000
#: Events of a month up to which it is played with several seeds.
FEW = 1_000_000
SEEDS = 4


class Laid(Struct, frozen=True):
    """A figure as played and as it happened, with the interval in which it was to be expected."""

    played: float
    low: float
    high: float
    happened: float

    @property
    def holds(self) -> bool:
        """Whether what happened lies where it was expected."""
        return self.low <= self.happened <= self.high

    @property
    def off(self) -> float | None:
        """How far what was played lies from what happened, as a share of that."""
        return self.played / self.happened - 1 if self.happened else None


class Row(Struct, frozen=True):
    """One function over the held-back days. Times in ms, money by the card's prices of calls and GB-seconds."""

    function: str
    calls: Laid
    run_ms: Laid
    gb_seconds: Laid
    p95_ms: Laid
    money: Laid | None


class Backtest(Struct, frozen=True):
    """The held-back days: from when to when (s since 1970), all functions, and how the model was made."""

    first: float
    last: float
    rows: tuple[Row, ...]
    total: Row | None
    how: str


class Sums(Struct):
    """What a unit's attempts come to: how many, seconds run, GB-seconds, and their run times (s) or the p95 of them (ms).

    ``rows``: of how many attempts the times are known, where spans are a sample.
    """

    calls: float = 0.0
    run_s: float = 0.0
    gb_s: float = 0.0
    runs: Any = None
    rows: float = 0.0


def played_days(loaded: Loaded, plan: str, low: float, high: float, seed: int) -> dict[Unit, Sums]:
    """What a month played by the model comes to between two instants, by function and environment."""
    platform = stand_in(loaded, plan, seed)
    zero = platform.start.timestamp()
    from_ns, until_ns = (low - zero) * 1e9, (high - zero) * 1e9
    units = platform.built.units
    memory = np.array([unit.settings.memory_mb for unit in units], float)
    found: dict[Unit, Sums] = defaultdict(Sums)
    for page in platform.pages():
        attempts = page.attempts
        inside = (attempts["at"] >= from_ns) & (attempts["at"] < until_ns) & (attempts["outcome"] != THROTTLED)
        attempts = attempts[inside]
        _, run_ns, _ = run_times(attempts)
        run_s = run_ns / 1e9
        which = attempts["unit"]
        calls = np.bincount(which, minlength=len(units))
        times = np.bincount(which, run_s, len(units))
        for u in np.flatnonzero(calls):
            sums = found[units[u].function, units[u].environment]
            sums.calls += int(calls[u])
            sums.run_s += float(times[u])
            sums.gb_s += float(times[u] * memory[u] / 1_024)
            sums.runs = _some(sums.runs, run_s[which == u])
    return found


def _some(before: NDArray[np.float64] | None, more: NDArray[np.float64]) -> NDArray[np.float64]:
    both = more if before is None else np.concatenate([before, more])
    # Every n-th of all so far: a p95 needs no more, and memory stays bounded.
    step = max(1, len(both) // _KEPT)
    return both[::step] if step > 1 else both


def happened_days(
    tables: Tables, low: float, high: float, scale: Mapping[Unit, float], metrics: Metrics | None
) -> dict[Unit, Sums]:
    """What the log says of the days between two instants; where spans are a sample, what metrics count in them.

    ``scale``: attempts that stand for each one logged, by the whole log.
    """
    rows = tables.log.query(
        "SELECT f, e, count(*), sum(run_ms) / 1000, sum(run_ms / 1000 * memory_mb / 1024), quantile_disc(run_ms, 0.95)"
        " FROM named WHERE outcome <> 'throttled' AND t >= ? AND t < ? GROUP BY f, e",
        [low, high],
    )
    found = {
        (f, e): Sums(float(n), float(run or 0), float(gb or 0), float(p95 or 0), float(n))
        for f, e, n, run, gb, p95 in rows
    }
    for unit, factor in scale.items():
        counted = metrics.total("invocations", unit, low, high) if metrics is not None else None
        logged = found.get(unit)
        if logged is not None:
            found[unit] = _scaled(logged, (counted or factor * logged.calls) / logged.calls)
        elif counted and unit in tables.sums:
            # None of them was kept as a span: they ran as the others did.
            usual = tables.sums[unit]
            gb_s = counted * usual.gb_s / max(1, usual.started)
            found[unit] = Sums(counted, counted * usual.mean_run / 1_000, gb_s, usual.mean_run)
    return found


def _scaled(sums: Sums, by: float) -> Sums:
    return Sums(sums.calls * by, sums.run_s * by, sums.gb_s * by, sums.runs, sums.rows)


def laid_beside(
    plays: Sequence[Mapping[Unit, Sums]],
    happened: Mapping[Unit, Sums],
    names: Mapping[str, list[Unit]],
    values: Mapping[str, Value],
    prices: Mapping[str, Decimal],
) -> tuple[tuple[Row, ...], Row | None]:
    """Functions over the held-back days, and all of them together."""
    rows = []
    rates = _rates_of(values)
    for name, units in names.items():
        log = [happened[u] for u in units if u in happened]
        ours = [together([p for (f, _), p in play.items() if f == name]) for play in plays]
        if not log and not any(p.calls for p in ours):
            continue
        truth = together(log)
        doubt = rates.get(name, 0.05), _half(values, f"functions.{name}.run")
        rows.append(_row(name, ours, truth, doubt, prices))
    return tuple(rows), _total(rows)


def together(parts: Sequence[Sums]) -> Sums:
    """Several units as one."""
    calls, run_s, gb_s, rows = (sum(getattr(p, name) for p in parts) for name in ("calls", "run_s", "gb_s", "rows"))
    found = Sums(calls, run_s, gb_s, rows=rows)
    arrays = [p.runs for p in parts if isinstance(p.runs, np.ndarray)]
    if arrays:
        found.runs = float(np.quantile(np.concatenate(arrays), 0.95, method="inverted_cdf")) * 1_000
    else:
        most = max(parts, key=lambda p: p.calls, default=None)
        found.runs = float(most.runs or 0.0) if most is not None else 0.0
    return found


def sources_by_function(values: Mapping[str, Value]) -> dict[str, list[str]]:
    """The sources that set functions off, in the order of the triggers."""
    found: dict[str, list[str]] = defaultdict(list)
    for address, value in values.items():
        if address.startswith("triggers.") and address.endswith(".to"):
            found[value.toml.strip('"')].append(values[f"{address.removesuffix('.to')}.from"].toml.strip('"'))
    return found


def _rates_of(values: Mapping[str, Value]) -> dict[str, float]:
    """How far the rates of functions may be off, as shares: of those that demands feed, the most."""
    rates: dict[str, list[float]] = defaultdict(list)
    for address, value in values.items():
        if address.startswith("demand.") and address.endswith(".into"):
            rates[value.toml.strip('"')].append(_half(values, f"{address.removesuffix('.into')}.rate"))
    fed = {
        name: [rate for source in sources for rate in rates[source]]
        for name, sources in sources_by_function(values).items()
    }
    return {name: max(found) for name, found in fed.items() if found}


def _half(values: Mapping[str, Value], address: str) -> float:
    """Half of a value's interval, as a share of it."""
    value = values.get(address)
    if value is None or value.number in (None, 0) or value.low is None or value.high is None:
        return 0.0
    return (value.high - value.low) / 2 / abs(float(value.number or 1))


def _row(name: str, ours: list[Sums], truth: Sums, doubt: tuple[float, float], prices: Mapping[str, Decimal]) -> Row:
    rate, run = doubt
    calls = _laid([p.calls for p in ours], truth.calls, rate, counted=True)
    mean = [p.run_s / p.calls * 1_000 if p.calls else 0.0 for p in ours]
    scatter = 1 / math.sqrt(max(1.0, truth.rows))
    happened = truth.run_s / truth.calls * 1_000 if truth.calls else 0.0
    run_ms = _laid(mean, happened, math.hypot(run, 1.5 * scatter))
    gb_s = _laid([p.gb_s for p in ours], truth.gb_s, math.hypot(rate, run, 2 * scatter))
    p95 = _laid([float(p.runs or 0.0) for p in ours], float(truth.runs or 0.0), math.hypot(run, 3 * scatter))
    money = None
    if prices:
        per_call, per_gb = (float(prices.get(meter, 0)) for meter in ("calls", "gb_seconds"))
        money = _laid(
            [p.calls * per_call + p.gb_s * per_gb for p in ours],
            truth.calls * per_call + truth.gb_s * per_gb,
            math.hypot(rate, run, 2 * scatter),
        )
    return Row(name, calls, run_ms, gb_s, p95, money)


def _laid(values: list[float], happened: float, doubt: float, counted: bool = False) -> Laid:
    """A figure with its interval: that of what it was made from, what differs from play to play, and chance in what happened."""
    mean = sum(values) / len(values)
    between = sum((v - mean) ** 2 for v in values) / (len(values) - 1) if len(values) > 1 else 0.0
    chance = mean if counted else 0.0
    half = math.hypot(doubt * mean, _Z * math.sqrt(between * (1 + 1 / len(values)) + chance))
    return Laid(mean, max(0.0, mean - half), mean + half, happened)


def _total(rows: Sequence[Row]) -> Row | None:
    if not rows:
        return None

    def sum_of(name: str) -> Laid:
        parts = [getattr(row, name) for row in rows]
        played, happened = sum(p.played for p in parts), sum(p.happened for p in parts)
        half = math.sqrt(sum(((p.high - p.low) / 2) ** 2 for p in parts))
        return Laid(played, max(0.0, played - half), played + half, happened)

    calls, gb_s = sum_of("calls"), sum_of("gb_seconds")
    money = sum_of("money") if all(row.money is not None for row in rows) else None
    mean = Laid(
        *(
            sum(getattr(r.run_ms, part) * r.calls.happened for r in rows) / max(1.0, calls.happened)
            for part in ("played", "low", "high", "happened")
        )
    )
    longest = max(rows, key=lambda row: row.p95_ms.happened)
    return Row("all functions", calls, mean, gb_s, longest.p95_ms, money)
