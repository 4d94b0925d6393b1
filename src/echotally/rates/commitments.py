"""Hours prepaid against a discount: what a commitment pays of each hour's usage, and what of it is lost (rules 10.4 and 7.51)."""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from decimal import Decimal
from typing import Generic, TypeVar

from msgspec import Struct

from echotally.rates.card import Plan
from echotally.rates.price_walk import price_of

Owner = TypeVar("Owner", bound=Hashable)
#: Quantities of one hour by meter and owner, and how long that hour is (1, but for the last of a month).
Hour = tuple[Decimal, Mapping[str, Mapping[Owner, Decimal]]]


class Committed(Struct, Generic[Owner], frozen=True):
    """A month under a commitment, money unrounded.

    ``hours`` are those of the month, ``amount`` what was prepaid for them, ``lost`` what no usage took of it. ``covered`` is usage
    paid from it at full price by meter, which is taken off the meter's line; ``used`` what that took of it, by owner and meter.
    """

    hours: Decimal
    amount: Decimal
    lost: Decimal
    covered: Mapping[str, Decimal]
    used: Mapping[Owner, Mapping[str, Decimal]]
    each_hour: tuple[PaidHour, ...] = ()


class PaidHour(Struct, frozen=True):
    """One hour of a commitment: its length, what of it was lost, and usage it paid by meter, at full price."""

    length: Decimal
    lost: Decimal
    covered: Mapping[str, Decimal]


def commit(plan: Plan, hours: Sequence[Hour[Owner]], per_hour: Decimal | None = None) -> Committed[Owner] | None:
    """Pay each hour's usage from the plan's commitment (``per_hour``: with this much instead); None where there is none.

    Allowances come first in the order of time, units are priced at the tier reached by then, covered ones counted. In the exact
    context of bills.
    """
    terms = plan.commitment
    each = Decimal(0) if terms is None else terms.per_hour if per_hour is None else per_hour
    if terms is None or not each:
        return None
    # A unit of money committed pays for 1 / (1 - discount) of usage at full price.
    prices, keeps = plan.prices(), 1 - terms.discount
    so_far = dict.fromkeys(terms.covers, Decimal(0))
    covered = dict.fromkeys(terms.covers, Decimal(0))
    used: dict[Owner, dict[str, Decimal]] = {}
    paid_hours: list[PaidHour] = []
    for length, quantities in hours:
        left = each * length
        now: dict[str, Decimal] = {}
        for meter in terms.covers:
            owners = quantities.get(meter, {})
            quantity = sum(owners.values(), Decimal(0))
            # Tiers and allowances go by the month so far, whoever pays: this hour costs what the sum grew by.
            before, so_far[meter] = so_far[meter], so_far[meter] + quantity
            free = Decimal(plan.allowance.get(meter, 0))
            price = prices[meter]
            full = price_of(price, max(Decimal(0), so_far[meter] - free)) - price_of(
                price, max(Decimal(0), before - free)
            )
            # Of a ``volume`` price a unit more may make all of them cheaper.
            paid = min(max(full, Decimal(0)), left / keeps)
            if not paid:
                continue
            covered[meter] += paid
            now[meter] = paid
            left = max(Decimal(0), left - paid * keeps)
            for owner, part in owners.items():
                mine = used.setdefault(owner, {})
                # Every owner's share of the hour is paid alike; what nobody took stays in ``left`` and is lost.
                mine[meter] = mine.get(meter, Decimal(0)) + paid * keeps * part / quantity
        paid_hours.append(PaidHour(length, left, now))
    length = sum((hour.length for hour in paid_hours), Decimal(0))
    lost = sum((hour.lost for hour in paid_hours), Decimal(0))
    return Committed(length, each * length, lost, covered, used, tuple(paid_hours))
