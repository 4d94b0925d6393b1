"""Schedules that fire many times a minute are sampled with the rest: firings to the last one, the rest within its interval."""

from __future__ import annotations

import json
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from echotally.demand.clock import month_clock
from echotally.demand.month import Tap
from echotally.demand.stretches import Stretches
from echotally.engine.sampling import estimate, spared_events, untold
from echotally.engine.sampling.ticking import MINUTE, Ticks, _may_tick, _ticks, lasting, patterns
from echotally.model.sources import SourceRef
from echotally.projection.loaded import load, placement_on
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from tests.conftest import run_program

HOURS = month_clock("2027-03", "Europe/Dublin").local_hours()[:4]
MODEL = """
[functions.a]
memory = "512 MB"
run = {{ median = "300 ms", p95 = "900 ms" }}
[functions.b]
memory = "512 MB"
run = "80 ms"
[functions.c]
memory = "256 MB"
run = "5 s"
[endpoints.e]
[schedules.often]
cron = "{often}"
seconds = true
[schedules.by-day]
cron = "{by_day}"
seconds = true
[schedules.nightly]
cron = "30 2 * * *"
[demand.d]
into = "endpoints.e"
rate = "0.2 /s"
day_shape = [1, 1, 1, 1, 1, 1, 2, 3, 4, 4, 4, 4, 4, 4, 4, 4, 4, 4, 4, 3, 2, 2, 1, 1]
surges = [{{ at = "2027-03-09T10:17:13", lasts = "2 h", times = 3 }}]
[[triggers]]
from = "endpoints.e"
to = "a"
[[triggers]]
from = "schedules.often"
to = "a"
[[triggers]]
from = "schedules.by-day"
to = "b"
[[triggers]]
from = "schedules.nightly"
to = "c"
"""


def tap(at: np.ndarray) -> Tap:
    return Tap("s", "live", SourceRef("schedules.s"), "counted", "even", Stretches.at(at))


@given(st.lists(st.sets(st.integers(0, 59), max_size=4), min_size=240, max_size=240), st.integers(0, 3))
def test_an_hour_ticks_where_each_of_its_minutes_has_the_same_firings(minutes, alike):
    # One hour of four is made alike, or else hardly any would be.
    minutes[60 * alike : 60 * alike + 60] = [minutes[60 * alike]] * 60
    at = np.array([n * MINUTE + s * 10**9 for n, seconds in enumerate(minutes) for s in sorted(seconds)], np.int64)
    for n, found in enumerate(patterns(tap(at), HOURS)):
        own = minutes[60 * n : 60 * n + 60]
        same = all(each == own[0] for each in own)
        assert (None if found is None else np.frombuffer(found, np.int64).tolist()) == (
            [s * 10**9 for s in sorted(own[0])] if same else None
        )


@settings(max_examples=200)
@given(
    st.lists(st.sampled_from([(), (0,), (7, 30), tuple(range(60))]), min_size=4, max_size=4),
    st.lists(st.tuples(st.integers(0, 239), st.integers(0, 59)), max_size=12),
)
def test_how_often_it_fires_in_each_hour_rules_out_none_that_ticks(hours, odd):
    at = {60 * n + minute: set(each) for n, each in enumerate(hours) for minute in range(60)}
    for minute, second in odd:
        at[minute] ^= {second}
    mine = tap(np.array([n * MINUTE + s * 10**9 for n, seconds in at.items() for s in sorted(seconds)], np.int64))
    if len(mine.stretches):
        assert _may_tick(mine, HOURS) or not _ticks(mine, patterns(mine, HOURS), HOURS)


def test_a_schedule_of_every_five_minutes_is_ruled_out_by_how_often_it_fires():
    every = np.arange(48, dtype=np.int64) * 5 * MINUTE
    assert not _may_tick(tap(every), HOURS)
    assert _may_tick(tap(np.arange(240, dtype=np.int64) * MINUTE), HOURS)


@given(st.sets(st.integers(0, MINUTE - 1), min_size=1, max_size=6), st.integers(1, 5 * MINUTE))
def test_a_stretch_has_the_firings_of_its_minutes_up_to_its_end(offsets, length):
    found = lasting(np.array(sorted(offsets), np.int64).tobytes(), length)
    assert found.are_instants
    assert found.start_ns.tolist() == [at for n in range(6) for o in sorted(offsets) if (at := n * MINUTE + o) < length]


@pytest.mark.parametrize(
    ("often", "by_day", "a_month", "in_day"),
    [
        ("*/2 * * * * *", "*/5 * 7-18 * * *", 743 * 1_800, 31 * 12 * 720),
        # Half of its hour it fires and half not: that hour is played as it is.
        ("*/2 * * * * *", "* 0-29 8 * * *", 743 * 1_800, 31 * 1_800),
        # 01:00 to 02:00 is missing on the 28th, in an hour that it fires in or not.
        ("0-40/4,55 * * * * *", "*/3 * 1 * * *", 743 * 60 * 12, 30 * 1_200),
    ],
)
def test_firings_are_counted_to_the_last_one_and_what_they_cost_is_within_its_interval(
    write, monkeypatch, often, by_day, a_month, in_day
):
    monkeypatch.setattr("echotally.engine.sampling.ticking._OFTEN", 400_000)
    loaded = load(write(MODEL.format(often=often, by_day=by_day), zone="Europe/Dublin"))
    offer = loaded.offers["test.plan"]
    assert {t.source.name for t in Ticks(loaded.month).taps} >= {"often"}
    exact, sample = (project_plan(loaded, offer, 1, how=Playing(sampled_from=n)) for n in (10**9, 1_000))
    assert (exact.method, sample.method) == ("exact", "sampled")
    fired = [{u.unit.function: u for u in plan.measured.units}["b"].events["in"] for plan in (exact, sample)]
    assert fired == [in_day, in_day]
    # What one schedule brings beside demand: its own firings, and as much demand as a sample of Poisson arrivals has.
    demand = sum(t.expected for t in loaded.month.taps if t.demand)
    came = {u.unit.function: u for u in sample.measured.units}["a"].events["in"]
    assert came - a_month == pytest.approx(demand, rel=0.03)
    low, high = sample.confidence.cost
    assert low <= float(exact.bill.unrounded) <= high
    assert sample.confidence.untold == ()


