"""What became of an event: its copies, attempts and output, gathered from the diary of a month that is played up to it and on.

The pages of the diary are searched for what is watched: an arrival, its copies by the arrival's number, their attempts by the
events they held, what these put out by the attempt, what they asked by the round of requests, dead letters by the number under
which they were put out. What is found is watched as well, until a page brings nothing new.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from typing import Any

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from echotally.demand.month import Tap
from echotally.engine import codes
from echotally.engine.build import Built
from echotally.engine.layout import DTYPES
from echotally.engine.reading import ENDINGS
from echotally.engine.records import Born
from echotally.engine.watching import Pages, in_flight
from echotally.model.estate import Model
from echotally.model.sources import SourceKind, SourceRef
from echotally.studies.follow.answer import Arrival, Copy, Try
from echotally.studies.follow.choosing import Target, key_of

Key = tuple[str, int]
OUTCOMES = ("succeeded", "failed", "timed_out", "throttled", "still_running")
#: More arrivals than that are not followed, and calls in the way are looked at for so many waits.
MOST_ARRIVALS, MOST_WAITS = 20_000, 60
_NAMES = list(ENDINGS)
_NEW_WAIT = (int(codes.COMES_BACK), int(codes.SEEN_AGAIN))


class Asked(Struct):
    """A moment at which an event began to wait: who was in flight on its account then, and why there was no room."""

    unit: int
    at: int
    in_flight: dict[int, int] = field(default_factory=lambda: defaultdict(int))
    refusals: dict[int, Any] = field(default_factory=dict)


class Tale:
    """What is known of the arrivals that are watched; ``everything``: of all there are."""

    def __init__(self, model: Model, built: Built, taps: Iterable[Tap], target: Target | None) -> None:
        self.model, self.built, self.taps, self.target = model, built, list(taps), target
        self.arrivals: dict[Key, Arrival] = {}
        self.copies: dict[int, Copy] = {}
        self.tries: dict[int, list[tuple[Copy, Try]]] = {}
        #: Of attempts whose output is watched: the events they handled, in order.
        self.good: dict[int, list[int]] = {}
        self.letters: dict[int, int] = {}
        #: When it was known that an event comes back, and when it does, by its number.
        self.backs: dict[int, list[tuple[int, int]]] = defaultdict(list)
        self.rounds: dict[int, list[int]] = defaultdict(list)
        self.waits: dict[tuple[int, int], Asked] = {}
        self.root: Key | None = None
        #: The event that was asked for, where it was one and not an arrival; how many more come to the place that was asked for.
        self.chosen: int | None = target.number if target else None
        self.to_come = 0
        self.noted, self.cut = 0, False
        self._account = world_accounts(built)
        self._units = {(unit.function, unit.environment): n for n, unit in enumerate(built.units)}
        self._seen: set[int] = set()
        self._page: Pages

    @property
    def over(self) -> bool:
        """Whether all that is watched has ended, so far as pages tell; what calls still carry is not known here."""
        return self.root is not None and all(
            copy.ended is not None or self._unread(copy) for copy in self.copies.values()
        )

    def _unread(self, copy: Copy) -> bool:
        """Whether nobody reads where an event lies: it lies there until its retention is over, and need not be waited for."""
        return copy.source.kind is SourceKind.QUEUES and self.home(copy.source, copy.environment) < 0

    def close(self) -> None:
        """The watch is over: what lies where nobody reads it ends as its queue's retention or the month does."""
        horizon = int(self.built.world.clock[0]["horizon"])
        for copy in self.copies.values():
            if copy.ended is None and self._unread(copy):
                over = copy.came + int(self.model.queues[copy.source.name].retention)
                copy.ended_as, copy.ended = ("expired", over) if over < horizon else ("unfinished", horizon)

    def add(self, page: Pages) -> None:
        """Look through one more page for what is watched."""
        self._page = page
        if self.target is not None and self.root is None:
            self.root = self._root(page.born)
            if self.root is None:
                self.noted += len(page.diary)
                return
        while self._came(page) + self._carried(page) + self._asked(page) + self._ended(page):
            pass
        self._in_the_way(page)
        self.noted += len(page.diary)
        self._seen.clear()

    def _root(self, born: NDArray[Any]) -> Key | None:
        """The arrival that was asked for, once it has come."""
        target = self.target
        if target is None:
            return None
        if target.place is not None:
            lines = born[target.place.came(born)]
            if len(lines) < self.to_come:
                self.to_come -= len(lines)
                return None
            line = lines[self.to_come - 1]
            self.chosen = int(line["number"]) if line["number"] >= 0 else None
            return key_of(line)
        if target.number is not None:
            lines = born[born["number"] == target.number]
        elif target.key is not None and target.key[0] == "outside":
            lines = born[(born["number"] < 0) & (born["outside"] == target.key[1])]
        else:
            lines = born[(born["number"] < 0) & (born["sent"] == (target.key or ("", -1))[1])]
        return key_of(lines[0]) if len(lines) else None

    # -- what comes

    def _came(self, page: Pages) -> int:
        """Arrivals and copies that are new, of what is watched."""
        born, new = page.born, 0
        for n in np.flatnonzero(self._may_be_ours(born)):
            line = born[n]
            if line["number"] < 0:
                new += self._arrives(line)
            elif key_of(line) in self.arrivals and int(line["number"]) not in self.copies:
                self._copied(line)
                new += 1
        return new

    def _may_be_ours(self, born: NDArray[Any]) -> NDArray[np.bool_]:
        if self.target is None:
            return np.ones(len(born), bool)
        inside = [key[1] for key in self.arrivals if key[0] == "inside"]
        inside += self.letters
        outside = [key[1] for key in self.arrivals if key[0] == "outside"]
        if self.root:
            (inside if self.root[0] == "inside" else outside).append(self.root[1])
        ours = np.isin(born["sent"], inside) & (born["sent"] >= 0)
        ours |= np.isin(born["outside"], outside) & (born["outside"] >= 0)
        ours |= (born["origin"] >= 0) & np.isin(born["origin"], list(self.good))
        return ours | ((born["asking"] > 0) & np.isin(born["asking"], list(self.rounds)))

    def _arrives(self, line: Any) -> int:
        key = key_of(line)
        if key in self.arrivals:
            return 0
        place, mother = int(line["source"]), self._mother(line)
        # What came from within is known once what it came of is; of what comes from outside one is watched, or all.
        if key != self.root and mother is None and (key[0] == "inside" or self.target is not None):
            return 0
        if len(self.arrivals) >= MOST_ARRIVALS and self.target is not None:
            self.cut = True
            return 0
        environment, source = self.built.sources[place]
        how, by = self._how(line, mother)
        arrival = Arrival(key, source, environment, int(line["at"]), how, by)
        self.arrivals[key] = arrival
        if mother is not None:
            if how == "dead letter":
                mother.letter = arrival
            else:
                mother.outputs.append(arrival)
        return 1

    def _mother(self, line: Any) -> Copy | None:
        """The watched event that an arrival came of."""
        if int(line["sent"]) in self.letters:
            return self.copies[self.letters[int(line["sent"])]]
        group = self.good.get(int(line["origin"])) if line["origin"] >= 0 else self.rounds.get(int(line["asking"]))
        if not group:
            return None
        # A firing of many items is one event.
        number = group[int(line["whose"])] if len(group) > 1 else group[0]
        return self.copies.get(number)

    def _how(self, line: Any, mother: Copy | None) -> tuple[str, str]:
        if line["sent"] < 0:
            if line["tap"] < 0:
                return "backlog", self.built.sources[int(line["source"])][1].name
            tap = self.taps[int(line["tap"])]
            return ("demand", tap.demand) if tap.demand is not None else ("schedule", tap.source.name)
        how = "asked" if line["asking"] > 0 else "put out" if line["origin"] >= 0 else "dead letter"
        return how, (mother.function if mother is not None else None) or self._writer(line, how)

    def _writer(self, line: Any, how: str) -> str:
        """Who put something out that is not watched itself: by the attempt, or whoever may have."""
        place = int(line["origin"]) - self.noted
        if 0 <= place < len(self._page.diary):
            return self.built.units[int(self._page.diary[place]["unit"])].function
        source, model = self.built.sources[int(line["source"])][1], self.model
        if how == "dead letter":
            found = [t.to for t in model.triggers if source in (t.dead_letter, self._letters_of(t.from_))]
        elif how == "asked":
            found = [name for name, f in model.functions.items() if any(ask.to == source for ask in f.asks)]
        else:
            found = [name for name, f in model.functions.items() if any(emit.into == source for emit in f.emits)]
        return " or ".join(dict.fromkeys(found))

    def _letters_of(self, source: SourceRef) -> SourceRef | None:
        return self.model.queues[source.name].dead_letter if source.kind is SourceKind.QUEUES else None

    def _copied(self, line: Any) -> None:
        arrival, number = self.arrivals[key_of(line)], int(line["number"])
        environment, source = self.built.sources[int(line["source"])]
        copy = Copy(number, source, environment, int(line["at"]))
        self.copies[number] = copy
        arrival.copies.append(copy)
        self._waits(self.home(source, environment), self.shown_at(copy))

    def shown_at(self, copy: Copy) -> int:
        """When readers see an event for the first time: a queue may hold it back, not what was there when the month began."""
        delay = self.model.queues[copy.source.name].delay if copy.source.kind is SourceKind.QUEUES else 0
        laid = copy.number < codes.FIRST_NUMBER + sum(count for _, count in self.built.backlogs)
        return copy.came + (0 if laid else int(delay))

    def home(self, source: SourceRef, environment: str) -> int:
        """The first unit that reads a source, -1: none."""
        for trigger in self.model.triggers:
            if trigger.from_ == source:
                return self._units[trigger.to, environment]
        return -1

    # -- what is tried

    def _carried(self, page: Pages) -> int:
        carried, new = page.carried, 0
        ours = np.ones(len(carried), bool) if self.target is None else np.isin(carried["number"], list(self.copies))
        for index in np.unique(carried["attempt"][ours]).tolist():
            new += self._tried(page.diary[index - self.noted], index, self._lines(carried, index))
        return new

    @staticmethod
    def _lines(carried: NDArray[Any], index: int) -> NDArray[Any]:
        first, last = np.searchsorted(carried["attempt"], [index, index + 1])
        found: NDArray[Any] = carried[first:last]
        return found

    def _tried(self, attempt: Any, index: int, lines: NDArray[Any]) -> int:
        known = self.tries.setdefault(index, [])
        numbers = lines["number"].tolist()
        self.good[index] = lines["number"][lines["good"] == codes.YES].tolist()
        mine = {copy.number for copy, _ in known}
        new = 0
        for number, good in zip(numbers, lines["good"].tolist(), strict=True):
            copy = self.copies.get(number)
            if copy is None or number in mine:
                continue
            found = self._try(attempt, index, len(numbers), bool(good))
            copy.function = found.function
            copy.tries.append(found)
            known.append((copy, found))
            new += 1
        return new

    def _try(self, attempt: Any, index: int, events: int, good: bool) -> Try:
        unit = self.built.units[int(attempt["unit"])]
        outcome = OUTCOMES[int(attempt["outcome"])]
        run_at = None if outcome == "throttled" or attempt["run_at"] >= codes.NEVER else int(attempt["run_at"])
        found = Try(
            index,
            unit.function,
            unit.environment,
            outcome,
            int(attempt["at"]),
            run_at,
            int(attempt["ended"]),
            int(attempt["cold_ns"]),
            int(attempt["charged"]),
            events,
            int(attempt["items"]),
            good,
        )
        if outcome == "throttled":
            self._waits(int(attempt["unit"]), found.started)
        return found

    def _asked(self, page: Pages) -> int:
        rounds, new = page.rounds, 0
        ours = np.ones(len(rounds), bool) if self.target is None else np.isin(rounds["number"], list(self.copies))
        for asking in np.unique(rounds["asking"][ours]).tolist():
            if asking not in self.rounds:
                self.rounds[asking] = rounds["number"][rounds["asking"] == asking].tolist()
                new += 1
        return new

    # -- what becomes of it

    def _ended(self, page: Pages) -> int:
        moments, new = page.moments, 0
        ours = np.ones(len(moments), bool) if self.target is None else np.isin(moments["number"], list(self.copies))
        for n in np.flatnonzero(ours).tolist():
            if n not in self._seen and int(moments[n]["number"]) in self.copies:
                self._seen.add(n)
                self._moment(moments[n])
                new += 1
        return new

    def _moment(self, line: Any) -> None:
        copy, what, unit = self.copies[int(line["number"])], int(line["what"]), int(line["unit"])
        if what in _NEW_WAIT:
            back = int(line["ref"])
            self.backs[copy.number].append((int(line["at"]), back))
            self._waits(unit, back)
            return
        copy.ended_as, copy.ended = _NAMES[what], int(line["at"])
        if copy.function is None and unit >= 0:
            copy.function = self.built.units[unit].function
        if what == codes.DEAD_LETTERED:
            self.letters[int(line["ref"])] = copy.number

    # -- who is in the way

    def _waits(self, unit: int, at: int) -> None:
        if unit >= 0 and len(self.waits) < MOST_WAITS and (unit, at) not in self.waits and self.target is not None:
            self.waits[unit, at] = Asked(unit, at)

    def _in_the_way(self, page: Pages) -> None:
        for asked in self.waits.values():
            attempts = page.diary
            there = (attempts["at"] <= asked.at) & (attempts["ended"] > asked.at)
            there &= self._account[attempts["unit"]] == self._account[asked.unit]
            for unit, count in zip(*np.unique(attempts["unit"][there], return_counts=True), strict=True):
                asked.in_flight[int(unit)] += int(count)
            later = page.refusals[(page.refusals["unit"] == asked.unit) & (page.refusals["at"] >= asked.at)]
            for why in np.unique(later["why"]).tolist():
                if why not in asked.refusals:
                    asked.refusals[why] = later[later["why"] == why][0]

    def still_there(self) -> None:
        """Count those that are in flight as the watch ends as well."""
        calls = in_flight(self.built)
        for asked in self.waits.values():
            there = (calls["started"] <= asked.at) & (self._account[calls["unit"]] == self._account[asked.unit])
            for unit, count in zip(*np.unique(calls["unit"][there], return_counts=True), strict=True):
                asked.in_flight[int(unit)] += int(count)

    def roots(self) -> Iterator[Arrival]:
        """Arrivals that came from outside, or the one that was asked for."""
        if self.root is not None:
            yield self.arrivals[self.root]
            return
        yield from (arrival for key, arrival in self.arrivals.items() if key[0] == "outside")


def world_accounts(built: Built) -> NDArray[np.int64]:
    """Which account each unit belongs to."""
    found: NDArray[np.int64] = built.world.units["account"][: len(built.units)].astype(np.int64)
    return found


def laid(built: Built) -> NDArray[Any]:
    """The messages that lie in queues as the month begins, as records ``born``: an arrival and its copy each."""
    count = sum(n for _, n in built.backlogs)
    found = np.zeros(2 * count, DTYPES[Born])
    for name in ("origin", "asker", "sent", "whose", "tap"):
        found[name] = -1
    sources: Any = np.repeat([source for source, _ in built.backlogs], [n for _, n in built.backlogs]) if count else []
    for first in (0, 1):
        found["source"][first::2] = sources
        found["outside"][first::2] = np.arange(count)
    found["number"][0::2] = -1
    found["number"][1::2] = codes.FIRST_NUMBER + np.arange(count)
    return found
