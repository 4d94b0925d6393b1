"""A bill beside the projection: what was billed from it agrees, one change lands in its own part, nothing is dropped."""

from __future__ import annotations

import csv
import random
from collections.abc import Callable
from decimal import Decimal, localcontext
from pathlib import Path

import pytest

from echotally.errors import BadInput
from echotally.evidence.bill.focus import COLUMNS, focus_rows
from echotally.evidence.bill.reconcile import Reconciliation, by_function, reconcile
from echotally.projection.answer import Projection
from echotally.projection.project import project
from echotally.rates.billing import exact
from tests.evidence.validating import faults

CENT = Decimal("0.000001")
PLANS = ("heron.shared", "heron.dedicated", "osier.elastic", "osier.fixed", "osier.cluster")
Row = dict[str, str | None]


def _write(path: Path, rows: list[Row]) -> Path:
    with path.open("w", newline="") as file:
        writer = csv.DictWriter(file, COLUMNS)
        writer.writeheader()
        writer.writerows(rows)
    return path


def _changed(row: Row, quantity: Decimal = Decimal(1), price: Decimal = Decimal(1)) -> Row:
    """A row with its quantities and unit prices multiplied, its costs worked out anew."""
    q, u = Decimal(row["PricingQuantity"] or 0) * quantity, Decimal(row["ListUnitPrice"] or 0) * price
    cost = f"{q * u:f}"
    return row | {
        "PricingQuantity": f"{q:f}", "ConsumedQuantity": f"{Decimal(row['ConsumedQuantity'] or 0) * quantity:f}",
        "ListUnitPrice": f"{u:f}", "ContractedUnitPrice": f"{u:f}",
        "BilledCost": cost, "EffectiveCost": cost, "ListCost": cost, "ContractedCost": cost,
    }  # fmt: skip


@pytest.mark.parametrize("plan", PLANS)
def test_focus_rows_add_up_to_the_bill(river_projection: Projection, plan: str) -> None:
    bill = next(p.bill for p in river_projection.played if p.offer.name == plan)
    rows = focus_rows(river_projection, plan)
    with localcontext(exact()):
        assert abs(sum(Decimal(r["BilledCost"] or 0) for r in rows) - bill.unrounded) < CENT
        assert all(
            Decimal(r["PricingQuantity"] or 0) * Decimal(r["ListUnitPrice"] or 0) == Decimal(r["ListCost"] or 0)
            for r in rows
        )


@pytest.mark.parametrize("plan", PLANS)
def test_a_bill_made_from_a_projection_agrees_with_it(river_projection: Projection, tmp_path: Path, plan: str) -> None:
    found = reconcile(river_projection, _write(tmp_path / "bill.csv", focus_rows(river_projection, plan)), plan)
    assert all(abs(part) < CENT for part in found.parts.values())
    assert not found.bill.unmapped and abs(found.billed - found.projected) < CENT


def _only(found: Reconciliation, part: str) -> Decimal:
    others = {name: amount for name, amount in found.parts.items() if name != part}
    assert all(abs(amount) < CENT for amount in others.values()), others
    return found.parts[part]


def test_one_changed_price_lands_in_price(river_projection: Projection, tmp_path: Path) -> None:
    rows = [
        _changed(row, price=Decimal("1.5")) if row["SkuMeter"] == "stream_partition_hours" else row
        for row in focus_rows(river_projection, "heron.shared")
    ]
    found = reconcile(river_projection, _write(tmp_path / "bill.csv", rows), "heron.shared")
    hours = next(
        line
        for plan in river_projection.played
        for line in plan.bill.lines
        if plan.offer.name == "heron.shared" and line.meter == "stream_partition_hours"
    )
    assert abs(_only(found, "price") - hours.amount / 2) < CENT


FLAT = """
[functions.f]
memory = "1 GB"
run = "100 ms"
[endpoints.e]
[demand.d]
into = "endpoints.e"
spread = "even"
rate = "{rate} /h"
[[triggers]]
from = "endpoints.e"
to = "f"
"""


def _flat(write: Callable[..., Path], rate: int, run: str = "100 ms") -> Projection:
    return project(write(FLAT.format(rate=rate).replace("100 ms", run)))


def test_one_changed_volume_lands_in_volume(write: Callable[..., Path], tmp_path: Path) -> None:
    billed = focus_rows(_flat(write, 600), "test.plan")
    found = reconcile(_flat(write, 400), _write(tmp_path / "bill.csv", billed), "test.plan")
    # Two hundred more calls an hour, 743 or 744 hours: at 0.20 a million calls and 0.00002 a GB-second of 0.1 s.
    calls = 200 * 744
    assert (
        abs(_only(found, "volume") - (calls * Decimal("0.2") / 10**6 + calls * Decimal("0.1") * Decimal("0.00002")))
        < CENT
    )


