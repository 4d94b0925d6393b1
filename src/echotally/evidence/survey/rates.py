"""The rate at which events come from outside: its rhythm by hour and weekday, surges, growth, and how events are spread."""

from __future__ import annotations

import math
from zoneinfo import ZoneInfo

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.evidence.fit.estimates import Estimate
from echotally.evidence.fit.rhythm import STRETCH_S, Rhythm, hours_of, rhythm

_Z = 1.959963984540054
#: A surge is at least so many times what was to be expected, and as good as no accident (a normal score).
_TIMES, _SCORE = 2.0, 7.0
#: Stretches below the bar that a surge may bridge.
_BRIDGE = 2
_MOST_SURGES = 12
#: A surge that lasts longer is no surge.
_LONGEST = 3 * 96
_MONTH_S = 30.4375 * 86_400
#: Scatter, as a multiple of Poisson's, below which events come evenly, and above which in bursts.
_EVEN, _BURSTY = 0.3, 1.5


class Surge(Struct, frozen=True):
    """A stretch in which the rate was ``times`` what it is otherwise; instants in s since 1970."""

    at: float
    lasts_s: float
    times: float
    events: float


class Rate(Struct, frozen=True):
    """Events a second and how they vary. ``growth`` is a month's, where it stands out; ``burst`` the mean size of bursts."""

    rhythm: Rhythm
    surges: tuple[Surge, ...]
    growth: Estimate | None
    spread: str
    burst: float | None
    total: float
    first: float
    last: float

    def scaled(self, by: float) -> Rate:
        """The rate of which this is a sample, where each event stands for ``by``.

        Drawing one in k by lot leaves 1 + (D - 1) / k of a scatter of D times chance.
        """
        if by == 1.0:
            return self
        scatter = 1 + max(0.0, self.rhythm.dispersion - 1) * by if self.spread == "bursty" else self.rhythm.dispersion
        value, total = self.rhythm.rate.value * by, self.total * by
        half = _Z * value * math.sqrt(max(1.0, scatter) / max(1.0, total))
        found = replace(self.rhythm, rate=Estimate(value, max(0.0, value - half), value + half), dispersion=scatter)
        burst = (scatter + 1) / 2 if self.burst is not None else None
        return replace(self, rhythm=found, total=total, burst=burst)

    def expected(self, stretches: NDArray[np.int64], zone: ZoneInfo) -> NDArray[np.float64]:
        """Events a second in each stretch, by its number since 1970, surges included."""
        base = shape_of(self.rhythm, stretches, zone) * self.rhythm.rate.value
        for surge in self.surges:
            at = stretches * STRETCH_S
            base = np.where((at >= surge.at) & (at < surge.at + surge.lasts_s), base * surge.times, base)
        return np.asarray(base)


def shape_of(found: Rhythm, stretches: NDArray[np.int64], zone: ZoneInfo) -> NDArray[np.float64]:
    """The weight of each stretch, its hour's times its weekday's."""
    weight = np.ones(len(stretches))
    hour, weekday = hours_of(stretches, zone)
    if found.day is not None:
        weight *= np.array([each.value for each in found.day])[hour]
    if found.week is not None:
        weight *= np.array([each.value for each in found.week])[weekday]
    return weight


