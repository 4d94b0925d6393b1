"""Random numbers inside kernels: one SplitMix64 stream per purpose, quantile functions on top.

SplitMix64: Steele, Lea and Flood, "Fast splittable pseudorandom number generators", OOPSLA 2014.
Normal quantile: Wichura, "Algorithm AS 241", Applied Statistics 37 (1988), PPND16, relative error 1e-16.
Exponential: the ziggurat of ``echotally.engine.ziggurat``.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from echotally.engine.kernel.access import World, edge_at, portion_at, random_at, sample_at
from echotally.engine.kernel.compiled import hot, kernel, wrapping
from echotally.engine.ziggurat import LAYERS, TAIL
from echotally.model.spread import CONSTANT, EXPONENTIAL, LOGNORMAL, MIX

_GOLDEN: Any = np.uint64(0x9E3779B97F4A7C15)
_MIX1 = np.uint64(0xBF58476D1CE4E5B9)
_MIX2 = np.uint64(0x94D049BB133111EB)
_S30, _S27, _S31, _S11 = np.uint64(30), np.uint64(27), np.uint64(31), np.uint64(11)
_UNIT = 2.0**-53
#: 2^60 ns are 36 years, longer than any timeout; a cast of more would be undefined.
_LONGEST = 2.0**60
_LOW = np.uint64(LAYERS - 1)
_WIDTHS: int = np.int64(LAYERS)  # type: ignore[assignment]
_HEIGHTS: int = np.int64(2 * LAYERS)  # type: ignore[assignment]

#: AS 241: coefficients of the rational functions near the middle, near the ends and far out, highest power first.
_MIDDLE_UP = (
    2509.0809287301226727,
    33430.575583588128105,
    67265.770927008700853,
    45921.953931549871457,
    13731.693765509461125,
    1971.5909503065514427,
    133.14166789178437745,
    3.387132872796366608,
)
_MIDDLE_DOWN = (
    5226.495278852545925,
    28729.085735721942674,
    39307.89580009271061,
    21213.794301586595867,
    5394.1960214247511077,
    687.1870074920579083,
    42.313330701600911252,
    1.0,
)
_NEAR_UP = (
    7.7454501427834140764e-4,
    0.0227238449892691845833,
    0.24178072517745061177,
    1.27045825245236838258,
    3.64784832476320460504,
    5.7694972214606914055,
    4.6303378461565452959,
    1.42343711074968357734,
)
_NEAR_DOWN = (
    1.05075007164441684324e-9,
    5.475938084995344946e-4,
    0.0151986665636164571966,
    0.14810397642748007459,
    0.68976733498510000455,
    1.6763848301838038494,
    2.05319162663775882187,
    1.0,
)
_FAR_UP = (
    2.01033439929228813265e-7,
    2.71155556874348757815e-5,
    0.0012426609473880784386,
    0.026532189526576123093,
    0.29656057182850489123,
    1.7848265399172913358,
    5.4637849111641143699,
    6.6579046435011037772,
)
_FAR_DOWN = (
    2.04426310338993978564e-15,
    1.4215117583164458887e-7,
    1.8463183175100546818e-5,
    7.868691311456132591e-4,
    0.0148753612908506148525,
    0.13692988092273580531,
    0.59983220655588793769,
    1.0,
)


@hot
@wrapping
def mixed(z: Any) -> Any:
    """A 64-bit finalizer: every bit of the input moves every bit of the output."""
    z = (z ^ (z >> _S30)) * _MIX1
    z = (z ^ (z >> _S27)) * _MIX2
    return z ^ (z >> _S31)


@hot
@wrapping
def uniform(w: World, stream: int) -> float:
    """The next number of a stream, in the open interval (0, 1)."""
    state = random_at(w, stream)
    # The middle of one of 2^53 equal parts: never 0 and never 1, whose logarithms have no value.
    z = state.v + _GOLDEN
    state.v = z
    return (np.float64(mixed(z) >> _S11) + 0.5) * _UNIT


@hot
@wrapping
def exponential(w: World, stream: int) -> float:
    """An exponential number of mean 1."""
    while True:
        state = random_at(w, stream)
        state.v += _GOLDEN
        bits = mixed(state.v)
        layer = truncated(bits & _LOW)
        bits >>= _S11
        x = np.float64(bits) * sample_at(w, _WIDTHS + layer).v
        # Inside the layer's rectangle, as nearly all draws are.
        if np.float64(bits) < sample_at(w, layer).v:
            return x
        # The tail is an exponential again, further out.
        if layer == 0:
            return TAIL - math.log(uniform(w, stream))
        height = sample_at(w, _HEIGHTS + layer).v
        if height + uniform(w, stream) * (sample_at(w, _HEIGHTS + layer - 1).v - height) < math.exp(-x):
            return x


@kernel
@wrapping
def hashed(w: World, stream: int, number: int) -> float:
    """A number in (0, 1) that belongs to (stream, number) and moves no stream."""
    z = random_at(w, stream).v ^ mixed(np.uint64(number) * _GOLDEN + _GOLDEN)
    return (np.float64(mixed(z) >> _S11) + 0.5) * _UNIT


@hot
def _polynomial(x: float, c: tuple[float, ...]) -> float:
    """By Horner's rule, degree 7: written out, so that every platform rounds in the same places."""
    return ((((((c[0] * x + c[1]) * x + c[2]) * x + c[3]) * x + c[4]) * x + c[5]) * x + c[6]) * x + c[7]


