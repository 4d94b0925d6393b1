"""Pushed calls that find no room come again in lists by their waits: the same bytes as each by an entry of its own in the calendar.

Where nobody watches and a unit surely has no room, those of a list are sent away one after the other; watched, or without lists,
each asks by itself.
"""

from __future__ import annotations

import re

import pytest
from hypothesis import assume

from echotally.engine.play import begun, play
from echotally.model.estate import Model
from echotally.projection.loaded import load, placement_on
from tests.conftest import CARD as CARD_OF_ONE
from tests.conftest import PRICES
from tests.engine.test_records_way import STOOD, month
from tests.engine.test_short_way import differences, of_any_estate
from tests.slow_engine.comparing import difference

#: Entries of the calendar that stand for a whole list, and where they are; who asks for a token; looks when the next token is there,
#: which nobody waits for who stands in a list, and each of which is a step.
LISTED = STOOD | {"steps", "sure"}
LISTED |= {"accounts rivals", "accounts rivals_at", "units token_timer", "units waits", "units lists"}


def one_by_one(loaded, pauses=()):
    """The month with an entry of its own for each call that comes again."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Model, "only_pushed", lambda _: set())
        return month(loaded, pauses=pauses)


def unlike(one, other):
    """What is not the same of the answer; triggers and sources name lists by where they stand."""
    return sorted(
        each for each in set(differences(one, other)) - LISTED if not each.endswith(("lists", "_list", "visible_list"))
    )


F = '[functions.f]\nmemory = "512 MB"\nrun = { mean = "20 s", shape = "exponential" }\ntimeout = "2 min"\ncold_start = "2 s"\n'
G = '[functions.g]\nmemory = "256 MB"\nrun = "30 s"\n'
P = '[folders.p]\n[[triggers]]\nfrom = "folders.p"\nto = "f"\n'
#: For half a day so many an hour.
HOURS = 'lumps = [{{ cron = "0 0-11 2 3 *", count = {}, over = "1 h" }}]\n'
D = '[demand.d]\ninto = "folders.p"\n' + HOURS.format(540)
T = (
    '[topics.t]\n[demand.t]\ninto = "topics.t"\nspread = "even"\n'
    + HOURS.format(360)
    + '[[triggers]]\nfrom = "topics.t"\nto = "TO"\n'
)
#: Many at one instant, which come again at one instant, on whole seconds as others do.
LUMPS = 'lumps = [{ cron = "*/30 0-9 2-3 3 *", count = 60 }, { cron = "0 0-9 2-3 3 *", count = 25, over = "1 min" }]\n'
ONE = "instance_limit = 1\n"
DEAD = 'dead_letter = "queues.left"\n[queues.left]\n[[triggers]]\nfrom = "queues.left"\nto = "g"\nbatch = 3\n' + G


def seven(keys=""):
    """Functions whose firings come every few minutes, at whole ones, so that what comes again does so at the same instants."""
    return "".join(
        f'[functions.s{n}]\nmemory = "512 MB"\nrun = {{ mean = "{20 * n} s", shape = "exponential" }}\ntimeout = "9 min"\n{keys}'
        f'[schedules.s{n}]\ncron = "*/{n + 2} * 2-4 3 *"\n[[triggers]]\nfrom = "schedules.s{n}"\nto = "s{n}"\n'
        for n in range(1, 8)
    )


FEW = 'scaling = {{ kind = "per-call", burst = {}, ramp = "{} /h", scope = "account" }}\nkeep_alive = "20 s"'
#: Who waits in line or stands in a queue may be older than all that come again.
WAITS = (
    G
    + '[endpoints.e]\n[demand.e]\ninto = "endpoints.e"\nspread = "even"\nlumps = [{ cron = "* * 2-4 3 *", count = 3, over = "9 s" }]\n'
    '[[triggers]]\nfrom = "endpoints.e"\nto = "g"\n[functions.h]\nmemory = "512 MB"\nrun = "5 s"\n[queues.h]\n[demand.h]\ninto = "queues.h"\n'
    'spread = "even"\nlumps = [{ cron = "* * 2-4 3 *", count = 4, over = "20 s" }]\n[[triggers]]\nfrom = "queues.h"\nto = "h"\nbatch = 2\n'
)
CASES = {
    "more comes than one instance takes": (F + ONE + P + D, ""),
    "all of one instant": (F + ONE + P + D.replace(HOURS.format(540), LUMPS), ""),
    "at whole seconds, from two sources": (F.replace('{ mean = "20 s", shape = "exponential" }', '"15 s"') + ONE + P + D.replace(HOURS.format(540), LUMPS) + T.replace("TO", "f"), ""),
    "given up soon, to dead letters": (F + ONE + P + DEAD + D, 'push = { first_wait = "2 s", longest_wait = "1 min", give_up = "20 min" }'),
    "one wait for all": (F + ONE + P + D, 'push = { first_wait = "40 s", longest_wait = "40 s", give_up = "1 h" }'),
    "the first wait is the longer": (F + ONE + P + D, 'push = { first_wait = "50 s", longest_wait = "20 s", give_up = "1 h" }'),
    "runs that fail": (F + ONE + "error_rate = 0.3\n" + P + D, ""),
    "several slots": (F + "instance_limit = 2\nslots = 3\n" + P + D.replace("540", "1800"), "slots_limit = 4"),
    "an account that is full": (F + P + D + G + T.replace("TO", "g"), "concurrency_limit = 3"),
    "an account that is full, beside its own limit": (F + ONE + P + D + G + T.replace("TO", "g"), "concurrency_limit = 3"),
    "start tokens": (F + P + D, 'scaling = { kind = "per-call", burst = 1, ramp = "1 /min" }\nkeep_alive = "5 s"\ninstance_limit = 4'),
    "start tokens that two share": (F + P + D + G + T.replace("TO", "g"), 'scaling = { kind = "per-call", burst = 2, ramp = "90 /h", scope = "account" }\nkeep_alive = "5 s"'),
    "one token for many at an instant": (seven(), FEW.format(1, 45)),
    "some tokens for many at an instant": (seven("instance_limit = 4\n"), FEW.format(6, 80)),
    "tokens that others ask for as well": (seven("slots = 2\n") + WAITS, FEW.format(2, 60) + '\nwait_limit = "20 s"\nslots_limit = 2\npull = "eager"'),
    "tokens, and an account that is full": (seven("error_rate = 0.2\n"), FEW.format(3, 90) + "\nconcurrency_limit = 5"),
    "tokens, floors and releases": (seven('instance_limit = 2\ninstance_floors = [{ cron = "0 6-22/2 * * *", floor = 1 }, { cron = "0 7-23/2 * * *", floor = 0 }]\nreleases = [{ cron = "*/20 * 2-4 3 *" }]\n'), FEW.format(1, 8) + '\npush = { first_wait = "1 min", longest_wait = "1 min", give_up = "2 h" }'),
    "start tokens, and a limit now and then": (F + "instance_limit = 2\n" + P + D.replace(HOURS.format(540), LUMPS), 'scaling = { kind = "per-call", burst = 1, ramp = "7 /h" }\nkeep_alive = "40 s"\npush = { first_wait = "3 s", longest_wait = "1 min", give_up = "2 h" }'),
    "it also reads a queue": (F + ONE + P + D + '[queues.q]\n[demand.q]\ninto = "queues.q"\nrate = "9 /h"\n[[triggers]]\nfrom = "queues.q"\nto = "f"\n', ""),
    "incidents, releases, floors": (F + ONE.replace("1", "3") + 'releases = [{ cron = "20 * 2 3 *" }]\ninstance_floors = [{ cron = "0 6 * * *", floor = 3 }, { cron = "0 8 * * *", floor = 0 }]\n' + P + D.replace("540", "1200") + '[[incidents]]\nname = "stuck"\ncron = "40 * 2 3 *"\nlasts = "9 min"\nno_new_instances = true\n[[incidents]]\nname = "tight"\ncron = "5 3 2 3 *"\nlasts = "30 min"\nconcurrency_limit = 1\n', 'keep_alive = "30 s"'),
    "what runs put out": (F + ONE + 'emits = [{ into = "topics.t", each = 1.5 }]\n' + P + D + G + "instance_limit = 1\n" + T.replace("TO", "g"), ""),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_a_month_is_the_same_to_the_byte(name, write):
    model, keys = CASES[name]
    loaded = load(write(model, card=CARD_OF_ONE.format(keys=keys, prices=PRICES)))
    usual = one_by_one(loaded)
    assert (usual.units["waits"] < 0).all() and usual.units["throttled"].max() > 2_000
    listed = month(loaded)
    assert (listed.units["waits"] >= 0).any() == (name != "it also reads a queue") and unlike(usual, listed) == []
    assert (usual.clock["steps"] == listed.clock["steps"]).all() or "burst" in keys
    # Watched, each of a list asks by itself, and wherever one stops the counts are those of that instant.
    assert unlike(usual, month(loaded, watched=True)) == []
    pauses = (1, 7, 100, 1, 1, 5_000, 3, 1)
    assert unlike(one_by_one(loaded, pauses), month(loaded, pauses=pauses)) == []


@of_any_estate
def test_any_estate_is_the_same_to_the_byte(loaded, pauses):
    usual = one_by_one(loaded, tuple(pauses))
    assume(usual.clock[0]["steps"] < 2_000_000)
    assert unlike(usual, month(loaded, pauses=tuple(pauses))) == []


def test_they_are_sent_away_one_after_the_other(write):
    # Nothing comes while three hundred wait for a run of a day: hour after hour is one step of the loop for all of them.
    model = F.replace('{ mean = "20 s", shape = "exponential" }', '"20 h"').replace('"2 min"', '"30 h"') + ONE + P
    loaded = load(write(model + '[demand.d]\ninto = "folders.p"\nlumps = [{ at = "2027-03-01T00:00", count = 300 }]\n'))
    found, usual = month(loaded), one_by_one(loaded)
    assert unlike(usual, found) == []
    # Each is tried after 1, 3, 7 ... 511 s and then every 5 min until it is 6 h old (rule 4.3): 9 + 71 times; one has the room.
    assert found.units[0]["throttled"] == 299 * 80 and found.units[0]["lost"] == 299
    assert found.series[:, 0, 1].sum() == 299 * 80 and found.series[3, 0, 1] == 299 * 12
    assert entries_after_two_hours(loaded) < 10
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Model, "only_pushed", lambda _: set())
        assert entries_after_two_hours(loaded) > 299


def entries_after_two_hours(loaded):
    """How many entries stand in the calendar two hours after the month's start."""
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    built = begun(loaded.model, loaded.month.arrivals, placement, 1)
    play(built, 2 * 3_600 * 10**9)
    return int(built.world.clock[0]["entries_n"] + built.world.clock[0]["aside_n"])


@pytest.mark.parametrize(
    "name",
    [
        "all of one instant",
        "at whole seconds, from two sources",
        "given up soon, to dead letters",
        "one token for many at an instant",
        "some tokens for many at an instant",
    ],
)
def test_they_come_again_as_the_plain_engine_has_it(name, write):
    model, keys = CASES[name]
    model = (
        re.sub(r'{ mean = ("\d+ s"), shape = "exponential" }', r"\1", model)
        .replace("0-11 2 3", "0-2 1 3")
        .replace("0-9 2-3 3", "0-3 1 3")
        .replace("* 2-4 3", "0-3 1 3")
    )
    loaded = load(write(model, card=CARD_OF_ONE.format(keys=keys, prices=PRICES)))
    assert difference(loaded, "test.plan") is None
    assert month(loaded).units["throttled"].sum() > 250
