"""Reads an actual bill: CSV or Parquet with the columns of the FOCUS specification, mapped to functions and meters.

A row is mapped, in this order, by a mapping file, by our own ``x_`` columns, by its resource's name, or by a tag; its
meter by ``x_Meter`` or ``SkuMeter``. What maps to nothing is kept apart and shown, never dropped.
"""

from __future__ import annotations

import csv
import io
from collections import defaultdict
from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal, InvalidOperation, localcontext
from pathlib import Path

from msgspec import Struct, field

from echotally.cells import harmless, unmarked
from echotally.database import database, named_in_sql, quoted_name
from echotally.demand.clock import MonthClock, to_utc
from echotally.errors import BadInput, Problem
from echotally.evidence.bill.bill_keys import (
    _MAPPING,
    _SKU,
    BillKey,
    BillWays,
    key_of_row,
    mapping_rules,
)
from echotally.evidence.bill.bill_units import factor
from echotally.evidence.logs.reading import Trouble
from echotally.evidence.logs.text_files import hold_against
from echotally.files import hold_regular
from echotally.model.estate import Model
from echotally.rates.billing import exact
from echotally.recognising import mistaken

FORMS = "CSV or Parquet with the FOCUS columns BilledCost (or EffectiveCost), ResourceName or Tags, SkuMeter"
_WANTED = (
    "BilledCost",
    "EffectiveCost",
    "ListCost",
    "ContractedCost",
    "BillingCurrency",
    "ChargeCategory",
    "ChargeFrequency",
    "ChargePeriodEnd",
    "ChargePeriodStart",
    "CommitmentDiscountStatus",
    "ConsumedQuantity",
    "ConsumedUnit",
    "PricingQuantity",
    "PricingUnit",
    "ContractedUnitPrice",
    "ListUnitPrice",
    "PricingCategory",
    "ProviderName",
    "RegionId",
    "ServiceCategory",
    "ResourceId",
    "ResourceName",
    "ServiceName",
    "SkuId",
    "SkuMeter",
    "SkuPriceId",
    "SubAccountId",
    "Tags",
    "ChargeDescription",
    "x_Environment",
    "x_Function",
    "x_Meter",
    "x_Plan",
)
#: Which column is the cost: what was billed, what it comes to with commitments spread, what the list says, what was agreed.
COSTS = {"billed": "BilledCost", "effective": "EffectiveCost", "list": "ListCost", "contracted": "ContractedCost"}
_MOST_ROWS = 5_000_000
#: Tags are the longest cells of a bill.
_LONGEST_CELL = 20_000


class Position(Struct):
    """What a bill says of one (account, meter, function, environment): money, quantity used (in the meter's unit), money at its
    unit prices.
    """

    cost: Decimal = Decimal(0)
    quantity: Decimal | None = None
    priced: Decimal | None = None
    rows: int = 0


class BillRead(Struct):
    """A bill by position, the rows that map to nothing (description: rows, cost), and what was odd.

    ``loose`` are the resources and SKUs of those rows, for a mapping file; ``elsewhere`` is money of other months, left out.
    ``by_day`` is money of rows that map to something by local day, a longer period's spread evenly; ``plans`` those named by rows.
    """

    positions: dict[BillKey, Position] = field(default_factory=lambda: defaultdict(Position))
    unmapped: dict[str, tuple[int, Decimal]] = field(default_factory=dict)
    loose: set[tuple[str, str]] = field(default_factory=set)
    elsewhere: dict[str, tuple[int, Decimal]] = field(default_factory=dict)
    currency: str = ""
    rows: int = 0
    troubles: list[Trouble] = field(default_factory=list)
    by_day: dict[date, Decimal] = field(default_factory=lambda: defaultdict(Decimal))
    plans: dict[str, Decimal] = field(default_factory=lambda: defaultdict(Decimal))

    @property
    def matched(self) -> Decimal:
        """Money of the rows that are some function's or meter's."""
        return sum((p.cost for p in self.positions.values()), Decimal(0))

    @property
    def total(self) -> Decimal:
        """All money of the bill, mapped or not."""
        mapped = sum((p.cost for p in self.positions.values()), Decimal(0))
        return mapped + sum((cost for _, cost in self.unmapped.values()), Decimal(0))


def read_bill(
    path: Path, model: Model, ways: BillWays, into: str, clock: MonthClock, until: date | None = None
) -> BillRead:
    """The positions of a bill file, in the currency ``into``, of the month ``clock``.

    ``until``: no charge may end after this day's midnight, in the month's zone or in UTC. Raises ``BadInput``.
    """
    return _Reader(path, model, ways, into, clock, until).read()


