"""Months sampled as if they were large, beside the months themselves: what a sample tells is true, and what it cannot tell it leaves open."""

from __future__ import annotations

import pytest

from echotally.projection.confidence import counted
from echotally.projection.loaded import load
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from echotally.projection.totals import totals_of
from echotally.projection.trouble import losses
from tests.conftest import CARD, PRICES

ON_NODES = """node_memory = "2 GB"
node_vcpu = 4
vcpu_each = 0.5
"""
NODE_PRICES = 'node_hours = { unit = "0.10" }'
INSTANCE_PRICES = 'instance_hours = { unit = "0.10" }'
BY_DAY = f"day_shape = [{', '.join(8 * ['0.3'] + 8 * ['2.6'] + 8 * ['0.2'])}]"
PUSH = 'push = { first_wait = "10 s", longest_wait = "5 min", give_up = "6 h" }\n'


def function(name: str, source: str, run: str, of_source: str = "", of_function: str = "", demand: str = "") -> str:
    """A function that one source feeds, and what comes into it."""
    model = f'[functions.{name}]\nmemory = "512 MB"\nrun = "{run}"\ntimeout = "1 min"\n{of_function}\n[{source}.of_{name}]\n{of_source}\n'
    if demand:
        model += f'[demand.{name}]\ninto = "{source}.of_{name}"\n{demand}\n'
    return model + f'[[triggers]]\nfrom = "{source}.of_{name}"\nto = "{name}"\n'


@pytest.fixture
def both(write):
    """The month itself, and a sample of it."""

    def play(model: str, keys: str = ""):
        card = CARD.format(keys=keys, prices=PRICES)
        if "node" in keys:
            card = CARD.format(keys=keys, prices=NODE_PRICES).replace('"runs"', '"nodes"')
        if "instances" in keys:
            card = (
                CARD.format(keys=keys, prices=INSTANCE_PRICES)
                .replace('"runs"', '"reserved"')
                .replace("vcpu_per_gb = 2\n", "")
            )
        loaded = load(write(model, card=card))
        offer = loaded.offers["test.plan"]
        exact = project_plan(loaded, offer, 3, how=Playing(exact=True))
        return exact, project_plan(loaded, offer, 3, how=Playing(sampled_from=0, alike=True))

    return play


def holds(exact, sample) -> None:
    """Every interval holds the month's own figure."""
    sure, truth = sample.confidence, exact.totals
    told = {
        "cost": (sure.cost, float(exact.bill.unrounded)),
        "lost": (sure.lost, truth.lost),
        "left behind": (sure.left_behind, truth.left_behind_share),
        "throttled": (sure.throttled_share, truth.throttled_share),
    }
    for mine, its in zip(sure.functions, exact.measured.units, strict=True):
        told[f"{mine.function} left behind"] = mine.left_behind, totals_of([its]).left_behind_share
        if its.waits.p95 is not None and mine.wait_p95:
            told[f"{mine.function} waits"] = mine.wait_p95, its.waits.p95
    assert {what: its for what, its in told.items() if not its[0][0] - 1e-9 <= its[1] <= its[0][1] + 1e-9} == {}


def test_what_only_schedules_reach_has_the_luck_of_the_month_itself(both):
    # 124 firings of which one in five fails: 148 or 154 attempts are a matter of luck, and of a tenth of the bill.
    nightly = function("charts", "schedules", "20 s", 'cron = "0 */6 * * *"\nitems = 30', "error_rate = 0.2")
    exact, sample = both(nightly + function("gauges", "endpoints", "20 ms", demand='rate = "600 /h"'))
    charts, its = (month.measured.units[0] for month in (sample, exact))
    assert charts.attempts == its.attempts and charts.attempts["failed"] > 10 and charts.busy_ns == its.busy_ns
    holds(exact, sample)


@pytest.mark.parametrize(("instances", "untold"), [(1, ("cameras", "gauges", "maps")), (None, ())])
def test_whose_instances_came_first_to_full_nodes_is_untold(both, instances, untold):
    """Four places on a node: of those who are never idle who came first keeps them, all month."""
    nodes = ON_NODES + PUSH + "nodes_floor = 1\n" + (f"nodes_limit = {instances}\n" if instances else "")
    model = function("gauges", "endpoints", "400 ms", "", "instance_limit = 1", f'rate = "3000 /h"\n{BY_DAY}')
    model += function("cameras", "queues", "400 ms", demand='rate = "3000 /h"\nspread = "bursty"\nburst = 10')
    exact, sample = both(model + function("maps", "topics", "20 ms", "", "", f'rate = "3000 /h"\n{BY_DAY}'), nodes)
    assert sample.untold == untold
    holds(exact, sample)
    # Nor is said how many are refused, which depends on it as well: half of the gauges' requests here, a third in the month.
    assert bool(losses(sample)) != bool(untold) and losses(exact)


def test_a_function_at_its_own_limit_leaves_nothing_open_on_nodes_that_fill_now_and_then(both):
    model = function("gauges", "topics", "2 s", "", "instance_limit = 2", 'rate = "1600 /h"')
    lump = 'rate = "1600 /h"\nlumps = [{ cron = "0 17 * * *", count = 3000 }]'
    model += function("cameras", "queues", "1 s", 'visibility = "6 min"', demand=lump)
    exact, sample = both(model, ON_NODES + PUSH + "nodes_limit = 3\n")
    assert sample.untold == ()
    low, high = sample.confidence.throttled_share
    assert 0.05 < low <= exact.totals.throttled_share <= high < 0.25


