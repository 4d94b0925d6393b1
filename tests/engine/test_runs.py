"""Hours that hand on what was sent away: those with the same past stand for each other, and a month of them is a month."""

from __future__ import annotations

import sys
from collections import Counter
from random import Random
from types import SimpleNamespace

import numpy as np
import pytest

from echotally.engine.apart import simulate_month
from echotally.engine.play import Wanted
from echotally.engine.sampling import following, runs
from echotally.engine.sampling.expecting import sent_away
from echotally.engine.sampling.hours import play_hours
from echotally.engine.sampling.laying import KeptFull
from echotally.engine.sampling.played import EMPTY
from echotally.engine.sampling.runs import _LONGEST, Past, Runs, remembered_ns
from echotally.engine.sampling.strata import Cut, Segment
from echotally.engine.watch import Bounds
from echotally.errors import Crowded
from echotally.projection.loaded import load, placement_on
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from echotally.projection.tables import figures

HOUR = 3_600 * 10**9
BY_DAY = "day_shape = [" + ", ".join(["0.3"] * 8 + ["2.6"] * 8 + ["0.2"] * 8) + "]"


@pytest.mark.parametrize("seed", range(12))
def test_pasts_are_the_same_where_the_same_segments_follow_on_each_other(seed: int) -> None:
    chance = Random(seed)
    segments, at = [], 0
    for n in range(chance.choice([1, 40, 300])):
        lasts = chance.choice([HOUR, HOUR, HOUR // 2])
        group = chance.randrange(chance.choice([1, 2, 3]))
        segments.append(Segment(at, at + lasts, n, group if chance.random() < 0.9 else None, 0))
        at += lasts
    past = Past(Cut([], segments, []), chance.choice([0, HOUR, 5 * HOUR + 1, 24 * HOUR]))
    alike = [(s.group, s.end_ns - s.start_ns) for s in segments]
    seen: dict[object, set[object]] = {}
    for n in range(len(segments)):
        began = chance.randrange(n + 1)
        first = past.first(n, began)
        assert first == next(
            k for k in range(began, n + 1) if segments[k].start_ns >= segments[n].start_ns - past.reaches_ns
        )
        window = tuple(alike[first : n + 1])
        seen.setdefault((window, first == began), set()).add(past.of(n, began, EMPTY))
        # A run begins where it does for what comes before it.
        longer = tuple(alike[first - (first == began) : n + 1]) if first else window
        every = Counter(tuple(alike[k : k + len(longer)]) for k in range(len(alike) + 1 - len(longer)))
        assert past.times(n, began) == (every[longer] if first or began else 1)
    assert all(len(keys) == 1 for keys in seen.values())
    assert len({key for keys in seen.values() for key in keys}) == len(seen)


def test_a_very_long_past_is_one_of_its_own() -> None:
    segments = [Segment(n * HOUR, (n + 1) * HOUR, n, 0) for n in range(_LONGEST + 50)]
    past, last = Past(Cut([], segments, []), _LONGEST * HOUR), len(segments) - 1
    assert past.times(_LONGEST, 2) > 1 and past.times(last, 2) == past.times(last - 1, 2) == 1
    assert past.of(last, 2, EMPTY) != past.of(last - 1, 2, EMPTY)


@pytest.mark.parametrize(
    ("come", "held", "much"),
    [
        # Twice what comes in a minute, two batches, and a few by chance.
        (12, 4, False),
        (30, 7, False),
        (30, 8, True),
        (6_000, 230, False),
        (6_000, 260, True),
        # Hardly any has been let go.
        (5, 4, True),
        (1, 1, False),
    ],
)
def test_what_is_held_by_chance_is_not_much(come, held, much):
    past = Past(Cut([], [Segment(0, HOUR, 0, 0)], []), HOUR)
    lanes = SimpleNamespace(batch=np.array([1.0]), filling_ns=np.array([0.0]))
    runs = Runs(SimpleNamespace(lanes=lanes), past, 0, [], [], set())
    hours = SimpleNamespace(segments=1, come=np.array([float(come)]), held=np.array([float(held)]))
    assert (hours.held > runs.much(hours, 0)).tolist() == [much]


def overloaded(rate: str, more: str = "", source: str = "") -> str:
    """A folder whose pictures come faster than two instances can take them, one a minute each."""
    return f"""
[functions.f]
memory = "512 MB"
run = "1 min"
timeout = "2 min"
instance_limit = 2
[folders.b]
[demand.d]
into = "folders.b"
rate = "{rate}"
{more}
[[triggers]]
from = "folders.b"
to = "f"
{source}"""


KEYS = 'push = { first_wait = "5 s", longest_wait = "30 s", give_up = "30 min" }'


def test_what_matters_of_the_past_is_how_long_events_are_tried(write):
    loaded = load(write(overloaded("1 /min"), keys=KEYS))
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    # Half an hour, the last wait, two retries of failures (1 and 2 min) and a run cut at two minutes; three times all that.
    assert remembered_ns(loaded.model, placement) == 3 * (30 * 60 + 30 + 60 + 120 + 120) * 10**9
    queue = load(write(overloaded("1 /min").replace("folders", "queues"), keys=KEYS))
    assert remembered_ns(queue.model, placement_on(queue.model, queue.offers, queue.offers["test.plan"])) == 0


@pytest.mark.parametrize("more", ["", BY_DAY, 'lumps = [{ cron = "0 3 * * *", count = 300 }]'])
def test_of_a_month_that_never_keeps_up_a_few_hours_are_played(write, monkeypatch, more):
    loaded = load(write(overloaded("300 /h", more), keys=KEYS))
    offer, hours = loaded.offers["test.plan"], []

    def counted(player, cut, course, part, whole):
        found = play_hours(player, cut, course, part, whole)
        hours.append(course.number - course.first + sum(each.segments for each in found))
        return found

    monkeypatch.setattr(runs, "play_hours", counted)
    monkeypatch.setattr(following, "play_hours", counted)
    exact = project_plan(loaded, offer, 3, how=Playing(exact=True))
    found = project_plan(loaded, offer, 3, how=Playing(sampled_from=0))
    assert found.method == "sampled" and 4 * 2 < sum(hours) < 744 / 2
    sure, truth = found.confidence, exact.totals
    assert sure.cost[0] <= float(exact.bill.unrounded) <= sure.cost[1]
    for interval, value in ((sure.throttled_share, truth.throttled_share), (sure.left_behind, truth.left_behind_share)):
        assert interval[0] <= value <= interval[1] and interval[1] - interval[0] < 0.2 * value
    attempts = found.totals.attempts
    assert attempts["throttled"] == pytest.approx(truth.attempts["throttled"], rel=0.03)
    assert attempts["succeeded"] == pytest.approx(truth.attempts["succeeded"], rel=0.01)
    if not more:
        # What two instances can take, one a minute each; a place that comes free is taken within half a minute, mostly at once.
        assert 0.95 * 2 * 60 * 744 < attempts["succeeded"] <= 2 * 60 * 744
    [mine], [its] = found.measured.units, exact.measured.units
    assert mine.waits.p95 == pytest.approx(its.waits.p95, rel=0.05)
    # By the hour as well.
    told, true = (u.series.one(0, 2) for u in (found.measured, exact.measured))
    assert np.abs(told[24:].reshape(-1, 24).mean(0) - true[24:].reshape(-1, 24).mean(0)).max() < 0.1 * true.max()


def test_the_answer_is_the_same_however_often_it_is_asked_for(write):
    loaded = load(write(overloaded("200 /h", BY_DAY), keys=KEYS))
    asked = [project_plan(loaded, loaded.offers["test.plan"], 3, how=Playing(sampled_from=0, cores=n)) for n in (1, 2)]
    assert figures(asked[0]) == figures(asked[1])


BESIDE = """
[functions.g]
memory = "512 MB"
run = "200 ms"
[endpoints.e]
[demand.e]
into = "endpoints.e"
rate = "600 /h"
[[triggers]]
from = "endpoints.e"
to = "g"
"""


@pytest.mark.parametrize("beside", ["", BESIDE])
@pytest.mark.parametrize("off", [-1, 0])
def test_a_month_in_which_very_much_finds_no_room_is_sampled_at_once(write, monkeypatch, beside, off):
    loaded = load(write(overloaded("200 /h", "", beside), keys=KEYS))
    offer = loaded.offers["test.plan"]
    exact = project_plan(loaded, offer, 3, how=Playing(exact=True))
    most = max(u.attempts["throttled"] for u in exact.measured.units)
    assert most > 1_000
    monkeypatch.setattr(sys.modules["echotally.projection.project"], "_THROTTLED", most + off)
    for cores in (1, 2):
        found = project_plan(loaded, offer, 3, how=Playing(cores=cores))
        assert found.method == ("sampled" if off else "exact")
        assert off or figures(found) == figures(exact)
    # Who asks for every event gets it.
    assert project_plan(loaded, offer, 3, how=Playing(exact=True)).method == "exact"
    # It ends as soon as that many are seen, not with the month.
    placement = placement_on(loaded.model, loaded.offers, offer)
    with pytest.raises(Crowded):
        simulate_month(loaded.model, loaded.month.arrivals, placement, 3, wanted=Wanted(Bounds(throttled=most // 2)))


@pytest.mark.parametrize(
    ("first", "longest", "give_up"),
    [
        ("1 s", "5 min", "6 h"),
        ("7 s", "7 s", "1 h"),
        ("9 min", "2 min", "30 min"),
        ("1 s", "8 min", "511 s"),
        ("2 h", "3 h", "1 h"),
    ],
)
def test_an_event_that_never_finds_room_is_tried_so_often_until_it_is_given_up(write, first, longest, give_up):
    # Two pictures at once, one instance, which is busy with the first for far longer than the second is kept.
    model = overloaded("0.000001 /h", 'lumps = [{ at = "2027-03-02T00:00", count = 2 }]').replace('"1 min"', '"50 h"')
    model = model.replace('timeout = "2 min"', 'timeout = "60 h"').replace("instance_limit = 2", "instance_limit = 1")
    keys = f'push = {{ first_wait = "{first}", longest_wait = "{longest}", give_up = "{give_up}" }}'
    loaded = load(write(model, keys=keys))
    offer = loaded.offers["test.plan"]
    found = project_plan(loaded, offer, 1)
    assert found.totals.attempts["throttled"] == offer.plan.push.attempts and found.measured.units[0].lost_events == 1


@pytest.mark.parametrize("rate", ["100 /h", "180 /h", "400 /h"])
def test_what_surely_finds_no_room_is_no_more_than_does(write, rate):
    loaded = load(write(overloaded(rate), keys=KEYS))
    offer = loaded.offers["test.plan"]
    least = sent_away(loaded.model, loaded.month, placement_on(loaded.model, loaded.offers, offer))
    throttled = project_plan(loaded, offer, 3, how=Playing(exact=True)).totals.attempts["throttled"]
    # Two instances take 120 an hour; of the others each is tried 62 times: after 5, 15 and 35 s, and then every half minute.
    assert offer.plan.push.attempts == 62
    assert least == pytest.approx(62 * 744 * (float(rate[:3]) - 120), rel=1e-9) if least > 0 else rate == "100 /h"
    assert max(0.0, least) < throttled or rate == "100 /h"


#: A topic that never keeps up beside a queue that does, but for Tuesdays: all runs are slow for two hours.
BESIDE_A_QUEUE = """
[functions.f]
memory = "512 MB"
run = { mean = "20 s", shape = "exponential" }
instance_limit = 1
[topics.t]
[demand.t]
into = "topics.t"
rate = "0.2 /s"
SHAPE
[[triggers]]
from = "topics.t"
to = "f"
[functions.g]
memory = "512 MB"
cpu_share = 0
run = { median = "4 s", p95 = "9 s" }
instance_limit = 2
[queues.q]
[demand.q]
into = "queues.q"
rate = "0.2 /s"
[[triggers]]
from = "queues.q"
to = "g"
[[incidents]]
name = "slow"
cron = "0 9 * * 2"
lasts = "2 h"
run_times = 3
"""


def test_a_queue_that_is_full_for_an_hour_is_not_played_full_for_a_day(write):
    shape = "day_shape = [" + ", ".join(["0.5"] * 17 + ["3"] * 3 + ["0.5"] * 4) + "]"
    keys = 'push = { first_wait = "30 s", longest_wait = "10 min", give_up = "6 h" }'
    loaded = load(write(BESIDE_A_QUEUE.replace("SHAPE", shape), keys=keys))
    offer = loaded.offers["test.plan"]
    exact = project_plan(loaded, offer, 3, how=Playing(exact=True))
    found = project_plan(loaded, offer, 3, how=Playing(sampled_from=0, alike=True))
    assert found.confidence.cost[0] <= float(exact.bill.unrounded) <= found.confidence.cost[1]
    for mine, its in zip(found.measured.units, exact.measured.units, strict=True):
        assert its.backlog_peak > 300 and mine.events["succeeded"] == pytest.approx(its.events["succeeded"], rel=0.015)


@pytest.mark.parametrize("crowd", [100, 500_000])
def test_readers_that_share_too_little_room_are_given_no_more_than_waits_for_them(write, monkeypatch, crowd):
    """Four queues want 5.5 places of five, beside a folder whose pictures hardly ever find one, so that hours go on as they are."""
    rates = (140, 140, 110, 110)
    queues = "".join(
        f'[functions.w{n}]\nmemory = "512 MB"\nrun = "40 s"\ntimeout = "1 min"\ncpu_share = 0\n[queues.q{n}]\n'
        f'visibility = "2 min"\n[demand.q{n}]\ninto = "queues.q{n}"\nrate = "{rate} /h"\n[[triggers]]\nfrom = "queues.q{n}"\nto = "w{n}"\n'
        for n, rate in enumerate(rates)
    )
    keys = 'push = { first_wait = "5 min", longest_wait = "5 min", give_up = "1 h" }\nconcurrency_limit = 5'
    loaded = load(write(overloaded("50 /h") + queues, keys=keys))
    offer, laid, real = loaded.offers["test.plan"], [0], KeptFull.again

    def again(self):
        laid.append(sum(self.most.values()))
        return real(self)

    monkeypatch.setattr(KeptFull, "again", again)
    monkeypatch.setattr("echotally.engine.sampling.hours._CROWD", crowd)
    exact = project_plan(loaded, offer, 3, how=Playing(exact=True))
    found = project_plan(loaded, offer, 3, how=Playing(sampled_from=0, alike=True))
    assert found.method == "sampled"
    low, high = found.confidence.left_behind
    assert low <= exact.totals.left_behind_share <= high
    both = list(zip(found.measured.units, exact.measured.units, strict=True))
    # All places are taken nearly all the time: what all of them hand on is what there is room for.
    done, truly = (sum(u.events["succeeded"] for u in units[1:]) for units in zip(*both, strict=True))
    assert done == pytest.approx(truly, rel=0.01)
    # Nobody hands on much more than ever came: once one of them did twice as much, and others nothing.
    assert all(mine.events["succeeded"] < 1.1 * 744 * rate for (mine, _), rate in zip(both[1:], rates, strict=True))
    # No more is laid than waits there, where 20,000 of each were, and four times that, and again.
    assert 0 < max(laid) < 1.5 * sum(its.backlog_peak for _, its in both)


def queues(rates, run: str, more: str) -> str:
    """Queues of messages that take so long, each read by a function of its own."""
    return "".join(
        f'[functions.w{n}]\nmemory = "512 MB"\nrun = "{run}"\ntimeout = "2 min"\ncpu_share = 0\n[queues.q{n}]\nvisibility = "3 min"\n'
        f'[demand.q{n}]\ninto = "queues.q{n}"\nrate = "{rate} /h"\n{more}\n[[triggers]]\nfrom = "queues.q{n}"\nto = "w{n}"\n'
        for n, rate in enumerate(rates)
    )


def test_a_look_at_a_lane_beside_which_work_is_sent_away_is_taken_to_its_end(write):
    # By day 156 calls an hour are sent into room for three, which three queues want as well: a short look ends in its warm-up.
    shape = f"day_shape = [{', '.join(8 * ['0.3'] + 8 * ['2.6'] + 8 * ['0.2'])}]"
    keys = 'push = { first_wait = "2 min", longest_wait = "5 min", give_up = "1 h" }\nconcurrency_limit = 3'
    loaded = load(write(overloaded("60 /h", shape) + queues((42, 42, 24), "90 s", shape), keys=keys))
    offer = loaded.offers["test.plan"]
    exact = project_plan(loaded, offer, 3, how=Playing(exact=True))
    found = project_plan(loaded, offer, 3, how=Playing(sampled_from=0, alike=True))
    assert found.method == "sampled"
    low, high = found.confidence.left_behind
    assert low <= exact.totals.left_behind_share <= high


def test_readers_that_take_turns_at_room_leave_all_figures_open_that_hang_on_it(write):
    # 176 messages an hour of 90 s want 4.4 of four places: which queue has them is a matter of days, not of hours.
    keys = "concurrency_limit = 4"
    model = queues((52, 52, 37, 35), "90 s", "").replace(
        "[queues.q2]", 'instance_limit = 2\n[queues.q2]\nretention = "6 h"'
    )
    loaded = load(write(model, keys=keys))
    offer = loaded.offers["test.plan"]
    exact = project_plan(loaded, offer, 3, how=Playing(exact=True))
    itself = project_plan(loaded, offer, 3, how=Playing(sampled_from=0))
    assert itself.method == "exact" and itself.bill == exact.bill
    sure = project_plan(loaded, offer, 3, how=Playing(sampled_from=0, alike=True)).confidence
    assert sure.untold
    truth = exact.totals
    # The queue whose messages are kept for six hours loses 11,000 of them; three kept for four days leave some over.
    assert truth.events["expired"] > 10_000
    told = (
        (sure.cost, float(exact.bill.unrounded)),
        (sure.lost, truth.lost),
        (sure.left_behind, truth.left_behind_share),
    )
    assert all(low <= figure <= high for (low, high), figure in told)
    for mine, its in zip(sure.functions, exact.measured.units, strict=True):
        assert mine.left_behind[0] <= its.events["unfinished"] / its.events["in"] <= mine.left_behind[1]
        assert mine.wait_p95[0] <= its.waits.p95 <= mine.wait_p95[1]
