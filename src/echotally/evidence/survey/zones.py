"""Whose clock the estate lives by: the zone in which its daily rhythm stays where it is when clocks change.

Only a log across a change of clocks can tell. Each zone whose clocks change within it is tried: counts by local hour, the
likelihood of the quarters of an hour (Poisson) under them, beside that of UTC.
"""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from echotally.evidence.fit.rhythm import STRETCH_S
from echotally.evidence.survey.schedules import _zones_apart
from echotally.evidence.survey.tables import Tables

#: Log-likelihood by which a zone must beat UTC.
_SURE = 20.0
#: Counts of a quarter of an hour above this multiple of their hour's usual are cut: a surge is no rhythm.
_CUT = 3.0


def zone_of(tables: Tables, first: float, last: float, prefer: tuple[str, ...]) -> tuple[str, tuple[str, ...]] | None:
    """The zone that explains the rhythm better than UTC, and those that do as well; None where none does."""
    every = np.arange(int(first // STRETCH_S), int(last // STRETCH_S) + 1)
    if len(every) < 14 * 96:
        return None
    rows = [_usual(every, counts.stretch, counts.events, counts.attempts) for counts in tables.counts.values()]
    kept = [row for row in rows if row.sum() > 500]
    if not kept:
        return None
    plain = [_likelihood(row, every) for row in kept]
    best: tuple[float, list[str]] | None = None
    for group in _zones_apart(first, last, prefer):
        zone = ZoneInfo(group[0])
        local = _local(every, zone)
        # Scatter beyond chance is taken off: that of UTC, for all.
        gain = sum(
            (_likelihood(row, local)[0] - fit) / scatter for row, (fit, scatter) in zip(kept, plain, strict=True)
        )
        if best is None or gain > best[0] + 1e-6:
            best = gain, group
    return (best[1][0], tuple(best[1][1:])) if best is not None and best[0] > _SURE else None


def _usual(
    every: NDArray[np.int64], stretch: NDArray[np.int64], events: NDArray[np.float64], attempts: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Attempts in every stretch, what stands far out of its day cut."""
    row = np.zeros(len(every))
    inside = (stretch >= every[0]) & (stretch <= every[-1])
    row[stretch[inside] - every[0]] = attempts[inside]
    day = row[: len(row) // 96 * 96].reshape(-1, 96)
    usual = np.median(day, axis=0)
    most = np.maximum(_CUT * np.tile(usual, len(row) // 96 + 1)[: len(row)], 3.0)
    return np.asarray(np.minimum(row, most))


def _local(every: NDArray[np.int64], zone: ZoneInfo) -> NDArray[np.int64]:
    """Each stretch by the local clock, numbered since 1970; offsets are looked up once an hour."""
    hours = np.unique(every // 4)
    offset = {}
    for hour in hours:
        found = datetime.fromtimestamp(int(hour) * 3_600, UTC).astimezone(zone).utcoffset()
        offset[int(hour)] = int(found.total_seconds()) // STRETCH_S if found is not None else 0
    return every + np.array([offset[int(hour)] for hour in every // 4], np.int64)


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
