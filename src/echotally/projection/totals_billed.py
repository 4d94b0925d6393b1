"""Quantities of whole accounts and what they cost: for what a trial adds to a month, at the month's own allowances and tiers."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal

from echotally.rates.billing import bill_account
from echotally.rates.card import Plan

Quantities = dict[tuple[str, str], dict[str, Decimal]]


def together(one: Quantities, other: Quantities) -> Quantities:
    """The quantities of one month and what comes on top of it (or, negative, is taken off it, not below 0)."""
    found: Quantities = {account: dict(meters) for account, meters in one.items()}
    for account, meters in other.items():
        for name, quantity in meters.items():
            own = found.setdefault(account, {})
            own[name] = max(Decimal(0), own.get(name, Decimal(0)) + quantity)
    return found


def billed_totals(plans: Mapping[tuple[str, str], Plan], totals: Quantities) -> Decimal:
    """What accounts' quantities cost together, unrounded, commitments aside."""
    lines = (
        line
        for account, meters in totals.items()
        for line in bill_account(account[1], account[0], plans[account], meters)
    )
    return sum((line.amount for line in lines), Decimal(0))
