"""Deterministic cases worked by hand: the arithmetic stands beside each figure."""

from __future__ import annotations

import pytest

from echotally.engine import layout
from echotally.engine.play import begun, finish, play
from echotally.projection.loaded import load, placement_on
from echotally.projection.project import project
from tests.conftest import unit

S = 10**9
F = '[functions.f]\nmemory = "512 MB"\ntimeout = "1 min"\nrun = "{run}"\ncold_start = "{cold}"\ncpu_share = 0\n'


def function(run: str = "1 s", cold: str = "0 ms", more: str = "") -> str:
    return F.format(run=run, cold=cold) + more + "\n"


def source(name: str, count: int, trigger: str = "", settings: str = "", demand: str = "", at: str = "00:00") -> str:
    """A source that gets ``count`` events at one instant of the first day, read by f."""
    kind, short = name.split(".")
    return f"""
[{kind}.{short}]
{settings}
[demand.{short}]
into = "{name}"
lumps = [{{ at = "2027-03-01T{at}", count = {count} }}]
{demand}
[[triggers]]
from = "{name}"
to = "f"
{trigger}
"""


@pytest.fixture
def watch(write):
    """Play a model step by step; answers with a function that plays on to a second and shows the unit f."""

    def watcher(model: str, **card: str):
        loaded = load(write(model, **card))
        built = begun(
            loaded.model,
            loaded.month.arrivals,
            placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"]),
            1,
        )

        def at(second: float):
            play(built, int(second * S))
            return built.world.units[0]

        at.built = built  # type: ignore[attr-defined]
        return at

    return watcher


POLLED = 'scaling = { kind = "polled", every = "30 s", per_instance = 16, step = 4 }\nkeep_alive = "5 min"'


def test_ten_thousand_messages_under_polled_scaling_from_zero(watch):
    # Looks at 0, 30, 60 s ...: 10,000 / 16 = 625 wanted, 8 allowed, 4 a look. Cold start 2 s, a batch of 10 each second.
    at = watch(
        function("1 s", "2 s", "instance_limit = 8") + source("queues.q", 10_000, "batch = 10", 'visibility = "1 min"'),
        keys=POLLED,
    )
    assert at(0.001)["count"] == 4
    assert at(29.999)["count"] == 4
    # Four instances from 2 s: at 29.999 s the 28th batch of each is running.
    assert at(29.999)["started"] == 4 * 28
    assert at(30.001)["count"] == 8
    # 2 to 32 s: 4 x 30 batches; then 8 a second: (1,000 - 120) / 8 = 110 s. The last batches leave at 141 s, end at 142 s.
    assert at(140.999)["waiting"] > 0 == at(141.001)["waiting"]
    assert at(141.999)["in_flight"] == 8
    assert at(142.001)["in_flight"] == 0
    # The look at 120 s still wants 8, that at 150 s none. 450 s is the first whose last 5 min hold no wish for any.
    assert at(449.999)["count"] == 8
    f = at(450.001)
    assert (f["count"], f["handled"], f["cold_starts"]) == (0, 10_000, 8)
    assert layout.wide(f, "life_ns") == (4 * 450 + 4 * 420) * S


def test_looks_that_would_change_nothing_take_no_place_in_the_calendar(watch):
    # A look a second, for what was wanted within 40 min. Three messages at 0 s run for a second, two at 30 min; then nothing.
    keys = 'scaling = { kind = "polled", every = "1 s", per_instance = 1, step = 4 }\nkeep_alive = "40 min"'
    again = '[demand.again]\ninto = "queues.q"\nlumps = [{ at = "2027-03-01T00:30", count = 2 }]\n'
    model = function(more="instance_limit = 3") + source("queues.q", 3, "batch = 1") + again
    at = watch(model, keys=keys)
    # The look at 0 s wants three, that at 1 s none: runs end at their instant before looks look.
    assert [at(0.001)["count"], at(1_799)["count"]] == [3, 3]
    # At 30 min two are wanted. The wish for three is 2,400 looks old at 2,400 s and counts; a look later it does not.
    assert [at(second)["count"] for second in (2_400.001, 2_401.001)] == [3, 2]
    assert [at(second)["count"] for second in (1_800 + 2_400.001, 1_800 + 2_401.001)] == [2, 0]
    # Five messages and their runs, and of 4,200 looks a dozen; an hour's turn each hour.
    assert at.built.world.clock[0]["steps"] < 40


