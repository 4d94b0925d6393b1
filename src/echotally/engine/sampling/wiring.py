"""What flows where: expected events at every source and function, and who is reached from where."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from graphlib import TopologicalSorter
from typing import NamedTuple

from msgspec import Struct, field

from echotally.model.estate import Model
from echotally.model.sources import SourceKind, SourceRef


class Flows(Struct):
    """Expected events by source address and, handled, by function; topics' and streams' copies counted each."""

    at_sources: dict[str, float] = field(default_factory=dict)
    at_functions: dict[str, float] = field(default_factory=dict)


class _Onward(NamedTuple):
    """Of one event in a source, how many come to functions and, put out by them or handed on, into other sources."""

    functions: list[tuple[str, float]]
    sources: list[tuple[SourceRef, float]]


class Wiring:
    """The estate's graph, read once. Cycles are an error of the model, so that following it ends."""

    def __init__(self, model: Model) -> None:
        self.model = model
        triggers = model.triggers_by_source()
        self.triggers = {s: triggers.get(s, []) for s in model.sources()}

    @cached_property
    def _downstream(self) -> dict[SourceRef, _Onward]:
        """What passes on from each source, those that put events into others before these."""
        onward = {source: self._passes_on(source) for source in self.triggers}
        order = TopologicalSorter[SourceRef]()
        for source, its in onward.items():
            order.add(source)
            for into, _ in its.sources:
                order.add(into, source)
        return {source: onward[source] for source in order.static_order()}

    def flows(self, outside: Mapping[SourceRef, float]) -> Flows:
        """Expected events everywhere, from the events of the outside world by source address."""
        found, coming = Flows(), dict.fromkeys(self.triggers, 0.0) | dict(outside)
        # Each source once: of ways that part and meet again there may be more than can be followed one by one.
        for source, onward in self._downstream.items():
            events = coming[source]
            if events <= 0:
                continue
            copies = max(1, len(self.triggers[source])) if source.kind is SourceKind.STREAMS else 1
            found.at_sources[source] = events * copies
            for function, each in onward.functions:
                found.at_functions[function] = found.at_functions.get(function, 0.0) + events * each
            for into, each in onward.sources:
                coming[into] += events * each
        return found

    def _passes_on(self, source: SourceRef) -> _Onward:
        kind, name, triggers = source.kind, source.name, self.triggers[source]
        items = self.model.schedules[name].items if kind is SourceKind.SCHEDULES else 1
        onward = _Onward([], [])
        if kind is SourceKind.TOPICS:
            onward.sources.extend((feed.into, feed.share) for feed in self.model.topics[name].feeds)
        for trigger in triggers:
            share = (
                trigger.share if kind is SourceKind.TOPICS else 1 / len(triggers) if kind is SourceKind.QUEUES else 1.0
            )
            function, each = self.model.functions[trigger.to], share * items
            onward.functions.append((trigger.to, each))
            onward.sources.extend((emit.into, each * emit.each) for emit in function.emits)
            onward.sources.extend((ask.to, each * ask.each) for ask in function.asks)
        return onward

    def reached(self, *sources: SourceRef) -> set[str]:
        """Functions that an event put into one of ``sources`` can reach, through topics, emits, requests and dead letters."""
        functions, seen, waiting = set[str](), set[SourceRef](), [*sources]
        while waiting:
            source = waiting.pop()
            if source not in seen:
                seen.add(source)
                functions |= {function for function, _ in self._downstream[source].functions}
                waiting += [into for into, _ in self._downstream[source].sources]
                waiting += self._letters(source)
        return functions

    def _letters(self, source: SourceRef) -> list[SourceRef]:
        """Where what fails for good goes from a source, or from those it triggers."""
        letters = [trigger.dead_letter for trigger in self.triggers[source]]
        if source.kind is SourceKind.QUEUES:
            letters.append(self.model.queues[source.name].dead_letter)
        return [each for each in letters if each]
