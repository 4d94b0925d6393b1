"""Hand-worked bills: the arithmetic stands in each note, in the words of the rate card."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from echotally.projection.project import project
from echotally.rates.billing import bill_account
from echotally.rates.card import Plan, Price
from echotally.rates.price_walk import price_of

BILLS = sorted((Path(__file__).parent / "bills").glob("*.toml"))


@pytest.mark.parametrize("path", BILLS, ids=lambda path: path.stem)
def test_a_hand_worked_bill_is_met_to_the_cent(path, tmp_path):
    # Each file holds a model, a card and the bill worked by hand; the split is made at the marker lines.
    head, model, card, expected = path.read_text().split("#---\n")
    (tmp_path / "card.toml").write_text(card)
    (tmp_path / "model.toml").write_text(model)
    plan = project(tmp_path / "model.toml").plans[0]
    assert plan.bill is not None, plan.reasons
    wanted = dict(line.split(" = ") for line in expected.splitlines() if " = " in line)
    assert plan.bill.total == Decimal(wanted.pop("total"))
    found = {}
    for line in plan.bill.lines:
        found[line.meter] = found.get(line.meter, Decimal(0)) + line.amount
    for meter, amount in wanted.items():
        assert found[meter] == Decimal(amount), (meter, found[meter])
    shared = sum(plan.bill.functions.values()) + plan.bill.idle + plan.bill.flat
    assert abs(shared - plan.bill.unrounded) < Decimal("1e-40")


def test_every_way_to_bill_is_covered():
    text = "".join(path.read_text() for path in BILLS)
    assert all(f'bills = "{kind}"' in text for kind in ("runs", "active", "allocated", "reserved", "nodes"))
    assert len(BILLS) >= 8


money = st.decimals(min_value=0, max_value=1000, places=8)
prices = st.one_of(
    money.map(lambda unit: {"unit": f"{unit:f}"}),
    st.lists(st.tuples(st.integers(1, 10**6), money), min_size=1, max_size=4, unique_by=lambda t: t[0]).map(
        lambda tiers: {
            "tiers": [{"up_to": n, "unit": f"{unit:f}"} for n, unit in sorted(tiers)] + [{"unit": "0.5"}],
        }
    ),
)


def plan_with(price: dict[str, object], allowance: int) -> Plan:
    return Plan.model_validate(
        {
            "bills": "runs",
            "memory": {"choices": ["128 MB"]},
            "vcpu_per_gb": 1,
            "price": {"calls": price},
            "allowance": {"calls": allowance},
        }
    )


@given(prices, st.integers(0, 2 * 10**6), st.integers(0, 10**6), st.integers(0, 10**6))
def test_cost_never_falls_with_volume_and_an_allowance_never_makes_it_negative(price, quantity, more, allowance):
    plan = plan_with(price, allowance)
    low = bill_account("p", "", plan, {"calls": Decimal(quantity)})[0]
    high = bill_account("p", "", plan, {"calls": Decimal(quantity + more)})[0]
    assert 0 <= low.amount <= high.amount
    assert low.billable == max(0, quantity - allowance)


@given(prices, st.integers(0, 10**7))
def test_doubling_every_price_doubles_the_bill(price, quantity):
    if "unit" in price:
        doubled = {"unit": f"{Decimal(price['unit']) * 2:f}"}
    else:
        doubled = {"tiers": [{**t, "unit": f"{Decimal(t['unit']) * 2:f}"} for t in price["tiers"]]}
    once = price_of(Price.model_validate(price), Decimal(quantity))
    assert price_of(Price.model_validate(doubled), Decimal(quantity)) == 2 * once


def test_volume_tiers_price_the_whole_quantity_at_the_tier_reached():
    price = Price.model_validate({"volume": True, "tiers": [{"up_to": 100, "unit": "2"}, {"unit": "1"}]})
    assert [price_of(price, Decimal(n)) for n in (100, 101)] == [Decimal(200), Decimal(101)]
