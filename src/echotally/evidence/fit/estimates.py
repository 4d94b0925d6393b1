"""Estimates with their intervals: shares, spreads of run times, the batch and memory effect.

Sources: Wilson, "Probable inference" (JASA 22, 1927) for shares; the normal theory of ln x for log-normal
quantiles; Lilliefors (JASA 62, 1967) for the distance at which a fitted log-normal is refused; weighted least
squares with known group variances for run time against batch and memory.
"""

from __future__ import annotations

import math

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

LEVEL = 0.95
_Z = 1.959963984540054
#: Upper 5 % point of the standard normal: p95 = median x exp(1.6448536 sigma) (rule 2.7).
Z95 = 1.6448536269514722
#: A log-normal is kept below this distance whatever the number of runs: no bill or wait moves for less.
GOOD_ENOUGH = 0.02
_LARGEST_LOG = 700.0


class Estimate(Struct, frozen=True):
    """A value with its two-sided 95 % interval."""

    value: float
    low: float
    high: float

    def holds(self, truth: float) -> bool:
        """Whether the interval covers ``truth``."""
        return self.low <= truth <= self.high


class Spread(Struct, frozen=True):
    """A fitted spread of times in ms: ``kind`` is "log-normal", "constant" or "samples" (kept as they are).

    ``distance`` is the Kolmogorov-Smirnov distance of ``n`` runs from the fitted log-normal, ``refused`` where it
    would have been too far.
    """

    kind: str
    median: Estimate
    p95: Estimate
    n: int
    distance: float = 0.0
    refused: float = 0.0
    samples: tuple[float, ...] = ()


def share(hits: int, of: int) -> Estimate:
    """A share with Wilson's interval; ``of`` is at least 1."""
    middle = (hits + _Z**2 / 2) / (of + _Z**2)
    half = _Z / (of + _Z**2) * math.sqrt(hits * (of - hits) / of + _Z**2 / 4)
    low, high = max(0.0, middle - half) if hits else 0.0, min(1.0, middle + half) if hits < of else 1.0
    return Estimate(hits / of, low, high)


def log_normal(
    n: int,
    mean_log: float,
    sd_log: float,
    sample: NDArray[np.float64],
    shift_ms: float = 0.0,
    bins: tuple[NDArray[np.float64], NDArray[np.float64]] | None = None,
) -> Spread:
    """The log-normal of ``n`` times (ms) whose logarithms have this mean and standard deviation.

    ``shift_ms`` is how far all times may be off together, as the half of a 95 % interval.

    ``sample`` are some of the times (all, or drawn evenly): they decide whether it fits, and stand in if it does not. ``bins``
    are all of them counted: upper edges in standard deviations from the mean logarithm, and how many lie below each; then they decide.
    """
    constant = n < 2 or sd_log < 1e-3
    if constant:
        value = math.exp(mean_log)
        return Spread("constant", Estimate(value, value, value), Estimate(value, value, value), n)
    shift = shift_ms / math.exp(mean_log)
    median = _exp(mean_log, math.hypot(_Z * sd_log / math.sqrt(n), shift))
    # Variance of mean + z sd: sd^2 (1/n + z^2 / (2 (n - 1))).
    tail = _Z * sd_log * math.sqrt(1 / n + Z95**2 / (2 * (n - 1)))
    p95 = _exp(mean_log + Z95 * sd_log, math.hypot(tail, shift))
    distance = _distance(np.sort(sample), mean_log, sd_log) if bins is None else _distance_of_bins(*bins)
    refused = max(GOOD_ENOUGH, 0.886 / math.sqrt(n if bins is not None else len(sample)))
    if distance <= refused:
        return Spread("log-normal", median, p95, n, distance, refused)
    middle, upper = (
        Estimate(*(float(x) for x in np.quantile(sample, np.clip(rank_shares(q, len(sample)), 0, 1))))
        for q in (0.5, 0.95)
    )
    return Spread("samples", middle, upper, n, distance, refused, tuple(float(x) for x in sample))


def _exp(middle: float, half: float) -> Estimate:
    # An interval may reach beyond what a float holds: few runs, far apart.
    low, value, high = (math.exp(min(_LARGEST_LOG, at)) for at in (middle - half, middle, middle + half))
    return Estimate(value, low, high)


def rank_shares(q: float, n: int) -> tuple[float, float, float]:
    """A quantile's own share and those of the ranks that bracket it: binomial, by its normal approximation."""
    half = _Z * math.sqrt(q * (1 - q) / n)
    return q, q - half, q + half


def _distance(times: NDArray[np.float64], mean_log: float, sd_log: float) -> float:
    """Largest gap between the steps of the sample and the fitted distribution."""
    from scipy.special import ndtr

    fitted = ndtr((np.log(times) - mean_log) / sd_log)
    n = len(times)
    steps = np.arange(1, n + 1) / n
    return float(max(np.max(steps - fitted), np.max(fitted - steps + 1 / n)))


def _distance_of_bins(edges: NDArray[np.float64], below: NDArray[np.float64]) -> float:
    """As ``_distance``, of counts: at the edges exact, between them off by at most what a bin holds."""
    from scipy.special import ndtr

    return float(np.max(np.abs(below / below[-1] - ndtr(edges)))) if len(below) else 0.0


class RunParts(Struct, frozen=True):
    """Mean run time split up, ms: ``base + per_item x events``, times 1 - c + c x speed with c the CPU share."""

    base: Estimate
    per_item: Estimate | None
    cpu_share: Estimate | None


def run_parts(
    events: NDArray[np.float64],
    slowdown: NDArray[np.float64],
    n: NDArray[np.int64],
    mean: NDArray[np.float64],
    square: NDArray[np.float64],
) -> RunParts:
    """Split mean run times by batch size and memory.

    Shapes (groups,): events of a batch, v(measured) / v(memory), number of runs, mean and mean square of their time in
    ms. A part that the log does not vary is None.
    """
    from scipy.optimize import curve_fit

    several_sizes, several_memories = len(set(events)) > 1, len(set(slowdown.round(9))) > 1
    spread = float(np.average(np.maximum(square - mean**2, 0.0), weights=n))
    sigma = np.sqrt(max(spread, 1e-9) / n)

    def model(at: NDArray[np.float64], base: float, per_item: float, cpu: float) -> NDArray[np.float64]:
        found: NDArray[np.float64] = (base + per_item * at[0]) * (1 - cpu + cpu * at[1])
        return found

    free = [True, several_sizes, several_memories]
    start = np.array([float(np.average(mean, weights=n)), 0.0, 0.5 if several_memories else 0.0])

    def of_free(at: NDArray[np.float64], *values: float) -> NDArray[np.float64]:
        full = start.copy()
        full[free] = values
        return model(at, *full)

    if len(mean) == sum(free) == 1:
        half = _Z * float(sigma[0])
        return RunParts(Estimate(float(mean[0]), float(mean[0]) - half, float(mean[0]) + half), None, None)
    values, covariance = curve_fit(
        of_free, np.array([events, slowdown]), mean, start[free], sigma, absolute_sigma=True, maxfev=10_000
    )
    halves = _Z * np.sqrt(np.diag(covariance))
    found = iter([Estimate(float(v), float(v - h), float(v + h)) for v, h in zip(values, halves, strict=True)])
    return RunParts(*(next(found) if wanted else None for wanted in free))  # type: ignore[arg-type]
