"""Tables for drawing exponential numbers quickly; kernels find them at the head of the world's ``samples``.

Source: Marsaglia and Tsang, "The ziggurat method for generating random variables", J. Stat. Software 5(8),
2000, section 3, for 256 layers and numbers of 53 bits.
"""

from __future__ import annotations

import math
from functools import cache

LAYERS = 256
#: Start of the tail and area of a layer, from the paper.
TAIL, AREA = 7.69711747013104972, 3.949659822581572e-3
_UNIT = 2.0**-53


@cache
def tables() -> tuple[float, ...]:
    """Three times ``LAYERS`` numbers: bounds under which a 53-bit number is taken at once, widths per unit of
    such a number, and heights of the density exp(-x).
    """
    bounds, widths, heights = [0.0] * LAYERS, [0.0] * LAYERS, [0.0] * LAYERS
    edge = inner = TAIL
    base = AREA / math.exp(-edge)
    bounds[0], widths[0], heights[0] = edge / base / _UNIT, base * _UNIT, 1.0
    widths[-1], heights[-1] = edge * _UNIT, math.exp(-edge)
    for layer in range(LAYERS - 2, 0, -1):
        edge = -math.log(AREA / edge + math.exp(-edge))
        bounds[layer + 1] = edge / inner / _UNIT
        inner = edge
        widths[layer], heights[layer] = edge * _UNIT, math.exp(-edge)
    return (*bounds, *widths, *heights)
