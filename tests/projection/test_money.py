"""Money as the analyst meets it: exchange, store, flat items, splits, the walk to a cost, what costs when idle."""

from __future__ import annotations

import json
from decimal import Decimal

import pytest

from echotally.errors import BadInput
from echotally.output.projection.projection_table import projection_text
from echotally.projection.explain import explain
from echotally.projection.loaded import load
from echotally.projection.project import project
from echotally.projection.showback import showback
from echotally.rates.card_loading import load_card
from echotally.rates.review import review_card
from tests.conftest import CARD, run_program

SMALL = """
[functions.f]
memory = "300 MB"
run = "100 ms"
instance_limit = 50
[functions.g]
memory = "256 MB"
run = "100 ms"
tags = { team = "green" }
[queues.q]
[schedules.s]
every = "1 h"
[demand.d]
into = "queues.q"
rate = "1 /min"
[[triggers]]
from = "queues.q"
to = "f"
[[triggers]]
from = "schedules.s"
to = "f"
[[triggers]]
from = "schedules.s"
to = "g"
"""


@pytest.mark.parametrize("by", ["function", "environment", "source", "tag:team", "tag:colour"])
def test_every_split_adds_up_to_the_bill_on_every_plan(river_projection, by):
    for plan in river_projection.played:
        shares = showback(river_projection.model, plan, by)
        assert abs(sum(share.cost for share in shares) - plan.bill.unrounded) < Decimal("1e-20")
        events = sum(share.events or 0 for share in shares)
        assert events == sum(unit.events["in"] for unit in plan.measured.units)


def test_a_function_with_two_sources_is_split_by_their_events(play, write):
    plan = play(SMALL)
    rows = {share.label: share for share in showback(load(write(SMALL)).model, plan, "source")}
    # 744 hourly firings go to f and to g; about 44,640 messages go to f alone.
    assert rows["schedules.s"].events == pytest.approx(2 * 744, rel=0.01)
    assert rows["queues.q"].events == pytest.approx(44_640, rel=0.03)


def test_an_unknown_split_or_function_is_refused(river_projection):
    plan = river_projection.plan("heron.shared")
    with pytest.raises(BadInput, match="tag:NAME"):
        showback(river_projection.model, plan, "colour")
    with pytest.raises(BadInput, match="send-sms"):
        explain(river_projection.model, plan, "nobody")


def test_the_walk_from_events_to_money_ends_at_the_functions_cost(river_projection):
    for plan in river_projection.played:
        for name in river_projection.model.functions:
            steps = explain(river_projection.model, plan, name, "rehearsal")
            meters = [Decimal(s.result.replace(",", "")) for s in steps if "in all" in s.formula]
            total = Decimal(steps[-1].result.replace(",", ""))
            assert abs(sum(meters) - total) <= Decimal("0.000001") * len(meters)
            assert abs(total - plan.bill.functions[name, "rehearsal"]) < Decimal("0.000001")
            assert len(steps) <= 24


STANDING = """
[functions.f]
memory = "1 GB"
run = "100 ms"
instance_floor = 2
package = "500 MB"
[streams.s]
partitions = 3
[queues.q]
backlog = 500
[[triggers]]
from = "streams.s"
to = "f"
[[triggers]]
from = "queues.q"
to = "f"
"""


def test_what_costs_when_nothing_runs_is_worked_by_hand(write):
    # 744 h: 3 partitions x 0.01; 2 floors x 1 GB x 2,678,400 s x 0.000001; 0.5 GB kept and a 4 GB store at 0.02;
    # one reader polling every 20 s at 1 per million; a monthly item of 7.
    prices = """
stream_partition_hours = { unit = "0.01" }
idle_gb_seconds = { unit = "0.000001" }
storage_gb_months = { unit = "0.02" }
queue_operations = { per = 1_000_000, unit = "1" }
[plans.plan.flat]
monitoring = "3"
support = "4"
"""
    plan = project(write(STANDING, keys='store = "4 GB"', prices=prices)).plans[0]
    amounts = {line.meter: line.amount for line in plan.when_idle.lines}
    assert amounts["stream_partition_hours"] == Decimal("22.32")
    assert amounts["idle_gb_seconds"] == Decimal("5.3568")
    assert amounts["storage_gb_months"] == Decimal("0.09")
    assert amounts["queue_operations"] == Decimal(133_920) / 1_000_000
    assert amounts["flat_months"] == 7
    assert plan.when_idle.total == Decimal("34.90")


