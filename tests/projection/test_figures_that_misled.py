"""Figures that once misled, each against arithmetic written out here, through the installed program where it has one."""

from __future__ import annotations

import csv
import io
import json
import math
from decimal import Decimal

import numpy as np
import pytest

from echotally.evidence.fit.estimates import log_normal
from echotally.evidence.fit.rhythm import STRETCH_S, rhythm
from echotally.output.base.charts import PIXELS, new_figure, picture, pixels_wide, titled
from echotally.output.base.terminal import money
from echotally.output.base.waterfall import Walk, waterfall
from echotally.projection.project import project
from tests.conftest import CARD, HEAD, PRICES, run_program

HOURLY = """
[functions.f]
memory = "512 MB"
run = "10 s"
timeout = "20 s"
[schedules.s]
cron = "0 * * * *"
[[triggers]]
from = "schedules.s"
to = "f"
"""


@pytest.fixture
def says(write, tmp_path):
    """Run the program on a model; answers with its JSON."""

    def ask(model: str, command: str, *options: str, **card: str):
        write(model, **card)
        done = run_program(command, "model.toml", *options, "--format", "json", cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        return json.loads(done.stdout)

    return ask


def starts(tmp_path, rows: list[tuple[str, str]]) -> None:
    """A log of starts as (time, id)."""
    lines = [f"{time},{each},f,10000,ok" for time, each in rows]
    (tmp_path / "log.csv").write_text("time,id,function,run_ms,outcome\n" + "\n".join(lines) + "\n")


def test_twelve_starts_after_twelve_firings_are_twelve_on_time(says, tmp_path):
    # Each start comes 1 s after its firing, the first one too: it belongs to the firing just before the log begins.
    starts(tmp_path, [(f"2027-03-01T{h:02}:00:01Z", f"r{h}") for h in range(12)])
    found = says(HOURLY, "firings", "--log", "log.csv")
    assert (found["expected"], found["on_time"], found["extra"], found["missed"]) == (12, 12, [], [])


def test_a_window_says_which_firings_are_looked_for(says, tmp_path):
    starts(tmp_path, [(f"2027-03-01T{h:02}:00:01Z", f"r{h}") for h in range(12)])
    found = says(HOURLY, "firings", "--log", "log.csv", "--from", "2027-03-01T02:00", "--until", "2027-03-01T15:00")
    # Thirteen firings from 02:00 to 14:00; ten starts from 02:00:01 to 11:00:01.
    assert (found["expected"], found["on_time"], len(found["missed"]), found["extra"]) == (13, 10, 3, [])


def test_a_doubled_start_with_one_id_is_extra_as_well_as_odd(says, tmp_path):
    rows = [(f"2027-03-01T{h:02}:00:01Z", f"r{h}") for h in range(4)]
    starts(tmp_path, [*rows, ("2027-03-01T02:00:03Z", "r2")])
    found = says(HOURLY, "firings", "--log", "log.csv")
    assert (found["on_time"], found["extra"]) == (4, ["2027-03-01T02:00:03Z"])
    assert any("an id that was there before" in note for note in found["notes"])


def test_a_run_is_no_longer_than_its_timeout_where_overlap_is_told(says):
    # Runs of 2 h are cut at 20 s: hourly firings do not overlap.
    found = says(HOURLY.replace('run = "10 s"', 'run = "2 h"'), "firings")
    assert "no overlap" in found["schedules"][0]["overlap"]
    assert "a run of f takes 20.0 s" in found["schedules"][0]["overlap"]


@pytest.mark.parametrize(
    ("rule", "count", "refused"),
    [
        ("FREQ=DAILY;UNTIL=20270305T120000Z", 5, ""),
        ("FREQ=DAILY;INTERVAL=0", 0, "INTERVAL of 0"),
        ("FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=30", 0, "can never fire"),
        ("FREQ=HOURLY;INTERVAL=2;BYHOUR=3", 0, "can never fire"),
        ("FREQ=YEARLY;BYMONTH=4;BYMONTHDAY=31", 0, "can never fire"),
    ],
)
def test_recurrence_rules_end_in_utc_and_are_refused_where_they_never_fire(tmp_path, rule, count, refused):
    done = run_program(
        "firings", rule, "--month", "2027-03", "--from", "2027-03-01T00:00", "--count", "1", cwd=tmp_path
    )
    if refused:
        assert done.returncode == 2
        assert refused in done.stderr
    else:
        assert json.loads(done.stdout)["month_count"] == count


QUEUE = """
[functions.f]
memory = "512 MB"
run = "1 s"
cold_start = "4 s"
cpu_share = 0
instance_limit = 2
[queues.q]
[demand.d]
into = "queues.q"
lumps = [{ at = "2027-03-05T00:00", count = 1000 }]
[[triggers]]
from = "queues.q"
to = "f"
"""


def test_a_drain_costs_what_the_month_costs_more_with_it(write, tmp_path):
    # 1,000 calls this month, of 1,500 free: of a drain's 1,000 only 500 are billed, at 1 each.
    card = CARD.format(keys="", prices='calls = { unit = "1" }') + "[plans.plan.allowance]\ncalls = 1_500\n"
    write(QUEUE, card=card)
    done = run_program("drain", "model.toml", "--queue", "q", "--backlog", "1000", "--format", "json", cwd=tmp_path)
    (row,) = json.loads(done.stdout)["rows"]
    assert row["cost"] == "500.000000"
    # Two instances, cold for 4 s, then 500 runs of 1 s each: the last ends at 504 s, the 990th at 4 + 495 s.
    assert row["empty_s"] == pytest.approx(504.0)
    assert row["handled_99_s"] == pytest.approx(499.0, rel=0.005)
    # Two start at 0 s, two are ready at 4 s; the last is gone 5 minutes after its last run.
    assert [step["count"] for step in row["instances"]][-1] == 0
    assert row["instances"][-1]["from_s"] == pytest.approx(504.0 + 300)
    assert {step["from_s"]: step["count"] for step in row["ready"]}[4.0] == 2


MAP = """
[functions.f]
memory = "512 MB"
run = "1 s"
cold_start = "4 s"
cpu_share = 0
[endpoints.e]
[demand.d]
into = "endpoints.e"
rate = "1 /h"
[[triggers]]
from = "endpoints.e"
to = "f"
"""


def load_of(write, tmp_path, *options: str, keys: str = ""):
    write(MAP, keys=keys)
    command = ("load", "model.toml", "--function", "f", "--clients", "4", "--limit", "2", "--calls", "100", *options)
    return run_program(*command, "--format", "json", cwd=tmp_path), run_program(
        *command, "--width", "300", cwd=tmp_path
    )


def test_refused_clients_that_ask_again_at_once_are_named_in_the_headline(write, tmp_path):
    data, text = load_of(write, tmp_path)
    # Two of four are refused and come again every millisecond of the 4 s of the cold start: the trial is over before it.
    assert json.loads(data.stdout)["rows"][0]["calls_per_s"] == 0
    assert "In 1 of 1 rows refused clients that ask again at once (after 1 ms)" in text.stdout.splitlines()[0]
    paused, said = load_of(write, tmp_path, "--pause", "1 s")
    row = json.loads(paused.stdout)["rows"][0]
    # Two instances answer one a second each once they are warm.
    assert row["calls_per_s"] > 0.4
    assert "ask again at once" not in said.stdout
    assert row["steady_s"] == pytest.approx(4.0)


def test_a_plans_own_limit_is_named_where_it_binds(write, tmp_path):
    data, text = load_of(write, tmp_path, "--pause", "1 s", keys="concurrency_limit = 1")
    assert json.loads(data.stdout)["rows"][0]["bound_by"] == "test.plan allows 1 calls at once"
    assert "What binds: test.plan allows 1 calls at once." in text.stdout


def test_exactly_log_normal_runs_are_as_near_as_they_are():
    # Quantiles of a log-normal, 200,000 of them: the distance is half a step, and what bins add.
    from scipy.stats import norm

    n, mean, sd = 200_000, math.log(120), 0.7
    times = np.exp(mean + sd * norm.ppf((np.arange(n) + 0.5) / n))
    places, counts = np.unique(np.floor((np.log(times) - mean) / sd * 2_000), return_counts=True)
    found = log_normal(n, mean, sd, times[::20], bins=((places + 1) / 2_000, np.cumsum(counts)))
    assert found.kind == "log-normal"
    assert found.distance < 0.0005


@pytest.mark.parametrize("hours", [40 / 60, 10, 50])
def test_poisson_logs_scatter_as_poisson(hours):
    # Twenty logs that begin and end somewhere in a quarter of an hour: hardly one is said to scatter.
    from zoneinfo import ZoneInfo

    wide = 0
    for seed in range(20):
        chance = np.random.default_rng(seed)
        first = 1_800_000_000 + chance.uniform(0, STRETCH_S)
        times = first + chance.uniform(0, hours * 3_600, chance.poisson(0.2 * hours * 3_600))
        counts: dict[int, float] = {}
        for at in times:
            counts[int(at // STRETCH_S)] = counts.get(int(at // STRETCH_S), 0.0) + 1
        wide += rhythm(counts, float(times.min()), float(times.max()), ZoneInfo("UTC")).dispersion > 1
    assert wide <= 2


def test_a_column_close_to_a_known_name_but_not_read_is_said(says, tmp_path):
    (tmp_path / "log.csv").write_text("time,run_ms,outcom\n" + "2027-03-01T00:00:00Z,100,ok\n" * 5)
    found = says(HOURLY, "check")
    assert found
    done = run_program("fit", "log.csv", "--model", "model.toml", "--function", "f", cwd=tmp_path)
    assert "column 'outcom' of log.csv is not read; it is close to outcome" in done.stdout + done.stderr


def test_a_table_holds_one_level(write, tmp_path):
    month = project(write(MAP))
    assert list(month.to_frame()["function"]) == ["f"]
    assert list(month.to_frame("plans")["plan"]) == ["test.plan"]
    assert set(month.to_frame("bill")["meter"]) == {"calls", "gb_seconds"}
    assert len(month.to_frame("series")) == 744
    with pytest.raises(ValueError, match="plans, functions, bill, series"):
        month.to_frame("everything")
    for level, first in (("plans", "feasible"), ("functions", "function"), ("bill", "billed_on")):
        done = run_program("project", "model.toml", "--format", "csv", "--level", level, cwd=tmp_path)
        rows = list(csv.DictReader(io.StringIO(done.stdout)))
        assert list(rows[0])[:2] == ["plan", first]
        assert len(rows) == (2 if level == "bill" else 1)


def test_what_timed_out_was_dead_lettered_or_handled_twice_has_a_column_where_it_is_not_zero(write, tmp_path):
    model = QUEUE.replace(
        "[queues.q]", '[queues.q]\nvisibility = "2 s"\ntries = 2\ndead_letter = "queues.dead"\n[queues.dead]'
    )
    write(model.replace('run = "1 s"', 'run = "1 s"\nerror_rate = 1').replace("1000", "10"))
    said = run_program("project", "model.toml", "--width", "200", cwd=tmp_path).stdout
    head = next(line for line in said.splitlines() if "environment" in line and "function" in line)
    assert "dead letters" in head
    assert "left behind" in head
    assert "timed out" not in head
    assert "handled twice" not in head
    write(QUEUE.replace('run = "1 s"', 'run = "3 s"\ntimeout = "2 s"').replace("1000", "10"))
    said = run_program("project", "model.toml", "--width", "200", cwd=tmp_path).stdout
    assert any("timed out" in line and "environment" in line for line in said.splitlines())


def test_free_shows_the_allowance_and_the_share_of_it_that_is_used(write, tmp_path):
    card = CARD.format(keys="", prices=PRICES) + "[plans.plan.allowance]\ncalls = 4_000\n"
    write(QUEUE, card=card)
    said = run_program("project", "model.toml", "--plan", "test.plan", "--width", "200", cwd=tmp_path).stdout
    # 1,000 calls of 4,000 free.
    assert "4,000 (25% used)" in said


def test_per_million_divides_by_events_from_outside_each_once(write, tmp_path):
    # 1,000 messages put out 3 each into a queue that two more take from: 1,000 events from outside, at 1 a call 4,000.
    model = QUEUE.replace("[queues.q]", "[queues.out]\n[queues.q]").replace(
        "cpu_share = 0", 'cpu_share = 0\nemits = [{ into = "queues.out", each = 3 }]', 1
    )
    model += '[functions.g]\nmemory = "512 MB"\nrun = "1 s"\n[[triggers]]\nfrom = "queues.out"\nto = "g"\n'
    (tmp_path / "card.toml").write_text(CARD.format(keys="", prices='calls = { unit = "1" }'))
    (tmp_path / "model.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + model)
    said = run_program("project", "model.toml", "--width", "250", cwd=tmp_path).stdout
    row = next(line for line in said.splitlines() if line.strip().startswith("→ test.plan"))
    assert "4,000,000.00" in row


@pytest.mark.parametrize(
    ("amount", "said"),
    [
        ("4.395E-58", "0.00"),  # what dividing left over
        ("-4.395E-58", "0.00"),
        ("0.0000123456", "0.00001235"),
        ("-0.08712", "-0.08712"),
        ("0.99994", "0.9999"),
        ("0.99996", "1.00"),
        ("1234.5", "1,234.50"),
    ],
)
def test_money_has_four_digits_below_one_and_none_of_what_dividing_left_over(amount, said):
    assert money(Decimal(amount)) == money(float(amount)) == said


@pytest.mark.parametrize("pixels", [640, 1_280, 1_920])
def test_a_finding_longer_than_the_chart_is_wide_stands_on_several_lines(pixels):
    pixels_wide(pixels)
    try:
        figure, (panel,) = new_figure()
    finally:
        pixels_wide(PIXELS)
    words = "Billed 14.69, projected 14.50 EUR on heron.shared: most of it run time and mix. " * 3
    titled(panel, f"{words}\n\nThe second line.")
    picture(figure, "png")
    assert figure.get_suptitle().split() == f"{words} The second line.".split()
    (drawn,) = [text.get_window_extent() for text in figure.texts if text.get_text().startswith("Billed")]
    assert drawn.x1 <= figure.bbox.width and drawn.y1 <= figure.bbox.height


def test_parts_too_small_to_be_seen_are_nothing_on_a_waterfall():
    drawn = waterfall(
        "t", Walk(("projected", 14.5), [("volume", 0.2), ("price", 4e-58)], ("billed", 14.7)), "EUR", "svg", ""
    ).decode()
    assert "+0.2000" in drawn and ">0<" in drawn and "e-58" not in drawn and "0.00000" not in drawn
