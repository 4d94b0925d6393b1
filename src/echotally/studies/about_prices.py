"""What meters cost about, per unit, so that assignments can be ranked before they are played."""

from __future__ import annotations

from echotally.rates.card import Plan
from echotally.rates.price_walk import About

#: By meter, what is free and what the rest costs.
Prices = dict[str, tuple[float, About]]


def prices_of(plan: Plan) -> Prices:
    """A plan's prices by meter, each with its allowance, as quick estimates (``About``)."""
    return {meter: (float(plan.allowance.get(meter, 0)), About(price)) for meter, price in plan.prices().items()}


def about_meter(prices: Prices, meter: str, quantity: float) -> float:
    """About what the quantity of a meter that has a price costs, in the card's currency."""
    free, cost = prices[meter]
    return cost(quantity - free) if quantity > free else 0.0


def lowest_unit(plan: Plan, name: str) -> float:
    """The lowest price of one of a meter's units among its tiers, 0 where the plan has none."""
    price = plan.prices().get(name)
    return min(float(step.unit) for step in price.steps()) / price.per if price else 0.0
