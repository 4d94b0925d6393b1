"""Money asked deeper: by outcome, what a call costs, commitments, the month so far, budgets of parts; each worked by hand."""

from __future__ import annotations

import csv
import json
from datetime import date
from decimal import Decimal, localcontext

import pytest
from hypothesis import given
from hypothesis import strategies as st

from echotally.errors import BadInput
from echotally.evidence.bill.so_far import with_bill_so_far
from echotally.output.projection.projection_json import projection_json
from echotally.projection.loaded import load
from echotally.projection.outcomes import OUTCOMES, cost_per_call
from echotally.projection.over_time import days_of, stretches, summed
from echotally.projection.project import project, project_loaded
from echotally.projection.showback import showback
from echotally.rates.billing import exact, minor_digits
from echotally.rates.card import Plan
from echotally.rates.commitments import commit
from tests.conftest import run_program, unit

PRICES = 'calls = { unit = "0.001" }\ngb_seconds = { unit = "0.01" }'
HOURLY = """
[functions.f]
memory = "1 GB"
run = "10 s"
cold_start = "0 s"
tags = { team = "green" }
[functions.g]
memory = "1 GB"
run = "60 s"
timeout = "30 s"
cold_start = "0 s"
[schedules.s]
every = "1 h"
[[triggers]]
from = "schedules.s"
to = "f"
[[triggers]]
from = "schedules.s"
to = "g"
tries = 1
"""


# -- by outcome ---------------------------------------------------------------------------------------------------
def test_what_failure_costs_by_hand(play, write):
    plan = play(HOURLY, prices=PRICES)
    costs = {share.label: share.cost for share in showback(load(write(HOURLY, prices=PRICES)).model, plan, "outcome")}
    # 744 firings: f runs 10 s, g is cut at 30 s, each at 0.01 a GB-second and 0.001 a call.
    assert list(costs) == list(OUTCOMES)
    assert costs["handled"] == 744 * (Decimal("0.001") + 10 * Decimal("0.01"))
    assert costs["timed out"] == 744 * (Decimal("0.001") + 30 * Decimal("0.01"))
    assert sum(costs.values()) == plan.bill.unrounded
    found = cost_per_call(plan.bill, unit(plan))
    assert (found.mean, found.p95) == (Decimal("0.101"), Decimal("0.101"))


def test_work_done_twice_is_told_from_work(play, write):
    # One message, visible again every second, while its first run takes 5: it is read at 0, 1, 2, 3 and 4 s.
    text = """
[functions.f]
memory = "1 GB"
run = "5 s"
cold_start = "0 s"
[queues.q]
visibility = "1 s"
backlog = 1
[[triggers]]
from = "queues.q"
to = "f"
"""
    plan = play(text, prices=PRICES)
    costs = {share.label: share.cost for share in showback(load(write(text, prices=PRICES)).model, plan, "outcome")}
    assert costs["handled"] == Decimal("0.051") and costs["duplicates"] == 4 * Decimal("0.051")


def test_cold_starts_stand_apart_and_rounding_belongs_to_the_outcome(play, write):
    text = HOURLY.replace('run = "10 s"\ncold_start = "0 s"', 'run = "10.3 s"\ncold_start = "2.5 s"')
    keys = 'cold_start_billed = true\nkeep_alive = "1 min"\nrounding = { time = "1 s" }'
    plan = play(text, prices='gb_seconds = { unit = "0.01" }', keys=keys)
    model = load(write(text, prices='gb_seconds = { unit = "0.01" }', keys=keys)).model
    costs = {s.labels: s.cost for s in showback(model, plan, "function,outcome")}
    # Each run starts cold: 12.8 s are rounded to 13, of which 2.5 are the cold start.
    assert costs["f", "cold starts"] == 744 * Decimal("0.025") and costs["f", "handled"] == 744 * Decimal("0.105")


