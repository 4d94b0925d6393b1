"""What must not change a projection, and what must change it by a known amount: no figure here is ours to choose."""

from __future__ import annotations

import json
import re
from decimal import Decimal
from fractions import Fraction

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from echotally.output.projection.projection_json import projection_dict
from echotally.projection.project import project
from tests.conftest import unit

KEYS = 'keep_alive = "4 min"\nwait_limit = "300 ms"\nslots_limit = 4\ninstance_limit = 30\nidle_readers = 1\n'
PRICES = """
calls = { per = 1_000_000, unit = "0.19" }
gb_seconds = { tiers = [{ up_to = 200, unit = "0.000016" }, { unit = "0.000014" }] }
queue_operations = { per = 1_000_000, unit = "0.4" }
gateway_requests = { per = 1_000_000, unit = "1.1" }
log_gb = { unit = "0.5" }
[plans.plan.allowance]
calls = 1_000
gb_seconds = 100
"""
MODEL = """
[functions.intake]
memory = "512 MB"
run = { median = "120 ms", p95 = "400 ms" }
cold_start = "900 ms"
error_rate = 0.01
instance_limit = 3
emits = [{ into = "queues.alerts", each = 0.3 }]
[functions.send]
memory = "256 MB"
run = "200 ms"
timeout = "30 s"
per_item = "20 ms"
[functions.draw]
memory = "1 GB"
run = "3 s"
[streams.levels]
partitions = 4
[queues.alerts]
visibility = "2 min"
[endpoints.map]
[schedules.nightly]
cron = "30 2 * * *"
items = 40
[demand.gauges]
into = "streams.levels"
rate = "3 /min"
payload = "1.2 kB"
[demand.visitors]
into = "endpoints.map"
lumps = [{ at = "2027-03-09T10:00", count = 700, over = "20 s" }]
[[triggers]]
from = "streams.levels"
to = "intake"
batch = 2
batch_wait = "30 s"
[[triggers]]
from = "queues.alerts"
to = "send"
batch = 10
readers = 4
[[triggers]]
from = "endpoints.map"
to = "draw"
[[triggers]]
from = "schedules.nightly"
to = "draw"
"""


@pytest.fixture
def figures(write):
    """All of a projection but what it read: the plans of the JSON."""

    def found(model=MODEL, sets=(), keys=KEYS, prices=PRICES, **more):
        return json.loads(json.dumps(projection_dict(project(write(model, keys, prices, **more), sets))["plans"]))

    return found


def edited(old, new, text=MODEL):
    assert text.count(old) == 1, old
    return text.replace(old, new)


# -- what changes nothing -------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("old", "new"),
    [
        ('memory = "512 MB"', 'memory = "0.5 GB"'),
        ('memory = "1 GB"', 'memory = "1024 MB"'),
        ('cold_start = "900 ms"', 'cold_start = "0.9 s"'),
        ('timeout = "30 s"', 'timeout = "0.5 min"'),
        ('run = "3 s"', 'run = "3000 ms"'),
        ('visibility = "2 min"', 'visibility = "120 s"'),
        ('rate = "3 /min"', 'rate = "180 /h"'),
        ('rate = "3 /min"', 'rate = "4320 /d"'),
        ('payload = "1.2 kB"', 'payload = "1200 B"'),
        ('batch_wait = "30 s"', 'batch_wait = "30000 ms"'),
        ('over = "20 s"', 'over = "20000 ms"'),
        ('at = "2027-03-09T10:00"', 'at = "2027-03-09T10:00:00"'),
        ('cron = "30 2 * * *"', 'cron = "30 02 */1 * *"'),
        ('cron = "30 2 * * *"', 'rrule = "FREQ=DAILY;BYHOUR=2;BYMINUTE=30;BYSECOND=0"'),
        ('cron = "30 2 * * *"', 'every = "24 h"\nfrom = "2027-01-01T02:30"'),
    ],
)
def test_another_spelling_of_the_same_value_changes_nothing(figures, old, new):
    assert figures(edited(old, new)) == figures()


