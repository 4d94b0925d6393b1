"""How a month is cut for sampling: surges and lumps in full, all other hours in groups of like demand."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from echotally.demand.clock import LocalHour
from echotally.demand.month import MonthPlan, Tap
from echotally.demand.shapes import Stretch
from echotally.model.estate import Model
from echotally.rates.loading import Offer
from echotally.rates.settings import run_ns

#: Events to play in the groups in all, and the most groups: enough that a group's rates differ by a few per cent.
_BUDGET, _MOST_GROUPS = 6_000_000, 48
_HOUR, _S = 3_600 * 10**9, 10**9


@dataclass(frozen=True)
class Window:
    """A stretch to play: it warms up, is read for ``length_ns``, and stands for ``weight`` times that.

    ``hours`` are the hours of the month it stands for; ``backlog``: the queues' backlogs are there at its start.
    """

    taps: tuple[Tap, ...]
    warm_ns: int
    length_ns: int
    weight: float
    hours: tuple[int, ...]
    backlog: bool = False


def cut_month(model: Model, month: MonthPlan, placement: Mapping[str, Offer]) -> list[Window]:
    """Windows that together stand for the whole month, schedules left out."""
    hours = month.clock.local_hours()
    taps = [tap for tap in month.taps if not tap.source.startswith("schedules.")]
    special = _special_hours(model, month, hours)
    warm = _warm_up_ns(model, placement)
    found = [_in_full(taps, hours, run, warm) for run in _runs_of(special)]
    plain = [n for n in range(len(hours)) if n not in special]
    lengths = np.array([h.end_ns - h.start_ns for h in hours], float)
    rates = np.array([[_expected(tap, h.start_ns, h.end_ns) for tap in taps] for h in hours]) / lengths[:, None]
    groups = _grouped(rates, plain, warm)
    for group in groups:
        whole = float(lengths[group].sum())
        mean = (rates[group] * lengths[group, None]).sum(axis=0) / whole
        length = _stretch_ns(float(mean.sum()), len(groups), warm, whole)
        found.append(Window(_steady(taps, mean, warm + length), warm, length, whole / length, tuple(group)))
    return found


def schedules_alone(month: MonthPlan) -> MonthPlan:
    """The month with its schedules and nothing else."""
    return replace(month, taps=tuple(tap for tap in month.taps if tap.source.startswith("schedules.")))


def _expected(tap: Tap, start: int, end: int) -> float:
    """Events a tap expects between two instants."""
    total = 0.0
    for s in tap.stretches:
        if s.start_ns == s.end_ns:
            total += s.count if start <= s.start_ns < end else 0
        elif s.start_ns < end and s.end_ns > start:
            share = min(s.end_ns, end) - max(s.start_ns, start)
            total += s.rate * share + s.count * share / (s.end_ns - s.start_ns)
    return total


def _special_hours(model: Model, month: MonthPlan, hours: Sequence[LocalHour]) -> set[int]:
    """Hours with a surge or lump, the hour after each, and the first where a backlog waits."""
    found = {0} if any(queue.backlog for queue in model.queues.values()) else set()
    for n, hour in enumerate(hours):
        if any(start < hour.end_ns and end >= hour.start_ns for start, end in month.storms):
            found |= {n, min(n + 1, len(hours) - 1)}
    return found


def _runs_of(special: set[int]) -> list[list[int]]:
    """Neighbouring hours together."""
    runs: list[list[int]] = []
    for n in sorted(special):
        if runs and runs[-1][-1] == n - 1:
            runs[-1].append(n)
        else:
            runs.append([n])
    return runs


def _warm_up_ns(model: Model, placement: Mapping[str, Offer]) -> int:
    """Long enough to forget the empty start: idle instances come and go, the slowest run, a batch's wait."""
    longest = 60 * _S
    for name, function in model.functions.items():
        plan = placement[name].plan
        run = run_ns(function, plan, function.run.quantile(0.99)) + function.cold_start.quantile(0.99)
        longest = max(longest, plan.keep_alive, int(2 * run))
    longest = max([longest, *(2 * t.batch_wait for t in model.triggers)])
    return min(longest, _HOUR)


def _in_full(taps: Sequence[Tap], hours: Sequence[LocalHour], run: list[int], warm: int) -> Window:
    """Hours as they are, with the time before them as warm-up."""
    start, end = hours[run[0]].start_ns, hours[run[-1]].end_ns
    warm = min(warm, start)
    cut = tuple(replace(tap, stretches=_clipped(tap, start - warm, end)) for tap in taps)
    return Window(cut, warm, end - start, 1.0, tuple(run), backlog=start == 0)


def _clipped(tap: Tap, start: int, end: int) -> tuple[Stretch, ...]:
    """A tap's stretches between two instants, counted from the first; counts are shared out by time."""
    found = []
    for s in tap.stretches:
        low, high = max(s.start_ns, start), min(s.end_ns, end)
        if s.start_ns == s.end_ns and start <= s.start_ns < end:
            found.append(Stretch(s.start_ns - start, s.end_ns - start, count=s.count))
        elif low < high:
            count = round(s.count * (high - low) / (s.end_ns - s.start_ns))
            found.append(Stretch(low - start, high - start, s.rate, count))
    return tuple(found)


def _steady(taps: Sequence[Tap], mean: NDArray[np.float64], length: int) -> tuple[Tap, ...]:
    """Every tap at a constant rate; closed-loop clients as they are."""
    return tuple(
        tap
        if tap.kind == "clients"
        else replace(tap, kind="rate", stretches=(Stretch(0, length, float(rate)),) if rate else ())
        for tap, rate in zip(taps, mean, strict=True)
    )


def _grouped(rates: NDArray[np.float64], plain: list[int], warm: int) -> list[list[int]]:
    """Hours of the same rates together; where those groups are too many, neighbours by total rate."""
    same: dict[bytes, list[int]] = {}
    for n in plain:
        same.setdefault(np.round(rates[n], 18).tobytes(), []).append(n)
    total = rates.sum(axis=1)
    ordered = sorted(same.values(), key=lambda group: total[group[0]])
    busiest = float(total[plain].max(initial=0.0)) if plain else 0.0
    # Warming up should cost no more than half of what is played.
    most = max(4, min(_MOST_GROUPS, int(_BUDGET / 2 / max(1.0, busiest * warm))))
    if len(ordered) <= most:
        return ordered
    edges = np.linspace(total[ordered[0][0]], total[ordered[-1][0]] * (1 + 1e-12), most + 1)
    bins: list[list[int]] = [[] for _ in range(most)]
    for group in ordered:
        place = int(np.searchsorted(edges, total[group[0]], side="right")) - 1
        bins[min(max(place, 0), most - 1)] += group
    return [sorted(group) for group in bins if group]


def _stretch_ns(rate: float, groups: int, warm: int, whole: float) -> int:
    """How long a group is played: its part of the events to play, at least as long as it warms up, at most all of it."""
    share = _BUDGET / 2 / groups / rate if rate else math.inf
    return int(min(whole, max(share, min(warm, _HOUR / 4))))