def test_a_hundred_records_over_four_partitions_with_one_failing_batch(play):
    # 25 records a partition: batches of 10, 10 and 5, a second each. The batch with the poisoned record is tried three
    # times in place: its partition ends at 5 s instead of 3 s. A seed is looked for that poisons exactly one record.
    model = function(more="poison_rate = 0.01") + source("streams.x", 100, "batch = 10\ntries = 3", "partitions = 4")
    units = (unit(play(model, seed)) for seed in range(40))
    u = next(u for u in units if u.attempts["failed"] == 3)
    assert u.events["lost"] in (5, 10)
    assert u.events["succeeded"] == 100 - u.events["lost"]
    assert (u.calls, u.attempts["total"], u.attempts["succeeded"]) == (12, 14, 11)
    assert u.lag_max_s == 5
    assert u.concurrency.peak == 4
    # Other partitions start at 0, 1 and 2 s; nothing waits longer than the repetitions make it: 4 s.
    assert u.waits.max in (2.0, 4.0)


def test_a_run_longer_than_the_visibility_is_handled_twice(play):
    # Received at 0 s and, come back, at 2 s; the first run ends at 3 s and deletes it; the second ends at 5 s: a duplicate.
    u = unit(play(function("3 s") + source("queues.q", 1, "", 'visibility = "2 s"')))
    assert (u.attempts["succeeded"], u.events["succeeded"], u.duplicates) == (2, 1, 1)
    assert u.waits.max == 0
    assert u.billed_ns == 6 * S


def test_a_message_that_always_fails_reaches_the_dead_letter_after_its_tries(watch):
    # Receipts at 0, 10 and 20 s; at 30 s, when it would come back a third time, it goes to the dead letter.
    settings = 'visibility = "10 s"\ntries = 3\ndead_letter = "queues.parked"\n[queues.parked]'
    at = watch(function("1 s", more="error_rate = 1") + source("queues.q", 1, "", settings))
    assert at(29.999)["failed"] == 3
    assert at(29.999)["dead_lettered"] == 0
    assert at(30.001)["dead_lettered"] == 1
    f = at(3_600)
    assert (f["attempts"], f["calls"], layout.wide(f, "billed_ns")) == (3, 3, 3 * S)


def test_start_tokens_run_out_in_a_burst_and_come_back_one_a_second(play):
    # Eight requests at once: five tokens, three refused. They ask again each second, one token a time:
    # refused 3 + 2 + 1 = 6, started 5 + 1 + 1 + 1.
    keys = 'scaling = { kind = "per-call", burst = 5, ramp = "1 /s" }'
    u = unit(play(function("10 s") + source("endpoints.e", 8, demand="client_tries = 4"), keys=keys))
    assert (u.attempts["total"], u.attempts["throttled"], u.started, u.events["succeeded"]) == (14, 6, 8, 8)
    assert u.waits.max == 3
    assert u.concurrency.peak == 8


def test_two_functions_share_an_account_limit_of_ten(play):
    # f takes 8 places at 0 s for 10 s; of g's six requests at 1 s two find room.
    g = function("10 s").replace("functions.f", "functions.g")
    late = source("endpoints.late", 6, at="00:00:01").replace('to = "f"', 'to = "g"')
    plan = play(function("10 s") + g + source("endpoints.e", 8) + late, keys="concurrency_limit = 10")
    assert unit(plan, "f").attempts["throttled"] == 0
    assert unit(plan, "g").events == {**unit(plan, "g").events, "in": 6, "succeeded": 2, "rejected": 4}
    assert plan.measured.concurrency.peak == 10


def test_a_failing_schedule_is_tried_again_after_a_minute_and_two(watch):
    # Fires at 60 s, fails at 61, 122 (61 + 60 + 1) and 243 (122 + 120 + 1); then it is lost.
    model = (
        function(more="error_rate = 1")
        + '[schedules.s]\ncron = "1 0 1 * *"\n[[triggers]]\nfrom = "schedules.s"\nto = "f"\n'
    )
    at = watch(model)
    assert [int(at(t)["failed"]) for t in (60.999, 61.001, 121.999, 122.001, 242.999, 243.001)] == [0, 1, 1, 2, 2, 3]
    assert at(243.001)["lost"] == 1


def test_throttled_pushes_wait_one_two_four_seconds_and_are_no_tries(watch):
    # Two files, one instance of 5 s: the second asks at 0, 1, 3 and 7 s, and starts at 7 s.
    at = watch(function("5 s", more="instance_limit = 1") + source("folders.box", 2))
    assert [int(at(t)["throttled"]) for t in (0.5, 1.5, 3.5)] == [1, 2, 3]
    assert at(6.999)["in_flight"] == 0
    assert at(7.001)["in_flight"] == 1
    assert at(13)["handled"] == 2


