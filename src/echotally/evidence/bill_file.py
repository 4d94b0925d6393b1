"""Reads an actual bill: CSV or Parquet with the columns of the FOCUS specification, mapped to functions and meters.

A row is mapped, in this order, by a mapping file, by our own ``x_`` columns, by its resource's name, or by a tag; its
meter by ``x_Meter`` or ``SkuMeter``. What maps to nothing is kept apart and shown, never dropped.
"""

from __future__ import annotations

import csv
import io
import json
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from decimal import Decimal, InvalidOperation, localcontext
from pathlib import Path
from typing import Any

from echotally.errors import BadInput, Problem
from echotally.evidence.focus import MAIN_ACCOUNT
from echotally.evidence.logs import Trouble
from echotally.evidence.normalize import quoted, quoted_name
from echotally.evidence.text_files import hold_against
from echotally.model.estate import Model
from echotally.rates.billing import exact
from echotally.rates.meters import METERS

FORMS = "CSV or Parquet with the FOCUS columns BilledCost (or EffectiveCost), ResourceName or Tags, SkuMeter"
#: Key of a bill's position: account, plan ("" if the bill does not say), meter, function and environment ("" for none).
BillKey = tuple[str, str, str, str]
_WANTED = (
    "BilledCost", "EffectiveCost", "BillingCurrency", "ChargeCategory", "ChargePeriodStart", "ConsumedQuantity",
    "PricingQuantity", "ContractedUnitPrice", "ListUnitPrice", "ResourceId", "ResourceName", "SkuMeter", "SubAccountId", "Tags",
    "ChargeDescription", "x_Environment", "x_Function", "x_Meter",
)  # fmt: skip
_MAPPING = ("resource", "sku", "function", "environment", "meter")
_MOST_ROWS = 5_000_000


@dataclass
class Position:
    """What a bill says of one (account, meter, function, environment): money, quantity used, money at its unit prices."""

    cost: Decimal = Decimal(0)
    quantity: Decimal | None = None
    priced: Decimal | None = None
    rows: int = 0


@dataclass
class BillRead:
    """A bill by position, the rows that map to nothing (description, cost), and what was odd."""

    positions: dict[BillKey, Position] = field(default_factory=lambda: defaultdict(Position))
    unmapped: dict[str, tuple[int, Decimal]] = field(default_factory=dict)
    currency: str = ""
    rows: int = 0
    troubles: list[Trouble] = field(default_factory=list)

    @property
    def total(self) -> Decimal:
        """All money of the bill, mapped or not."""
        mapped = sum((p.cost for p in self.positions.values()), Decimal(0))
        return mapped + sum((cost for _, cost in self.unmapped.values()), Decimal(0))


@dataclass(frozen=True)
class _Rule:
    """A line of the mapping file: an empty pattern fits every row, an empty value changes nothing."""

    resource: str
    sku: str
    function: str
    environment: str
    meter: str


def read_bill(path: Path, model: Model, mapping: Path | None = None, tag: str = "function") -> BillRead:
    """The positions of a bill file. ``tag`` is the tag that names a function. Raises ``BadInput``."""
    rules = _rules(mapping) if mapping else []
    found = BillRead()
    counts: dict[str, int] = defaultdict(int)
    currencies: set[str] = set()
    month, seen = model.estate.month, set[int]()
    with localcontext(exact()):
        for row in _rows(path):
            found.rows += 1
            if found.rows > _MOST_ROWS:
                raise BadInput(Problem("has too many rows", file=path.name, allowed=f"at most {_MOST_ROWS:,}"))
            digest = hash(tuple(row.items()))
            counts["like another in every column we read"] += digest in seen
            seen.add(digest)
            cost = _number(row.get("BilledCost") or row.get("EffectiveCost"))
            if cost is None:
                counts["without a readable cost"] += 1
                _apart(found, row, Decimal(0))
                continue
            currencies |= {row["BillingCurrency"]} if row.get("BillingCurrency") else set()
            counts["that begin in another month"] += not (row.get("ChargePeriodStart") or month).startswith(
                _near(month)
            )
            key = _key(row, rules, model, tag)
            if key is None:
                _apart(found, row, cost)
            else:
                _add(found.positions[key], row, cost)
    if found.rows == 0:
        raise BadInput(Problem("holds no rows", file=path.name, allowed=FORMS))
    if len(currencies) > 1:
        raise BadInput(Problem("mixes currencies", file=path.name, value=", ".join(sorted(currencies)), allowed="one"))
    found.currency = next(iter(currencies), "")
    found.troubles += [Trouble(n, what, "counted all the same") for what, n in counts.items() if n]
    return found


def _near(month: str) -> tuple[str, ...]:
    """The month and the last day before it in UTC, where a local month may begin."""
    from datetime import date, timedelta

    first = date.fromisoformat(f"{month}-01")
    return (month, (first - timedelta(days=1)).isoformat())


