"""A projected month as rows of the FOCUS 1.2 cost and usage specification, exact to the last digit.

A row for each plan, meter, price tier and unit (function in an environment): its share of the billable quantity at the
tier's unit price. Our own columns begin with ``x_``, as the specification asks. Quantities are rounded to nine decimals,
the last row of a line takes the rest, so that the rows of a line add up to it.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import UTC, datetime
from decimal import Decimal, localcontext

from echotally.model.estate import Model
from echotally.projection.answer import PlayedPlan, Projection, RefusedPlan
from echotally.projection.bills import Bill
from echotally.projection.metering import Account, Metered, UnitKey
from echotally.rates.billing import Line, exact
from echotally.rates.meters import OUTSIDE
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
}
_FREQUENCY = {"flat_months": "Recurring"}
MAIN_ACCOUNT = "main"


def focus_rows(found: Projection, plan: str) -> list[dict[str, str | None]]:
    """The month of a feasible plan as FOCUS rows, values as text without exponents; raises ``KeyError``."""
    projected = found.plan(plan)
    if isinstance(projected, RefusedPlan):
        return []
    with localcontext(exact()):
        return list(_rows(found, projected, projected.bill, projected.metered))


def _rows(found: Projection, projected: PlayedPlan, bill: Bill, metered: Metered) -> Iterator[dict[str, str | None]]:
    for line in bill.lines:
        account: Account = (line.account, line.plan)
        shares = metered.quantities[account].get(line.meter, {})
        if not line.quantity:
            continue
        tiers = parts_of(metered.plans[account].prices()[line.meter], line.billable)
        left = {tier.tier: tier.quantity for tier in tiers}
        for place, (key, quantity) in enumerate(shares.items(), 1):
            part = quantity / line.quantity
            later = Decimal(0)
            for tier in reversed(tiers):
                own = left[tier.tier] if place == len(shares) else (tier.quantity * part).quantize(_QUANTUM)
                left[tier.tier] -= own
                first = tier.tier == 1
                consumed = quantity - later if first else own
                later += own
                yield _row(found, projected, line, key, tier=tier, quantity=own, consumed=consumed)


def _row(
    found: Projection,
    projected: PlayedPlan,
    line: Line,
    key: UnitKey | None,
    *,
    tier: Part,
    quantity: Decimal,
    consumed: Decimal,
) -> dict[str, str | None]:
    model, card = found.model, projected.offer.card
    cost = _plain(quantity * tier.unit_price)
    price = _plain(tier.unit_price)
    outside = line.meter.startswith(OUTSIDE)
    category, subcategory, service = _SERVICES.get(line.meter, _COMPUTE) if not outside else _of_others(line.meter)
    name, environment = key or ("", "")
    start, end = (_time(at) for at in (found.month.clock.start, found.month.clock.end))
    resource = (
        f"{line.account or MAIN_ACCOUNT}/{environment}/{name}" if key else f"{line.account or MAIN_ACCOUNT}/{line.plan}"
    )
    # Somebody else's service is somebody else's invoice.
    provider = service if outside else card.provider or card.name
    row: dict[str, str | None] = dict.fromkeys(COLUMNS)
    row |= {
        "BilledCost": cost,
        "ContractedCost": cost,
        "EffectiveCost": cost,
        "ListCost": cost,
        "ContractedUnitPrice": price,
        "ListUnitPrice": price,
        "PricingQuantity": _plain(quantity),
        "PricingUnit": _UNITS.get(line.meter, "Uses"),
        "ConsumedQuantity": _plain(consumed),
        "ConsumedUnit": _UNITS.get(line.meter, "Uses"),
        "PricingCategory": "Standard",
        "PricingCurrency": card.currency,
        "PricingCurrencyEffectiveCost": cost,
        "PricingCurrencyContractedUnitPrice": price,
        "PricingCurrencyListUnitPrice": price,
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
        "InvoiceIssuerName": provider,
        "ProviderName": provider,
        "PublisherName": provider,
        "RegionId": card.region,
        "RegionName": card.region,
        "ResourceId": resource,
        "ResourceName": name or line.plan,
        "ResourceType": "Function" if key else "Plan",
        "ServiceCategory": category,
        "ServiceSubcategory": subcategory,
        "ServiceName": service,
        "SkuId": f"{line.plan}.{line.meter}",
        "SkuMeter": line.meter,
        "SkuPriceId": f"{line.plan}.{line.meter}.{tier.tier}",
        "SkuPriceDetails": json.dumps({"x_Plan": line.plan, "x_Tier": tier.tier}),
        "SubAccountId": line.account or MAIN_ACCOUNT,
        "SubAccountName": line.account or MAIN_ACCOUNT,
        "Tags": json.dumps(_tags(model, name), ensure_ascii=False),
        "x_Environment": environment or None,
        "x_Function": name or None,
        "x_Meter": line.meter,
        "x_Plan": line.plan,
    }
    return row


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
