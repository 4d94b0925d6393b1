"""One event followed: against cases worked by hand, the attempts' log and the bill, on estates of every kind."""

from __future__ import annotations

import json
import tempfile
from decimal import Decimal
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from echotally.engine.codes import SUCCEEDED
from echotally.engine.play import Room, attempts, begun
from echotally.errors import BadInput
from echotally.output.studies.follow_view import follow_json
from echotally.projection.loaded import load, placement_on
from echotally.projection.project import project, why_not
from echotally.rates.meters import METERS
from echotally.studies.follow import Which, follow
from echotally.studies.follow.choosing import Target
from echotally.studies.follow.follow import Month, Pricing
from echotally.studies.follow.moments import clocked
from echotally.studies.follow.money import Prices
from tests.conftest import HEAD
from tests.strategies import CARD, estates

MS, S = 10**6, 10**9


def card_with_prices(keys: str) -> str:
    """A card that asks money for everything a plan of this kind can be billed for, with an allowance and a tier."""
    bills = keys.partition('bills = "')[2].partition('"')[0]
    names = [m.name for m in METERS.values() if bills in m.bills and m.name != "calls"]
    prices = "".join(f'{name} = {{ unit = "0.0{n + 1}7" }}\n' for n, name in enumerate(names))
    text = CARD.format(keys=keys + 'idle_readers = 2\npoll_wait = "20 s"\nstore = "1 GB"\n')
    tiers = 'calls = { tiers = [{ up_to = 5, unit = "0.5" }, { unit = "0.3" }] }'
    text = text.replace('calls = { unit = "1" }', tiers + "\n" + prices) + "[plans.plan.allowance]\ncalls = 3\n"
    if bills in ("runs", "active") and "keep_alive" in keys:
        # Hours prepaid, of which some are lost.
        text += '[plans.plan.commitment]\nper_hour = "0.01"\ndiscount = 0.25\ncovers = ["gb_seconds", "calls"]\n'
    return text


def all_of(folder: Path, plan: str = "test.plan") -> SimpleNamespace:
    """Every event of a month followed, with what belongs to none."""
    loaded = load(folder / "model.toml")
    month = Month(loaded, loaded.offer(plan), loaded.model.estate.seed)
    _, played = month.found(Target(0, ("outside", 0)))
    tale, prices = month.told(None), Prices(loaded.model, played)
    Pricing(prices, loaded).settle(tale, month.length_ns)
    return SimpleNamespace(loaded=loaded, month=month, played=played, tale=tale, prices=prices)


