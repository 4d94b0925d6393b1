"""What comes in: exact counts, means and variances, shapes, surges, lumps, traces, independent streams."""

from __future__ import annotations

import json
import math

import pytest

from echotally.errors import BadInput
from echotally.output.model.demand_view import demand_text
from echotally.projection.demand import view_demand
from echotally.projection.loaded import load
from tests.conftest import run_program

REST = """
[functions.f]
memory = "128 MB"
run = "1 ms"
[queues.q]
[[triggers]]
from = "queues.q"
to = "f"
"""


def drawn(write, demand: str, seed: int = 1, **head: str):
    path = write(REST + '[demand.d]\ninto = "queues.q"\n' + demand, **head)
    return view_demand(path, seed=seed).sources[0]


@pytest.mark.parametrize(
    ("demand", "expected"),
    [
        ('rate = "2 /min"\nspread = "even"', 2 * 60 * 744),
        ('monthly = 12345\nspread = "even"', 12345),
        (f'monthly = 50000\nspread = "even"\nday_shape = {list(range(24))}\nweek_shape = [1, 1, 1, 1, 1, 0, 0]', 50000),
        ('rate = "6 /h"\nspread = "even"\nsurges = [{ at = "2027-03-05T00:00", lasts = "10 h", times = 11 }]', 6 * 744 + 600),
        ('rate = "6 /h"\nspread = "even"\nsurges = [{ at = "2027-03-05T00:00", lasts = "10 h", times = 3 }, { at = "2027-03-05T05:00", lasts = "10 h", times = 2 }]',
         6 * 744 + 6 * (5 * 2 + 5 * 5 + 5 * 1)),
        ('lumps = [{ cron = "0 2 * * *", count = 100, over = "1 min" }, { at = "2027-03-09T12:00", count = 7 }]', 31 * 100 + 7),
        ('lumps = [{ cron = "0 * * * *", count = 10, over = "3 h" }]', 7440 - 10 * (2 / 3 + 1 / 3)),
    ],
    ids=["rate", "monthly", "shaped", "surge", "two surges", "lumps", "overlapping lumps"],
)  # fmt: skip
def test_even_demand_has_exactly_the_stated_count(write, demand, expected):
    assert drawn(write, demand).total == pytest.approx(expected, abs=1e-6 if expected == int(expected) else 10)


def test_even_events_stand_where_the_integrated_rate_reaches_k_minus_a_half(write):
    minutes = drawn(write, 'rate = "1 /h"\nspread = "even"').minutes
    assert [int(m) for m in minutes.nonzero()[0][:3]] == [30, 90, 150]


@pytest.mark.parametrize(
    ("spread", "index"), [('"poisson"', 1.0), ('"bursty"\nburst = 5', 2 * 5 - 1)], ids=["poisson", "bursty"]
)
def test_random_demand_has_the_stated_mean_and_variance(write, spread, index):
    # Index of dispersion of counts: Poisson 1; Poisson bursts of geometric size with mean b: E[B^2]/E[B] = 2b - 1.
    totals, hourly = [], []
    for seed in range(12):
        s = drawn(write, f'rate = "100 /h"\nspread = {spread}', seed)
        totals.append(s.total)
        hours = s.minutes.reshape(-1, 60).sum(axis=1)
        hourly.append(float(hours.var() / hours.mean()))
    n = 12 * 74_400
    assert abs(sum(totals) - n) < 4 * math.sqrt(n * index)
    mean = sum(hourly) / 12
    # Variance of a sample dispersion index over 12 x 744 hours; bursty counts have heavier tails, hence 3 x.
    assert abs(mean - index) < 4 * 3 * index * math.sqrt(2 / (12 * 744))


def test_shapes_follow_the_local_hour(write):
    day = [0] * 24
    day[3] = 1
    s = drawn(write, f'monthly = 30000\nspread = "even"\nday_shape = {day}', zone="Europe/Dublin")
    assert s.heat[:, 3].sum() == 30000
    # 1 to 27 and 29 to 31 March have the hour from three to four, and the 28th as well.
    assert (s.heat[:, 3] > 0).sum() == 31


@pytest.mark.parametrize("form", ["csv", "parquet"])
def test_a_trace_gives_exactly_its_counts(write, tmp_path, form):
    rows = [
        "time,count",
        *(f"2027-{m:02}-{d:02}T00:00,{d}" for m, days in ((2, [28]), (3, range(1, 32)), (4, [1])) for d in days),
    ]
    (tmp_path / "t.csv").write_text("\n".join(rows) + "\n")
    if form == "parquet":
        import duckdb

        duckdb.sql(f"COPY (SELECT * FROM read_csv('{tmp_path}/t.csv')) TO '{tmp_path}/t.parquet'")
    path = write(REST + f'[demand.d]\ninto = "queues.q"\ntrace = "t.{form}"')
    view = view_demand(path)
    assert view.sources[0].total == sum(range(1, 32))
    assert view.sources[0].heat.sum(axis=1).tolist() == list(range(1, 32))
    assert any("2 row(s) outside 2027-03 left out" in note for note in view.loaded.month.notes)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("time,count\n2027-03-01T00:00,5\n2027-03-01T00:00,6\n", "does not come after"),
        ("time,count\n2027-03-01T00:00,5\n2027-03-02T00:00,6\n", "shorter than the month"),
        ("time,number\n2027-03-01T00:00,5\n", "has the columns time, number"),
        ("time,count\nyesterday,5\n", 'row 2 of t.csv has the time "yesterday"'),
        ("time,count\n2027-03-01T00:00,-5\n", 'the count "-5"'),
        ("time,count\n2027-03-01T00:00,5\n", "at least two rows"),
        ("time,count\n1066-10-14T00:00,5\n2027-03-01T00:00,5\n", "times within 140 years"),
        ("", "has neither of the columns"),
    ],
)
def test_a_bad_trace_says_what_is_wrong(write, tmp_path, text, says):
    (tmp_path / "t.csv").write_text(text)
    with pytest.raises(BadInput) as caught:
        drawn(write, 'trace = "t.csv"')
    assert says in str(caught.value)


