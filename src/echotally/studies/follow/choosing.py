"""Which event is followed: named by its number at a place, by its time, or by what happened to it, found by playing the month once."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from difflib import get_close_matches
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.demand.month import Tap
from echotally.engine import codes
from echotally.engine.build import Built
from echotally.engine.codes import NEVER
from echotally.engine.watching import Pages
from echotally.errors import BadInput, Problem
from echotally.model.estate import Model
from echotally.model.sources import SourceKind
from echotally.naming import with_environment

#: What may have happened to an event, and what the one that is found is called.
HAPPENINGS = {
    "slowest": "the slowest event",
    "median": "the median event",
    "lost": "the first event that was lost, expired or too large",
    "throttled": "the event that was throttled most often",
    "dead-letter": "the first event that went to a dead letter",
    "coldest": "the event with the longest cold start",
}
_LOST = (int(codes.LOST), int(codes.EXPIRED), int(codes.TOO_LARGE))
_NONE_OF_THAT = {
    "slowest": "no event was handled",
    "median": "no event was handled",
    "lost": "no event was lost, expired or too large",
    "throttled": "no event was throttled",
    "dead-letter": "no event went to a dead letter",
    "coldest": "no event waited for an instance to start",
}


class Target(Struct, frozen=True):
    """Where the event that is followed comes from: an instant, ns, not after its coming, and how to know it then.

    One of three: ``key`` is an arrival's number among those from outside or put out inside (``studies.follow.answer.Arrival``);
    ``number`` an event's; ``place`` where it comes, as the ``nth`` there of the month, or as the first after ``at`` (None).
    """

    at: int
    key: tuple[str, int] | None = None
    number: int | None = None
    place: Place | None = None
    nth: int | None = None


class Question:
    """Something that is looked for in the pages of a month. ``keeps`` are the arrays of the diary that it takes to tell."""

    keeps: frozenset[str]

    def __init__(self) -> None:
        #: Events are numbered as they come: the number of the next one as each page began, and when that was.
        self.marks: list[tuple[int, int]] = []

    def begins(self, built: Built) -> None:
        """A page begins."""
        clock = built.world.clock[0]
        self.marks.append((int(clock["number"]), int(clock["now"])))

    def before(self, number: int) -> int:
        """An instant that is not after the coming of event ``number``, ns."""
        place = bisect_right(self.marks, (number, NEVER)) - 1
        return self.marks[place][1] if place >= 0 else 0

    def look(self, page: Pages) -> None:
        """Look through one more page."""
        raise NotImplementedError

    def target(self) -> Target:
        """What was found; raises ``BadInput`` where nothing was."""
        raise NotImplementedError


def key_of(line: Any) -> tuple[str, int]:
    """How an arrival is told from all others, from a record ``born``."""
    return ("outside", int(line["outside"])) if line["sent"] < 0 else ("inside", int(line["sent"]))


class Nth(Question):
    """The N-th arrival at a place: the page in which it comes is told by what the world counts, and nothing need be kept."""

    keeps = frozenset[str]()

    def __init__(self, number: int, place: Place, option: str, value: str) -> None:
        super().__init__()
        self.number, self.place = number, place
        self.option, self.value = option, value
        self.seen, self.at = 0, 0

    def begins(self, built: Built) -> None:
        """A page begins: it may be the one in which the arrival comes."""
        self.seen = self.place.count(built)
        if self.seen < self.number:
            self.at = int(built.world.clock[0]["now"])

    def look(self, page: Pages) -> None:
        """Nothing is kept."""

    def target(self) -> Target:
        """The arrival; raises ``BadInput`` where fewer came."""
        if self.seen < self.number:
            there = f"1 to {self.seen:,}: so many came this month"
            allowed = there if self.seen else "another place or time: nothing came there"
            raise BadInput(Problem("is not there", self.option, value=self.value, allowed=allowed))
        return Target(self.at, place=self.place, nth=self.number)


class Happened(Question):
    """An event to which something happened: at some of the sources, of some of the units (None: of all)."""

    def __init__(self, what: str, sources: set[int] | None, units: set[int] | None, where: str) -> None:
        super().__init__()
        self.what, self.sources, self.units, self.where = what, sources, units, where
        self.keeps = frozenset({"moments"})
        self.best: tuple[int, int] | None = None

    def _here(self, source: NDArray[np.int64], unit: NDArray[np.int64]) -> NDArray[np.bool_]:
        here = np.ones(len(source), bool)
        for wanted, found in ((self.sources, source), (self.units, unit)):
            if wanted is not None:
                here &= np.isin(found, list(wanted))
        return here

    def _better(self, measure: NDArray[np.int64], numbers: NDArray[np.int64]) -> None:
        """Keep the event with the largest measure, of equals the first."""
        if len(measure):
            most = int(np.argmax(measure))
            if self.best is None or measure[most] > self.best[0]:
                self.best = (int(measure[most]), int(numbers[most]))

    def look(self, page: Pages) -> None:
        """Keep what a page may answer the question with."""
        wanted = np.isin(page.moments["what"], self._endings())
        if self.sources is not None or self.units is not None:
            wanted &= self._here(page.moments["source"], page.moments["unit"])
        self._ended(page.moments, np.flatnonzero(wanted))

    def _endings(self) -> list[int]:
        return {"lost": list(_LOST), "dead-letter": [int(codes.DEAD_LETTERED)]}.get(self.what, [int(codes.HANDLED)])

    def _ended(self, moments: NDArray[Any], ended: NDArray[np.int64]) -> None:
        """Events of these lines ended as is asked for."""
        if self.what == "slowest":
            self._better(moments["at"][ended] - moments["came"][ended], moments["number"][ended])
        elif self.best is None and len(ended):
            self.best = (0, int(moments["number"][ended[0]]))

    def target(self) -> Target:
        """The event; raises ``BadInput`` where none is of that kind."""
        if self.best is None:
            text = f"{_NONE_OF_THAT[self.what]}{self.where}"
            raise BadInput(Problem(text, f"--{self.what}", allowed="another question, plan or place"))
        return Target(self.before(self.best[1]), number=self.best[1])


class Middle(Happened):
    """The event that took as long as the middle one."""

    def __init__(self, sources: set[int] | None, units: set[int] | None, where: str) -> None:
        super().__init__("median", sources, units, where)
        self.took: list[NDArray[np.int64]] = []
        self.numbers: list[NDArray[np.int64]] = []

    def _ended(self, moments: NDArray[Any], ended: NDArray[np.int64]) -> None:
        self.took.append(moments["at"][ended] - moments["came"][ended])
        self.numbers.append(moments["number"][ended])

    def target(self) -> Target:
        """The event; of an even number of them the shorter of the two in the middle, of equals the first."""
        took, numbers = np.concatenate(self.took), np.concatenate(self.numbers)
        if len(took):
            middle = (len(took) - 1) // 2
            length = np.partition(took, middle)[middle]
            equal = np.sort(numbers[took == length])
            self.best = (int(length), int(equal[middle - int((took < length).sum())]))
        return super().target()


class ByAttempts(Happened):
    """The event that was throttled most often, or waited longest for an instance to start."""

    def __init__(
        self, what: str, sources: set[int] | None, units: set[int] | None, where: str, source_of: NDArray[np.int64]
    ) -> None:
        super().__init__(what, sources, units, where)
        self.keeps = frozenset({"diary", "carried"})
        self.source_of = source_of
        self.throttled: list[NDArray[np.int64]] = []

    def look(self, page: Pages) -> None:
        """Keep what a page may answer the question with."""
        here = self._here(self.source_of[page.diary["trigger"]], page.diary["unit"])
        if self.what == "coldest":
            # All events of a batch waited alike: of equals the first, its oldest.
            cold = np.flatnonzero(here & (page.diary["outcome"] != codes.THROTTLED))
            self._better(page.diary["cold_ns"][cold], page.diary["number"][cold])
            return
        ours = np.isin(page.carried["attempt"], page.diary["index"][here])
        self.throttled.append(page.carried["number"][ours])

    def target(self) -> Target:
        """The event; of equals the first."""
        found = np.concatenate(self.throttled) if self.throttled else np.zeros(0, np.int64)
        if len(found):
            numbers, times = np.unique(found, return_counts=True)
            most = int(np.argmax(times))
            self.best = (int(times[most]), int(numbers[most]))
        return super().target()


class Place(Struct, frozen=True):
    """A place of a model at which events come, as written: which ``born`` records came there."""

    text: str
    environment: str
    sources: frozenset[int] = frozenset()
    taps: frozenset[int] = frozenset()
    backlog: tuple[int, int] | None = None
    queue: bool = False

    def count(self, built: Built) -> int:
        """How many have come there so far, a queue's backlog apart."""
        world = built.world
        if self.taps:
            return int(sum(int(world.taps[tap]["came"]) for tap in self.taps if tap >= 0))
        (place,) = self.sources
        if not self.queue:
            return int(world.sources[place]["sends"])
        laid = sum(count for source, count in built.backlogs if source == place)
        return int(world.sources[place]["arrived"]) - laid

    def came(self, lines: NDArray[Any]) -> NDArray[np.bool_]:
        """Which arrivals came there; at a queue messages, since a topic's come there as copies."""
        if self.queue:
            return (lines["number"] >= 0) & np.isin(lines["source"], list(self.sources))
        where, places = (lines["tap"], self.taps) if self.taps else (lines["source"], self.sources)
        return (lines["number"] < 0) & np.isin(where, list(places))


