"""Plays the parts of a month side by side, a stretch of time at a time, so that their levels can be merged and forgotten."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import FIRST_EXCEPTION, ThreadPoolExecutor, wait
from functools import cached_property
from threading import Event, Lock
from typing import Any

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from echotally.engine import codes
from echotally.engine.apart.splitting import Part
from echotally.engine.build import Built
from echotally.engine.play import begun, finish, flushed, keep_log, play_watched
from echotally.engine.reading import Measured, read_out
from echotally.engine.watch import Bounds, Watch
from echotally.errors import BadInput, Stopped
from echotally.rates.card_loading import Offer

#: Changes of level that are merged at once, and how many more for each part: each stretch costs a part some microseconds.
_AT_ONCE, _FOR_EACH_PART = 250_000, 400
#: Changes an event makes, about: one up, one down, and some are tried again.
_CHANGES = 2.6
#: A part is played in no more pieces than that.
_MOST_STRETCHES = 4_000
#: Tasks a core: enough that none waits long for another.
TASKS = 8


class Player(Struct):
    """A part being played."""

    part: Part
    built: Built
    watch: Watch
    failed: BadInput | None = None

    @classmethod
    def begun(cls, part: Part, placement: Mapping[str, Offer], seed: int, bounds: Bounds, stretches: int = 1) -> Player:
        """The part at its first instant, keeping a log of its levels; ``stretches``: how often that is taken, about."""
        built = begun(part.model, part.arrivals, placement, seed)
        # Room from the beginning for what one stretch brings: a log that is made longer now and then is copied each time.
        keep_log(built, codes.WHOLE_LOG, min(_AT_ONCE, int(_CHANGES * part.expected / stretches)))
        return cls(part, built, Watch(built, bounds))

    def play(self, until_ns: int, tell: Callable[[float], None]) -> None:
        """On to an instant. What may not be played is kept for the end, so that the first part's error is the one told."""
        if self.failed is None:
            try:
                play_watched(self.built, self.watch, until_ns, tell)
                self.built.puts_hours_by()
            except BadInput as error:
                self.failed = error

    def takes_log(self) -> NDArray[np.int64]:
        """What was logged since it was last taken."""
        clock, log = self.built.world.clock[0], self.built.world.log
        found: NDArray[np.int64] = log[: int(clock["log_n"])].copy()
        clock["log_n"] = 0
        return found

    def measured(self) -> Measured:
        """What the part came to, at the month's end."""
        flushed(self.built)
        finish(self.built)
        return read_out(self.part.model, self.built)


def ends_of(parts: Sequence[Part], at_once: int) -> list[int]:
    """Where the month is cut, ns, so that about so many changes of level are merged at once; the last is its end."""
    length, changes = parts[0].arrivals.length_ns, _CHANGES * math.fsum(part.expected for part in parts)
    n = min(_MOST_STRETCHES, max(1, math.ceil(changes / at_once)))
    return [length * k // n for k in range(1, n + 1)]


def ends_here(parts: Sequence[Part]) -> list[int]:
    """As ``ends_of``, of parts that are played on this machine."""
    return ends_of(parts, _AT_ONCE + _FOR_EACH_PART * len(parts))


def dealt(parts: Sequence[Part], tasks: int) -> list[list[int]]:
    """The numbers of parts dealt out by size, so that each of (at most) so many tasks has about as much to do."""
    by_size = sorted(range(len(parts)), key=lambda n: (-parts[n].expected, n))
    tasks = min(len(by_size), tasks)
    return [by_size[k::tasks] for k in range(tasks)]


class Players(Struct, dict=True):
    """All parts, played together on some cores, the month cut at ``ends``."""

    each: list[Player]
    ends: Sequence[int]
    cores: int
    progress: Callable[[float], None] | None = None
    _shares: dict[int, float] = field(default_factory=dict)
    _lock: Lock = field(default_factory=Lock)
    _stop: Event = field(default_factory=Event)

    def stretches(self) -> Iterator[list[NDArray[np.int64]]]:
        """Play the month a stretch at a time, giving each part's log of it; raises ``BadInput`` of the first part it must."""
        if self.cores == 1 or len(self.each) == 1:
            for until_ns in self.ends:
                self._group_plays(range(len(self.each)), until_ns)
                yield self._logs()
            return
        with ThreadPoolExecutor(self.cores) as pool:
            for until_ns in self.ends:
                self._side_by_side(pool, until_ns)
                yield self._logs()

    def _logs(self) -> list[NDArray[np.int64]]:
        for player in self.each:
            if player.failed:
                raise player.failed
        return [player.takes_log() for player in self.each]

    @cached_property
    def _whole(self) -> float:
        return math.fsum(player.part.expected for player in self.each)

    @cached_property
    def _groups(self) -> list[list[int]]:
        return dealt([player.part for player in self.each], TASKS * self.cores)

    def _side_by_side(self, pool: ThreadPoolExecutor, until_ns: int) -> None:
        running = [pool.submit(self._group_plays, group, until_ns) for group in self._groups]
        try:
            wait(running, return_when=FIRST_EXCEPTION)
            for each in running:
                if each.done():
                    each.result()
        except BaseException:
            self._stop.set()
            raise

    def _group_plays(self, group: Sequence[int], until_ns: int) -> None:
        for n in group:
            self.each[n].play(until_ns, lambda share, n=n: self._tell(n, share))  # type: ignore[misc]
            self._tell(n, until_ns / self.each[n].part.arrivals.length_ns)

    def _tell(self, n: int, share: float) -> None:
        if self._stop.is_set():
            raise Stopped("interrupted")
        if self.progress:
            with self._lock:
                weight: Any = self.each[n].part.expected
                self._shares[n] = weight * share
                self.progress(sum(self._shares.values()) / self._whole)
