"""A change tried in its part of the estate against the whole month played with it: the same bill, to the last digit."""

from __future__ import annotations

import pytest

from echotally.model.excerpt import Excerpt
from echotally.projection import trial_part
from echotally.projection.loaded import load
from echotally.projection.project import project_plan
from echotally.projection.totals import totals_of
from echotally.projection.trial import Trials
from tests.conftest import rest_by_night
from tests.engine.test_apart import PLANS, estate

PRICES = """
calls = { per = 1000, tiers = [{ up_to = 9000, unit = "0.20" }, { unit = "0.05" }] }
gb_seconds = { unit = "0.00002" }
queue_operations = { per = 1000, unit = "0.4" }
flat_months = { unit = "3" }
"""
ALLOWANCE = "allowance = { calls = 4000, gb_seconds = 900 }"
CHANGES = {
    "memory": (("functions.ask1.memory", "1 GB"),),
    "limit": (("functions.ask2.instance_limit", "1"),),
    "batch": (("triggers.4.batch", "1"),),
    "demand": (("demand.d0.rate", '"0.004 /s"'),),
    "schedule": (("schedules.s1.cron", '"* * * * *"'),),
    "two parts": (("functions.ask0.memory", "1 GB"), ("functions.map2.error_rate", "0.4")),
    "a new queue": (("queues.more.retention", '"1 d"'), ("triggers.1.dead_letter", "")),
    "joined": (("functions.map0.emits", '[{ into = "queues.work1", each = 0.5 }]'),),
    "taken out": (("schedules.s2", ""),),
    "target": (("functions.ask1.targets.wait_p95", "1 ms"), ("functions.ask1.instance_floor", "0")),
}
TARGETS = "[targets]\nlost = 3\nmonthly_cost = '3.1'\nrefused = 0.001\n"


@pytest.fixture
def trials(write):
    def make(keys, rough=False):
        path = write(TARGETS + estate(3, "two"), PLANS[keys] + "\n" + ALLOWANCE, PRICES)
        loaded = load(path)
        base = project_plan(loaded, loaded.offers["test.plan"], 1)
        return path, Trials(loaded, base, 10**9, 10**5, rough=rough)

    return make


@pytest.mark.parametrize("keys", rest_by_night(["free", "shared tokens", "polled", "far limit", "own tokens"], 3))
@pytest.mark.parametrize("change", [c for c in CHANGES if c != "a new queue"])
def test_a_trial_is_the_whole_month_with_the_change(change, keys, trials):
    path, tried = trials(keys)
    before, after = tried.pair(CHANGES[change])
    assert before.cost == tried.base.bill.unrounded and before.totals == tried.base.totals
    assert {c.target for c in before.misses} == {c.target for c in tried.base.misses}
    whole = load(path, CHANGES[change])
    played = project_plan(whole, whole.offers["test.plan"], 1)
    assert after.cost == played.bill.unrounded
    assert after.totals == played.totals == totals_of(played.measured.units)
    assert sorted((c.target, c.function or "", c.found) for c in after.misses) == sorted(
        (c.target, c.function or "", c.found) for c in played.misses
    )


@pytest.mark.parametrize("keys", ["near limit", "few tokens"])
def test_where_parts_are_in_each_others_way_the_whole_month_says(keys, trials):
    assert trials(keys)[1].pair(CHANGES["memory"]) is None


def test_roughly_a_part_has_all_start_tokens_and_still_no_room_beyond_the_limit(trials):
    assert trials("near limit", rough=True)[1].pair(CHANGES["memory"]) is None
    _, tried = trials("few tokens", rough=True)
    members = tried.members("functions.ask1.memory")
    alone = tried.loaded.excerpt(Excerpt(tried.loaded.document, members), CHANGES["memory"])
    played = project_plan(alone, alone.offers["test.plan"], 1)
    _, after = tried.pair(CHANGES["memory"])
    assert {u.unit.function for u in after.part} == members & tried.loaded.model.functions.keys()
    assert [(u.attempts, u.cold_starts) for u in after.part] == [(u.attempts, u.cold_starts) for u in played.units]


def test_what_cannot_be_said_of_a_part_is_left_to_the_whole(trials):
    _, tried = trials("free")
    for sets in (
        (("estate.seed", "4"),),
        (("functions.ask0", ""), ("functions.map0", "")),
        (("functions.ask0.memory", '"-1 MB"'),),
        (("functions.nobody.memory", "1 GB"),),
        (("triggers.99.batch", "2"),),
    ):
        assert tried.pair(sets) is None and tried.loads(sets) is None, sets


def test_an_estate_of_one_part_is_played_whole(write):
    text = estate(1).split("[environments.live]")[0].replace("[topics.loose0]\nfeeds = []\n", "")
    loaded = load(write(text))
    assert Trials(loaded, project_plan(loaded, loaded.offers["test.plan"], 1), 1, 1).pair(CHANGES["demand"]) is None


def test_many_that_never_meet_are_apart_though_their_peaks_add_up_beyond_the_limit(write):
    """Six functions fire at minutes of their own: one call at once in all, six if each one's hourly peak is added up; four may be."""
    text = "".join(
        f'[functions.f{n}]\nmemory = "512 MB"\nrun = "2 s"\n[schedules.s{n}]\ncron = "{7 * n} * * * *"\n'
        f'[[triggers]]\nfrom = "schedules.s{n}"\nto = "f{n}"\n'
        for n in range(6)
    )
    path = write(text, "concurrency_limit = 4\n" + PLANS["free"], PRICES)
    loaded = load(path)
    base = project_plan(loaded, loaded.offers["test.plan"], 1)
    assert base.measured.concurrency.peak == 1 and sum(unit.concurrency.peak for unit in base.units) == 6
    sets = (("functions.f3.memory", "1 GB"),)
    pair = Trials(loaded, base, 10**9, 10**5).pair(sets)
    assert pair is not None and pair[1] is not None
    whole = load(path, sets)
    assert pair[1].cost == project_plan(whole, whole.offers["test.plan"], 1).bill.unrounded
    # Three of one function at once beside one of another: the limit could be met.
    many = tuple((f"functions.f3.{key}", value) for key, value in (("run", "14 min"), ("timeout", "15 min")))
    assert Trials(loaded, base, 10**9, 10**5).pair((*many, ("schedules.s3.cron", "*/5 * * * *"))) is None


@pytest.mark.parametrize(
    ("keys", "ran_out"), [("near limit", ["full"]), ("few tokens", ["short"]), ("far limit", []), ("shared tokens", [])]
)
def test_parts_for_which_nothing_is_left_are_neither_loaded_nor_played_to_say_so(keys, ran_out, trials, monkeypatch):
    _, tried = trials(keys)
    everyone, is_full = set(tried.loaded.model.functions), bool(ran_out)
    found = {"full": tried.full, "short": [*filter(tried.tokens.ran_short, tried.tokens.taken)]}
    assert [what for what, accounts in found.items() if accounts] == ran_out
    loaded = []
    monkeypatch.setattr(trial_part, "Excerpt", lambda *given: loaded.append(given) or Excerpt(*given))
    played = {name: set(tried.functions_played(((f"functions.{name}.memory", "1 GB"),))) for name in sorted(everyone)}
    assert bool(loaded) is not is_full
    assert all((found == everyone) is is_full and name in found for name, found in played.items())
