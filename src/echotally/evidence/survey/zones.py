"""Whose clock the estate lives by: the zone in which its daily rhythm stays where it is when clocks change.

Only a log across a change of clocks can tell. Each zone whose clocks change within it is tried: counts by local hour, the
likelihood of the quarters of an hour (Poisson) under them, beside that of UTC.
"""

from __future__ import annotations

from zoneinfo import ZoneInfo

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.evidence.fit.rhythm import STRETCH_S, local_stretches
from echotally.evidence.survey.metrics import Metrics
from echotally.evidence.survey.schedules import _zones_apart
from echotally.evidence.survey.tables import Tables, Unit

#: Log-likelihood by which a zone must beat UTC.
_SURE = 20.0
#: Zones whose log-likelihoods lie so close together explain as much.
_TIE = 10.0
#: Counts of a quarter of an hour above this multiple of their hour's usual are cut: a surge is no rhythm.
_CUT = 3.0


class Lived(Struct, frozen=True):
    """The zone an estate's rhythm keeps to (None: none explains it better than UTC), zones that do as well, and what strays.

    ``apart``: functions whose rhythm keeps to another zone than the estate's, with that zone.
    """

    zone: str | None
    others: tuple[str, ...]
    apart: tuple[tuple[str, str], ...]


def zone_of(
    tables: Tables, first: float, last: float, prefer: tuple[str, ...], metrics: Metrics | None = None
) -> Lived:
    """The zone that explains the rhythm better than UTC. Metrics by the hour or finer count, where spans may be a sample."""
    every = np.arange(int(first // STRETCH_S), int(last // STRETCH_S) + 1)
    if len(every) < 14 * 96:
        return Lived(None, (), ())
    rows: dict[Unit, NDArray[np.float64]] = {}
    for unit, counts in tables.counts.items():
        counted = metrics.quarters("invocations", unit) if metrics is not None else None
        row = _usual(every, *(counted if counted is not None else (counts.stretch, counts.attempts)))
        if row.sum() > 500:
            rows[unit] = row
    plain = {unit: _likelihood(row, every) for unit, row in rows.items()}
    tried: list[tuple[list[str], dict[Unit, float]]] = []
    own: dict[Unit, tuple[float, str]] = dict.fromkeys(rows, (0.0, "UTC"))
    for group in _zones_apart(first, last, prefer) if rows else []:
        local = local_stretches(every, ZoneInfo(group[0]))
        # Scatter beyond chance is taken off: that of UTC, for all.
        gains = {unit: (_likelihood(row, local)[0] - plain[unit][0]) / plain[unit][1] for unit, row in rows.items()}
        own = {unit: max(own[unit], (gain, group[0])) for unit, gain in gains.items()}
        tried.append((group, gains))
    most = max((sum(gains.values()) for _, gains in tried), default=0.0)
    # Of those that explain about as much the largest group is taken, which comes first.
    good = [each for each in tried if sum(each[1].values()) > max(_SURE, most - _TIE)]
    names = [name for group, _ in good for name in group]
    mine = good[0][1] if good else dict.fromkeys(rows, 0.0)
    apart = {unit[0]: zone for unit, (gain, zone) in own.items() if gain > mine[unit] + _SURE}
    return Lived(names[0] if names else None, tuple(names[1:]), tuple(sorted(apart.items())))


def _usual(every: NDArray[np.int64], stretch: NDArray[np.int64], attempts: NDArray[np.float64]) -> NDArray[np.float64]:
    """Attempts in every stretch, what stands far out of its day cut."""
    row = np.zeros(len(every))
    inside = (stretch >= every[0]) & (stretch <= every[-1])
    row[stretch[inside] - every[0]] = attempts[inside]
    day = row[: len(row) // 96 * 96].reshape(-1, 96)
    usual = np.median(day, axis=0)
    most = np.maximum(_CUT * np.tile(usual, len(row) // 96 + 1)[: len(row)], 3.0)
    return np.asarray(np.minimum(row, most))


def _likelihood(row: NDArray[np.float64], local: NDArray[np.int64]) -> tuple[float, float]:
    """Of counts by quarter, each with its local hour's share of its local day; and how they scatter, times what chance does.

    A day's total is taken as it is: busier weekdays, growth and holidays are no rhythm of a clock.
    """
    hours, day = local % 96 // 4, local // 96 - local[0] // 96
    seen, n = np.bincount(hours, row, 24), np.maximum(np.bincount(hours, minlength=24), 1)
    share = np.maximum((seen / n)[hours], 1e-9)
    mean = np.maximum(share * (np.bincount(day, row) / np.maximum(np.bincount(day, share), 1e-9))[day], 1e-6)
    scatter = max(1.0, float(np.sum((row - mean) ** 2 / mean) / len(row)))
    return float(np.sum(row * np.log(mean) - mean)), scatter