def written(folder: Path, model: str, keys: str, card: str | None = None) -> Path:
    (folder / "model.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + model)
    (folder / "card.toml").write_text(card or card_with_prices(keys))
    return folder / "model.toml"


def same_steps(one, other):
    """Two arrivals with all that followed, figure for figure."""
    for mine, its in zip(one.all_that_follows(), other.all_that_follows(), strict=True):
        assert (mine.key, mine.source, mine.at, mine.own, len(mine.copies)) == (
            its.key,
            its.source,
            its.at,
            its.own,
            len(its.copies),
        )
        for copy, twin in zip(mine.copies, its.copies, strict=True):
            assert (copy.number, copy.came, copy.ended, copy.ended_as, copy.here) == (
                twin.number,
                twin.came,
                twin.ended,
                twin.ended_as,
                twin.here,
            )
            assert [(t.index, t.started, t.run_at, t.ended, t.outcome, t.cost, t.good) for t in copy.tries] == [
                (t.index, t.started, t.run_at, t.ended, t.outcome, t.cost, t.good) for t in twin.tries
            ]


@settings(
    max_examples=20,
    deadline=None,
    suppress_health_check=list(HealthCheck),
    derandomize=True,
    phases=[Phase.generate],
    database=None,
)
@given(estates(), st.randoms(use_true_random=False))
def test_all_events_and_what_belongs_to_none_sum_to_the_bill_and_each_is_what_the_log_says(estate, chance):
    model, keys = estate
    with tempfile.TemporaryDirectory() as name:
        written(Path(name), model, keys)
        loaded = load(Path(name) / "model.toml")
        if why_not(loaded, placement_on(loaded.model, loaded.offers, loaded.offer("test.plan"))):
            return
        whole = all_of(Path(name))
        tale, month = whole.tale, whole.month
        spent = sum((arrival.here for arrival in tale.arrivals.values()), Decimal(0))
        assert abs(spent + sum(whole.prices.of_nobody().values()) - whole.played.bill.unrounded) < Decimal("1e-12")
        # What came from outside, with all that followed, is all there is.
        assert abs(sum((root.with_followed for root in tale.roots()), Decimal(0)) - spent) < Decimal("1e-12")
        built = begun(whole.loaded.model, whole.loaded.month.arrivals, month.placement, month.seed, Room(diary=400_000))
        log = np.concatenate(list(attempts(built)))
        seen = {t.index: t for copy in tale.copies.values() for t in copy.tries if t.outcome != "still_running"}
        assert sorted(seen) == list(range(len(log)))
        for index, each in seen.items():
            line = log[index]
            assert (each.started, each.ended, each.items) == (line["at"], line["ended"], line["items"])
            assert (each.cold_ns, each.charged_ns) == (line["cold_ns"], line["charged"])
        counts = {u.key: u.events for u in whole.played.measured.units}
        for ending in ("succeeded", "lost", "expired", "too_large", "dead_lettered", "rejected", "errored"):
            read = [c for c in tale.copies.values() if c.ended_as == ending and c.function]
            schedules = whole.loaded.model.schedules
            items = sum(schedules[c.source.name].items if c.source.kind == "schedules" else 1 for c in read)
            assert items == sum(events[ending] for events in counts.values())
        for key in chance.sample(sorted(tale.arrivals), min(4, len(tale.arrivals))):
            there = tale.arrivals[key]
            alone = month.told(Target(there.at, key))
            Pricing(whole.prices, whole.loaded).settle(alone, month.length_ns)
            same_steps(alone.arrivals[key], there)


BY_HAND_CARD = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "runs"
memory = { choices = ["1 GB"] }
vcpu_per_gb = 1
instance_limit = 1
keep_alive = "10 min"
cold_start_billed = true
push = { first_wait = "10 s" }
[plans.plan.price]
calls = { unit = "0.01" }
gb_seconds = { unit = "0.001" }
queue_operations = { unit = "0.0001" }
topic_publishes = { unit = "0.00001" }
schedule_firings = { unit = "0.5" }
"""
BY_HAND = """
[functions.draw]
memory = "1 GB"
run = "2 s"
cold_start = "500 ms"
cpu_share = 0
emits = [{ into = "topics.drawn", each = 2 }]
[functions.send]
memory = "1 GB"
run = "1 s"
per_item = "100 ms"
cold_start = "500 ms"
cpu_share = 0
[schedules.hourly]
cron = "0 1 1 3 *"
[schedules.beside]
cron = "0 1 1 3 *"
[topics.drawn]
feeds = [{ into = "queues.out", share = 1.0 }]
[queues.out]
visibility = "1 min"
[[triggers]]
from = "schedules.hourly"
to = "draw"
[[triggers]]
from = "schedules.beside"
to = "draw"
[[triggers]]
from = "queues.out"
to = "send"
batch = 3
batch_wait = "4 s"
"""
HOUR = 3_600 * S


def test_worked_by_hand_a_neighbour_in_the_way_and_a_batch_that_gathers(tmp_path):
    model = written(tmp_path, BY_HAND, "", BY_HAND_CARD)
    first = follow(model, Which(event="schedules.hourly:1"))
    (copy,) = first.root.copies
    (only,) = copy.tries
    # Cold start half a second, then two seconds: billed 2.5 GB-s and a call; its firing 0.5.
    assert (only.started, only.run_at, only.ended) == (HOUR, HOUR + S // 2, HOUR + 5 * S // 2)
    assert copy.here == Decimal("0.01") + Decimal("0.0025") + Decimal("0.5")
    second = follow(model, Which(event="schedules.beside:1")).root.copies[0]
    throttled, later = second.tries
    assert (throttled.outcome, throttled.started, throttled.why) == ("throttled", HOUR, "1 of 1 instances busy")
    assert throttled.neighbours == (("draw", "live", 1),)
    # It comes again after ten seconds, to a warm instance.
    assert (throttled.back_at, later.started, later.ended) == (HOUR + 10 * S, HOUR + 10 * S, HOUR + 12 * S)
    assert second.here == Decimal("0.01") + Decimal("0.002") + Decimal("0.5")
    # Two are put out at 2.5 s; they wait four seconds for a third, and leave as two.
    outs = [out.copies[0] for out in copy.outputs]
    assert [out.came for out in outs] == [HOUR + 5 * S // 2] * 2
    (sent,) = outs[0].tries
    assert (sent.events, sent.wait.begun, sent.wait.ended) == (2, HOUR + 5 * S // 2, HOUR + 13 * S // 2)
    assert sent.wait.why == "until the oldest of its batch had waited 4 s" and not sent.wait.neighbours
    assert (sent.run_at, sent.ended) == (HOUR + 7 * S, HOUR + 7 * S + 1_200 * MS)
    # A half of a call, of 1.7 GB-s, of a receive and a delete; a send of its own, and a publish before.
    half = (Decimal("0.01") + Decimal("0.0017") + Decimal("0.0002")) / 2
    assert outs[0].here == outs[1].here == half + Decimal("0.0001")
    assert copy.outputs[0].own == Decimal("0.00001")
    assert first.root.with_followed == copy.here + 2 * (half + Decimal("0.00011"))
    told = json.loads(follow_json(first))
    assert told["event"]["at"] == "2027-03-01 01:00:00.000+00:00" and told["event"]["after_ms"] == 0
    attempt = told["event"]["copies"][0]["attempts"][0]
    assert (attempt["function"], attempt["run_after_ms"], attempt["ended_after_ms"]) == ("draw", 500.0, 2500.0)
    cost = told["event"]["copies"][0]["cost"]
    assert Decimal(cost["here"]) == copy.here and Decimal(cost["with_what_followed"]) == first.root.with_followed


TROUBLE = """
[functions.f]
memory = "1 GB"
run = "5 s"
timeout = "2 s"
cold_start = "0 s"
[queues.q]
backlog = 3
visibility = "10 s"
tries = 2
dead_letter = "queues.parked"
[queues.parked]
retention = "1 h"
[[triggers]]
from = "queues.q"
to = "f"
batch = 1
readers = 1
"""


def test_worked_by_hand_timeouts_a_dead_letter_and_a_backlog(tmp_path):
    model = written(tmp_path, TROUBLE, "", BY_HAND_CARD)
    found = follow(model, Which(event="queues.q.backlog:2"))
    (copy,) = found.root.copies
    # The first runs from 0 s to its timeout at 2 s; the second from 2 s on, seen again 10 s after it was taken.
    assert (copy.tries[0].started, copy.tries[0].ended, copy.tries[0].outcome) == (2 * S, 4 * S, "timed_out")
    assert copy.tries[0].back_at == 12 * S
    assert copy.tries[0].wait.why == "all readers of the queue were busy"
    assert (copy.ended_as, copy.ended) == ("dead_lettered", copy.tries[1].started + 10 * S)
    letter = copy.letter
    assert (letter.source, letter.at, letter.by) == ("queues.parked", copy.ended, "f")
    assert (letter.copies[0].ended_as, letter.copies[0].ended) == ("expired", copy.ended + HOUR)
    # It lay there: no send; two receives, no delete. The letter is a send.
    two_tries = 2 * (Decimal("0.01") + 2 * Decimal("0.001") + Decimal("0.0001"))
    assert copy.here == two_tries and found.root.with_followed == two_tries + Decimal("0.0001")
    lost = follow(model, Which(happened="lost"))
    assert lost.root.source == "queues.parked" and lost.root.how == "dead letter" and lost.root.by == "f"
    with pytest.raises(BadInput, match="no event was handled"):
        follow(model, Which(happened="slowest"))


@pytest.mark.parametrize(
    ("which", "text"),
    [
        (Which(event="queues.q.backlog:4"), "1 to 3: so many lie there"),
        (Which(event="queues.q:1"), "nothing came there"),
        (Which(event="queues.parked:7"), "1 to 3: so many came"),
        (Which(event="queues.nix:1"), "is no place of the model"),
        (Which(event="queues.q"), "names no event"),
        (Which(event="queues.q@mars:1"), "names no environment"),
        (Which(event="queues.parked.backlog:1"), "has no backlog"),
        (Which(at="soon", source="queues.q"), "is no time"),
        (Which(at="2027-05-01T00:00", source="queues.q"), "is not in the month"),
        (Which(happened="coldest", function="nobody"), "no such function"),
        (Which(happened="throttled", function="f", source="queues.parked"), "no event was throttled"),
    ],
)  # fmt: skip
def test_what_is_not_there_is_told_with_what_is(which, text, tmp_path):
    with pytest.raises(BadInput, match=text):
        follow(written(tmp_path, TROUBLE, "", BY_HAND_CARD), which)


PLANS = ("heron.per-run", "heron.dedicated", "osier.elastic")


@pytest.mark.parametrize("plan", PLANS)
def test_what_is_found_is_what_the_attempts_log_of_the_month_says(plan, river):
    loaded = load(river)
    month = Month(loaded, loaded.offer(plan), loaded.model.estate.seed)
    built = begun(loaded.model, loaded.month.arrivals, month.placement, month.seed, Room(diary=400_000))
    log = np.concatenate(list(attempts(built)))
    if log["cold_ns"].any():
        cold = follow(river, Which(happened="coldest"), plan)
        chosen = next(copy for copy in cold.root.copies if copy.number == cold.chosen)
        assert max(t.cold_ns for t in chosen.tries) == log["cold_ns"].max()
    # Pictures are handled one by one: the slowest is the one with the longest way from its coming to its run's end.
    slow = follow(river, Which(happened="slowest", source="folders.pictures@live"), plan).root.copies[0]
    unit = next(n for n, u in enumerate(built.units) if (u.function, u.environment) == ("look", "live"))
    own = log[(log["unit"] == unit) & (log["outcome"] == SUCCEEDED)]
    assert slow.ended - slow.came >= (own["ended"] - own["at"]).max()
    line = log[slow.tries[-1].index]
    assert (line["unit"], line["at"], line["ended"]) == (unit, slow.tries[-1].started, slow.ended)
    middle = follow(river, Which(happened="median", source="folders.pictures@live"), plan).root.copies[0]
    played = project(river, plans=[plan]).played[0]
    (look,) = [u for u in played.measured.units if u.key == ("look", "live")]
    assert (middle.ended - middle.came) / S == pytest.approx(look.latency.p50, rel=0.01)


def test_watching_changes_nothing(river):
    loaded = load(river)
    month = Month(loaded, loaded.offer("heron.per-run"), loaded.model.estate.seed)
    _, watched = month.found(month.question(Which(happened="throttled")))
    plain = project(river, plans=["heron.per-run"]).played[0]
    assert watched.bill == plain.bill and watched.totals == plain.totals
    assert watched.measured.series == plain.measured.series


def test_times_are_told_as_people_read_them():
    told = [clocked(ns) for ns in (0, 1_500_000, 61 * S, 2 * HOUR, 26 * HOUR + S // 2)]
    assert told == ["0.000 s", "0.002 s", "1 min 1.000 s", "2 h", "1 d 2 h 0.500 s"]
