"""Somebody else's services: their prices in the currency of the cards, and the plan-like thing that bills them (rule 8.6)."""

from __future__ import annotations

from decimal import Decimal

from echotally.errors import BadInput, Problem
from echotally.model.estate import Exchange, Model
from echotally.model.reading import Document
from echotally.rates.card import MemorySizes, Plan, Price
from echotally.rates.meters import OUTSIDE

#: In place of an account and a plan: what belongs to no provider's plan.
OUTSIDE_ACCOUNT = ("", "outside")


def outside_plan(model: Model, currency: str) -> Plan | None:
    """What bills the estate's outside services in ``currency``, a line each; None where it names none."""
    if not model.outside:
        return None
    prices = {}
    for name, service in model.outside.items():
        # A service that names no currency is priced in that of the cards.
        rate = _rate(model.exchange, service.currency or currency, currency) or Decimal(1)
        prices[OUTSIDE + name] = Price.model_construct(unit=service.unit * rate, per=service.per)
    # No plan that is sold: it has prices and nothing else.
    return Plan.model_construct(bills="runs", memory=MemorySizes.model_construct(choices=(1,)), price=prices)


def hold_currencies(document: Document, model: Model, currency: str) -> None:
    """Raise ``BadInput`` for every outside service whose price cannot be told in ``currency``."""
    problems: list[Problem] = [
        document.problem(
            ("outside", name, "currency"),
            f"the cards are in {currency}, and no rate of exchange leads there",
            service.currency,
            f'{currency}, or [exchange] with into = "{currency}" and a rate for {service.currency}',
        )
        for name, service in model.outside.items()
        if service.currency and _rate(model.exchange, service.currency, currency) is None
    ]
    if problems:
        raise BadInput(problems)


def _rate(exchange: Exchange | None, of: str, into: str) -> Decimal | None:
    if of == into:
        return Decimal(1)
    return exchange.rates.get(of) if exchange and exchange.into == into else None
