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


class Bin:
    """A bin of a sketch: count and sum stand side by side, since of hundreds of functions neither is near, and one brings the other."""

    n: int  # how many are in it
    into: int  # how far into it they are, in 2^24ths of a wide bin, together


class Seen:
    """What is to be put into a bin (``kernel.waits``)."""

    place: int  # which bin
    n: int  # how many more are in it
    into: int  # how far into it they are, together


class Real:
    """A number."""

    v: float  # the number


class Random:
    """The state of a random stream."""

    v: Bits  # 64 bits, moved on by each draw
