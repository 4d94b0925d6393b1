"""How long a function's runs take: the base run's spread, the parts per event and per MB, its cold starts, from a sample of attempts."""

from __future__ import annotations

import math

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.evidence.fit.estimates import GOOD_ENOUGH, Estimate, Spread, log_normal
from echotally.evidence.survey.facts import short
from echotally.evidence.survey.mixtures import Kind, mixture
from echotally.evidence.survey.tables import Sampled

_Z = 1.959963984540054
#: Rows kept where no formula fits.
_KEPT = 2_000


class Runs(Struct, frozen=True):
    """What a successful run takes, ms: ``base`` (or ``kinds`` of it) + ``per_item`` x events + ``per_mb`` x payload.

    ``quantiles`` are those of the base run from 1 % to 99 %.
    """

    base: Spread
    kinds: tuple[Kind, ...]
    per_item: Estimate | None
    per_mb: Estimate | None
    quantiles: tuple[float, ...]
    notes: tuple[str, ...]


def runs_of(sample: Sampled, mean_ms: float) -> Runs | None:
    """The run time of a sample's successful attempts; ``mean_ms`` is that of all of them, which the fit keeps. None without any."""
    good = sample.where(sample.good & (sample.run > 0))
    if not len(good.run):
        return None
    notes: list[str] = []
    per_item, per_mb = _parts(good, notes)
    base = good.run.copy()
    if per_item is not None:
        base -= per_item.value * good.events
    if per_mb is not None:
        base -= per_mb.value * good.payload / 1e6
    if np.mean(base <= 0) > 0.02:
        notes.append("a part per event or MB would leave some runs nothing: left out")
        base, per_item, per_mb = good.run.copy(), None, None
    base = np.sort(base[base > 0])
    # A sample of thousands may be a little off the mean of millions.
    rest = mean_ms - (per_item.value * good.events.mean() if per_item else 0.0)
    rest -= per_mb.value * good.payload.mean() / 1e6 if per_mb else 0.0
    if good.every > 1 and rest > 0:
        base = base * min(1.1, max(0.9, rest / base.mean()))
    spread, kinds = spread_of(base)
    # What a part may be off, the rest is off the other way.
    apart = [(per_item, good.events), (per_mb, good.payload / 1e6)]
    spread = _wider(spread, math.hypot(*((e.high - e.low) / 2 * float(x.mean()) for e, x in apart if e is not None)))
    shares = np.arange(1, 100) / 100
    return Runs(spread, kinds, per_item, per_mb, tuple(float(x) for x in np.quantile(base, shares)), tuple(notes))


def _wider(spread: Spread, by: float) -> Spread:
    """A spread whose intervals have another error added in squares, ms."""
    if not by:
        return spread
    middle, upper = (
        Estimate(e.value, e.value - math.hypot(e.value - e.low, by), e.value + math.hypot(e.high - e.value, by))
        for e in (spread.median, spread.p95)
    )
    return replace(spread, median=middle, p95=upper)


def spread_of(times: NDArray[np.float64]) -> tuple[Spread, tuple[Kind, ...]]:
    """The spread of times (ms, above 0): constant, log-normal, two kinds, or samples, whichever fits first."""
    logs = np.log(times)
    sd = float(logs.std(ddof=1)) if len(times) > 1 else 0.0
    if sd < 0.01 and sd > 0:
        # Within a hundredth of each other: what differs is how it was measured.
        middle = float(times.mean())
        half = _Z * float(times.std(ddof=1)) / math.sqrt(len(times))
        value = Estimate(middle, middle - half, middle + half)
        return Spread("constant", value, value, len(times)), ()
    found = log_normal(len(times), float(logs.mean()), sd, times)
    if found.kind != "samples":
        return _keeping_mean(found, times), ()
    kinds = mixture(times, max(GOOD_ENOUGH, 0.886 / math.sqrt(len(times))))
    if kinds is not None:
        return found, kinds
    step = max(1, len(times) // _KEPT)
    kept = tuple(float(x) for x in times[step // 2 :: step])
    return Spread("samples", found.median, found.p95, found.n, found.distance, found.refused, kept), ()


def _keeping_mean(found: Spread, times: NDArray[np.float64]) -> Spread:
    """A log-normal with the mean of the times where that is off by less than chance allows: the bill goes by it."""
    if found.kind != "log-normal":
        return found
    sigma = math.log(found.p95.value / found.median.value) / 1.6448536269514722
    mean = found.median.value * math.exp(sigma**2 / 2)
    by = float(times.mean()) / mean
    if not 0.97 < by < 1.03:
        return found
    median, p95 = (Estimate(e.value * by, e.low * min(1, by), e.high * max(1, by)) for e in (found.median, found.p95))
    return Spread(found.kind, median, p95, found.n, found.distance, found.refused)


def _parts(good: Sampled, notes: list[str]) -> tuple[Estimate | None, Estimate | None]:
    """What an event and a MB add, by least squares on those that the sample varies; None where nothing stands out."""
    columns: dict[str, NDArray[np.float64]] = {}
    if np.ptp(good.events) > 0:
        columns["per_item"] = good.events
    elif good.events[0] > 1:
        notes.append(f"every batch held {good.events[0]:,.0f} events: run and per_item cannot be told apart")
    if np.ptp(good.payload) > 0:
        columns["per_mb"] = good.payload / 1e6
    found: dict[str, Estimate | None] = {"per_item": None, "per_mb": None}
    while columns:
        values, errors = _least_squares(good.run, list(columns.values()))
        worst = min(columns, key=lambda name: values[list(columns).index(name)] / errors[list(columns).index(name)])
        place = list(columns).index(worst)
        if values[place] > 3 * errors[place]:
            for n, name in enumerate(columns):
                half = _Z * errors[n]
                found[name] = Estimate(float(values[n]), float(values[n] - half), float(values[n] + half))
            break
        notes.append(f"no {worst} stands out ({short(float(values[place]))} ms): left out")
        del columns[worst]
    return found["per_item"], found["per_mb"]


def _least_squares(
    times: NDArray[np.float64], columns: list[NDArray[np.float64]]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Slopes and their standard errors, the scatter being in proportion to the run (weights of the second round)."""
    design = np.column_stack([np.ones(len(times)), *columns])
    weights = np.ones(len(times))
    values = np.zeros(design.shape[1])
    for _ in range(3):
        w = design * weights[:, None]
        values, *_ = np.linalg.lstsq(w, times * weights, rcond=None)
        fitted = np.maximum(design @ values, 0.05 * float(times.mean()))
        weights = 1 / fitted
    left = (times - design @ values) * weights
    scatter = float(left @ left) / max(1, len(times) - design.shape[1])
    covariance = np.linalg.pinv((design * weights[:, None]).T @ (design * weights[:, None])) * scatter
    return values[1:], np.sqrt(np.maximum(np.diag(covariance)[1:], 1e-300))


def cold_of(sample: Sampled) -> Spread | None:
    """How long an instance takes to start, where the log tells: a column of its own."""
    times = sample.cold_ms[sample.cold & (sample.cold_ms > 0)]
    if not len(times):
        return None
    # A call that joins an instance already starting waits a part of it: the longest common ones are whole.
    spread, _ = spread_of(np.sort(times))
    return spread
