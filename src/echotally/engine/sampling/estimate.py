"""The sampled month: steady hours by a stretch of each group, other hours as they are, work left over carried on.

Why it exists: past some ten million attempts every event more only confirms what is known - but only where hours do not
hand work on. The month is followed in the order of time. A segment in which no lane holds earlier work is what its
group's stretch says; where lanes hold work, it is what the group does with those lanes full. ``PARTS`` estimates, each
from a part of what was played and with noise of its own, give the spread that intervals are made of (batch means: Law
and Kelton, "Simulation Modeling and Analysis", section 9.5).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from functools import partial
from statistics import fmean, stdev
from typing import NamedTuple

from msgspec import Struct

from echotally.demand.month import MonthPlan, Tap
from echotally.engine.hourly import Hourly
from echotally.engine.reading import Measured
from echotally.engine.sampling.ahead import Ahead
from echotally.engine.sampling.expecting import SAMPLED_FROM, expected_events
from echotally.engine.sampling.following import PartOfMonth
from echotally.engine.sampling.knowing import Loss, known_losses
from echotally.engine.sampling.lanes import Lane
from echotally.engine.sampling.meeting import Crowding, Rest
from echotally.engine.sampling.played import EMPTY, Mode, Stretch
from echotally.engine.sampling.runs import Past, remembered_ns
from echotally.engine.sampling.strata import BUDGET, PARTS, SHARE, cut_month, expected_in
from echotally.engine.sampling.stretches import Dearer, Player
from echotally.engine.sampling.totals import Span, Total
from echotally.engine.watch import Bounds
from echotally.errors import Problem, TooLarge
from echotally.model.estate import Model
from echotally.model.sources import SourceKind
from echotally.rates.card_loading import Offer
from echotally.rates.unit_settings import run_ns

#: A lane's growth is told from none where it is this many standard errors of its parts away.
_SURE = 3.0
#: A stretch so many times shorter is looked at first, and tells where it is this many standard errors away.
_LOOK, _CLEARLY = 8, 10.0
#: Where so much of what came to a function is neither done nor known to be left over, it is not known what becomes of it.
_UNTOLD = 0.02
#: A lane that is full within this share of what comes is critical: a month tells, a stretch cannot.
_CRITICAL = 1e-4
#: So many lanes that may not keep up are first looked at together.
_MANY = 4


class Effort(NamedTuple):
    """How many events a sample plays in steady hours, and how many in all, or attempts (None: any number), before it is refused.

    ``cores``: on how many it is played; the answer is the same.
    """

    steady: int = BUDGET
    most: int = SAMPLED_FROM
    attempts: int | None = None
    cores: int = 1


USUAL = Effort()

#: What a sample asks for beside stretches, by group and mode, and hours, by part and segment.
_APART = "apart"


class Sampled(Struct, frozen=True):
    """The month estimated from a sample, ``PARTS`` estimates each from a part of it alone, the share of the month's
    events that was played, and what of its losses is known beforehand, by function.

    ``critical`` are functions to which just about as much comes as they can do: what they leave over is chance. ``untold`` are
    those that do not get done what comes to them, but for a reason that no stretch shows: how much of it is not known.
    """

    month: Measured
    parts: list[Measured]
    share: float
    losses: dict[str, Loss]
    critical: frozenset[str]
    untold: frozenset[str] = frozenset()


def sample(
    model: Model,
    month: MonthPlan,
    placement: Mapping[str, Offer],
    seed: int,
    progress: Callable[[float], None] | None = None,
    effort: Effort = USUAL,
) -> Sampled:
    """Sample a month. Raises ``TooLarge`` where the sample would play more than ``effort`` allows, or does not tell the month."""
    return _sampled(Sampler(model, month, placement, seed, progress, effort))


def sample_unless_dearer(
    model: Model,
    month: MonthPlan,
    placement: Mapping[str, Offer],
    seed: int,
    progress: Callable[[float], None] | None = None,
    effort: Effort = USUAL,
) -> Sampled | None:
    """As ``sample``; of a month that can be played None where work left over does not clear, so that most of it would be played several
    times, or where the sample does not tell it.
    """
    sampler = Sampler(model, month, placement, seed, progress, effort)
    sampler.player.stubborn = sampler.expected > sampler.player.most
    try:
        return _sampled(sampler)
    except Dearer:
        return None


def _sampled(sampler: Sampler) -> Sampled:
    model, placement = sampler.model, sampler.placement
    parts, hours = sampler.parts()
    throttled = {u.function for p in parts for u, n in zip(p.built.units, p.unit.throttled, strict=True) if n > 0}
    losses = {
        name: loss
        for name, loss in known_losses(model, placement).items()
        if not (loss.unless_throttled and name in throttled)
    }
    untold = _left_out(parts) | _taken_again(sampler)
    for part in parts:
        part.knows(losses)
    whole = Total.mean(parts, hours).measured(model)
    share = min(1.0, sampler.player.played / max(1.0, sampler.expected))
    # Each is let go once it has been read.
    months = [parts.pop(0).measured(model) for _ in range(len(parts))]
    return Sampled(whole, months, share, losses, frozenset(sampler.critical), untold)


def _left_out(parts: list[Total]) -> frozenset[str]:
    """Functions that surely got less done than came to them, in lanes that were none to be kept full; that is left over.

    Two of them may take turns at room that is enough for one: which has it depends on all that was before, of which a stretch of
    an hour knows nothing.
    """
    units = parts[0].built.units
    found = set()
    for n, each in enumerate(zip(*(part.come_less_ended() for part in parts), strict=True)):
        came = fmean(float(part.arrived[n]) for part in parts)
        if fmean(each) > _UNTOLD * came + _CLEARLY * came**0.5:
            found.add(units[n].function)
            for part, less in zip(parts, each, strict=True):
                part.left[n] += max(0.0, less)
    return frozenset(found)


def _taken_again(sampler: Sampler) -> frozenset[str]:
    """Functions whose runs outlast the time for which messages stay hidden, where such are left over.

    How often one is taken again while it is being handled hangs on when the runs of all others begin and end, which may lock into
    each other for a month; a stretch of an hour begins with its own.
    """
    found, model = set(), sampler.model
    for lane in (sampler.player.lanes[n] for n in sampler.been_full):
        _, source = sampler.player.first.sources[lane.source]
        if source.kind is not SourceKind.QUEUES:
            continue
        for trigger in (t for t in model.triggers if t.from_ == source):
            function, plan = model.functions[trigger.to], sampler.placement[trigger.to].plan
            run = run_ns(function, plan, function.run.mean, model.items_of(trigger))
            if min(run, function.timeout) > model.queues[source.name].visibility:
                found.add(trigger.to)
    return frozenset(found)


class _Progress(Struct):
    """How much of a sample has been played, 0 to 1, and who hears of it.

    A thing of its own, so that sampler and player do not hold each other: what a sample has read would stay until cycles are
    looked for, which is seldom (``cli.main``).
    """

    hears: Callable[[float], None] | None
    done: float = 0.0

    def tell(self) -> None:
        """Tell it as far as it has come."""
        if self.hears:
            self.hears(min(0.99, self.done))


class Sampler:
    """What is played for all parts, once: the groups' stretches, which lanes fill beside which, the schedules apart."""

    def __init__(
        self,
        model: Model,
        month: MonthPlan,
        placement: Mapping[str, Offer],
        seed: int,
        progress: Callable[[float], None] | None,
        effort: Effort,
    ) -> None:
        self.effort, self.cores = effort.steady, effort.cores
        self.model, self.month, self.placement, self.seed = model, month, placement, seed
        self.expected = expected_events(model, month, placement)
        self.progress = _Progress(progress)
        self.player = Player(model, month, placement, seed, self.expected, self.progress.tell)
        self.player.most, self.player.bounds = effort.most, Bounds(attempts=effort.attempts)
        self.cut = cut_month(model, month, placement, self.expected, effort=self.effort)
        self.each = self._hours_each()
        self.stretches: dict[tuple[int, Mode], Stretch] = {}
        self.looks: dict[tuple[int, Mode], Stretch] = {}
        self.whole: list[Tap] = []
        self.modes: dict[tuple[int, Mode], Mode] = {}
        self.critical: set[str] = set()
        #: Lanes that held work left over at some time.
        self.been_full: set[int] = set()
        self.feeding: dict[int, list[tuple[int, float]] | None] = {}
        self.coming: dict[tuple[int, int], float] = {}
        self.bursts: dict[int, float] = {}
        #: What is asked of it is played beside, while ``parts`` goes on.
        self.ahead: Ahead

    def parts(self) -> tuple[list[Total], Hourly]:
        """One month for each part of the sample, and what they say by hour, their mean."""
        with Ahead(self.player, self.cores) as self.ahead:
            apart = self._in_steady_hours()
            self.past = Past(self.cut, remembered_ns(self.model, self.placement))
            still = self.player.whole_month(()) if self.month.happenings.moments() else None
            followed = [PartOfMonth(self, part) for part in range(PARTS)]
            for one in followed:
                self.ahead.will_be_asked(one.likely_hours().items())
            return self._followed(followed, apart, still)

    def _in_steady_hours(self) -> Span:
        """Play the groups' stretches, and what is played apart from them."""
        taps = self._schedule_taps()
        whole = partial(Player.whole_month, taps=taps)
        groups = range(len(self.cut.groups))
        plays = {(number, EMPTY): partial(Player.stretch, cut=self.cut, number=number, full=EMPTY) for number in groups}
        self.ahead.will_be_asked([(_APART, whole)])
        self.ahead.will_be_asked(plays.items())
        for number in groups:
            self.stretch(number, EMPTY)
            self.progress.done = 0.5 * (number + 1) / len(self.cut.groups)
        return self._schedules(taps, self.ahead.asked(_APART, whole))

    def _followed(self, followed: list[PartOfMonth], apart: Span, still: Span | None) -> tuple[list[Total], Hourly]:
        """Every part's month, one after the other, each let go but for its total."""
        found, hours = list[Total](), list[Hourly]()
        for part in range(PARTS):
            one = followed.pop(0)
            total = one.follow()
            if one.hands_on_too_much():
                raise self._untellable()
            self.ahead.forget(one.likely_hours())
            total.add_apart(apart, still)
            hours.append(total.gives_its_hours())
            total.is_put_together()
            # Nobody asks for what this part was made of again.
            for stretch in self.stretches.values():
                stretch.spans.pop(part, None)
            found.append(total)
            self.player.foresees(part)
            self.progress.done = 0.5 + 0.5 * (part + 1) / PARTS
        return found, Hourly.mean(hours)

    def _untellable(self) -> Exception:
        """Where the month itself can be played, it is."""
        if not self.player.stubborn:
            return Dearer()
        return TooLarge(
            Problem(
                f"expects {self.expected:,.0f} events, of which a sample does not tell what becomes of them: work left over in "
                "several places takes the room they share by turns",
                self.model.estate.month,
                allowed="--exact plays them all; or less demand, more room, one plan (--plan)",
            )
        )

    def stretch(self, group: int, full: Mode) -> Stretch:
        """A group's stretch with some lanes full, played once."""
        if (group, full) not in self.stretches:
            play = partial(Player.stretch, cut=self.cut, number=group, full=full)
            self.stretches[group, full] = self.ahead.asked((group, full), play)
        return self.stretches[group, full]

    def whole_stretch(self, group: int, full: Mode) -> Stretch:
        """The same, to its end where it was cut short."""
        if len(self.stretch(group, full).flows) < PARTS:
            self.stretches[group, full] = self.player.stretch(self.cut, group, full, patient=True)
        return self.stretches[group, full]

    def sends_away(self, group: int, full: Mode) -> bool:
        """Whether in a group, beside lanes that hold work, so much is sent away that its stretch is not worth playing to its end."""
        played = self.stretch(group, self.mode(group, full))
        return played.away and len(played.flows) < PARTS

    def flagged(self) -> set[int]:
        """Groups in which work sent away for lack of room does not clear."""
        return {group for (group, full), s in self.stretches.items() if s.away and full == EMPTY}

    def _hours_each(self) -> list[int]:
        """How many hours of each kind a part plays: as much in all as the groups' stretches hold."""
        budget = min(self.effort, self.expected * SHARE) / 2 / PARTS / max(1, len(self.cut.kinds))
        found = []
        for members in self.cut.kinds:
            first = self.cut.segments[members[0]]
            events = expected_in(self.cut.taps, first.start_ns - self.cut.warm_ns, first.end_ns) * self.cut.more
            found.append(max(1, int(budget / max(1.0, events))))
        return found

    # -- lanes --------------------------------------------------------------------------------------------------
    def mode(self, group: int, full: Mode) -> Mode:
        """The lanes that hold work in a group: those that do already, and any other that does not keep up beside them."""
        key = (group, full)
        if key not in self.modes:
            now = full
            for _ in range(len(self.player.lanes)):
                played = self.stretch(group, now)
                more = self._fill_together(group, now, played.filling)
                suspicious = played.suspicious - now - played.filling
                suspicious -= self._keep_up(group, now, suspicious)
                more |= {lane for lane in sorted(suspicious) if self._outgrows(group, now | more | {lane}, lane)}
                if not more:
                    if played.filling:
                        self.whole_stretch(group, now)
                    break
                now = now | more
            self.modes[key] = now
        return self.modes[key]

    def _fill_together(self, group: int, full: Mode, filling: Mode) -> Mode:
        """Of lanes that fill quickly those that outgrow what takes from them, each beside all of these: of very many events only so few
        have to be played, as none waits for long.
        """
        while filling and (more := self._look(group, full | filling).filling):
            filling |= more
        while filling:
            those = frozenset(lane for lane in sorted(filling) if self._outgrows(group, full | filling, lane))
            if those == filling:
                break
            # Beside fewer that are full the others have more room.
            filling = those
        return filling

    def _keep_up(self, group: int, full: Mode, suspicious: set[int]) -> set[int]:
        """Of many lanes in which something waits those that surely keep up: a few are each looked at closely."""
        flows = self.stretch(group, full).flows
        if len(suspicious) < _MANY or not flows:
            return set()
        come = {n: self.come(group, n, fmean(float(f.come[n]) for f in flows)) for n in sorted(suspicious)}
        return self.player.cleared(self.cut, group, full, come)

    def _outgrows(self, group: int, full: Mode, lane: int) -> bool:
        """Whether more comes into a lane than goes out of it when it is always full, as far as the parts can tell."""
        if (group, full) not in self.stretches:
            # Most lanes fill or keep up by far, which a short look tells as well.
            if self._look(group, full).filling:
                self.looks[group, full] = self.player.stretch(self.cut, group, full, patient=True, shorter=_LOOK)
            net, noise = self._net(group, self.looks[group, full], lane)
            if abs(net) > _CLEARLY * noise:
                return net > 0
            self.stretches[group, full] = self.player.stretch(self.cut, group, full, patient=True)
        # Cut short where a third lane fills: what this one does is wanted all the same.
        net, noise = self._net(group, self.whole_stretch(group, full), lane)
        if abs(net) <= _SURE * noise:
            self.critical |= {self.player.first.units[u].function for u in self.player.lanes[lane].units}
        return net > -_SURE * noise

    def _look(self, group: int, full: Mode) -> Stretch:
        """A shorter stretch of a group, to its end or until other lanes fill."""
        if (group, full) not in self.looks:
            self.looks[group, full] = self.player.stretch(self.cut, group, full, shorter=_LOOK)
        return self.looks[group, full]

    def _net(self, group: int, played: Stretch, lane: int) -> tuple[float, float]:
        """How much a lane grows while it is full, events a ns, and the standard error of that."""
        come = [self.come(group, lane, f.come[lane]) for f in played.flows]
        net = [c - float(f.gone[lane]) for c, f in zip(come, played.flows, strict=True)]
        return fmean(net), max(stdev(net) / len(net) ** 0.5, _CRITICAL * fmean(come))

    def come(self, group: int, lane: int, seen: float) -> float:
        """What comes into a lane, per ns: the rate of the demand where nothing but demand feeds it, else what was seen."""
        if self.direct(lane) is None:
            return float(seen)
        # Asked for every few minutes of the month.
        if (group, lane) not in self.coming:
            self.coming[group, lane] = self._demanded(group, lane)
        return self.coming[group, lane]

    def _demanded(self, group: int, lane: int) -> float:
        rates = self.cut.groups[group].rates
        return math.fsum(share * rates[tap] for tap, share in self.direct(lane) or ()) * self.player.lanes[lane].share

    def direct(self, lane: int) -> list[tuple[int, float]] | None:
        """Taps that feed a lane's source, with the share of their events; None where functions or letters feed it too."""
        if lane not in self.feeding:
            self.feeding[lane] = _direct(self, self.player.lanes[lane])
        return self.feeding[lane]

    def burst(self, lane: int) -> float:
        """Variance of what comes in a time / its mean: 1 of Poisson arrivals, 2b - 1 of geometric bursts of mean b."""
        if lane not in self.bursts:
            taps = [self.cut.taps[tap] for tap, _ in self.direct(lane) or []]
            bursty = max([1.0, *(2 * tap.burst - 1 for tap in taps if tap.spread == "bursty")])
            self.bursts[lane] = 0.0 if taps and all(tap.spread == "even" for tap in taps) else bursty
        return self.bursts[lane]

    # -- schedules ----------------------------------------------------------------------------------------------
    def _schedule_taps(self) -> list[Tap]:
        """Of the schedules that do not tick."""
        ticking = {tap.label for tap in self.cut.ticks}
        return [t for t in self.month.taps if t.source.kind is SourceKind.SCHEDULES and t.label not in ticking]

    def _schedules(self, taps: list[Tap], span: Span) -> Span:
        """What ``taps`` of schedules do apart from the rest over the whole month, ``span`` of all of them; those that share room are
        cut into it.
        """
        rest = Rest(self.model, self.placement, self.cut.taps)
        peaks = [span.maxima for stretch in self.stretches.values() for span in stretch.spans.values()]
        crowding = Crowding(self.player.first.units, peaks, span.maxima)
        self.whole = [tap for tap in taps if rest.meets(tap, crowding)]
        if not self.whole:
            return span
        stretches, before = self.stretches, self.cut.groups
        self.modes, self.looks = {}, {}
        self.cut = cut_month(self.model, self.month, self.placement, self.expected, self.whole, self.effort)
        self.coming = {}
        self.each = self._hours_each()
        self.stretches = {}
        for number in range(len(self.cut.groups)):
            # Groups are the same where their hours are; only how often they count has changed.
            if (number, EMPTY) in stretches and before[number].is_like(self.cut.groups[number]):
                self.stretches[number, EMPTY] = stretches[number, EMPTY]
            else:
                self.stretch(number, EMPTY)
        cut_in = {tap.label for tap in self.whole}
        apart = [tap for tap in taps if tap.label not in cut_in]
        return self.player.whole_month(apart)


def _direct(sampler: Sampler, lane: Lane) -> list[tuple[int, float]] | None:
    model = sampler.model
    environment, source = sampler.player.first.sources[lane.source]
    letters = {q.dead_letter for q in model.queues.values()} | {t.dead_letter for t in model.triggers}
    fed = {into for f in model.functions.values() for into in f.feeds} | letters
    topics = {
        f"topics.{name}": feed.share
        for name, topic in model.topics.items()
        for feed in topic.feeds
        if feed.into == source
    }
    if source in fed or fed & set(topics):
        return None
    found = []
    for n, tap in enumerate(sampler.cut.taps):
        if tap.environment == environment and (tap.source == source or tap.source in topics):
            found.append((n, 1.0 if tap.source == source else topics[tap.source]))
    return found