def test_a_trace_that_is_changed_is_read_anew(write, tmp_path):
    for count in (3, 40):
        (tmp_path / "t.csv").write_text(f"time,count\n2020-01-01T00:00,{count}\n2020-01-01T12:00,{count}\n")
        assert drawn(write, 'trace = "t.csv"\nrepeat = true').total == 31 * 2 * count


def test_what_leaves_64_bits_is_refused_and_the_largest_that_does_not_is_counted(write, tmp_path):
    (tmp_path / "t.csv").write_text("time,count\n2020-01-01T00:00,1000000000000\n2020-01-31T00:00,1\n")
    text = REST + '[demand.d]\ninto = "queues.q"\ntrace = "t.csv"\nrepeat = true\n[environments.live]\n'
    # Thirty days of the first count, and the second one in the thirty-first.
    assert sum(t.expected for t in load(write(text + "demand = 1000000\n")).month.taps) == 1e18 + 1e6
    with pytest.raises(BadInput, match="more than can be played"):
        load(write(text + "demand = 1000001\n"))


def test_a_short_trace_is_laid_end_to_end_in_elapsed_time(write, tmp_path):
    (tmp_path / "t.csv").write_text("time,count\n2020-01-01T00:00,3\n2020-01-01T12:00,1\n")
    assert drawn(write, 'trace = "t.csv"\nrepeat = true').total == 31 * 4


def test_adding_a_function_a_plan_or_a_demand_changes_no_other_demands_events(write):
    before = drawn(write, 'rate = "100 /h"')
    more = 'rate = "100 /h"\n[queues.r]\n[demand.a]\ninto = "queues.r"\nrate = "5 /h"\n[functions.g]\nmemory = "1 GB"\nrun = "1 s"\n'
    after = drawn(write, more)
    assert (before.minutes == after.minutes).all()
    assert (before.minutes != drawn(write, 'rate = "100 /h"', seed=2).minutes).any()


def test_environments_multiply_demand_and_copy_schedules(write, tmp_path):
    text = REST + '[demand.d]\ninto = "queues.q"\nmonthly = 10000\nspread = "even"\n[schedules.s]\nevery = "1 h"\n'
    text += "[environments.live]\n[environments.small]\ndemand = 0.25\n[environments.quiet]\nschedules = false\n"
    view = view_demand(write(text))
    totals = {(s.environment, s.source): s.total for s in view.sources}
    assert totals["live", "queues.q"] == totals["quiet", "queues.q"] == 10000
    assert totals["small", "queues.q"] == 2500
    assert totals["live", "schedules.s"] == totals["small", "schedules.s"] == 744
    assert ("quiet", "schedules.s") not in totals


def test_the_program_draws_table_json_csv_and_chart(river, tmp_path):
    done = run_program("demand", str(river), "--plot", "d.png", "--width", "100", cwd=tmp_path)
    assert done.returncode == 0
    assert max(len(line) for line in done.stdout.splitlines()) <= 110
    assert (tmp_path / "d.png").read_bytes()[:4] == b"\x89PNG"
    data = json.loads(run_program("demand", str(river), "--format", "json", cwd=tmp_path).stdout)
    gauges = next(s for s in data["sources"] if s["source"] == "streams.levels")
    assert sum(map(sum, gauges["heat"])) == gauges["events"]
    table = run_program("demand", str(river), "--format", "csv", cwd=tmp_path).stdout.splitlines()
    assert table[0] == "environment,source,day,hour,events"
    assert run_program("demand", str(river), "--plot", "d.gif", cwd=tmp_path).returncode == 2


def test_gaps_of_a_trace_are_named_with_their_place(write, tmp_path):
    # Hourly rows with a hole of five hours on the second day.
    rows = ["time,count"] + [f"2027-03-{1 + h // 24:02}T{h % 24:02}:00,1" for h in range(31 * 24) if not 30 < h < 35]
    (tmp_path / "t.csv").write_text("\n".join(rows) + "\n")
    notes = view_demand(write(REST + '[demand.d]\ninto = "queues.q"\ntrace = "t.csv"')).loaded.month.notes
    assert any("1 gap(s), the longest 5 h after 2027-03-02 06:00" in note for note in notes)


def test_range_and_growth_are_shown_in_events_of_the_month(write):
    demand = '[demand.d]\ninto = "queues.q"\nmonthly = 10_000\ngrowth = 0.1\nrange = { low = 0.5, high = 2 }'
    text = demand_text(view_demand(write(REST + demand)), 200)
    # 10,000 x 1.1^12 = 31,384.
    assert (
        "d: 10,000 events expected in the month; likely 5,000 to 20,000 events; at +10.0% a month 31,384 in a year."
        in text
    )
