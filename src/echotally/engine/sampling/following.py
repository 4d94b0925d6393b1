"""One part's month, followed in the order of time: steady segments, hours as they are, the work carried from one to the next.

Why it exists: which hours a part plays and what they are worth is one thought (``estimate``); going through the month with
lanes that fill and empty is another.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from echotally.engine import codes
from echotally.engine.build import stream_seed
from echotally.engine.sampling.carrying import Carried, Lot
from echotally.engine.sampling.hours import play_hours
from echotally.engine.sampling.played import EMPTY, Course, Hours, Mode
from echotally.engine.sampling.player import Player
from echotally.engine.sampling.runs import Runs
from echotally.engine.sampling.strata import PARTS
from echotally.engine.sampling.totals import Total
from echotally.model.sources import SourceKind

if TYPE_CHECKING:
    from echotally.engine.sampling.estimate import Sampler

Array = NDArray[np.float64]
#: More than this share of all that comes to lanes must not be told of events that never came.
_BEYOND = 0.05


class PartOfMonth:
    """One part's month, followed in the order of time."""

    def __init__(self, sampler: Sampler, part: int) -> None:
        self.sampler, self.steady, self.part = sampler, sampler.steady, part
        self.cut, self.player, self.lanes = sampler.cut, sampler.player, sampler.player.lanes
        self.total = Total.nothing(sampler.player.first, sampler.month.length_ns)
        self.carried = {n: Carried(lane) for n, lane in enumerate(self.lanes)}
        self.times: dict[tuple[int, Mode], float] = {}
        self.by_hour: dict[tuple[int, tuple[int, Mode]], float] = {}
        self.hours: dict[tuple[int, Mode], list[Hours]] = {}
        self.turns: dict[tuple[int, Mode], int] = {}
        self.goes_on: set[tuple[int, Mode]] = set()
        self.runs = Runs(self.player, sampler.past, part, sampler.whole, sampler.each, sampler.steady.flagged())
        #: The segment with which the present run of hours began that hand work on.
        self.began: int | None = None
        # Hours as they are, and how often they stand in the month; by the hour which of them, and how much of it.
        self.counted: dict[int, tuple[Hours, int]] = {}
        self.stands: list[tuple[int, int, float]] = []
        self.random = np.random.Generator(np.random.PCG64(stream_seed(sampler.seed, f"carried {part}")))
        self.waits: dict[int, list[tuple[float, float, float, float]]] = {}
        self.lags: dict[int, list[tuple[float, float, float]]] = {}
        self.companies: dict[Mode, dict[int, list[int]]] = {}
        #: Events that stretches with full lanes hand on beyond what those lanes hold: they run empty before their step is over.
        self.beyond = 0.0

    def follow(self) -> Total:
        """Segment after segment; then everything that was played is weighed by the time it stands for."""
        self._backlogs()
        segments, at = self.cut.segments, 0
        while at < len(segments):
            # A flagged group leaves work that does not clear within its hour, so its hours depend on those before.
            if self.began is not None or segments[at].group in self.runs.flagged or not self._is_steady(at):
                at += self._as_it_is(at)
            else:
                self._steady(at)
                at += 1
        for (group, full), lasted in self.times.items():
            stretch = self.steady.stretch(group, full)
            self.total.add(stretch.spans[self.part], lasted / stretch.part_ns)
        for hours, times in self.counted.values():
            self.total.add(hours.span, times)
        self._by_the_hour()
        self._ages()
        self._left()
        return self.total

    def _backlogs(self) -> None:
        """What the model's queues hold when the month begins is there at 0 s."""
        for n, lane in enumerate(self.lanes):
            environment, name = self.player.first.sources[lane.source]
            kind, queue = name.kind, name.name
            if kind is SourceKind.QUEUES and self.sampler.model.queues[queue].backlog:
                held = float(self.sampler.model.queues[queue].backlog)
                self.carried[n].begins(0.0, held)
                self.total.arrived[lane.units[0]] += held
                self.total.source.arrived[lane.source] += held

    def _by_the_hour(self) -> None:
        """What each hour was made of goes into the series."""
        if self.stands:
            places = {key: n for n, key in enumerate(self.counted)}
            which, when, shares = zip(*self.stands, strict=True)
            self.total.add_hours(
                [hours.span for hours, _ in self.counted.values()],
                np.array([places[key] for key in which]),
                np.array(when),
                np.array(shares),
            )
        if not self.by_hour:
            return
        stretches = {key: self.steady.stretch(*key) for key in self.times}
        number = {key: n for n, key in enumerate(stretches)}
        self.total.add_hours(
            [stretch.spans[self.part] for stretch in stretches.values()],
            np.array([number[key] for _, key in self.by_hour]),
            np.array([hour for hour, _ in self.by_hour]),
            np.array([lasted / stretches[key].part_ns for (_, key), lasted in self.by_hour.items()]),
        )

    def _hour(self, at_ns: int) -> int:
        """Which row of the series an instant belongs to."""
        return int(min(at_ns // (3_600 * 10**9), self.total.series.shape[1] - 1))

    def _is_steady(self, at: int) -> bool:
        group, full = self.cut.segments[at].group, self._full()
        return group is not None and not (full and self.steady.sends_away(group, full))

    # -- steady segments ----------------------------------------------------------------------------------------
    def _steady(self, at: int) -> None:
        segment = self.cut.segments[at]
        assert segment.group is not None
        now, full = segment.start_ns, EMPTY
        # Since when each company of full lanes has been going on as it does, and until when at the most: one that is about to be empty
        # is looked at every few minutes, and the others are not for that.
        pace: dict[int, tuple[int, int]] = {}
        while now < segment.end_ns:
            before, full = full, self.steady.mode(segment.group, self._full())
            if full != before and pace:
                # From here on another stretch stands for the time.
                for company, (since, _) in pace.items():
                    self._move(segment.group, before, company, since, now - since)
                pace, full = {}, self.steady.mode(segment.group, self._full())
            for company, lanes in self._companies(full).items():
                if company not in pace:
                    # No further than until a lane is empty.
                    steps = [self.carried[lane].step_ns(now) for lane in lanes]
                    pace[company] = now, min(segment.end_ns, now + min(steps))
            until = min((due for _, due in pace.values()), default=segment.end_ns)
            key = (segment.group, full)
            self.times[key] = self.times.get(key, 0.0) + until - now
            hour = (self._hour(now), key)
            self.by_hour[hour] = self.by_hour.get(hour, 0.0) + until - now
            now = until
            for company in [company for company, (_, due) in pace.items() if due <= now]:
                since, _ = pace.pop(company)
                self._move(segment.group, full, company, since, now - since)

    def _companies(self, full: Mode) -> dict[int, list[int]]:
        """Lanes that are full, by the company they are of."""
        if full not in self.companies:
            found = self.companies[full] = dict[int, list[int]]()
            for lane in sorted(full):
                found.setdefault(self.lanes.company[lane], []).append(lane)
        return self.companies[full]

    def _full(self) -> Mode:
        # Less than an event is what rounding leaves.
        found = frozenset(n for n, c in self.carried.items() if c.came and c.held >= 1.0)
        self.sampler.been_full |= found
        return found

    def _move(self, group: int, full: Mode, company: int, now: int, step: int) -> None:
        """Let the full lanes of a company go on from ``now`` for so many ns."""
        # Within a segment lanes may have come to be full beside which work is sent away; the next one is played as it is.
        flow, lanes = self.steady.whole_stretch(group, full).flows[self.part], self._companies(full)[company]
        for lane in lanes:
            carried = self.carried[lane]
            if not carried.came:
                carried.begins(float(now))
            come = self.steady.coming.rate(group, lane, flow.come[lane]) * step
            # Events of a stretch are a sample of what comes: the month's own differ from it as Poisson counts do.
            noise = float(self.random.standard_normal()) * (come * self.steady.coming.burst(lane)) ** 0.5
            gone = float(flow.gone[lane]) * step
            lot = carried.moves(now, step, max(0.0, come + noise), gone)
            self.beyond += gone - lot.gone
            self._hand_on(lane, step, lot, flow.handled, flow.run_ns)
        for unit in {unit for lane in lanes for unit in self.lanes[lane].units}:
            self._lag(unit, now, step)

    def _hand_on(self, lane: int, step: int, lot: Lot, handled: Array, run_ns: Array) -> None:
        """What a full lane handed over in a step of so many ns is counted for the units that read it."""
        carried, mine = self.carried[lane], self.lanes[lane]
        home = mine.units[0]
        self.total.unit.expired[home] += lot.expired
        self.total.source.ended[mine.source] += lot.expired
        hour = self._hour(lot.at_ns)
        backlog = math.fsum(self.carried[n].held for n in self.lanes.of_unit[home])
        peak = self.total.maxima.backlog_peak
        peak[home] = max(peak[home], int(backlog))
        series = self.total.series[home, hour]
        series[codes.BACKLOG_PEAK] = max(series[codes.BACKLOG_PEAK], backlog)
        series[codes.OLDEST_AGE] = lot.age_high / 1e9
        for unit in mine.units:
            full = [n for n in self.lanes.of_unit[unit] if self.carried[n].came]
            # What a unit handled came from all its full lanes; which handled how much is not told.
            part = 1 / max(1, len(full))
            self.waits.setdefault(unit, []).append(
                (float(handled[unit]) * step * part, lot.age_low, lot.age_high, float(run_ns[unit]))
            )
        if carried.held < 1.0:
            carried.empties()

    def _lag(self, unit: int, now: int, step: int) -> None:
        lots = [
            c.lots[-1]
            for c in (self.carried[n] for n in self.lanes.of_unit[unit])
            if c.lots and c.lots[-1].at_ns == now
        ]
        if lots:
            oldest = max(lots, key=lambda lot: lot.age_high)
            self.lags.setdefault(unit, []).append((float(step), oldest.age_low, oldest.age_high))

    # -- hours as they are --------------------------------------------------------------------------------------
    def _as_it_is(self, at: int) -> int:
        segment, hours = self.cut.segments[at], self._played(at, self._full())
        after, full = at + hours.segments, hours.full
        if after >= len(self.cut.segments):
            self.total.left += hours.unfinished
        began = at if self.began is None else self.began
        self.began = began if self.runs.hands_on(after, hours.away) else None
        _, before = self.counted.get(id(hours), (hours, 0))
        self.counted[id(hours)] = hours, before + 1
        ends = self.cut.segments[after - 1].end_ns
        covered, lasts = self.cut.segments[at:after], ends - segment.start_ns
        # Hours that were played as one share what happened by their length.
        self.stands += ((id(hours), s.hour, (s.end_ns - s.start_ns) / lasts) for s in covered)
        stays = self.began is not None and self.runs.going_on(after, began) is not None
        # Where the world goes on of which they are, what waits in it is there.
        holds = () if stays else np.flatnonzero(hours.held > self.runs.much(hours, at)).tolist()
        for lane in sorted({*full, *holds}):
            carried = self.carried[lane]
            if lane in full:
                per_ns = 1.0 / lasts
                if not carried.came:
                    carried.begins(float(segment.start_ns))
                lot = carried.moves(segment.start_ns, lasts, float(hours.come[lane]), float(hours.gone[lane]))
                self._hand_on(lane, lasts, lot, hours.handled * per_ns, hours.run_ns)
            else:
                carried.begins(float(ends), float(hours.held[lane]), hours.ages.get(lane, ()))
        for unit in {unit for lane in full for unit in self.lanes[lane].units}:
            self._lag(unit, segment.start_ns, lasts)
        return hours.segments

    def _played(self, at: int, full: Mode) -> Hours:
        """The hour played, or one like it that was: each part has one of its own of each kind."""
        kind, began = self.cut.segments[at].kind, self.began
        if began is not None or kind is None:
            return self.runs.hours(at, at if began is None else began, self._held(full))
        key = (kind, full)
        all_known, held = self.hours.setdefault(key, []), self._held(full)
        known = [hours for hours in all_known if hours.may_be_with(held)]
        turn = self.turns.get(key, 0)
        self.turns[key] = turn + 1
        alike = self._members(kind) or [at]
        if len(known) >= len(alike):
            return known[turn % len(known)]
        # Where work went on once it mostly does: what another hour leads to is not played for nothing.
        number = at if key in self.goes_on else alike[len(known)]
        if number != at:
            [found] = self.sampler.ahead.asked(
                (self.part, number) if full == EMPTY else None, self._alone(number, full)
            )
            if not self.runs.hands_on(number + 1, found.away):
                all_known.append(found)
                return found
            # It is the hours that follow this one that count.
        found = self.runs.hours(at, at, self._held(full))
        if found.segments == 1 and not self.runs.hands_on(at + 1, found.away):
            all_known.append(found)
        else:
            self.goes_on.add(key)
        return found

    def _held(self, full: Mode) -> dict[int, float]:
        return {lane: self.carried[lane].held for lane in sorted(full)}

    def _alone(self, number: int, full: Mode) -> Callable[[Player], list[Hours]]:
        """What plays a segment by itself."""
        course = Course(number, number, full, self._held(full))
        return partial(play_hours, cut=self.cut, course=course, part=self.part, whole=self.sampler.whole)

    def likely_hours(self) -> dict[tuple[int, int], Callable[[Player], list[Hours]]]:
        """Hours that are played by themselves, where nothing is left over before them, in the order in which they are asked for."""
        turns, found = dict[int, int](), {}
        for at, segment in enumerate(self.cut.segments):
            if segment.kind is not None:
                turn = turns.get(segment.kind, 0)
                alike = self._members(segment.kind) or [at]
                if turn < len(alike) and alike[turn] != at:
                    found[self.part, alike[turn]] = self._alone(alike[turn], EMPTY)
                turns[segment.kind] = turn + 1
        return found

    def _members(self, kind: int) -> list[int]:
        """The hours of a kind that this part plays for all of them; none: too few for each part to have its own."""
        members = self.cut.kinds[kind]
        if len(members) < PARTS:
            return []
        # Spread evenly over the month, each part between the others' hours.
        many = min(self.sampler.each[kind], len(members) // PARTS)
        return [members[(len(members) * (2 * (n * PARTS + self.part) + 1)) // (2 * PARTS * many)] for n in range(many)]

    def hands_on_too_much(self) -> bool:
        """Whether much of what its full lanes hand on never came: they empty and fill by turns, for minutes at a time, and so leave each
        other room that stretches with all of them full do not have.
        """
        came = math.fsum(self.total.source.arrived[source] for source in {lane.source for lane in self.lanes})
        return self.beyond > _BEYOND * came

    # -- the month's end ----------------------------------------------------------------------------------------
    def _ages(self) -> None:
        for unit, rows in self.waits.items():
            counts, low, high, run = (np.array(column) for column in zip(*rows, strict=True))
            self.total.add_waits(unit, counts, low, high, float(run.mean()))
        for unit, lags in self.lags.items():
            if self.player.first.world.units[unit]["stream_n"] > 0:
                lasted, low, high = (np.array(column) for column in zip(*lags, strict=True))
                self.total.add_lag(unit, lasted, low, high)

    def _left(self) -> None:
        for n, lane in enumerate(self.lanes):
            self.total.left[lane.units[0]] += self.carried[n].held
