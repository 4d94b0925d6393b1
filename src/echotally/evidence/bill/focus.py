"""A projected month as rows of the FOCUS 1.2 cost and usage specification, exact to the last digit.

A row for each plan, meter, price tier and unit (function in an environment): its share of the billable quantity at the
tier's unit price. Our own columns begin with ``x_``, as the specification asks. Quantities are rounded to nine decimals,
the last row of a line takes the rest, so that the rows of a line add up to it.
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime
from decimal import Decimal, localcontext
from typing import NamedTuple

from msgspec.structs import replace

from echotally.model.estate import Model
from echotally.projection.answer import PlayedPlan, Projection, RefusedPlan
from echotally.projection.metering import Account, UnitKey
from echotally.projection.over_time import Stretch, summed
from echotally.rates.billing import Line, exact
from echotally.rates.commitments import PaidHour, commit
from echotally.rates.meters import COMMITMENT, OUTSIDE
from echotally.rates.price_walk import Part, parts_of

_QUANTUM = Decimal("1e-9")
COLUMNS = (
    "BilledCost",
    "BillingAccountId",
    "BillingAccountName",
    "BillingCurrency",
    "BillingPeriodEnd",
    "BillingPeriodStart",
    "ChargeCategory",
    "ChargeClass",
    "ChargeDescription",
    "ChargeFrequency",
    "ChargePeriodEnd",
    "ChargePeriodStart",
    "CommitmentDiscountStatus",
    "ConsumedQuantity",
    "ConsumedUnit",
    "ContractedCost",
    "ContractedUnitPrice",
    "EffectiveCost",
    "InvoiceId",
    "InvoiceIssuerName",
    "ListCost",
    "ListUnitPrice",
    "PricingCategory",
    "PricingCurrency",
    "PricingCurrencyContractedUnitPrice",
    "PricingCurrencyEffectiveCost",
    "PricingCurrencyListUnitPrice",
    "PricingQuantity",
    "PricingUnit",
    "ProviderName",
    "PublisherName",
    "RegionId",
    "RegionName",
    "ResourceId",
    "ResourceName",
    "ResourceType",
    "ServiceCategory",
    "ServiceName",
    "ServiceSubcategory",
    "SkuId",
    "SkuMeter",
    "SkuPriceDetails",
    "SkuPriceId",
    "SubAccountId",
    "SubAccountName",
    "Tags",
    "x_Environment",
    "x_Function",
    "x_Meter",
    "x_Plan",
)
NUMBERS = (
    "BilledCost",
    "ConsumedQuantity",
    "ContractedCost",
    "ContractedUnitPrice",
    "EffectiveCost",
    "ListCost",
    "ListUnitPrice",
    "PricingCurrencyContractedUnitPrice",
    "PricingCurrencyEffectiveCost",
    "PricingCurrencyListUnitPrice",
    "PricingQuantity",
)
_COMPUTE = ("Compute", "Serverless Compute", "Functions")
#: Meter -> (service category, subcategory, service name); all else is compute. The first two are the specification's.
_SERVICES = {
    "queue_operations": ("Integration", "Messaging", "Queues"),
    "topic_publishes": ("Integration", "Messaging", "Topics"),
    "schedule_firings": ("Integration", "Other (Integration)", "Schedules"),
    "stream_partition_hours": ("Analytics", "Streaming Analytics", "Streams"),
    "stream_writes": ("Analytics", "Streaming Analytics", "Streams"),
    "gateway_requests": ("Integration", "API Management", "Endpoints"),
    "storage_operations": ("Storage", "Object Storage", "Folders"),
    "storage_gb_months": ("Storage", "Object Storage", "Packages"),
    "log_gb": ("Management and Governance", "Observability", "Logs"),
    "egress_gb": ("Networking", "Network Infrastructure", "Transfer"),
    "flat_months": ("Management and Governance", "Other (Management and Governance)", "Monthly items"),
}
_UNITS = {
    "calls": "Calls",
    "gb_seconds": "GB-Seconds",
    "vcpu_seconds": "vCPU-Seconds",
    "instance_hours": "Hours",
    "idle_gb_seconds": "GB-Seconds",
    "idle_vcpu_seconds": "vCPU-Seconds",
    "allocated_gb_seconds": "GB-Seconds",
    "allocated_vcpu_seconds": "vCPU-Seconds",
    "reserved_hours": "Hours",
    "node_hours": "Hours",
    "cluster_hours": "Hours",
    "queue_operations": "Requests",
    "topic_publishes": "Messages",
    "stream_partition_hours": "Hours",
    "stream_writes": "Records",
    "gateway_requests": "Requests",
    "schedule_firings": "Firings",
    "storage_operations": "Requests",
    "log_gb": "GB",
    "egress_gb": "GB",
    "storage_gb_months": "GB-Months",
    "flat_months": "Months",
    "commitment": "Hours",
}
_FREQUENCY = {"flat_months": "Recurring"}
_HOUR_NS = 3_600 * 10**9
MAIN_ACCOUNT = "main"


#: Columns of rows that a commitment pays or that pay for it; a bill without one has none of them.
COMMITMENT_COLUMNS = (
    "CommitmentDiscountCategory",
    "CommitmentDiscountId",
    "CommitmentDiscountName",
    "CommitmentDiscountQuantity",
    "CommitmentDiscountType",
    "CommitmentDiscountUnit",
)


def focus_rows(found: Projection, plan: str, periods: Sequence[Stretch] = ()) -> list[dict[str, str | None]]:
    """The month of a feasible plan as FOCUS rows, values as text without exponents; raises ``KeyError``.

    ``periods`` (left out: the month) are what the rows are dated by; allowances and tiers are used up in their order.
    """
    projected = found.plan(plan)
    if isinstance(projected, RefusedPlan):
        return []
    with localcontext(exact()):
        whole = Stretch(0, projected.measured.month_ns, projected.metered.quantities)
        return list(_Rows(found, projected, periods or [whole]).rows())


class _Rows:
    def __init__(self, found: Projection, projected: PlayedPlan, periods: Sequence[Stretch]) -> None:
        self.found, self.projected, self.periods = found, projected, periods
        self.metered = projected.metered
        self.totals = summed(periods)
        self.committed = {
            account: commit(plan, self.metered.hours.get(account, [])) for account, plan in self.metered.plans.items()
        }

    def rows(self) -> Iterator[dict[str, str | None]]:
        before: dict[tuple[Account, str], Decimal] = defaultdict(Decimal)
        for period in self.periods:
            for line in self.projected.bill.lines:
                account: Account = (line.account, line.plan)
                if line.meter == COMMITMENT:
                    yield from self._of_commitment(period, line, account)
                    continue
                shares = period.quantities[account].get(line.meter, {})
                quantity = sum(shares.values(), Decimal(0))
                if quantity:
                    so_far = before[account, line.meter]
                    yield from self._of_line(period, line, shares, so_far, so_far + quantity)
                before[account, line.meter] += quantity

    def _of_line(
        self, period: Stretch, line: Line, shares: Mapping[UnitKey | None, Decimal], before: Decimal, after: Decimal
    ) -> Iterator[dict[str, str | None]]:
        """A line's rows of one period: by unit (function and environment), then by tier."""
        account: Account = (line.account, line.plan)
        tiers = self._tiers(account, line.meter, before, after)
        covered = self._covered(period, account, line.meter, tiers)
        left = {tier.tier: tier.quantity for tier in tiers}
        for place, (key, quantity) in enumerate(shares.items(), 1):
            part = quantity / (after - before)
            later = Decimal(0)
            for tier in reversed(tiers):
                own = left[tier.tier] if place == len(shares) else (tier.quantity * part).quantize(_QUANTUM)
                left[tier.tier] -= own
                consumed = quantity - later if tier is tiers[0] else own
                later += own
                committed = (own * covered).quantize(_QUANTUM) if covered else Decimal(0)
                if committed:
                    yield self._row(period, line, key, _Used(tier, committed, committed)) | (
                        self._paid_by(account, committed, tier)
                    )
                if not committed or consumed > committed or own > committed:
                    yield self._row(period, line, key, _Used(tier, own - committed, consumed - committed))

    def _tiers(self, account: Account, meter: str, before: Decimal, after: Decimal) -> list[Part]:
        """The billable quantity between two instants by tier; of a ``volume`` price at the tier that all periods reach."""
        price, free = self.metered.plans[account].prices()[meter], self._free(account, meter)
        low, high = max(Decimal(0), before - free), max(Decimal(0), after - free)
        if price.volume:
            total = sum(self.totals[account].get(meter, {}).values(), Decimal(0))
            return [replace(parts_of(price, max(Decimal(0), total - free))[0], quantity=high - low)]
        known = {part.tier: part.quantity for part in parts_of(price, low)}
        found = [
            replace(part, quantity=part.quantity - known.get(part.tier, Decimal(0))) for part in parts_of(price, high)
        ]
        return [part for part in found if part.quantity] or found[:1]

    def _free(self, account: Account, meter: str) -> Decimal:
        return Decimal(self.metered.plans[account].allowance.get(meter, 0))

    def _covered(self, period: Stretch, account: Account, meter: str, tiers: list[Part]) -> Decimal:
        """The share of a line's money that the commitment pays in a period."""
        money = sum((hour.covered.get(meter, Decimal(0)) for hour in self._hours(period, account)), Decimal(0))
        full = sum((tier.quantity * tier.unit_price for tier in tiers), Decimal(0))
        return min(Decimal(1), money / full) if full else Decimal(0)

    def _hours(self, period: Stretch, account: Account) -> list[PaidHour]:
        """The hours of a commitment that end in a period."""
        committed = self.committed[account]
        found, at = [], Decimal(0)
        for hour in committed.each_hour if committed else ():
            at += hour.length * _HOUR_NS
            if period.from_ns < at <= period.until_ns:
                found.append(hour)
        return found

    def _paid_by(self, account: Account, quantity: Decimal, tier: Part) -> dict[str, str | None]:
        """What is other in a row that the commitment pays: nothing is billed, and less of it counts."""
        terms = self.metered.plans[account].commitment
        assert terms is not None
        effective = _plain(quantity * tier.unit_price * (1 - terms.discount))
        return {
            "BilledCost": "0",
            "EffectiveCost": effective,
            "ContractedCost": effective,
            "ContractedUnitPrice": _plain(tier.unit_price * (1 - terms.discount)),
            "PricingCategory": "Committed",
            "PricingCurrencyEffectiveCost": effective,
            "PricingCurrencyContractedUnitPrice": _plain(tier.unit_price * (1 - terms.discount)),
            "CommitmentDiscountStatus": "Used",
            **_commitment_of(account),
            "CommitmentDiscountQuantity": effective,
        }

    def _of_commitment(self, period: Stretch, line: Line, account: Account) -> Iterator[dict[str, str | None]]:
        """What was prepaid for the hours of a period, and what of it was lost."""
        hours, plan = self._hours(period, account), self.metered.plans[account]
        length = sum((hour.length for hour in hours), Decimal(0))
        lost = sum((hour.lost for hour in hours), Decimal(0))
        if not length or plan.commitment is None:
            return
        each = Part(1, length, plan.commitment.per_hour, 1)
        bought = self._row(period, line, None, _Used(each, length, length))
        yield bought | {
            "ChargeCategory": "Purchase",
            "ChargeFrequency": "Recurring",
            "EffectiveCost": "0",
            "PricingCurrencyEffectiveCost": "0",
            "ConsumedQuantity": None,
            "ConsumedUnit": None,
            **_commitment_of(account),
            "CommitmentDiscountQuantity": bought["BilledCost"],
            "ChargeDescription": f"commitment on {line.plan}, prepaid, projected",
        }
        if lost:
            none = self._row(period, line, None, _Used(Part(1, lost, Decimal(1), 1), lost, lost))
            yield none | {
                "BilledCost": "0",
                "ConsumedQuantity": None,
                "ConsumedUnit": None,
                "PricingCategory": "Committed",
                "PricingUnit": self.projected.offer.card.currency,
                "CommitmentDiscountStatus": "Unused",
                **_commitment_of(account),
                "CommitmentDiscountQuantity": _plain(lost),
                "ChargeDescription": f"commitment on {line.plan}, lost, projected",
            }

    def _row(self, period: Stretch, line: Line, key: UnitKey | None, used: _Used) -> dict[str, str | None]:
        clock = self.found.month.clock
        bounds = [_time(clock.instant(at)) for at in (period.from_ns, period.until_ns)]
        row = _row(self.found, self.projected, line, key, used)
        return row | {"ChargePeriodStart": bounds[0], "ChargePeriodEnd": bounds[1]}