def rate_of(stretch: NDArray[np.int64], events: NDArray[np.float64], first: float, last: float, zone: ZoneInfo) -> Rate:
    """The rate behind events counted by stretch between two instants (s since 1970)."""
    counts = {int(at): float(n) for at, n in zip(stretch, events, strict=True) if n}
    last = max(last, first + 1.0)
    every = np.arange(int(first // STRETCH_S), int(last // STRETCH_S) + 1)
    seen = np.array([counts.get(int(n), 0.0) for n in every])
    surges: list[Surge] = []
    without: set[int] = set()
    found = rhythm(counts, first, last, zone)
    for _ in range(3):
        expected = shape_of(found, every, zone) * found.rate.value * STRETCH_S
        more = [
            group for group in _surged(seen, expected, found.dispersion) if not set(map(int, every[group])) <= without
        ]
        if not more or len(without) + sum(map(len, more)) > len(every) / 3:
            break
        for group in more:
            without |= set(map(int, every[group]))
        found = rhythm(counts, first, last, zone, without)
    if without:
        surges = _described(every, seen, without, found, zone)
    growth = _growth(every, seen, (found, zone), without) if last - first >= 14 * 86_400 else None
    spread, burst = _spread(found.dispersion)
    return Rate(found, tuple(surges), growth, spread, burst, float(seen.sum()), first, last)


def _surged(seen: NDArray[np.float64], expected: NDArray[np.float64], scatter: float) -> list[NDArray[np.int64]]:
    """Groups of stretches (places) that hold far more than was to be expected, the steepest first."""
    score = (seen - expected) / np.sqrt(np.maximum(expected, 0.5) * max(1.0, min(scatter, 20.0)))
    # A surge pulls the fit it is compared with: while it does, only what stands out of it by far counts.
    bar = np.maximum(_TIMES * expected, 3.0)
    above = np.flatnonzero((seen >= bar) & (score > _SCORE))
    if not len(above):
        return []
    groups = np.split(above, np.flatnonzero(np.diff(above) > _BRIDGE + 1) + 1)
    whole = [np.arange(int(group[0]), int(group[-1]) + 1) for group in groups]
    whole = [group for group in whole if len(group) <= _LONGEST]
    return sorted(whole, key=lambda group: -float((seen[group] - expected[group]).sum()))[:_MOST_SURGES]


def _described(
    every: NDArray[np.int64], seen: NDArray[np.float64], without: set[int], found: Rhythm, zone: ZoneInfo
) -> list[Surge]:
    places = np.flatnonzero(np.isin(every, np.fromiter(without, np.int64)))
    groups = np.split(places, np.flatnonzero(np.diff(places) > 1) + 1)
    expected = shape_of(found, every, zone) * found.rate.value * STRETCH_S
    surges = []
    for group in groups:
        base = float(expected[group].sum())
        events = float(seen[group].sum())
        if base > 0 and events > _TIMES * base:
            surges.append(
                Surge(float(every[group[0]]) * STRETCH_S, len(group) * float(STRETCH_S), events / base, events)
            )
    return surges


def _growth(
    every: NDArray[np.int64],
    seen: NDArray[np.float64],
    expected_by: tuple[Rhythm, ZoneInfo],
    without: set[int],
) -> Estimate | None:
    """The growth of a month, by weighted regression of daily counts against their rhythm; None where it may be none."""
    found, zone = expected_by
    if found.rate.value <= 0:
        return None
    expected = shape_of(found, every, zone) * found.rate.value * STRETCH_S
    kept = ~np.isin(every, np.fromiter(without, np.int64)) if without else np.ones(len(every), bool)
    day = (every - every[0]) // 96
    events, wanted = np.bincount(day, seen * kept), np.bincount(day, expected * kept)
    full = wanted > 0.5 * np.median(wanted)
    events, wanted, days = events[full], wanted[full], np.flatnonzero(full).astype(float)
    if len(days) < 14 or wanted.sum() <= 0:
        return None
    x = (days - days.mean()) * 86_400 / _MONTH_S
    ratio = events / wanted
    slope = float(np.sum(wanted * x * ratio) / np.sum(wanted * x * x))
    left = ratio - np.average(ratio, weights=wanted) - slope * x
    scatter = float(np.sum(wanted * left**2)) / max(1, len(days) - 2)
    error = math.sqrt(max(scatter, 1e-12) / float(np.sum(wanted * x * x)))
    if abs(slope) < max(4 * error, 0.01):
        return None
    return Estimate(slope, slope - _Z * error, slope + _Z * error)


def _spread(scatter: float) -> tuple[str, float | None]:
    """How events are spread: bursts of geometric size b scatter 2 b - 1 times as much as single events."""
    if scatter < _EVEN:
        return "even", None
    if scatter > _BURSTY:
        return "bursty", (scatter + 1) / 2
    return "poisson", None