def _rows(path: Path) -> Iterator[dict[str, str]]:
    """Rows of the columns we look at, as text; raises ``BadInput``."""
    import duckdb

    if not path.is_file():
        raise BadInput(Problem("is not a file that is there", file=str(path)))
    if path.suffix == ".parquet":
        source = f"read_parquet({quoted(path)})"
    else:
        hold_against(path, FORMS)
        source = f"read_csv({quoted(path)}, header=true, all_varchar=true)"
    try:
        with duckdb.connect() as connection:
            connection.execute("SET autoinstall_known_extensions=false; SET autoload_known_extensions=false")
            names = [str(row[0]) for row in connection.execute(f"DESCRIBE SELECT * FROM {source}").fetchall()]
            have = [name for name in _WANTED if name in names]
            if not {"BilledCost", "EffectiveCost"} & set(have):
                text = ", ".join(names[:12])
                raise BadInput(
                    Problem("has no column BilledCost or EffectiveCost", file=path.name, value=text, allowed=FORMS)
                )
            columns = ", ".join(f"CAST({quoted_name(name)} AS VARCHAR)" for name in have)
            cursor = connection.execute(f"SELECT {columns} FROM {source}")
            while rows := cursor.fetchmany(10_000):
                for values in rows:
                    yield {
                        name: str(value).strip() for name, value in zip(have, values, strict=True) if value is not None
                    }
    except duckdb.Error as error:
        first = str(error).strip().splitlines()[0]
        raise BadInput(Problem(f"cannot be read as a bill: {first}", file=path.name, allowed=FORMS)) from error


def _number(text: str | None) -> Decimal | None:
    try:
        found = Decimal(text) if text else None
    except InvalidOperation:
        return None
    return found if found is not None and found.is_finite() and abs(found) < Decimal("1e18") else None


def _add(position: Position, row: dict[str, str], cost: Decimal) -> None:
    position.rows += 1
    position.cost += cost
    quantity = _number(row.get("ConsumedQuantity")) or _number(row.get("PricingQuantity"))
    if quantity is not None:
        position.quantity = (position.quantity or Decimal(0)) + quantity
    price = _number(row.get("ContractedUnitPrice")) or _number(row.get("ListUnitPrice"))
    billable = _number(row.get("PricingQuantity"))
    own = price * billable if price is not None and billable is not None else cost
    position.priced = (position.priced or Decimal(0)) + own


def _apart(found: BillRead, row: dict[str, str], cost: Decimal) -> None:
    parts = [row.get(name, "") for name in ("ChargeCategory", "ResourceName", "SkuMeter")]
    name = " · ".join(part for part in parts if part) or row.get("ChargeDescription", "") or "(nothing to go by)"
    rows, money = found.unmapped.get(name, (0, Decimal(0)))
    found.unmapped[name] = (rows + 1, money + cost)


def _key(row: dict[str, str], rules: list[_Rule], model: Model, tag: str) -> BillKey | None:
    """Account, meter, function and environment of a row, or None where the meter or the function is not ours."""
    if row.get("ChargeCategory", "Usage") not in ("Usage", "Purchase"):
        return None
    rule = next(
        (r for r in rules if _fits(r.resource, row, "ResourceName", "ResourceId") and _fits(r.sku, row, "SkuMeter")),
        None,
    )
    meter = (rule.meter if rule else "") or row.get("x_Meter") or row.get("SkuMeter", "")
    function = (rule.function if rule else "") or row.get("x_Function") or _named(row, model, tag)
    environment = (rule.environment if rule else "") or row.get("x_Environment") or _environment(row, model)
    account = row.get("SubAccountId", "")
    account = "" if account == MAIN_ACCOUNT else account
    if meter not in METERS or (function and function not in model.functions):
        return None
    if not function:
        return (account, meter, "", "") if "x_Meter" in row or (rule and rule.meter) else None
    return (account, meter, function, environment) if environment in model.environments else None


def _fits(pattern: str, row: dict[str, str], *columns: str) -> bool:
    from fnmatch import fnmatchcase

    return not pattern or any(fnmatchcase(row.get(column, ""), pattern) for column in columns)


def _named(row: dict[str, str], model: Model, tag: str) -> str:
    name = row.get("ResourceName", "")
    return name if name in model.functions else str(_tags(row).get(tag, ""))


def _environment(row: dict[str, str], model: Model) -> str:
    told = str(_tags(row).get("environment", ""))
    return told or next(iter(model.environments))


def _tags(row: dict[str, str]) -> dict[str, Any]:
    try:
        found = json.loads(row.get("Tags") or "{}")
    except (json.JSONDecodeError, RecursionError):
        return {}
    return found if isinstance(found, dict) else {}


def _rules(path: Path) -> list[_Rule]:
    """The mapping file: CSV with the columns resource, sku (patterns with * and ?), function, environment, meter."""
    if not path.is_file():
        raise BadInput(Problem("is not a file that is there", file=str(path)))
    reader = csv.DictReader(io.StringIO(path.read_text(encoding="utf-8-sig", errors="replace")))
    unknown = [name for name in reader.fieldnames or [] if name not in _MAPPING]
    if unknown or not reader.fieldnames:
        raise BadInput(
            Problem("is no column of a mapping", file=path.name, value=", ".join(unknown), allowed=", ".join(_MAPPING))
        )
    rules = [_Rule(*((raw.get(name) or "").strip() for name in _MAPPING)) for raw in reader]
    wrong = [(n, r.meter) for n, r in enumerate(rules, 2) if r.meter and r.meter not in METERS]
    if wrong:
        raise BadInput(
            [Problem("is no meter", file=path.name, line=n, value=m, allowed=", ".join(METERS)) for n, m in wrong]
        )
    return rules
