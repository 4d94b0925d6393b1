"""Whose cost it is: the bill of a plan by function, environment, source or tag, adding up to the total."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from decimal import Decimal, localcontext

from echotally.engine.reading import UnitMeasured
from echotally.errors import BadInput, Problem
from echotally.model.estate import Model
from echotally.model.sources import SourceKind
from echotally.projection.answer import PlayedPlan
from echotally.rates.billing import exact

UNTAGGED, IDLE, FLAT = "(no tag)", "(idle)", "(flat)"


@dataclass(frozen=True)
class Share:
    """One row of a showback: who, the events in of that part, and its unrounded cost."""

    label: str
    events: int | None
    cost: Decimal


def showback(model: Model, plan: PlayedPlan, by: str) -> list[Share]:
    """The plan's bill split ``by`` function, environment, source or tag:NAME; idle and flat cost last.

    Shares add up to the unrounded total exactly. A function with several sources is split by the events each
    put in. Raises ``BadInput`` for an unknown split.
    """
    owner = _owner(model, plan, by)
    costs: dict[str, Decimal] = {}
    events: dict[str, int] = {}
    with localcontext(exact()):
        for unit in plan.units:
            cost = plan.bill.functions[unit.unit.function, unit.unit.environment]
            parts = list(owner(unit))
            whole = sum(weight for _, weight in parts)
            left, left_events = cost, unit.events["in"]
            for number, (label, weight) in enumerate(parts, 1):
                # The last part takes what is left, so that nothing is lost to a division.
                last = number == len(parts)
                part = left if last else cost * weight / whole
                part_events = left_events if last else int(unit.events["in"] * weight / whole)
                costs[label] = costs.get(label, Decimal(0)) + part
                events[label] = events.get(label, 0) + part_events
                left, left_events = left - part, left_events - part_events
    rows = [Share(label, events[label], cost) for label, cost in costs.items()]
    rest = [(IDLE, plan.bill.idle), (FLAT, plan.bill.flat)]
    # What a division of 60 digits leaves over is no cost.
    return rows + [Share(label, None, cost) for label, cost in rest if abs(cost) > Decimal("1e-40")]


def _owner(model: Model, plan: PlayedPlan, by: str) -> Callable[[UnitMeasured], Iterator[tuple[str, Decimal]]]:
    kind, _, tag = by.partition(":")
    one = Decimal(1)
    if by == "function":
        return lambda unit: iter([(unit.unit.function, one)])
    if by == "environment":
        return lambda unit: iter([(unit.unit.environment, one)])
    if by == "source":
        return lambda unit: _by_source(model, plan, unit)
    if kind == "tag" and tag:
        return lambda unit: iter([(model.functions[unit.unit.function].tags.get(tag, UNTAGGED), one)])
    raise BadInput(
        Problem("is not a way to split", "--by", value=by, allowed="function, environment, source, tag:NAME")
    )


def _by_source(model: Model, plan: PlayedPlan, unit: UnitMeasured) -> Iterator[tuple[str, Decimal]]:
    """Sources of a function, weighted by the events they put in; in equal parts where none put in any."""
    sent = {(s.environment, s.source): s.sends for s in plan.measured.sources}
    weights: dict[str, Decimal] = {}
    for trigger in model.triggers:
        if trigger.to == unit.unit.function:
            kind, name = trigger.from_.kind, trigger.from_.name
            items = model.schedules[name].items if kind is SourceKind.SCHEDULES else 1
            share = Decimal(repr(trigger.share)) if kind is SourceKind.TOPICS else Decimal(1)
            put_in = sent.get((unit.unit.environment, trigger.from_), 0) * items * share
            weights[trigger.from_] = weights.get(trigger.from_, Decimal(0)) + put_in
    if not weights:
        yield "(no source)", Decimal(1)
        return
    nothing = not any(weights.values())
    yield from ((source, Decimal(1) if nothing else weight) for source, weight in weights.items())
