"""Bills as exporters write them: three versions of the columns, by day and by month, other units, currencies, credits and tax."""

from __future__ import annotations

import csv
import json
from decimal import Decimal

import pytest

from echotally.evidence.bill.bill_units import factor
from tests.conftest import run_program

#: 2 requests a minute of 1 s at 512 MB: 89,280 calls and 44,640 GB-seconds in March; 0.20 a million and 0.00002.
MODEL = """
[functions.f]
memory = "512 MB"
run = "1 s"
cold_start = "0 s"
cpu_share = 0
[endpoints.e]
[demand.d]
into = "endpoints.e"
spread = "even"
rate = "2 /min"
[[triggers]]
from = "endpoints.e"
to = "f"
[environments.live]
[environments.trial]
demand = 0.5
"""
CALLS, TIME = Decimal("89280") * Decimal("0.2") / 10**6, Decimal("44640") * Decimal("0.00002")
#: What the three versions of the specification name; later columns are missing from the earlier ones.
COLUMNS = {
    "1.0": ("BilledCost", "EffectiveCost", "BillingCurrency", "ChargeCategory", "ChargePeriodStart", "ConsumedQuantity", "ConsumedUnit",
            "ListUnitPrice", "PricingQuantity", "PricingUnit", "ResourceName", "SkuId", "SkuPriceId", "ChargeDescription", "Tags"),
    "1.1": ("BilledCost", "EffectiveCost", "ListCost", "BillingCurrency", "ChargeCategory", "ChargePeriodStart", "ConsumedQuantity",
            "ConsumedUnit", "ListUnitPrice", "PricingQuantity", "PricingUnit", "ResourceName", "SkuId", "SkuMeter", "SkuPriceId", "Tags"),
    "1.2": ("BilledCost", "EffectiveCost", "ListCost", "BillingCurrency", "ChargeCategory", "ChargePeriodStart", "ConsumedQuantity",
            "ConsumedUnit", "ContractedUnitPrice", "ListUnitPrice", "PricingQuantity", "PricingUnit", "ResourceName", "SkuId", "SkuMeter",
            "SkuPriceId", "InvoiceId", "Tags"),
}  # fmt: skip


def usage(meter: str, cost: Decimal, quantity: Decimal, unit: str, **more: str) -> dict[str, str]:
    return {
        "BilledCost": f"{cost:f}", "EffectiveCost": f"{cost:f}", "ListCost": f"{cost * 2:f}", "BillingCurrency": "EUR", "ChargeCategory": "Usage",
        "ChargePeriodStart": "2027-03-01T00:00:00Z", "ConsumedQuantity": f"{quantity:f}", "ConsumedUnit": unit, "ResourceName": "f",
        "SkuId": f"sku.{meter}", "SkuMeter": meter, "SkuPriceId": f"price.{meter}", "ChargeDescription": f"{meter} used",
        "Tags": '{"environment": "live"}', **more,
    }  # fmt: skip


def whole(part: Decimal = Decimal(1), **more: str) -> list[dict[str, str]]:
    """The month's two rows of the first environment, or a part of them; and as much again by half for the second."""
    rows = []
    for environment, times in (("live", part), ("trial", part / 2)):
        tags = {"Tags": json.dumps({"environment": environment})}
        rows.append(usage("calls", CALLS * times, Decimal(89_280) * times, "Calls", **{**tags, **more}))
        rows.append(usage("gb_seconds", TIME * times, Decimal(44_640) * times, "GB-Seconds", **{**tags, **more}))
    return rows


@pytest.fixture
def asked(write, tmp_path):
    """Reconcile a bill of some rows through the program; answers with its data."""

    def ask(rows, *options: str, version: str = "1.2", model: str = MODEL):
        write(model)
        with (tmp_path / "bill.csv").open("w", newline="") as file:
            writer = csv.DictWriter(file, COLUMNS[version], extrasaction="ignore")
            writer.writeheader()
            writer.writerows(rows)
        done = run_program("reconcile", "model.toml", "bill.csv", "--format", "json", *options, cwd=tmp_path)
        return json.loads(done.stdout) if done.returncode == 0 else done.stderr

    return ask


