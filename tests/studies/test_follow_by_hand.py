"""One event's way worked by hand to the millisecond: every kind of source, every reason to wait, every way to end."""

from __future__ import annotations

import sys
from decimal import Decimal
from pathlib import Path

import pytest

from echotally.errors import BadInput
from echotally.studies.follow import Followed, Which, follow
from echotally.studies.follow.answer import Copy, Wait
from echotally.studies.follow.moments import moments
from tests.conftest import HEAD, run_program

CARD = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "runs"
memory = {{ choices = ["1 GB"] }}
vcpu_per_gb = 1
keep_alive = "10 min"
{keys}
[plans.plan.price]
calls = {{ unit = "0.01" }}
gb_seconds = {{ unit = "0.001" }}
gateway_requests = {{ unit = "0.0001" }}
stream_writes = {{ unit = "0.00001" }}
storage_operations = {{ unit = "0.002" }}
"""
FUNCTION = '[functions.{name}]\nmemory = "1 GB"\nrun = "{run}"\ncpu_share = 0\ncold_start = "0 s"\n{more}\n'
#: The first of March 2027 at noon, ms since the month's start.
NOON = 12 * 3_600_000


def function(name: str = "f", run: str = "1 s", more: str = "") -> str:
    return FUNCTION.format(name=name, run=run, more=more)


def lump(into: str, count: int = 1, at: str = "12:00:00", name: str = "d", more: str = "") -> str:
    """So many events at one instant of the first of March."""
    return f'[demand.{name}]\ninto = "{into}"\nlumps = [{{ at = "2027-03-01T{at}", count = {count} }}]\n{more}\n'


def trigger(source: str, to: str = "f", more: str = "") -> str:
    return f'[[triggers]]\nfrom = "{source}"\nto = "{to}"\n{more}\n'


def followed(folder: Path, model: str, which: Which | str, keys: str = "", card: str = "") -> Followed:
    """The way of an event of a model; a text names it by place and number."""
    (folder / "model.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + model)
    (folder / "card.toml").write_text(card or CARD.format(keys=keys))
    return follow(folder / "model.toml", Which(event=which) if isinstance(which, str) else which)


def way(found: Followed) -> list[tuple[float, str]]:
    """What happened and when, ms since noon."""
    return [((m.at / 1e6) - NOON, m.what) for m in moments(found)]


def one(found: Followed) -> Copy:
    (copy,) = found.root.copies
    return copy


def waited(copy: Copy, n: int = 0) -> Wait:
    """The wait of an attempt, which has one."""
    wait = copy.tries[n].wait
    assert wait is not None
    return wait


def lasted(copy: Copy) -> float:
    """From its coming to its end, ms."""
    assert copy.ended is not None
    return (copy.ended - copy.came) / 1e6


def test_a_streams_second_batch_waits_for_the_first_of_its_partition(tmp_path: Path) -> None:
    model = function(run="2 s") + "[streams.s]\npartitions = 1\n" + lump("streams.s", 2) + trigger("streams.s")
    found = followed(tmp_path, model, "demand.d:2")
    assert way(found) == [(0, "comes"), (0, "waits"), (2_000, "starts"), (4_000, "succeeded"), (4_000, "ends")]
    assert waited(one(found)).why == "the batch before it in its partition"
    # A write; a call and two GB-seconds.
    assert found.root.own == Decimal("0.00001") and one(found).here == Decimal("0.012")


def test_a_streams_batch_is_repeated_in_place_until_it_is_given_up(tmp_path: Path) -> None:
    model = function(run="9 s", more='timeout = "2 s"') + "[streams.s]\npartitions = 1\n[queues.letters]\n"
    model += lump("streams.s") + trigger("streams.s", more='tries = 3\ndead_letter = "queues.letters"')
    found = followed(tmp_path, model, "demand.d:1")
    tries = [each for n in range(3) for each in ((2_000 * n, "starts"), (2_000 * (n + 1), "timed_out"))]
    # The letter lies in its queue for four days, which is a queue's retention where it gives none.
    letter = [(6_000, "comes"), (6_000, "waits"), (4 * 86_400_000 + 6_000, "ends")]
    assert way(found) == [(0, "comes"), *tries, (6_000, "ends"), *letter]
    copy = one(found)
    assert copy.ended_as == "dead_lettered" and copy.letter is not None and copy.letter.source == "queues.letters"
    assert one(found).here == 3 * Decimal("0.012")


def test_each_reader_of_a_stream_has_a_copy(tmp_path: Path) -> None:
    model = function() + function("g", "3 s") + "[streams.s]\npartitions = 1\n" + lump("streams.s")
    found = followed(tmp_path, model + trigger("streams.s") + trigger("streams.s", "g"), "demand.d:1")
    assert [(copy.function, lasted(copy)) for copy in found.root.copies] == [("f", 1_000), ("g", 3_000)]
    # One write for both.
    assert found.root.here == Decimal("0.00001") + Decimal("0.011") + Decimal("0.013")


ASKS = 'asks = [{ to = "endpoints.inner", each = 1 }]'


def test_who_asks_waits_for_the_answer_which_is_followed(tmp_path: Path) -> None:
    model = (
        function(more=ASKS)
        + function("g", "500 ms")
        + "[endpoints.outer]\n[endpoints.inner]\n"
        + lump("endpoints.outer")
    )
    found = followed(tmp_path, model + trigger("endpoints.outer") + trigger("endpoints.inner", "g"), "demand.d:1")
    outer = [(0, "comes"), (0, "starts"), (1_500, "succeeded"), (1_500, "ends")]
    inner = [(1_000, "comes"), (1_000, "starts"), (1_500, "succeeded"), (1_500, "ends")]
    assert way(found) == outer + inner
    (asked,) = one(found).outputs
    assert (asked.how, asked.by, asked.at / 1e6 - NOON) == ("asked", "f", 1_000)
    # Each a request, a call and its time; waiting is billed as well.
    assert one(found).here == Decimal("0.0001") + Decimal("0.0115")
    assert found.root.with_followed == one(found).here + Decimal("0.0001") + Decimal("0.0105")


def test_a_refused_client_asks_again_and_then_gives_up(tmp_path: Path) -> None:
    model = function(run="10 s", more="instance_limit = 1") + "[endpoints.e]\n" + trigger("endpoints.e")
    model += lump("endpoints.e", 2, more='client_tries = 3\nclient_pause = "2 s"')
    found = followed(tmp_path, model, "demand.d:2")
    refused = [(2_000.0 * n, "throttled") for n in range(3)]
    assert way(found) == [(0, "comes"), *refused, (4_000, "ends")]
    copy = one(found)
    assert copy.ended_as == "rejected" and copy.here == 3 * Decimal("0.0001")
    assert [each.back_at and each.back_at / 1e6 - NOON for each in copy.tries] == [2_000, 4_000, None]
    assert {each.why for each in copy.tries} == {"1 of 1 instances busy"}


def test_a_request_waits_for_room_as_long_as_the_plan_lets_it(tmp_path: Path) -> None:
    model = (
        function(run="3 s", more="instance_limit = 1")
        + "[endpoints.e]\n"
        + lump("endpoints.e", 3)
        + trigger("endpoints.e")
    )
    second, third = (followed(tmp_path, model, f"demand.d:{n}", 'wait_limit = "5 s"') for n in (2, 3))
    assert way(second) == [(0, "comes"), (0, "waits"), (3_000, "starts"), (6_000, "succeeded"), (6_000, "ends")]
    assert waited(one(second)).room and waited(one(second)).neighbours == (("f", "live", 1),)
    # The third would have waited six.
    assert [what for _, what in way(third)] == ["comes", "waits", "throttled", "ends"] and way(third)[-1][0] == 5_000


def test_what_is_pushed_comes_again_after_waits_that_double(tmp_path: Path) -> None:
    model = (
        function(run="7 s", more="instance_limit = 1") + "[folders.p]\n" + lump("folders.p", 2) + trigger("folders.p")
    )
    found = followed(tmp_path, model, "demand.d:2", 'push = { first_wait = "2 s" }')
    # Refused at 0, 2 and 6 s; at 14 s there is room.
    refused = [(0.0, "throttled"), (2_000.0, "throttled"), (6_000.0, "throttled")]
    assert way(found) == [(0, "comes"), *refused, (14_000, "starts"), (21_000, "succeeded"), (21_000, "ends")]
    assert [(each.back_at or 0) / 1e6 - NOON for each in one(found).tries[:3]] == [2_000, 6_000, 14_000]
    assert found.root.own == Decimal("0.002") and one(found).here == Decimal("0.017")


def test_a_run_that_fails_is_repeated_and_its_event_lost(tmp_path: Path) -> None:
    model = (
        function(run="9 s", more='timeout = "1 s"')
        + "[folders.p]\n"
        + lump("folders.p")
        + trigger("folders.p", more="tries = 2")
    )
    found = followed(tmp_path, model, Which(happened="lost"), 'push = { retry_waits = ["30 s"] }')
    times = [
        (0, "comes"),
        (0, "starts"),
        (1_000, "timed_out"),
        (31_000, "starts"),
        (32_000, "timed_out"),
        (32_000, "ends"),
    ]
    assert way(found) == times and one(found).ended_as == "lost"
    assert one(found).here == 2 * Decimal("0.011")


def test_scaling_that_looks_now_and_then_lets_events_wait(tmp_path: Path) -> None:
    keys = 'scaling = { kind = "polled", every = "15 s", per_instance = 1, step = 1 }'
    model = function() + "[queues.q]\n" + lump("queues.q", 1, "12:00:07") + trigger("queues.q")
    found = followed(tmp_path, model, "demand.d:1", keys)
    # Looks stand at quarters of a minute, until they find nothing; what comes starts them again.
    copy = one(found)
    assert waited(copy).why == "no instance with room until scaling looks again"
    assert not waited(copy).neighbours and (copy.tries[0].started / 1e6 - NOON) % 15_000 in (0, 7_000)
    assert copy.tries[0].ended - copy.tries[0].started == 10**9


def test_neighbours_on_one_account_are_named(tmp_path: Path) -> None:
    model = function(run="4 s") + function("g", "30 s") + "[queues.q]\n[folders.p]\n"
    model += (
        lump("folders.p", 2, "11:59:50")
        + lump("queues.q", 1, name="e")
        + trigger("folders.p", "g")
        + trigger("queues.q")
    )
    found = followed(tmp_path, model, "demand.e:1", "concurrency_limit = 2")
    wait = waited(one(found))
    assert (wait.why, wait.neighbours) == ("2 of 2 calls of the account in flight", (("g", "live", 2),))
    assert way(found)[1:3] == [(0, "waits"), (20_000, "starts")]


def test_instances_start_no_faster_than_tokens_come(tmp_path: Path) -> None:
    model = function(run="60 s") + "[queues.q]\n" + lump("queues.q", 3) + trigger("queues.q")
    found = followed(tmp_path, model, "demand.d:3", 'scaling = { kind = "per-call", burst = 1, ramp = "6 /min" }')
    # One token is there, the next come after ten and twenty seconds.
    assert way(found)[:3] == [(0, "comes"), (0, "waits"), (20_000, "starts")]
    assert waited(one(found)).why == "1 instance, all busy, and no start token left"


def test_a_firing_is_skipped_while_the_last_one_runs(tmp_path: Path) -> None:
    model = (
        function(run="90 s", more='timeout = "2 min"')
        + '[schedules.s]\ncron = "0-2 12 1 3 *"\noverlap = "skip"\n'
        + trigger("schedules.s")
    )
    first, second = (followed(tmp_path, model, f"schedules.s:{n}") for n in (1, 2))
    assert way(first) == [(0, "comes"), (0, "starts"), (90_000, "succeeded"), (90_000, "ends")]
    assert way(second) == [(60_000, "comes"), (60_000, "ends")] and one(second).ended_as == "skipped"
    assert one(second).here == 0


def test_what_is_too_large_ends_as_it_comes(tmp_path: Path) -> None:
    sizes = 'payload = { mix = [{ share = 0.97, constant = "1 kB" }, { share = 0.03, constant = "3 MB" }] }'
    model = function() + "[queues.q]\n" + lump("queues.q", 200, more=sizes) + trigger("queues.q", more="batch = 200")
    found = followed(tmp_path, model, Which(happened="lost"), 'payload_limit = "2 MB"')
    assert way(found) == [(0, "comes"), (0, "ends")] and one(found).ended_as == "too_large"


def test_a_delay_is_no_wait_for_room(tmp_path: Path) -> None:
    model = function() + '[queues.q]\ndelay = "5 s"\n' + lump("queues.q") + trigger("queues.q")
    found = followed(tmp_path, model, "demand.d:1")
    assert way(found) == [(0, "comes"), (5_000, "starts"), (6_000, "succeeded"), (6_000, "ends")]
    assert one(found).tries[0].wait is None


def test_a_full_batch_leaves_at_once_and_a_firing_is_one_event(tmp_path: Path) -> None:
    model = (
        function(more='per_item = "100 ms"')
        + "[queues.q]\n"
        + lump("queues.q", 5)
        + trigger("queues.q", more='batch = 2\nbatch_wait = "3 s"')
    )
    first, last = (followed(tmp_path, model, f"demand.d:{n}") for n in (1, 5))
    assert way(first) == [(0, "comes"), (0, "starts"), (1_200, "succeeded"), (1_200, "ends")]
    assert way(last)[1:3] == [(0, "waits"), (3_000, "starts")] and one(last).tries[0].events == 1
    # Half of a call and of 1.2 GB-seconds.
    assert one(first).here == Decimal("0.0056")
    items = (
        function(more='per_item = "100 ms"')
        + '[schedules.s]\ncron = "0 12 1 3 *"\nitems = 20\n'
        + trigger("schedules.s")
    )
    fired = one(followed(tmp_path, items, "schedules.s:1")).tries[0]
    assert (fired.events, fired.items, fired.run_ns) == (1, 20, 3 * 10**9)


def test_outputs_of_a_batch_are_shared_out_in_order(tmp_path: Path) -> None:
    emits = 'emits = [{ into = "queues.out", each = 2 }]'
    model = function(more=emits) + function("g") + "[queues.q]\n[queues.out]\n" + lump("queues.q", 3)
    model += trigger("queues.q", more="batch = 3") + trigger("queues.out", "g")
    ways = [followed(tmp_path, model, f"demand.d:{n}") for n in (1, 2, 3)]
    keys = [[out.key for out in one(found).outputs] for found in ways]
    # Six are put out for three: each has its two, and nobody has another's.
    assert [len(each) for each in keys] == [2, 2, 2] and len({key for each in keys for key in each}) == 6
    assert keys == sorted(keys)
    whole = sum((found.root.with_followed for found in ways), Decimal(0))
    # One run of three and six of one, each a call and a second.
    assert abs(whole - 7 * Decimal("0.011")) < Decimal("1e-25")


def test_what_runs_as_the_month_ends_is_still_running(tmp_path: Path) -> None:
    model = (
        function(run="9 min", more='timeout = "10 min"')
        + '[schedules.s]\ncron = "58 23 31 3 *"\n'
        + trigger("schedules.s")
    )
    (only,) = one(followed(tmp_path, model, "schedules.s:1")).tries
    assert only.outcome == "still_running" and only.ended - only.started == 120 * 10**9
    assert only.cost == Decimal("0.01") + Decimal("0.12")


def test_cold_starts_are_told_and_billed_where_the_plan_bills_them(tmp_path: Path) -> None:
    model = (
        function().replace('cold_start = "0 s"', 'cold_start = "700 ms"')
        + "[folders.p]\n"
        + lump("folders.p")
        + trigger("folders.p")
    )
    free, billed = (one(followed(tmp_path, model, "demand.d:1", keys)) for keys in ("", "cold_start_billed = true"))
    for copy in (free, billed):
        assert (copy.tries[0].cold_ns, (copy.tries[0].run_at or 0) - copy.tries[0].started) == (
            700 * 10**6,
            700 * 10**6,
        )
    assert billed.here - free.here == Decimal("0.0007")


NODES = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "nodes"
memory = { choices = ["1 GB"] }
vcpu_per_gb = 1
node_memory = "2 GB"
node_vcpu = 4
node_start = "40 s"
nodes_limit = 1
[plans.plan.price]
node_hours = { unit = "1" }
"""