def test_a_longer_run_lands_in_run_time(write: Callable[..., Path], tmp_path: Path) -> None:
    billed = focus_rows(_flat(write, 400, "250 ms"), "test.plan")
    found = reconcile(_flat(write, 400), _write(tmp_path / "bill.csv", billed), "test.plan")
    assert abs(_only(found, "run_time") - 400 * 744 * Decimal("0.15") * Decimal("0.00002")) < CENT


@pytest.mark.parametrize("seed", range(8))
def test_the_parts_add_up_exactly_whatever_the_bill(river_projection: Projection, tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    rows = [
        _changed(r, Decimal(chance.randrange(1, 5_000)) / 1_000, Decimal(chance.randrange(1, 5_000)) / 1_000)
        for r in focus_rows(river_projection, "heron.shared")
    ]
    found = reconcile(river_projection, _write(tmp_path / "bill.csv", rows), "heron.shared")
    with localcontext(exact()):
        assert abs(sum(found.parts.values()) - (found.billed - found.projected)) < Decimal("1e-30")
        totals = by_function(found.rows)
        assert abs(sum(r.difference for r in totals) - (found.billed - found.projected)) < Decimal("1e-30")


def test_rows_that_map_to_nothing_are_listed_and_counted(river_projection: Projection, tmp_path: Path) -> None:
    rows = focus_rows(river_projection, "heron.shared")
    strange: Row = dict.fromkeys(COLUMNS) | {
        "BilledCost": "7.25",
        "ChargeCategory": "Usage",
        "ResourceName": "old-thing",
        "BillingCurrency": "EUR",
    }
    tax: Row = dict.fromkeys(COLUMNS) | {"BilledCost": "3", "ChargeCategory": "Tax", "BillingCurrency": "EUR"}
    broken: Row = dict.fromkeys(COLUMNS) | {"BilledCost": "lots", "ChargeCategory": "Usage", "BillingCurrency": "EUR"}
    found = reconcile(river_projection, _write(tmp_path / "bill.csv", [*rows, strange, tax, broken]), "heron.shared")
    assert {name: cost for name, (_, cost) in found.bill.unmapped.items() if cost} == {
        "Usage · old-thing": Decimal("7.25"),
        "Tax": Decimal(3),
    }
    assert found.parts["unexplained"] == Decimal("10.25")
    assert [str(t) for t in found.bill.troubles] == ["1 row(s) without a readable cost: counted all the same"]


def test_a_mapping_file_says_whose_a_row_is(river_projection: Projection, tmp_path: Path) -> None:
    names = {"intake": "prod-in", "map": "prod-web"}
    rows = [
        r | {"ResourceName": names.get(r["x_Function"] or "", r["ResourceName"]), "x_Function": None, "x_Meter": None, "SkuMeter": f"sku/{r['SkuMeter']}"}
        for r in focus_rows(river_projection, "heron.shared")
        if r["x_Function"] in names and r["x_Environment"] == "live"
    ]  # fmt: skip
    bill = _write(tmp_path / "bill.csv", rows)
    meters = sorted({str(r["SkuMeter"]) for r in rows})
    lines = ["resource,sku,function,environment,meter"]
    lines += [
        f"{theirs},{sku},{ours},live,{sku.removeprefix('sku/')}" for ours, theirs in names.items() for sku in meters
    ]
    (tmp_path / "map.csv").write_text("\n".join(lines))
    assert len(reconcile(river_projection, bill, "heron.shared").bill.unmapped) > 1
    found = reconcile(river_projection, bill, "heron.shared", tmp_path / "map.csv")
    assert not found.bill.unmapped
    assert {(r.function, r.environment) for r in found.rows if r.billed} == {("intake", "live"), ("map", "live")}


@pytest.mark.parametrize(
    ("content", "said"),
    [
        ("BilledCost,BillingCurrency\n1,USD\n", "another currency"),
        ("BilledCost,BillingCurrency\n1,USD\n2,EUR\n", "another currency"),
        ("Cost\n1\n", "no column BilledCost"),
        ("", "is empty"),
        ("BilledCost,SkuMeter\n", "holds no rows"),
    ],
)
def test_a_bill_that_cannot_be_used_is_refused_in_one_line(
    river_projection: Projection, tmp_path: Path, content: str, said: str
) -> None:
    (tmp_path / "bill.csv").write_text(content)
    with pytest.raises(BadInput, match=said):
        reconcile(river_projection, tmp_path / "bill.csv", "heron.shared")


@pytest.mark.parametrize("plan", PLANS)
def test_the_specifications_own_validator_finds_no_fault(
    river_projection: Projection, tmp_path: Path, plan: str
) -> None:
    # InvoiceId is null (there is no invoice): C-005 is the other branch of C-003, which passes.
    assert faults(_write(tmp_path / "bill.csv", focus_rows(river_projection, plan))) == ["InvoiceId-C-005-C"]
