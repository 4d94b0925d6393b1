"""Looks at a world between chunks of work: work without end is refused, and Ctrl-C is heard within a moment."""

from __future__ import annotations

import time
from typing import NamedTuple

import numpy as np

from echotally.engine.build import Built
from echotally.engine.codes import QUEUE, STREAM
from echotally.engine.layout import attempts_so_far
from echotally.errors import BadInput, Crowded, Problem, TooLarge

#: Calendar entries between two looks at the clock and the keyboard, at most; fewer where they take long.
_STEPS, _FEWEST_STEPS = 400_000, 1_000
_CHUNK_S = (0.1, 0.4)
#: So many times that many entries at one instant are work without end: a month of 40 million events has fewer.
_MOST_AT_ONCE = 100
#: A month plays so many entries, and so many more for each event that came: minutes of work. A queue whose messages
#: come back every half minute for days stays far below; what needs more is tried over and over at next to no distance.
_ENTRIES, _ENTRIES_AN_EVENT = 2_000_000_000, 200
#: From so many entries on, what the whole month would need is looked at, not only what was played.
_LOOK_AHEAD_FROM = 10_000_000


class Bounds(NamedTuple):
    """What the playing of a month may take before it is refused.

    ``entries``: whether calendar entries out of all proportion to what came are refused; ``attempts``: the most attempts,
    ``waiting``: the most events that wait, the highest numbers of all functions together, and ``throttled``: the most attempts of
    one function that find no room (None: any number of them). An event that waits as a call of its own counts as ``a_call`` others.
    """

    entries: bool = True
    attempts: int | None = None
    waiting: int | None = None
    throttled: int | None = None
    a_call: int = 1

    def hold(self, attempts: int) -> None:
        """Raises ``TooLarge`` where so many attempts are more than may be."""
        if self.attempts is not None and attempts > self.attempts:
            what = f"has more than {self.attempts:,} attempts in a month: what finds no room is tried over and over"
            raise TooLarge(Problem(what, allowed="less demand, or more room for it"))

    def hold_waiting(self, events: int, calls: int) -> None:
        """Raises ``Crowded`` where so many events wait, and so many calls of one event, that they are more than may be.

        Highest numbers of functions add up to the same whichever of them are played together, so that it is raised of the same months.
        """
        if self.waiting is not None and events + self.a_call * calls > self.waiting:
            raise Crowded(Problem(f"more than {self.waiting:,} events wait", allowed="a sample; or more who take them"))

    def hold_throttled(self, throttled: int) -> None:
        """Raises ``Crowded`` where so many attempts of a function found no room that they are more than may be.

        Of one function, so that it is raised of the same months whichever are played together.
        """
        if self.throttled is not None and throttled > self.throttled:
            what = f"more than {self.throttled:,} attempts of a function find no room"
            raise Crowded(Problem(what, allowed="a sample; or more room"))


USUAL = Bounds()


class Watch:
    """Looks at a world between chunks of work: work without end is refused, and a chunk lasts a moment only.

    What is refused is decided by counts, so that every machine decides alike; the clock only sets the size of chunks.
    """

    def __init__(self, built: Built, bounds: Bounds = USUAL) -> None:
        self.built, self.bounds = built, bounds
        self.steps = _STEPS
        self.last = (-1, -1, -1)
        self.began, self.since, self.at_once = time.monotonic(), 0, 0
        triggers = built.world.triggers
        #: Units whose events wait as calls, each of its own.
        self.singly = np.zeros(len(built.world.units), bool)
        self.singly[triggers["unit"][~np.isin(triggers["kind"], (QUEUE, STREAM))]] = True

    def chunk(self) -> int:
        """How many entries to play next: never past the next look, so that looks fall at the same counts everywhere."""
        return min(self.steps, _STEPS - int(self.built.world.clock[0]["steps"]) % _STEPS)

    def grows(self) -> None:
        """More room is asked for. Raises ``Crowded`` where it would be for more waiting events than may be."""
        waiting = self.built.world.units["backlog_peak"]
        self.bounds.hold_waiting(int(waiting[~self.singly].sum()), int(waiting[self.singly].sum()))

    def looks(self) -> None:
        """One more chunk is played. Raises ``BadInput`` where the month would not end, or is not within its bounds."""
        clock = self.built.world.clock[0]
        played = int(clock["steps"])
        self._pace()
        if played % _STEPS:
            return
        found = (int(clock["now"]), int(clock["arrived"]), int(clock["ended"]))
        self.at_once = self.at_once + played - self.since if found[0] == self.last[0] else 0
        stuck = self.at_once >= 2 * _STEPS and found[1:] == self.last[1:]
        if stuck or self.at_once > _MOST_AT_ONCE * _STEPS:
            at = f"{found[0] / 1e9:,.3f} s into the month"
            raise _too_much(f"{self.at_once:,} things happen at one instant, {at}, and it does not end")
        if found[0] != self.last[0] or found[1:] == self.last[1:]:
            self.last = found
        self.since = played
        if self.bounds.attempts is not None:
            self.bounds.hold(attempts_so_far(self.built.world))
        self.bounds.hold_throttled(int(self.built.world.units["throttled"].max()))
        if self.bounds.entries:
            self._within_bounds(found[0], found[1], int(clock["horizon"]), played)

    def _within_bounds(self, now: int, came: int, horizon: int, played: int) -> None:
        over = played > _ENTRIES + _ENTRIES_AN_EVENT * came
        more = horizon / max(1, now)
        ahead = played > _LOOK_AHEAD_FROM and played * more > 2 * (_ENTRIES + _ENTRIES_AN_EVENT * came * more)
        if over or ahead:
            raise _too_much(
                f"{came:,} events are tried so often that {now / max(1, horizon):.2%} of the time took {played:,} steps: "
                f"about {max(played, played * more):,.0f} in all",
                "--exact plays them all; or ",
            )

    def _pace(self) -> None:
        """Chunks of a few tenths of a second, so that Ctrl-C is heard; the size of a chunk changes no answer."""
        now = time.monotonic()
        if now - self.began > _CHUNK_S[1]:
            self.steps = max(_FEWEST_STEPS, self.steps // 2)
        elif now - self.began < _CHUNK_S[0]:
            self.steps = min(_STEPS, self.steps * 2)
        self.began = now


def _too_much(what: str, way_out: str = "") -> BadInput:
    allowed = way_out + "longer waits, pauses, run times or visibility timeouts where work is tried again"
    return BadInput(Problem(what, allowed=allowed))
