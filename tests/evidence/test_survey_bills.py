"""Rate cards read off bills that were worked out by hand: prices, tiers, allowances, what belongs to nothing we know."""

from __future__ import annotations

import csv
import tomllib
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import pandas as pd
import pytest

from echotally.evidence.survey.bills import Billed, read_bills
from echotally.evidence.survey.card import Seen, allowances_of, card_of
from echotally.evidence.survey.made import Survey, loaded_from
from echotally.evidence.survey.survey import survey
from echotally.rates.card_loading import load_card

NOTHING_SEEN = Seen({}, {}, None, False, None, {})
Row = dict[str, str]


def row(meter: str, quantity: str, price: str, unit: str, function: str = "gauge", **more: str) -> Row:
    """A charge of one meter; its cost is worked out here, exactly."""
    return {
        "BilledCost": str(Decimal(quantity) * Decimal(price)),
        "BillingCurrency": "EUR",
        "ChargeCategory": "Usage",
        "ChargePeriodStart": "2027-02-01T00:00:00Z",
        "ConsumedQuantity": quantity,
        "ConsumedUnit": unit,
        "PricingQuantity": quantity,
        "PricingUnit": unit,
        "ListUnitPrice": price,
        "ProviderName": "Osprey Cloud (made up)",
        "RegionId": "west",
        "ResourceName": function,
        "SkuMeter": meter,
        **more,
    }


def bill(path: Path, rows: list[Row]) -> Path:
    """The rows as a file; columns that a row lacks are empty."""
    names = list(dict.fromkeys(name for each in rows for name in each))
    with path.open("w", newline="") as file:
        writer = csv.DictWriter(file, names, restval="")
        writer.writeheader()
        writer.writerows(rows)
    return path


def card(found: Billed, folder: Path) -> dict[str, Any]:
    """The plan of the card made of a bill, read back by our own loader and by the library's reader."""
    made = card_of(found, NOTHING_SEEN)
    (folder / "card.toml").write_text(made.text())
    load_card(folder / "card.toml")
    plan = tomllib.loads(made.text())["plans"]
    assert isinstance(plan, dict) and len(plan) == 1
    return dict(next(iter(plan.values())))


def test_unit_prices_are_exact(tmp_path: Path) -> None:
    rows = [row("calls", "1250000", "0.00000031", "Calls"), row("gb_seconds", "84000.5", "0.0000182", "GB-Seconds"),
            row("log_gb", "12.5", "0.55", "GB"), row("stream_partition_hours", "672", "0.0041", "Hours")]  # fmt: skip
    plan = card(read_bills([bill(tmp_path / "bill.csv", rows)], ["gauge"]), tmp_path)
    assert plan["bills"] == "runs"
    assert plan["price"]["calls"] == {"per": 1_000_000, "unit": "0.31"}
    assert plan["price"]["gb_seconds"] == {"per": 1_000_000, "unit": "18.2"}
    assert plan["price"]["log_gb"] == {"unit": "0.55"} and plan["price"]["stream_partition_hours"] == {"unit": "0.0041"}


def test_tiers_end_where_the_next_price_begins(tmp_path: Path) -> None:
    """20,000 GB-seconds at the dearer price, the rest of 50,000 at the cheaper, over two functions."""
    rows = [row("gb_seconds", "12000", "0.00002", "GB-Seconds", SkuPriceId="gb.1"),
            row("gb_seconds", "8000", "0.00002", "GB-Seconds", "ferry", SkuPriceId="gb.1"),
            row("gb_seconds", "18000", "0.000015", "GB-Seconds", SkuPriceId="gb.2"),
            row("gb_seconds", "12000", "0.000015", "GB-Seconds", "ferry", SkuPriceId="gb.2")]  # fmt: skip
    plan = card(read_bills([bill(tmp_path / "bill.csv", rows)], ["gauge", "ferry"]), tmp_path)
    assert plan["price"]["gb_seconds"]["tiers"] == [{"up_to": 20_000, "unit": "20"}, {"unit": "15"}]


