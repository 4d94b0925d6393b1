"""Plays hours as they are, one after the other in a world of their own, with what is left over from before waiting in its lanes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from echotally.demand.month import Tap
from echotally.engine.build import Built
from echotally.engine.play import play
from echotally.engine.sampling.away import away_for_long, unfinished_outside
from echotally.engine.sampling.lanes import Lanes, LaneState, ages_in
from echotally.engine.sampling.laying import KeptFull
from echotally.engine.sampling.played import Course, Flow, Hours, Mode
from echotally.engine.sampling.player import LAID_MOST, Player, lasting
from echotally.engine.sampling.strata import Cut, clipped, expected_in
from echotally.engine.sampling.totals import Reading, forgotten

#: Where more than so many events wait in all lanes, hours stop to go on in one world: what waits in it is carried on without it.
_CROWD = 500_000
#: For so long after an hour that is played as it is its schedules fire on, at first.
_FOLLOWING_NS = 6 * 3_600 * 10**9
#: A firing that still runs began no longer ago than that.
_LONGEST_RUN_NS = 12 * 3_600 * 10**9
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


def play_hours(player: Player, cut: Cut, course: Course, part: int, whole: Sequence[Tap]) -> list[Hours]:
    """Segments of a course, as far as it goes, with the firings of ``whole`` schedules among them."""
    first, whole = cut.segments[course.first], [*cut.ticks, *whole]
    ends = cut.segments[course.number].end_ns
    start = first.start_ns - min(max(cut.warm_ns, _longest_run(player, whole)), first.start_ns)
    taps = [replace(t, stretches=clipped(t, start, player.month.clock.length_ns)) for t in cut.apart_from_ticks]
    # Room for all of the month that may follow is not bounded by what is played of it.
    player.may_play(expected_in(cut.taps, start, ends) * cut.more)
    # Firings of a few hours mostly do; a schedule may have millions.
    until = ends + _FOLLOWING_NS
    full = sorted(course.full)
    laid = _laid(player, course, ends - start)
    while True:
        firings = [replace(t, stretches=clipped(t, start, min(until, player.month.clock.length_ns))) for t in whole]
        plan = lasting((*taps, *firings), player.month.length_ns - start, player.month.happenings.since(start))
        built = player.world(plan, f"hour {course.number} part {part}" + "".join(f" {lane}" for lane in full))
        kept = KeptFull(built, player.lanes, laid, 1, plan.taps, open_=True)
        found = _on_course(player, kept, cut, course, start, until if firings else None)
        if found is None:
            until = player.month.clock.length_ns
            continue
        dry = [lane for lane in kept.dry() if not player.lanes[lane].holds_apart]
        if not dry or all(laid[lane] >= LAID_MOST for lane in dry):
            break
        for lane in dry:
            laid[lane] = min(LAID_MOST, 4 * laid[lane])
    player.counts_hours(built, of_one=sum(hours.segments for hours in found) == 1)
    at = course.number
    for hours in found:
        lasted = cut.segments[at + hours.segments - 1].end_ns - cut.segments[at].start_ns
        at += hours.segments
        for lane in full:
            player.hands_on_full(lane, float(hours.gone[lane]) / lasted)
    return found


def _laid(player: Player, course: Course, length: int) -> dict[int, int]:
    """What waits in full lanes before each segment; what comes stands behind it, so that none hands on what never came, and takes room
    by it. Into a line of calls, which has no end that is told, so much is laid that it stays full.
    """
    lines = [lane for lane in sorted(course.full) if not player.lanes[lane].holds_apart]
    laid = {lane: min(LAID_MOST, math.ceil(held)) for lane, held in course.held.items()}
    return laid | player.guessed(lines, length)


def _longest_run(player: Player, whole: Sequence[Tap]) -> int:
    """How long before an hour a firing may have begun that still runs in it, ns."""
    return min(max((player.timeouts.get(tap.source, 0) for tap in whole), default=0), _LONGEST_RUN_NS)


def _on_course(
    player: Player, kept: KeptFull, cut: Cut, course: Course, start: int, until: int | None
) -> list[Hours] | None:
    """Play the segments of a course, and read them by themselves or together.

    None where they last longer than ``until``, ns since the month's start, when their firings end.
    """
    built, lanes, found = kept.built, player.lanes, list[Hours]()
    # Where lanes hold work one segment after the other, also of those not read: they hold it all the time.
    stops = [s.start_ns for s in cut.segments[course.first : course.number + 1]]
    for stop in stops if course.full else stops[-1:]:
        kept.again()
        if stop > start:
            play(built, stop - start, player.heard)
    kept.again()
    before, at, read = _Instant.of(built, lanes, first=True), course.number, course.number
    while True:
        if until is not None and cut.segments[at].end_ns > until:
            return None
        play(built, cut.segments[at].end_ns - start, player.heard)
        player.holds(built)
        away, at = away_for_long(built), at + 1
        goes_on, crowded = at < len(cut.segments) and course.goes_on(at, away), _crowded(kept)
        if not goes_on or crowded or course.is_apart(at - 1) or course.is_apart(at):
            now = _Instant.of(built, lanes)
            found.append(_read(kept, before, now, course.full, at - read, away))
            before, read = now, at
        if not goes_on or course.is_known(at, found, crowded):
            return found
        if kept.again():
            before = _Instant.of(built, lanes)


def _crowded(kept: KeptFull) -> bool:
    """Whether so much more waits in lanes than was laid into them that their world should not go on."""
    _, _, waiting = kept.lanes.counted(kept.built.world)
    return float(waiting.sum()) > _CROWD + sum(kept.most.values())


def _read(kept: KeptFull, before: _Instant, now: _Instant, full: Mode, segments: int, away: bool) -> Hours:
    """What was played between two instants, and what it leaves."""
    built, lanes = kept.built, kept.lanes
    span = now.reading.since(before.reading)
    if full:
        # They may stand for others before which more waits: what has come to full lanes since waited as long as the lots say, too.
        span.forget_waits(lanes.only_from(full))
        span.without_lanes_kept_full(lanes.units_of(full))
    flow = Flow.between(before.lanes, now.lanes, span, 1)
    others = np.array([n not in full for n in range(len(lanes))], bool)
    found, left = (np.where(others, at.lanes.held, 0.0) for at in (before, now))
    ages = ages_in(built, {n: lane for n, lane in enumerate(lanes) if left[n] > _FEW})
    outside = unfinished_outside(built, lanes)
    return Hours(
        span, segments, full, found, left, ages, outside, flow.come, flow.gone, flow.handled, flow.run_ns, away
    )