class _Used(NamedTuple):
    """What a row charges for: the tier of the price, what is priced in it, and what was consumed (the free part included)."""

    tier: Part
    quantity: Decimal
    consumed: Decimal


def _commitment_of(account: Account) -> dict[str, str | None]:
    name = f"{account[0] or MAIN_ACCOUNT}/{account[1]}"
    return {
        "CommitmentDiscountCategory": "Spend",
        "CommitmentDiscountId": f"{name}/commitment",
        "CommitmentDiscountName": f"Commitment on {name}",
        "CommitmentDiscountType": "Hourly commitment",
        "CommitmentDiscountUnit": "Currency",
    }


def _row(
    found: Projection,
    projected: PlayedPlan,
    line: Line,
    key: UnitKey | None,
    used: _Used,
) -> dict[str, str | None]:
    tier = used.tier
    model, card = found.model, projected.offer.card
    outside = line.meter.startswith(OUTSIDE)
    category, subcategory, service = _SERVICES.get(line.meter, _COMPUTE) if not outside else _of_others(line.meter)
    name, environment = key or ("", "")
    start, end = (_time(at) for at in (found.month.clock.start, found.month.clock.end))
    account = line.account or MAIN_ACCOUNT
    # Somebody else's service is somebody else's invoice.
    provider = service if outside else card.provider or card.name
    return {
        **dict.fromkeys(COLUMNS),
        **_priced(_plain(used.quantity * tier.unit_price), _plain(tier.unit_price)),
        **_quantities(line.meter, used),
        "PricingCategory": "Standard",
        "PricingCurrency": card.currency,
        "BillingAccountId": f"{card.name}-projection",
        "BillingAccountName": f"{model.estate.name} (projected)",
        "BillingCurrency": card.currency,
        "BillingPeriodStart": start,
        "BillingPeriodEnd": end,
        "ChargePeriodStart": start,
        "ChargePeriodEnd": end,
        "ChargeCategory": "Usage",
        "ChargeFrequency": _FREQUENCY.get(line.meter, "Usage-Based"),
        "ChargeDescription": f"{line.meter} of {name or 'the estate'} on {line.plan}, tier {tier.tier}, projected",
        **dict.fromkeys(("InvoiceIssuerName", "ProviderName", "PublisherName"), provider),
        **dict.fromkeys(("RegionId", "RegionName"), card.region),
        **_resource(account, line, key),
        "ServiceCategory": category,
        "ServiceSubcategory": subcategory,
        "ServiceName": service,
        **_sku(line, tier),
        **dict.fromkeys(("SubAccountId", "SubAccountName"), account),
        "Tags": json.dumps(_tags(model, name), ensure_ascii=False),
        "x_Environment": environment or None,
        "x_Function": name or None,
        "x_Meter": line.meter,
        "x_Plan": line.plan,
    }


