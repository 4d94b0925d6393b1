"""Records that go the way of most, and taps beside the calendar, add up to the same bytes as what is in it and is looked at one by one.

Whichever two taps stand beside the calendar, or none; and with a diary of what attempts hold, records leave their stream one by one.
"""

from __future__ import annotations

from itertools import permutations

import pytest
from hypothesis import assume

from echotally.engine import codes
from echotally.engine.build import world as building
from echotally.engine.play import Room, begun, finish, flushed, play, play_entries
from echotally.projection.loaded import load, placement_on
from tests.conftest import CARD as CARD_OF_ONE
from tests.conftest import PRICES
from tests.engine.test_short_way import differences, of_any_estate
from tests.slow_engine.comparing import difference

#: Where what is to come stands, and how long its stretches are: the order in which it comes is the same.
STOOD = {"row", "near_until", "aside_n", "free_aside", "bits", "stretch", "walked", "came_near"}
#: Where an event stood, and what only a diary writes down: not part of any answer.
STOOD |= {
    "beside",
    "beside_at",
    "behind",
    "behind_at",
    "entries_n",
    "free_instance",
    "tap",
    "whose",
    "carried_n",
    "born_n",
}


def month(loaded, beside=None, watched=False, pauses=()):
    """The month's end, with the taps ``beside`` the calendar that are given, or as it comes."""
    with pytest.MonkeyPatch.context() as patch:
        if beside is not None:
            patch.setattr(building, "taps_beside", lambda *_: beside)
        placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
        built = begun(loaded.model, loaded.month.arrivals, placement, 1, Room(diary=2, cargo=2) if watched else Room())
    for entries in pauses:
        play_entries(built, entries)
    play(built)
    flushed(built)
    finish(built)
    return built.world


def unlike(one, other):
    """What is not the same of the answer."""
    return sorted(set(differences(one, other)) - STOOD)