@pytest.mark.parametrize(
    "by", ["outcome", "tag:team,outcome", "outcome,environment", "function,environment", "source,outcome"]
)
def test_every_combination_sums_to_the_bill_to_the_last_digit(river_projection, by):
    for plan in river_projection.played:
        shares = showback(river_projection.model, plan, by)
        with localcontext(exact()):
            assert abs(sum(share.cost for share in shares) - plan.bill.unrounded) < Decimal("1e-50")
        assert len({share.labels for share in shares}) == len(shares)
        if by == "outcome":
            assert {share.label for share in shares} == set(OUTCOMES) and all(s.events is None for s in shares)
        for share in shares:
            assert share.cost > Decimal("-1e-40"), (plan.offer.name, share)


def test_splits_that_say_nothing_are_refused(river_projection):
    plan = river_projection.played[0]
    for by in ("outcome,outcome", "outcome,", "colour,outcome"):
        with pytest.raises(BadInput, match="--by"):
            showback(river_projection.model, plan, by)


# -- commitments --------------------------------------------------------------------------------------------------
def _plan(per_hour: str, discount: float = 0.2, **more: object) -> Plan:
    return Plan.model_validate(
        {
            "bills": "runs", "memory": {"choices": ["1 GB"]}, "vcpu_per_gb": 1,
            "price": {"gb_seconds": {"tiers": [{"up_to": 100, "unit": "0.10"}, {"unit": "0.05"}]}, "calls": {"unit": "1"}},
            "allowance": {"gb_seconds": 20},
            "commitment": {"per_hour": per_hour, "discount": discount, "covers": ["gb_seconds"]}, **more,
        }
    )  # fmt: skip


def test_a_commitment_over_three_hours_with_tiers_and_an_allowance_by_hand():
    one = Decimal(1)
    hours = [
        (
            one,
            {"gb_seconds": {"f": Decimal(40), "g": Decimal(20)}},
        ),  # 40 billable at 0.10: 4.00, 3.20 with the discount
        (
            one,
            {"gb_seconds": {"f": Decimal(90)}},
        ),  # 60 at 0.10 and 30 at 0.05: 7.50, of which 5 / 0.8 = 6.25 are covered
        (one, {"gb_seconds": {"g": Decimal(10)}}),  # 0.50, 0.40 with the discount
    ]
    with localcontext(exact()):
        found = commit(_plan("5"), hours)
    assert (found.hours, found.amount, found.lost) == (3, 15, Decimal("6.40"))
    assert found.covered == {"gb_seconds": Decimal("10.75")}
    assert [hour.lost for hour in found.each_hour] == [Decimal("1.8"), 0, Decimal("4.6")]
    assert sum(sum(parts.values()) for parts in found.used.values()) == pytest.approx(Decimal("8.6"))
    assert found.used["g"]["gb_seconds"] == pytest.approx(Decimal("3.2") / 3 + Decimal("0.4"))


@given(
    st.lists(st.integers(0, 10**6), min_size=1, max_size=40),
    st.decimals(0, 1_000, places=3),
    st.decimals(0, Decimal("0.99"), places=2),
)
def test_what_is_prepaid_is_used_or_lost(quantities, per_hour, discount):
    plan = _plan(str(per_hour), float(discount))
    hours = [(Decimal(1), {"gb_seconds": {"f": Decimal(q)}}) for q in quantities]
    with localcontext(exact()):
        found = commit(plan, hours)
        if not per_hour:
            assert found is None
            return
        used = sum((sum(parts.values()) for parts in found.used.values()), Decimal(0))
        assert abs(used + found.lost - found.amount) < Decimal("1e-40")
        assert abs(used - found.covered["gb_seconds"] * (1 - discount)) < Decimal("1e-40")
        assert 0 <= found.lost <= found.amount


def _committed(per_hour: str) -> str:
    return f'[plans.plan.commitment]\nper_hour = "{per_hour}"\ndiscount = 0.25\ncovers = ["gb_seconds"]\n'


