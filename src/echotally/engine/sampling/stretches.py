"""Plays steady stretches: a group's demand going on and on, with some lanes kept full or none, warmed up and read part by part."""

from __future__ import annotations

import math
from collections.abc import Mapping

from echotally.demand.happenings import Happenings
from echotally.engine.play import play
from echotally.engine.sampling.away import away_for_long, given_up_soon
from echotally.engine.sampling.lanes import LaneState
from echotally.engine.sampling.laying import KeptFull
from echotally.engine.sampling.played import EMPTY, Flow, Mode, Stretch
from echotally.engine.sampling.player import LAID_LEAST, LAID_MOST, LAID_MUCH, Player, lasting
from echotally.engine.sampling.strata import PARTS, Cut, Group, steady
from echotally.engine.sampling.sums import Maxima
from echotally.engine.sampling.ticking import whole_minutes
from echotally.engine.sampling.totals import Reading, Span, forgotten

#: How often a warming world is looked at for lanes that fill, at the least, and about how many events come between two looks.
_LOOKS, _BETWEEN = 4, 100_000
#: Events that full lanes hand on in a stretch, about.
_FULL_EVENTS = 400_000
#: The same of lanes that empty so fast that a stretch with them full would take millions.
_HASTY_EVENTS = 100_000
#: A lane that hands on so many times what comes, and as many events as no batch holds back, is none that fills.
_SURELY = 3.0


