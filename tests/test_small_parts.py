"""Small parts of evidence, exports and charts, each against a formula, a library or by hand."""

from __future__ import annotations

import math
import time
from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from echotally.cells import harmless
from echotally.errors import BadInput, Stopped
from echotally.evidence.fit.estimates import log_normal, run_parts, share
from echotally.evidence.fit.rhythm import STRETCH_S, rhythm
from echotally.evidence.logs.columns import map_columns
from echotally.evidence.telemetry.firing_check import _compared
from echotally.evidence.telemetry.reading import _whole
from echotally.model.spread import LOGNORMAL, SAMPLES, Spread, constant, scaled
from echotally.model.units import rate_per_s, rate_text
from echotally.output.base.exports import as_table
from echotally.output.base.waterfall import _ends, waterfall
from echotally.projection.threads import side_by_side
from tests.conftest import run_program


# -- several things at once -----------------------------------------------------------------------------------------
@pytest.mark.parametrize("workers", [1, 2, 5])
def test_tasks_answer_in_their_order_whatever_the_threads(workers: int) -> None:
    def slow(n: int):  # type: ignore[no-untyped-def]
        def task(tell):  # type: ignore[no-untyped-def]
            time.sleep(0.02 * (5 - n))
            tell(1.0)
            return n

        return task

    assert side_by_side({str(n): slow(n) for n in range(5)}, None, workers) == list(range(5))


def test_one_failure_stops_the_others_and_comes_out() -> None:
    told: list[float] = []

    def fails(tell):  # type: ignore[no-untyped-def]
        time.sleep(0.05)
        raise BadInput("no")

    def goes_on(tell):  # type: ignore[no-untyped-def]
        try:
            for n in range(1_000):
                time.sleep(0.005)
                tell(n / 1_000)
                told.append(n)
        except Stopped:
            told.append(-1)
            raise

    with pytest.raises(BadInput, match="no"):
        side_by_side({"long": goes_on, "bad": fails}, None, 2)
    time.sleep(0.1)
    assert told[-1] == -1 and len(told) < 900


def test_progress_is_the_mean_of_the_tasks() -> None:
    heard: list[tuple[str, float]] = []

    def task(tell):  # type: ignore[no-untyped-def]
        tell(0.5)

    side_by_side({"a": task, "b": task}, lambda what, done: heard.append((what, done)), 1)
    assert heard == [("2 plans", 0.25), ("2 plans", 0.5)]


# -- columns --------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("headings", "wanted"),
    [
        (["Timestamp", "Duration_ms", "Status"], {"time": "Timestamp", "run": "Duration_ms", "outcome": "Status"}),
        (["startTime", "runTimeS", "memoryMb", "maxMemoryUsedMb"], {"time": "startTime", "run": "runTimeS", "memory": "memoryMb", "memory_used": "maxMemoryUsedMb"}),
        (["ts", "took", "init (ms)", "request-id"], {"time": "ts", "run": "took", "cold_start": "init (ms)", "id": "request-id"}),
        (["date", "time", "run"], {"time": "time", "run": "run"}),
        (["time", "elapsed", "duration"], {"time": "time", "run": "duration"}),
    ],
)  # fmt: skip
def test_columns_are_guessed_from_their_headings(headings: list[str], wanted: dict[str, str]) -> None:
    assert {ours: found.theirs for ours, found in map_columns(headings, [], "log.csv").items()} == wanted


@pytest.mark.parametrize(
    ("told", "said"),
    [
        ([("speed", "a")], "is not a column we read"),
        ([("run", "b")], "has no such column"),
        ([], "has no column known as time"),
    ],
)
def test_what_cannot_be_mapped_is_said(told: list[tuple[str, str]], said: str) -> None:
    with pytest.raises(BadInput, match=said):
        map_columns(["a"], told, "log.csv")


# -- estimates ------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(("hits", "of"), [(0, 10), (3, 10), (10, 10), (7, 5_000)])
def test_shares_have_wilsons_interval(hits: int, of: int) -> None:
    found, truth = share(hits, of), stats.binomtest(hits, of).proportion_ci(method="wilson")
    assert (found.value, found.low, found.high) == pytest.approx((hits / of, truth.low, truth.high), abs=1e-12)


