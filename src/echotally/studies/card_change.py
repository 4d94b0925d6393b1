"""``rates compare``: a model's month on an old and a new price list, plan by plan and line by line."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from decimal import Decimal
from pathlib import Path

from msgspec import Struct

from echotally.errors import BadInput, Problem
from echotally.projection.answer import PlanProjection, PlayedPlan, Projection
from echotally.projection.bills import merged_lines
from echotally.projection.loaded import load
from echotally.projection.project import project_loaded
from echotally.projection.threads import Progress
from echotally.rates.card_loading import load_card
from echotally.showing import Answer


class LineChange(Struct, frozen=True):
    """One line of a plan's bill on both cards, money unrounded; 0 where a card does not price it."""

    meter: str
    before: Decimal
    after: Decimal


class PlanOnCards(Struct, frozen=True):
    """A plan that both cards have: its month on each, unrounded (None where it cannot run the estate), and its lines."""

    plan: str
    before: Decimal | None
    after: Decimal | None
    lines: tuple[LineChange, ...]


class CardChange(Answer, frozen=True):
    """What a new price list does to a month: the plans both cards have, those only one has, and the cheapest on each.

    Everything is played on both, so limits, rounding and scaling that differ are in it too.
    """

    currency: str
    month: str
    old: str
    new: str
    plans: tuple[PlanOnCards, ...]
    only_old: tuple[str, ...]
    only_new: tuple[str, ...]
    pick_before: str | None
    pick_after: str | None


def compare_cards(
    old: Path | str,
    new: Path | str,
    model: Path | str,
    sets: Iterable[tuple[str, str]] = (),
    progress: Progress | None = None,
) -> CardChange:
    """Play a model's month with one card in place of the other; raises ``BadInput``."""
    sets = tuple(sets)
    old, new, model = Path(old), Path(new), Path(model)
    head = load_card(old).card
    load_card(new)
    before = _played(old, head.name, model, sets, progress)
    after = _played(new, head.name, model, sets, progress)
    if before.currency != after.currency:
        allowed = f"[exchange] in the model with a rate for {after.currency} into {before.currency}"
        raise BadInput(
            Problem("the cards are in several currencies", file=new.name, value=after.currency, allowed=allowed)
        )
    names = [{p.offer.name: p for p in each.plans} for each in (before, after)]
    one, other = (_own(each, path) for each, path in ((names[0], old), (names[1], new)))
    both = [key for key in one if key in other]
    return CardChange(
        before.currency,
        before.model.estate.month,
        old.name,
        new.name,
        tuple(_plan(key, names[0][one[key]], names[1][other[key]]) for key in both),
        tuple(one[key] for key in one if key not in other),
        tuple(other[key] for key in other if key not in one),
        before.pick,
        after.pick,
    )


def _own(plans: Mapping[str, PlanProjection], path: Path) -> dict[str, str]:
    """The plans of a card by their name on it."""
    name = load_card(path).card.name
    return {full.partition(".")[2]: full for full in plans if full.partition(".")[0] == name}


def _played(
    card: Path, stands_for: str, model: Path, sets: tuple[tuple[str, str], ...], progress: Progress | None
) -> Projection:
    """The month with a card in place of those of the old one's name, or of all where the model has none of it."""
    loaded = load(model, sets)
    folder = Path(model).parent
    here = os.path.relpath(card.absolute(), folder.absolute())
    others = [
        name
        for name in loaded.model.estate.rate_cards
        if load_card(folder / name).card.name not in (stands_for, load_card(card).card.name)
    ]
    stood = len(others) < len(loaded.model.estate.rate_cards)
    cards = [here, *(others if stood else [])]
    listed = ", ".join('"' + name.replace("\\", "\\\\").replace('"', '\\"') + '"' for name in cards)
    # Every plan of the cards: those that the model lists may not be on the new one.
    unlisted = (("estate.plans", ""),) if loaded.model.estate.plans else ()
    on_card = load(model, (*sets, ("estate.rate_cards", f"[{listed}]"), *unlisted))
    return project_loaded(on_card, [], None, progress, workers=None)


def _plan(key: str, before: PlanProjection, after: PlanProjection) -> PlanOnCards:
    bills = [each.bill if isinstance(each, PlayedPlan) else None for each in (before, after)]
    amounts = [{} if bill is None else {line.meter: line.amount for line in merged_lines(bill)} for bill in bills]
    zero = Decimal(0)
    lines = tuple(
        LineChange(meter, amounts[0].get(meter, zero), amounts[1].get(meter, zero))
        for meter in dict.fromkeys([*amounts[0], *amounts[1]])
    )
    one, other = (None if bill is None else bill.unrounded for bill in bills)
    return PlanOnCards(key, one, other, lines)
