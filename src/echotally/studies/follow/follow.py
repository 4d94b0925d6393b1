"""``follow``: one event's way through the estate, in the month that ``project`` plays."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import datetime
from decimal import Decimal, localcontext
from typing import TypedDict, Unpack

import numpy as np
from msgspec import Struct

from echotally.engine.build import Built
from echotally.engine.play import begun, play
from echotally.engine.reading import read_out
from echotally.engine.watch import Bounds
from echotally.engine.watching import EVERYTHING, Watched, carried_now
from echotally.errors import BadInput, Crowded, Problem
from echotally.model.loading import ModelSource
from echotally.model.sources import SourceKind
from echotally.naming import known_name
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded, load, placement_on
from echotally.projection.playing import Playing
from echotally.projection.project import billed_again, project_loaded, project_plan, why_not
from echotally.rates.billing import exact as exact_context
from echotally.rates.card_loading import Offer, candidates
from echotally.studies.follow.answer import Arrival, Copy, Followed, Try
from echotally.studies.follow.choosing import (
    HAPPENINGS,
    ByAttempts,
    Happened,
    Middle,
    Nth,
    Place,
    Question,
    Target,
    place_at,
)
from echotally.studies.follow.money import Prices
from echotally.studies.follow.telling import Tale, laid
from echotally.studies.follow.waiting import Waits

Progress = Callable[[str, float], None]


class Which(Struct, frozen=True):
    """Which event: ``event`` as PLACE[@ENVIRONMENT]:NUMBER, or the first at ``at`` (local) or later at ``source``, or by what happened.

    ``happened`` is one of ``choosing.HAPPENINGS``, looked for at ``source`` or among those of ``function`` where they are given.
    """

    event: str | None = None
    at: str | None = None
    source: str | None = None
    function: str | None = None
    happened: str | None = None

    @property
    def words(self) -> str:
        """The question in words."""
        where = "".join((f" at {self.source}" if self.source else "", f" of {self.function}" if self.function else ""))
        if self.event:
            return self.event
        if self.at:
            return f"the first event{where} from {self.at} on"
        return HAPPENINGS[self.happened or "slowest"] + where


#: Where more events than that wait at once, lumps and backlogs aside, they and what is written down of them take a gigabyte.
_WAITING = 2_000_000


class FollowWords(TypedDict, total=False):
    """What ``follow_loaded`` may be told beside its question, as keywords."""

    seed: int | None
    exact: bool
    progress: Progress | None


def follow(
    path: ModelSource | Loaded,
    which: Which | None = None,
    plan: str | None = None,
    *,
    sets: Iterable[tuple[str, str]] = (),
    **words: Unpack[FollowWords],
) -> Followed:
    """Follow one event of the month on ``plan`` (left out: the one ``project`` picks), the slowest where none is named.

    The month is played twice: once with what it takes to find the event, once up to it and on until all that came of it has ended.
    Raises ``BadInput`` for an event that is not there, a plan that cannot run the estate, a month too large to be played event by event.
    """
    loaded = load(path, sets)
    return follow_loaded(loaded, which or Which(happened="slowest"), plan, **words)


def follow_loaded(
    loaded: Loaded,
    which: Which,
    plan: str | None = None,
    seed: int | None = None,
    *,
    exact: bool = False,
    progress: Progress | None = None,
) -> Followed:
    """As ``follow``, of a model already loaded.

    ``exact`` follows in a month of however many events; ``progress`` is told what is played and which share of the month.
    """
    the_seed = loaded.model.estate.seed if seed is None else seed
    month = Month(loaded, _offer(loaded, plan, exact), the_seed, exact)
    question = month.question(which)
    target, played = month.found(question, progress)
    tale = month.told(target, progress)
    if tale.root is None:
        text, allowed = "nothing came there from then on", "another place or an earlier time"
        raise BadInput(Problem(text, "--at", value=f"{which.source} from {which.at} on", allowed=allowed))
    prices = Prices(loaded.model, played)
    Pricing(prices, loaded).settle(tale, month.length_ns)
    root, chosen = tale.arrivals[tale.root], tale.chosen
    return Followed(
        root=root,
        asked=which.words,
        chosen=chosen,
        clock=loaded.month.clock,
        offer=month.offer,
        seed=the_seed,
        currency=played.bill.currency,
        bill=played.bill.unrounded,
        nobody=prices.of_nobody(),
        estate=loaded.model.estate.name,
        cut=tale.cut,
        notes=loaded.month.notes,
    )


def _offer(loaded: Loaded, plan: str | None, exact: bool) -> Offer:
    if plan is not None:
        return loaded.offer(plan, "--plan")
    able = candidates(loaded.model, loaded.offers)
    if len(able) == 1:
        # With one plan there is nothing to pick.
        return able[0]
    if not exact and all(map(loaded.is_large, able)):
        # Whichever is picked: playing all of them to pick it takes minutes.
        return able[0]
    found = project_loaded(loaded, [], workers=None)
    return loaded.offer(found.pick or found.closest or able[0].name)


class Month:
    """A month on a plan that is played to be looked at."""

    def __init__(self, loaded: Loaded, offer: Offer, seed: int, exact: bool = False) -> None:
        self.loaded, self.offer, self.seed, self.exact = loaded, offer, seed, exact
        self.placement = placement_on(loaded.model, loaded.offers, offer)
        self.length_ns = loaded.month.length_ns
        for function, text in why_not(loaded, self.placement)[:1]:
            allowed = f"a plan that can; {function}: {text}"
            raise BadInput(Problem("cannot run this estate", "--plan", value=offer.name, allowed=allowed))
        if not exact and loaded.is_large(offer):
            raise self._too_large("is too large to be played event by event")
        self.bounds = Bounds(not exact, waiting=None if exact else _WAITING + loaded.there_at_once())
        self.first = self._begun()

    def _too_large(self, why: str) -> BadInput:
        text = f"{why}, and one event is followed only where all are played"
        month = self.loaded.model.estate.month
        return BadInput(Problem(text, "--exact", value=month, allowed="--exact plays them all"))

    def _begun(self) -> Built:
        return begun(self.loaded.model, self.loaded.month.arrivals, self.placement, self.seed)

    def question(self, which: Which) -> Question | Target:
        """What is looked for; a target where that is known beforehand. Raises ``BadInput`` for a place that is not there."""
        if which.event is not None:
            return self._numbered(which.event)
        if which.at is not None:
            return self._from(which.at, which.source or "")
        return self._happened(which)

    def _numbered(self, text: str) -> Question | Target:
        where, colon, number = text.rpartition(":")
        if not colon or not number.isdecimal() or int(number) < 1:
            allowed = (
                "PLACE:NUMBER, counted from 1, such as demand.gauges:1200, schedules.nightly:3 or queues.sms.backlog:1"
            )
            raise BadInput(Problem("names no event", "--event", value=text, allowed=allowed))
        place = self._place(where, "--event")
        if place.backlog is not None:
            before, count = place.backlog
            if int(number) > count:
                allowed = f"1 to {count:,}: so many lie there"
                raise BadInput(Problem("is not there", "--event", value=text, allowed=allowed))
            return Target(0, ("outside", before + int(number) - 1))
        # Which instant that was shows only as the month is played.
        return Nth(int(number), place, "--event", text)

    def _place(self, text: str, option: str) -> Place:
        return place_at(text, self.loaded.model, self.first, self.loaded.month.taps, option)

    def _from(self, text: str, source: str) -> Target:
        try:
            when = datetime.fromisoformat(text)
        except ValueError:
            allowed = "a local time such as 2027-03-14T06:10"
            raise BadInput(Problem("is no time", "--at", value=text, allowed=allowed)) from None
        clock = self.loaded.month.clock
        at = clock.ns(when) if when.tzinfo else clock.local_ns(when)
        if not 0 <= at < self.length_ns:
            allowed = f"a time of {clock.month}"
            raise BadInput(Problem("is not in the month", "--at", value=text, allowed=allowed))
        return Target(at, place=self._place(source, "--source"))

    def _happened(self, which: Which) -> Question:
        what, sources, units, where = which.happened or "slowest", None, None, ""
        if which.source is not None:
            place = self._place(which.source, "--source")
            if place.taps:
                taps = self.loaded.month.taps
                place = self._place(f"{taps[min(place.taps)].source}@{place.environment}", "--source")
            sources, where = set(place.sources), f" at {which.source}"
        if which.function is not None:
            functions = self.loaded.model.functions
            function = known_name("function", "--function", which.function, functions, "functions")
            units = {n for n, unit in enumerate(self.first.units) if unit.function == function}
            where += f" of {function}"
        if what == "median":
            return Middle(sources, units, where)
        if what in ("throttled", "coldest"):
            return ByAttempts(what, sources, units, where, self.first.world.triggers["source"].copy())
        return Happened(what, sources, units, where)

    def found(self, question: Question | Target, progress: Progress | None = None) -> tuple[Target, PlayedPlan]:
        """Play the whole month, find what is looked for, and bill it."""
        keeps = question.keeps if isinstance(question, Question) else frozenset[str]()
        watched = Watched(self.first, keeps, self.bounds, troubled=isinstance(question, ByAttempts))
        if isinstance(question, Question):
            question.begins(self.first)
        try:
            # Page by page: a diary of the whole month would not fit into memory.
            for page in watched.pages(_of(progress, "the month")):
                if isinstance(question, Question):
                    question.look(page)
                    question.begins(self.first)
        except Crowded:
            raise self._too_large(f"holds more than {self.bounds.waiting:,} events that wait at once") from None
        played = billed_again(self.loaded, read_out(self.loaded.model, self.first), self.offer)
        target = question.target() if isinstance(question, Question) else question
        if any(offer.plan.commitment for offer in self.placement.values()):
            # Hours prepaid are paid hour by hour, which takes marks that a watched month has not.
            again = project_plan(self.loaded, self.offer, self.seed, how=Playing(exact=True))
            played = again if isinstance(again, PlayedPlan) else played
        return target, played

    def told(self, target: Target | None, progress: Progress | None = None) -> Tale:
        """Play the month up to an event and on until all that came of it has ended; None: all events of the month."""
        built = self._begun()
        begin = target.at if target else 0
        tell = _of(progress, "up to the event")
        if begin:
            # Unwatched up to the event, at full speed.
            play(built, begin, tell, bounded=not self.exact)
        tale = Tale(self.loaded.model, built, self.loaded.month.taps, target)
        watched = Watched(built, EVERYTHING, self.bounds)
        tale.noted = watched.noted
        if target is not None and target.place is not None:
            tale.to_come = 1 if target.nth is None else target.nth - target.place.count(built)
        # What lies in queues at first came before the diary was opened; it is not among what comes to a place.
        over, first = False, begin == 0 and (target is None or target.place is None)
        for page in watched.pages(tell):
            tale.add(page._replace(born=np.concatenate([laid(built), page.born])) if first else page)
            over, first = self._over(tale, built), False
            if over and target is not None:
                break
        # Whatever lies somewhere now is told as it is, not as left over at a month's end.
        if over and int(built.world.clock[0]["now"]) < self.length_ns:
            tale.still_there()
        tale.close()
        return tale

    @staticmethod
    def _over(tale: Tale, built: Built) -> bool:
        """Whether all that is watched has ended, nothing of it is on its way and no call carries any of it."""
        if not tale.over or int(built.world.clock[0]["expected_n"]):
            return False
        return not carried_now(built, np.array(list(tale.copies), np.int64))


def _of(progress: Progress | None, what: str) -> Callable[[float], None] | None:
    return (lambda share: progress(what, share)) if progress else None


class Pricing:
    """Tells the waits of what a tale has gathered, and what each event costs (rule 11.3)."""

    def __init__(self, prices: Prices, loaded: Loaded) -> None:
        self.prices, self.loaded = prices, loaded

    def settle(self, tale: Tale, until: int) -> None:
        """Fill in waits and money of every copy."""
        waits = Waits(self.loaded.model, tale)
        for arrival in tale.arrivals.values():
            # A queue's message pays for its send itself, since topics send some as well.
            if arrival.source.kind is not SourceKind.QUEUES and arrival.source.kind in _PAID:
                arrival.own = self.prices.comes(arrival.source, arrival.environment)
            for copy in arrival.copies:
                waits.tell(copy, until)
                with localcontext(exact_context()):
                    self._copy(arrival, copy, tale)

    def _copy(self, arrival: Arrival, copy: Copy, tale: Tale) -> None:
        for each in copy.tries:
            each.cost = self._try(copy, each, len(tale.good.get(each.index, [])))
        copy.here = sum((each.cost for each in copy.tries), Decimal(0))
        kind = copy.source.kind
        if kind is SourceKind.QUEUES and arrival.how != "backlog":
            copy.here += self.prices.operations(copy.source, copy.environment, Decimal(1))
        elif kind is SourceKind.SCHEDULES and copy.function:
            copy.here += self.prices.firing((copy.function, copy.environment))
        elif kind is SourceKind.ENDPOINTS and self._still_asks(copy, tale):
            copy.here += self.prices.request((copy.function or "", copy.environment))

    @staticmethod
    def _still_asks(copy: Copy, tale: Tale) -> bool:
        """Whether a request waits for room as the month ends: it was asked, and no attempt tells of that."""
        if copy.ended_as != "unfinished" or copy.function is None or copy.ended is None:
            return False
        # A run in flight was asked for by the attempt that tells of it; a client that pauses asks for nothing.
        running = any(each.outcome == "still_running" for each in copy.tries)
        pausing = any(back >= copy.ended for _, back in tale.backs.get(copy.number, []))
        return not running and not pausing

    def _try(self, copy: Copy, each: Try, good: int) -> Decimal:
        """An event's equal part of an attempt, and what is its own there."""
        key, cost = (each.function, each.environment), Decimal(0)
        if each.outcome != "throttled":
            cost += self.prices.attempt(key, each.charged_ns) / each.events
            cost += self.prices.uses(key, self._items(copy), each.good)
        if copy.source.kind is SourceKind.QUEUES:
            one = self.prices.operations(copy.source, copy.environment, Decimal(1))
            cost += one / each.events + (one / good if each.good else 0)
        elif copy.source.kind is SourceKind.ENDPOINTS:
            cost += self.prices.request(key) + (self.prices.reply(key) if each.good else 0)
        return cost

    def _items(self, copy: Copy) -> int:
        """Events a copy stands for: a firing of a schedule has items."""
        schedules = self.loaded.model.schedules
        return schedules[copy.source.name].items if copy.source.kind is SourceKind.SCHEDULES else 1


_PAID = (SourceKind.TOPICS, SourceKind.STREAMS, SourceKind.FOLDERS)