def _quantities(meter: str, used: _Used) -> dict[str, str]:
    unit = _UNITS.get(meter, "Uses")
    return {
        "PricingQuantity": _plain(used.quantity),
        "PricingUnit": unit,
        "ConsumedQuantity": _plain(used.consumed),
        "ConsumedUnit": unit,
    }


def _resource(account: str, line: Line, key: UnitKey | None) -> dict[str, str]:
    """What was charged for: a function in its environment, or a plan as a whole."""
    if key is None:
        return {"ResourceId": f"{account}/{line.plan}", "ResourceName": line.plan, "ResourceType": "Plan"}
    name, environment = key
    return {"ResourceId": f"{account}/{environment}/{name}", "ResourceName": name, "ResourceType": "Function"}


def _sku(line: Line, tier: Part) -> dict[str, str]:
    return {
        "SkuId": f"{line.plan}.{line.meter}",
        "SkuMeter": line.meter,
        "SkuPriceId": f"{line.plan}.{line.meter}.{tier.tier}",
        "SkuPriceDetails": json.dumps({"x_Plan": line.plan, "x_Tier": tier.tier}),
    }


def _priced(cost: str, unit_price: str) -> dict[str, str]:
    """The columns of money: nothing is negotiated or prepaid in a projection, so that list and contract say the same."""
    costs = ("BilledCost", "ContractedCost", "EffectiveCost", "ListCost", "PricingCurrencyEffectiveCost")
    prices = ("ContractedUnitPrice", "ListUnitPrice")
    return {
        **dict.fromkeys(costs, cost),
        **dict.fromkeys((*prices, *(f"PricingCurrency{name}" for name in prices)), unit_price),
    }


def _of_others(meter: str) -> tuple[str, str, str]:
    """Category, subcategory and name of an outside service."""
    return "Other", "Other (Other)", meter.removeprefix(OUTSIDE)


def _tags(model: Model, name: str) -> dict[str, str]:
    return dict(model.functions[name].tags) if name else {}


def _plain(number: Decimal) -> str:
    """Digits without an exponent and without zeros that say nothing."""
    text = f"{number:f}"
    return text.rstrip("0").rstrip(".") or "0" if "." in text else text


def _time(at: datetime) -> str:
    return at.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
