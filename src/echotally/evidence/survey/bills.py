"""What a bill says before any model is there: its rows by meter and function, what they cost, what belongs to nothing we know."""

from __future__ import annotations

import json
import re
from collections import defaultdict
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from decimal import Decimal, localcontext
from pathlib import Path

from msgspec import Struct, field

from echotally.evidence.bill.bill_file import bill_rows, number_in
from echotally.evidence.bill.bill_keys import BillWays, meter_named
from echotally.evidence.bill.bill_units import factor
from echotally.evidence.survey.tables import OTHERWISE
from echotally.rates.billing import exact
from echotally.rates.meters import METERS, OUTSIDE

#: Kinds of charge that are no use of anything.
_ASIDE = ("Tax", "Credit", "Adjustment")
#: Words of a row, and the meter they mean, where no name of ours stands in it; the first that is there counts.
_BY_WORDS = (
    (r"idle.*(gb|memory).*s|provisioned.*memory", "idle_gb_seconds", "GB-s"),
    (r"idle.*v?cpu", "idle_vcpu_seconds", "vCPU-s"),
    (r"allocat.*(gb|memory)", "allocated_gb_seconds", "GB-s"),
    (r"allocat.*v?cpu", "allocated_vcpu_seconds", "vCPU-s"),
    (r"partition", "stream_partition_hours", "h"),
    (r"cluster", "cluster_hours", "h"),
    (r"node", "node_hours", "h"),
    (r"reserv", "reserved_hours", "h"),
    (r"instance", "instance_hours", "h"),
    (r"log|ingest", "log_gb", "GB"),
    (r"egress|transfer|outbound|network", "egress_gb", "GB"),
    (r"package|storage|stored|object", "storage_gb_months", "GB-months"),
    (r"v?cpu", "vcpu_seconds", "vCPU-s"),
    (r"gb|memory|compute|duration", "gb_seconds", "GB-s"),
    (r"queue", "queue_operations", ""),
    (r"topic|publish", "topic_publishes", ""),
    (r"stream|record", "stream_writes", ""),
    (r"gateway|api|endpoint", "gateway_requests", ""),
    (r"schedul|timer|firing", "schedule_firings", ""),
    (r"storage|object|file", "storage_operations", ""),
    (r"call|invocation|request|execution|run", "calls", ""),
)
Key = tuple[str, str, str]


class Priced(Struct):
    """Rows of one meter at one unit price (money for one of the meter's units), by account: billable and consumed quantity."""

    unit: Decimal
    order: str
    billable: dict[str, Decimal] = field(default_factory=lambda: defaultdict(Decimal))
    consumed: dict[str, Decimal] = field(default_factory=lambda: defaultdict(Decimal))


class Billed(Struct):
    """All bills together. ``quantity`` and ``cost`` are by meter, function and environment; ``aside`` is what was set aside."""

    prices: dict[str, dict[Decimal, Priced]] = field(default_factory=lambda: defaultdict(dict))
    quantity: dict[Key, Decimal] = field(default_factory=lambda: defaultdict(Decimal))
    cost: dict[Key, Decimal] = field(default_factory=lambda: defaultdict(Decimal))
    outside: dict[tuple[str, str], tuple[Decimal, Decimal]] = field(default_factory=dict)
    monthly: dict[str, Decimal] = field(default_factory=lambda: defaultdict(Decimal))
    aside: dict[str, tuple[int, Decimal]] = field(default_factory=dict)
    currency: str = "EUR"
    provider: str = ""
    region: str = ""
    plan: str = ""
    plans: set[str] = field(default_factory=set)
    starts: set[str] = field(default_factory=set)
    rows: int = 0
    read: int = 0
    total: Decimal = Decimal(0)
    notes: list[str] = field(default_factory=list)

    @property
    def month(self) -> str | None:
        """The month most rows are of, "2027-03"; None without rows."""
        months = sorted(month for month in map(_month_of, self.starts) if month)
        return max(months, key=months.count) if months else None

    def meters_of(self, function: str) -> set[str]:
        """The meters a function has rows of."""
        return {meter for meter, name, _ in self.quantity if name == function}

    def of(self, meter: str, function: str, environment: str | None = None) -> Decimal:
        """A function's quantity of a meter, in one environment or all."""
        return sum(
            (n for (m, f, e), n in self.quantity.items() if m == meter and f == function and environment in (None, e)),
            Decimal(0),
        )

    def spent(self, function: str) -> Decimal:
        """What a function's rows cost."""
        return sum((money for (_, f, _), money in self.cost.items() if f == function), Decimal(0))


def _month_of(start: str) -> str | None:
    """The month of a period that begins then. A month of a zone east of Greenwich begins on the last day before it in UTC."""
    try:
        at = datetime.fromisoformat(start)
    except ValueError:
        return None
    return f"{at + timedelta(hours=14):%Y-%m}"


def read_bills(paths: Sequence[Path], functions: Iterable[str]) -> Billed:
    """The rows of bills with FOCUS columns (1.0 to 1.2), laid to meters and to these functions. Raises ``BadInput``."""
    found, known = Billed(), {name.lower(): name for name in functions}
    seen: set[int] = set()
    doubled = 0
    with localcontext(exact()):
        for path in paths:
            for row in bill_rows(path, BillWays()):
                found.read += 1
                mark = hash(tuple(row.items()))
                # A row that stands twice in every column, in one file or two, is one charge delivered twice.
                if mark in seen:
                    doubled += 1
                    continue
                seen.add(mark)
                _add(found, row, known)
    if doubled:
        found.notes.append(f"{doubled:,} row(s) of the bill like another in every column read: counted once")
    return found