def test_a_card_in_another_currency_needs_a_dated_rate_and_is_multiplied_exactly(write, tmp_path):
    path = write(SMALL)
    text = path.read_text().replace('["card.toml"]', '["card.toml", "other.toml"]')
    path.write_text(text)
    other = CARD.format(keys="", prices='calls = { per = 1_000_000, unit = "0.20" }\ngb_seconds = { unit = "0.00002" }')
    (tmp_path / "other.toml").write_text(other.replace('name = "test"', 'name = "other"').replace("EUR", "USD"))
    with pytest.raises(BadInput, match=r"several currencies.*\[exchange\]"):
        project(path)
    path.write_text(text + '\n[exchange]\ndate = 2027-01-15\ninto = "EUR"\nrates = { USD = "0.5" }\n')
    result = project(path)
    ours, theirs = result.plans
    assert theirs.bill.unrounded * 2 == ours.bill.unrounded
    assert "USD at 0.5 EUR of 2027-01-15" in projection_text(result)
    path.write_text(text + '\n[exchange]\ninto = "EUR"\nrates = { USD = "0.5" }\n')
    with pytest.raises(BadInput, match=r"exchange.date: is required"):
        project(path)


def test_memory_rounded_up_and_a_limit_that_does_not_hold_are_said(play):
    hints = dict(play(SMALL, keys="instance_limit = 20").hints)
    assert hints == {"f": "instance limit 50 is above the plan's 20, which holds"}
    plan = play(SMALL.replace("300 MB", "310 MB"))
    assert dict(plan.hints) == {"f": "memory 310 MB is not sold here; 320 MB is run and billed"}


@pytest.mark.parametrize(
    ("keys", "prices", "says"),
    [
        ("", 'node_hours = { unit = "1" }', "plans.plan.price.node_hours: is priced, but this plan never produces it"),
        ("", "", "plans.plan.allowance.log_gb: is free up to an allowance, but has no price beyond it"),
        ('sources = ["queues"]', 'gateway_requests = { unit = "1" }', "it takes no endpoints"),
        ('store = "1 GB"', "", "plans.plan.store: is required but not billed"),
    ],
    ids=["never produced", "allowance without price", "source not taken", "store not billed"],
)
def test_what_is_odd_about_a_card_is_said(tmp_path, keys, prices, says):
    path = tmp_path / "card.toml"
    free = "\n[plans.plan.allowance]\nlog_gb = 1" if "allowance" in says else ""
    path.write_text(CARD.format(keys=keys, prices='calls = { unit = "1" }\n' + prices) + free)
    found = [f"{oddity.address}: {oddity.text}" for oddity in review_card(load_card(path))]
    assert len(found) == 1
    assert says in found[0]
    strict = run_program("rates", "check", "card.toml", "--strict", cwd=tmp_path)
    assert (strict.returncode, says in strict.stdout) == (2, True)


def test_a_mistake_on_a_card_is_refused_with_its_line(tmp_path):
    (tmp_path / "card.toml").write_text(
        CARD.format(keys="", prices='cals = { unit = "1" }\ncalls = { tiers = [{ unit = "1" }, { unit = "2" }] }')
    )
    done = run_program("rates", "check", "card.toml", cwd=tmp_path)
    assert done.returncode == 2
    assert "is not a meter" in done.stderr
    assert "tiers leave a gap" in done.stderr


def test_the_program_shows_a_bill_a_split_a_walk_and_a_card(river, tmp_path):
    shown = run_program(
        "project", str(river), "--plan", "osier.fixed", "--by", "tag:team", "--explain", "map@rehearsal",
        "--width", "120", cwd=tmp_path,
    ).stdout  # fmt: skip
    for part in ("Bill on osier.fixed", "monitoring 1.80, support 1.20", "osier.fixed by tag:team", "map (rehearsal)"):
        assert part in shown
    assert "When nothing runs, osier.fixed still costs" in shown
    card = run_program("rates", "show", str(river.parent / "rates/heron.toml"), cwd=tmp_path)
    assert card.returncode == 0
    assert "0.0000182 to 500,000" in card.stdout
    data = json.loads(
        run_program(
            "project", str(river), "--plan", "osier.fixed", "--by", "environment", "--format", "json", cwd=tmp_path
        ).stdout
    )
    assert [row["environment"] for row in data["plans"][0]["showback"]] == ["live", "rehearsal", "(idle)", "(flat)"]


def test_reasons_against_a_plan_count_the_whole_batch_and_unavailable_plans_come_last(river_projection):
    reasons = [text for name, text in river_projection.plan("heron.brief").reasons if name == "charts"]
    # 15 s and 1,200 x 150 ms make 195 s: every run is longer than the plan's minute.
    assert "timeout 10 min; this plan ends runs at 1 min; all of your runs are longer" in reasons
    text = projection_text(river_projection, 120)
    assert text.index("heron.brief ") < text.index("osier.preview")