#: Every default of design.md section 5, written out where the model leaves it out.
DEFAULTS = [
    ('run = "3 s"', line)
    for line in (
        'timeout = "30 s"', "slots = 1", "instance_floor = 0", 'per_item = "0 s"', 'per_mb = "0 s"', 'cold_start = "400 ms"',
        "cpu_share = 0.5", "threads = 1", 'memory_used = "1 GB"', "error_rate = 0", "poison_rate = 0", 'log_bytes = "500 B"',
        'reply_bytes = "0 B"', 'package = "10 MB"', 'measured_at = "1 GB"',
    )
] + [
    *(("[queues.alerts]", line) for line in ('retention = "4 d"', 'delay = "0 s"', "backlog = 0", "fifo = false")),
    ("partitions = 4", 'retention = "24 h"'),
    ("items = 40", 'overlap = "allow"'),
    ("items = 40", 'timezone = "UTC"'),
    ("items = 40", "seconds = false"),
    *(('rate = "3 /min"', line) for line in ('spread = "poisson"', "repeat = false")),
    *(("[demand.visitors]", line) for line in ("client_tries = 1", 'client_pause = "1 s"', 'payload = "1 kB"')),
    ("batch = 2", "readers = 1"),
    ("batch = 10", 'batch_wait = "0 s"'),
    ("batch = 10", 'on_failure = "whole"'),
    ('from = "schedules.nightly"', "tries = 3"),
]  # fmt: skip


#: By day every second one.
BY_TURNS = [pytest.param(*case, marks=pytest.mark.nightly if n % 2 else ()) for n, case in enumerate(DEFAULTS)]


@pytest.mark.parametrize(("after", "line"), BY_TURNS, ids=lambda text: text if " = " in text else "")
def test_a_default_written_out_changes_nothing(figures, after, line):
    assert figures(edited(after, f"{after}\n{line}")) == figures()


@pytest.mark.parametrize(
    "line",
    [
        'scaling = { kind = "per-call" }', "cold_start_factor = 1", "cold_start_billed = false",
        'rounding = { time = "1 ms", at_least = "1 ms" }', 'memory_billed = "given"', 'pull = "matched"', "available = true",
        'poll_wait = "20 s"', 'sources = ["schedules", "queues", "topics", "streams", "endpoints", "folders"]',
        '[plans.plan.push]\nfirst_wait = "1 s"\nlongest_wait = "5 min"\ngive_up = "6 h"\nretry_waits = ["1 min", "2 min"]',
    ],
)  # fmt: skip
def test_a_default_of_a_plan_written_out_changes_nothing(figures, line):
    assert figures(keys=KEYS + line) == figures()


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ('run = "3 s"', 'run = "3 s"\ntags = { team = "charts" }'),
        ('rate = "3 /min"', 'rate = "3 /min"\nrange = { low = 0.5, high = 2 }'),
        ('rate = "3 /min"', 'rate = "3 /min"\ngrowth = 0.2'),
        ('rate = "3 /min"', 'rate = "3 /min"\nsurges = [{ at = "2027-04-02T00:00", lasts = "3 h", times = 50 }]'),
    ],
    ids=["tags", "range", "growth", "surge-of-another-month"],
)
def test_what_belongs_to_other_questions_changes_nothing(figures, old, new):
    assert figures(edited(old, new)) == figures()


def test_the_order_of_tables_and_of_keys_changes_no_functions_figures(figures):
    head, *tables = re.split(r"(?m)^(?=\[)", MODEL)
    triggers = [t for t in tables if t.startswith("[[")]
    others = [t for t in tables if not t.startswith("[[")]
    turned = [first + "".join(reversed(rest)) for first, *rest in (t.splitlines(keepends=True) for t in others)]
    mixed = figures(head + "".join(reversed(turned)) + "".join(triggers))[0]
    plain = figures()[0]
    by_name = {f["function"]: f for f in plain["functions"]}
    assert {f["function"]: f for f in mixed["functions"]} == by_name
    assert mixed["cost"] == plain["cost"]


def test_an_override_is_the_same_as_an_edit(figures):
    for address, value, old, new in (
        ("functions.draw.memory", "2 GB", 'memory = "1 GB"', 'memory = "2 GB"\nmeasured_at = "1 GB"'),
        ("functions.intake.instance_limit", "1", "instance_limit = 3", "instance_limit = 1"),
        ("queues.alerts.visibility", "5 s", 'visibility = "2 min"', 'visibility = "5 s"'),
        ("demand.gauges.rate", "9 /min", 'rate = "3 /min"', 'rate = "9 /min"'),
    ):
        assert figures(sets=[(address, value)]) == figures(edited(old, new)), address