@pytest.mark.parametrize("told", ["rows at price 0", "consumed less priced"])
def test_an_allowance_is_what_was_used_and_not_paid_for(told: str, tmp_path: Path) -> None:
    if told == "rows at price 0":
        rows = [row("calls", "1000000", "0", "Calls"), row("calls", "250000", "0.0000002", "Calls")]
    else:
        rows = [row("calls", "250000", "0.0000002", "Calls", ConsumedQuantity="1250000")]
    found = read_bills([bill(tmp_path / "bill.csv", rows)], ["gauge"])
    assert allowances_of(found)["calls"] == (Decimal(1_000_000), True)
    assert card(found, tmp_path)["allowance"] == {"calls": 1_000_000}
    assert found.of("calls", "gauge") == 1_250_000


def test_an_allowance_that_was_never_used_up_is_only_known_to_be_as_large(tmp_path: Path) -> None:
    found = read_bills([bill(tmp_path / "bill.csv", [row("calls", "400000", "0", "Calls")])], ["gauge"])
    made = card_of(found, NOTHING_SEEN)
    assert "a guess: at least so much" in made.text()
    assert any("never used up" in each.what for each in made.unknowns)


@pytest.mark.parametrize(
    ("quantity", "price", "unit", "unit_price"),
    [
        ("1.25", "0.31", "1M Calls", "0.00000031"),
        ("1250", "0.00031", "1K Calls", "0.00000031"),
        ("23.3334722", "0.06552", "GB-Hours", "0.0000182"),
    ],
)
def test_other_units_come_to_the_same_price(
    quantity: str, price: str, unit: str, unit_price: str, tmp_path: Path
) -> None:
    meter = "calls" if "Calls" in unit else "gb_seconds"
    found = read_bills([bill(tmp_path / "bill.csv", [row(meter, quantity, price, unit)])], ["gauge"])
    (only,) = found.prices[meter]
    assert float(only) == pytest.approx(float(unit_price), rel=1e-9)


def test_columns_of_the_first_version_are_enough(tmp_path: Path) -> None:
    """FOCUS 1.0 has no SkuMeter, and its names of what is billed are sentences."""
    old = [
        {
            **row("", "1250000", "0.00000031", "Requests"),
            "ChargeDescription": "Function invocations in west",
            "SkuId": "F-1",
        },
        {
            **row("", "84000", "0.0000182", "GB-Seconds"),
            "ChargeDescription": "Function compute duration, memory",
            "SkuId": "F-2",
        },
        {**row("", "12.5", "0.55", "GB"), "ChargeDescription": "Log ingestion", "SkuId": "L-1"},
    ]
    for each in old:
        del each["SkuMeter"]
    found = read_bills([bill(tmp_path / "bill.csv", old)], ["gauge"])
    assert set(found.prices) == {"calls", "gb_seconds", "log_gb"}
    assert found.aside == {} and found.spent("gauge") == sum(Decimal(each["BilledCost"]) for each in old)


def test_tax_credits_and_other_services_are_set_aside_and_listed(tmp_path: Path) -> None:
    rows = [
        row("calls", "1000000", "0.0000002", "Calls"),
        {"BilledCost": "3.10", "BillingCurrency": "EUR", "ChargeCategory": "Tax", "ChargeDescription": "VAT"},
        {"BilledCost": "-1.00", "BillingCurrency": "EUR", "ChargeCategory": "Credit", "ChargeDescription": "goodwill"},
        {
            "BilledCost": "42.00",
            "BillingCurrency": "EUR",
            "ChargeCategory": "Usage",
            "ServiceName": "Relational tables",
        },
        {"BilledCost": "soon", "BillingCurrency": "EUR", "ChargeCategory": "Usage", "ServiceName": "Mystery"},
    ]
    found = read_bills([bill(tmp_path / "bill.csv", rows)], ["gauge"])
    assert {name: cost for name, (_, cost) in found.aside.items()} == {
        "tax: VAT": Decimal("3.10"), "credit: goodwill": Decimal("-1.00"), "another service: Relational tables": Decimal("42.00"),
        "without a readable cost: Mystery": Decimal(0),
    }  # fmt: skip
    # Nothing is lost: what was laid to functions and what was set aside is the whole bill.
    laid = sum(found.cost.values()) + sum(found.monthly.values())
    assert laid + sum(cost for _, cost in found.aside.values()) == found.total == Decimal("44.30")