def parts(found) -> dict[str, Decimal]:
    return {
        name: Decimal(amount) for name, amount in found["parts"].items() if abs(Decimal(amount)) > Decimal("0.000002")
    }


@pytest.mark.parametrize("version", COLUMNS)
@pytest.mark.parametrize("by", ["month", "day"])
def test_a_bill_of_each_version_by_day_and_by_month_agrees(asked, version, by):
    rows = whole()
    if by == "day":
        days = [f"2027-03-{day:02}T00:00:00Z" for day in range(1, 32)]
        rows = [row for day in days for row in whole(Decimal(1) / 31, ChargePeriodStart=day)]
    found = asked(rows, version=version)
    assert parts(found) == {}
    assert Decimal(found["matched"]) == pytest.approx(Decimal("1.5") * (CALLS + TIME), rel=Decimal("1e-6"))


@pytest.mark.parametrize(
    ("unit", "times"), [("1M Calls", 10**6), ("Million Requests", 10**6), ("10,000 Invocations", 10_000), ("1K", 1_000)]
)
def test_quantities_in_other_units_are_converted(asked, unit, times):
    rows = [r | {"ConsumedQuantity": f"{Decimal(r['ConsumedQuantity']) / times:f}", "ConsumedUnit": unit} if r["SkuMeter"] == "calls" else r
            for r in whole()]  # fmt: skip
    found = asked(rows)
    assert parts(found) == {}
    calls = next(r for r in found["rows"] if r["meter"] == "calls" and r["environment"] == "live")
    assert calls["billed_quantity"] == pytest.approx(89_280)


def test_a_unit_that_measures_something_else_is_refused_and_said(asked):
    rows = [r | {"ConsumedUnit": "GB"} if r["SkuMeter"] == "calls" else r for r in whole()]
    found = asked(rows)
    assert any("in a unit that is none of its own" in t["what"] for t in found["troubles"])
    assert next(r for r in found["rows"] if r["meter"] == "calls")["billed_quantity"] is None


@pytest.mark.parametrize(
    ("unit", "meter", "times"),
    [
        ("GB-Hours", "gb_seconds", 3_600), ("MB-Hours", "gb_seconds", Decimal(3_600) / 1_024), ("GB Seconds", "gb_seconds", 1),
        ("vCPU-Minutes", "vcpu_seconds", 60), ("Hrs", "node_hours", 1), ("Minutes", "node_hours", Decimal(1) / 60),
        ("GiB", "log_gb", Decimal(2**30) / 10**9), ("TB", "egress_gb", 1_000), ("GB-Mo", "storage_gb_months", 1),
        ("Hours", "gb_seconds", None), ("GB", "calls", None), ("Calls", "node_hours", None), ("7 dwarfs", "calls", None),
    ],
)  # fmt: skip
def test_units_of_measure(unit, meter, times):
    found = factor(unit, meter)
    assert found is None if times is None else found == pytest.approx(Decimal(times))


def test_meters_of_which_the_bill_has_no_row_are_not_on_it(asked):
    found = asked([row for row in whole() if row["SkuMeter"] != "calls"])
    assert parts(found) == {"not_on_bill": pytest.approx(Decimal("-1.5") * CALLS, rel=Decimal("1e-4"))}


def test_rows_of_other_months_are_named_and_left_out(asked):
    early = whole(ChargePeriodStart="2027-02-01T00:00:00Z")
    found = asked([*whole(), *early])
    assert parts(found) == {}
    money = Decimal("1.5") * (CALLS + TIME)
    assert {"rows": 4, "what": f"of another month (2027-02, {money:,.2f} EUR)", "done": "left out"} in found["troubles"]


