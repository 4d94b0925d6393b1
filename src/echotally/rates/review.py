"""What is odd about a rate card that can be loaded: prices no bill will ever show, allowances nobody pays beyond."""

from __future__ import annotations

from msgspec import Struct

from echotally.rates.card import Plan, RateCard
from echotally.rates.meters import METERS


class Oddity(Struct, frozen=True):
    """One thing to look at on a card: its address and what is odd, in plain words."""

    address: str
    text: str


def review_card(card: RateCard) -> list[Oddity]:
    """Priced meters a plan can never produce, allowances without a price, sources that go unbilled nowhere."""
    return [oddity for name, plan in card.plans.items() for oddity in _review_plan(f"plans.{name}", plan)]


def _review_plan(address: str, plan: Plan) -> list[Oddity]:
    found = [
        Oddity(f"{address}.price.{meter}", f"is priced, but this plan never produces it: {reason}")
        for meter in plan.price
        if (reason := never_produced(plan, meter))
    ]
    found += [
        Oddity(f"{address}.allowance.{meter}", "is free up to an allowance, but has no price beyond it")
        for meter in plan.allowance
        if meter not in plan.price
    ]
    if plan.bills == "reserved" and "scaling" in plan.model_fields_set:
        found.append(Oddity(f"{address}.scaling", "has no effect: reserved instances do not scale"))
    if plan.store and "storage_gb_months" not in plan.price:
        found.append(Oddity(f"{address}.store", "is required but not billed: storage_gb_months has no price"))
    return found


def never_produced(plan: Plan, meter: str) -> str:
    """Why a plan can never produce a meter, in plain words; empty if it can."""
    known = METERS[meter]
    if plan.bills not in known.bills:
        return f"it bills {plan.bills}, and {meter} comes from plans that bill {' or '.join(known.bills)}"
    if known.sources and not set(known.sources) & set(plan.sources):
        return f"it takes no {' or '.join(known.sources)}"
    return ""