def test_few_firings_are_played_whole_and_those_that_differ_by_the_minute_too(write, monkeypatch):
    loaded = load(write(MODEL.format(often="*/7 * * * * *", by_day="0 * * * * *")))
    assert Ticks(loaded.month).taps == []
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    demand = sum(t.expected for t in loaded.month.taps if t.demand)
    assert spared_events(loaded.model, loaded.month, placement) == pytest.approx(demand)
    monkeypatch.setattr("echotally.engine.sampling.ticking._OFTEN", 1_000)
    # 0, 7, ... 56 and then 0 again: not evenly, but in every minute alike.
    assert {t.source.name for t in Ticks(loaded.month).taps} == {"often", "by-day"}


def part(came: list[float], ended: list[float]) -> SimpleNamespace:
    units = [SimpleNamespace(function=name) for name in "ab"]
    less = np.array(came) - np.array(ended)
    return SimpleNamespace(
        arrived=np.array(came), left=np.zeros(2), built=SimpleNamespace(units=units), come_less_ended=lambda: less
    )


@pytest.mark.parametrize(
    ("came", "ended", "told"),
    [
        ([1e6, 1e6], [1e6, 1e6], set()),
        # A thousandth is noise, of a few events any share is.
        ([1e6, 50.0], [0.999e6, 40.0], set()),
        ([1e6, 1e6], [0.6e6, 1.001e6], {"a"}),
    ],
)
def test_what_neither_ended_nor_is_known_to_be_left_is_told_of(came, ended, told):
    parts = [part(came, ended) for _ in range(4)]
    assert untold.left_out(parts) == told
    for each in parts:
        # Nothing is lost: what came and did not end is left over.
        assert each.left[0] == (came[0] - ended[0] if told else 0)


STARVED = """
[functions.first]
memory = "1 GB"
run = "2 s"
[functions.second]
memory = "1 GB"
run = "2 s"
[queues.one]
[queues.two]
[demand.d]
into = "queues.one"
rate = "3 /s"
[demand.e]
into = "queues.two"
rate = "3 /s"
[[triggers]]
from = "queues.one"
to = "first"
[[triggers]]
from = "queues.two"
to = "second"
"""


@pytest.mark.parametrize(
    ("rate", "keys", "played", "beside"),
    [
        # Two times 2,678,400 s: 42.9 million events are too many to be played one by one, 16.1 million are not.
        ("8 /s", "", "sampled", False),
        ("8 /s", "concurrency_limit = 35", "sampled", True),
        ("3 /s", "", "exact", False),
    ],
)
def test_what_a_sample_does_not_tell_is_played_or_said_first(write, monkeypatch, rate, keys, played, beside):
    path = write(STARVED.replace("3 /s", rate), keys=keys)
    monkeypatch.setattr(estimate, "left_out", lambda *_: frozenset({"second"}))
    plan = project_plan(loaded := load(path), loaded.offers["test.plan"], 1, how=Playing(sampled_from=1))
    assert plan.method == played
    if played == "exact":
        assert not plan.untold
        return
    assert plan.untold == ("second",)
    own, other = sorted(plan.confidence.functions, key=lambda f: f.function != "second")
    # Any of its events may have ended in any way; of the other function as much is known as ever, unless both want 32 of 35 places.
    assert own.left_behind == (0.0, pytest.approx(1.0, abs=0.01)) and (other.left_behind[1] > 0.01) == beside
    sure, everything = plan.confidence, plan.totals.events["in"]
    assert sure.left_behind[0] == 0.0 and sure.left_behind[1] > 0.4 and sure.throttled_share[1] == 1.0
    assert sure.lost[1] > 0.4 * everything
    # Each pays half: none of the one's may be handled, or of both.
    assert sure.cost[0] <= float(plan.bill.unrounded) * (0.01 if beside else 0.51)
    if beside:
        return
    said = run_program("project", str(path), cwd=path.parent).stdout.split("Plans side by side")[0]
    assert "less gets done than comes to second: how much less a sample does not tell" in " ".join(said.split())
    answer = json.loads(run_program("project", str(path), "--format", "json", cwd=path.parent).stdout)
    assert answer["plans"][0]["confidence"]["untold"] == ["second"]


def test_a_month_of_firings_alone_is_sampled_to_the_last_one(write):
    """Sixteen schedules a second: 42,854,400 firings in 744 hours."""
    model = ""
    for n in range(16):
        model += f'[functions.f{n}]\nmemory = "256 MB"\nrun = "50 ms"\n[schedules.s{n}]\nevery = "1 s"\n'
        model += f'[[triggers]]\nfrom = "schedules.s{n}"\nto = "f{n}"\n'
    done = run_program("project", str(path := write(model)), "--format", "json", cwd=path.parent)
    assert done.returncode == 0, done.stderr
    (plan,) = json.loads(done.stdout)["plans"]
    assert sum(f["events"]["in"] for f in plan["functions"]) == 42_854_400 and plan["confidence"]["untold"] == []
