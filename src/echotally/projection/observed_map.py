"""The map of an estate as it was observed: what came to each function is known from a log, what it cost from a bill.

Nothing is played. What went along a line follows from the model's wiring: what a function got, times what it puts out for each.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping
from decimal import Decimal

from echotally.model.estate import Model
from echotally.model.sources import SourceKind, SourceRef
from echotally.projection.estate_map import MOST, EstateMap, Line, Node, Trouble, grouped

#: Sources that give each event to everyone who reads them.
_COPYING = (SourceKind.STREAMS, SourceKind.TOPICS)


def observed_map(
    model: Model,
    events: Mapping[str, float],
    costs: Mapping[str, Decimal],
    troubles: Mapping[str, tuple[Trouble, ...]],
    most: int = MOST,
) -> EstateMap:
    """The wiring of ``model`` with what each function got, cost (empty: no bill) and suffered; grouped above ``most`` functions."""
    inside = list(_from_inside(model, events))
    fed: dict[str, float] = defaultdict(float)
    for line in inside:
        fed[line.end] += line.events
    read = list(_to_functions(model, events, fed))
    came = _came(model, read, inside)
    lines = [*inside, *_from_outside(model, came, fed), *read]
    whole = EstateMap(
        "", {node.key: node for node in _nodes(model, lines, came, events, costs, troubles)}, tuple(lines)
    )
    return whole if len(model.functions) <= most else grouped(whole, model)


def _from_inside(model: Model, events: Mapping[str, float]) -> Iterator[Line]:
    for name, function in model.functions.items():
        got = events.get(name, 0.0)
        yield from (Line(f"functions.{name}", emit.into, got * emit.each) for emit in function.emits)
        yield from (Line(f"functions.{name}", ask.to, got * ask.each, "asks") for ask in function.asks)
    readers = {t.from_: t.to for t in model.triggers}
    for name, topic in model.topics.items():
        for feed in topic.feeds:
            yield Line(SourceRef.of(SourceKind.TOPICS, name), feed.into, events.get(readers.get(feed.into, ""), 0.0))


def _to_functions(model: Model, events: Mapping[str, float], fed: Mapping[str, float]) -> Iterator[Line]:
    """What each function got, from its sources: from one inside what was put there, the rest shared by those fed from outside."""
    outside = {demand.into for demand in model.demand.values()}
    for name in model.functions:
        triggers = [t for t in model.triggers if t.to == name]
        got = events.get(name, 0.0)
        known = {t.from_: fed.get(t.from_, 0.0) * t.share for t in triggers if t.from_ not in outside}
        known = {source: min(flow, got) for source, flow in known.items() if flow > 0}
        open_ = [t for t in triggers if t.from_ not in known]
        rest = max(0.0, got - sum(known.values()))
        for trigger in triggers:
            if open_:
                yield Line(trigger.from_, f"functions.{name}", known.get(trigger.from_, rest / len(open_)))
            else:
                yield Line(trigger.from_, f"functions.{name}", got * known[trigger.from_] / sum(known.values()))


def _came(model: Model, read: list[Line], inside: list[Line]) -> dict[str, float]:
    """What came to each source: what its readers got, where each gets everything the most that one of them did."""
    got: dict[str, list[float]] = defaultdict(list)
    for line in (*read, *(line for line in inside if line.start in model.sources())):
        got[line.start].append(line.events)
    return {
        source: max(each) if SourceRef(source).kind in _COPYING else sum(each)
        for source, each in got.items()
        if source in model.sources()
    }


def _from_outside(model: Model, came: Mapping[str, float], fed: Mapping[str, float]) -> Iterator[Line]:
    """What demand brought: what came less what was put in, in equal shares where several bring it."""
    into: dict[str, list[str]] = defaultdict(list)
    for name, demand in model.demand.items():
        into[demand.into].append(name)
    for source, names in into.items():
        rest = max(0.0, came.get(source, 0.0) - fed.get(source, 0.0)) / len(names)
        yield from (Line(f"demand.{name}", source, rest) for name in names)


def _nodes(
    model: Model,
    lines: list[Line],
    came: Mapping[str, float],
    events: Mapping[str, float],
    costs: Mapping[str, Decimal],
    troubles: Mapping[str, tuple[Trouble, ...]],
) -> Iterator[Node]:
    brought = {line.start: line.events for line in lines}
    for name in model.demand:
        yield Node(f"demand.{name}", "demand", name, brought.get(f"demand.{name}", 0.0))
    touched = {end for line in lines for end in (line.start, line.end)}
    for source in model.sources():
        if source in touched:
            yield Node(source, SourceRef(source).kind.value, SourceRef(source).name, came.get(source, 0.0))
    for name in model.functions:
        cost = costs.get(name, Decimal(0)) if costs else None
        yield Node(f"functions.{name}", "function", name, events.get(name, 0.0), cost, troubles.get(name, ()))