def test_rows_no_meter_explains_become_outside_services_or_monthly_items(tmp_path: Path) -> None:
    rows = [
        row("text messages", "300", "0.043", "Messages"),
        {**row("support", "1", "29", "Months"), "ChargeFrequency": "Recurring", "ResourceName": ""},
    ]
    found = read_bills([bill(tmp_path / "bill.csv", rows)], ["gauge"])
    assert found.outside == {("text-messages", "gauge"): (Decimal(300), Decimal("12.900"))}
    assert found.monthly == {"support": Decimal(29)}


def test_a_row_that_is_there_twice_counts_once_across_files(tmp_path: Path) -> None:
    rows = [row("calls", "1000000", "0.0000002", "Calls"), row("log_gb", "2", "0.5", "GB")]
    once = read_bills([bill(tmp_path / "a.csv", rows)], ["gauge"])
    twice = read_bills([tmp_path / "a.csv", bill(tmp_path / "b.csv", [*rows, rows[0]])], ["gauge"])
    assert (twice.total, dict(twice.quantity)) == (once.total, dict(once.quantity))
    assert "3 row(s) of the bill like another" in " ".join(twice.notes)


@pytest.mark.parametrize(
    ("where", "named"),
    [
        ({"ResourceName": "Gauge"}, "gauge"),
        ({"ResourceName": "", "ResourceId": "west:functions/gauge"}, "gauge"),
        ({"ResourceName": "", "Tags": '{"Function": "gauge", "Stage": "trial"}'}, "gauge"),
        ({"ResourceName": "mill"}, ""),
        ({"ResourceName": "", "Tags": "no tags at all"}, ""),
    ],
)
def test_a_row_finds_its_function(where: Row, named: str, tmp_path: Path) -> None:
    rows = [{**row("calls", "10", "0.1", "Calls"), **where}]
    found = read_bills([bill(tmp_path / "bill.csv", rows)], ["gauge"])
    ((_, function, environment),) = found.quantity
    assert (function, environment) == (named, ("trial" if "Tags" in where else "live") if named else "")


# -- rounding, cold starts and idle polls, from a bill beside a log ------------------------------------------------
def _surveyed(folder: Path, step: int, cold_billed: bool, told: bool) -> Survey:
    """Runs of 10 to 400 ms, one in twenty started cold in 300 ms; their billed time by the definition."""
    start, rows, billed_s = datetime(2027, 2, 1, tzinfo=UTC), [], 0.0
    for k in range(4_000):
        run, cold = 10 + (k * 97) % 391, 300 if k % 20 == 0 else 0
        time = run + (cold if cold_billed else 0)
        billed = -(-time // step) * step
        billed_s += billed / 1_000
        row_of = {"time": (start + timedelta(seconds=600 * k + k % 7)).isoformat(), "function": "gauge", "id": k, "run_ms": run,
                  "cold_start_ms": cold, "memory_mb": 512, "trigger": "http"}  # fmt: skip
        rows.append({**row_of, **({"billed_ms": billed} if told else {})})
    pd.DataFrame(rows).to_csv(folder / "log.csv", index=False)
    charges = [
        row("gb_seconds", f"{billed_s / 2:.6f}", "0.00002", "GB-Seconds"),
        row("calls", "4000", "0.0000002", "Calls"),
    ]
    return survey([folder / "log.csv"], bills=[bill(folder / "bill.csv", charges)], hold_back_s=0)


@pytest.mark.parametrize("told", [True, False], ids=["billed times told", "from the bill"])
@pytest.mark.parametrize(
    ("step", "cold_billed"),
    [(1, True), (500, False), *(pytest.param(100, each, marks=pytest.mark.nightly) for each in (False, True))],
)
def test_rounding_and_billed_cold_starts_come_back(step: int, cold_billed: bool, told: bool, tmp_path: Path) -> None:
    found = _surveyed(tmp_path, step, cold_billed, told)
    (offer,) = loaded_from(found).offers.values()
    assert offer.plan.rounding.time == step * 10**6 and offer.plan.cold_start_billed is cold_billed


def test_without_any_price_a_card_says_placeholder_on_every_line(tmp_path: Path) -> None:
    made = card_of(None, NOTHING_SEEN)
    lines = [line for line in made.text().splitlines() if "unit =" in line]
    assert made.placeholder and lines and all("a placeholder" in line for line in lines)
    (tmp_path / "card.toml").write_text(made.text())
    load_card(tmp_path / "card.toml")
