"""Calls that go the short way (``kernel.short_way``) add up to the same bytes as those that go the usual way.

A world with a diary of two lines is watched, so that all its calls go the usual way; one with none lets them go the short way.
"""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, Phase, assume, given, settings
from hypothesis import strategies as st

from echotally.engine import codes
from echotally.engine.layout import WIDE, WIDE_BITS
from echotally.engine.play import Room, begun, finish, flushed, keep_log, play, play_entries
from echotally.projection.loaded import load, placement_on
from tests.conftest import CARD as CARD_OF_ONE
from tests.conftest import HEAD, PRICES
from tests.strategies import CARD, estates

#: Heads of the pools and what only a diary counts: not part of any answer.
ASIDE = {"free_event", "events_left", "free_call", "calls_left", "free_cargo", "cargo_left", "diary_n", "noted"}
#: How far playing was to go before somebody looked, which the clock decides.
ASIDE |= {"last"}
KEPT = (
    "units", "sources", "accounts", "triggers", "edges", "taps", "instances", "nodes", "random", "series", "wait_bins",
    "latency_bins", "request_bins", "level_bins", "estate_levels", "count_bins", "charge_bins", "lag_bins",
)  # fmt: skip


def world(loaded, plan, diary, pauses=(), log=False):
    """The month's end, played with stops on the way at which everything is brought up to the instant."""
    placement = placement_on(loaded.model, loaded.offers, loaded.offers[plan])
    built = begun(loaded.model, loaded.month.arrivals, placement, 1, Room(diary=diary))
    if log:
        keep_log(built, codes.WHOLE_LOG)
    for entries in pauses:
        play_entries(built, entries)
    play(built)
    flushed(built)
    short = int((built.world.calls["tap"][built.world.calls["state"] == codes.RUNNING] >= 0).sum())
    finish(built)
    return built.world, short


def logged(world):
    """The changes of level that were written down, in the order in which they are merged."""
    return np.sort(world.log[: world.clock[0]["log_n"]])


def differences(one, other):
    """Fields of the records and places of the sketches that are not the same."""
    found = []
    for name in KEPT:
        a, b = _columns(getattr(one, name)), _columns(getattr(other, name))
        found += [f"{name} {field}" for field in a if not np.array_equal(a[field], b[field])]
    clocks = one.clock[0], other.clock[0]
    return found + [f for f in one.clock.dtype.names if f not in ASIDE and clocks[0][f] != clocks[1][f]]


def _columns(array):
    """An array by field; how a sum is shared out among its two words depends on where one stopped on the way."""
    if array.dtype.names is None:
        return {"": array}
    high = {WIDE[name]: name for name in WIDE if name in array.dtype.names}
    sums = {name: (array[word].astype(object) << int(WIDE_BITS)) + array[name] for word, name in high.items()}
    return {**{name: array[name] for name in array.dtype.names if name not in high}, **sums}


