"""Incidents, releases, floors by the clock, requests between functions and outside services: cases worked by hand."""

from __future__ import annotations

from decimal import Decimal

import pytest

from echotally.projection.answer import PlayedPlan
from echotally.projection.incidents import with_incidents
from echotally.projection.loaded import load
from echotally.projection.project import project, project_loaded
from tests.conftest import run_program, unit
from tests.engine.test_by_hand import function, source

CALLS = 'calls = { unit = "1" }\ngb_seconds = { unit = "1" }\nidle_gb_seconds = { unit = "0.5" }'


def incident(keys: str, at: str = "00:01", lasts: str = "1 min", name: str = "i") -> str:
    return f'[[incidents]]\nname = "{name}"\nat = "2027-03-01T{at}"\nlasts = "{lasts}"\n{keys}\n'


def each_second(n: int, at: str) -> str:
    """A folder that gets a file a second, n of them, half a second after each full one."""
    return source("folders.x", n, at=at).replace(f"count = {n} }}", f'count = {n}, over = "{n} s" }}')


# -- incidents ------------------------------------------------------------------------------------------------------
def test_a_dependency_that_hangs_runs_every_run_into_its_timeout_and_then_recovers(play):
    # Files at 0:59.5, 1:00.5 ... 1:04.5. The window is 1:00 to 1:03: runs that begin at 1:00.5, 1:01.5 and 1:02.5 hang and are cut
    # after 5 s; their second tries, 1 min later, begin after it and take 1 s.
    found = play(
        function("1 s").replace("1 min", "5 s")
        + each_second(6, "00:00:59")
        + incident('functions = ["f"]\nrun = "1 h"', lasts="3 s"),
        prices=CALLS,
    )
    u = unit(found)
    assert u.attempts == {
        "total": 9,
        "succeeded": 6,
        "failed": 0,
        "timed_out": 3,
        "throttled": 0,
        "running": 0,
    }
    # Six runs of 1 s and three of 5 s on half a GB; nine calls at 1 EUR each.
    assert u.billed_ns == 21 * 10**9
    assert found.bill.unrounded == 9 + Decimal("10.5")
    # A try that hung is repeated a minute after its end: 5 s + 60 s of wait.
    assert u.waits.max == pytest.approx(65.0, rel=0.005)


def test_factors_multiply_and_the_last_one_named_wins_for_the_rest(play):
    # Run 1 s + 2 s an item, both times 2 x 3: 18 s; half of what the first says errs, all of what the second says.
    found = play(
        function("1 s", more='per_item = "2 s"')
        + source("endpoints.e", 1, at="00:01:30")
        + incident("run_times = 2\nerror_rate = 0", lasts="1 h")
        + incident("run_times = 3\nerror_rate = 1", lasts="1 h", name="j")
    )
    assert unit(found).busy_ns == 18 * 10**9
    assert unit(found).events["errored"] == 1


def test_a_window_is_half_open_and_is_looked_at_when_a_run_begins(play):
    # Files at 1:00 and 2:00 exactly: the first sees the window that begins there, the second not the one that ends there. One that
    # arrives in the window but waits out its cold start until after it runs as usual.
    at_edges = source("folders.x", 1, at="00:01") + source("folders.y", 1, at="00:02")
    assert unit(play(function("1 s") + at_edges + incident("run_times = 5"))).busy_ns == 6 * 10**9
    late = function("1 s", "30 s") + source("folders.x", 1, at="00:01:45") + incident("run_times = 5")
    assert unit(play(late)).busy_ns == 10**9


def test_an_incident_that_began_before_the_month_holds_for_its_rest(play):
    early = incident("error_rate = 1", lasts="2 h").replace("2027-03-01T00:01", "2027-02-28T23:00")
    model = function("1 s") + source("endpoints.e", 1, at="00:30") + source("endpoints.h", 1, at="01:00")
    # From 23:00 on for two hours: the one at 00:30 errs, the one at 01:00 does not.
    assert unit(play(model + early)).events["errored"] == 1


