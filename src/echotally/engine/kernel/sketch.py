"""The bins of the quantile sketch: a value's bin, and where a bin begins. ``engine.sketch`` is the same for whole arrays.

Values below 2^8 have bins of their own; above, an octave has 2^7 bins, so that a bin's middle is within 0.4 % of what is
in it (a log-linear histogram).
"""

from __future__ import annotations

import numpy as np

from echotally.engine.codes import YES, ZERO
from echotally.engine.kernel.access import highest_bit
from echotally.engine.kernel.compiled import hot
from echotally.engine.layout import EXACT_LEVELS, LEVEL_BINS, SUB_BINS, SUB_BITS, WAIT_BINS

#: As whole numbers of 64 bits, like everything they meet.
_SUB_BINS: int = np.int64(SUB_BINS)  # type: ignore[assignment]
_LAST_BIN: int = np.int64(WAIT_BINS - 1)  # type: ignore[assignment]
_EXACT_LEVELS: int = np.int64(EXACT_LEVELS)  # type: ignore[assignment]


@hot
def bin_of(value: int) -> int:
    """The bin of a value >= 0."""
    return placed(value)[0]


@hot
def placed(value: int) -> tuple[int, int, int]:
    """The bin of a value >= 0, how far into it the value is, and the bin's octave, 0 where bins are one wide."""
    if value < SUB_BINS:
        return value, ZERO, ZERO
    # Counting octaves from the one in which a bin is one wide; the first, halved, is exact as well.
    octave = highest_bit(value) - SUB_BITS
    b = octave * SUB_BINS + (value >> octave)
    # Far beyond a month: all of that stands in the last bin.
    if b >= WAIT_BINS:
        b = _LAST_BIN
        return b, value - bin_start(b), _LAST_BIN // SUB_BINS - 1
    return b, value & ((YES << octave) - 1), octave


@hot
def bin_start(b: int) -> int:
    """The smallest value in a bin."""
    if b < 2 * SUB_BINS:
        return b
    octave = b // SUB_BINS - 1
    return (_SUB_BINS + b % SUB_BINS) << octave


@hot
def level_bin(level: int) -> int:
    """The bin of a level: exact below EXACT_LEVELS, then as wide as those of ``bin_of``."""
    if level < EXACT_LEVELS:
        return level
    return min(EXACT_LEVELS + bin_of(level) - bin_of(_EXACT_LEVELS), LEVEL_BINS - 1)
