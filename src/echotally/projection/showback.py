"""Whose cost it is: the bill of a plan by function, environment, source, tag or outcome, or several, adding up to the total."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal, localcontext
from itertools import product
from math import prod
from typing import TYPE_CHECKING

from msgspec import Struct

from echotally.engine.reading import UnitMeasured
from echotally.errors import BadInput, Problem
from echotally.model.estate import Model
from echotally.model.sources import SourceKind
from echotally.projection.answer import PlayedPlan, Projection
from echotally.projection.outcomes import outcome_costs, outcome_costs_of_nobody
from echotally.rates.billing import exact

if TYPE_CHECKING:
    import pandas as pd

UNTAGGED, IDLE, FLAT = "(no tag)", "(idle)", "(flat)"


class Share(Struct, frozen=True):
    """One row of a showback: a label for each split, the events in of that part (None: not known), and its unrounded cost."""

    labels: tuple[str, ...]
    events: int | None
    cost: Decimal

    @property
    def label(self) -> str:
        """The labels in one line."""
        return ", ".join(self.labels)


#: A part of a function's cost: its labels, how much of it, and how many of its events (None: not known).
_Part = tuple[tuple[str, ...], Decimal, int | None]
_OUTCOME = "outcome"
WAYS = "function, environment, source, tag:NAME, outcome, or several with commas"


def splits_of(by: str) -> tuple[str, ...]:
    """The splits of ``--by``, as written with commas; raises ``BadInput`` for one that is no way to split, or comes twice."""
    names = tuple(name.strip() for name in by.split(","))
    for name in names:
        known = name in ("function", "environment", "source", _OUTCOME) or (name.startswith("tag:") and name != "tag:")
        if not known:
            raise BadInput(Problem("is not a way to split", "--by", value=name, allowed=WAYS))
    if len(set(names)) < len(names):
        raise BadInput(Problem("splits twice by the same", "--by", value=by, allowed=WAYS))
    return names


def showback(model: Model, plan: PlayedPlan, by: str) -> list[Share]:
    """The plan's bill split ``by`` function, environment, source, tag:NAME or outcome, or several of them; idle and flat cost last.

    Shares add up to the unrounded total exactly. A function with several sources is split by the events each put in; of outcomes
    all nine are there (rule 10.1), and nothing is said of events. Raises ``BadInput`` for an unknown split.
    """
    splits = splits_of(by)
    costs: dict[tuple[str, ...], Decimal] = {}
    events: dict[tuple[str, ...], int | None] = {}
    with localcontext(exact()):
        for unit in plan.units:
            for labels, cost, came in _parts(model, plan, splits, unit):
                costs[labels] = costs.get(labels, Decimal(0)) + cost
                events[labels] = None if came is None else (events.get(labels) or 0) + came
        for labels, cost in _of_nobody(plan, splits):
            costs[labels] = costs.get(labels, Decimal(0)) + cost
            events.setdefault(labels, None)
    return [Share(labels, events[labels], cost) for labels, cost in costs.items()]


def _parts(model: Model, plan: PlayedPlan, splits: tuple[str, ...], unit: UnitMeasured) -> Iterator[_Part]:
    """A function's cost in an environment, part by part; the last one takes what divisions leave over."""
    owners = [list(_owners(model, plan, unit, split)) for split in splits if split != _OUTCOME]
    combined = list(product(*owners))
    by_outcome = outcome_costs(plan, unit) if _OUTCOME in splits else {"": plan.bill.functions[unit.key]}
    left_events = unit.events["in"]
    left = dict(by_outcome)
    for number, parts in enumerate(combined, 1):
        last = number == len(combined)
        share = prod((weight for _, weight in parts), start=Decimal(1))
        # Rounded down, and the last takes the rest: parts of events add up as those of money do.
        came = left_events if last else int(unit.events["in"] * share)
        left_events -= came
        for outcome, cost in by_outcome.items():
            part = left[outcome] if last else cost * share
            left[outcome] -= part
            names = iter(label for label, _ in parts)
            labels = tuple(outcome if split == _OUTCOME else next(names) for split in splits)
            yield labels, part, None if _OUTCOME in splits else came


def _of_nobody(plan: PlayedPlan, splits: tuple[str, ...]) -> Iterator[tuple[tuple[str, ...], Decimal]]:
    """Idle and flat cost, under names of their own in place of an owner."""
    if _OUTCOME in splits:
        for outcome, cost in outcome_costs_of_nobody(plan.bill).items():
            if cost or len(splits) == 1:
                yield tuple(outcome if split == _OUTCOME else IDLE for split in splits), cost
        return
    for label, cost in ((IDLE, plan.bill.idle), (FLAT, plan.bill.flat)):
        # What a division of 60 digits leaves over is no cost.
        if abs(cost) > Decimal("1e-40"):
            yield (label,) * len(splits), cost


def _owners(model: Model, plan: PlayedPlan, unit: UnitMeasured, split: str) -> Iterator[tuple[str, Decimal]]:
    """Whose a function's cost is by one split, with shares that sum to 1."""
    if split == "function":
        yield unit.unit.function, Decimal(1)
    elif split == "environment":
        yield unit.unit.environment, Decimal(1)
    elif split == "source":
        found = list(_by_source(model, plan, unit))
        whole = sum(weight for _, weight in found)
        yield from ((label, weight / whole) for label, weight in found)
    else:
        yield model.functions[unit.unit.function].tags.get(split.removeprefix("tag:"), UNTAGGED), Decimal(1)


def _by_source(model: Model, plan: PlayedPlan, unit: UnitMeasured) -> Iterator[tuple[str, Decimal]]:
    """Sources of a function, weighted by the events they put in; in equal parts where none put in any."""
    sent = {(s.environment, s.source): s.sends for s in plan.measured.sources}
    weights: dict[str, Decimal] = {}
    for trigger in model.triggers:
        if trigger.to == unit.unit.function:
            kind, name = trigger.from_.kind, trigger.from_.name
            # A firing brings as many events as it has items.
            items = model.schedules[name].items if kind is SourceKind.SCHEDULES else 1
            share = Decimal(repr(trigger.share)) if kind is SourceKind.TOPICS else Decimal(1)
            put_in = sent.get((unit.unit.environment, trigger.from_), 0) * items * share
            weights[trigger.from_] = weights.get(trigger.from_, Decimal(0)) + put_in
    if not weights:
        yield "(no source)", Decimal(1)
        return
    nothing = not any(weights.values())
    yield from ((source, Decimal(1) if nothing else weight) for source, weight in weights.items())


def showback_frame(projection: Projection, by: str) -> pd.DataFrame:
    """Every plan's cost split ``by`` one or several ways (``showback``), a row a plan and combination; ``cost`` as text."""
    import pandas as pd

    splits = splits_of(by)
    rows = [
        {
            "plan": plan.offer.name,
            **dict(zip(splits, share.labels, strict=True)),
            "events": share.events,
            "cost": f"{share.cost:.6f}",
        }
        for plan in projection.played
        for share in showback(projection.model, plan, by)
    ]
    frame = pd.DataFrame(rows, columns=["plan", *splits, "events", "cost"])
    return frame.astype({"events": "Int64"})