def test_a_lower_limit_lets_calls_in_flight_stay_and_gives_room_back_at_its_end(play):
    # Plan: ten at once, requests wait up to a minute. Four requests at 0:59 run 30 s; from 1:00 on one at once is allowed. A
    # request at 1:10 waits until the window's end at 1:20, though four places were free from 1:29 on anyway.
    model = function("30 s") + source("endpoints.e", 4, at="00:00:59") + source("endpoints.g", 1, at="00:01:10")
    found = play(
        model + incident("concurrency_limit = 1", lasts="20 s"),
        keys='concurrency_limit = 10\nwait_limit = "1 min"',
    )
    assert unit(found).waits.max == pytest.approx(10.0, rel=0.005)
    assert unit(found).attempts["throttled"] == 0 and unit(found).concurrency.peak == 5


def test_without_new_instances_calls_are_throttled_as_at_the_limit_and_floors_filled_at_the_end(play):
    # Nothing may start 1:00 to 2:00. Two files at 1:10 come again at 1:11, 1:13, 1:17, 1:25, 1:41, 2:13: six throttles each.
    floor = 'instance_floors = [{ cron = "1 0 1 3 *", floor = 3 }]'
    found = play(
        function("1 s", more=floor) + source("folders.x", 2, at="00:01:10") + incident("no_new_instances = true"),
    )
    u = unit(found)
    assert u.attempts["throttled"] == 12 and u.waits.max == pytest.approx(63.0, rel=0.005)
    # The floor fires at 1:00 and its three instances start at 2:00; they are those that serve at 2:13.
    assert u.cold_starts == 3
    month = 31 * 86_400
    assert u.life_ns == 3 * (month - 120) * 10**9
    # Floor time runs from the firing on, less 1 s for each of the two calls.
    assert u.idle_floor_ns == (3 * (month - 60) - 2) * 10**9


def test_an_incident_is_its_month_less_the_month_without_it(write):
    path = write(
        function("1 s").replace("1 min", "5 s") + each_second(6, "00:00:59") + incident('run = "1 h"', lasts="3 s"),
        prices=CALLS,
    )
    loaded = load(path)
    found = with_incidents(loaded, project_loaded(loaded, []))
    plan = found.played[0]
    assert isinstance(plan, PlayedPlan) and plan.incidents is not None
    effect = plan.incidents[0]
    # Three more calls and 15 s more on half a GB; nothing is left behind; p95 of six waits is the longest, 65 s against 0.
    assert effect.cost == 3 + Decimal("7.5")
    assert (effect.left_behind, effect.wait_p95_s) == (0.0, pytest.approx(65.0, rel=0.005))
    # Twice the usual 1 s would have saved three times 3 s of half a GB.
    assert effect.helped is not None
    assert effect.helped.sets == (("functions.f.timeout", "2 s"),) and effect.helped.saved == Decimal("4.5")


# -- releases -------------------------------------------------------------------------------------------------------
def test_after_a_release_calls_start_cold_and_old_instances_end_their_calls(play):
    # A request of 1 min at 0:30 and one of each kind at 1:00: the release at 1:00 comes before that arrival, which starts cold.
    found = play(
        function("1 min", "10 s", 'releases = [{ at = "2027-03-01T00:01" }]').replace(
            'timeout = "1 min"', 'timeout = "5 min"'
        )
        + source("folders.x", 1, at="00:00:30")
        + source("folders.y", 1, at="00:01")
        + source("folders.z", 1, at="00:02:30"),
        keys='keep_alive = "1 h"',
        prices='instance_hours = { unit = "1" }',
        card="",
    )
    u = unit(found)
    # The first ends at 1:40 (0:30 + 10 s + 1 min), and its instance goes then; the second's is warm for the third.
    assert u.cold_starts == 2 and u.instances.peak == 2
    assert u.life_ns == (70 + 3_600 + 90 + 60) * 10**9
    assert u.waits.max == pytest.approx(10.0, rel=0.005)


def test_a_release_refills_floors_at_once_and_without_a_token(play):
    # A floor of two, ready at 0 s; at 1:00 both go, and two start cold (5 s). The bucket holds one token, which a third call takes.
    found = play(
        function("20 s", "5 s", 'instance_floor = 2\nreleases = [{ at = "2027-03-01T00:01" }]')
        + source("folders.x", 3, at="00:01:10"),
        keys='scaling = { kind = "per-call", burst = 1, ramp = "1 /d" }',
    )
    u = unit(found)
    assert u.cold_starts == 3 and u.attempts["throttled"] == 0 and u.instances.peak == 3