class _Reader:
    def __init__(
        self, path: Path, model: Model, ways: BillWays, into: str, clock: MonthClock, until: date | None
    ) -> None:
        self.path, self.model, self.ways, self.into, self.clock = path, model, ways, into, clock
        self.until = until
        self.rules = mapping_rules(ways.mapping) if ways.mapping else []
        self.counts: dict[str, int] = defaultdict(int)
        self.examples: dict[str, str] = {}

    def read(self) -> BillRead:
        found, seen = BillRead(currency=self.into), set[int]()
        with localcontext(exact()):
            for row in bill_rows(self.path, self.ways):
                found.rows += 1
                if found.rows > _MOST_ROWS:
                    raise BadInput(Problem("has too many rows", file=self.path.name, allowed=f"at most {_MOST_ROWS:,}"))
                # Rows may be alike without being doubled; that is said, and they are counted all the same.
                digest = hash(tuple(row.items()))
                self.counts["like another in every column we read"] += digest in seen
                seen.add(digest)
                self._row(found, row)
        if found.rows == 0:
            raise BadInput(Problem("holds no rows", file=self.path.name, allowed=FORMS))
        for month, (n, cost) in sorted(found.elsewhere.items()):
            found.troubles.append(Trouble(n, f"of another month ({month}, {cost:,.2f} {self.into})", "left out"))
        found.troubles += [
            Trouble(n, what, "counted all the same", self.examples.get(what, ""))
            for what, n in self.counts.items()
            if n
        ]
        return found

    def _row(self, found: BillRead, row: dict[str, str]) -> None:
        cost = self._cost(row)
        if cost is None:
            self.counts["without a readable cost"] += 1
            _apart(found, row, Decimal(0))
            return
        rate = self._rate(row.get("BillingCurrency", ""))
        cost *= rate
        month = self._other_month(row.get("ChargePeriodStart", ""))
        if month:
            n, money = found.elsewhere.get(month, (0, Decimal(0)))
            # Left out of this month's comparison, but never out of sight.
            found.elsewhere[month] = (n + 1, money + cost)
            return
        key = key_of_row(row, self.rules, self.model, self.ways)
        if key is None:
            _apart(found, row, cost)
        else:
            self._add(found.positions[key], row, cost, rate, key[1])
            self._dated(found, row, cost)
            if row.get("x_Plan"):
                found.plans[row["x_Plan"]] += cost

    def _dated(self, found: BillRead, row: dict[str, str], cost: Decimal) -> None:
        """Money by local day; a charge that ends too late is refused."""
        start, end = (_instant(row.get(f"ChargePeriod{which}", "")) for which in ("Start", "End"))
        if end is not None and self.until is not None and end > self._latest():
            allowed = (
                f"charges that end by {self.until}, as bills by the day have them (project --format focus --by day)"
            )
            raise BadInput(
                Problem(
                    f"has a charge that ends after {self.until}",
                    "ChargePeriodEnd",
                    file=self.path.name,
                    value=row["ChargePeriodEnd"],
                    allowed=allowed,
                )
            )
        if start is None or end is None or end <= start:
            return
        first = max(start, self.clock.start).astimezone(self.clock.zone)
        last = (min(end, self.clock.end) - timedelta(seconds=1)).astimezone(self.clock.zone)
        # A charge for a month is no charge of its first day.
        days = max(1, (last.date() - first.date()).days + 1)
        for n in range(days):
            found.by_day[first.date() + timedelta(days=n)] += cost / days

    def _latest(self) -> datetime:
        """The later of the day's midnights in the month's zone and in UTC."""
        assert self.until is not None
        midnight = datetime(self.until.year, self.until.month, self.until.day)
        return max(to_utc(midnight, self.clock.zone), midnight.replace(tzinfo=UTC))

    def _cost(self, row: dict[str, str]) -> Decimal | None:
        if self.ways.cost:
            return number_in(row.get(COSTS[self.ways.cost]))
        return number_in(row.get("BilledCost") or row.get("EffectiveCost"))

    def _rate(self, currency: str) -> Decimal:
        """What one unit of a row's currency is worth in ours."""
        exchange = self.model.exchange
        if currency in ("", self.into):
            return Decimal(1)
        if exchange is not None and exchange.into == self.into and currency in exchange.rates:
            return exchange.rates[currency]
        allowed = (
            f'{self.into}, or [exchange] with into = "{self.into}" and rates = {{ {currency} = ... }} in the model'
        )
        raise BadInput(Problem("is in another currency", file=self.path.name, value=currency, allowed=allowed))

    def _other_month(self, start: str) -> str:
        """The month of a charge that begins outside the model's, as its bill or the model's zone counts; "" inside it."""
        month = self.model.estate.month
        # Bills begin their months in UTC or in a zone of their own; both count as the month they say.
        if not start or start.startswith(month):
            return ""
        at = _instant(start)
        if at is None:
            self.counts["without a readable start of its period"] += 1
            return ""
        return "" if self.clock.start <= at < self.clock.end else start[:7]

    def _add(self, position: Position, row: dict[str, str], cost: Decimal, rate: Decimal, meter: str) -> None:
        position.rows += 1
        position.cost += cost
        quantity = self._quantity(row, "Consumed", meter)
        if quantity is None:
            quantity = self._quantity(row, "Pricing", meter)
        if quantity is not None:
            position.quantity = (position.quantity or Decimal(0)) + quantity
        price = number_in(row.get("ContractedUnitPrice")) or number_in(row.get("ListUnitPrice"))
        billable = number_in(row.get("PricingQuantity"))
        own = price * billable * rate if price is not None and billable is not None else cost
        if row.get("CommitmentDiscountStatus"):
            # Paid beforehand: its price is that of the commitment's own row.
            own = cost
        position.priced = (position.priced or Decimal(0)) + own

    def _quantity(self, row: dict[str, str], kind: str, meter: str) -> Decimal | None:
        """A quantity in the meter's own unit; one in a unit that measures something else is refused and said."""
        quantity, unit = number_in(row.get(f"{kind}Quantity")), row.get(f"{kind}Unit", "")
        if quantity is None:
            return None
        times = factor(unit, meter) if unit else Decimal(1)
        if times is None:
            what = f"with a quantity of {meter} in a unit that is none of its own"
            self.counts[what] += 1
            self.examples.setdefault(what, f"'{unit[:40]}'")
            return None
        return quantity * times