def test_the_distance_is_that_of_kolmogorov_and_smirnov() -> None:
    times = np.random.default_rng(1).lognormal(3, 0.4, 500)
    logs = np.log(times)
    found = log_normal(500, logs.mean(), logs.std(ddof=1), times)
    truth = stats.kstest(logs, "norm", args=(logs.mean(), logs.std(ddof=1))).statistic
    assert found.distance == pytest.approx(truth, abs=1e-12)
    half = 1.959963984540054 * logs.std(ddof=1) / math.sqrt(500)
    assert found.median.high == pytest.approx(math.exp(logs.mean() + half))


def test_run_time_is_split_exactly_where_there_is_no_scatter() -> None:
    events, slow = (
        np.array(x, dtype=float) for x in zip(*[(n, s) for n in (1, 2, 5) for s in (1.0, 0.5)], strict=True)
    )
    mean = (100 + 8 * events) * (0.3 + 0.7 * slow)
    parts = run_parts(events, slow, np.full(6, 50), mean, mean**2)
    assert parts.per_item is not None and parts.cpu_share is not None
    assert (parts.base.value, parts.per_item.value, parts.cpu_share.value) == pytest.approx((100, 8, 0.7), rel=1e-6)


# -- rhythm ---------------------------------------------------------------------------------------------------------
MONDAY = int(datetime(2027, 2, 1, tzinfo=UTC).timestamp())