def place_at(text: str, model: Model, built: Built, taps: Sequence[Tap], option: str) -> Place:
    """A place as people write it: ``demand.gauges``, ``queues.sms``, ``queues.sms.backlog``, each with ``@ENVIRONMENT`` or without.

    Raises ``BadInput`` where the model has none of that name, or several environments and none is named.
    """
    places = [*(f"demand.{name}" for name in model.demand), *model.sources()]
    address, environment = with_environment(text, [*places, *(f"{place}.backlog" for place in places)], "")
    environments = list(model.environments)
    if environment not in environments and (environment or len(environments) > 1):
        allowed = " or ".join(f"{address}@{name}" for name in environments)
        raise BadInput(Problem("names no environment of the model", option, value=text, allowed=allowed))
    environment = environment or environments[0]
    own, backlog = address.removesuffix(".backlog"), address.endswith(".backlog")
    if address.startswith("demand.") and address.removeprefix("demand.") in model.demand:
        name = address.removeprefix("demand.")
        found = {n for n, tap in enumerate(taps) if tap.demand == name and tap.environment == environment}
        return Place(text, environment, taps=frozenset(found or {-2}))
    place = next(
        (
            n
            for n, (env, source) in enumerate(built.sources)
            if env == environment and source == (own if backlog else address)
        ),
        None,
    )
    if place is None:
        raise BadInput(Problem("is no place of the model", option, value=text, allowed=_near(address, model)))
    if backlog:
        return Place(text, environment, frozenset({place}), backlog=_laid(built, place, text, option))
    return Place(text, environment, frozenset({place}), queue=built.sources[place][1].kind is SourceKind.QUEUES)


def _laid(built: Built, place: int, text: str, option: str) -> tuple[int, int]:
    """The first of the messages of a queue's backlog among all that were laid, and how many it has."""
    before = 0
    for source, count in built.backlogs:
        if source == place:
            return before, count
        before += count
    raise BadInput(Problem("has no backlog", option, value=text, allowed="a queue with `backlog` in the model"))


def _near(address: str, model: Model) -> str:
    places = [*(f"demand.{name}" for name in model.demand), *model.sources()]
    near = get_close_matches(address, places, 3)
    return ", ".join(near or places[:8])