def mapping_skeleton(bill: BillRead) -> str:
    """A mapping file (CSV) with a line for each resource and SKU of the rows that map to nothing, to be filled in."""
    paper = io.StringIO()
    writer = csv.writer(paper, lineterminator="\n")
    writer.writerow(_MAPPING)
    writer.writerows([harmless(resource), harmless(sku), "", "", ""] for resource, sku in sorted(bill.loose))
    return paper.getvalue()


def bill_rows(path: Path, ways: BillWays) -> Iterator[dict[str, str]]:
    """Rows of the columns we look at, as text; raises ``BadInput``."""
    import duckdb

    hold_regular(path)
    try:
        with database() as (connection, folder):
            name = f"{named_in_sql(path, folder)}, hive_partitioning=false"
            # Everything as text: what is a number is for the meters to say, and a bad cell is one bad row.
            if path.suffix == ".parquet":
                source = f"read_parquet({name})"
            else:
                hold_against(path, FORMS)
                source = f"read_csv({name}, header=true, all_varchar=true)"
            names = [str(row[0]) for row in connection.execute(f"DESCRIBE SELECT * FROM {source}").fetchall()]
            have = [name for name in dict.fromkeys([*_WANTED, ways.environment, ways.tag]) if name in names]
            wanted = [COSTS[ways.cost]] if ways.cost else ["BilledCost", "EffectiveCost"]
            if not set(wanted) & set(have):
                # Of a file without any column of a bill nothing is repeated.
                text = ", ".join(names[:12]) if have else ""
                raise BadInput(
                    mistaken(path, "bill")
                    or Problem(f"has no column {' or '.join(wanted)}", file=path.name, value=text, allowed=FORMS)
                )
            columns = ", ".join(f"left(CAST({quoted_name(name)} AS VARCHAR), {_LONGEST_CELL})" for name in have)
            cursor = connection.execute(f"SELECT {columns} FROM {source}")
            while rows := cursor.fetchmany(10_000):
                for values in rows:
                    yield {
                        name: unmarked(str(value).strip())
                        for name, value in zip(have, values, strict=True)
                        if value is not None
                    }
    except duckdb.Error as error:
        first = str(error).strip().splitlines()[0]
        raise BadInput(Problem(f"cannot be read as a bill: {first}", file=path.name, allowed=FORMS)) from error


def _instant(text: str) -> datetime | None:
    """The instant a cell names, UTC where it has no offset; None where it names none."""
    try:
        at = datetime.fromisoformat(text.replace("Z", "+00:00"))
    except ValueError:
        return None
    return at if at.tzinfo else at.replace(tzinfo=UTC)


def number_in(text: str | None) -> Decimal | None:
    """The number a cell holds; None where it holds none, or one no bill can hold."""
    try:
        found = Decimal(text) if text else None
    except InvalidOperation:
        return None
    return found if found is not None and found.is_finite() and abs(found) < Decimal("1e18") else None


def _apart(found: BillRead, row: dict[str, str], cost: Decimal) -> None:
    parts = [row.get(name, "") for name in ("ChargeCategory", "ResourceName", "SkuMeter")]
    name = " · ".join(part for part in parts if part) or row.get("ChargeDescription", "") or "(nothing to go by)"
    found.loose.add(
        (row.get("ResourceName") or row.get("ResourceId", ""), next((row[c] for c in _SKU if row.get(c)), ""))
    )
    rows, money = found.unmapped.get(name, (0, Decimal(0)))
    found.unmapped[name] = (rows + 1, money + cost)