@kernel
def normal_quantile(p: float) -> float:
    """z with P(Z <= z) = p for the standard normal Z (AS 241, PPND16)."""
    q = p - 0.5
    if abs(q) <= 0.425:
        r = 0.180625 - q * q
        return q * _polynomial(r, _MIDDLE_UP) / _polynomial(r, _MIDDLE_DOWN)
    # Towards either end the tail's own logarithm is what the approximation is in.
    r = p if q < 0 else 1.0 - p
    r = math.sqrt(-math.log(r))
    if r <= 5.0:
        r -= 1.6
        up, down = _polynomial(r, _NEAR_UP), _polynomial(r, _NEAR_DOWN)
    else:
        r -= 5.0
        up, down = _polynomial(r, _FAR_UP), _polynomial(r, _FAR_DOWN)
    return -up / down if q < 0 else up / down


@hot
def whole(value: float) -> int:
    """A drawn time or size as a whole number: rounded, and so small that sums with it stay inside an int64.

    What is no number (infinity times nothing) counts as the longest: every cast of a float goes through here.
    """
    if not value < _LONGEST:
        return truncated(_LONGEST)
    return truncated(max(value, 0.0) + 0.5)


@hot
def truncated(value: float) -> int:
    """A float cut to a whole number. Only for what cannot be beyond the month."""
    return np.int64(value)  # type: ignore[return-value]


class Law(NamedTuple):
    """A spread as a record holds it (see ``echotally.model.spread``): handed on as one thing, which costs machine code nothing."""

    kind: int
    scale: float  # ns or bytes
    sigma: float  # standard deviation of the logarithm
    first: int  # where its samples, or the parts of a mixture, begin
    n: int  # how many there are


@hot
def _quantile(w: World, u: float, law: Law) -> float:
    if law.kind == LOGNORMAL:
        return law.scale * math.exp(law.sigma * normal_quantile(u))
    return sample_at(w, law.first + min(law.n - 1, truncated(u * law.n))).v


@kernel
def _portion(w: World, u: float, first: int, n: int) -> Law:
    """The part of a mixture that a number in (0, 1) stands for."""
    k = first
    while k < first + n - 1 and u >= portion_at(w, k).upto:
        k += 1
    part = portion_at(w, k)
    return Law(part.kind, part.scale, part.sigma, part.first, part.n)


@kernel
def _of_mixture(w: World, stream: int, mixture: Law) -> float:
    """One number draws the kind, another the value (rule 7.76)."""
    law = _portion(w, uniform(w, stream), mixture.first, mixture.n)
    if law.kind == CONSTANT:
        return law.scale
    if law.kind == EXPONENTIAL:
        return law.scale * exponential(w, stream)
    return _quantile(w, uniform(w, stream), law)


@hot
def size_along(w: World, x: int, stream: int) -> int:
    """The size, bytes, of an event that goes along edge ``x``."""
    edge = edge_at(w, x)
    law = Law(edge.payload_kind, edge.payload_scale, edge.payload_sigma, edge.payload_from, edge.payload_n)
    return whole(draw(w, stream, law))


@hot
def many_along(w: World, x: int, stream: int, n: int) -> int:
    """How many events ``n`` handled ones send along edge ``x``: the whole part of each for certain, the fraction by lot.

    An event at a time, so that the sum's spread is that of single lots.
    """
    edge = edge_at(w, x)
    out = n * edge.whole
    if edge.fraction > 0.0:
        for _ in range(n):
            if uniform(w, stream) < edge.fraction:
                out += 1
    return out


@kernel
def draw_for(w: World, stream: int, number: int, law: Law) -> float:
    """The value of a spread that belongs to an event: the same however often it is asked for (rule 8.7).

    ``stream`` is the first of two that are never moved on: one for the kind of a mixture, one for the value.
    """
    if law.kind == MIX:
        law = _portion(w, hashed(w, stream, number), law.first, law.n)
    if law.kind == CONSTANT:
        return law.scale
    u = hashed(w, stream + 1, number)
    if law.kind == EXPONENTIAL:
        # The quantile of 1 - u, which is as good a number and never 0.
        return -law.scale * math.log(u)
    return _quantile(w, u, law)


@hot
def draw(w: World, stream: int, law: Law) -> float:
    """One value of a spread: ns or bytes, as a float."""
    if law.kind == CONSTANT:
        return law.scale
    if law.kind == EXPONENTIAL:
        return law.scale * exponential(w, stream)
    if law.kind == MIX:
        return _of_mixture(w, stream, law)
    # The quantile function of one uniform number: same number, same place in the spread, whatever the spread.
    return _quantile(w, uniform(w, stream), law)
