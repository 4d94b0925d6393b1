"""Why an event waited: for a delay, a batch, a reader, the batch before it, or for room, and who held that."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable
from itertools import accumulate
from typing import Any

from echotally.engine import codes
from echotally.model.estate import Model, Trigger
from echotally.model.sources import SourceKind
from echotally.model.units import duration_text
from echotally.studies.follow.answer import Copy, Try, Wait
from echotally.studies.follow.telling import Asked, Tale

#: Room that calls of several functions share.
_SHARED = (int(codes.AT_ACCOUNT), int(codes.NO_NODE), int(codes.NO_MEMORY))
#: How many neighbours are named.
_NAMED = 5


class _Returns:
    """When an event came back, found without looking at every return: one may come back every few seconds of a month."""

    def __init__(self, backs: Iterable[tuple[int, int]]) -> None:
        inorder = sorted(backs)
        #: When it came back, by when that was known.
        self.known_at = dict(reversed(inorder))
        self._rising = sorted(back for _, back in inorder)
        # The first that is later than a time is the first at which the latest so far is.
        self._latest = list(accumulate((back for _, back in inorder), max))

    def first_after(self, at: int) -> int | None:
        """The first return, in the order in which they were known, that is later than ``at``."""
        n = bisect_right(self._latest, at)
        return self._latest[n] if n < len(self._latest) else None

    def last_between(self, before: Try, each: Try) -> int:
        """When the event could be taken again after an attempt: at its last return up to the next, else at its end."""
        n = bisect_right(self._rising, each.started)
        return self._rising[n - 1] if n and self._rising[n - 1] >= before.started else before.ended


class Waits:
    """Tells the waits of copies that a tale has gathered."""

    def __init__(self, model: Model, tale: Tale) -> None:
        self.model, self.tale = model, tale
        self.units = {(unit.function, unit.environment): n for n, unit in enumerate(tale.built.units)}

    def tell(self, copy: Copy, until: int) -> None:
        """Say of each of a copy's attempts how long it had waited and why, and of a copy that was never taken."""
        copy.tries.sort(key=lambda each: (each.started, each.index))
        ready = self.tale.shown_at(copy)
        backs = _Returns(self.tale.backs.get(copy.number, []))
        for n, each in enumerate(copy.tries):
            begun = ready if n == 0 else backs.last_between(copy.tries[n - 1], each)
            if each.started > begun:
                each.wait = self._wait(copy, each, begun)
            if each.outcome == "throttled":
                asked = self._asked(each, each.started)
                each.why = self._no_room(asked)
                each.neighbours = self._neighbours(asked) if asked and asked.refusals else ()
            each.back_at = self._back_at(copy, each, backs)
        last = max((each.ended for each in copy.tries), default=ready)
        ended = copy.ended if copy.ended is not None else until
        if copy.ended_as in ("expired", "unfinished", "rejected") and ended > last:
            copy.left = self._left(copy, max(last, ready), ended)

    @staticmethod
    def _back_at(copy: Copy, each: Try, backs: _Returns) -> int | None:
        """When an event comes back after an attempt that did not handle it; of a queue's message its visibility is over then."""
        if each.good or each.outcome in ("succeeded", "still_running"):
            return None
        if copy.source.kind is SourceKind.QUEUES:
            return backs.first_after(each.started)
        return backs.known_at.get(each.ended)

    def _asked(self, each: Try, at: int) -> Asked | None:
        return self.tale.waits.get((self.units[each.function, each.environment], at))

    def _wait(self, copy: Copy, each: Try, begun: int) -> Wait:
        asked = self._asked(each, begun)
        # Only a refusal from before it started is why it waited.
        first = min((int(line["at"]) for line in asked.refusals.values()), default=None) if asked else None
        if asked is not None and first is not None and first <= each.started:
            return Wait(begun, each.started, self._no_room(asked), True, self._neighbours(asked))
        return Wait(begun, each.started, self._turn(copy, each))

    def _left(self, copy: Copy, begun: int, ended: int) -> Wait:
        key = (copy.function or "", copy.environment)
        asked = self.tale.waits.get((self.units[key], begun)) if key in self.units else None
        if asked is not None and asked.refusals:
            return Wait(begun, ended, self._no_room(asked), True, self._neighbours(asked))
        return Wait(begun, ended, "nobody took it" if copy.function else "nobody reads it")

    def _neighbours(self, asked: Asked) -> tuple[tuple[str, str, int], ...]:
        """Who held the room that was missing as a wait began: calls of the function itself, or of all that share it; most first."""
        why = int(self._first(asked)["why"])
        if why not in _SHARED and why != codes.AT_INSTANCES:
            return ()
        units = self.tale.built.units
        there = {u: n for u, n in asked.in_flight.items() if why in _SHARED or u == asked.unit}
        found = sorted(there.items(), key=lambda item: (-item[1], item[0]))
        return tuple((units[u].function, units[u].environment, count) for u, count in found[:_NAMED])

    @staticmethod
    def _first(asked: Asked) -> Any:
        """The first refusal at or after the wait began."""
        return min(asked.refusals.values(), key=lambda line: int(line["at"]))

    def _no_room(self, asked: Asked | None) -> str:
        """Why there was no room, in words."""
        if asked is None or not asked.refusals:
            return "no room"
        line = self._first(asked)
        used, most = int(line["used"]), int(line["most"])
        there = f"{used:,} {'instance' if used == 1 else 'instances'}" if used else "no instance"
        return {
            int(codes.AT_ACCOUNT): f"{used:,} of {most:,} calls of the account in flight",
            int(codes.AT_INSTANCES): f"{used:,} of {most:,} instances busy",
            int(codes.UNTIL_A_LOOK): f"{there} with room until scaling looks again"
            if not used
            else f"{there}, all busy, until scaling looks again",
            int(codes.NO_GROWTH): f"{there} with room, and an incident lets none start",
            int(codes.NO_NODE): f"{there} with room, and no node that could hold one more",
            int(codes.NO_TOKEN): f"{there}, all busy, and no start token left" if used else "no start token left",
            int(codes.NO_MEMORY): f"the memory of all {most:,} reserved instances is taken",
        }[int(line["why"])]

    def _trigger(self, copy: Copy, each: Try) -> Trigger | None:
        triggers = self.model.triggers
        return next((t for t in triggers if t.from_ == copy.source and t.to == each.function), None)

    def _turn(self, copy: Copy, each: Try) -> str:
        """What an event waits for that has room: its batch, a reader, the batch before it."""
        trigger = self._trigger(copy, each)
        if trigger is None or not copy.source.kind.traits.batched:
            return "behind older ones"
        batch = self.model.items_of(trigger)
        if copy.source.kind is SourceKind.STREAMS and each is not copy.tries[0]:
            return "the batch is repeated in place"
        window = int(trigger.batch_wait)
        if each.events >= batch > 1 and window:
            return f"until its batch of {each.events:,} was full"
        if window and each.started - self.tale.shown_at(copy) <= window:
            return f"until the oldest of its batch had waited {duration_text(window)}"
        if copy.source.kind is SourceKind.STREAMS:
            return "the batch before it in its partition"
        return "all readers of the queue were busy"
