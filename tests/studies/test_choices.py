"""The choice of plans and sizes against brute force."""

from __future__ import annotations

import itertools
import json
import random
import weakref
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from echotally.engine.machines import HERE
from echotally.errors import BadInput, Problem, TooLarge
from echotally.model.writing import with_values
from echotally.output.studies.choose_view import choose_json, choose_verdict
from echotally.projection.answer import PlayedPlan, RefusedPlan
from echotally.projection.loaded import load
from echotally.projection.project import project
from echotally.projection.trial import Trials
from echotally.studies import assigned, size_trials
from echotally.studies.assigned import AssignedMonths
from echotally.studies.choose import _Chooser, choose
from echotally.studies.holding import SomeMonths, holding
from tests.conftest import rest_by_night, run_program
from tests.engine import test_apart
from tests.studies.made_up_plans import FIXED, QUEUED, RUNS


def small_estate(seed: int) -> tuple[str, list[str]]:
    """Two or three functions and plans with random prices: some better for many calls, some for long runs."""
    rng = random.Random(seed)
    model = ""
    for name in ["f", "g", "h"][: rng.choice([2, 3])]:
        model += (
            f'[functions.{name}]\nmemory = "{rng.choice(["256 MB", "512 MB"])}"\nrun = "{rng.choice([1, 5, 20])} s"\ncpu_share = 0\n'
            f'cold_start = "0 ms"\n[queues.{name}]\nvisibility = "1 min"\n[demand.{name}]\ninto = "queues.{name}"\nspread = "even"\n'
            f'monthly = {rng.choice([50, 400, 3_000])}\n[[triggers]]\nfrom = "queues.{name}"\nto = "{name}"\n'
        )
    plans = [
        RUNS.format(
            name=f"p{n}",
            calls=f"{rng.uniform(0, 0.02):.4f}",
            seconds=f"{rng.uniform(0, 0.004):.5f}",
            free=rng.choice([0, 300]),
        )
        for n in range(2)
    ]
    plans.append(FIXED.format(name="flat", hour=f"{rng.uniform(0.01, 0.08):.3f}", calls=f"{rng.uniform(0, 0.004):.4f}"))
    return model, plans


@pytest.mark.parametrize("seed", rest_by_night(range(20), 12))
def test_the_choice_is_the_one_that_brute_force_finds(estate, seed):
    model, plans = small_estate(seed)
    path = estate(model, *plans)
    loaded = load(path)
    costs: dict[tuple[str, ...], Decimal] = {}
    for assignment in itertools.product(loaded.offers, repeat=len(loaded.model.functions)):
        pins = [(f"functions.{name}.plan", plan) for name, plan in zip(loaded.model.functions, assignment, strict=True)]
        costs[assignment] = project(path, pins, [assignment[0]]).plans[0].bill.unrounded
    found = choose(path, sizes=False)
    assert found.chosen.bill.unrounded == min(costs.values())
    assert found.bound is None
    again = project(path, found.sets, [next(iter(found.assignment.values()))]).plans[0]
    assert again.bill.unrounded == found.chosen.bill.unrounded


def test_where_the_best_estimates_miss_a_target_the_others_still_leave_the_dear_plan(estate):
    # Five functions, two plans: two calls at a time for 7.44, or 0.01 a call. By cost alone the sixteen best have all of f's 4,000
    # calls, which come two hundred at once and may wait a second, on the first.
    lumps = ", ".join(f'{{ at = "2027-03-{day:02}T00:00", count = 200 }}' for day in range(1, 21))
    model = "[functions.f.targets]\nwait_p95 = '1 s'\n"
    for name, demand in (("f", f"lumps = [{lumps}]"), *((name, 'monthly = 300\nspread = "even"') for name in "ghij")):
        model += (
            f'[functions.{name}]\nmemory = "512 MB"\nrun = "2 s"\ncpu_share = 0\ncold_start = "0 ms"\n[queues.{name}]\n'
            f'[demand.{name}]\ninto = "queues.{name}"\n{demand}\n[[triggers]]\nfrom = "queues.{name}"\nto = "{name}"\nreaders = 500\n'
        )
    small = FIXED.format(name="small", hour="0.01", calls="0").replace("64 GB", "1 GB")
    path = estate(model, RUNS.format(name="each", calls="0.01", seconds="0", free=0), small)
    found = choose(path, sizes=False)
    assert found.assignment == {"f": "c.each", **dict.fromkeys("ghij", "c.small")}
    assert found.chosen.bill.unrounded == Decimal("47.44") and not found.chosen.misses
    # Today, the only single plan that meets the target: 5,200 calls of 0.01.
    assert found.today.bill.unrounded == 52


