"""How sure the figures of a sampled month are: an interval for each figure that a target can name.

Two-sided 95 % intervals of the month that ``--exact`` would play. Each part of the sample is a month with noise of its
own, more than an exact month's; an interval for one more month of that kind (a prediction interval, Hahn and Meeker,
"Statistical Intervals", 1991, section 4.2) is wide enough. Counts have at least the interval of a Poisson count of what
was seen of them (Garwood, Biometrika 28, 1936); losses whose chance is known that of their expectation.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from statistics import fmean, stdev

from echotally.engine.measured import Measured
from echotally.engine.sampling.knowing import Loss
from echotally.projection.verdict import Check, left_behind_share, lost_events, throttled_share

LEVEL = 0.95
#: Student's t, 97.5 % point, by degrees of freedom (as in any table), so that no library need be loaded for it.
_T975 = {1: 12.706205, 2: 4.302653, 3: 3.182446, 4: 2.776445, 5: 2.570582, 6: 2.446912, 7: 2.364624}
_Z975 = 1.959964

Interval = tuple[float, float]
#: What the method itself may be off by, as a share: a stretch has no empty start and no cut end; a sketch's bin is wide.
_OF_COST, _OF_COUNTS, _OF_WAITS = 0.0005, 0.002, 0.01
_COUNTED = ("throttled", "refused", "lost", "left_behind")


@dataclass(frozen=True)
class UnitConfidence:
    """Intervals of one function in one environment; ``wait_p95`` in s, None where nothing succeeded."""

    function: str
    environment: str
    wait_p95: Interval | None
    left_behind: Interval


@dataclass(frozen=True)
class Confidence:
    """Intervals of a sampled month: cost in the card's currency, shares as fractions, losses as events."""

    level: float
    cost: Interval
    throttled_share: Interval
    refused: Interval
    lost: Interval
    left_behind: Interval
    functions: tuple[UnitConfidence, ...]


def interval(values: Sequence[float], method: float = _OF_COST) -> Interval:
    """Where one more month like these would lie, never below zero; ``method``: the share the method may be off by."""
    middle = fmean(values)
    half = _T975[len(values) - 1] * stdev(values) * math.sqrt(1 + 1 / len(values)) + method * middle
    return max(0.0, middle - half), middle + half


def counted(values: Sequence[float], share: float, possible: bool = True) -> Interval:
    """As ``interval``, of a count of which a ``share`` was played; ``possible`` False: it cannot be but 0."""
    if not possible and not any(values):
        return 0.0, 0.0
    low, high = interval(values, _OF_COUNTS)
    least, most = _poisson_seen(fmean(values), share)
    return min(low, least), max(high, most)


def _poisson_seen(count: float, share: float) -> Interval:
    """The month's count, of which about ``count * share`` were seen."""
    if share >= 1:
        seen_low, seen_high = count, count
    else:
        from scipy.special import gammaincinv

        seen = count * share
        seen_low = float(gammaincinv(seen, (1 - LEVEL) / 2)) / share if seen > 0 else 0.0
        seen_high = float(gammaincinv(seen + 1, (1 + LEVEL) / 2)) / share
    return max(0.0, seen_low - _Z975 * math.sqrt(seen_low)), seen_high + _Z975 * math.sqrt(seen_high * share)


def expected_count(mean: float, together: float) -> Interval:
    """A count whose expectation is known, of events given up ``together`` at a time (compound Poisson, its normal form)."""
    if mean <= 0:
        return 0.0, 0.0
    half = _Z975 * math.sqrt(mean * together)
    # The upper end of a small Poisson count: that of no event seen, where the normal form is too short.
    return max(0.0, mean - half), mean + max(half, 3.0 * together if mean > 0.02 else together)


