"""Money where it meets the rest: commands, odd zones, walks, comparisons, forecasts, other trials."""

from __future__ import annotations

import json
from decimal import Decimal

import pytest

from echotally.errors import BadInput
from echotally.findings import check_model
from echotally.projection.explain import explain
from echotally.projection.loaded import load
from echotally.projection.over_time import days_of, midnight, stretches
from echotally.projection.playing import Playing
from echotally.projection.project import project, project_loaded
from echotally.studies.forecast import forecast
from tests.conftest import run_program

HOURLY = """
[functions.f]
memory = "1 GB"
run = "10 s"
cold_start = "0 s"
log_bytes = "0 B"
package = "0 B"
tags = { team = "green" }
uses = [{ what = "text" }]
[outside.text]
unit = "0.02"
[schedules.s]
every = "1 h"
[[triggers]]
from = "schedules.s"
to = "f"
"""
PRICES = 'calls = { unit = "0.001" }\ngb_seconds = { unit = "0.01" }\n'
PREPAID = '[plans.plan.commitment]\nper_hour = "0.10"\ndiscount = 0.25\ncovers = ["gb_seconds"]\n'


@pytest.mark.parametrize(
    ("line", "code", "said"),
    [
        ("project model.toml --so-far bill.csv", 2, "--so-far needs --until"),
        ("project model.toml --until 2027-03-04", 2, "--until has no effect without --so-far"),
        ("project model.toml --format focus --by day --until 2027-04-02", 2, "lies outside the month"),
        ("project model.toml --format focus --by day --until 2027-03-01", 2, "lies outside the month"),
        ("project model.toml --format focus --by day --until tomorrow", 2, "is no day"),
        ("project model.toml --format focus --by outcome", 2, "by day only"),
        ("project model.toml --by outcome --format focus", 2, "by day only"),
        ("project model.toml --by team", 2, "tag:NAME"),
        ("project model.toml --edges --format csv", 2, "--edges has no effect"),
        ("project model.toml --all-meters --format json", 2, "--all-meters has no effect"),
        ("project model.toml --so-far nothing.csv --until 2027-03-04", 2, "nothing.csv"),
        ("rates compare card.toml nothing.toml --model model.toml", 2, "nothing.toml"),
        ("report model.toml --until 2027-03-04", 2, "--until has no effect without --so-far"),
        ("choose model.toml --commitment --no-sizes", 0, "No plan of the cards sells a commitment"),
        ("project model.toml --format focus --by day --until 2027-04-01", 0, "2027-03-31T00:00:00Z"),
        ("project model.toml --by function,environment,outcome --format csv", 0, "f,live,handled"),
    ],
)
def test_what_is_asked_is_answered_or_refused_in_a_line(write, tmp_path, line, code, said):
    write(HOURLY, prices=PRICES)
    done = run_program(*line.split(), cwd=tmp_path)
    assert done.returncode == code and said in done.stdout + done.stderr
    assert "Traceback" not in done.stderr


@pytest.mark.parametrize(
    ("zone", "month", "hours"),
    [("Australia/Lord_Howe", "2027-04", 720.5), ("America/Santiago", "2027-04", 721), ("Europe/Dublin", "2027-03", 743), ("Asia/Kathmandu", "2027-02", 672)],
)  # fmt: skip
def test_days_and_hours_fit_every_zones_month(write, zone, month, hours):
    loaded = load(write(HOURLY, prices=PRICES + PREPAID, zone=zone, month=month))
    projection = project_loaded(loaded, [])
    (plan,), clock = projection.played, projection.month.clock
    ends = days_of(clock)
    assert ends[-1] == clock.length_ns == hours * 3_600 * 10**9
    assert all(clock.instant(end).astimezone(clock.zone).strftime("%H:%M") == "00:00" for end in ends)
    parts = stretches(loaded, plan, projection.seed, ends)
    calls = [sum(part.quantities["", "test.plan"]["calls"].values()) for part in parts]
    assert sum(calls) == plan.metered.total(("", "test.plan"), "calls")
    (line,) = [line for line in plan.bill.lines if line.meter == "commitment"]
    # The last hour may be a part of one.
    assert line.quantity == Decimal(str(hours)) and line.amount == Decimal("0.10") * Decimal(str(hours))