def test_old_instances_count_under_the_limit_until_their_calls_end(play):
    # One instance at most. Its call runs 0:30 to 1:30; the release at 1:00 drains it, so a request at 1:10 finds it taken and
    # starts when it goes, in a new one.
    found = play(
        function("1 min", "0 s", 'instance_limit = 1\nreleases = [{ at = "2027-03-01T00:01" }]').replace(
            'timeout = "1 min"', 'timeout = "5 min"'
        )
        + source("endpoints.e", 1, at="00:00:30")
        + source("endpoints.g", 1, at="00:01:10"),
        keys='wait_limit = "1 min"',
    )
    assert unit(found).waits.max == pytest.approx(20.0, rel=0.005)
    assert unit(found).instances.peak == 1 and unit(found).cold_starts == 2


# -- floors by the clock --------------------------------------------------------------------------------------------
def test_floors_by_the_clock_are_paid_for_the_hours_they_hold(play):
    # Two instances 07:00 to 19:00 on 23 workdays of March 2027, without a call: half a GB at 0.5 EUR a GB-second.
    floors = 'instance_floors = [{ cron = "0 7 * * 1-5", floor = 2 }, { cron = "0 19 * * *", floor = 0 }]'
    found = play(function("1 s", "3 s", floors) + source("endpoints.e", 0), keys='keep_alive = "10 min"', prices=CALLS)
    u = unit(found)
    assert u.idle_floor_ns == 2 * 23 * 12 * 3_600 * 10**9
    assert found.bill.unrounded == Decimal(2 * 23 * 12 * 3_600) / 4
    # Twelve hours are longer than the keep-alive, so both go at once at 19:00.
    assert u.life_ns == 2 * 23 * 12 * 3_600 * 10**9 and u.cold_starts == 46


def test_a_lower_floor_waits_for_the_keep_alive(play):
    # Ready at 3 s past midnight, looked at from 1:00 on; idle for 10 min at 10:03.
    floors = 'instance_floors = [{ cron = "0 0 1 3 *", floor = 1 }, { cron = "1 0 1 3 *", floor = 0 }]'
    found = play(function("1 s", "3 s", floors) + source("endpoints.e", 0), keys='keep_alive = "10 min"')
    assert unit(found).life_ns == (3 + 600) * 10**9


# -- asking ---------------------------------------------------------------------------------------------------------
ANSWER = """
[functions.g]
memory = "512 MB"
timeout = "1 min"
run = "{run}"
cold_start = "0 s"
cpu_share = 0
{more}
[endpoints.p]
[[triggers]]
from = "endpoints.p"
to = "g"
"""


def asking(asks: str, run: str = "2 s", more: str = "", timeout: str = "1 min") -> str:
    own = function("1 s", more=f"asks = [{asks}]").replace('timeout = "1 min"', f'timeout = "{timeout}"')
    return own + source("endpoints.e", 1, at="00:01") + ANSWER.format(run=run, more=more)


def test_both_are_paid_while_one_waits(play):
    # 1 s of its own, then two requests at once of 2 s each: 3 s for f, 4 s for g.
    found = play(asking('{ to = "endpoints.p", each = 2 }'), prices=CALLS)
    assert (unit(found).billed_ns, unit(found, "g").billed_ns) == (3 * 10**9, 4 * 10**9)
    assert unit(found).answers.p50 == pytest.approx(3.0, rel=0.005)
    assert unit(found, "g").requests == 2
    # f, g and g: three calls; 7 s of half a GB.
    assert found.bill.unrounded == 3 + Decimal("3.5")


def test_asks_go_one_after_another_and_the_limit_of_one_is_the_latency_of_the_other(play):
    # Three at once through one instance with a minute of patience: 2, 4, 6 s; then one more of 2 s: 1 + 6 + 2.
    found = play(
        asking('{ to = "endpoints.p", each = 3 }, { to = "endpoints.p" }', more="instance_limit = 1"),
        keys='wait_limit = "1 min"',
    )
    assert unit(found).busy_ns == 9 * 10**9


