"""Chance from the streams the engine uses, in plain integers: every attempt can then be compared, not only sums."""

from __future__ import annotations

_MASK = 2**64 - 1
_GOLDEN = 0x9E3779B97F4A7C15


def _mixed(z):
    z = ((z ^ (z >> 30)) * 0xBF58476D1CE4E5B9) & _MASK
    z = ((z ^ (z >> 27)) * 0x94D049BB133111EB) & _MASK
    return z ^ (z >> 31)


class Stream:
    """SplitMix64 (Steele, Lea and Flood 2014) in plain integers."""

    def __init__(self, seed):
        self.state = seed

    def uniform(self):
        self.state = (self.state + _GOLDEN) & _MASK
        return ((_mixed(self.state) >> 11) + 0.5) * 2.0**-53

    def hashed(self, number):
        z = self.state ^ _mixed((number * _GOLDEN + _GOLDEN) & _MASK)
        return ((_mixed(z) >> 11) + 0.5) * 2.0**-53