def test_a_day_outside_the_month_is_no_midnight_of_it(write):
    clock = load(write(HOURLY, prices=PRICES)).month.clock
    from datetime import date

    assert midnight(clock, date(2027, 4, 1)) == clock.length_ns
    for day in (date(2027, 3, 1), date(2027, 4, 2), date(2026, 3, 5)):
        with pytest.raises(BadInput, match="lies outside the month"):
            midnight(clock, day)


def test_the_walk_to_a_cost_goes_through_what_was_prepaid(play, write):
    plan = play(HOURLY, prices=PRICES + PREPAID)
    steps = {
        step.label: step for step in explain(load(write(HOURLY, prices=PRICES + PREPAID)).model, plan, "f", "live")
    }
    # 0.10 an hour at full price, 0.075 of it from the commitment.
    assert float(steps["commitment"].result) == pytest.approx(744 * 0.075) and steps["commitment"].rule == "7.51"
    assert "less what the commitment pays" in steps["gb_seconds"].formula and steps["gb_seconds"].result == "0.000000"
    assert float(steps["this function"].result) == pytest.approx(744 * (0.075 + 0.001 + 0.02))


def test_uses_of_an_outside_service_are_volume(write, tmp_path):
    path = write(HOURLY, prices=PRICES)
    for name, change in (("a.json", ()), ("b.json", ("--set", 'schedules.s.every="30 min"'))):
        run_program("project", str(path), *change, "--format", "json", "-o", name, cwd=tmp_path)
    found = json.loads(run_program("compare", "a.json", "b.json", "--format", "json", cwd=tmp_path).stdout)
    (text,) = [meter for meter in found["rows"] if meter["meter"] == "outside.text"]
    assert float(text["volume"]) == pytest.approx(744 * 0.02) and float(text["price"]) == 0


def test_a_teams_budget_in_the_months_to_come(write):
    text = (
        HOURLY.replace('every = "1 h"', 'every = "1 h"\nitems = 100\nitems_growth = 0.5')
        .replace('uses = [{ what = "text" }]', "")
        .replace('[outside.text]\nunit = "0.02"\n', "")
    )
    text = (
        text.replace('run = "10 s"', 'run = "0 s"\nper_item = "100 ms"')
        + '[targets.by.tag.team]\ngreen = "100"\n[targets.by.month]\n"2027-05" = "1"\n'
    )
    (plan,) = forecast(write(text, prices=PRICES), 3, 10).plans
    # 100, 150 and 225 items of 0.1 s an hour.
    wanted = [h * (0.001 + 0.01 * s) for h, s in ((744, 10), (720, 15), (744, 22.5))]
    assert [budget.expected_cost for budget in plan.budgets] == pytest.approx(wanted, abs=0.01)
    assert [budget.over_chance for budget in plan.budgets] == [0.0, 1.0, 1.0]
    assert [(c.month, c.what.split(" of ")[0]) for c in plan.crossed if "budget" in c.what] == [
        ("2027-04", "team green passes its budget")
    ]
    assert [month.over_budget_chance for month in plan.months] == [0.0, 0.0, 1.0]


def test_what_more_answers_cost_in_the_real_month(write, tmp_path):
    text = HOURLY.split("[schedules.s]", maxsplit=1)[0].replace('uses = [{ what = "text" }]', "") + (
        '[endpoints.e]\n[demand.d]\ninto = "endpoints.e"\nrate = "1 /h"\n[[triggers]]\nfrom = "endpoints.e"\nto = "f"\n'
    )
    path = write(text, prices=PRICES + "[plans.plan.allowance]\ncalls = 400_000\n")
    done = run_program(
        "load", str(path), "--function", "f", "--clients", "1", "--calls", "50", "--format", "json", cwd=tmp_path
    )
    (row,) = json.loads(done.stdout)["rows"]
    month = project(path).played[0].measured.units[0].started
    # A million answers of 10 GB-seconds; of 400,000 free calls the month leaves what it does not use itself.
    assert float(row["cost_per_million"]) == pytest.approx(1e6 * (0.1 + 0.001))
    assert float(row["month_cost_per_million"]) == pytest.approx(1e6 * 0.1 + (1e6 - (400_000 - month)) * 0.001)


