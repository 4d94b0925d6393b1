"""The sampled month: steady hours by a stretch of each group, other hours as they are, work left over carried on.

Why it exists: past some ten million attempts every event more only confirms what is known - but only where hours do not
hand work on. The month is followed in the order of time. A segment in which no lane holds earlier work is what its
group's stretch says; where lanes hold work, it is what the group does with those lanes full. ``PARTS`` estimates, each
from a part of what was played and with noise of its own, give the spread that intervals are made of (batch means: Law
and Kelton, "Simulation Modeling and Analysis", section 9.5).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from typing import NamedTuple

from msgspec import Struct

from echotally.demand.month import MonthPlan, Tap
from echotally.engine.hourly import Hourly
from echotally.engine.reading import Measured
from echotally.engine.sampling.ahead import Ahead
from echotally.engine.sampling.expecting import SAMPLED_FROM, expected_events
from echotally.engine.sampling.following import PartOfMonth
from echotally.engine.sampling.knowing import Loss, events_a_call, known_losses
from echotally.engine.sampling.meeting import Crowding, Rest
from echotally.engine.sampling.played import EMPTY
from echotally.engine.sampling.player import Dearer, Player
from echotally.engine.sampling.runs import Past, remembered_ns
from echotally.engine.sampling.steady import Steady
from echotally.engine.sampling.strata import BUDGET, PARTS, SHARE, cut_month, expected_in
from echotally.engine.sampling.stretches import play_stretch
from echotally.engine.sampling.totals import Span, Total
from echotally.engine.sampling.untold import (
    Hidden,
    by_turns,
    hidden_for_long,
    left_out,
    on_full_nodes,
    sharing_room,
    taken_again,
)
from echotally.engine.watch import Bounds
from echotally.model.estate import Model
from echotally.model.sources import SourceKind
from echotally.rates.card_loading import Offer


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
    those that do not get done what comes to them, but for a reason that no stretch shows: how much of it is not known; ``beside``
    are those that want the same room. ``together``: how many events a call of each function carries at the most; ``hidden``: what stretches do not
    show of messages that failed.
    """

    month: Measured
    parts: list[Measured]
    share: float
    losses: dict[str, Loss]
    critical: frozenset[str]
    untold: frozenset[str]
    beside: frozenset[str]
    together: dict[str, int]
    hidden: dict[str, Hidden]


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
    untold = left_out(parts) | on_full_nodes(parts) | taken_again(sampler.player, sampler.been_full)
    if untold and not sampler.player.stubborn:
        raise Dearer
    beside = sharing_room(parts, untold)
    for part in parts:
        part.knows(losses)
    whole = Total.mean(parts, hours).measured(model)
    share = min(1.0, sampler.player.played / max(1.0, sampler.expected))
    # Each is let go once it has been read.
    months = [parts.pop(0).measured(model) for _ in range(len(parts))]
    critical, hidden = frozenset(sampler.steady.critical), hidden_for_long(sampler.player, sampler.cut)
    return Sampled(whole, months, share, losses, critical, untold, beside, events_a_call(model), hidden)


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
        self.whole: list[Tap] = []
        #: Lanes that held work left over at some time.
        self.been_full: set[int] = set()
        #: What is asked of it is played beside, while ``parts`` goes on.
        self.ahead: Ahead
        self.steady: Steady

    def parts(self) -> tuple[list[Total], Hourly]:
        """One month for each part of the sample, and what they say by hour, their mean."""
        with Ahead(self.player, self.cores) as self.ahead:
            self.steady = Steady(self.player, self.cut, self.ahead)
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
        plays = {(number, EMPTY): partial(play_stretch, cut=self.cut, number=number, full=EMPTY) for number in groups}
        self.ahead.will_be_asked([(_APART, whole)])
        self.ahead.will_be_asked(plays.items())
        for number in groups:
            self.steady.stretch(number, EMPTY)
            self.progress.done = 0.5 * (number + 1) / len(self.cut.groups)
        return self._schedules(taps, self.ahead.asked(_APART, whole))

    def _followed(self, followed: list[PartOfMonth], apart: Span, still: Span | None) -> tuple[list[Total], Hourly]:
        """Every part's month, one after the other, each let go but for its total."""
        found, hours = list[Total](), list[Hourly]()
        for part in range(PARTS):
            one = followed.pop(0)
            total = one.follow()
            if one.hands_on_too_much():
                # Where the month itself can be played, it is.
                raise by_turns(self.model.estate.month, self.expected) if self.player.stubborn else Dearer
            self.ahead.forget(one.likely_hours())
            total.add_apart(apart, still)
            hours.append(total.gives_its_hours())
            total.is_put_together()
            # Nobody asks for what this part was made of again.
            for stretch in self.steady.stretches.values():
                stretch.spans.pop(part, None)
            found.append(total)
            self.player.foresees(part)
            self.progress.done = 0.5 + 0.5 * (part + 1) / PARTS
        return found, Hourly.mean(hours)

    def _hours_each(self) -> list[int]:
        """How many hours of each kind a part plays: as much in all as the groups' stretches hold."""
        budget = min(self.effort, self.expected * SHARE) / 2 / PARTS / max(1, len(self.cut.kinds))
        found = []
        for members in self.cut.kinds:
            first = self.cut.segments[members[0]]
            events = expected_in(self.cut.taps, first.start_ns - self.cut.warm_ns, first.end_ns) * self.cut.more
            found.append(max(1, int(budget / max(1.0, events))))
        return found

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
        peaks = [stretch.peaks for stretch in self.steady.stretches.values()]
        crowding = Crowding(self.player.first.units, peaks, span.maxima)
        self.whole = [tap for tap in taps if rest.meets(tap, crowding)]
        if not self.whole:
            return span
        self.cut = cut_month(self.model, self.month, self.placement, self.expected, self.whole, self.effort)
        self.each = self._hours_each()
        self.steady = self.steady.cut_anew(self.cut)
        cut_in = {tap.label for tap in self.whole}
        apart = [tap for tap in taps if tap.label not in cut_in]
        return self.player.whole_month(apart)