F = """
[functions.f]
memory = "512 MB"
run = { mean = "1 s", shape = "exponential" }
timeout = "2 s"
cold_start = "300 ms"
cpu_share = 0.5
"""
E = '[endpoints.e]\n[[triggers]]\nfrom = "endpoints.e"\nto = "f"\n'
D = '[demand.d]\ninto = "endpoints.e"\nrate = "3 /min"\npayload = { median = "20 kB", p95 = "90 kB" }\n'
BOX = '[folders.b]\n[demand.b]\ninto = "folders.b"\nrate = "40 /h"\n[[triggers]]\nfrom = "folders.b"\nto = "g"\n'
G = '[functions.g]\nmemory = "256 MB"\nrun = { median = "5 s", p95 = "20 s" }\n'
CASES = {
    "one endpoint, runs that the timeout ends": (F + E + D, ""),
    "failures": (F + "error_rate = 0.2\n" + E + D, ""),
    "instances of several slots share their CPU": (F + "slots = 3\n" + E + D.replace("3 /min", "60 /min"), "slots_limit = 4"),
    "an instance limit, refusals and clients that ask again": (F + "instance_limit = 2\n" + E + D.replace("3 /min", "90 /min") + 'client_tries = 3\nclient_pause = "2 s"\n', ""),
    "two demands of one endpoint": (F + E + D + '[demand.more]\ninto = "endpoints.e"\nrate = "2 /min"\nspread = "even"\n', ""),
    "events of one instant": (F + E + D + 'lumps = [{ cron = "*/20 * * * *", count = 4 }]\n', ""),
    "bursts": (F + E + D + 'spread = "bursty"\nburst = 3\n', ""),
    "an account shared with a folder's function": (F + E + D + G + BOX, "concurrency_limit = 4"),
    "what runs put out": (F + 'emits = [{ into = "queues.q", each = 1.5 }]\n' + E + D + G + '[queues.q]\n[[triggers]]\nfrom = "queues.q"\nto = "g"\nbatch = 4\n', ""),
    "floors, active time": (F + "instance_floor = 2\n" + E + D, 'bills = "active"\nkeep_alive = "30 s"'),
    "instances that live": (F + E + D, 'bills = "allocated"\nkeep_alive = "10 s"'),
    "incidents, releases and floors by the clock": (F + 'releases = [{ cron = "30 * * * *" }]\ninstance_floors = [{ cron = "0 6 * * *", floor = 3 }, { cron = "0 8 * * *", floor = 0 }]\n' + E + D + '[[incidents]]\nname = "slow"\ncron = "10 * * * *"\nlasts = "5 min"\nrun_times = 3\nerror_rate = 0.1\n[[incidents]]\nname = "stuck"\ncron = "40 5 * * *"\nlasts = "1 min"\nno_new_instances = true\n', ""),
    "payloads above the limit": (F + E + D, 'payload_limit = "60 kB"'),
    "firings of many items": (G + '[schedules.s]\ncron = "*/7 * * * *"\nitems = 5\n[[triggers]]\nfrom = "schedules.s"\nto = "g"\n', ""),
    "runs of no time": (F.replace('{ mean = "1 s", shape = "exponential" }', '"0 s"') + E + D, ""),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_a_month_is_the_same_to_the_byte(name, write):
    model, keys = CASES[name]
    bills = 'bills = "runs"'
    card = CARD_OF_ONE.format(keys=keys, prices=PRICES)
    if "bills" in keys:
        card = card.replace(bills, "", 1)
    loaded = load(write(model, card=card))
    usual, none = world(loaded, "test.plan", 2)
    quick, _ = world(loaded, "test.plan", 1)
    assert none == 0 and differences(usual, quick) == []
    # Wherever Python stops in between, and reads.
    stopped, _ = world(loaded, "test.plan", 1, (1, 7, 100, 1, 1, 5_000))
    assert differences(usual, stopped) == []
    # A part of an estate, whose changes of level are merged with others'.
    part, _ = world(loaded, "test.plan", 1, log=True)
    written, _ = world(loaded, "test.plan", 2, log=True)
    assert differences(written, part) == [] and np.array_equal(logged(part), logged(written)) and len(logged(part))


def test_calls_do_go_the_short_way_and_run_on_as_the_month_ends(write):
    loaded = load(write(F.replace('"1 s"', '"4 h"').replace('"2 s"', '"1 d"') + E + D))
    usual, none = world(loaded, "test.plan", 2)
    quick, short = world(loaded, "test.plan", 1)
    assert short > 100 > none == 0 and differences(usual, quick) == []
    # They are unfinished, each once, and in flight.
    (unit,) = quick.units
    assert unit["unfinished"] == unit["flying"] == unit["in_flight"] > 0


def of_any_estate(test):
    """Let a test look at estates drawn at random, loaded, and at how many entries are played before each stop on the way."""

    @settings(
        max_examples=int(os.environ.get("ECHOTALLY_ESTATES", "0")) or 60, deadline=None, suppress_health_check=list(HealthCheck),
        derandomize=True, phases=[Phase.generate], database=None,
    )  # fmt: skip
    @given(estates(), st.lists(st.integers(1, 40), max_size=4))
    def looked_at(estate, pauses):
        model, keys = estate
        with tempfile.TemporaryDirectory() as name:
            (Path(name) / "model.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + model)
            (Path(name) / "card.toml").write_text(CARD.format(keys=keys))
            test(load(Path(name) / "model.toml"), pauses)

    return looked_at


@of_any_estate
def test_any_estate_is_the_same_to_the_byte(loaded, pauses):
    usual, _ = world(loaded, "test.plan", 2, tuple(pauses))
    assume(usual.clock[0]["steps"] < 2_000_000)
    assert differences(usual, world(loaded, "test.plan", 1, tuple(pauses))[0]) == []
    usual, quick = (world(loaded, "test.plan", diary, tuple(pauses), log=True)[0] for diary in (2, 1))
    assert differences(usual, quick) == [] and np.array_equal(logged(usual), logged(quick))
