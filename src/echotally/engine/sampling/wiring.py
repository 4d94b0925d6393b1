"""What flows where: expected events at every source and function, and who is reached from where."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from echotally.model.estate import Model
from echotally.model.sources import SourceKind, SourceRef


@dataclass
class Flows:
    """Expected events by source address and, handled, by function; topics' and streams' copies counted each."""

    at_sources: dict[str, float] = field(default_factory=dict)
    at_functions: dict[str, float] = field(default_factory=dict)


class Wiring:
    """The estate's graph, read once. Cycles are an error of the model, so that following it ends."""

    def __init__(self, model: Model) -> None:
        self.model = model
        triggers = model.triggers_by_source()
        self.triggers = {s: triggers.get(s, []) for s in model.sources()}

    def flows(self, outside: Mapping[SourceRef, float]) -> Flows:
        """Expected events everywhere, from the events of the outside world by source address."""
        found = Flows()
        for source, events in outside.items():
            self._into(source, events, found)
        return found

    def _into(self, source: SourceRef, events: float, found: Flows) -> None:
        if events <= 0:
            return
        kind, name = source.kind, source.name
        triggers = self.triggers[source]
        copies = max(1, len(triggers)) if kind is SourceKind.STREAMS else 1
        found.at_sources[source] = found.at_sources.get(source, 0.0) + events * copies
        items = self.model.schedules[name].items if kind is SourceKind.SCHEDULES else 1
        if kind is SourceKind.TOPICS:
            for feed in self.model.topics[name].feeds:
                self._into(feed.into, events * feed.share, found)
        for trigger in triggers:
            share = (
                trigger.share if kind is SourceKind.TOPICS else 1 / len(triggers) if kind is SourceKind.QUEUES else 1.0
            )
            self._handled(trigger.to, events * share * items, found)

    def _handled(self, function: str, events: float, found: Flows) -> None:
        found.at_functions[function] = found.at_functions.get(function, 0.0) + events
        for emit in self.model.functions[function].emits:
            self._into(emit.into, events * emit.each, found)
        for ask in self.model.functions[function].asks:
            self._into(ask.to, events * ask.each, found)

    def reached(self, source: SourceRef) -> set[str]:
        """Functions that an event put into ``source`` can reach, through topics, emits, requests and dead letters."""
        functions: set[str] = set()
        self._reach(source, functions, set())
        return functions

    def _reach(self, source: SourceRef, functions: set[str], seen: set[SourceRef]) -> None:
        if source in seen:
            return
        seen.add(source)
        kind, name = source.kind, source.name
        onward = [feed.into for feed in self.model.topics[name].feeds] if kind is SourceKind.TOPICS else []
        letters = self.model.queues[name].dead_letter if kind is SourceKind.QUEUES else None
        onward += [letters] if letters else []
        for trigger in self.triggers[source]:
            functions.add(trigger.to)
            onward += self.model.functions[trigger.to].feeds
            onward += [trigger.dead_letter] if trigger.dead_letter else []
        for each in onward:
            self._reach(each, functions, seen)