def test_a_month_under_a_commitment_by_hand(play):
    plan = play(HOURLY, prices=PRICES + "\n" + _committed("0.35"))
    lines = {line.meter: line for line in plan.bill.lines}
    # In every hour 40 GB-seconds for 0.40, 0.30 with the discount: 0.05 of 0.35 is lost.
    assert lines["gb_seconds"].amount == 0 and lines["gb_seconds"].quantity == 744 * 40
    assert lines["commitment"].amount == 744 * Decimal("0.35") and lines["commitment"].lost == 744 * Decimal("0.05")
    assert plan.bill.unrounded == 744 * (Decimal("0.35") + 2 * Decimal("0.001"))
    assert plan.bill.functions["f", "live"] == pytest.approx(744 * (Decimal("0.075") + Decimal("0.001")))
    assert plan.bill.idle == pytest.approx(744 * Decimal("0.05"))
    assert plan.when_idle.unrounded == 744 * Decimal("0.35")


def test_a_commitment_of_nothing_changes_nothing(play):
    assert play(HOURLY, prices=PRICES + "\n" + _committed("0")).bill.lines == play(HOURLY, prices=PRICES).bill.lines


@pytest.mark.parametrize(
    ("terms", "said"),
    [
        ('per_hour = "1"\ndiscount = 1\ncovers = ["calls"]', "from 0 to below 1"),
        ('per_hour = "1"\ndiscount = 0.1\ncovers = ["egress_gb"]', "no price for"),
        ('per_hour = "1"\ndiscount = 0.1\ncovers = ["calls", "calls"]', "covers a meter twice"),
        ('per_hour = 1.5\ndiscount = 0.1\ncovers = ["calls"]', "per_hour"),
    ],
)  # fmt: skip
def test_terms_that_mean_nothing_are_refused(play, terms, said):
    with pytest.raises(BadInput, match=said):
        play(HOURLY, prices=f"{PRICES}\n[plans.plan.commitment]\n{terms}")


# -- days and the month so far ------------------------------------------------------------------------------------
def test_days_sum_to_the_month_on_every_kind_of_plan(river_projection, river):
    loaded = load(river)
    for plan in river_projection.played:
        parts = stretches(loaded, plan, river_projection.seed, days_of(river_projection.month.clock))
        assert len(parts) == 31
        whole = summed(parts)
        for account, meters in plan.metered.quantities.items():
            for meter, owners in meters.items():
                for key, quantity in owners.items():
                    assert abs(whole[account][meter][key] - quantity) < Decimal("1e-30"), (plan.offer.name, meter)
        if plan.offer.plan.bills == "nodes":
            assert {
                sum(p.quantities[a].get("cluster_hours", {}).values())
                for p in parts
                for a in p.quantities
                if a[1] == plan.offer.name
            } == {24, 23}


def _bill_so_far(path, until: int, gb_seconds: int, calls: int):
    """A bill of the month's first days, worked by hand: nothing of GB-seconds is paid below the allowance."""
    with path.open("w", newline="") as file:
        rows = csv.writer(file)
        rows.writerow(["BilledCost", "BillingCurrency", "ChargeCategory", "ChargePeriodStart", "ChargePeriodEnd",
                       "ConsumedQuantity", "ConsumedUnit", "ResourceName", "SkuMeter"])  # fmt: skip
        for meter, quantity, cost in (("gb_seconds", gb_seconds, 0), ("calls", calls, calls / 1_000)):
            units = {"gb_seconds": "GB-Seconds", "calls": "Calls"}[meter]
            rows.writerow(
                [
                    cost,
                    "EUR",
                    "Usage",
                    "2027-03-01T00:00:00Z",
                    f"2027-03-{until:02}T00:00:00Z",
                    quantity,
                    units,
                    "f",
                    meter,
                ]
            )
    return path


