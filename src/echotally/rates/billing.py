"""From metered quantities to money: allowances, tiers, lines. ``Decimal`` throughout, nothing rounded here."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import ROUND_HALF_UP, Context, Decimal, localcontext
from typing import Any

from msgspec import Struct

from echotally.rates.card import Plan
from echotally.rates.commitments import Committed
from echotally.rates.meters import COMMITMENT
from echotally.rates.price_walk import price_of

#: Far more digits than any month's bill needs, so that shares of a line add up to it to the last shown digit.
PRECISION = 60
# ISO 4217 minor units other than two.
_MINOR_UNITS = {
    **dict.fromkeys(
        (
            "BIF",
            "CLP",
            "DJF",
            "GNF",
            "ISK",
            "JPY",
            "KMF",
            "KRW",
            "PYG",
            "RWF",
            "UGX",
            "UYI",
            "VND",
            "VUV",
            "XAF",
            "XOF",
            "XPF",
        ),
        0,
    ),
    **dict.fromkeys(("BHD", "IQD", "JOD", "KWD", "LYD", "OMR", "TND"), 3),
    **dict.fromkeys(("CLF", "UYW"), 4),
}


class Line(Struct, frozen=True):
    """One line of a bill: ``quantity - allowance = billable``, priced to ``amount`` (unrounded).

    What a commitment pays of a line is not in its amount; ``lost`` is what of the commitment no usage took.
    """

    plan: str
    account: str
    meter: str
    quantity: Decimal
    allowance: Decimal
    billable: Decimal
    amount: Decimal
    lost: Decimal | None = None


def exact() -> Context:
    """The arithmetic context of all bills."""
    return Context(prec=PRECISION)


def bill_account(
    plan_name: str,
    account: str,
    plan: Plan,
    quantities: Mapping[str, Decimal],
    committed: Committed[Any] | None = None,
) -> list[Line]:
    """The lines of one account on one plan: one for each meter the plan prices, in the plan's order, and that of the commitment.

    What the commitment pays is not in the amounts of the lines it covers.
    """
    lines = []
    with localcontext(exact()):
        for meter, price in plan.prices().items():
            quantity = quantities.get(meter, Decimal(0))
            # An allowance is used as far as there is something to use it for, so that no line is below zero.
            allowance = min(quantity, Decimal(plan.allowance.get(meter, 0)))
            billable = quantity - allowance
            amount = price_of(price, billable)
            if committed is not None:
                amount -= committed.covered.get(meter, Decimal(0))
            lines.append(Line(plan_name, account, meter, quantity, allowance, billable, amount))
        if committed is not None:
            hours = committed.hours
            lines.append(
                Line(plan_name, account, COMMITMENT, hours, Decimal(0), hours, committed.amount, committed.lost)
            )
    return lines


def minor_digits(currency: str) -> int:
    """Digits behind the point of a currency's smallest unit (ISO 4217); 2 of one that is not known."""
    return _MINOR_UNITS.get(currency, 2)


def rounded_total(amount: Decimal, currency: str) -> Decimal:
    """An amount in the currency's minor unit, half up."""
    places = minor_digits(currency)
    return amount.quantize(Decimal(1).scaleb(-places), ROUND_HALF_UP, context=exact())
