"""What meters cost about, per unit, so that assignments can be ranked before they are played."""

from __future__ import annotations

from echotally.rates.card import Plan
from echotally.rates.price_walk import About

#: By meter, what is free and what the rest costs.
Prices = dict[str, tuple[float, About]]


def prices_of(plan: Plan) -> Prices:
    """A plan's prices by meter, each with its allowance, as quick estimates (``About``)."""
    return {meter: (float(plan.allowance.get(meter, 0)), About(price)) for meter, price in plan.prices().items()}


def bill_about(prices: Prices, quantities: dict[tuple[str, str], float]) -> float:
    """About what the quantities cost, in the card's currency; allowances are taken off once for each meter."""
    total = 0.0
    for (_, name), quantity in quantities.items():
        if name in prices:
            free, cost = prices[name]
            total += cost(max(0.0, quantity - free))
    return total


def lowest_unit(plan: Plan, name: str) -> float:
    """The lowest price of one of a meter's units among its tiers, 0 where the plan has none."""
    price = plan.prices().get(name)
    return min(float(step.unit) for step in price.steps()) / price.per if price else 0.0
