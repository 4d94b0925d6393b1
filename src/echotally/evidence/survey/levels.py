"""Limits a log was seen to meet: calls in flight when attempts were throttled, calls of one host at once, how long idle ones stay."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from echotally.database import quoted
from echotally.evidence.survey.metrics import Metrics
from echotally.evidence.survey.tables import Sampled, Tables, Unit, bunches, stretches

#: Attempts looked at: the busiest hours of a log hold its limits.
_MOST = 3_000_000
#: A cold start so soon after another attempt's end is a further instance's, s.
_STARTING_S = 5.0
#: Throttled attempts that tell a level, at least.
_TOLD = 5
#: Share of throttled attempts that must have met the level.
_SURE = 0.9


def limit_met(tables: Tables, functions: Sequence[Unit]) -> int | None:
    """The number of calls in flight at which attempts of these units together were throttled; None where no one level explains it."""
    _, *columns = _attempts(tables, functions)
    return _level(*columns)


def limits_met(tables: Tables) -> dict[Unit, int]:
    """The same of each unit by itself, of those of which attempts were throttled; those that no one level explains are left out."""
    throttled = {unit: sums.logged for unit, sums in tables.sums.items() if sums.attempts["throttled"] >= _TOLD}
    found: dict[Unit, int] = {}
    for some in bunches(throttled):
        whose, *columns = _attempts(tables, some)
        order = np.argsort(whose, kind="stable")
        for at in stretches(whose[order]):
            level = _level(*(column[order[at]] for column in columns))
            if level is not None:
                found[some[whose[order[at.start]]]] = level
    return found


def _attempts(tables: Tables, functions: Sequence[Unit]) -> tuple[NDArray[Any], ...]:
    """Attempts of these units: whose (its place among them), when, when over (inf: nobody knows), and whether throttled."""
    names = ", ".join(f"({quoted(f)}, {quoted(e)}, {i})" for i, (f, e) in enumerate(functions))
    rows = tables.log.connection.execute(
        "SELECT i, t, t + (run_ms + CASE WHEN cold THEN coalesce(cold_ms, 0) ELSE 0 END) / 1000 AS over, outcome = 'throttled' AS th"
        f" FROM named JOIN (VALUES {names}) w(n, m, i) ON f = n AND e = m WHERE {tables.where} ORDER BY t LIMIT {_MOST}"
    ).fetchnumpy()
    over: Any = np.ma.filled(np.ma.asarray(rows["over"], float), np.inf)
    return rows["i"], np.asarray(rows["t"], float), over, np.asarray(rows["th"]).astype(bool)


def _level(at: NDArray[np.float64], over: NDArray[np.float64], throttled: NDArray[np.bool_]) -> int | None:
    if throttled.sum() < _TOLD:
        return None
    starts, ends = np.sort(at[~throttled]), np.sort(over[~throttled])
    # What ends at the instant of a refusal has ended, what starts at it has started.
    refused = at[throttled]
    level = np.searchsorted(starts, refused, "right") - np.searchsorted(ends, refused, "right")
    # A limit shows as one level at nearly every refusal; a rate of starts as many.
    most = int(np.bincount(np.maximum(level, 0)).argmax())
    return most if most > 0 and np.mean(np.abs(level - most) <= max(0, 0.02 * most)) >= _SURE else None


def slots_of(tables: Tables, function: str) -> int:
    """Most calls that one host had in flight at once; 1 where the log has no hosts."""
    if not tables.hosted:
        return 1
    mine = f"(SELECT * FROM {{seen}} WHERE host IS NOT NULL AND outcome <> 'throttled' AND f = {quoted(function)})"
    rows = tables.query(
        f"SELECT max(n) FROM (SELECT sum(d) OVER (PARTITION BY host ORDER BY moment, d) AS n FROM (SELECT host, t AS moment, 1 AS d"
        f" FROM {mine} UNION ALL SELECT host, t + run_ms / 1000 + coalesce(cold_ms, 0) / 1000, -1 FROM {mine}))"
    )
    return max(1, int(rows[0][0] or 1)) if rows else 1


def keep_alive_of(samples: Sequence[Sampled]) -> tuple[float, float] | None:
    """Idle times that left an instance warm, and that did not, s: the bounds of how long idle instances stay.

    Looked for where attempts never overlap: then the gap before each is how long the one instance was idle.
    """
    found: list[tuple[int, float, float]] = []
    for sample in samples:
        if sample.every > 1 or len(sample.t) < 10:
            continue
        over = sample.t + (sample.run + np.where(sample.cold, sample.cold_ms, 0.0)) / 1_000
        before = np.maximum.accumulate(over)[:-1]
        gap: NDArray[np.float64] = sample.t[1:] - before
        # Only where at most one call ran shortly before: several instances have gaps of their own.
        alone = (gap > 0) & (np.concatenate([[np.inf], gap[:-1]]) > 0)
        # A span begins after its cold start: one that came while another instance was starting seems to follow it.
        alone &= ~sample.cold[1:] | (gap > _STARTING_S)
        bounds = _bounds(gap[alone], sample.cold[1:][alone])
        found += [bounds] if bounds else []
    if not found:
        return None
    # Of the function that tells most; floors and releases spoil those of others.
    _, low, high = max(found)
    for _, lower, upper in found:
        if lower < high and low < upper:
            low, high = max(low, lower), min(high, upper)
    return low, high


#: Cold starts of a function that tell how long its instances stay, at least.
_TELLING = 50


def keep_alive_counted(tables: Tables, metrics: Metrics | None) -> tuple[float, float] | None:
    """Bounds of the same from metrics that count calls and cold starts by the hour: of calls that come by chance at a rate r,
    the share exp(-r k) finds the only instance gone after k.

    Rough, since rates change within an hour and calls come together: the middle half of what functions say.
    """
    if metrics is None:
        return None
    found = [kept for unit, sample in tables.samples.items() if (kept := _kept(metrics, unit, sample)) is not None]
    return (float(np.quantile(found, 0.25)) * 0.95, float(np.quantile(found, 0.75)) * 1.05) if found else None


def _kept(metrics: Metrics, unit: Unit, sample: Sampled) -> float | None:
    """How long idle instances of a function stay, s, by its cold starts; None where too few tell it."""
    from scipy.optimize import brentq

    calls, cold = metrics.by_point("invocations", unit), metrics.by_point("coldstarts", unit)
    # Busy hours have several instances, batches that wait do not come by chance.
    share = float(sample.run.mean()) / 1_000
    hours = [
        (n, cold.get((start, end), 0.0), n / (end - start))
        for (start, end), n in calls.items()
        if n >= 5 and 0 < end - start <= 3_600 and n * share < 0.05 * (end - start)
    ]
    total = sum(each[1] for each in hours)
    if sample.events.mean() > 1.1 or total < _TELLING or total > 0.9 * sum(each[0] for each in hours):
        return None
    n, rate = np.array([each[0] for each in hours]), np.array([each[2] for each in hours])

    def over(kept: float) -> float:
        return float((n * np.exp(-rate * kept)).sum()) - total

    return float(brentq(over, 0.0, 7_200.0)) if over(7_200.0) < 0 else None


def _bounds(gap: NDArray[np.float64], cold: NDArray[np.bool_]) -> tuple[int, float, float] | None:
    """How many starts of the rarer kind tell warm from cold ones, the longest idle time below and the shortest above the bound."""
    order = np.argsort(gap)
    gap, cold = gap[order], cold[order]
    # Errors if everything up to a place is taken for warm and the rest for cold.
    wrong = np.concatenate([[0], np.cumsum(cold)]) + (~cold).sum() - np.concatenate([[0], np.cumsum(~cold)])
    place = int(np.argmin(wrong))
    below, above = place, len(gap) - place
    if min(below, above) < 5 or wrong[place] > 0.02 * min(below, above):
        return None
    return min(below, above), float(gap[place - 1]), float(gap[place])
