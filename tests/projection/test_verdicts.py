"""The verdict in words: which plan, why not the cheaper one, what would change it, and what is missed."""

from __future__ import annotations

import pathlib

import pytest

from echotally.output.projection.bill_view import quantity_text, standing_line
from echotally.output.projection.verdict_text import check_text, verdict_lines
from echotally.projection.project import project
from echotally.projection.verdict import Check
from tests.conftest import HEAD

CARD = """
schema = "echotally-rates/1"
[card]
name = "c"
currency = "EUR"
"""
PLAN = """
[plans.{name}]
bills = "runs"
memory = {{ choices = ["256 MB"] }}
vcpu_per_gb = 1
{keys}
[plans.{name}.price]
calls = {{ unit = "{calls}" }}
"""
MODEL = """
[functions.f]
memory = "256 MB"
run = "2 s"
cold_start = "0 ms"
[endpoints.e]
[demand.d]
into = "endpoints.e"
lumps = [{{ at = "2027-03-05T00:00", count = 4 }}]
[[triggers]]
from = "endpoints.e"
to = "f"
[targets]
{targets}
"""


@pytest.fixture
def lines(tmp_path):
    """The verdict on plans given as (name, price of a call, more keys), under some targets."""

    def writer(targets: str, *plans: tuple[str, str, str]) -> list[str]:
        card = CARD + "".join(PLAN.format(name=n, calls=c, keys=k) for n, c, k in plans)
        (tmp_path / "card.toml").write_text(card)
        (tmp_path / "m.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + MODEL.format(targets=targets))
        return verdict_lines(project(tmp_path / "m.toml"))

    return writer


def test_a_functions_own_wait_takes_the_place_of_the_estates_and_shares_are_checked_besides(play):
    # The only instance is cold for 3 s, and refuses three of four: 75 % throttled; the one call waits 3 s.
    model = MODEL.replace('"0 ms"', '"3 s"\ninstance_limit = 1')

    def missed(estate: str, own: str) -> list[tuple[str, str | None, float]]:
        # What is left behind is not the matter here: three of four.
        estate = f"left_behind = 1\n{estate}"
        misses = play(model.format(targets=estate) + f"[functions.f.targets]\n{own}\n").misses
        return [(m.target, m.function, m.wanted) for m in misses]

    assert missed('wait_p95 = "2 s"', "") == [("wait_p95", "f", 2.0)]
    assert missed('wait_p95 = "2 s"', 'wait_p95 = "5 s"') == []
    assert missed('wait_p95 = "5 s"', 'wait_p95 = "2 s"') == [("wait_p95", "f", 2.0)]
    assert missed("throttled = 0.1", "throttled = 0.8") == [("throttled", None, 0.1)]
    assert missed("throttled = 0.8", "throttled = 0.1") == [("throttled", "f", 0.1)]


def test_without_targets_the_cheapest_is_picked_and_the_next_is_named(lines):
    found = lines("", ("dear", "3", ""), ("cheap", "2", ""))
    assert found[0] == "Pick c.cheap: 8.00 EUR a month, is the cheapest that takes every function."
    assert found[1] == "Next is c.dear at 12.00, 50.0 % more: the pick changes if prices or volume move it past that."
    assert len(found) == 2


def test_a_cheaper_plan_that_misses_is_named_with_what_it_misses(lines):
    # Two of four requests are refused on the small plan: its bill is smaller, its share of refusals one half.
    found = lines("refused = 0.1\nleft_behind = 1", ("small", "2", "instance_limit = 2"), ("large", "2", ""))
    assert found[0] == "Pick c.large: 8.00 EUR a month, meets every target."
    assert found[1] == (
        "Why not c.small, 4.00: it misses refused 50.00 % (target 10 %). Without that it would be the pick."
    )
    assert found[2] == "No other plan meets every target."
    assert found[3] == "Tightest target: refused 0.00 % (target 10 %)."


def test_where_none_meets_the_closest_is_named_with_each_miss_on_a_line(lines):
    found = lines('refused = 0.1\nmonthly_cost = "1"', ("small", "2", "instance_limit = 2"), ("large", "2", ""))
    assert found == [
        "No plan meets every target. Closest is c.large, 8.00 EUR a month:",
        "  it misses cost 8.00 EUR (target 1.00).",
    ]


def test_a_plan_that_leaves_work_undone_is_not_the_cheapest(lines):
    # Two of four requests are refused on the small plan, which costs half: it leaves one half behind.
    found = lines("", ("small", "2", "instance_limit = 2"), ("large", "2", ""))
    assert found[0] == "Pick c.large: 8.00 EUR a month, is the cheapest that takes every function."
    assert found[1] == (
        "Why not c.small, 4.00: it misses left behind 50.00 % (target 1 %). Without that it would be the pick."
    )
    only = lines("", ("small", "2", "instance_limit = 2"))
    assert only[:2] == [
        "No plan meets every target. Closest is c.small, 4.00 EUR a month:",
        "On c.small, 2 of 4 f requests are refused (50 %).",
    ]


def test_what_is_left_behind_is_counted_by_the_rule(play):
    # Of five requests one is answered by an error, two are cut by the timeout (left behind), two are answered.
    model = """
[functions.f]
memory = "256 MB"
timeout = "1 s"
run = { samples = "runs.csv" }
cpu_share = 0
[endpoints.e]
[demand.d]
into = "endpoints.e"
lumps = [{ at = "2027-03-05T00:00", count = 5_000 }]
[[triggers]]
from = "endpoints.e"
to = "f"
"""

    def of(more: str, runs: str):
        from tests.conftest import unit

        folder = pathlib.Path(play.folder)
        (folder / "runs.csv").write_text(runs)
        return unit(play(model.replace("cpu_share = 0", "cpu_share = 0\n" + more)))

    cut = of("", "ms\n2000\n500\n")
    assert cut.events["errored"] == cut.attempts["timed_out"] == cut.cut_requests == cut.left_behind_events
    assert 2_300 < cut.left_behind_events < 2_700
    errors = of("error_rate = 0.5", "ms\n500\n")
    assert errors.events["errored"] > 2_300
    assert errors.left_behind_events == 0


def test_a_run_in_flight_at_the_months_end_is_not_left_behind(play):
    # Two messages at the last second, one instance: one runs when the month ends, the other waits.
    model = MODEL.format(targets="").replace("endpoints.e", "queues.e").replace('"2 s"', '"20 s"\ninstance_limit = 1')
    from tests.conftest import unit

    found = unit(play(model.replace("2027-03-05T00:00", "2027-03-31T23:59:59").replace("count = 4", "count = 2")))
    assert (found.events["unfinished"], found.in_flight_events, found.left_behind_events) == (2, 1, 1)


@pytest.mark.parametrize(
    ("low", "high", "wanted", "missed", "undecided"),
    [
        (1.0, 2.0, 3.0, False, False),
        (1.0, 2.0, 2.0, False, True),
        (1.0, 2.0, 1.0, False, True),
        (1.0, 2.0, 0.5, True, False),
    ],
)
def test_a_target_inside_its_interval_ends_included_is_undecided(low, high, wanted, missed, undecided):
    check = Check("wait_p95", "f", wanted, 1.5, low, high)
    assert (check.missed, check.undecided) == (missed, undecided)


@pytest.mark.parametrize(
    ("amount", "text"),
    [
        ("0", "0.00"),
        ("0.00012345", "0.0001234"),
        ("0.5", "0.5000"),
        ("0.99", "0.9900"),
        ("1", "1.00"),
        ("1234.5", "1,234.50"),
    ],
)
def test_money_below_one_has_four_digits_that_count(amount, text):
    from decimal import Decimal

    from echotally.output.base.terminal import money

    assert money(Decimal(amount)) == text == money(float(amount))


def test_percentages_are_of_unrounded_costs(lines):
    # 4 calls at 0.00074 and at 0.00136: 0.00296 and 0.00544, which is 83.8 % more; rounded to cents it would be nothing.
    found = lines("", ("dear", "0.00136", ""), ("cheap", "0.00074", ""))
    assert found[0].startswith("Pick c.cheap: 0.002960 EUR")
    assert found[1].startswith("Next is c.dear at 0.005440, 83.8 % more")


def test_where_none_can_take_the_functions_the_reasons_are_pointed_to(lines):
    found = lines("", ("short", "1", 'timeout_limit = "1 s"'))
    assert found == ["No plan can take every function; the reasons are below."]


@pytest.mark.parametrize(
    ("check", "text"),
    [
        (Check("throttled", None, 0.01, 0.025), "throttled 2.50 % (target 1 %)"),
        (Check("refused", "map", 0.0005, 0.001), "map: refused 0.10 % (target 0.05 %)"),
        (Check("lost", "map", 5, 1_234), "map: lost 1,234 events (target 5)"),
        (Check("wait_p95", "map", 1.5, 21.34), "map: wait p95 21.3 s (target 1.5 s)"),
        (Check("monthly_cost", None, 40, 54.0), "cost 54.00 EUR (target 40.00)"),
    ],
)
def test_targets_in_words(check, text):
    assert check_text(check, "EUR") == text
    assert check.missed


@pytest.mark.parametrize(("wanted", "found", "used"), [(10, 5, 0.5), (10, 20, 2.0), (0, 0, 0.0), (0, 3, 1.0)])
def test_how_much_of_a_target_is_used_up(wanted, found, used):
    assert Check("lost", None, wanted, found).used == used


def test_one_target_over_two_environments_is_checked_at_its_worst(tmp_path):
    text = MODEL.format(targets='wait_p95 = "1 ms"') + "[environments.a]\n[environments.b]\ndemand = 3\n"
    card = CARD + PLAN.format(name="one", calls="1", keys='instance_limit = 1\nwait_limit = "1 h"')
    (tmp_path / "card.toml").write_text(card)
    (tmp_path / "m.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + text)
    plan = project(tmp_path / "m.toml").plans[0]
    # Twelve requests at once, 2 s each, one instance: the last but none waits 22 s.
    assert [(m.target, m.function, m.found) for m in plan.misses] == [("wait_p95", "f", 22.0)]


def test_a_plan_that_costs_nothing_when_nothing_runs_says_so(tmp_path):
    (tmp_path / "card.toml").write_text(CARD + PLAN.format(name="one", calls="1", keys=""))
    (tmp_path / "m.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + MODEL.format(targets=""))
    assert standing_line(project(tmp_path / "m.toml").plans[0]) == ["When nothing runs, c.one costs nothing."]


@pytest.mark.parametrize(
    ("quantity", "text"), [("5", "5"), ("1234567", "1,234,567"), ("0.0562", "0.056200"), ("1234.567", "1,234.57")]
)
def test_metered_quantities_are_as_long_as_they_need_to_be(quantity, text):
    from decimal import Decimal

    assert quantity_text(Decimal(quantity)) == text