def _add(found: Billed, row: dict[str, str], known: dict[str, str]) -> None:
    cost = number_in(row.get("BilledCost") or row.get("EffectiveCost"))
    if cost is None:
        _aside(found, row, Decimal(0), "without a readable cost")
        return
    found.rows += 1
    found.total += cost
    found.currency = row.get("BillingCurrency") or found.currency
    if row.get("ChargeCategory", "Usage") in _ASIDE:
        _aside(found, row, cost, row["ChargeCategory"].lower())
        return
    function, environment = _function(row, known)
    meter = row.get("x_Meter") or meter_named(row)
    if meter.startswith(OUTSIDE) or meter not in METERS:
        meter = meter if meter.startswith(OUTSIDE) else _by_words(row) or ""
    if meter in METERS and meter != "flat_months":
        _priced(found, row, meter, function, environment, cost)
        return
    if meter == "flat_months" or row.get("ChargeFrequency") == "Recurring" or row.get("ChargeCategory") == "Purchase":
        found.monthly[_label(row)] += cost
    elif function:
        name = meter.removeprefix(OUTSIDE) if meter.startswith(OUTSIDE) else _label(row)
        n, money = found.outside.get((name, function), (Decimal(0), Decimal(0)))
        used = number_in(row.get("ConsumedQuantity")) or number_in(row.get("PricingQuantity")) or Decimal(0)
        found.outside[name, function] = n + used, money + cost
    else:
        _aside(found, row, cost, "another service")


def _priced(found: Billed, row: dict[str, str], meter: str, function: str, environment: str, cost: Decimal) -> None:
    found.starts.add(row.get("ChargePeriodStart", ""))
    found.provider = row.get("ProviderName") or row.get("ServiceName") or found.provider
    found.region = row.get("RegionId") or found.region
    if row.get("x_Plan"):
        found.plans.add(row["x_Plan"])
    account = row.get("SubAccountId", "")
    per = factor(row["PricingUnit"], meter) if row.get("PricingUnit") else Decimal(1)
    billable = number_in(row.get("PricingQuantity"))
    consumed = number_in(row.get("ConsumedQuantity"))
    times = factor(row["ConsumedUnit"], meter) if row.get("ConsumedUnit") else Decimal(1)
    billable = billable * per if billable is not None and per else None
    consumed = consumed * times if consumed is not None and times else billable
    if billable is None:
        billable = consumed
    price = number_in(row.get("ContractedUnitPrice"))
    price = number_in(row.get("ListUnitPrice")) if price is None else price
    if price is not None and per:
        price /= per
    if price is None and billable:
        price = cost / billable
    found.cost[meter, function, environment] += cost
    if consumed is not None:
        found.quantity[meter, function, environment] += consumed
    if price is not None and billable is not None and consumed is not None:
        # Prices worked out from costs differ in their last digits.
        price = price if abs(price) < Decimal("1e-12") else Decimal(f"{price:.9g}")
        at = found.prices[meter].setdefault(price, Priced(price, row.get("SkuPriceId", "")))
        at.billable[account] += billable
        at.consumed[account] += consumed


def _by_words(row: dict[str, str]) -> str | None:
    """The meter that a row's words and unit mean together; None where they mean none."""
    text = " ".join(
        row.get(name, "") for name in ("SkuMeter", "ChargeDescription", "SkuId", "ServiceName", "ServiceCategory")
    )
    unit = row.get("PricingUnit") or row.get("ConsumedUnit") or ""
    for words, meter, _kind in _BY_WORDS:
        if re.search(words, text.lower()) and unit and factor(unit, meter) is not None:
            return meter
    return None


def _function(row: dict[str, str], known: dict[str, str]) -> tuple[str, str]:
    """The function and environment a row is of; "" where it says none."""
    try:
        tags = json.loads(row.get("Tags") or "{}")
    except ValueError:
        tags = {}
    tags = {str(k).lower(): str(v) for k, v in tags.items()} if isinstance(tags, dict) else {}
    # From what was meant for this to what only may hold a name somewhere.
    names = [row.get("x_Function", ""), row.get("ResourceName", ""), tags.get("function", "")]
    names += re.split(r"[/:|]", row.get("ResourceId", ""))
    function = next((known[name.lower()] for name in names if name.lower() in known), "")
    environment = row.get("x_Environment") or tags.get("environment") or tags.get("stage") or OTHERWISE
    return function, environment if function else ""


def _label(row: dict[str, str]) -> str:
    """What a row is called where no meter names it."""
    for name in ("SkuMeter", "ServiceName", "ChargeDescription", "SkuId", "ResourceName"):
        if row.get(name):
            return re.sub(r"[^A-Za-z0-9_-]+", "-", row[name]).strip("-").lower()[:60] or "item"
    return "item"


def _aside(found: Billed, row: dict[str, str], cost: Decimal, why: str) -> None:
    name = f"{why}: {row.get('ServiceName') or row.get('ChargeDescription') or _label(row)}"
    n, money = found.aside.get(name, (0, Decimal(0)))
    found.aside[name] = n + 1, money + cost