@pytest.mark.parametrize(
    ("until", "gb_seconds", "calls", "passed_on"),
    [(11, 3_000, 300, date(2027, 3, 27)), (2, 240, 24, date(2027, 3, 29)), (21, 9_000, 480, date(2027, 3, 20))],
)
def test_where_the_month_lands_on_three_dates(write, tmp_path, until, gb_seconds, calls, passed_on):
    text = (
        HOURLY.split("[functions.g]", maxsplit=1)[0]
        + '[schedules.s]\nevery = "1 h"\n[[triggers]]\nfrom = "schedules.s"\nto = "f"\n'
    )
    budget = "20" if until != 21 else "0.46"
    path = write(
        text + f'[targets]\nmonthly_cost = "{budget}"\n', prices=PRICES + "\n[plans.plan.allowance]\ngb_seconds = 5_000"
    )
    loaded = load(path)
    projection = project_loaded(loaded, [])
    bill = _bill_so_far(tmp_path / "bill.csv", until, gb_seconds, calls)
    landed = with_bill_so_far(loaded, projection, bill, date(2027, 3, until)).played[0]
    # The rest is 24 firings a day of 10 GB-seconds.
    rest = 24 * (31 - (until - 1))
    wanted = Decimal("0.01") * max(0, gb_seconds + 10 * rest - 5_000) + Decimal("0.001") * (calls + rest)
    assert landed.so_far.lands == landed.bill.unrounded == wanted
    assert landed.so_far.low == landed.so_far.high == wanted
    assert landed.so_far.billed == pytest.approx(Decimal(calls) / 1_000)
    assert landed.so_far.passed_on == passed_on
    assert landed.so_far.days[-1] == (date(2027, 3, 31), wanted)


def test_a_bill_of_the_projections_own_rows_lands_on_the_projection(river, tmp_path):
    rows = tmp_path / "sofar.csv"
    until = ("--until", "2027-03-14")
    run_program(
        "project",
        str(river),
        "--plan",
        "heron.shared",
        "--format",
        "focus",
        "--by",
        "day",
        *until,
        "-o",
        str(rows),
        cwd=tmp_path,
    )
    done = run_program("project", str(river), "--so-far", str(rows), *until, "--format", "json", cwd=tmp_path)
    (plan,) = json.loads(done.stdout)["plans"]
    whole = json.loads(projection_json(project(river, plans=["heron.shared"])))["plans"][0]
    assert plan["plan"] == "heron.shared" and plan["cost"]["total"] == whole["cost"]["total"]
    for mine, its in zip(plan["cost"]["lines"], whole["cost"]["lines"], strict=True):
        assert mine["meter"] == its["meter"] and float(mine["amount"]) == pytest.approx(float(its["amount"]), abs=2e-6)
    assert float(plan["so_far"]["billed"]) == pytest.approx(float(plan["so_far"]["played_so_far"]), abs=1e-4)
    assert plan["so_far"]["low"] <= plan["so_far"]["lands"] <= plan["so_far"]["high"]
    late = run_program("project", str(river), "--so-far", str(rows), "--until", "2027-03-12", cwd=tmp_path)
    assert late.returncode == 2 and "ChargePeriodEnd" in late.stderr and late.stdout == ""
    beside = run_program(
        "reconcile", str(river), str(rows), "--plan", "heron.shared", *until, "--format", "json", cwd=tmp_path
    )
    found = json.loads(beside.stdout)
    assert abs(sum(float(part) for part in found["parts"].values())) < 1e-3


