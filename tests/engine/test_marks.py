"""What had been measured at instants of a month: the month stays what it is, and each mark is what the attempts' log says of it."""

from __future__ import annotations

from collections import Counter

import numpy as np
import pytest
from msgspec.structs import replace

from echotally.engine.apart import simulate_month
from echotally.engine.codes import FAILED, SUCCEEDED, THROTTLED, TIMED_OUT
from echotally.engine.play import Marks, Room, Wanted, attempts, begun, simulate
from echotally.projection.loaded import load, placement_on
from echotally.projection.metering import hours_of, marks_for

HOUR = 3_600 * 10**9
PLANS = ("heron.per-run", "heron.shared", "heron.dedicated", "osier.elastic", "osier.cluster")


@pytest.fixture(scope="module")
def loaded(river):
    return load(river)


def _played(loaded, name, marks):
    placement = placement_on(loaded.model, loaded.offers, loaded.offers[name])
    return simulate(loaded.model, loaded.month.arrivals, placement, 3, wanted=Wanted(marks=marks))


@pytest.mark.parametrize("name", PLANS)
def test_looking_changes_nothing(loaded, name):
    looked = _played(loaded, name, Marks((HOUR, 40 * HOUR), (40 * HOUR, 700 * HOUR)))
    plain = _played(loaded, name, Marks())
    assert [mark.month_ns for mark in looked.marks] == [HOUR, 40 * HOUR]
    assert [mark.month_ns for mark in looked.passed] == [40 * HOUR, 700 * HOUR]
    for mine, its in zip(looked.units, plain.units, strict=True):
        assert (mine.events, mine.attempts, mine.billed_ns, mine.life_ns, mine.idle_floor_ns, mine.outcomes) == (
            its.events, its.attempts, its.billed_ns, its.life_ns, its.idle_floor_ns, its.outcomes,
        )  # fmt: skip
    assert replace(looked, units=[], marks=(), passed=()) == replace(plain, units=[])


@pytest.mark.parametrize("name", PLANS)
def test_a_mark_counts_what_had_ended_by_then(loaded, name):
    at = (250 * HOUR, 500 * HOUR + 12_345)
    looked = _played(loaded, name, Marks(at))
    placement = placement_on(loaded.model, loaded.offers, loaded.offers[name])
    built = begun(loaded.model, loaded.month.arrivals, placement, 3, Room(diary=400_000))
    log = np.concatenate(list(attempts(built)))
    outcomes = {"succeeded": SUCCEEDED, "failed": FAILED, "timed_out": TIMED_OUT, "throttled": THROTTLED}
    for mark, until in zip(looked.marks, at, strict=True):
        before = log[log["ended"] < until]
        for n, unit in enumerate(mark.units):
            own = Counter(before["outcome"][before["unit"] == n].tolist())
            assert {key: unit.attempts[key] for key in outcomes} == {
                key: own[int(code)] for key, code in outcomes.items()
            }


def test_time_by_outcome_is_that_of_the_attempts_log(loaded):
    # Billed by the run, cold start included, in whole milliseconds (heron.per-run).
    offer = loaded.offers["heron.per-run"]
    placement = placement_on(loaded.model, loaded.offers, offer)
    built = begun(loaded.model, loaded.month.arrivals, placement, 3, Room(diary=400_000))
    log = np.concatenate(list(attempts(built)))
    log = log[log["outcome"] != THROTTLED]
    whole = _played(loaded, "heron.per-run", Marks())
    names = {int(FAILED): "failed", int(TIMED_OUT): "timed out", int(SUCCEEDED): "handled"}
    unit_ns, least_ns = offer.plan.rounding.time, offer.plan.rounding.at_least
    for n, unit in enumerate(whole.units):
        if unit.duplicates or unit.attempts["running"]:
            continue
        own = log[log["unit"] == n]
        cold = own["cold_ns"] if offer.plan.cold_start_billed else np.zeros(len(own), np.int64)
        billed = np.maximum(-(-(own["ended"] - own["run_at"] + cold) // unit_ns) * unit_ns, least_ns)
        for code, name in names.items():
            assert unit.outcomes.times_ns[name] == int((billed - cold)[own["outcome"] == code].sum())
        assert unit.outcomes.times_ns["cold starts"] == int(cold.sum())


def test_hours_are_kept_only_where_somebody_is_billed_by_them(loaded):
    offers = [loaded.offers[name] for name in PLANS]
    length = loaded.month.arrivals.length_ns
    assert not any(marks_for(offers, length))
    assert list(hours_of(int(2.5 * HOUR))) == [HOUR, 2 * HOUR, int(2.5 * HOUR)]
    assert len(list(hours_of(length))) == 743


def test_parts_are_not_played_apart_where_instants_are_looked_at(loaded):
    offer = loaded.offers["heron.per-run"]
    placement = placement_on(loaded.model, loaded.offers, offer)
    found = simulate_month(
        loaded.model, loaded.month.arrivals, placement, 3, wanted=Wanted(cores=2, marks=Marks((HOUR,)))
    )
    assert (
        len(found.marks) == 1 and found.units[0].attempts == _played(loaded, "heron.per-run", Marks()).units[0].attempts
    )