def test_strict_order_keeps_one_batch_in_flight(watch):
    # Five messages, batch 1, 1 s each: one after another although a hundred readers are free.
    at = watch(function() + source("queues.q", 5, "", 'fifo = true\nvisibility = "1 min"'))
    for second in range(5):
        f = at(second + 0.5)
        assert (f["in_flight"], f["handled"]) == (1, second)


def test_a_batch_waits_for_company_and_a_delay_for_its_time(watch):
    # Delay 5 s, batch of 10 with a wait of 20 s: three messages are visible at 5 s and leave together at 25 s.
    at = watch(
        function() + source("queues.q", 3, 'batch = 10\nbatch_wait = "20 s"', 'delay = "5 s"\nvisibility = "1 min"')
    )
    assert at(4.999)["waiting"] == 0
    assert at(5.001)["waiting"] == 3
    assert at(24.999)["started"] == 0
    assert at(25.001)["started"] == 1


def test_a_message_behind_one_that_came_back_is_due_by_its_own_time_once_that_one_expires(watch):
    # The first, of 0 s, leaves alone after 10 s, fails and is back at 30 s; the second waits since 25 s behind it. At 37 s
    # the first expires: the second has then been visible for more than its 10 s, and the first's would only end at 40 s.
    model = function(run="2 s").replace('timeout = "1 min"', 'timeout = "1 s"')
    queue = source("queues.q", 1, 'batch = 3\nbatch_wait = "10 s"', 'visibility = "20 s"\nretention = "37 s"')
    at = watch(model + queue + '[demand.e]\ninto = "queues.q"\nlumps = [{ at = "2027-03-01T00:00:25", count = 1 }]\n')
    assert at(36.999)["started"] == 1
    assert at(37.001)["started"] == 2


@pytest.mark.parametrize(
    ("g", "taken"),
    [
        # g gives up and takes the first message once more: what is now in front has been there for 22 s, and f takes it.
        pytest.param('run = "40 s"\ntimeout = "37 s"', (1, 2), id="taken"),
        # g handles the first message though it had come back; of the two that may have the second, f stands first.
        pytest.param('run = "37 s"\ntimeout = "1 min"', (1, 1), id="deleted"),
    ],
)
def test_readers_that_compete_see_at_once_what_another_leaves_them(watch, g, taken):
    # f wants three messages or waits 20 s. The first goes to g at 0 s and is back at 20 s, before the second of 15 s.
    model = function() + f'[functions.g]\nmemory = "512 MB"\n{g}\ncold_start = "0 ms"\ncpu_share = 0\n'
    queue = source("queues.q", 1, 'batch = 3\nbatch_wait = "20 s"', 'visibility = "20 s"')
    other = '[[triggers]]\nfrom = "queues.q"\nto = "g"\nbatch = 1\nreaders = 1\n'
    second = '[demand.e]\ninto = "queues.q"\nlumps = [{ at = "2027-03-01T00:00:15", count = 1 }]\n'
    at = watch(model + queue + other + second)
    at(36.999)
    assert list(at.built.world.units["started"]) == [0, 1]
    at(37.001)
    assert tuple(at.built.world.units["started"]) == taken


def test_slots_share_an_instance_and_its_processor(play):
    # Four requests at once on 1 vCPU, all CPU work, a ready instance of four slots: the k-th to start is stretched
    # k times: 1, 2, 3, 4 s.
    model = function(more="slots = 4\ninstance_floor = 1").replace("cpu_share = 0", "cpu_share = 1\nmeasured_vcpu = 1")
    u = unit(play(model + source("endpoints.e", 4)))
    assert (u.instances.peak, u.cold_starts, u.billed_ns) == (1, 0, (1 + 2 + 3 + 4) * S)


def test_a_reserved_instance_holds_what_its_memory_holds(play):
    # 2 GB, half of it taken by others: two calls of 512 MB at once, 1 s each; five requests wait up to 3 s: 2 + 2 + 1.
    card = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "reserved"