def test_many_assignments_are_searched_with_a_bound_below_the_answer(estate, monkeypatch):
    model, plans = small_estate(3)
    path = estate(model, *plans)
    every = choose(path, sizes=False)
    monkeypatch.setattr("echotally.studies.assignments._ALL", 1)
    searched = choose(path, sizes=False)
    assert searched.bound is not None
    assert searched.bound <= every.chosen.bill.unrounded <= searched.chosen.bill.unrounded
    assert "descent" in searched.method


SIZED = """
[functions.f]
memory = "512 MB"
memory_used = "200 MB"
run = "1 s"
cpu_share = 0
instance_limit = 50
cold_start = "0 ms"
[endpoints.e]
[demand.d]
into = "endpoints.e"
lumps = [{ at = "2027-03-05T00:00", count = 7 }]
[[triggers]]
from = "endpoints.e"
to = "f"
[targets]
refused = 0
"""


def test_sizes_are_the_smallest_that_keep_the_targets(estate):
    # Seven requests at once, none may be refused: seven instances; 200 MB fit into 256 MB, at half the GB-seconds.
    path = estate(SIZED, RUNS.format(name="each", calls="0", seconds="1", free=0))
    found = choose(path)
    assert dict(found.sets) == {
        "functions.f.plan": "c.each",
        "functions.f.memory": "256 MB",
        "functions.f.instance_limit": "7",
    }
    assert found.chosen.bill.unrounded * 2 == found.today.bill.unrounded