# -- budgets ------------------------------------------------------------------------------------------------------
def test_a_teams_budget_and_a_months_own_close_the_gate(write, tmp_path):
    path = write(
        HOURLY + '[targets]\nleft_behind = 1.0\nmonthly_cost = "1000"\n[targets.by.tag.team]\ngreen = "75"\n',
        prices=PRICES,
    )
    (plan,) = json.loads(projection_json(project(path)))["plans"]
    # f costs 744 x 0.101 = 75.14, and is the only one with the tag.
    assert plan["misses"] == [
        {"target": "monthly_cost", "function": None, "by": "tag:team", "value": "green", "wanted": 75.0, "found": 75.14}
    ]
    gate = run_program("project", str(path), "--gate", "--format", "markdown", cwd=tmp_path)
    assert gate.returncode == 3 and "team green: cost 75.14 EUR (target 75.00)" in gate.stdout
    kept = run_program("project", str(path), "--gate", "--set", 'targets.by.tag.team.green="76"', cwd=tmp_path)
    assert kept.returncode == 0
    month = project(path, [("targets.by.tag.team.green", '"80"'), ("targets.by.month.2027-03", '"100"')]).played[0]
    assert [(c.by, c.value, c.wanted) for c in month.misses] == [("month", "2027-03", 100.0)]
    with pytest.raises(BadInput, match="did you mean green"):
        project(path, [("targets.by.tag.team.gren", '"80"')])


@pytest.mark.parametrize(
    ("currency", "digits"), [("EUR", 2), ("JPY", 0), ("KWD", 3), ("CLF", 4), ("XOF", 0), ("ZZZ", 2)]
)
def test_amounts_have_their_currencys_digits(currency, digits, write, tmp_path):
    path = write(HOURLY, prices=PRICES)
    card = tmp_path / "card.toml"
    card.write_text(card.read_text().replace('"EUR"', f'"{currency}"'))
    # 744 x (0.101 + 0.301)
    wanted = f"{299.088:,.{digits}f}"
    assert minor_digits(currency) == digits
    shown = run_program("project", str(path), cwd=tmp_path).stdout
    assert (
        f"{wanted} {currency}" in shown
        and json.loads(projection_json(project(path)))["plans"][0]["cost"]["total"] == wanted
    )


def test_a_month_so_far_under_a_commitment_lands_on_the_projection(write, tmp_path):
    # 40 GB-seconds an hour for 0.40; 0.35 are prepaid an hour, so that 0.05 of each is lost, before the day and after it.
    path = write(HOURLY, prices=PRICES + "\n" + _committed("0.35"))
    bill = tmp_path / "bill.csv"
    rows = ("project", str(path), "--format", "focus", "--by", "day", "--until", "2027-03-11", "-o", str(bill))
    assert run_program(*rows, cwd=tmp_path).returncode == 0
    loaded = load(path)
    projection = project_loaded(loaded, [])
    (landed,) = with_bill_so_far(loaded, projection, bill, date(2027, 3, 11)).played
    assert landed.so_far.lands == pytest.approx(projection.played[0].bill.unrounded)
    assert landed.so_far.billed == pytest.approx(240 * (Decimal("0.35") + 2 * Decimal("0.001")))
    assert landed.so_far.played_so_far == pytest.approx(landed.so_far.billed)
    found = json.loads(
        run_program("reconcile", str(path), str(bill), "--until", "2027-03-11", "--format", "json", cwd=tmp_path).stdout
    )
    assert all(abs(float(part)) < 1e-6 for part in found["parts"].values())


def test_an_exchange_says_what_it_lacks(write, tmp_path):
    path = write(HOURLY, prices=PRICES)
    card = (tmp_path / "card.toml").read_text()
    (tmp_path / "other.toml").write_text(card.replace('"EUR"', '"CHF"').replace('name = "test"', 'name = "other"'))
    path.write_text(path.read_text().replace('["card.toml"]', '["card.toml", "other.toml"]'))
    with pytest.raises(BadInput, match=r'into = "EUR", rates = \{ CHF = "..." \}'):
        load(path)
    with pytest.raises(BadInput, match=r"exchange\.rates lacks CHF"):
        load(path, [("exchange", '{ date = 2027-03-01, into = "EUR", rates = { USD = "0.9" } }')])
