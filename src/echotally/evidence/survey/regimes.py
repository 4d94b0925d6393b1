"""Days on which something became otherwise for good, and stretches in which it was wrong: looked for in counts by stretch.

A change is the day that splits the days so that both sides are the most alike among themselves (least squares of logarithms;
Hinkley, "Inference about the change-point", Biometrika 57, 1970); it must stand out of the days' own scatter and not be a trend.
A stretch of trouble is the run of quarters of an hour that a higher share of failures explains best (log-likelihood, as the
cumulative sum of Page, Biometrika 41, 1954).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from echotally.evidence.fit.rhythm import STRETCH_S, local_stretches
from echotally.evidence.survey.facts import Change, Trouble
from echotally.evidence.survey.tables import Counts, Sampled, Unit

_DAY_S = 86_400
#: Days on either side that a change needs.
_LEAST_DAYS = 3
#: How far the two sides must lie apart: in standard errors, and in relation.
_ERRORS = 5.5
#: Runs a day from which on their mean is looked at.
_MANY = 10
_RATE_STEP, _RUN_STEP = 0.25, 0.12
#: Log-likelihood by which a stretch of trouble must beat the usual share.
_SURE = 15.0
_MOST = 3

#: Local days (number since 1970) and what was seen on each.
_Days = tuple[NDArray[np.int64], NDArray[np.float64]]


def changes_of(
    function: str, counts: Counts, sample: Sampled, zone: ZoneInfo, versions: Mapping[str, float]
) -> list[Change]:
    """Changes of a function's rate, run time and memory; ``versions`` are when each first ran, s since 1970."""
    found = []
    days, attempts, runs = _daily(counts, zone)
    rate = _step(days, attempts, _RATE_STEP)
    if rate is not None:
        found.append(_change((function, "events a day", ""), (days, attempts), rate, versions, zone))
    took = np.divide(runs, np.maximum(attempts, 1.0))
    # The mean of a few runs a day is moved by one long one.
    many = len(attempts) > 0 and float(np.median(attempts)) >= _MANY
    run = _step(days[attempts > 0], took[attempts > 0], _RUN_STEP) if many else None
    if run is not None:
        kept = attempts > 0
        found.append(_change((function, "run time", "ms"), (days[kept], took[kept]), run, versions, zone))
    memory = _memory_step(function, sample, versions)
    return [*found, *([memory] if memory else [])]


def _daily(counts: Counts, zone: ZoneInfo) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float64]]:
    """Local days (number since 1970) with events handled and time run, days without any in between included."""
    day = local_stretches(counts.stretch, zone) * STRETCH_S // _DAY_S
    if not len(day):
        return np.zeros(0, np.int64), np.zeros(0), np.zeros(0)
    every = np.arange(int(day[0]), int(day[-1]) + 1)
    place = day - every[0]
    good = counts.attempts - counts.errors - counts.timeouts
    attempts = np.bincount(place, good, len(every)).astype(float)
    return every, attempts, np.bincount(place, counts.run_ms, len(every)).astype(float)


def _step(days: NDArray[np.int64], values: NDArray[np.float64], least: float) -> int | None:
    """The place of the first day of the new level, or None. Days at the ends are cut, since they may not be whole."""
    if len(days) < 2 * _LEAST_DAYS + 2:
        return None
    inner = values[1:-1]
    if np.any(inner <= 0):
        return None
    logs = np.log(inner)
    # Weekdays differ: what they differ by is taken off before days are compared.
    week = days[1:-1] % 7
    n = len(logs)
    best, place = 0.0, None
    for k in range(_LEAST_DAYS, n - _LEAST_DAYS + 1):
        level = np.where(np.arange(n) < k, logs[:k].mean(), logs[k:].mean())
        left = logs - level
        if n >= 21:
            by_day = np.bincount(week, left, 7) / np.maximum(np.bincount(week, minlength=7), 1)
            left = left - by_day[week]
        apart = abs(logs[k:].mean() - logs[:k].mean())
        error = math.sqrt(max(float(left @ left) / max(1, n - 2), 1e-8) * (1 / k + 1 / (n - k)))
        if apart / error > best:
            best, place = apart / error, k
    if place is None or best < _ERRORS:
        return None
    if abs(math.exp(logs[place:].mean() - logs[:place].mean()) - 1) < least or _is_trend(logs, place):
        return None
    return place + 1


def _is_trend(logs: NDArray[np.float64], place: int) -> bool:
    """Whether a straight line explains the days as well as a step does."""
    x = np.arange(len(logs)) - (len(logs) - 1) / 2
    line = logs - logs.mean() - x * float(x @ logs) / float(x @ x)
    step = np.concatenate([logs[:place] - logs[:place].mean(), logs[place:] - logs[place:].mean()])
    return float(line @ line) < 1.15 * float(step @ step)


def _change(
    what: tuple[str, str, str], days: _Days, place: int, versions: Mapping[str, float], zone: ZoneInfo
) -> Change:
    """A step at a place in a row of days; ``what`` is function, figure and unit."""
    numbers, values = days
    local = datetime.fromtimestamp(int(numbers[place]) * _DAY_S, UTC).replace(tzinfo=zone)
    before, after = float(np.mean(values[1:place])), float(np.mean(values[place:-1]))
    function, figure, unit = what
    return Change(function, figure, local, before, after, unit, _cause(local.timestamp(), versions))


