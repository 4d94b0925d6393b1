"""Months with somebody looking on: the month stays what it is, and what is written down is what it counts."""

from __future__ import annotations

from collections import Counter
from types import SimpleNamespace

import numpy as np
import pytest

from echotally.engine import codes
from echotally.engine.play import Room, attempts, begun, play, simulate
from echotally.engine.reading import ENDINGS, read_out
from echotally.engine.watching import EVERYTHING, Watched, carried_now, in_flight
from echotally.projection.loaded import load, placement_on

HOUR = 3_600 * 10**9
PLANS = ("heron.per-run", "heron.dedicated", "osier.elastic")


@pytest.fixture(scope="module")
def loaded(river):
    return load(river)


def begin(loaded, plan, *room):
    placement = placement_on(loaded.model, loaded.offers, loaded.offers[plan])
    return begun(loaded.model, loaded.month.arrivals, placement, 3, *room), placement


def watch(loaded, plan, keeps=EVERYTHING, until=0, **more):
    """Everything that was written down, the pages put together, and the month that was read out."""
    built, _ = begin(loaded, plan)
    if until:
        play(built, until)
    watched = Watched(built, frozenset(keeps), **more)
    found = [{name: getattr(page, name).copy() for name in EVERYTHING} for page in watched.pages()]
    whole = {name: np.concatenate([page[name] for page in found]) for name in EVERYTHING}
    return SimpleNamespace(
        pages=len(found), built=built, month=read_out(loaded.model, built), noted=watched.noted, **whole
    )


@pytest.mark.parametrize("plan", PLANS)
def test_the_month_is_the_same_whoever_looks(loaded, plan):
    _, placement = begin(loaded, plan)
    plain = simulate(loaded.model, loaded.month.arrivals, placement, 3)
    for keeps, until in ((EVERYTHING, 0), ((), 0), (("moments",), 0), (EVERYTHING, 300 * HOUR)):
        seen = watch(loaded, plan, keeps, until).month
        for mine, its in zip(seen.units, plain.units, strict=True):
            assert (mine.events, mine.attempts, mine.billed_ns, mine.life_ns, mine.outcomes) == (
                its.events, its.attempts, its.billed_ns, its.life_ns, its.outcomes,
            )  # fmt: skip
        assert seen.series == plain.series and seen.sources == plain.sources


@pytest.mark.parametrize("plan", PLANS)
def test_what_is_written_down_is_what_the_month_counts(loaded, plan):
    seen = watch(loaded, plan)
    assert seen.pages > 3
    names = list(ENDINGS)
    ended = Counter(zip(seen.moments["unit"].tolist(), seen.moments["what"].tolist(), strict=True))
    schedules = {n for n, (_, source) in enumerate(seen.built.sources) if source.kind == "schedules"}
    fired = Counter(seen.moments["unit"][np.isin(seen.moments["source"], list(schedules))].tolist())
    for n, unit in enumerate(seen.month.units):
        if fired[n]:
            # A firing's items are counted, and written down as one event.
            continue
        for what, name in enumerate(names):
            assert ended[n, what] == unit.events[name], (unit.key, name)
    # Every event that came ended once, and every attempt held as many as it says.
    came = seen.born["number"][seen.born["number"] >= 0]
    over = seen.moments["number"][seen.moments["what"] < len(names)]
    assert sorted(over.tolist()) == sorted(came.tolist())
    held = Counter(seen.carried["attempt"].tolist())
    lines = seen.diary[~np.isin(seen.diary["unit"], list(fired))]
    assert all(held[int(line["index"])] == line["items"] for line in lines)
    good = Counter(seen.carried["attempt"][seen.carried["good"] == codes.YES].tolist())
    done = seen.diary[seen.diary["outcome"] == codes.SUCCEEDED]
    assert all(good[int(line["index"])] == held[int(line["index"])] for line in done)


@pytest.mark.parametrize("plan", PLANS)
def test_attempts_are_numbered_as_in_the_months_log_from_wherever_it_is_watched(loaded, plan):
    built, _ = begin(loaded, plan, Room(diary=400_000))
    log = np.concatenate(list(attempts(built)))
    seen = watch(loaded, plan, until=400 * HOUR)
    ran = seen.diary[seen.diary["outcome"] != codes.STILL_RUNNING]
    assert 0 < seen.noted == int(ran["index"][0]) and ran["index"].tolist() == list(range(seen.noted, len(log)))
    for name in ("unit", "number", "at", "run_at", "ended", "cold_ns", "charged", "outcome"):
        assert np.array_equal(ran[name], log[name][seen.noted :])