def test_names_do_not_matter_where_nothing_is_drawn(play):
    model = """
[functions.{f}]
memory = "256 MB"
run = "1 s"
instance_limit = 2
[endpoints.{e}]
[demand.{d}]
into = "endpoints.{e}"
lumps = [{{ cron = "0 * * * *", count = 9, over = "3 s" }}]
[[triggers]]
from = "endpoints.{e}"
to = "{f}"
"""
    one, other = play(model.format(f="f", e="e", d="d")), play(model.format(f="zeta", e="alpha", d="mid"))
    assert one.bill.total == other.bill.total and one.bill.unrounded == other.bill.unrounded
    assert unit(one).attempts == unit(other, "zeta").attempts


@settings(max_examples=12, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)
@given(st.integers(1, 20), st.integers(0, 23), st.integers(0, 59))
def test_what_happens_on_another_day_costs_the_same(play, day, hour, minute):
    def month(at):
        plan = play(edited("2027-03-09T10:00", at, _only_lumps()))
        return plan.bill.unrounded, unit(plan, "draw").attempts, unit(plan, "draw").waits

    assert month("2027-03-21T12:00") == month(f"2027-03-{day:02}T{hour:02}:{minute:02}")


def _only_lumps():
    """The page's part of the model alone: one lump, nothing drawn by lot."""
    start, end = MODEL.index("[functions.draw]"), MODEL.index("[streams.levels]")
    return (
        MODEL[start:end]
        + '[endpoints.map]\n[demand.visitors]\ninto = "endpoints.map"\n'
        + 'lumps = [{ at = "2027-03-09T10:00", count = 700, over = "20 s" }]\n'
        + '[[triggers]]\nfrom = "endpoints.map"\nto = "draw"\n'
    )


def test_one_demand_cut_in_two_is_the_same_demand(play):
    whole = _only_lumps()
    halves = whole.replace("count = 700", "count = 350") + (
        '[demand.more]\ninto = "endpoints.map"\nlumps = [{ at = "2027-03-09T10:00", count = 350, over = "20 s" }]\n'
    )
    # The halves' calls come in pairs, which matters to nobody where there is room for all.
    one, two = play(whole), play(halves)
    assert unit(one, "draw").attempts["total"] == unit(two, "draw").attempts["total"] == 700
    assert one.bill.unrounded == two.bill.unrounded


def test_one_demand_cut_in_a_thousand_is_the_same_demand(play):
    # Each has its next event in the calendar from 0 s on, before anybody looks for room.
    many = "".join(f'[demand.d{n}]\ninto = "endpoints.map"\nmonthly = 3\nspread = "even"\n' for n in range(1_000))
    # The same instant for all of them: each has an instance of its own then.
    u = unit(
        play(
            _only_lumps().replace("[demand.visitors]", many + "[demand.visitors]").replace("count = 700", "count = 1")
        ),
        "draw",
    )
    assert u.events["in"] == u.attempts["succeeded"] + u.attempts["failed"] + u.attempts["throttled"] == 3_001


@pytest.mark.parametrize("partitions", [2, 3, 600])
def test_partitions_do_not_matter_to_what_is_handled_before_the_next_comes(play, partitions):
    # One record a minute, handled within two seconds: whatever partition it lies in, it is the only one.
    stream = """
[functions.f]
memory = "512 MB"
run = "1500 ms"
cold_start = "400 ms"
[streams.s]
partitions = {}
[demand.d]
into = "streams.s"
rate = "1 /min"
spread = "even"
[[triggers]]
from = "streams.s"
to = "f"
"""
    u, of_one = unit(play(stream.format(partitions))), unit(play(stream.format(1)))
    assert u.lag_max_s == pytest.approx(1.9) and u.lag_p95_s == of_one.lag_p95_s
    assert (u.attempts, u.waits, u.billed_ns) == (of_one.attempts, of_one.waits, of_one.billed_ns)


def test_two_accounts_pay_as_two_estates_and_one_account_shares_its_allowance(figures):
    def billable(plan, meter):
        return sum(Decimal(str(line["billable"])) for line in plan["cost"]["lines"] if line["meter"] == meter)

    alone = figures()[0]
    apart = figures(MODEL + '[environments.live]\n[environments.rehearsal]\naccount = "trial"\ndemand = 1\n')[0]
    shared = figures(MODEL + "[environments.live]\n[environments.rehearsal]\ndemand = 1\n")[0]
    used = Decimal(1_000)
    assert billable(shared, "calls") - billable(apart, "calls") == used
    live = [f for f in apart["functions"] if f["environment"] == "live"]
    assert [f["attempts"] for f in live] == [f["attempts"] for f in alone["functions"]]


