"""Plays stretches of a month: steady ones of a group, with some lanes kept full or none, and hours as they are."""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from copy import copy
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from echotally.demand.happenings import QUIET, Happenings
from echotally.demand.month import Arrivals, MonthPlan, Tap
from echotally.engine.build import Built, Site, stream_seed
from echotally.engine.layout import attempts_so_far, events_so_far
from echotally.engine.play import begun_on, play
from echotally.engine.sampling.expecting import SAMPLED_FROM
from echotally.engine.sampling.lanes import (
    KeptFull,
    Lanes,
    LaneState,
    ages_in,
    oldest_throttled_ns,
    ran_dry,
    unfinished_outside,
)
from echotally.engine.sampling.played import EMPTY, Course, Flow, Hours, Mode, Stretch
from echotally.engine.sampling.strata import PARTS, Cut, Group, clipped, expected_in, steady
from echotally.engine.sampling.ticking import whole_minutes
from echotally.engine.sampling.totals import Reading, Span, forgotten
from echotally.engine.watch import USUAL
from echotally.errors import Problem, TooLarge
from echotally.model.estate import Model
from echotally.model.sources import SourceRef
from echotally.rates.card_loading import Offer

#: Work sent away and still there after so long, and after two of a plan's longest pauses, does not clear by itself.
_LONG_AWAY_NS = 300 * 10**9
#: How often a warming world is looked at for lanes that fill, at the least, and about how many events come between two looks.
_LOOKS, _BETWEEN = 4, 100_000
#: Events that full lanes hand on in a stretch, about.
_FULL_EVENTS = 400_000
#: The same of lanes that empty so fast that a stretch with them full would take millions.
_HASTY_EVENTS = 100_000
#: Events laid into a lane at first, so many that a shorter stretch tells as much, and at most.
_LAID_FIRST, _LAID_MUCH, _LAID_MOST = 20_000, 500_000, 4_000_000
#: A lane that hands on so many times what comes, and as many events as no batch holds back, is none that fills.
_SURELY, _LAID_LEAST = 3.0, 1_000

#: Where more than so many events wait in all lanes, hours stop to go on in one world: what waits in it is carried on without it.
_CROWD = 500_000

#: For so long after an hour that is played as it is its schedules fire on, at first.
_FOLLOWING_NS = 6 * 3_600 * 10**9
#: What is foreseen must be so many times too much: parts differ a little.
_FORESEEN = 1.1
#: What is left of fewer events is not looked at more closely.
_FEW = 10


class _Instant(NamedTuple):
    """What a world had counted up to an instant, and what its lanes held; its peaks are counted anew from there."""

    reading: Reading
    lanes: LaneState

    @classmethod
    def of(cls, built: Built, lanes: Lanes, first: bool = False) -> _Instant:
        """Take down what there is now; what its sketches hold is forgotten with the ``first``."""
        return cls(forgotten(built, unread=first), LaneState(built, lanes))


class Dearer(Exception):
    """A sample would play more than the month itself."""