def _counts(days: float, of_hour) -> dict[int, float]:  # type: ignore[no-untyped-def]
    first = MONDAY // STRETCH_S
    return {first + n: of_hour((n // 4) % 24) / 4 for n in range(int(days * 96))}


def test_a_log_that_ends_at_noon_does_not_raise_the_rate() -> None:
    # Twice as busy from noon on: 10 an hour before, 30 after; seven and a half days seen.
    counts = _counts(7.5, lambda h: 10 if h < 12 else 30)
    found = rhythm(counts, MONDAY, MONDAY + 7.5 * 86_400, ZoneInfo("UTC"))
    assert found.rate.value * 3_600 == pytest.approx(20, rel=0.01)
    assert found.day is not None
    assert [round(w.value, 2) for w in found.day] == [0.5] * 12 + [1.5] * 12


def test_an_even_log_has_no_shape_and_a_short_one_no_week() -> None:
    found = rhythm(_counts(14, lambda h: 40), MONDAY, MONDAY + 14 * 86_400, ZoneInfo("Europe/Dublin"))
    assert (found.day, found.week, found.dispersion) == (None, None, 1.0)
    assert rhythm(_counts(3, lambda h: 40), MONDAY, MONDAY + 3 * 86_400, ZoneInfo("UTC")).week is None


def test_clumped_counts_widen_the_interval() -> None:
    first, chance = MONDAY // STRETCH_S, np.random.default_rng(3)
    bursts = {first + n: float(20 * chance.poisson(0.5)) for n in range(14 * 96)}
    found = rhythm(bursts, MONDAY, MONDAY + 14 * 86_400, ZoneInfo("UTC"))
    # Bursts of a fixed size s scatter s times as much as Poisson's.
    assert found.dispersion == pytest.approx(20, rel=0.15)


# -- traces, firings ------------------------------------------------------------------------------------------------
@given(st.lists(st.floats(0, 1_000), min_size=1, max_size=60))
def test_whole_counts_follow_the_running_sum_within_half_an_event(counts: list[float]) -> None:
    given_, exact = 0, 0.0
    for (_, whole), count in zip(_whole(list(enumerate(counts))), counts, strict=True):
        exact += count
        given_ += whole
        assert whole >= 0 and abs(given_ - exact) <= 0.5 + 1e-6


@pytest.mark.parametrize(
    ("seen", "on_time", "late", "missed", "extra"),
    [
        ([0, 100, 200], 3, 0, 0, 0),
        ([0, 200], 2, 0, 1, 0),
        ([0, 130, 200], 2, 1, 0, 0),
        ([0, 1, 100, 150, 200], 3, 0, 0, 2),
        ([-1.5, 99, 199], 3, 0, 0, 0),
        ([], 0, 0, 3, 0),
    ],
    ids=["all", "one missed", "one late", "repeats", "a clock ahead", "nothing ran"],
)
def test_starts_belong_to_the_firing_they_follow(
    seen: list[float], on_time: int, late: int, missed: int, extra: int
) -> None:
    found = _compared("s", "f", [0.0, 100.0, 200.0], seen, 10.0, (), ())
    assert (found.on_time, len(found.late), len(found.missed), len(found.extra)) == (on_time, late, missed, extra)


@pytest.mark.parametrize("hours", [-9, -1, 1, 5, 14])
def test_a_zone_read_wrongly_shows_as_whole_hours(hours: int) -> None:
    expected = [n * 86_400.0 for n in range(20)]
    found = _compared("s", "f", expected, sorted(at + hours * 3_600 + 2 for at in expected), 60.0, (), ())
    assert (found.shift_h, found.shifted_share) == (hours, 1.0)


# -- units, spreads -------------------------------------------------------------------------------------------------
@given(st.integers(1, 10**6), st.sampled_from(["/s", "/min", "/h", "/d"]))
def test_a_rate_written_out_reads_back(number: int, unit: str) -> None:
    rate = rate_per_s(f"{number} {unit}")
    assert float(rate_per_s(rate_text(rate)) / rate) == pytest.approx(1, rel=1e-9)


@pytest.mark.parametrize(("rate", "text"), [(Fraction(1, 150), "24 /h"), (Fraction(55), "55 /s"), (Fraction(1, 86_400 * 2), "0.5 /d"), (Fraction(1, 60), "1 /min")])  # fmt: skip
def test_rates_are_written_as_people_write_them(rate: Fraction, text: str) -> None:
    assert rate_text(rate) == text


@pytest.mark.parametrize(
    "spread", [constant(5), Spread(LOGNORMAL, 7, 0.5), Spread(SAMPLES, 0, samples=(1.0, 2.0, 9.0))]
)
def test_a_scaled_spread_has_scaled_quantiles_and_mean(spread: Spread) -> None:
    larger = scaled(spread, 3)
    assert larger.mean == pytest.approx(3 * spread.mean)
    assert larger.quantile(0.95) == pytest.approx(3 * spread.quantile(0.95))


# -- exports, charts ------------------------------------------------------------------------------------------------
@given(st.text())
def test_a_harmless_cell_keeps_its_text_and_begins_no_formula(text: str) -> None:
    shown = harmless(text)
    assert shown.removeprefix("'") == text.removeprefix("'") or shown == text
    # A number is read as a number, whatever its sign.
    assert not shown.startswith(("=", "+", "-", "@")) or float(shown) is not None


def test_rows_of_json_become_a_table_with_dotted_names() -> None:
    data = '{"rows": [{"a": 1, "b": {"c": 2.5, "d": [1, 2]}}, {"a": null, "b": {"c": 3}}]}'
    lines = as_table(data, "csv").splitlines()
    assert lines[0] == "a,b.c,b.d" and lines[1] == '1,2.5,"[1, 2]"'


@pytest.mark.parametrize(
    ("rows", "csv", "markdown"),
    [
        ('[{"n": 1, "x": 0.5}, {"n": null, "x": 2.0}]', "n,x\n1,0.5\n,2.0\n", "| n | x |\n| --- | --- |\n| 1 | 0.5 |\n|  | 2 |\n"),
        ('[{"a": true}, {"a": false}]', "a\nTrue\nFalse\n", "| a |\n| --- |\n| yes |\n| no |\n"),
        ('["functions.f.memory=1 GB"]', "set\nfunctions.f.memory=1 GB\n", "| set |\n| --- |\n| functions.f.memory=1 GB |\n"),
        ("[]", "set\n", "| set |\n| --- |\n"),
        ('[{"a": {"b": {"c": "=1"}}}]', "a.b.c\n'=1\n", "| a.b.c |\n| --- |\n| =1 |\n"),
    ],
    ids=["missing", "yes-no", "words", "none", "nested"],
)  # fmt: skip
def test_a_list_of_json_as_csv_and_markdown(rows: str, csv: str, markdown: str) -> None:
    data = f'{{"set": {rows}}}'
    assert (as_table(data, "csv", "set"), as_table(data, "markdown", "set")) == (csv, markdown)


@pytest.mark.parametrize(
    ("first", "steps", "last", "from_zero"),
    [(10, [5, -2], 13, True), (100, [1, -0.5], 100.5, False), (0, [3], 3, True), (5, [-8], -3, True)],
)
def test_a_waterfall_begins_at_zero_unless_its_steps_could_not_be_seen(
    first: float, steps: list[float], last: float, from_zero: bool
) -> None:
    low, high = _ends(first, steps, last)
    assert (low <= 0) == from_zero and high > max(first, last)
    assert waterfall("t", ("a", first), [("s", x) for x in steps], ("b", last), "EUR", "png").startswith(b"\x89PNG")


# -- the program ----------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        ("fit", "no log is given"),
        ("fit nothing.csv", "cannot be read"),
        ("fit river-watch/logs/look.csv --write", "--write needs the model"),
        ("fit river-watch/logs/look.csv --function mill", "is not in the log"),
        ("fit river-watch/logs/look.csv --column run", "is not OURS=THEIRS"),
        ("fit river-watch/logs/look.csv --timezone Mars", "--timezone"),
        ("fit --trace t.csv --url http://127.0.0.1:9 --query up --from 2027-01-01 --to 2027-01-02", "did not answer"),
        (
            "fit --trace t.csv --url file:///etc/passwd --query up --from 2027-01-01 --to 2027-01-02",
            "not the address of a server",
        ),
        ("fit --trace t.csv --url http://127.0.0.1:9", "needs a query and a time"),
        ("firings river-watch/river.toml --log river-watch/logs/look.csv --schedule x", "is no schedule"),
        ("reconcile river-watch/river.toml river-watch/logs/look.csv", "has no column BilledCost"),
        ("reconcile river-watch/river.toml river-watch/logs/bill.csv --plan x.y", "no rate card has this plan"),
        ("compare river-watch/river.toml river-watch/river.toml", "is not JSON"),
        ("forecast river-watch/river.toml --months 0", "--months"),
        ("forecast river-watch/river.toml --months 2 --set demand.visitors.repeat=false", "shorter than the month"),
        ("project river-watch/river.toml --chart levels --plot x.bmp", ".png or .svg"),
        ("project river-watch/river.toml --log x.doc", ".csv or .parquet"),
        ("project river-watch/river.toml --format focus -o x.xlsx", "FOCUS rows go into CSV or Parquet"),
        ("report river-watch/river.toml -o nowhere/r.html", "cannot be written"),
    ],
)
def test_a_mistake_gets_one_clear_line_and_leaves_with_two(arguments: str, said: str, stranger: Path) -> None:
    done = run_program(*arguments.split(), cwd=stranger)
    assert done.returncode == 2 and said in done.stderr and "Traceback" not in done.stderr


@pytest.fixture(scope="module")
def stranger(tmp_path_factory: pytest.TempPathFactory) -> Path:
    from echotally.demo import write_example

    folder = tmp_path_factory.mktemp("stranger")
    write_example("river-watch", folder / "river-watch")
    return folder


def test_the_log_of_the_stand_in_adds_up_to_the_projection(stranger: Path) -> None:
    from echotally import load, project, run_log

    river = stranger / "river-watch/river.toml"
    log = pd.concat(run_log(load(river), "heron.shared"))
    plan = project(river, plans=["heron.shared"]).plans[0]
    for unit in plan.measured.units:
        mine = log[(log["function"] == unit.unit.function) & (log["environment"] == unit.unit.environment)]
        ended = unit.attempts["total"] - unit.attempts["running"]
        assert len(mine) == ended and (mine["outcome"] == "error").sum() == unit.attempts["failed"]
        assert mine["billed_ms"].sum() == pytest.approx(unit.billed_ns / 1e6, rel=1e-9)
        assert (mine["cold_start_ms"] > 0).sum() >= unit.cold_starts


# -- logarithmic axes -----------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("low", "high", "shown"),
    [
        (0.1, 10, ["0.1", "0.2", "0.5", "1", "2", "5", "10"]),
        (600, 4_000, ["700", "1,000", "1,500", "2,000", "3,000"]),
        (12, 200, ["15", "20", "30", "50", "70", "100", "150", "200"]),
    ],
)
def test_a_logarithmic_axis_has_plain_numbers_and_enough_of_them(low: float, high: float, shown: list[str]) -> None:
    from echotally.output.base.charts import new_figure, plain_x

    figure, (panel,) = new_figure()
    panel.set_xscale("log")
    panel.set_xlim(low, high)
    plain_x(panel)
    figure.canvas.draw()
    inside = [label.get_text() for label in panel.get_xticklabels() if low <= label.get_position()[0] <= high]
    assert inside == shown