def test_only_trouble_is_kept_where_only_that_is_asked_for(loaded):
    whole, troubled = (
        watch(loaded, "heron.per-run"),
        watch(loaded, "heron.per-run", ("diary", "carried"), troubled=True),
    )
    bad = (whole.diary["outcome"] == codes.THROTTLED) | (whole.diary["cold_ns"] > 0)
    assert 0 < bad.sum() < len(whole.diary)
    assert np.array_equal(whole.diary["index"][bad], troubled.diary["index"])
    throttled = whole.diary["index"][whole.diary["outcome"] == codes.THROTTLED]
    mine = whole.carried[np.isin(whole.carried["attempt"], throttled)]
    kept = troubled.carried[np.isin(troubled.carried["attempt"], throttled)]
    assert np.array_equal(mine, kept)
    assert not len(troubled.born) and not len(troubled.moments)


def test_time_charged_sums_to_what_the_month_knows_by_outcome(loaded):
    seen = watch(loaded, "heron.shared")
    for n, unit in enumerate(seen.month.units):
        assert int(seen.diary["charged"][seen.diary["unit"] == n].sum()) == sum(unit.outcomes.times_ns.values())


def test_arrivals_from_outside_are_counted_by_tap_and_by_number(loaded):
    seen = watch(loaded, "heron.per-run")
    lines = seen.born[(seen.born["number"] < 0) & (seen.born["outside"] >= 0)]
    laid = sum(count for _, count in seen.built.backlogs)
    assert lines["outside"].tolist() == list(range(laid, laid + len(lines)))
    counts = Counter(lines["tap"].tolist())
    assert {n: int(tap["came"]) for n, tap in enumerate(seen.built.world.taps) if tap["came"]} == dict(counts)


def test_what_calls_hold_at_an_instant(loaded):
    built, _ = begin(loaded, "heron.per-run")
    # In the middle of a nightly run, which lasts for minutes.
    play(built, 24 * HOUR + HOUR + HOUR // 2 + 60 * 10**9)
    calls = in_flight(built)
    assert len(calls) == built.world.units["in_flight"].sum() >= 1
    assert (calls["started"] <= built.world.clock[0]["now"]).all()
    held = built.world.events["number"][built.world.events["refs"] > 0]
    assert carried_now(built, held[:1]) and not carried_now(built, np.array([codes.NEVER]))


@pytest.mark.parametrize("most", [1, 64, 1_000])
def test_pages_of_any_size_hold_the_same(most, loaded, monkeypatch):
    from echotally.engine import watching

    whole = watch(loaded, "osier.elastic")
    monkeypatch.setattr(watching, "_FIRST", most)
    monkeypatch.setattr(watching, "_MOST", 20 * most)
    monkeypatch.setattr(watching, "_LINES", 1)
    small = watch(loaded, "osier.elastic")
    # Paper of the least size: a page ends where one step more might run over.
    assert small.pages >= whole.pages
    for name in EVERYTHING - {"refusals"}:
        assert np.array_equal(getattr(small, name), getattr(whole, name)), name
    assert set(small.refusals["why"].tolist()) <= set(whole.refusals["why"].tolist())


def test_why_there_was_no_room_is_said_by_the_plan(loaded):
    looks, tokens = watch(loaded, "osier.elastic"), watch(loaded, "heron.per-run")
    assert set(looks.refusals["why"].tolist()) <= {int(codes.UNTIL_A_LOOK), int(codes.AT_INSTANCES)}
    assert int(codes.UNTIL_A_LOOK) in looks.refusals["why"]
    full = tokens.refusals[tokens.refusals["why"] == codes.AT_INSTANCES]
    # The map has twelve instances, which the flood's visitors fill.
    names = {tokens.built.units[int(line["unit"])].function for line in full}
    assert names == {"map"} and set(full["used"].tolist()) == set(full["most"].tolist()) == {12}
    throttled = {n for n, unit in enumerate(tokens.month.units) if unit.attempts["throttled"]}
    assert {int(line["unit"]) for line in full} == throttled
