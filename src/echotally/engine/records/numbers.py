"""Records of a single number, for arrays of them, and the kind of number that random streams have."""

from __future__ import annotations

from typing import NewType

#: A state of a random stream, which wraps around at 64 bits.
Bits = NewType("Bits", int)
#: A place, a count of what is in memory, or a state: half as wide as other numbers, where there are very many records.
Small = int


class Whole:
    """A whole number."""

    v: int  # the number


class Real:
    """A number."""

    v: float  # the number


class Random:
    """The state of a random stream."""

    v: Bits  # 64 bits, moved on by each draw