def test_credits_and_tax_stay_apart_and_the_share_that_matched_is_said_first(asked, write, tmp_path):
    others = [usage("", Decimal("-0.10"), Decimal(0), "", ChargeCategory="Credit", ResourceName="", SkuId="", SkuPriceId="", ChargeDescription="a credit"),
              usage("", Decimal("0.30"), Decimal(0), "", ChargeCategory="Tax", ResourceName="", SkuId="", SkuPriceId="", ChargeDescription="a tax")]  # fmt: skip
    found = asked([*whole(), *others])
    assert parts(found) == {"unexplained": Decimal("0.2")}
    assert {row["row"] for row in found["unmapped"]} == {"Credit", "Tax"}
    said = run_program("reconcile", "model.toml", "bill.csv", "--width", "200", cwd=tmp_path).stdout
    matched = Decimal("1.5") * (CALLS + TIME)
    assert said.startswith(
        f"{int(100 * matched / (matched + Decimal('0.2')))} % of the bill ({matched:.2f} of {matched + Decimal('0.2'):.2f} EUR) matched."
    )


def test_the_cost_column_can_be_chosen(asked):
    # Here the list cost is twice what was billed: all of the difference is cost that no quantity or price explains.
    assert parts(asked(whole(), "--cost", "effective")) == {}
    twice = parts(
        asked(
            [row | {"PricingQuantity": row["ConsumedQuantity"], "ListUnitPrice": ""} for row in whole()],
            "--cost",
            "list",
        )
    )
    assert sum(twice.values()) == pytest.approx(Decimal("1.5") * (CALLS + TIME), rel=Decimal("1e-4"))
    assert "has no column ListCost" in asked(whole(), "--cost", "list", version="1.0")


def test_the_tag_or_column_of_the_environment_can_be_named(asked):
    rows = [row | {"Tags": row["Tags"].replace("environment", "stage")} for row in whole()]
    assert parts(asked(rows, "--environment", "stage")) == {}
    # Without being told, everything falls to the first environment.
    by = asked(rows)
    assert sum(Decimal(r["billed"]) for r in by["rows"] if r["environment"] == "trial") == 0
    columns = [row | {"InvoiceId": json.loads(row["Tags"])["environment"], "Tags": "{}"} for row in whole()]
    assert parts(asked(columns, "--environment", "InvoiceId")) == {}


def test_two_currencies_go_through_the_models_exchange(asked):
    # Half of it in dollars at 0.80: the same money.
    rows = whole()
    rows[1] |= {"BillingCurrency": "USD", "BilledCost": f"{TIME / Decimal('0.8'):f}"}
    exchange = '[exchange]\ndate = 2027-03-01\ninto = "EUR"\nrates = { USD = "0.8" }\n'
    assert parts(asked(rows, model=MODEL + exchange)) == {}
    assert "is in another currency" in asked(rows)
    assert "[exchange]" in asked(rows)


def test_a_mapping_skeleton_is_written_filled_in_and_read(asked, tmp_path):
    rows = [row | {"ResourceName": "fn-eu-17", "SkuId": f"X-{row['SkuMeter'][:2]}", "SkuMeter": "", "SkuPriceId": "", "ChargeDescription": ""}
            for row in whole()]  # fmt: skip
    found = asked(rows, "--write-mapping", "map.csv")
    assert Decimal(found["matched"]) == 0
    lines = (tmp_path / "map.csv").read_text().splitlines()
    assert lines == ["resource,sku,function,environment,meter", "fn-eu-17,X-ca,,,", "fn-eu-17,X-gb,,,"]
    filled = lines[0] + "\nfn-eu-17,X-ca,f,,calls\nfn-eu-17,X-gb,f,,gb_seconds\n"
    (tmp_path / "map.csv").write_text(filled)
    assert parts(asked(rows, "--mapping", "map.csv")) == {}