def play_stretch(
    player: Player, cut: Cut, number: int, full: Mode, *, patient: bool = False, shorter: int = 1
) -> Stretch:
    """A group's stretch with the lanes ``full`` kept full: warmed up, then read part by part.

    It is cut short where a lane fills quickly or work sent away does not clear, unless ``patient``; its parts are so many times
    ``shorter`` than a group's.
    """
    group, warm = cut.groups[number], cut.settles_ns
    part = _part_ns(player, -(-group.part_ns // shorter), warm, full)
    label = f"group {number}" + "".join(f" {lane}" for lane in sorted(full))
    laid = player.guessed(full, max(warm, part))
    rate = cut.events_a_ns(group)
    look_ns = _BETWEEN / rate if rate else math.inf
    while True:
        if cut.ticking:
            warm, part = _whole_minutes(player, warm, part, full)
        kept = _laid_out(player, cut, group, warm + part * PARTS, label, laid)
        found = _Read(player, kept, full, None if patient else look_ns).parts(warm, part)
        if found is not None:
            break
        for lane in kept.dry():
            player.hands_on(lane, kept.least_rate(lane))
            laid[lane] = max(4 * laid[lane], player.guessed((lane,), max(warm, part))[lane])
            if laid[lane] > LAID_MOST:
                raise player.too_large()
        if max(max(laid.values()) * (1 + PARTS), sum(laid.values())) > LAID_MUCH:
            warm, part = _hasty(player, warm, part, full)
            laid = player.guessed(full, max(warm, part))
    for lane in full if found.flows else ():
        player.hands_on_full(lane, max(float(f.gone[lane]) for f in found.flows))
    return found


def surely_keeping_up(player: Player, cut: Cut, number: int, full: Mode, come: Mapping[int, float]) -> set[int]:
    """Of lanes in which something waits those that surely keep up in a group: they hand on much more than comes, events a ns,
    even where all of them have as much to do at once. One play, where to keep each full takes as many events as it can hand on.
    """
    group = cut.groups[number]
    length = cut.settles_ns + group.part_ns * PARTS
    laid = {lane: int(_SURELY * rate * length) + LAID_LEAST for lane, rate in come.items()}
    laid |= player.guessed(full, length)
    if sum(laid.values()) > LAID_MUCH:
        return set()
    kept = _laid_out(player, cut, group, length, f"group {number} cleared", laid, parts=1)
    play(kept.built, length, player.heard)
    player.count(kept.built)
    dry = set(kept.dry())
    # Where one that is full runs dry, it has left the others more room than it would.
    return set() if dry & full else dry


def _laid_out(
    player: Player, cut: Cut, group: Group, length: int, label: str, laid: Mapping[int, int], *, parts: int = 1 + PARTS
) -> KeptFull:
    """A world in which a group's demand lasts for ``length`` ns, with so much laid into lanes for each of its parts."""
    player.may_play(cut.events_a_ns(group) * length)
    floors = Happenings(floors={name: ((0, floor),) for name, floor in group.floors})
    plan = lasting(steady(cut.taps, group, length), length, floors)
    kept = KeptFull(player.world(plan, label), player.lanes, laid, parts, plan.taps)
    kept.again()
    return kept


def _part_ns(player: Player, part: int, warm: int, full: Mode) -> int:
    """Full lanes tell their rates from fewer events than a stretch has that must also show its quantiles."""
    rate = math.fsum(player.rates.get(lane, 0.0) for lane in full)
    if not rate:
        return part
    return int(min(part, max(warm / PARTS, 60e9, _FULL_EVENTS / PARTS / rate)))


def _hasty(player: Player, warm: int, part: int, full: Mode) -> tuple[int, int]:
    """A shorter warm-up and part, ns, for lanes that empty so fast that all of a stretch would take millions of events."""
    rate = math.fsum(player.rates.get(lane, 0.0) for lane in full)
    return int(min(warm, 2 * _HASTY_EVENTS / rate)), int(min(part, max(1e9, _HASTY_EVENTS / PARTS / rate)))


def _whole_minutes(player: Player, warm: int, part: int, full: Mode) -> tuple[int, int]:
    """A warm-up and part of whole minutes, in which what ticks fires as often as it does, where lanes can be kept full so long."""
    whole = whole_minutes(warm), whole_minutes(part)
    lasts = whole[0] + whole[1] * PARTS
    return whole if all(lasts * player.rates.get(lane, 0.0) < LAID_MOST / 2 for lane in full) else (warm, part)


class _Read:
    """A world with lanes kept full, read.

    ``look_ns``: how often it is looked at for lanes that fill and for work sent away that does not clear, which end it (None: never).
    """

    def __init__(self, player: Player, kept: KeptFull, full: Mode, look_ns: float | None) -> None:
        self.player, self.kept, self.full, self.look_ns = player, kept, full, look_ns
        self.built, self.lanes = kept.built, player.lanes
        self.start = LaneState(self.built, self.lanes)

    def parts(self, warm: int, part: int) -> Stretch | None:
        """A warm-up and the parts; None as soon as a lane that was to stay full has run dry."""
        found = self._warmed_up(warm, part) or self._part_by_part(warm, part)
        self.player.count(self.built)
        return None if self.kept.dry() else found

    def _warmed_up(self, warm: int, part: int) -> Stretch | None:
        """What ends it before its first part, if anything does."""
        filling = self._fills(0, warm, looking=True) if warm else EMPTY
        if filling or (warm and (self.kept.dry() or self._hopeless())):
            return self._cut_short(part, set(filling), filling)
        return None

    def _part_by_part(self, warm: int, part: int) -> Stretch:
        before, held = forgotten(self.built, unread=True), LaneState(self.built, self.lanes)
        spans, flows, suspicious = dict[int, Span](), list[Flow](), set[int]()
        units = self.lanes.units_of(self.full)
        for number in range(PARTS):
            if self.kept.again():
                before, held = Reading.of(self.built), LaneState(self.built, self.lanes)
            # At its end there is nothing left to be spared.
            looking = number < PARTS - 1
            filling = self._fills(warm + part * number, part, looking)
            now = LaneState(self.built, self.lanes)
            suspicious |= now.suspicious(self.lanes, self.start, self.kept.now_ns) - self.full
            if filling or self.kept.dry() or (looking and self._hopeless()):
                return self._cut_short(part, suspicious, filling)
            after = Reading.of(self.built)
            span = after.since(before)
            flows.append(Flow.between(held, now, span, part))
            spans[number] = span.without_lanes_kept_full(units) if units else span
            before, held = after, now
        for lane in range(len(self.lanes)):
            if lane not in self.full:
                self.player.hands_on(lane, max(float(f.gone[lane]) for f in flows))
        return Stretch(spans, flows, part, suspicious, away_for_long(self.built), Maxima.of(self.built.world))

    def _cut_short(self, part: int, suspicious: set[int], filling: Mode) -> Stretch:
        return Stretch({}, [], part, suspicious, not filling, Maxima.of(self.built.world), filling)

    def _fills(self, begins: int, lasts: int, looking: bool) -> Mode:
        """Play a time, ns since the start, no further than until lanes fill, or one that is to be full runs dry; returns those that fill."""
        looking = looking and self.look_ns is not None
        looks = max(_LOOKS, math.ceil(lasts / self.look_ns) if looking and self.look_ns else 0)
        for n in range(1, looks + 1):
            play(self.built, begins + lasts * n // looks, self.player.heard)
            filling = frozenset(LaneState(self.built, self.lanes).filling(self.start) - self.full)
            if self.kept.dry() or (looking and (filling or self._hopeless())):
                return filling
        return EMPTY

    def _hopeless(self) -> bool:
        return self.look_ns is not None and given_up_soon(self.built)