F = '[functions.f]\nmemory = "512 MB"\nrun = { mean = "3 s", shape = "exponential" }\ntimeout = "9 s"\ncold_start = "1 s"\n'
G = '[functions.g]\nmemory = "256 MB"\nrun = "2 s"\n'
S = '[streams.s]\npartitions = 2\n[[triggers]]\nfrom = "streams.s"\nto = "f"\nbatch = 5\nbatch_wait = "1 min"\n'
D = '[demand.d]\ninto = "streams.s"\nrate = "6 /min"\npayload = { median = "20 kB", p95 = "90 kB" }\n'
T = '[streams.t]\n[demand.t]\ninto = "streams.t"\nrate = "4 /min"\nspread = "even"\n[[triggers]]\nfrom = "streams.t"\nto = "{to}"\nbatch = 3\nbatch_wait = "15 s"\n'
E = '[endpoints.e]\n[demand.e]\ninto = "endpoints.e"\nrate = "{rate}"\n[[triggers]]\nfrom = "endpoints.e"\nto = "{to}"\n'
Q = '[queues.q]\n[demand.q]\ninto = "queues.q"\nrate = "2 /min"\n[[triggers]]\nfrom = "queues.q"\nto = "f"\nbatch = 2\nbatch_wait = "20 s"\n'
OFTEN = E.format(rate="40 /min", to="g")
CASES = {
    "one stream": (F + S + D, ""),
    "records beside calls of another function": (F + S + D + G + OFTEN, ""),
    "the same function reads a stream and answers": (F + S + D + E.format(rate="9 /min", to="f"), ""),
    "the same function reads two streams": (F + S + D + T.format(to="f"), ""),
    "the same function reads a stream and a queue": (F + S + D + Q, ""),
    "records come as the wait of others ends": (F + S + D.replace('"6 /min"', '"8 /min"\nspread = "even"') + G + T.format(to="g"), ""),
    "records of one instant": (F + S + D + 'spread = "bursty"\nburst = 4\n', ""),
    "full batches at one instant, as calls come": (F + S + D + 'lumps = [{ cron = "*/20 * * * *", count = 30 }]\n' + G + E.format(rate="1 /min", to="g").replace('rate = "1 /min"', 'lumps = [{ cron = "*/10 * * * *", count = 2 }]'), ""),
    "three partitions, by lot": (F + S.replace("partitions = 2", "partitions = 3\nskew = 0.6") + D + "", ""),
    "batches that fail and are repeated": (F + "error_rate = 0.3\n" + S + "tries = 2\n" + D, ""),
    "records fail one by one": (F + "poison_rate = 0.05\n" + S + 'on_failure = "failed"\ntries = 2\n' + D, ""),
    "records that grow too old": (F.replace("3 s", "90 s").replace('"9 s"', '"5 min"') + S.replace("partitions = 2", 'partitions = 1\nretention = "1 h"') + D, ""),
    "few instances": (F + "instance_limit = 1\n" + S + D + G + OFTEN, ""),
    "an account that is full at times": (F + S + D + G + OFTEN, "concurrency_limit = 3"),
    "records above the limit": (F + S + D, 'payload_limit = "60 kB"'),
    "what runs put out": (F + 'emits = [{ into = "endpoints.e", each = 0.4 }]\n' + S + D + G + OFTEN, ""),
    "instances are gone at once": (F + S + D, 'keep_alive = "0 s"'),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_a_month_is_the_same_to_the_byte(name, write):
    model, keys = CASES[name]
    loaded = load(write(model, card=CARD_OF_ONE.format(keys=keys, prices=PRICES)))
    usual = month(loaded, (codes.NONE, codes.NONE))
    # All that can stand there are streams' taps, and those whose calls may go the short way.
    may = [
        p
        for p, tap in enumerate(usual.taps)
        if tap["short"] >= 0 or usual.sources[tap["source"]]["kind"] == codes.STREAM
    ]
    assert may and usual.clock[0]["arrived"] > 10_000
    quick = month(loaded)
    assert quick.clock[0]["beside"] >= 0 and unlike(usual, quick) == []
    for beside in [(p, codes.NONE) for p in may] + list(permutations(may, 2)):
        assert unlike(usual, month(loaded, beside)) == []
    # One by one, and stopped wherever Python reads in between: there the lag's rises are cut in two.
    assert unlike(usual, month(loaded, watched=True)) == []
    pauses = (1, 7, 100, 1, 1, 5_000)
    assert unlike(*(month(loaded, beside, pauses=pauses) for beside in ((codes.NONE, codes.NONE), None))) == []


@of_any_estate
def test_any_estate_is_the_same_to_the_byte(loaded, pauses):
    usual = month(loaded, (codes.NONE, codes.NONE), True, tuple(pauses))
    assume(usual.clock[0]["steps"] < 2_000_000)
    assert unlike(usual, month(loaded, pauses=tuple(pauses))) == []


#: What the plain engine draws none for.
PLAIN = F.replace('{ mean = "3 s", shape = "exponential" }', '"3 s"')
#: Both batches have waited enough at one instant, and the account has room for one; the record whose stream comes last is older.
TWO_DUE_AT_ONCE = (
    PLAIN
    + G
    + '[streams.s]\n[streams.t]\n[demand.t]\ninto = "streams.t"\nlumps = [{ cron = "*/2 0-3 1 3 *", count = 1 }]\n'
    + '[demand.s]\ninto = "streams.s"\nlumps = [{ cron = "*/2 0-3 1 3 *", count = 1 }]\n'
    + "".join(
        f'[[triggers]]\nfrom = "streams.{of}"\nto = "{to}"\nbatch = 3\nbatch_wait = "15 s"\n'
        for of, to in (("s", "f"), ("t", "g"))
    )
)
#: A batch that fails keeps its partition, though another reader is free; records come all the while.
A_READER_FREE_BEHIND_ONE_THAT_FAILED = (
    PLAIN
    + "error_rate = 0.5\ninstance_floor = 2\n"
    + S.replace("partitions = 2", "partitions = 1").replace('"1 min"', '"4 s"')
    + 'readers = 3\ntries = 4\n[demand.d]\ninto = "streams.s"\nlumps = [{ cron = "*/3 0-3 1 3 *", count = 8, over = "50 s" }]\n'
)
#: Runs of 8 s, and records that wait for 4 s, with an instance to spare.
THE_ONLY_READER_AT_WORK = A_READER_FREE_BEHIND_ONE_THAT_FAILED.replace("readers = 3", "readers = 1").replace(
    '"3 s"', '"8 s"'
)


@pytest.mark.parametrize(
    ("model", "keys"),
    [
        (TWO_DUE_AT_ONCE, 'concurrency_limit = 1\nkeep_alive = "1 h"\n'),
        (A_READER_FREE_BEHIND_ONE_THAT_FAILED, 'keep_alive = "1 h"\n'),
        (THE_ONLY_READER_AT_WORK, 'keep_alive = "1 h"\n'),
    ],
    ids=["two due at once", "a reader free behind one that failed", "the only reader at work"],
)
def test_a_batch_leaves_as_the_plain_engine_has_it(model, keys, write):
    assert difference(load(write(model, card=CARD_OF_ONE.format(keys=keys, prices=PRICES))), "test.plan") is None
