"""What the questions about money print: the finding first, in words that a stranger reads."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

import pytest
from msgspec.structs import replace

from echotally.errors import BadInput
from echotally.output.projection.bill_view import MoneyAsked
from echotally.output.projection.edges_view import edge_lines, edge_name, times_text
from echotally.output.projection.projection_charts import projection_chart
from echotally.output.projection.projection_exports import projection_rows
from echotally.output.projection.projection_table import projection_text
from echotally.output.projection.verdict_text import landing_lines
from echotally.output.studies.card_change_view import card_change_json, card_change_lines, card_change_text
from echotally.output.studies.choose_view import commitment_lines
from echotally.projection.answer import Edge, SoFar
from echotally.studies.card_change import CardChange, LineChange, PlanOnCards
from echotally.studies.committing import Commitments, Level

D = Decimal
LANDING = SoFar(
    until=date(2027, 3, 12), billed=D("9.19"), played_so_far=D("8.43"), lands=D("26.22"), low=D("22.35"), high=D("31.55"),
    monthly_cost=D(40), passed_on=None, days=((date(2027, 3, 11), D("9.19")), (date(2027, 3, 12), D("10.1"))),
)  # fmt: skip


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({}, "Lands at 26.22 EUR (22.35 to 31.55): 9.19 billed before 2027-03-12, the rest as played. It stays below the budget of 40.00."),
        ({"monthly_cost": D(30)}, "The budget of 30.00 may be passed: the interval reaches above."),
        ({"monthly_cost": D(20), "passed_on": date(2027, 3, 24)}, "The budget of 20.00 is passed on 2027-03-24."),
        ({"monthly_cost": None}, "the model sets no monthly_cost"),
        ({"low": D("26.22"), "high": D("26.22")}, "Lands at 26.22 EUR: 9.19 billed"),
        ({"billed": D("8.43")}, "So far the bill is just what the model says"),
        ({}, "9.0 % above what the model says"),
        ({"notes": ("no row of the bill is of log_gb",)}, "Note: no row of the bill is of log_gb."),
    ],
)  # fmt: skip
def test_where_the_month_lands_in_words(change, said):
    assert said in " ".join(landing_lines(replace(LANDING, **change), "EUR"))


def test_edges_in_words(river_projection):
    near = Edge("instances", "instance limit", "map", 0.55, 1.8, None)
    far = Edge("target", "wait_p95", "map", 0.2, None, None)
    passed = Edge("allowance", "gb_seconds", None, 3.4, 0.29, date(2027, 3, 10))
    plan = replace(river_projection.plan("heron.shared"), edges=(passed, near, far))
    assert edge_lines(plan) == [
        "On heron.shared, reached at today's demand: allowance of gb_seconds.",
        "At 1.8 times today's demand heron.shared reaches map: instance limit.",
    ]
    assert edge_name(far) == "map: target wait p95" and (times_text(None), times_text(123.4)) == ("–", "123")
    shown = projection_text(replace(river_projection, plans=(plan,), pick="heron.shared"), 120, False)
    assert "2027-03-10" in shown and "reached at x demand" in shown


def test_money_by_outcome_in_every_form(river_projection):
    text = projection_text(river_projection, 120, False, asked=MoneyAsked(by="tag:team,outcome"))
    assert (
        "heron.shared by tag:team,outcome" in text
        and "events in" not in text.split("by tag:team,outcome")[1].split("Functions")[0]
    )
    rows = projection_rows(river_projection, "csv", by="outcome").splitlines()
    assert rows[0] == "plan,outcome,events,cost" and len(rows) == 1 + 9 * len(river_projection.played)
    assert "| floors and idle time |" in projection_rows(river_projection, "markdown", by="outcome")


def test_meters_that_a_month_did_not_use_are_one_line(river_projection):
    plan = river_projection.plan("heron.per-run")
    none = (
        replace(plan.bill.lines[0], meter=name, quantity=D(0), billable=D(0), amount=D(0))
        for name in ("calls", "log_gb")
    )
    lines = tuple(line for line in plan.bill.lines if line.meter not in ("calls", "log_gb"))
    plan = replace(plan, bill=replace(plan.bill, lines=(*lines, *none)))
    one = replace(river_projection, plans=(plan,), pick=plan.offer.name)
    unused = ["calls", "log_gb"]
    short, whole = projection_text(one, 140, False), projection_text(one, 140, False, asked=MoneyAsked(all_meters=True))
    assert f"{len(unused)} more, unused" in short and "more, unused" not in whole
    assert all(f" {meter} " in whole for meter in unused)


def test_charts_of_money(river_projection):
    plan = replace(river_projection.plan("heron.shared"), so_far=LANDING)
    landed = replace(river_projection, plans=(plan,), pick="heron.shared")
    for projection, kind in ((river_projection, "outcome"), (landed, "landing")):
        one, other = (projection_chart(projection, kind, "svg") for _ in range(2))
        assert one == other and b"<svg" in one
    assert b"budget 40.00" in projection_chart(landed, "landing", "svg")
    assert b"attempts that failed" in projection_chart(river_projection, "outcome", "svg")
    with pytest.raises(BadInput, match="--so-far"):
        projection_chart(river_projection, "landing", "svg")


def test_a_new_price_list_in_words():
    lines = (LineChange("calls", D(2), D(3)), LineChange("gb_seconds", D(8), D(8)))
    found = CardChange(
        "EUR", "2027-03", "old.toml", "new.toml",
        (PlanOnCards("run", D(10), D(11), lines), PlanOnCards("fixed", None, D(9), ())), ("c.gone",), (), "c.run", "c.fixed",
    )  # fmt: skip
    said = " ".join(card_change_lines(found))
    assert "On run, 2027-03 costs 11.00 EUR with new.toml, 10.0 % above the 10.00 with old.toml (+1.00)." in said
    assert "The pick changes from c.run to c.fixed." in said and "Only in old.toml: c.gone." in said
    shown = card_change_text(found, 100, False)
    assert "calls" in shown and "gb_seconds" not in shown
    assert '"before": "2.000000"' in card_change_json(found)
    none = replace(found, plans=(PlanOnCards("run", None, D(1), ()),))
    assert card_change_lines(none) == ["No plan that both cards have can run the estate on both."]


def test_a_commitment_in_words():
    def level(per_hour: str, cost: str, mean: str) -> Level:
        return Level("c.run", D(per_hour), D(cost), D("0.5"), D("9"), D("1.25"), D(mean))

    levels = (level("0", "12", "12"), level("0.01", "10", "11.5"), level("0.02", "11", "11"))
    found = Commitments("c.run", D("0.2"), ("gb_seconds",), levels, 12)
    said = " ".join(commitment_lines(found, "EUR"))
    assert "is 0.01000 EUR an hour: 10.00 a month against 12.00 without, 0.5000 of it lost" in said
    assert "When demand falls by a third it costs 9.00 against 9.00 without: 1.25 is lost." in said
    assert "Over 12 draws of the model's ranges 0.02000 an hour is cheaper on average" in said
    dear = replace(found, levels=(level("0", "9", "9"), *levels[1:]))
    assert (
        commitment_lines(dear, "EUR")[0] == "No commitment on c.run (20.0 % off gb_seconds) saves anything this month."
    )
