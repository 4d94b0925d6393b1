"""Two kinds of run in one function: a mixture of two log-normal spreads, by expectation and maximisation.

Source: Dempster, Laird and Rubin, "Maximum likelihood from incomplete data via the EM algorithm" (JRSS B 39, 1977), on the
logarithms of the times.
"""

from __future__ import annotations

import math

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.evidence.fit.estimates import Z95, Estimate

_ROUNDS = 200
#: A kind that is rarer is left to the samples.
_RAREST = 0.002
_Z = 1.959963984540054
#: Times that scatter less than this around their mean logarithm are the same time.
_NARROW = 1e-3


class Kind(Struct, frozen=True):
    """One kind of run: its share, median and p95 in ms."""

    share: float
    median: Estimate
    p95: Estimate


def mixture(times: NDArray[np.float64], most: float) -> tuple[Kind, ...] | None:
    """Two kinds whose mixture lies within the Kolmogorov-Smirnov distance ``most`` of the times (ms, above 0), or None."""
    from scipy.special import ndtr

    logs = np.sort(np.log(times))
    n = len(logs)
    if n < 50:
        return None
    best: tuple[float, NDArray[np.float64]] | None = None
    # EM finds the nearest hill: begun from several cuts, since the rarer kind may be a half or a hundredth.
    for cut in (0.5, 0.8, 0.95, 0.99):
        found = _em(logs, cut)
        w, m, s = found
        fitted = sum(w[k] * ndtr((logs - m[k]) / s[k]) for k in (0, 1))
        steps = np.arange(1, n + 1) / n
        # Kolmogorov-Smirnov: the largest gap on either side of each step.
        distance = float(max(np.max(steps - fitted), np.max(fitted - steps + 1 / n)))
        if best is None or distance < best[0]:
            best = distance, found
    assert best is not None
    distance, (w, m, s) = best
    # Two kinds as like as one are one that has another shape.
    if distance > most or min(w) < _RAREST or abs(m[0] - m[1]) < max(s[0], s[1]):
        return None
    return tuple(_kind(float(w[k]), float(m[k]), float(s[k]), n) for k in np.argsort(m))


def _em(logs: NDArray[np.float64], cut: float) -> NDArray[np.float64]:
    edge = int(len(logs) * cut)
    parts = (logs[:edge], logs[edge:])
    w = np.array([len(part) / len(logs) for part in parts])
    m = np.array([float(part.mean()) for part in parts])
    s = np.array([max(_NARROW, float(part.std())) for part in parts])
    for _ in range(_ROUNDS):
        z = (logs - m[:, None]) / s[:, None]
        p = np.log(w)[:, None] - np.log(s)[:, None] - z * z / 2
        # From the largest down, so that no time is so unlikely that both its chances are 0.
        p = np.exp(p - p.max(axis=0))
        p /= p.sum(axis=0)
        mass = np.maximum(p.sum(axis=1), 1e-9)
        before = m
        w, m = mass / mass.sum(), (p @ logs) / mass
        s = np.maximum(np.sqrt(np.maximum((p @ logs**2) / mass - m**2, 0.0)), _NARROW)
        if np.max(np.abs(before - m)) < 1e-7:
            break
    return np.array([w, m, s])


def _kind(share: float, mean: float, sd: float, n: int) -> Kind:
    mine = max(2.0, share * n)
    half, tail = _Z * sd / math.sqrt(mine), _Z * sd * math.sqrt(1 / mine + Z95**2 / (2 * (mine - 1)))
    if sd <= 2 * _NARROW:
        value = math.exp(mean)
        return Kind(share, Estimate(value, value, value), Estimate(value, value, value))
    upper = mean + Z95 * sd
    return Kind(
        share,
        Estimate(math.exp(mean), math.exp(mean - half), math.exp(mean + half)),
        Estimate(math.exp(upper), math.exp(upper - tail), math.exp(upper + tail)),
    )