@dataclass
class _Figures:
    """The same figure of every part, and what it is divided by."""

    parts: Sequence[Measured]
    share: float
    losses: Mapping[str, Loss]

    def lost(self, name: str | None) -> Interval:
        units = [u for u in self.parts[0].units if name is None or u.unit.function == name]
        names = {u.unit.function for u in units}
        if all(n in self.losses for n in names):
            values = [self._count(part, name, "lost") for part in self.parts]
            together = max((self.losses[n].together for n in names), default=1)
            beside = fmean(self._count(part, name, "beside") for part in self.parts)
            if not beside:
                return expected_count(fmean(values), together)
        return counted([self._count(part, name, "lost") for part in self.parts], self.share, self._may_lose(names))

    def _may_lose(self, names: set[str]) -> bool:
        return any(n not in self.losses or self.losses[n].chance > 0 for n in names)

    @staticmethod
    def _count(part: Measured, name: str | None, what: str) -> float:
        units = [u for u in part.units if name is None or u.unit.function == name]
        if what == "lost":
            return float(sum(lost_events(u.events) for u in units))
        return float(sum(u.events["expired"] + u.events["too_large"] for u in units))


def check_intervals(
    checks: Sequence[Check], parts: Sequence[Sequence[Check]], measured: Sequence[Measured], share: float,
    losses: Mapping[str, Loss],
) -> tuple[Check, ...]:  # fmt: skip
    """The checks of a sampled month with the interval of each, from the checks of every part."""
    found = []
    for check in checks:
        values = [_found(part, check) for part in parts]
        if check.target == "lost":
            low, high = _Figures(measured, share, losses).lost(check.function)
        elif check.target in _COUNTED:
            base = _base(measured[0], check)
            low, high = (x / base for x in counted([v * base for v in values], share)) if base else (0.0, 0.0)
        else:
            low, high = interval(values, _OF_WAITS if check.target == "wait_p95" else _OF_COST)
        found.append(Check(check.target, check.function, check.wanted, check.found, low, high))
    return tuple(found)


def _found(part: Sequence[Check], check: Check) -> float:
    same = [c.found for c in part if (c.target, c.function, c.wanted) == (check.target, check.function, check.wanted)]
    return same[0] if same else check.found


def _base(measured: Measured, check: Check) -> float:
    """What a share is a share of: attempts, requests, events in."""
    units = [u for u in measured.units if check.function in (None, u.unit.function)]
    if check.target == "throttled":
        return float(sum(u.attempts["total"] for u in units))
    if check.target == "refused":
        return float(sum(u.requests for u in units))
    return float(sum(u.events["in"] for u in units))


def confidence(
    costs: Sequence[float],
    parts: Sequence[Measured],
    refused: Sequence[float],
    share: float,
    losses: Mapping[str, Loss],
) -> Confidence:
    """Every interval of design section 5, from the parts' measured months and costs."""
    attempts = [{k: sum(u.attempts[k] for u in p.units) for k in p.units[0].attempts} for p in parts]
    tried = fmean(a["total"] for a in attempts) or 1.0
    asked = float(sum(u.requests for u in parts[0].units)) or 1.0
    came = float(sum(u.events["in"] for u in parts[0].units)) or 1.0
    throttled = counted([throttled_share(a) * tried for a in attempts], share)
    rejected = counted([r * asked for r in refused], share, any(refused) or asked > 1.0)
    behind = counted([left_behind_share(p.units) * came for p in parts], share)
    return Confidence(
        LEVEL, interval(costs), _scaled(throttled, tried), _scaled(rejected, asked),
        _Figures(parts, share, losses).lost(None), _scaled(behind, came),
        tuple(_unit(parts, n, share) for n in range(len(parts[0].units))),
    )  # fmt: skip


def _scaled(values: Interval, by: float) -> Interval:
    return values[0] / by, values[1] / by


def _unit(parts: Sequence[Measured], n: int, share: float) -> UnitConfidence:
    units = [part.units[n] for part in parts]
    waits = [u.waits.p95 for u in units if u.waits.p95 is not None]
    came = float(units[0].events["in"]) or 1.0
    behind = counted([left_behind_share([u]) * came for u in units], share)
    return UnitConfidence(
        units[0].unit.function, units[0].unit.environment, interval(waits, _OF_WAITS) if len(waits) == len(parts) else None,
        _scaled(behind, came),
    )  # fmt: skip