def test_a_second_node_that_nobody_saw_may_have_come(both):
    # Five places are wanted at once a few times a month: 744 node hours are surely paid, and now and then a little more.
    model = function("gauges", "topics", "2 s", "", "instance_limit = 2", 'rate = "1600 /h"')
    exact, sample = both(model + function("cameras", "queues", "1 s", demand='rate = "1600 /h"'), ON_NODES + PUSH)
    assert 148.8 < float(exact.bill.unrounded) < 150.5
    holds(exact, sample)


def test_nodes_are_there_when_a_firing_comes_to_them(both):
    # Without the node that the gauges keep up each firing would wait two minutes, and be sent away: 0.4 % of all attempts.
    model = function("gauges", "folders", "200 ms", demand='rate = "300 /h"')
    model += function("charts", "schedules", "8 s", 'cron = "0 */6 * * *"')
    nodes = ON_NODES + PUSH + 'nodes_limit = 1\nnode_start = "2 min"\n'
    exact, sample = both(model, nodes)
    holds(exact, sample)
    assert sample.confidence.throttled_share[1] < 0.001


@pytest.mark.parametrize("visibility", ["6 min", "6 h"])
def test_messages_that_failed_come_back_before_a_stretch_is_read(both, visibility):
    model = function("w", "queues", "400 ms", f'visibility = "{visibility}"', "error_rate = 0.2", 'rate = "2000 /h"')
    exact, sample = both(model)
    holds(exact, sample)
    # 5/4 tries an event, as in the month: where half of those hidden never came back it was a fifth of the cost.
    sure = sample.confidence
    assert sure.cost[1] - sure.cost[0] < 0.06 * float(exact.bill.unrounded)
    tries = sample.totals.attempts["total"] / sample.totals.events["in"]
    assert tries == pytest.approx(1.25, rel=0.01)


def test_waits_in_steps_are_told_as_far_as_the_parts_differ(both):
    # Folders' events that find no room come again after 60 s, then after 180: which of both is the 95th percentile hangs on 1 %.
    model = function("w", "folders", "8 s", "", "instance_limit = 1", f'rate = "40 /h"\n{BY_DAY}')
    holds(*both(model, 'push = { first_wait = "1 min", longest_wait = "5 min", give_up = "6 h" }'))


def test_what_a_call_carries_together_scatters_as_so_many():
    # Compound Poisson: the variance of N calls of 30 events is 30 times their count (N = 1: 30 +- 1.96 x 30).
    assert counted([30.0] * 4, 1.0) == (
        pytest.approx(30 - 1.96 * 30**0.5, abs=0.1),
        pytest.approx(30 + 1.96 * 30**0.5, abs=0.1),
    )
    assert counted([30.0] * 4, 1.0, together=30.0) == (0.0, pytest.approx(30 * 2.96, abs=0.1))


def test_firings_of_many_items_of_which_none_was_seen_to_fail_may_yet(both):
    # 744 firings of 30 items, of which one in 125 fails three times, beside pictures on the same instances: some hours are played.
    reserved = 'instances = 2\ninstance_memory = "2 GB"\ninstance_vcpu = 2\n'
    model = function("charts", "schedules", "2 s", 'cron = "0 * * * *"\nitems = 30', "error_rate = 0.2")
    exact, sample = both(model + function("maps", "topics", "200 ms", demand='rate = "4000 /h"'), reserved)
    assert exact.measured.units[0].events["lost"] > 0
    holds(exact, sample)


def test_firings_into_an_account_that_is_full_find_no_more_room_than_in_the_month(both):
    # The rest is seen to fill the account before it has been played to its end: firings are played among it, not apart.
    keys = 'push = { first_wait = "1 min", longest_wait = "5 min", give_up = "2 h" }\nconcurrency_limit = 2'
    model = function("charts", "schedules", "2 s", 'cron = "0 */6 * * *"', "instance_limit = 1")
    model += function("cameras", "queues", "20 s", "", "", f'rate = "400 /h"\n{BY_DAY}')
    exact, sample = both(model + function("maps", "folders", "8 s", demand='rate = "400 /h"'), keys)
    lost = [month.measured.units[0].events["lost"] for month in (exact, sample)]
    assert lost[0] > 31 and lost[1] == pytest.approx(lost[0], rel=0.35)


def test_hours_stand_for_others_before_which_far_more_waits_as_well(both):
    # A queue that grows for days beside a topic that never clears: hours of the first day stand for all, where it waits for four.
    evening = f"day_shape = [{', '.join(17 * ['0.5'] + 3 * ['3'] + 4 * ['0.5'])}]"
    model = function("maps", "topics", "6 s", "", "instance_limit = 2\ncpu_share = 0", f'rate = "0.5 /s"\n{evening}')
    model += function("cameras", "queues", "6 s", "", "instance_limit = 2\ncpu_share = 0", 'rate = "0.5 /s"')
    exact, sample = both(model, 'push = { first_wait = "10 s", longest_wait = "5 min", give_up = "2 h" }')
    cameras = exact.measured.units[1]
    assert cameras.waits.p95 > 2 * 86_400
    low, high = sample.confidence.functions[1].wait_p95
    assert low <= cameras.waits.p95 <= high and high - low < cameras.waits.p95
