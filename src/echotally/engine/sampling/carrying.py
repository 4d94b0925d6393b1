"""Carries what lanes hold from segment to segment: a fluid queue with ages, retention applied.

Between two changes of rate a full lane is a fluid queue: events come at one rate and go at the rate at which it is
handled while work always waits (Newell, "Applications of Queueing Theory", 2nd ed. 1982, chapter 2). Work goes in the
order it came, so that the age of what goes now follows from the two cumulative curves. What reaches ``retention`` goes
unhandled. Near the critical rate a fluid says too little: the noise of what comes is drawn on top of it, so that parts
of the sample differ as months would (reflected Brownian motion: Harrison, "Brownian Motion", 1985, chapter 2).
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

from msgspec import Struct, field

from echotally.engine.sampling.lanes import Lane

_NS_H = 3_600 * 10**9
#: Steps of a lane that holds work, the shortest and the longest: ages are straight lines in between, and what is old
#: changes slowly.
_SHORTEST_NS, _LONGEST_NS, _OF_AGE = 300 * 10**9, 3_600 * 10**9, 0.05


class Lot(Struct):
    """What a step of a full lane handed on: so many events between two ages (ns), so many expired, for so long."""

    at_ns: int
    lasted_ns: int
    gone: float
    expired: float
    age_low: float
    age_high: float
    held: float


class Carried(Struct):
    """One lane's backlog: the cumulative curve of what came since it has been full, and how much of that is gone."""

    lane: Lane
    times: list[float] = field(default_factory=list)
    came: list[float] = field(default_factory=list)
    gone: float = 0.0
    lots: list[Lot] = field(default_factory=list)

    @property
    def held(self) -> float:
        """Events there now."""
        return self.came[-1] - self.gone if self.came else 0.0

    def step_ns(self, now_ns: int) -> int:
        """How long the next step may be."""
        return int(min(_LONGEST_NS, max(_SHORTEST_NS, _OF_AGE * self._age(float(now_ns)))))

    def begins(self, at_ns: float, held: float = 0.0, ages: Sequence[float] = ()) -> None:
        """Full from now on, with ``held`` events of the ages given as quantiles, oldest first (left out: all came now)."""
        steps = max(1, len(ages) - 1)
        self.times = [at_ns - age for age in ages] or [at_ns]
        self.came = [held * n / steps for n in range(len(self.times))] if ages else [0.0]
        self.times.append(at_ns)
        self.came.append(held)
        self.gone = 0.0

    def moves(self, at_ns: int, lasts_ns: int, come: float, gone: float) -> Lot:
        """Let ``come`` events come and up to ``gone`` go in order, in the step from ``at_ns`` on."""
        end = float(at_ns + lasts_ns)
        age_low = self._age(float(at_ns))
        self.times.append(end)
        self.came.append(self.came[-1] + come)
        handled = min(gone, self.came[-1] - self.gone)
        self.gone += handled
        too_old = self._came_by(end - self.lane.retention_ns)
        expired = max(0.0, too_old - self.gone)
        self.gone += expired
        lot = Lot(at_ns, lasts_ns, handled, expired, age_low, self._age(end), self.held)
        self.lots.append(lot)
        self._forget()
        return lot

    def _came_by(self, at: float) -> float:
        """How many had come by an instant; curves are straight between their points."""
        if at <= self.times[0]:
            return self.came[0] if at == self.times[0] else 0.0
        k = bisect_right(self.times, at)
        if k == len(self.times):
            return self.came[-1]
        share = (at - self.times[k - 1]) / (self.times[k] - self.times[k - 1])
        return self.came[k - 1] + share * (self.came[k] - self.came[k - 1])

    def _age(self, now: float) -> float:
        """How long ago what goes now came."""
        if self.held <= 0:
            return 0.0
        k = min(max(bisect_right(self.came, self.gone), 1), len(self.came) - 1)
        low, high = self.came[k - 1], self.came[k]
        share = (self.gone - low) / (high - low) if high > low else 1.0
        return max(0.0, now - (self.times[k - 1] + share * (self.times[k] - self.times[k - 1])))

    def _forget(self) -> None:
        """Leave out the part of the curve that is gone, so that a month of steps stays short."""
        k = bisect_right(self.came, self.gone) - 2
        if k > 64:
            del self.times[:k], self.came[:k]

    def empties(self) -> None:
        """Nothing is left over."""
        self.times, self.came, self.gone = [], [], 0.0