memory = { choices = ["512 MB"] }
instances = 1
instance_memory = "2 GB"
instance_vcpu = 4
already_used = 0.5
wait_limit = "3 s"
[plans.plan.price]
reserved_hours = { unit = "1" }
"""
    u = unit(play(function() + source("endpoints.e", 5), card=card))
    assert (u.concurrency.peak, u.events["succeeded"], u.waits.max, u.attempts["throttled"]) == (2, 5, 2.0, 0)


def test_a_wait_of_just_the_limit_still_starts(play):
    # One instance, 1 s a run: the second request waits 1 s, the third would have to wait 2 s.
    u = unit(play(function(more="instance_limit = 1") + source("endpoints.e", 3), keys='wait_limit = "1 s"'))
    assert (u.events["succeeded"], u.events["rejected"], u.waits.max) == (2, 1, 1.0)
    # The first is answered after 1 s, the second after 1 + 1 s.
    assert (u.latency.p50, u.latency.max) == (1.0, 2.0)


def test_a_file_takes_longer_by_its_size_and_one_too_large_is_never_handed_over(play, tmp_path):
    # 1 s and 100 ms a MB: 20 MB take 3 s. The limit is 50 MB; four files in a hundred have 60 MB.
    (tmp_path / "sizes.csv").write_text("bytes\n" + "20000000\n" * 96 + "60000000\n" * 4)
    model = function(more='per_mb = "100 ms"') + source(
        "folders.a", 1_000, demand='payload = { samples = "sizes.csv" }'
    )
    u = unit(play(model, keys='payload_limit = "50 MB"'))
    large = u.events["too_large"]
    assert 15 < large < 75
    assert (u.events["succeeded"], u.started, u.billed_ns) == (1_000 - large, 1_000 - large, (1_000 - large) * 3 * S)


def test_an_idle_instance_is_found_after_exactly_its_keep_alive_and_not_later(play):
    # Firings 60 s apart with a run of no time: a keep-alive of 60 s finds the instance, 59,999 ms does not.
    model = function("0 ms") + '[schedules.s]\nevery = "1 min"\n[[triggers]]\nfrom = "schedules.s"\nto = "f"\n'
    assert unit(play(model, keys='keep_alive = "60 s"')).cold_starts == 1
    assert unit(play(model, keys='keep_alive = "59999 ms"')).cold_starts == 744 * 60


def test_a_run_in_flight_at_the_months_end_is_billed_up_to_it(watch):
    # A request 10 s before the end with a run of 30 s: 10 s are billed, the event is unfinished.
    model = function("30 s") + source("endpoints.e", 1).replace("2027-03-01T00:00", "2027-03-31T23:59:50")
    at = watch(model)
    f = at(744 * 3_600)
    finish(at.built)
    f = at.built.world.units[0]
    assert (layout.wide(f, "billed_ns"), f["unfinished"], f["in_flight"]) == (10 * S, 1, 1)


@pytest.mark.parametrize(("memory", "per_second"), [("128 MB", 25), ("256 MB", 50), ("512 MB", 100)])
def test_an_instance_does_no_more_cpu_work_than_it_has(write, memory, per_second):
    # Measured at 256 MB with one call an instance: 100 ms, all of it CPU work on 0.25 x 4 = 1 vCPU. Five instances have
    # 0.5, 1, 2 vCPU each at 128, 256, 512 MB, of which one thread uses at most 1: 25, 50, 100 calls of 100 ms of CPU a second,
    # however many of the four slots are taken.
    from echotally.studies.load_trial import load_trial

    model = (
        '[functions.f]\nmemory = "256 MB"\nrun = "100 ms"\ncpu_share = 1\nslots = 4\ninstance_limit = 5\ncold_start = "0 ms"\n'
        '[endpoints.e]\n[demand.d]\ninto = "endpoints.e"\nrate = "1 /h"\n[[triggers]]\nfrom = "endpoints.e"\nto = "f"\n'
    )
    card = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "runs"
memory = { choices = ["128 MB", "256 MB", "512 MB"] }
vcpu_per_gb = 4
wait_limit = "1 min"
[plans.plan.price]
calls = { unit = "1" }
"""
    path = write(model, card=card)
    found = load_trial(path, "f", clients=(20,), calls=4_000, sets=(("functions.f.memory", memory),), plan="test.plan")
    assert found.rows[0].calls_per_s == pytest.approx(per_second, rel=0.01)