def test_a_needed_bad_answer_fails_the_attempt_at_once_and_asks_no_further(play):
    # Two at once, one place and no patience: the second is refused at 1 s, where f fails; the first runs on to its 2 s.
    found = play(asking('{ to = "endpoints.p", each = 2 }, { to = "endpoints.p" }', more="instance_limit = 1"))
    assert unit(found).events["errored"] == 1 and unit(found).busy_ns == 10**9
    assert unit(found, "g").events["succeeded"] == 1 and unit(found, "g").events["rejected"] == 1
    taken = play(asking('{ to = "endpoints.p", each = 2, needs = false }', more="instance_limit = 1"))
    assert unit(taken).events["succeeded"] == 1 and unit(taken).busy_ns == 3 * 10**9


@pytest.mark.parametrize(
    ("timeout", "done", "busy_s"), [("3 s", 1, 3), ("2999 ms", 0, 2.999)], ids=["just in time", "a ms too late"]
)
def test_the_timeout_covers_asking_and_an_answer_of_its_instant_is_in_time(play, timeout, done, busy_s):
    found = play(asking('{ to = "endpoints.p" }', timeout=timeout))
    assert unit(found).attempts["succeeded"] == done and unit(found).attempts["timed_out"] == 1 - done
    assert unit(found).busy_ns == round(busy_s * 10**9)
    # What was asked runs on, whoever waits.
    assert unit(found, "g").events["succeeded"] == 1 and unit(found, "g").busy_ns == 2 * 10**9


def test_a_run_that_fails_asks_nothing(play):
    found = play(asking('{ to = "endpoints.p" }').replace("asks", "error_rate = 1\nasks"))
    assert unit(found, "g").requests == 0 and unit(found).busy_ns == 10**9


# -- outside services -----------------------------------------------------------------------------------------------
TEXTS = '[outside.text]\nunit = "0.5"\nper = 10\n'


@pytest.mark.parametrize(("on", "uses"), [("handled", 2 * 9), ("attempt", 2 * 9 * 3)])
def test_an_outside_service_is_a_line_of_its_own(play, on, uses):
    # Three batches of three; each fails twice before it succeeds: 27 events of attempts, 9 of them handled.
    model = function("1 s", more=f'uses = [{{ what = "text", each = 2, on = "{on}" }}]')
    retried = model + source("queues.q", 9, "batch = 3", 'visibility = "30 s"', at="00:00:30") + TEXTS
    found = play(retried + incident("error_rate = 1", at="00:00", lasts="80 s"), prices='calls = { unit = "0" }')
    line = next(line for line in found.bill.lines if line.meter == "outside.text")
    assert (line.quantity, line.allowance, line.billable) == (uses, 0, uses)
    assert line.amount == Decimal(uses) / 20 == found.bill.functions["f", "live"]


def test_an_outside_service_in_another_currency_is_exchanged_or_refused(write, tmp_path):
    model = function("1 s", more='uses = [{ what = "text" }]') + source("endpoints.e", 4) + TEXTS + 'currency = "USD"\n'
    write(model)
    done = run_program("check", "model.toml", cwd=tmp_path)
    assert done.returncode == 2 and "outside.text.currency" in done.stderr and "no rate of exchange" in done.stderr
    path = write(model + '[exchange]\ndate = 2027-01-15\ninto = "EUR"\nrates = { USD = "0.8" }\n')
    # 4 x 0.5 / 10 x 0.8
    line = next(line for line in project(path).played[0].bill.lines if line.meter == "outside.text")
    assert line.amount == Decimal("0.16")


# -- plans ----------------------------------------------------------------------------------------------------------
def test_operations_of_each_started_attempt_are_billed_beside_the_meters_own(play):
    # Five files: five operations of their own and four for each started attempt.
    found = play(
        function("1 s") + source("folders.x", 5),
        keys="per_call = { storage_operations = 4, log_gb = 1 }",
        prices='storage_operations = { unit = "1" }\nlog_gb = { unit = "1" }',
    )
    amounts = {line.meter: line.quantity for line in found.bill.lines}
    assert amounts["storage_operations"] == 5 + 5 * 4
    # 500 B of log each, and 1 GB each.
    assert amounts["log_gb"] == 5 + Decimal(5 * 500) / 10**9