class Player:
    """Plays and counts; what a sample plays beyond ``most`` events, or beyond its bounds, is refused.

    ``foreseen`` is how many the last play was expected to have. ``stubborn``: also where the month itself is sooner played, of which ``Dearer`` tells else.
    """

    def __init__(
        self,
        model: Model,
        month: MonthPlan,
        placement: Mapping[str, Offer],
        seed: int,
        expected: float,
        tell: Callable[[], None],
    ) -> None:
        queues = {name: queue.model_copy(update={"backlog": 0}) for name, queue in model.queues.items()}
        self.model = model.model_copy(update={"queues": queues})
        self.month, self.placement, self.seed, self.expected, self.tell = month, placement, seed, expected, tell
        self.played, self.played_on, self.stubborn, self.most = 0, 0, True, SAMPLED_FROM
        self.in_hours = self.foreseen = 0
        self.tried, self.bounds = 0, USUAL
        # Every world of a sample stands on it.
        self.site = Site(self.model, placement)
        self.first = self._begin(_lasting((), month.length_ns), "layout")
        self.lanes = Lanes(self.first)
        self.rates: dict[int, float] = {}
        self.seen_full: set[int] = set()
        # How long what each source starts may run.
        self._timeouts: dict[SourceRef, int] = {}
        for trigger in model.triggers:
            timeout = model.functions[trigger.to].timeout
            self._timeouts[trigger.from_] = max(timeout, self._timeouts.get(trigger.from_, 0))

    def beside(self, tell: Callable[[], None]) -> Player:
        """Another one of the same month, that has played nothing: this one ``takes`` what it counts."""
        found = copy(self)
        found.rates, found.seen_full, found.tell = dict(self.rates), set(self.seen_full), tell
        found.played = found.played_on = found.in_hours = found.tried = found.foreseen = 0
        return found

    def takes(self, other: Player) -> None:
        """Count what another has played beside this one, as if this one had. Raises as playing it would have."""
        self._may_play(other.foreseen)
        self.played, self.played_on = self.played + other.played, self.played_on + other.played_on
        self.in_hours, self.tried = self.in_hours + other.in_hours, self.tried + other.tried
        for lane, rate in other.rates.items():
            self.rates[lane] = max(self.rates.get(lane, 0.0), rate)
        self._refuse(self.played)
        self.bounds.hold(self.tried)

    def _begin(self, plan: Arrivals, label: str) -> Built:
        return begun_on(self.site, self.model, plan, stream_seed(self.seed, label))

    def whole_month(self, taps: Sequence[Tap]) -> Span:
        """Some taps over the whole month, apart from the rest."""
        built = self._begin(Arrivals(tuple(taps), self.month.length_ns, self.month.happenings), "schedules")
        before = Reading.of(built)
        play(built, None, self._heard)
        after = Reading.of(built)
        self._count(built)
        return after.since(before)

    def stretch(self, cut: Cut, number: int, full: Mode, patient: bool = False, shorter: int = 1) -> Stretch:
        """A group's stretch with the lanes ``full`` kept full: warmed up, then read part by part.

        It is cut short where a lane fills quickly or work sent away does not clear, unless ``patient``; its parts are so many times ``shorter`` than a group's.
        """
        group, warm = cut.groups[number], cut.warm_ns
        part = self._part_ns(-(-group.part_ns // shorter), warm, full)
        label = f"group {number}" + "".join(f" {lane}" for lane in sorted(full))
        laid = self._guessed(full, max(warm, part))
        rate = cut.events_a_ns(group)
        look_ns = _BETWEEN / rate if rate else math.inf
        while True:
            if cut.ticking:
                warm, part = self._whole_minutes(warm, part, full)
            kept = self._laid_out(cut, group, warm + part * PARTS, label, laid)
            found = self._read_parts(kept, warm, part, full, None if patient else look_ns)
            dry = self._dry(kept.built, full)
            if found is not None and not dry:
                break
            for lane in dry:
                self.rates[lane] = max(self.rates.get(lane, 0.0), kept.least_rate(lane))
                laid[lane] = max(4 * laid[lane], self._guessed((lane,), max(warm, part))[lane])
                if laid[lane] > _LAID_MOST:
                    raise self._too_large()
            if max(max(laid.values()) * (1 + PARTS), sum(laid.values())) > _LAID_MUCH:
                warm, part = self._hasty(warm, part, full)
                laid = self._guessed(full, max(warm, part))
        for lane in full if found.flows else ():
            self._full_at(lane, max(float(f.gone[lane]) for f in found.flows))
        return found

    def cleared(self, cut: Cut, number: int, full: Mode, come: Mapping[int, float]) -> set[int]:
        """Of lanes in which something waits those that surely keep up in a group: they hand on much more than comes, events a ns,
        even where all of them have as much to do at once. One play, where to keep each full takes as many events as it can hand on.
        """
        group = cut.groups[number]
        length = cut.warm_ns + group.part_ns * PARTS
        laid = {lane: int(_SURELY * rate * length) + _LAID_LEAST for lane, rate in come.items()}
        laid |= self._guessed(full, length)
        if sum(laid.values()) > _LAID_MUCH:
            return set()
        built = self._laid_out(cut, group, length, f"group {number} cleared", laid, parts=1).built
        play(built, length, self._heard)
        self._count(built)
        dry = set(self._dry(built, laid))
        # Where one that is full runs dry, it has left the others more room than it would.
        return set() if dry & full else dry

    def _laid_out(
        self, cut: Cut, group: Group, length: int, label: str, laid: Mapping[int, int], parts: int = 1 + PARTS
    ) -> KeptFull:
        """A world in which a group's demand lasts for ``length`` ns, with so much laid into lanes for each of its parts."""
        self._may_play(int(min(1e18, cut.events_a_ns(group) * length)))
        floors = Happenings(floors={name: ((0, floor),) for name, floor in group.floors})
        plan = _lasting(steady(cut.taps, group, length), length, floors)
        built = self._begin(plan, label)
        kept = KeptFull(built, self.lanes, laid, parts, plan.taps)
        kept.again()
        return kept

    def _part_ns(self, part: int, warm: int, full: Mode) -> int:
        """Full lanes tell their rates from fewer events than a stretch has that must also show its quantiles."""
        rate = math.fsum(self.rates.get(lane, 0.0) for lane in full)
        if not rate:
            return part
        return int(min(part, max(warm / PARTS, 60e9, _FULL_EVENTS / PARTS / rate)))

    def _hasty(self, warm: int, part: int, full: Mode) -> tuple[int, int]:
        """A shorter warm-up and part, ns, for lanes that empty so fast that all of a stretch would take millions of events."""
        rate = math.fsum(self.rates.get(lane, 0.0) for lane in full)
        return int(min(warm, 2 * _HASTY_EVENTS / rate)), int(min(part, max(1e9, _HASTY_EVENTS / PARTS / rate)))

    def _whole_minutes(self, warm: int, part: int, full: Mode) -> tuple[int, int]:
        """A warm-up and part of whole minutes, in which what ticks fires as often as it does, where lanes can be kept full so long."""
        whole = whole_minutes(warm), whole_minutes(part)
        lasts = whole[0] + whole[1] * PARTS
        return whole if all(lasts * self.rates.get(lane, 0.0) < _LAID_MOST / 2 for lane in full) else (warm, part)

    def _guessed(self, lanes: Collection[int], length: int) -> dict[int, int]:
        """How many events keep each lane full for so long, ns, with some to spare."""
        # Of very many lanes each gets few at first: all of them together are in memory at once.
        unknown = min(_LAID_FIRST, max(_LAID_LEAST, _LAID_MUCH // max(1, len(lanes))))
        least = {lane: _LAID_LEAST if lane in self.seen_full else unknown for lane in lanes}
        return {n: min(_LAID_MOST, max(least[n], int(1.5 * self.rates.get(n, 0.0) * length))) for n in lanes}

    def _full_at(self, lane: int, rate: float) -> None:
        """A lane that is full has handed on so many events a ns."""
        self.rates[lane] = max(self.rates.get(lane, 0.0), rate)
        self.seen_full.add(lane)

    def _dry(self, built: Built, full: Iterable[int]) -> list[int]:
        return [lane for lane in full if ran_dry(built, self.lanes[lane])]

    def _read_parts(self, kept: KeptFull, warm: int, part: int, full: Mode, look_ns: float | None) -> Stretch | None:
        """A warm-up and the parts; None as soon as a lane that was to stay full has run dry.

        ``look_ns``: how often it is looked at for lanes that fill and for work sent away that does not clear, which end it (None: never).
        """
        built = kept.built
        start = LaneState(built, self.lanes)
        if warm:
            filling = self._fills(built, start, 0, warm, full, look_ns)
            if self._dry(built, full):
                self._count(built)
                return None
            if filling or (look_ns is not None and self._hopeless(built)):
                self._count(built)
                return Stretch({}, [], part, set(filling), not filling, filling)
        before, held = forgotten(built, unread=True), LaneState(built, self.lanes)
        spans, flows, suspicious = dict[int, Span](), list[Flow](), set[int]()
        units = {unit for lane in full for unit in self.lanes[lane].units}
        for number in range(1, PARTS + 1):
            if kept.again():
                before, held = Reading.of(built), LaneState(built, self.lanes)
            # At its end there is nothing left to be spared.
            filling = self._fills(
                built, start, warm + part * (number - 1), part, full, look_ns if number < PARTS else None
            )
            if self._dry(built, full):
                self._count(built)
                return None
            now = LaneState(built, self.lanes)
            suspicious |= now.suspicious(self.lanes, start, int(built.world.clock[0]["now"])) - full
            if filling or (look_ns is not None and number < PARTS and self._hopeless(built)):
                self._count(built)
                return Stretch({}, [], part, suspicious, not filling, filling)
            after = Reading.of(built)
            span = after.since(before)
            flows.append(self._flow(span, held, now, part))
            spans[number - 1] = span.without_lanes_kept_full(units) if units else span
            before, held = after, now
        away = self._away(built)
        self._count(built)
        for lane in range(len(self.lanes)):
            if lane not in full:
                self.rates[lane] = max(self.rates.get(lane, 0.0), *(float(f.gone[lane]) for f in flows))
        return Stretch(spans, flows, part, suspicious, away)

    def _fills(
        self, built: Built, start: LaneState, begins: int, lasts: int, full: Mode, look_ns: float | None
    ) -> Mode:
        """Play a time, ns since the start, no further than until lanes fill, or one that is to be full runs dry; returns those that fill."""
        looks = max(_LOOKS, math.ceil(lasts / look_ns) if look_ns else 0)
        for n in range(1, looks + 1):
            play(built, begins + lasts * n // looks, self._heard)
            filling = frozenset(LaneState(built, self.lanes).filling(start) - full)
            if self._dry(built, full) or (look_ns is not None and (filling or self._hopeless(built))):
                return filling
        return EMPTY

    def _flow(self, span: Span, held: LaneState, now: LaneState, length: int) -> Flow:
        """In, out, handled: what left is what came and is no longer held."""
        come = now.arrived - held.arrived
        gone = come - (now.held - held.held)
        seen = np.zeros(len(self.first.units))
        waits = span.sketch.wait_bins
        bins = waits.shape[-1]
        counted = waits.kept((waits.places // bins) % 2 == 0)
        np.add.at(seen, counted.places // (2 * bins), counted.values)
        handled = np.maximum(0.0, span.unit.handled - seen)
        runs = span.unit.busy_ns / np.maximum(1.0, span.unit.started)
        return Flow(come / length, gone / length, handled / length, runs)

    def hours(self, cut: Cut, course: Course, part: int, whole: Sequence[Tap]) -> list[Hours]:
        """Segments as they are, one after the other in a world of their own, as far as a course goes."""
        first, whole = cut.segments[course.first], [*cut.ticks, *whole]
        ends = cut.segments[course.number].end_ns
        start = first.start_ns - min(max(cut.warm_ns, self._longest_run(whole)), first.start_ns)
        taps = [replace(t, stretches=clipped(t, start, self.month.clock.length_ns)) for t in cut.apart_from_ticks]
        # Room for all of the month that may follow is not bounded by what is played of it.
        coming = expected_in(cut.taps, start, ends) * cut.more
        self._may_play(int(min(1e18, coming)))
        # Firings of a few hours mostly do; a schedule may have millions.
        until = ends + _FOLLOWING_NS
        # What waits there, before each segment, and what comes stands behind it: none hands on what never came, and takes room by it.
        # Into a line of calls, which has no end that is told, so much is laid that it stays full.
        full = sorted(course.full)
        laid = {lane: min(_LAID_MOST, math.ceil(held)) for lane, held in course.held.items()}
        laid |= self._guessed([lane for lane in full if not self.lanes[lane].holds_apart], ends - start)
        while True:
            firings = [replace(t, stretches=clipped(t, start, min(until, self.month.clock.length_ns))) for t in whole]
            lasting = self.month.length_ns - start
            plan = _lasting((*taps, *firings), lasting, self.month.happenings.since(start))
            built = self._begin(plan, f"hour {course.number} part {part}" + "".join(f" {lane}" for lane in full))
            kept = KeptFull(built, self.lanes, laid, 1, plan.taps, open_=True)
            found = self._play_on(kept, cut, course, start, until if firings else None)
            if found is None:
                until = self.month.clock.length_ns
                continue
            dry = [lane for lane in self._dry(built, full) if not self.lanes[lane].holds_apart]
            if not dry or all(laid[lane] >= _LAID_MOST for lane in dry):
                break
            for lane in dry:
                laid[lane] = min(_LAID_MOST, 4 * laid[lane])
        self._count(built)
        self.in_hours += events_so_far(built.world)
        at = course.number
        for hours in found:
            lasted = cut.segments[at + hours.segments - 1].end_ns - cut.segments[at].start_ns
            at += hours.segments
            for lane in full:
                self._full_at(lane, float(hours.gone[lane]) / lasted)
        self.played_on += events_so_far(built.world) if at > course.number + 1 else 0
        # Each part plays on where another did: what one of them plays of the month, all of them play several times.
        if self.played_on > self.expected / 2 and not self.stubborn:
            raise Dearer
        return found

    def _play_on(self, kept: KeptFull, cut: Cut, course: Course, start: int, until: int | None) -> list[Hours] | None:
        """Play the segments of a course, and read them by themselves or together.

        None where they last longer than ``until``, ns since the month's start, when their firings end.
        """
        built, found = kept.built, list[Hours]()
        # Where lanes hold work one segment after the other, also of those not read: they hold it all the time.
        stops = [s.start_ns for s in cut.segments[course.first : course.number + 1]]
        for stop in stops if course.full else stops[-1:]:
            kept.again()
            if stop > start:
                play(built, stop - start, self._heard)
        kept.again()
        before, at, read = _Instant.of(built, self.lanes, first=True), course.number, course.number
        while True:
            if until is not None and cut.segments[at].end_ns > until:
                return None
            play(built, cut.segments[at].end_ns - start, self._heard)
            self._refuse(self.played + events_so_far(built.world))
            self.bounds.hold(self.tried + attempts_so_far(built.world))
            away, at = self._away(built), at + 1
            goes_on, crowded = at < len(cut.segments) and course.goes_on(at, away), self._crowded(kept)
            if not goes_on or crowded or course.is_apart(at - 1) or course.is_apart(at):
                now = _Instant.of(built, self.lanes)
                found.append(self._hours_read(built, before, now, course.full, at - read, away))
                before, read = now, at
            if not goes_on or course.is_known(at, found, crowded):
                return found
            if kept.again():
                before = _Instant.of(built, self.lanes)

    def _crowded(self, kept: KeptFull) -> bool:
        """Whether so much more waits in lanes than was laid into them that their world should not go on."""
        _, _, waiting = self.lanes.counted(kept.built.world)
        return float(waiting.sum()) > _CROWD + sum(kept.most.values())

    def _hours_read(
        self, built: Built, before: _Instant, now: _Instant, full: Mode, segments: int, away: bool
    ) -> Hours:
        """What was played between two instants, and what it leaves."""
        span = now.reading.since(before.reading)
        flow = self._flow(span, before.lanes, now.lanes, 1)
        units = {unit for lane in full for unit in self.lanes[lane].units}
        if units:
            span.without_lanes_kept_full(units)
        others = np.array([n not in full for n in range(len(self.lanes))], bool)
        found, left = (np.where(others, at.lanes.held, 0.0) for at in (before, now))
        ages = ages_in(built, {n: lane for n, lane in enumerate(self.lanes) if left[n] > _FEW})
        outside = unfinished_outside(built, self.lanes)
        return Hours(
            span, segments, full, found, left, ages, outside, flow.come, flow.gone, flow.handled, flow.run_ns, away
        )

    def _away(self, built: Built) -> bool:
        """Whether some event has been sent away for lack of room for so long that its hour does not clear by itself."""
        for unit, oldest in zip(built.units, oldest_throttled_ns(built), strict=True):
            if oldest > max(_LONG_AWAY_NS, 2 * unit.offer.plan.push.longest_wait):
                return True
        return False

    def _hopeless(self, built: Built) -> bool:
        """Whether some event has been sent away for so long that soon the first will be given up: no more need be seen of it."""
        if not self._away(built):
            return False
        oldest = oldest_throttled_ns(built)
        return any(o > u.offer.plan.push.give_up / 2 for o, u in zip(oldest, built.units, strict=True))

    def _longest_run(self, whole: Sequence[Tap]) -> int:
        """How long before an hour a firing may have begun that still runs in it."""
        longest = max((self._timeouts.get(tap.source, 0) for tap in whole), default=0)
        return min(longest, 12 * 3_600 * 10**9)

    def _heard(self, _: float) -> None:
        self.tell()

    def _count(self, built: Built) -> None:
        self.played += events_so_far(built.world)
        self.tried += attempts_so_far(built.world)
        self._refuse(self.played)
        self.bounds.hold(self.tried)

    def _may_play(self, coming: int) -> None:
        """Refuse what is known to be too much before it is played."""
        self.foreseen = coming
        self._refuse(self.played + coming)

    def foresees(self, part: int) -> None:
        """Refuse, after a part's month, what would be refused after another: each has hours of its own to play, about as many."""
        of_others = self.in_hours / (part + 1) * (PARTS - 1 - part)
        self._refuse(int((self.played + of_others) / _FORESEEN))

    def _refuse(self, played: int) -> None:
        if played > self.most:
            raise self._too_large()

    def _too_large(self) -> TooLarge:
        return TooLarge(
            Problem(
                f"expects {self.expected:,.0f} events, of which even a sample would play more than {self.most:,}: "
                "work is left over for so long, or so many hours differ, that few of them can be left out",
                self.model.estate.month,
                allowed="--exact plays them all; or less demand, a shorter trace, one plan (--plan)",
            )
        )


def _lasting(taps: tuple[Tap, ...], length_ns: int, happenings: Happenings = QUIET) -> Arrivals:
    """Time enough: to the next microsecond and a little more."""
    return Arrivals(taps, (length_ns // 1_000 + 1) * 1_000, happenings)