def _cause(at: float, versions: Mapping[str, float]) -> str:
    """The version that first ran within a day and a half of a change."""
    near = [name for name, first in versions.items() if abs(first - at) < 1.5 * _DAY_S]
    return f"a release: version {near[0]} ran from then on" if near and len(versions) > 1 else ""


def _memory_step(function: str, sample: Sampled, versions: Mapping[str, float]) -> Change | None:
    """A change of the memory given, to the second: from some attempt on it is another for good."""
    sizes = sample.memory
    known = sizes > 0
    if known.sum() < 20 or len(np.unique(sizes[known])) != 2:
        return None
    times, sizes = sample.t[known], sizes[known]
    last = sizes[-1]
    place = int(np.flatnonzero(sizes != last)[-1]) + 1
    # Once and for all: before it hardly any had the new size.
    if place >= len(sizes) - 5 or np.mean(sizes[:place] == last) > 0.02:
        return None
    at = datetime.fromtimestamp(float(times[place]), UTC)
    return Change(function, "memory", at, float(sizes[0]), float(last), "MB", _cause(float(times[place]), versions))


def troubles_of(unit: Unit, counts: Counts) -> list[Trouble]:
    """Stretches in which a unit's attempts failed or timed out far more often than otherwise."""
    found = []
    for kind, bad in (("timeouts", counts.timeouts), ("errors", counts.errors)):
        rest = np.ones(len(bad), bool)
        for _ in range(_MOST):
            worst = _worst(bad * rest, counts.attempts * rest)
            if worst is None:
                break
            low, high = worst
            span = slice(low, high + 1)
            usual = _share(bad, counts.attempts, rest, span)
            n = float(counts.attempts[span].sum())
            at = float(counts.stretch[low]) * STRETCH_S
            lasts = float(counts.stretch[high] + 1 - counts.stretch[low]) * STRETCH_S
            moment = datetime.fromtimestamp(at, UTC)
            found.append(Trouble(unit[0], unit[1], kind, moment, lasts, float(bad[span].sum()) / n, usual, int(n)))
            rest[span] = False
    return found


def _share(bad: NDArray[np.float64], attempts: NDArray[np.float64], rest: NDArray[np.bool_], span: slice) -> float:
    kept = rest.copy()
    kept[span] = False
    return float(bad[kept].sum() / max(1.0, attempts[kept].sum()))


def _worst(bad: NDArray[np.float64], attempts: NDArray[np.float64]) -> tuple[int, int] | None:
    """The run of stretches (first and last place) that a high share of failures explains best, where it does so for certain.

    The usual share is that of all else. It is first taken from the whole, then from what lies outside the run found with it.
    """
    total, n = float(bad.sum()), float(attempts.sum())
    if total < 5 or n < 20:
        return None
    usual, found = min(0.5, total / n), None
    for _ in range(4):
        again = _highest(bad, attempts, max(usual, 0.5 / n))
        if again is None or again == found:
            break
        found = again
        span = slice(found[0], found[1] + 1)
        outside = float(attempts.sum() - attempts[span].sum())
        usual = float(bad.sum() - bad[span].sum()) / max(1.0, outside)
    if found is None:
        return None
    span = slice(found[0], found[1] + 1)
    inside = float(attempts[span].sum())
    # Most of a month is no stretch of it.
    beyond = _beyond(float(bad[span].sum()), inside, max(usual, 0.5 / n)) / _together(bad, attempts, span)
    return found if inside <= 0.4 * n and beyond >= _SURE else None


def _together(bad: NDArray[np.float64], attempts: NDArray[np.float64], span: slice) -> float:
    """How many failures outside a run of stretches come together: one message may fail several times.

    The middle number in stretches that have any, over the mean that single failures would have there (a Poisson number's, given
    that it is not 0). Other stretches of trouble are few, and do not move the middle.
    """
    rest = np.ones(len(bad), bool)
    rest[span] = False
    some = rest & (bad > 0)
    if not some.any():
        return 1.0
    expected = float(np.mean(attempts[some]) * bad[rest].sum() / max(1.0, attempts[rest].sum()))
    return max(1.0, float(np.median(bad[some])) * -math.expm1(-expected) / expected)


def _highest(bad: NDArray[np.float64], attempts: NDArray[np.float64], usual: float) -> tuple[int, int] | None:
    """The run of stretches whose likelihood gains most by a high share (greatest sum of neighbours)."""
    high = min(0.98, max(0.3, 10 * usual))
    gain = bad * math.log(high / usual) + (attempts - bad) * math.log((1 - high) / (1 - usual))
    sums = np.concatenate([[0.0], np.cumsum(gain)])
    lowest = np.minimum.accumulate(sums)
    last = int(np.argmax(sums - lowest))
    if last == 0 or sums[last] <= lowest[last]:
        return None
    return int(np.flatnonzero(sums[: last + 1] == lowest[last])[-1]), last - 1


def _beyond(bad: float, n: float, usual: float) -> float:
    """Log-likelihood ratio of ``bad`` of ``n`` at their own share against the usual one; 0 where that is higher."""
    share = bad / n if n else 0.0
    if share <= usual:
        return 0.0
    good = (n - bad) * math.log((1 - share) / (1 - usual)) if share < 1 else 0.0
    return bad * math.log(share / usual) + good