# -- what changes it by a known amount ------------------------------------------------------------------------------
EVEN = """
[functions.f]
memory = "512 MB"
run = "250 ms"
cold_start = "0 ms"
[endpoints.e]
[demand.d]
into = "endpoints.e"
rate = "RATE"
spread = "even"
[[triggers]]
from = "endpoints.e"
to = "f"
"""


@pytest.mark.parametrize(
    ("month", "zone", "hours"),
    [
        ("2027-02", "UTC", 672),
        ("2028-02", "UTC", 696),
        ("2027-04", "UTC", 720),
        ("2027-03", "Europe/Dublin", 743),
        ("2027-10", "Europe/Dublin", 745),
        ("2027-04", "Australia/Lord_Howe", Fraction(1441, 2)),
        ("2027-10", "Asia/Kathmandu", 744),
    ],
)
def test_an_even_rate_makes_as_many_calls_as_the_month_has_hours(play, month, zone, hours):
    plan = play(EVEN.replace("RATE", "40 /h"), month=month, zone=zone)
    assert unit(plan).attempts["total"] == 40 * hours
    # Each call takes 250 ms at 512 MB: an eighth of a GB-second.
    lines = {line.meter: line.quantity for line in plan.bill.lines}
    assert Fraction(lines["gb_seconds"]) == Fraction(40 * hours, 8)


@settings(max_examples=15, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)
@given(st.decimals(min_value="0.001", max_value=100, places=3))
def test_prices_times_a_factor_make_a_bill_times_the_factor(write, factor):
    def bill(times):
        prices = re.sub(r'unit = "([\d.]+)"', lambda m: f'unit = "{Decimal(m[1]) * times:f}"', PRICES)
        return project(write(EVEN.replace("RATE", "3 /min"), KEYS, prices)).plans[0].bill.unrounded

    assert abs(bill(factor) - bill(Decimal(1)) * factor) < Decimal("1e-20")


@pytest.mark.parametrize("meter", ["calls", "gb_seconds"])
def test_an_allowance_takes_off_exactly_itself_until_nothing_is_left(write, meter):
    def billable(allowance):
        prices = f'{meter} = {{ unit = "1" }}\n[plans.plan.allowance]\n{meter} = {allowance}'
        line = project(write(EVEN.replace("RATE", "1 /min"), KEYS, prices)).plans[0].bill.lines[0]
        return line.quantity, line.billable

    whole, _ = billable(0)
    assert [billable(n) for n in (0, 17, int(whole) - 1)] == [(whole, whole - n) for n in (0, 17, int(whole) - 1)]
    assert billable(int(whole) + 1) == (whole, 0)


def test_more_room_never_throttles_more_of_a_burst(play):
    refused = [unit(play(_only_lumps(), sets=(("functions.draw.instance_limit", str(n)),)), "draw").attempts["throttled"] for n in (1, 2, 5, 30, 120, 400)]  # fmt: skip
    assert refused == sorted(refused, reverse=True)
    assert refused[0] > 600 and refused[-1] == 0


def test_a_longer_timeout_never_cuts_more_runs(play):
    def cut(seconds):
        plan = play(MODEL, sets=(("functions.intake.timeout", f"{seconds} ms"),), keys=KEYS)
        return unit(plan, "intake").attempts["timed_out"]

    cuts = [cut(ms) for ms in (50, 200, 500, 2_000, 60_000)]
    assert cuts == sorted(cuts, reverse=True) and cuts[0] > 1_000 and cuts[-1] == 0


def test_processor_work_is_shorter_with_more_memory_and_the_rest_is_not(play):
    def mean_run(memory, share):
        text = EVEN.replace("RATE", "1 /min").replace('"512 MB"', f'"{memory}"\nmeasured_at = "512 MB"\nthreads = 8')
        plan = play(text.replace('run = "250 ms"', f'run = "250 ms"\ncpu_share = {share}'))
        return Fraction(unit(plan).busy_ns, unit(plan).started * 10**6)

    # vCPUs follow memory, two a GB: work measured on one takes a half on two and twice on a half.
    assert [mean_run(m, 1) for m in ("256 MB", "512 MB", "1 GB")] == [500, 250, 125]
    assert [mean_run(m, 0) for m in ("256 MB", "512 MB", "1 GB")] == [250, 250, 250]
    assert mean_run("1 GB", 0.5) == Fraction(250 + 125, 2)