def test_a_nodes_start_is_told_from_the_instances(tmp_path: Path) -> None:
    model = function().replace('cold_start = "0 s"', 'cold_start = "700 ms"') + "[folders.p]\n"
    found = followed(tmp_path, model + lump("folders.p") + trigger("folders.p"), "demand.d:1", card=NODES)
    assert way(found)[1:3] == [(0, "starts"), (40_700, "runs")]
    said = [m.text for m in moments(found) if m.what == "starts"]
    assert said == ["starts on a node that starts in 40.000 s, cold start 0.700 s"]


RESERVED = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "reserved"
memory = { choices = ["1 GB"] }
instance_memory = "2 GB"
instance_vcpu = 4
instances = 1
[plans.plan.price]
reserved_hours = { unit = "1" }
"""


def test_memory_of_reserved_instances_is_room_that_all_share(tmp_path: Path) -> None:
    model = function(run="4 s") + function("g", "30 s") + "[queues.q]\n[folders.p]\n"
    model += (
        lump("folders.p", 2, "11:59:50")
        + lump("queues.q", 1, name="e")
        + trigger("folders.p", "g")
        + trigger("queues.q")
    )
    found = followed(tmp_path, model, "demand.e:1", card=RESERVED)
    wait = waited(one(found))
    assert (wait.why, wait.neighbours) == ("the memory of all 1 reserved instances is taken", (("g", "live", 2),))
    # Half of an instance's hour is paid by four seconds of half its memory, and the rest is nobody's.
    paid = Decimal(4) / 2 / 3_600
    assert abs(one(found).here - paid) < Decimal("1e-20")
    assert abs(found.nobody["floors and idle time"] - (Decimal(744) - paid - 2 * Decimal(30) / 2 / 3_600)) < Decimal(
        "1e-15"
    )


@pytest.mark.parametrize(
    ("which", "came"),
    [
        (Which(at="2027-03-01T12:00:00", source="queues.q"), 0),
        (Which(at="2027-03-01T12:00:00.001", source="demand.d"), 60_000),
        (Which(at="2027-03-01T12:00:30+00:00", source="queues.q"), 60_000),
    ],
)  # fmt: skip
def test_the_first_from_a_time_on(which: Which, came: float, tmp_path: Path) -> None:
    model = function() + "[queues.q]\n" + trigger("queues.q")
    model += '[demand.d]\ninto = "queues.q"\nlumps = [{ at = "2027-03-01T12:00", count = 2 }, { at = "2027-03-01T12:01", count = 1 }]\n'
    assert followed(tmp_path, model, which).root.at / 1e6 - NOON == came


def test_environments_are_told_apart(tmp_path: Path) -> None:
    model = function() + "[queues.q]\n" + lump("queues.q", 4) + trigger("queues.q")
    model += "[environments.live]\n[environments.trial]\ndemand = 0.5\n"
    live, trial = (followed(tmp_path, model, f"queues.q@{name}:2") for name in ("live", "trial"))
    assert (live.root.environment, trial.root.environment) == ("live", "trial")


def test_what_nobody_reads_is_said(tmp_path: Path) -> None:
    model = function() + "[topics.t]\n[queues.q]\n" + lump("topics.t") + lump("queues.q", name="e", at="12:00:01")
    published, lying = (followed(tmp_path, model, f"demand.{name}:1") for name in ("d", "e"))
    assert [m.text for m in moments(published)] == ["comes from demand d; nobody gets it"]
    copy = one(lying)
    # A queue keeps its messages for four days where it says nothing else.
    assert (copy.function, copy.ended_as, lasted(copy)) == (None, "expired", 4 * 86_400_000)
    assert copy.left is not None and copy.left.why == "nobody reads it"


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["--slowest", "--event", "demand.d:1"], "one event at a time"),
        (["--at", "2027-03-01T12:00"], "--at needs --source"),
        (["--event", "demand.d:1", "--function", "f"], "--function has no effect with --event"),
        (["--event", "demand.d:9"], "1 to 1: so many came this month"),
        (["--throttled"], "no event was throttled"),
        (["--plan", "test.other"], "no such plan on any rate card"),
        (["--plot", "x.pdf"], "is not a kind of picture"),
    ],
)  # fmt: skip
def test_the_program_refuses_in_one_line(words: list[str], said: str, tmp_path: Path) -> None:
    model = function() + "[queues.q]\n" + lump("queues.q") + trigger("queues.q")
    followed(tmp_path, model, "demand.d:1")
    done = run_program("follow", "model.toml", *words, cwd=tmp_path)
    assert done.returncode == 2 and said in done.stderr and not done.stdout
    assert done.stderr.rstrip().splitlines()[-1].lower().startswith("error")


def test_a_month_in_which_very_many_wait_is_followed_when_that_is_asked_for(tmp_path, monkeypatch):
    # For a day two messages come each second, and one is handed on: the last of them waits for a day more.
    model = (
        function(more="instance_limit = 1") + '[queues.q]\nretention = "40 d"\n' + trigger("queues.q", more="batch = 1")
    )
    demand = 'into = "queues.q"\nrate = "2 /s"\nspread = "even"\nsurges = [{ at = "2027-03-02T00:00", lasts = "31 d", times = 0 }]\n'
    monkeypatch.setattr(sys.modules["echotally.studies.follow.follow"], "_WAITING", 10_000)
    slowest = Which(happened="slowest")
    with pytest.raises(BadInput, match=r"holds more than 10,000 events that wait at once.*--exact plays them all"):
        followed(tmp_path, model + "[demand.d]\n" + demand, slowest)
    copy = one(follow(tmp_path / "model.toml", slowest, exact=True))
    assert (copy.ended - copy.came) / 1e9 == pytest.approx(86_400, rel=0.001)
    # So many that are there at once are no crowd: they are in the model.
    lumps = lump("queues.q", 20_000)
    assert len(followed(tmp_path, model + lumps, "demand.d:15000").root.copies) == 1