def test_a_first_look_brings_first_and_later_ones_a_step(watch_counts):
    # 100 events wait: 7 wanted (16 each); first = 1 at 0 s, then 3 a look.
    counts = watch_counts('scaling = { kind = "polled", every = "30 s", per_instance = 16, step = 3, first = 1 }')
    assert [counts(second) for second in (1, 31, 61)] == [1, 4, 7]


@pytest.fixture
def watch_counts(write):
    from echotally.engine.play import begun, play
    from echotally.projection.loaded import placement_on

    def counts_on(keys: str):
        loaded = load(write(function("1 h").replace('"1 min"', '"2 h"') + source("queues.q", 100), keys=keys))
        offer = loaded.offers["test.plan"]
        built = begun(loaded.model, loaded.month.arrivals, placement_on(loaded.model, loaded.offers, offer), 1)

        def at(second: int) -> int:
            play(built, second * 10**9)
            return int(built.world.units[0]["count"])

        return at

    return counts_on


@pytest.mark.parametrize(
    ("cold", "outcome", "billed_s"),
    [("4 s", "succeeded", 5), ("4500 ms", "timed_out", 5), ("7 s", "timed_out", 5)],
    ids=["both fit", "the run is cut", "nothing runs"],
)
def test_a_timeout_that_covers_the_cold_start_counts_from_its_beginning(play, cold, outcome, billed_s):
    found = play(
        function("1 s", cold).replace('"1 min"', '"5 s"') + source("endpoints.e", 1),
        keys="timeout_covers_cold_start = true\ncold_start_billed = true",
    )
    assert unit(found).attempts[outcome] == 1 and unit(found).billed_ns == billed_s * 10**9


def test_others_use_reserved_instances_in_absolute_terms(play):
    # Two instances of 2 GB and 2 vCPU; others use 1 GB (a quarter) and 3 vCPU (three quarters): theirs is the larger share.
    card = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "reserved"
memory = { choices = ["512 MB"] }
instances = 2
instance_memory = "2 GB"
instance_vcpu = 2
used_gb = 1
used_vcpu = 3
[plans.plan.price]
reserved_hours = { unit = "1" }
"""
    found = play(function("10 s") + source("folders.x", 7), card=card)
    assert found.bill.unrounded == 2 * 744 / Decimal(4)
    # 1.5 GB are left on each: three calls of half a GB at once on each of two.
    assert unit(found).concurrency.peak == 6


def test_a_run_that_belongs_to_its_event_takes_as_long_again(play):
    # Half of the events take 10 s and are cut at 5 s, each time: three tries, then lost. Drawn anew, most would get through.
    spread = "{ mix = [{ share = 0.5, constant = '1 s' }, { share = 0.5, constant = '10 s' }] }"
    model = function("1 s").replace('run = "1 s"', f"run = {spread}").replace('"1 min"', '"5 s"')
    same = unit(play(model + 'retry_run = "same"\n' + source("folders.x", 4_000)))
    assert same.attempts["timed_out"] == 3 * same.events["lost"]
    assert same.attempts["total"] == same.events["succeeded"] + 3 * same.events["lost"]
    # 4,000 fair lots: within 4 standard deviations of the half.
    assert abs(same.events["lost"] - 2_000) < 4 * 31.7
    anew = unit(play(model + source("folders.x", 4_000)))
    # An eighth fails three times.
    assert abs(anew.events["lost"] - 500) < 4 * 21


def test_a_firing_weighs_its_items(play):
    # 20 items of 2 MB at 100 ms a MB: 4 s, and 1 s of run.
    schedule = '[schedules.s]\ncron = "0 0 2 3 *"\nitems = 20\npayload = "2 MB"\n[[triggers]]\nfrom = "schedules.s"\nto = "f"\n'
    assert unit(play(function("1 s", more='per_mb = "100 ms"') + schedule)).busy_ns == 5 * 10**9
