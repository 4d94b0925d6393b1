"""Runs of hours that hand on what was sent away for lack of room, each hour played after what came before it.

Such work is tried again until it is given up (rule 4.3), and then it is forgotten: an hour depends on those before it no further
back than that, so that hours with the same past stand for each other, and of a month whose work never clears a day or two is played.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Mapping, Sequence

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from echotally.demand.month import Tap
from echotally.engine.sampling.hours import play_hours
from echotally.engine.sampling.played import Course, Hours, Mode
from echotally.engine.sampling.player import Player
from echotally.engine.sampling.strata import PARTS, Cut
from echotally.model.estate import Model
from echotally.rates.card_loading import Offer

#: Those who came first found nobody before them, and left those after them too much room: it takes so many times until that is
#: over (a topic that gets 1.7 times what is handled loses 30 % less than it will after 6 h, 15 % less after 12, 1 % after 18).
_TIMES = 3

#: So many attempts in hours alike tell as much as more of them.
_ENOUGH = 2_000_000
#: For a day a world goes on with what waits in its queues.
_PATIENT_NS = 24 * 3_600 * 10**9
#: One in so many of those alike is read by one of the parts, at the most.
_SHARE = 4

#: So many standard deviations of what came in a minute are chance, among hundreds of lanes and hours.
_CHANCE = 4.0

#: Of pasts of more segments each is one of its own.
_LONGEST = 500

#: A past by how many segments it has and its number among those, whether that is all of its run, and which lanes are full.
_Key = tuple[int, int, bool, Mode]


def remembered_ns(model: Model, placement: Mapping[str, Offer]) -> int:
    """How far back an hour depends on those before it, where pushed calls find no room."""
    longest = 0
    for trigger in model.triggers:
        if trigger.from_.kind.traits.pushed:
            plan, function = placement[trigger.to].plan, model.functions[trigger.to]
            tried = plan.push.give_up + sum(plan.push.retry_waits) + plan.push.longest_wait + function.timeout
            longest = max(longest, tried)
    return _TIMES * longest


class Past:
    """What came before each segment of a month, as far back as it matters: which pasts are the same, and how often each comes."""

    def __init__(self, cut: Cut, reaches_ns: int) -> None:
        self.cut, self.reaches_ns = cut, reaches_ns
        self._starts = [s.start_ns for s in cut.segments]
        numbers: dict[object, int] = {}
        alike = [numbers.setdefault((s.group, s.kind, s.end_ns - s.start_ns), len(numbers)) for s in cut.segments]
        self._alike = np.array(alike, np.int64)
        # By how many segments a past has: the number of the one that begins with each segment.
        self._numbered = [np.zeros(len(alike) + 1, np.int64)]

    def first(self, at: int, began: int) -> int:
        """The first segment that matters for segment ``at`` of a run that began with segment ``began``."""
        return max(began, bisect_left(self._starts, self._starts[at] - self.reaches_ns))

    def of(self, at: int, began: int, full: Mode) -> _Key:
        """What tells a segment's past from another's."""
        first = self.first(at, began)
        long = at + 1 - first
        return long, first if long > _LONGEST else int(self._pasts(long)[first]), first == began, full

    def times(self, at: int, began: int) -> int:
        """How often the same past comes in the month."""
        first = self.first(at, began)
        # What comes before a run is what makes it begin there.
        from_before = first - 1 if first == began else first
        long = at + 1 - from_before
        if from_before < 0 or long > _LONGEST:
            return 1
        numbers = self._pasts(long)
        return int(np.count_nonzero(numbers == numbers[from_before]))

    def _pasts(self, long: int) -> NDArray[np.int64]:
        """Numbers of what follows on each other, so many segments from each on: made of those of one less."""
        while len(self._numbered) <= long:
            segments = len(self._numbered)
            last = self._alike[segments - 1 :]
            pairs = self._numbered[-1][: len(last)] * len(self._alike) + last
            self._numbered.append(np.unique(pairs, return_inverse=True)[1])
        return self._numbered[long]


class Runs(Struct):
    """One part's hours of runs: of a past that it has seen often enough it takes what it has played."""

    player: Player
    past: Past
    part: int
    whole: list[Tap]
    #: How many hours of each kind are played.
    each: list[int]
    flagged: set[int]
    known: dict[_Key, list[Hours]] = field(default_factory=dict)
    turns: Counter[_Key] = field(default_factory=Counter)
    #: What has been played of segments to come.
    ahead: dict[int, Hours] = field(default_factory=dict)
    #: The hours behind those known, in the same world, with their past.
    behind: dict[int, tuple[_Key, Hours]] = field(default_factory=dict)
    #: The hours that were taken last, and the segment behind them.
    last: tuple[Hours, int] | None = None

    def hours(self, at: int, began: int, held: Mapping[int, float]) -> Hours:
        """Segment ``at`` of the run that began with segment ``began``, and maybe some that follow it; ``held`` is left over in lanes."""
        full = frozenset(held)
        found = self.going_on(at, began) or self._like_it(at, began, held) or self._played(at, began, full, held)
        self.ahead.pop(at, None)
        self.last = found, at + found.segments
        return found

    def going_on(self, at: int, began: int) -> Hours | None:
        """Segment ``at`` as the world went on of which the hours before it are, with all that was left over there."""
        if at in self.ahead:
            return self.ahead[at]
        if at > began and self.last and self.last[1] == at and id(self.last[0]) in self.behind:
            past, hours = self.behind[id(self.last[0])]
            return hours if past == self.past.of(at, began, hours.full) else None
        return None

    def _like_it(self, at: int, began: int, held: Mapping[int, float]) -> Hours | None:
        """Hours with the same past, in turn, where there are enough of them."""
        key = self.past.of(at, began, frozenset(held))
        known = [hours for hours in self.known.get(key, []) if hours.may_be_with(held)]
        if not self.is_enough(at, began, known):
            return None
        self.turns[key] += 1
        return known[(self.turns[key] - 1) % len(known)]

    def _played(self, at: int, began: int, full: Mode, held: Mapping[int, float]) -> Hours:
        course = _OfRun(at, self.past.first(at, began), full, held, self, began)
        number, before = at, None
        for hours in play_hours(self.player, self.past.cut, course, self.part, self.whole):
            self.ahead[number] = hours
            key, after = self.past.of(number, began, full), number + hours.segments
            if before:
                self.behind[id(before)] = key, hours
            # What waits in a queue may have come there long before.
            if self.past.times(number, began) > 1 and not (hours.found > self.much(hours, number)).any():
                self.known.setdefault(key, []).append(hours)
            number, before = after, hours
        return self.ahead[at]

    def hands_on(self, after: int, away: bool) -> bool:
        """Whether the work before segment ``after`` goes on in it; ``away``: something sent away is left over."""
        segments = self.past.cut.segments
        return after < len(segments) and (away or segments[after].group in self.flagged)

    def much(self, hours: Hours, at: int) -> NDArray[np.float64]:
        """More than so much in a lane, in hours from segment ``at`` on, is neither what waits for its batch nor came in a minute."""
        lanes, segments = self.player.lanes, self.past.cut.segments
        lasted = segments[at + hours.segments - 1].end_ns - segments[at].start_ns
        coming = hours.come / lasted * (lanes.filling_ns + 60e9)
        usual = 2 * lanes.batch + 2 * coming
        # Of hundreds of lanes some always holds a few more, by chance; not where it has hardly let go of anything.
        found: NDArray[np.float64] = np.where(2 * hours.held > hours.come, usual, usual + 2 + _CHANCE * coming**0.5)
        return found

    def is_enough(self, at: int, began: int, known: Sequence[Hours]) -> bool:
        """Whether so many hours like segment ``at`` stand for all others."""
        steady = self.past.cut.segments[at].kind is None
        return len(known) >= self._many(at, began) or (steady and sum(map(_attempts, known)) >= _ENOUGH)

    def _many(self, at: int, began: int) -> int:
        """How many hours like a segment are played, before they stand for each other."""
        cut, few = self.past.cut, self.past.times(at, began) // (_SHARE * PARTS)
        segment = cut.segments[at]
        if segment.kind is not None:
            # Of few each part has its own.
            members = cut.kinds[segment.kind]
            return len(members) if len(members) < PARTS else max(1, min(few, self.each[segment.kind]))
        assert segment.group is not None
        return max(1, min(few, cut.groups[segment.group].part_ns // (segment.end_ns - segment.start_ns)))


def _attempts(hours: Hours) -> float:
    counts = hours.span.unit
    return float((counts.started + counts.throttled).sum())


class _OfRun(Course, frozen=True):
    """On as long as work is handed on, to an hour that has been played often enough."""

    runs: Runs
    began: int

    def goes_on(self, after: int, away: bool) -> bool:
        """As ``Course.goes_on``."""
        return self.runs.hands_on(after, away)

    def is_known(self, after: int, found: Sequence[Hours], crowded: bool) -> bool:
        """As ``Course.is_known``."""
        if crowded or not self.is_apart(after):
            return crowded
        now, segments = found[-1], self.runs.past.cut.segments
        # Lanes that hold less and less are full no longer than they are.
        if any(now.gone[lane] > now.come[lane] for lane in self.full):
            return True
        # What waits in others mostly does not for long, and rises and falls with the hours; what then still waits is carried on.
        if (now.held > self.runs.much(now, after - now.segments)).any():
            return segments[after].start_ns - segments[self.number].start_ns >= _PATIENT_NS
        key, number = self._key(after), self.number
        known = [*self.runs.known.get(key, ())]
        for hours in found:
            if self._key(number) == key and not (hours.found > self.runs.much(hours, number)).any():
                known.append(hours)
            number += hours.segments
        return self.runs.is_enough(after, self.began, known)

    def is_apart(self, segment: int) -> bool:
        """As ``Course.is_apart``: where it stands for others."""
        return bool(self.full) or self.runs.past.times(segment, self.began) > 1

    def _key(self, segment: int) -> _Key:
        return self.runs.past.of(segment, self.began, self.full)
