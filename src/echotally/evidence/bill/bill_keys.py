"""Whose a bill's row is: by a mapping file, our own columns, its resource's name or a tag."""

from __future__ import annotations

import csv
import io
import json
import re
from pathlib import Path
from typing import Any

from msgspec import Struct

from echotally.cells import unmarked
from echotally.errors import BadInput, Problem
from echotally.evidence.bill.focus import MAIN_ACCOUNT
from echotally.files import text_of, unreadable
from echotally.model.estate import Model
from echotally.rates.meters import COMMITMENT, METERS, OUTSIDE

#: Key of a bill's position: account, plan ("" if the bill does not say), meter, function and environment ("" for none).
BillKey = tuple[str, str, str, str]


#: Columns a mapping's sku patterns, and a meter's own name, are looked for in.
_SKU = ("SkuMeter", "SkuId", "SkuPriceId", "ChargeDescription")


_MAPPING = ("resource", "sku", "function", "environment", "meter")


class Rule(Struct, frozen=True):
    """A line of the mapping file: an empty pattern fits every row, an empty value changes nothing."""

    resource: str
    sku: str
    function: str
    environment: str
    meter: str


class BillWays(Struct, frozen=True):
    """How a bill is to be read: its mapping file, the tag that names a function, the tag or column that names an environment,
    and which column is the cost (a key of ``COSTS``; None: billed, else effective).
    """

    mapping: Path | None = None
    tag: str = "function"
    environment: str = "environment"
    cost: str | None = None


def key_of_row(row: dict[str, str], rules: list[Rule], model: Model, ways: BillWays) -> BillKey | None:
    """Account, meter, function and environment of a row, or None where the meter or the function is not ours."""
    if row.get("ChargeCategory", "Usage") not in ("Usage", "Purchase"):
        return None
    rule = next(
        (r for r in rules if _fits(r.resource, row, "ResourceName", "ResourceId") and _fits(r.sku, row, *_SKU)),
        None,
    )
    meter = (rule.meter if rule else "") or row.get("x_Meter") or meter_named(row)
    function = (rule.function if rule else "") or row.get("x_Function") or _named(row, model, ways.tag)
    environment = (
        (rule.environment if rule else "") or row.get("x_Environment") or _environment(row, model, ways.environment)
    )
    account = row.get("SubAccountId", "")
    account = "" if account == MAIN_ACCOUNT else account
    if (meter not in METERS and meter != COMMITMENT and meter.removeprefix(OUTSIDE) not in model.outside) or (
        function and function not in model.functions
    ):
        return None
    if not function:
        return (account, meter, "", "") if "x_Meter" in row or (rule and rule.meter) else None
    return (account, meter, function, environment) if environment in model.environments else None


def meter_named(row: dict[str, str]) -> str:
    """A meter named in a row: as its SKU's meter, or as a word of its SKU, price or description (FOCUS 1.0 has no SkuMeter)."""
    for column in _SKU:
        text = row.get(column, "")
        if text in METERS or text.startswith(OUTSIDE):
            return text
        words = [word for word in re.split(r"[^a-z_]+", text.lower()) if word in METERS]
        if words:
            return words[0]
    return row.get("SkuMeter", "")


def _fits(pattern: str, row: dict[str, str], *columns: str) -> bool:
    from fnmatch import fnmatchcase

    return not pattern or any(fnmatchcase(row.get(column, ""), pattern) for column in columns)


def _named(row: dict[str, str], model: Model, tag: str) -> str:
    name = row.get("ResourceName", "")
    return name if name in model.functions else str(_tags(row).get(tag, "")) or row.get(tag, "")


def _environment(row: dict[str, str], model: Model, named: str) -> str:
    told = str(_tags(row).get(named, "")) or row.get(named, "")
    return told or next(iter(model.environments))


def _tags(row: dict[str, str]) -> dict[str, Any]:
    try:
        found = json.loads(row.get("Tags") or "{}")
    except (json.JSONDecodeError, RecursionError):
        return {}
    return found if isinstance(found, dict) else {}


def mapping_rules(path: Path) -> list[Rule]:
    """The mapping file: CSV with the columns resource, sku (patterns with * and ?), function, environment, meter."""
    try:
        reader = csv.DictReader(io.StringIO(text_of(path)))
        return _read_rules(path, reader)
    except OSError as error:
        raise unreadable(path, error) from error
    except csv.Error as error:
        raise BadInput(Problem(f"is no CSV: {error}", file=path.name, line=reader.line_num)) from error


def _read_rules(path: Path, reader: csv.DictReader[str]) -> list[Rule]:
    unknown = [name for name in reader.fieldnames or [] if name not in _MAPPING]
    if unknown or not reader.fieldnames:
        raise BadInput(
            Problem(
                "is no column of a mapping",
                file=path.name,
                value=", ".join(unknown) if set(unknown) != set(reader.fieldnames or []) else "",
                allowed=", ".join(_MAPPING),
            )
        )
    rules = [Rule(*(unmarked((raw.get(name) or "").strip()) for name in _MAPPING)) for raw in reader]
    wrong = [(n, r.meter) for n, r in enumerate(rules, 2) if r.meter and r.meter not in METERS]
    if wrong:
        raise BadInput(
            [Problem("is no meter", file=path.name, line=n, value=m, allowed=", ".join(METERS)) for n, m in wrong]
        )
    return rules