NODES = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "nodes"
memory = {{ choices = ["512 MB", "3 GB"] }}
vcpu_per_gb = 0.1
node_memory = "4 GB"
node_vcpu = 4
nodes_limit = {limit}
[plans.plan.price]
node_hours = {{ unit = "1" }}
"""


@pytest.mark.parametrize(("limit", "there"), [(1, 1), (3, 3), (9, 5)])
def test_a_floor_is_as_many_as_the_nodes_hold(play, limit, there):
    # Five floors of 3 GB, one fits on a node of 4 GB: as many as there are nodes, and each node is billed all month.
    model = F.format(run="1 s", cold="0 ms").replace('"512 MB"', '"3 GB"\ninstance_floor = 5') + source(
        "endpoints.e", 1
    )
    plan = play(model, card=NODES.format(limit=limit))
    assert (unit(plan).instances.peak, plan.bill.total) == (there, there * 744)
    said = [text for _, text in plan.hints]
    assert (said != []) == (there < 5)
    if there < 5:
        assert said == [f"{there} of a floor of 5 find room on the nodes (live); the rest is not there"]


def test_a_function_that_floors_leave_no_node_could_never_start(write):
    # The floor of f fills the only node for good; g asks for 3 GB, of which 1 GB is left.
    model = F.format(run="1 s", cold="0 ms").replace('"512 MB"', '"3 GB"\ninstance_floor = 1') + source(
        "endpoints.e", 1
    )
    model += model.replace("functions.f", "functions.g").replace("endpoints.e", "endpoints.h").replace("demand.e", "demand.h").replace(
        '"f"', '"g"').replace("instance_floor = 1", "")  # fmt: skip
    (plan,) = project(write(model, card=NODES.format(limit=1))).refused
    assert plan.reasons == (("g", "the floors fill every node (live); it could never start"),)


def test_a_delay_does_not_hold_up_what_was_there_before(play):
    # Three messages of before start at 0 s; one that comes at 0 s waits the delay of 10 s.
    u = unit(play(function() + source("queues.a", 1, settings='delay = "10 s"\nbacklog = 3')))
    assert (u.waits.p50, u.waits.max) == (0.0, 10.0)


def test_a_cold_start_of_no_time_is_warm_for_the_next_call_of_the_instant(play):
    # Four calls at once, two slots, CPU for one: the first of each instance runs 1 s, the second beside it 2 s. Two
    # instances, since the first is found warm and takes two.
    model = (
        '[functions.f]\nmemory = "512 MB"\nrun = "1 s"\ncpu_share = 1\nslots = 2\ncold_start = "0 ms"\n' + source("endpoints.e", 4)
    )  # fmt: skip
    u = unit(play(model, keys="vcpu_limit = 1"))
    assert (u.cold_starts, u.busy_ns) == (2, (1 + 2 + 1 + 2) * S)


def test_a_refused_request_between_its_tries_is_not_an_event_waiting(play):
    # Two clients ask at 0 s, no instance is there: both are refused, and the look of that instant sees two refused (not
    # four: between its tries a request does not wait). Two instances for one event each; at 3 s both are answered.
    keys = 'scaling = { kind = "polled", every = "5 s", per_instance = 1, step = 9 }'
    model = function() + source("endpoints.e", 2, demand='client_tries = 3\nclient_pause = "3 s"')
    u = unit(play(model, keys=keys))
    assert (u.cold_starts, u.attempts["throttled"], u.events["succeeded"], u.backlog_peak) == (2, 2, 2, 2)


def test_records_of_a_failed_batch_that_waits_for_room_expire_at_their_retention(play):
    # One reserved place. A record fails after 2 s; at 2 s a long run takes the place (its event is older: a lump at 0 s
    # too, but the stream's came first). The failed record waits, and expires when it is 5 s old: its lag is no more.
    card = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "reserved"
memory = { choices = ["512 MB"] }
instances = 1
instance_memory = "512 MB"
instance_vcpu = 1
[plans.plan.price]
reserved_hours = { unit = "1" }
"""
    model = function("2 s", more="error_rate = 1") + source("streams.a", 1, settings='retention = "5 s"')
    model += '[functions.g]\nmemory = "512 MB"\nrun = "50 s"\ncpu_share = 0\n[queues.b]\nbacklog = 1\n'
    model += '[[triggers]]\nfrom = "queues.b"\nto = "g"\n'
    u = unit(play(model, card=card))
    # The message of before has the lower number and goes first: the record waits 5 s without a try.
    assert (u.events["expired"], u.attempts["total"], u.lag_max_s) == (1, 0, 5.0)
    later = (
        model.replace("backlog = 1", "")
        + '[demand.b]\ninto = "queues.b"\nlumps = [{ at = "2027-03-01T00:00:01", count = 1 }]\n'
    )
    later = later.replace('run = "50 s"', 'run = "50 s"').replace("error_rate = 1", "error_rate = 1")
    v = unit(play(later, card=card))
    # Fails at 2 s and, older than the message, starts again: 4 s; at 4 s again; at 5 s it is being tried, at 6 s too old.
    assert (v.events["expired"], v.attempts["failed"], v.lag_max_s) == (1, 3, 6.0)