def test_the_program_prints_the_change_and_writes_it_with_comments_kept(estate, tmp_path):
    path = estate("# a comment that stays\n" + SIZED, RUNS.format(name="each", calls="0", seconds="1", free=0))
    done = run_program("choose", "m.toml", "--write", "--width", "200", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "--set 'functions.f.memory=256 MB'" in done.stdout
    assert "every assignment was looked at" in done.stdout
    text = path.read_text()
    assert "# a comment that stays" in text
    assert 'memory = "256 MB"' in text
    data = json.loads(run_program("choose", "m.toml", "--format", "json", cwd=tmp_path).stdout)
    assert data["set"] == []
    assert data["chosen"]["cost"] == data["today"]["cost"]


def test_values_are_written_into_tables_arrays_and_new_tables():
    text = '[functions.f] # here\nmemory = "1 GB"\n[[triggers]]\nto = "f" # there\n'
    sets = [("functions.f.memory", "2 GB"), ("triggers.0.batch", "5"), ("environments.live.demand", "0.5")]
    written = with_values(text, sets)
    assert 'memory = "2 GB"' in written
    assert "batch = 5" in written
    assert "# here" in written and "# there" in written
    assert "demand = 0.5" in written
    with pytest.raises(BadInput, match="plain value"):
        with_values(text, [("functions.f.memory.x", "1")])


def test_what_small_samples_decided_is_decided_again_in_the_month(estate, monkeypatch):
    model, plans = small_estate(3)
    path = estate(model, *plans)
    best = choose(path, sizes=False)
    played, asked = AssignedMonths.try_out, []

    def misled(self, assignment, sets=(), *, rough=False, **how):
        found = played(self, assignment, sets, rough=False, **how)
        asked.append(rough)
        if not rough or not isinstance(found, PlayedPlan):
            return found
        # A sample in which everything that is not the best costs next to nothing.
        cost = found.bill.unrounded * (1 if assignment == best.assignment else Decimal("0.001"))
        return replace(found, bill=replace(found.bill, unrounded=cost))

    monkeypatch.setattr(AssignedMonths, "large", True)
    monkeypatch.setattr(AssignedMonths, "try_out", misled)
    again = choose(path, sizes=False)
    assert {True, False} <= set(asked)
    # Of what seemed cheap the cheapest, and never dearer than today's month as it is told.
    assert again.chosen.bill.unrounded == again.assigned <= again.today.bill.unrounded
    assert (
        again.chosen.bill.unrounded
        == played(AssignedMonths(again.loaded, 7, lambda month, _: month), again.assignment).bill.unrounded
    )


def test_today_of_a_large_month_is_looked_for_among_plans_that_samples_do_not_tell_from_the_best(estate, monkeypatch):
    plans = [RUNS.format(name=name, calls=calls, seconds="0", free=0) for name, calls in (("a", "1"), ("b", "3"))]
    path = estate(SIZED, *plans)
    expected, tried = choose(path, sizes=False).today, []
    monkeypatch.setattr(AssignedMonths, "large", True)
    played = assigned.project_plan
    monkeypatch.setattr(
        assigned,
        "project_plan",
        lambda *a, how, **more: tried.append((a[1].name, how.sampled_from)) or played(*a, how=how, **more),
    )
    chooser = _Chooser(load(path), 7, None, HERE)
    assert chooser.today().bill == expected.bill
    # Both as samples, and as the month is played only what may be the best.
    assert sorted(tried[:2]) == [("c.a", 0), ("c.b", 0)] and tried[2:] == [("c.a", None)]


def test_of_what_is_too_large_for_a_sample_the_month_itself_is_played(estate, monkeypatch):
    path = estate(SIZED, RUNS.format(name="each", calls="0", seconds="1", free=0))
    played = assigned.project_plan

    def refused(*given, how, **more):
        if how.sampled_from == 0:
            raise TooLarge([])
        return played(*given, how=how, **more)

    monkeypatch.setattr(AssignedMonths, "large", True)
    monkeypatch.setattr(assigned, "project_plan", refused)
    months = AssignedMonths(load(path), 7, lambda month, _: month)
    found = months.play({"f": "c.each"}, rough=True)
    assert found.confidence is None and found is months.play({"f": "c.each"})


@pytest.mark.parametrize("large", [True, False])
def test_a_plan_whose_month_is_too_large_even_for_a_sample_is_left_out_and_said_to_be(estate, monkeypatch, large):
    path = estate(
        SIZED, "".join(RUNS.format(name=n, calls="0", seconds=s, free=0) for n, s in (("a", "1"), ("b", "2")))
    )
    played, those = assigned.project_plan, {"c.a"}

    def refused(loaded, *given, **how):
        if not those.isdisjoint(function.plan for function in loaded.model.functions.values()):
            raise TooLarge(Problem("expects too many events", "2027-03", allowed="--exact plays them all"))
        return played(loaded, *given, **how)

    monkeypatch.setattr(AssignedMonths, "large", large)
    monkeypatch.setattr(assigned, "project_plan", refused)
    found = choose(path)
    # The cheaper of the two is the one that nobody knows of.
    assert found.unplayed == ("c.a",) and found.assignment == {"f": "c.b"} and found.today.offer.name == "c.b"
    said = choose_verdict(found)
    assert said[1].startswith("c.a was not played, and may cost less") and json.loads(choose_json(found))[
        "unplayed"
    ] == ["c.a"]
    assert "every assignment on plans that were played was looked at" in said[-1]
    those.add("c.b")
    with pytest.raises(TooLarge, match="expects too many events"):
        choose(path)


def test_a_size_that_does_not_hold_in_the_month_is_left_out_alone(estate, monkeypatch):
    # With one instance six of seven requests are refused: that size goes, the others stay.
    path = estate(SIZED, RUNS.format(name="each", calls="0", seconds="1", free=0))
    sizes = (
        ("functions.f.memory", "256 MB"),
        ("functions.f.instance_limit", "1"),
        ("functions.f.timeout", "20 s"),
        ("functions.f.instance_limit", "6"),
        ("functions.f.error_rate", "0"),
    )
    monkeypatch.setattr(_Chooser, "sizes", lambda self, assignment: sizes)
    found = choose(path)
    assert found.sets == (("functions.f.plan", "c.each"), sizes[0], sizes[2], sizes[4])
    assert not found.chosen.misses


WAITING = f"""{QUEUED}lumps = [{{ at = "2027-03-05T00:00", count = 500 }}]
[[triggers]]
from = "queues.q"
to = "f"
readers = 50
[targets]
throttled = 0.5
"""


def test_work_that_comes_to_wait_without_a_target_is_told(estate):
    path = estate(WAITING, RUNS.format(name="each", calls="0", seconds="1", free=0))
    found = choose(path)
    # One instance takes them one after the other, a second each: 475 of 500 are there within 474 s.
    assert ("functions.f.instance_limit", "1") in found.sets
    [(name, today, chosen)] = found.made_to_wait()
    assert name == "f" and today == pytest.approx(9, rel=0.02) and chosen == pytest.approx(474, rel=0.01)
    assert "No target says how long work may wait: f would wait" in "\n".join(choose_verdict(found))
    assert not choose(path, [("targets.wait_p95", "1 h")]).made_to_wait()


def test_sizes_are_the_same_whether_parts_or_the_whole_month_are_played(write, monkeypatch):
    # Three parts in each of two environments; a batch of three that may be smaller, limits of four.
    path = write(test_apart.estate(3))
    # Long runs, so that the second and third part need more than one instance.
    sets = [
        (f"functions.ask{n}.{key}", value)
        for n in (1, 2)
        for key, value in (("run", '{ mean = "400 s", shape = "exponential" }'), ("timeout", "2 h"))
    ]
    in_parts = choose(path, sets)
    with monkeypatch.context() as many:
        # As of many functions: each part by whichever process is free.
        many.setattr("echotally.studies.choose._MANY", 1)
        by_part = choose(path, sets)
        assert sorted(by_part.sets) == sorted(in_parts.sets) and by_part.played == in_parts.played
        many.setattr(Trials, "pair", lambda *arguments: None)
        assert choose(path, sets).sets == in_parts.sets
    monkeypatch.setattr(Trials, "pair", lambda *arguments: None)
    assert choose(path, sets).sets == in_parts.sets
    limits = [address for address, _ in in_parts.sets if address.endswith(".instance_limit")]
    assert {f"functions.ask{n}.instance_limit" for n in range(3)} & set(limits)


def test_sizes_that_only_whole_months_tell_are_tried_as_far_as_work_allows_and_the_rest_is_said(estate, monkeypatch):
    path = estate(SIZED, RUNS.format(name="each", calls="0", seconds="1", free=0))
    monkeypatch.setattr(Trials, "pair", lambda *arguments: None)
    every = choose(path)
    assert not every.unsized and "Not every size" not in "\n".join(choose_verdict(every))
    monkeypatch.setattr(size_trials, "_WORK", 0)
    none = choose(path)
    # No size without the month that it was tried in.
    assert none.unsized == ("f",) and none.sets == (("functions.f.plan", "c.each"),)
    assert none.played < every.played and json.loads(choose_json(none))["unsized"] == ["f"]
    assert "Not every size of 1 function(s) was tried, as each takes the whole month: f." in choose_verdict(none)


def test_months_of_very_large_estates_are_played_once_and_kept_by_what_is_asked_of_them(estate, monkeypatch):
    model, plans = small_estate(3)
    path = estate(model, *plans)
    small = choose(path)
    real, played = AssignedMonths.try_out, []

    def counted(self, assignment, sets=(), **words):
        played.append((tuple(assignment.values()), sets))
        return real(self, assignment, sets, **words)

    monkeypatch.setattr(assigned, "MANY", 1)
    monkeypatch.setattr(AssignedMonths, "try_out", counted)
    large = choose(path)
    same = [replace(found, played=0) for found in (small, large)]
    assert choose_json(same[0]) == choose_json(same[1]) and same[0].assigned == same[1].assigned
    # Today's month and the chosen one are wanted whole in the end, the chosen one's also to lay plans and sizes beside.
    assert max(played.count(each) for each in set(played)) <= 5
    assert sum(played.count(each) > 1 for each in set(played)) <= 2


@given(st.sets(st.integers(0, 11)), st.integers(0, 30), st.integers(1, 4))
def test_changes_that_hold_are_looked_for_in_so_many_months_and_what_is_kept_was_played(bad, most, width):
    changes = [(f"functions.f{n}.memory", "128 MB") for n in range(12)]
    asked = []

    def played(some):
        asked.append(some)
        return sum(changes.index(each) in bad for each in some), some

    def is_no_worse(new, old):
        return new[0] <= old[0]

    every = holding((0, ()), changes, SomeMonths(played, 1_000), is_no_worse)
    asked.clear()
    some = SomeMonths(played, most, width)
    month, kept = holding((0, ()), changes, some, is_no_worse)
    assert len(asked) <= most and month == (0, kept) and not {changes.index(each) for each in kept} & bad
    # Where nothing was refused it is what any number of months would have found.
    assert some.refused or (month, kept) == every


@given(st.sets(st.integers(0, 11)), st.integers(1, 4))
def test_changes_that_are_blamed_are_found_in_fewer_months_and_the_rest_are_kept(bad, width):
    changes = [(f"functions.f{n}.memory", "128 MB") for n in range(12)]
    asked = []

    def played(some):
        asked.append(some)
        return frozenset(changes.index(each) for each in some) & bad, some

    def is_no_worse(new, old):
        return len(new[0]) <= len(old[0])

    months = SomeMonths(played, 1_000, width)
    month, kept = holding(
        (frozenset(), ()),
        changes,
        months,
        is_no_worse,
        lambda some, new, _: [changes.index(one) in new[0] for one in some],
    )
    # Those that come after the fourth bad one are not looked at; the good ones come before all of them.
    assert kept == tuple(each for n, each in enumerate(changes) if n not in bad)
    assert month == (frozenset(), kept)
    # The whole, and for each bad one a search among those that are blamed and the whole without it.
    assert len(asked) <= 1 + 4 * (1 + width * 4)
    if len(bad) == 1:
        # The whole, and everything but what is blamed.
        assert len(asked) <= 1 + width


def test_a_size_that_misses_a_target_by_more_is_none_though_it_saves_money_and_the_target_is_missed_anyway(estate):
    # For two hours 4 messages a second, of which two instances hand on 2 and one hands on 1; the queue keeps them no longer.
    model = QUEUED.replace("[queues.q]", 'instance_limit = 2\n[queues.q]\nretention = "1 h"') + (
        'spread = "even"\nrate = "4 /s"\nsurges = [{ at = "2027-03-01T02:00", lasts = "31 d", times = 0 }]\n'
        '[[triggers]]\nfrom = "queues.q"\nto = "f"\nbatch = 1\n[targets]\nleft_behind = 0.01\n'
    )
    path = estate(model, RUNS.format(name="p", calls="0.01", seconds="0.001", free=0))
    found = choose(path, sizes=True)
    assert not any(address.endswith("instance_limit") for address, _ in found.sets)
    (fewer,) = project(path, [("functions.f.instance_limit", "1")]).played
    then, now = fewer.misses[0], found.chosen.misses[0]
    assert then.of == now.of and then.found > now.found and len(fewer.misses) == len(found.chosen.misses)
    assert fewer.bill.unrounded < found.chosen.bill.unrounded


@pytest.mark.parametrize("rough", [False, True])
def test_what_was_played_of_a_month_that_is_too_large_is_let_go(estate, monkeypatch, rough):
    class World:
        """What had been played."""

    path = estate(SIZED, *[RUNS.format(name=name, calls="1", seconds="0", free=0) for name in ("a", "b")])
    worlds, alive = [], []

    def refused(*_, how, **more):
        alive.append([its() for its in worlds if its()])
        world = World()
        worlds.append(weakref.ref(world))
        raise TooLarge("a month of so many events")

    monkeypatch.setattr(assigned, "project_plan", refused)
    monkeypatch.setattr(AssignedMonths, "large", True)
    loaded = load(path)
    months = AssignedMonths(loaded, 7, lambda month, _: month)
    for plan in ("c.a", "c.b"):
        assert isinstance(months.try_out(dict.fromkeys(loaded.model.functions, plan), rough=rough), RefusedPlan)
    # As a sample first, then itself: each after what was there before is gone.
    assert len(worlds) == (4 if rough else 2) and not any(alive)
    with pytest.raises(TooLarge, match="so many events"):
        months.play(dict.fromkeys(loaded.model.functions, "c.a"))


def test_a_function_that_no_plan_takes_is_named_where_the_others_have_plans(estate):
    # The plan ends runs at a second.
    functions = (
        f'[functions.{name}]\nmemory = "512 MB"\nrun = "1 s"\ntimeout = "{timeout}"\n[endpoints.{name}]\n[demand.{name}]\n'
        f'into = "endpoints.{name}"\nmonthly = 10\n[[triggers]]\nfrom = "endpoints.{name}"\nto = "{name}"\n'
        for name, timeout in (("f", "1 s"), ("g", "5 s"))
    )
    short = RUNS.format(name="p", calls="0.1", seconds="0.1", free=0).replace(
        'bills = "runs"', 'bills = "runs"\ntimeout_limit = "1 s"'
    )
    with pytest.raises(BadInput, match="no plan can take g;"):
        choose(estate("".join(functions), short))
