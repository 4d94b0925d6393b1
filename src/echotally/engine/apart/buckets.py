"""Start tokens that an account's parts share: whether its bucket ever lacked one, and whether it would have with some more starts."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.rates.card import Plan

Times = NDArray[np.int64]
#: A bucket is followed in floating point, so a start needs a little more than a token for it to be certain.
_A_TOKEN = 1.001


class Bucket(Struct):
    """A bucket of start tokens, followed over the month; ``ramp`` in tokens a ns."""

    burst: float
    ramp: float
    left: float
    since_ns: int = 0

    @classmethod
    def of(cls, unit: Any) -> Bucket:
        """The full bucket that a unit's record describes."""
        burst = int(unit["burst_units"]) / int(unit["token_cost"])
        return cls(burst, int(unit["ramp_units"]) / int(unit["token_cost"]), burst)

    @classmethod
    def of_plan(cls, plan: Plan) -> Bucket | None:
        """The full bucket of a plan; None where starts are not limited."""
        if plan.scaling.burst is None or plan.scaling.ramp is None:
            return None
        tokens, ns = plan.scaling.ramp
        return cls(plan.scaling.burst, tokens / ns, plan.scaling.burst)

    def enough_for(self, times: Times) -> bool:
        """Take a token at each of these times; whether there was one each time."""
        return not len(times) or bool((self._take(np.sort(times)) >= _A_TOKEN).all())

    def _take(self, times: Times) -> NDArray[Any]:
        """The tokens there are before each of the starts, in the order of time."""
        came = (times - self.since_ns) * self.ramp
        taken = np.arange(len(times))
        # Full at start i, it would hold burst + came_j - came_i - (j - i) before start j: the least of them, and of what is left.
        least = np.minimum(self.left, np.minimum.accumulate(self.burst - came + taken))
        before: NDArray[Any] = came - taken + least
        self.left, self.since_ns = float(before[-1] - 1), int(times[-1])
        return before


class Followed(Struct, frozen=True, dict=True):
    """A full bucket and all starts of a month: when they came, in order, in ns, and how many tokens there were before each."""

    bucket: Bucket
    times: Times
    there: NDArray[np.float64]

    @classmethod
    def over(cls, bucket: Bucket, times: Times) -> Followed:
        """Of starts in any order; the bucket is left as it is."""
        ordered = np.sort(times)
        there = replace(bucket)._take(ordered) if len(ordered) else np.zeros(0)
        return cls(bucket, ordered, there)

    @cached_property
    def least(self) -> float:
        """The fewest tokens that a start found."""
        return float(self.there.min(initial=self.bucket.burst))

    @property
    def had_enough(self) -> bool:
        """Whether there was a token for each start."""
        return self.least >= _A_TOKEN

    def has_room_for(self, times: Times) -> bool:
        """Whether these starts, on top of all others, would find a token each and leave one for each of the others.

        What starts on top lack is worked off by what else would run over, as work of the lower of two priorities is by the
        time that the higher one leaves idle: so only their own instants are looked at, whatever the number of the others.
        """
        own = np.sort(times)
        if not len(own):
            return self.had_enough
        n = np.searchsorted(self.times, own, side="right")
        level, over = self._at(own, n)
        numbers = np.arange(len(own))
        # Lindley's recursion: one token more is lacking after each, less what ran over since, never below what it took itself.
        lacking = numbers + 1 - over + np.maximum.accumulate(over - numbers)
        if (level - lacking < _A_TOKEN - 1).any():
            return False
        # Mostly all of them together are fewer than what was ever left.
        sure = not len(self.there) or lacking.max() <= self.least - _A_TOKEN
        return bool(sure) or all(self._leaves_enough(n, lacking, over))

    def _at(self, own: Times, n: NDArray[np.intp]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The tokens there are at some instants after the first ``n`` starts, and how many have run over by then."""
        burst, ramp = self.bucket.burst, self.bucket.ramp
        level = np.full(len(own), float(burst))
        some, last = n > 0, n[n > 0] - 1
        level[some] = np.minimum(burst, self.there[last] - 1 + (own[some] - self.times[last]) * ramp)
        # What came and is neither there nor taken.
        return level, burst + own * ramp - n - level

    def _leaves_enough(
        self, n: NDArray[np.intp], lacking: NDArray[np.float64], over: NDArray[np.float64]
    ) -> Iterator[bool]:
        """Between each of the starts on top and the next: whether the others still find their tokens."""
        burst, ramp = self.bucket.burst, self.bucket.ramp
        places = np.minimum(n, len(self.there) - 1)
        least = np.minimum.reduceat(self.there, places)
        for m in np.flatnonzero(least - lacking < _A_TOKEN).tolist():
            some = slice(n[m], n[m + 1] if m + 1 < len(n) else None)
            there = self.there[some]
            ran_over = burst + self.times[some] * ramp - np.arange(n[m], n[m] + len(there)) - there - over[m]
            yield bool((there - np.maximum(0.0, lacking[m] - ran_over) >= _A_TOKEN).all())