def test_a_card_shows_what_can_be_prepaid(write, tmp_path):
    write(HOURLY, prices=PRICES + PREPAID)
    assert (
        "0.10 an hour prepaid, 25.00 % off gb_seconds" in run_program("rates", "show", "card.toml", cwd=tmp_path).stdout
    )
    data = json.loads(run_program("rates", "show", "card.toml", "--format", "json", cwd=tmp_path).stdout)
    assert data["plans"][0]["commitment"] == {"per_hour": "0.10", "discount": 0.25, "covers": ["gb_seconds"]}


def test_advice_where_hours_are_prepaid_is_played_over_the_whole_month(write):
    path = write(HOURLY, prices=PRICES + PREPAID.replace("0.10", "0.50"))
    found = {f.rule.code: f for f in check_model(path).open()}
    before, after = (project(path, sets).played[0].bill.unrounded for sets in ((), found["C08"].noticed.sets))
    assert found["C08"].noticed.saves == pytest.approx(before - after) and before - after == 744 * (
        Decimal("0.5") - Decimal("0.1")
    )


@pytest.mark.parametrize("bills", ["runs", "active", "allocated"])
def test_hours_of_a_commitment_sum_to_the_month(play, bills):
    """Whatever a plan bills of time: usage belongs to the hour in which it ends, and none is lost or counted twice."""
    meters = {"runs": "gb_seconds", "active": "gb_seconds", "allocated": "allocated_gb_seconds"}
    meter = meters[bills]
    prices = f'calls = {{ unit = "0.001" }}\n{meter} = {{ unit = "0.01" }}\n' + PREPAID.replace("gb_seconds", meter)
    card = f"""
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "{bills}"
memory = {{ choices = ["1 GB"] }}
vcpu_per_gb = 1
keep_alive = "90 min"
[plans.plan.price]
{prices}
"""
    plan = play(HOURLY.replace('every = "1 h"', 'cron = "50 */3 * * *"').replace('"10 s"', '"29 s"'), card=card)
    (hours,) = plan.metered.hours.values()
    for name, owners in plan.metered.quantities["", "test.plan"].items():
        for key, quantity in owners.items():
            parts = [by_meter.get(name, {}).get(key, Decimal(0)) for _, by_meter in hours]
            assert sum(parts) == pytest.approx(quantity, rel=Decimal("1e-30")) and all(part >= 0 for part in parts)
    used = [n for n, (_, by_meter) in enumerate(hours) if sum(by_meter.get(meter, {}).values())]
    # Runs of 29 s from ten to the hour, every third hour; an instance that is kept 90 minutes goes in the second hour after it.
    assert {n % 3 for n in used[:-1]} == ({0} if bills != "allocated" else {2})


def test_a_sampled_month_has_days_and_hours_as_estimates(write):
    text = HOURLY.split("[schedules.s]", maxsplit=1)[0].replace('uses = [{ what = "text" }]', "") + (
        '[queues.q]\n[demand.d]\ninto = "queues.q"\nrate = "600 /h"\n[[triggers]]\nfrom = "queues.q"\nto = "f"\n'
    )
    loaded = load(write(text.replace('"10 s"', '"1 s"'), prices=PRICES + PREPAID))
    projection = project_loaded(loaded, [], how=Playing(sampled_from=0))
    (plan,) = projection.played
    assert plan.method == "sampled"
    parts = stretches(loaded, plan, projection.seed, days_of(projection.month.clock))
    calls = [float(sum(part.quantities["", "test.plan"]["calls"].values())) for part in parts]
    assert sum(calls) == pytest.approx(float(plan.metered.total(("", "test.plan"), "calls")))
    assert calls == pytest.approx([14_400] * 31, rel=0.1)
    (line,) = [line for line in plan.bill.lines if line.meter == "commitment"]
    assert line.amount == Decimal("74.4") and line.lost < Decimal("0.5")
