"""A survey of what is known beforehand: round trips, dirty logs, changes within the log, bills, and a model that stands."""

from __future__ import annotations

import gzip
import json
import random
from collections import Counter
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import duckdb
import pandas as pd
import pytest

import echotally
from echotally.errors import BadInput
from echotally.evidence.fit.proposal import Proposal
from echotally.evidence.run_log import run_log
from echotally.evidence.survey.made import Survey, loaded_from, write_files
from echotally.evidence.survey.survey import survey
from echotally.findings import check_model
from echotally.output.base.exports import csv_text
from echotally.output.evidence.log_files import write_log
from echotally.output.evidence.survey_view import survey_json, unknown_page
from echotally.projection.loaded import load
from tests.conftest import run_program
from tests.evidence.made_estates import CARD
from tests.evidence.round_trips import held, round_trip
from tests.evidence.validating import faults
from tests.small_river import write_small_river

START = datetime(2027, 2, 1, tzinfo=UTC)


@pytest.mark.parametrize(("seed", "form"), [(31, "csv"), (28, "parquet"), (11, "otlp.json")])
def test_a_drawn_estate_comes_back(seed: int, form: str, tmp_path: Path) -> None:
    trip = round_trip(seed, form, tmp_path)
    assert trip.misses == []
    findings = check_model(tmp_path / "out" / "model.toml").findings
    assert [each for each in findings if each.rule.level == "error"] == []


@pytest.mark.nightly
@pytest.mark.parametrize("form", ["csv", "otlp.json"])
def test_forty_drawn_estates_come_back_and_intervals_hold_the_truth(form: str, tmp_path: Path) -> None:
    misses, holds = {}, []
    for seed in range(40):
        trip = round_trip(seed, form, tmp_path / str(seed))
        misses.update({seed: trip.misses} if trip.misses else {})
        holds += [ok for _, ok in held(trip)]
    assert misses == {}
    assert len(holds) > 300 and sum(holds) >= 0.9 * len(holds)


CALLS = 'calls = { per = 1_000_000, unit = "0.31" }'
STREAMS = """schema = "echotally-model/1"
[estate]
name = "Levels"
month = "2027-03"
timezone = "Europe/Dublin"
rate_cards = ["card.toml"]
[defaults]
memory = "256 MB"
timeout = "30 s"
run = "100 ms"
[functions.upstream]
[functions.downstream]
[functions.gate]
[streams.upstream]
partitions = 3
[streams.downstream]
partitions = 4
skew = 0.7
[endpoints.gate]
[schedules.tick]
cron = "10 */2 * * *"
timezone = "Europe/Dublin"
[demand]
upstream = { into = "streams.upstream", rate = "2 /min" }
downstream = { into = "streams.downstream", rate = "2 /min" }
gate = { into = "endpoints.gate", rate = "20 /h" }
[[triggers]]
from = "streams.upstream"
to = "upstream"
batch = 20
batch_wait = "2 min"
[[triggers]]
from = "streams.downstream"
to = "downstream"
batch = 20
batch_wait = "90 s"
[[triggers]]
from = "schedules.tick"
to = "gate"
[[triggers]]
from = "endpoints.gate"
to = "gate"
"""


@pytest.mark.parametrize("form", ["csv", "otlp.json"])
def test_partitions_come_back_without_a_bill_and_each_way_in_is_told_apart(form: str, tmp_path: Path) -> None:
    """Spans name partitions; rows do not, but the times of their batches tell of even ones."""
    (tmp_path / "m.toml").write_text(STREAMS)
    (tmp_path / "card.toml").write_text(
        CARD.format(bills="runs", vcpu=0.5, keep=10, cold="true", step=1, poll=20, prices=CALLS, free=0)
    )
    write_log(load(tmp_path / "m.toml"), "osprey.main", None, tmp_path / f"log.{form}")
    found = survey([tmp_path / f"log.{form}"], timezone="Europe/Dublin")
    assert _value(found, "streams.upstream.partitions") == "3"
    waits = {value.address: value.toml for value in found.draft.values if value.address.endswith("batch_wait")}
    assert [toml.partition("  #")[0] for toml in waits.values()][-1:] == ['"2 min"']
    if form == "otlp.json":
        assert _value(found, "streams.downstream.partitions") == "4"
        assert float(_value(found, "streams.downstream.skew")) == pytest.approx(0.7, abs=0.01)
    assert _value(found, "schedules.tick.cron" if form == "csv" else "schedules.gate.cron") == '"10 */2 * * *"'
    calls = {row.function: row.calls.played / row.calls.happened for each in found.backtests for row in each.rows}
    assert calls == pytest.approx(dict.fromkeys(("upstream", "downstream", "gate"), 1.0), abs=0.05)


# -- logs made by hand --------------------------------------------------------------------------------------------
def _rows(
    function: str, n: int, every_s: float, run_ms: float = 100, start: datetime = START, **more: object
) -> list[dict[str, object]]:
    chance = random.Random(f"{function}{n}{start}")
    return [
        {"time": start + timedelta(seconds=k * every_s + chance.uniform(0, every_s / 2)), "function": function, "id": f"{function}{start:%j%S}{k}",
         "run_ms": run_ms * chance.lognormvariate(0, 0.2), "memory_mb": 256, "outcome": "ok", "trigger": "http", **more}
        for k in range(n)
    ]  # fmt: skip


def _log(path: Path, rows: list[dict[str, object]]) -> Path:
    frame = pd.DataFrame(sorted(rows, key=lambda row: str(row["time"])))
    frame["time"] = [str(at.isoformat()) if isinstance(at, datetime) else at for at in frame["time"]]
    frame.to_csv(path, index=False)
    return path


def _value(found: Survey, address: str) -> str:
    return found.values[address].toml


def test_without_a_bill_prices_are_placeholders_and_cost_is_what_cannot_be_told(tmp_path: Path) -> None:
    found = survey([_log(tmp_path / "log.csv", _rows("gauge", 2_000, 600))])
    assert "PLACEHOLDERS" in found.card.text() and json.loads(survey_json(found))["cost_known"] is False
    assert "**cost cannot be told**" in unknown_page(found)
    assert loaded_from(found).model.functions["gauge"].memory == 256


def test_doubled_rows_count_once_and_mixed_time_formats_are_one_log(tmp_path: Path) -> None:
    rows = _rows("gauge", 1_200, 600)
    clean = survey([_log(tmp_path / "clean.csv", rows)], hold_back_s=0)
    for n, row in enumerate(rows):
        at = row["time"]
        assert isinstance(at, datetime)
        forms = (
            at.isoformat(),
            f"{at:%Y-%m-%d %H:%M:%S.%f}+00:00",
            str(round(at.timestamp() * 1_000)),
            f"{at:%Y-%m-%dT%H:%M:%S.%f}Z",
        )
        row["time"] = forms[n % 4]
    _log(tmp_path / "a.csv", rows)
    _log(tmp_path / "b.csv", rows[::2])
    found = survey([tmp_path / "a.csv", tmp_path / "b.csv"], hold_back_s=0)
    assert found.functions["gauge"].sums.started == 1_200
    assert any("twice" in str(each) or "once" in str(each) for each in found.log.troubles)
    assert _value(found, "demand.gauge.rate") == _value(clean, "demand.gauge.rate")


def test_three_rows_are_kept_and_named_and_make_no_schedule(tmp_path: Path) -> None:
    few = _rows("rare", 3, 86_400, trigger="timer")[:2] + _rows("rare3", 3, 86_400 * 5)
    found = survey([_log(tmp_path / "log.csv", [*_rows("gauge", 2_000, 600), *few])])
    assert {"gauge", "rare", "rare3"} <= set(found.functions)
    assert "fewer than ten attempts" in " ".join(found.notes)
    assert not any(address.endswith(".cron") for address in found.values)
    text = " ".join(u.what for u, _ in found.unknowns if u.function == "rare")
    assert "its schedule" in text
    assert loaded_from(found).model.functions["rare3"]


def test_clocks_that_differ_by_host_are_no_reason_to_drop_a_row(tmp_path: Path) -> None:
    rows = _rows("gauge", 2_000, 600)
    for n, row in enumerate(rows):
        row["host"] = f"h{n % 3}"
        assert isinstance(row["time"], datetime)
        row["time"] += timedelta(seconds=(-2, 0, 3)[n % 3])
    found = survey([_log(tmp_path / "log.csv", rows)], hold_back_s=0)
    assert found.functions["gauge"].sums.started == 2_000
    rate = found.values["demand.gauge.rate"]
    assert rate.low is not None and rate.high is not None and rate.low <= 6 <= rate.high


def test_a_release_inside_the_log_is_found_named_and_fitted_anew(tmp_path: Path) -> None:
    later = START + timedelta(days=20)
    rows = _rows("gauge", 20 * 144, 600, 100, version="1") + _rows("gauge", 15 * 144, 600, 250, later, version="2")
    found = survey([_log(tmp_path / "log.csv", rows)])
    (change,) = found.changes
    assert (change.function, change.what, f"{change.at:%Y-%m-%d}") == ("gauge", "run time", "2027-02-21")
    assert "version 2" in change.cause
    run = found.values["functions.gauge.run"]
    assert run.number == pytest.approx(250, rel=0.03)
    since, whole = found.backtests
    assert abs(since.total.run_ms.off) < 0.05 < abs(whole.total.run_ms.off)  # type: ignore[union-attr,arg-type]


def test_a_stretch_of_trouble_is_an_incident_and_no_error_rate(tmp_path: Path) -> None:
    bad = _rows("gauge", 120, 60, 100, START + timedelta(days=10, hours=3), outcome="error")
    found = survey([_log(tmp_path / "log.csv", [*_rows("gauge", 3_000, 600), *bad])], hold_back_s=0)
    (trouble,) = found.draft.troubles
    assert trouble.at == START + timedelta(days=10, hours=3) and 6_000 <= trouble.lasts_s <= 8_100
    assert "functions.gauge.error_rate" not in found.values
    assert loaded_from(found).model.incidents


def test_chance_makes_no_trouble_and_no_change(tmp_path: Path) -> None:
    rows = _rows("gauge", 6_000, 400)
    for n, row in enumerate(rows):
        row["outcome"] = "error" if random.Random(n).random() < 0.02 else "ok"
    found = survey([_log(tmp_path / "log.csv", rows)], hold_back_s=0)
    assert (found.draft.troubles, found.changes) == ([], ())
    rate = found.values["functions.gauge.error_rate"]
    assert rate.low is not None and rate.high is not None and rate.low < 0.02 < rate.high


def test_environments_that_are_copies_become_one_factor(tmp_path: Path) -> None:
    rows = _rows("gauge", 4_000, 600, environment="live") + _rows(
        "gauge", 800, 3_000, start=START + timedelta(seconds=7), environment="trial"
    )
    found = survey([_log(tmp_path / "log.csv", rows)], hold_back_s=0)
    assert float(_value(found, "environments.trial.demand")) == pytest.approx(0.2, rel=0.01)
    slower = _rows("gauge", 800, 3_000, 900, START + timedelta(seconds=7), environment="trial")
    apart = survey(
        [_log(tmp_path / "b.csv", [*_rows("gauge", 4_000, 600, environment="live"), *slower])], hold_back_s=0
    )
    assert "gauge-trial" in apart.functions and "no copy of live" in " ".join(apart.notes)


def test_the_form_of_a_file_changes_nothing(tmp_path: Path) -> None:
    rows = _rows("gauge", 1_000, 600)
    found = {"csv": survey([_log(tmp_path / "log.csv", rows)], hold_back_s=0).text}
    frame = pd.read_csv(tmp_path / "log.csv")
    (tmp_path / "log.csv.gz").write_bytes(gzip.compress((tmp_path / "log.csv").read_bytes()))
    frame.to_json(tmp_path / "log.jsonl", orient="records", lines=True)
    duckdb.from_df(frame.assign(time=pd.to_datetime(frame["time"]))).write_parquet(str(tmp_path / "log.parquet"))
    (tmp_path / "folder").mkdir()
    (tmp_path / "folder/log.csv").write_bytes((tmp_path / "log.csv").read_bytes())
    (tmp_path / "log.parquet.gz").write_bytes(gzip.compress((tmp_path / "log.parquet").read_bytes()))
    (tmp_path / "log.jsonl.gz").write_bytes(gzip.compress((tmp_path / "log.jsonl").read_bytes()))
    for name in ("log.csv.gz", "log.jsonl.gz", "log.parquet.gz", "log.jsonl", "log.parquet", "folder"):
        text = survey([tmp_path / name], hold_back_s=0).text
        assert text.replace(name, "log.csv") == found["csv"], name


@pytest.mark.parametrize("spread", ["even", "poisson", "bursty"])
def test_how_events_are_spread_is_told(spread: str, tmp_path: Path) -> None:
    chance, at, rows = random.Random(spread), 0.0, []
    while at < 25 * 86_400:
        at += 300 if spread == "even" else chance.expovariate(1 / (300 if spread == "poisson" else 1_500))
        many = 5 if spread == "bursty" else 1
        rows += [
            {"time": START + timedelta(seconds=at + 0.01 * k), "function": "f", "run_ms": 50 + k, "trigger": "storage"}
            for k in range(many)
        ]
    found = survey([_log(tmp_path / "log.csv", rows)], hold_back_s=0)
    told = found.values.get("demand.f.spread")
    assert (told.toml if told else '"poisson"') == f'"{spread}"'


# -- the demo's evidence ------------------------------------------------------------------------------------------
@pytest.fixture(scope="module")
def river(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("evidence")
    write_small_river(folder)
    return folder


@pytest.fixture(scope="module")
def surveyed(river: Path) -> Survey:
    logs = river / "logs"
    return survey([logs / "spans.otlp.json.gz"], bills=[logs / "bill.csv"], metrics=[logs / "metrics.otlp.json.gz"])


def test_the_demo_lives_by_one_clock_that_its_nightly_charts_share(surveyed: Survey) -> None:
    zone = json.loads(survey_json(surveyed))["timezone"]
    march = [datetime(2027, 3, day, 12, tzinfo=ZoneInfo(zone)).utcoffset() for day in (27, 28)]
    assert march == [timedelta(0), timedelta(hours=1)]
    assert _value(surveyed, "schedules.charts.cron") == '"30 1 * * *"'


def test_held_back_days_of_a_sample_are_laid_beside_what_metrics_counted(river: Path, surveyed: Survey) -> None:
    test = surveyed.backtests[0]
    counted: Counter[str] = Counter()
    for resource in json.loads(gzip.decompress((river / "logs/metrics.otlp.json.gz").read_bytes()))["resourceMetrics"]:
        name = next(a["value"]["stringValue"] for a in resource["resource"]["attributes"] if a["key"] == "faas.name")
        for metric in resource["scopeMetrics"][0]["metrics"]:
            for point in metric["sum"]["dataPoints"] if metric["name"] == "faas.invocations" else ():
                middle = (int(point["startTimeUnixNano"]) + int(point["timeUnixNano"])) / 2e9
                counted[name] += int(point["asInt"]) if test.first <= middle < test.last else 0
    happened = {row.function: row.calls.happened for row in test.rows}
    assert happened == pytest.approx(dict(counted)) and counted["charts"] == 14
    assert sum(row.calls.holds for row in test.rows) >= len(test.rows) - 1


def test_the_demos_evidence_is_small(river: Path) -> None:
    assert sum(path.stat().st_size for path in (river / "logs").iterdir()) < 3_000_000


def test_rates_of_sampled_spans_are_those_of_the_metrics(surveyed: Survey) -> None:
    assert "spans are a sample" in " ".join(surveyed.notes)
    # The world the evidence was made in: 27 pictures an hour of 850 ms, which the demo's model does not know.
    assert surveyed.values["demand.pictures.rate"].number == pytest.approx(27, rel=0.02)
    assert _value(surveyed, "schedules.charts.cron") == '"30 1 * * *"'
    assert _value(surveyed, "functions.map.asks") == '[{ to = "endpoints.latest", each = 1 }]'
    assert "topics.flood" in _value(surveyed, "functions.intake.emits")


def test_prices_are_those_of_the_card_the_bill_was_made_with(surveyed: Survey, river: Path) -> None:
    plan = load(river / "river.toml").offers["heron.shared"].plan
    assert len(surveyed.card.prices) > 10
    for meter, unit in surveyed.card.prices.items():
        own = plan.price[meter]
        first = own.tiers[0].unit if own.tiers else own.unit
        assert float(unit) == pytest.approx(float(first or 0) / own.per, rel=1e-9), meter
    assert surveyed.values["outside.text-message.unit"].toml == '"0.012"'


def test_what_the_survey_wrote_is_loaded_checked_and_played(surveyed: Survey, tmp_path: Path) -> None:
    write_files(surveyed, tmp_path)
    month = echotally.project(tmp_path / "model.toml")
    (plan,) = month.played
    assert float(plan.bill.total) == pytest.approx(float(surveyed.billed.total), rel=0.12)  # type: ignore[union-attr]
    guesses = [value for value in surveyed.draft.values if value.guess]
    assert guesses and all(value.evidence for value in guesses)
    moves = [moves for _, _, moves in surveyed.unknown_groups]
    assert moves == sorted(moves, key=lambda each: -(each or 0.0))


def test_the_bill_is_faultless_before_it_is_read(river: Path) -> None:
    assert faults(river / "logs/bill.csv") == ["InvoiceId-C-005-C"]


# -- a model that stands ------------------------------------------------------------------------------------------
STANDING = """# The gauges of the weir, by hand.
schema = "echotally-model/1"
[estate]
name = "weir"
month = "2027-02"
timezone = "UTC"
rate_cards = ["card.toml"]
[functions.gauge]   # kept as it is
memory = "256 MB"
timeout = "20 s"    # set by hand
run = "100 ms"
[functions.other]
memory = "128 MB"
run = "1 s"
[endpoints.gauge]
[demand.people]
into = "endpoints.gauge"
rate = "6 /h"
[[triggers]]
from = "endpoints.gauge"
to = "gauge"
"""
PLAIN = """schema = "echotally-rates/1"
[card]
name = "reed"
currency = "EUR"
[plans.a]
bills = "runs"
memory = { from = "128 MB", to = "4 GB", step = "64 MB" }
vcpu_per_gb = 1
price = { calls = { per = 1_000_000, unit = "0.2" } }
"""


def _standing(folder: Path) -> None:
    (folder / "model.toml").write_text(STANDING)
    (folder / "card.toml").write_text(PLAIN)


def test_a_model_that_stands_keeps_all_but_what_drifted(tmp_path: Path) -> None:
    _standing(tmp_path)
    _log(tmp_path / "log.csv", [*_rows("gauge", 4_000, 300), *_rows("ferry", 1_000, 900)])
    done = run_program("survey", "log.csv", "--model", "model.toml", "-o", "next", "--hold-back", "0 s", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    text = (tmp_path / "next/model.toml").read_text()
    kept = [line for line in STANDING.splitlines() if not line.startswith(("run = ", "rate = "))]
    assert [line for line in kept if line not in text] == []
    assert "demand.people.rate" in done.stdout and "[functions.ferry]" in text
    model = load(tmp_path / "next/model.toml").model
    assert float(model.demand["people"].rate or 0) * 3_600 == pytest.approx(12, rel=0.02)
    assert model.functions["gauge"].timeout == 20 * 10**9 and model.functions["other"].run.scale == 10**9
    assert (tmp_path / "model.toml").read_text() == STANDING


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        ("log.csv -o .", "was not made by a survey"),
        ("bill.csv -o out", "holds bills only"),
        ("nothing.csv -o out", "nothing.csv"),
        ("empty -o out", "holds no log"),
        ("log.csv -o out --month 2027-13", "--month"),
        ("log.csv -o out --timezone Mars", "--timezone"),
        ("log.csv -o out --hold-back soon", "--hold-back"),
        ("log.csv -o out --metrics words.txt", "words.txt"),
        ("log.csv -o out --bill words.txt", "words.txt"),
        ("log.csv -o out --column run=nothing", "nothing"),
        ("words.txt -o out", "words.txt"),
        ("log.csv", "-o"),
    ],
)
def test_what_cannot_be_surveyed_is_said_in_one_line_and_nothing_is_written(
    arguments: str, said: str, tmp_path: Path
) -> None:
    _standing(tmp_path)
    _log(tmp_path / "log.csv", _rows("gauge", 60, 600))
    (tmp_path / "bill.csv").write_text("BilledCost,ResourceName\n1,gauge\n")
    (tmp_path / "words.txt").write_text("nothing to see here\n")
    (tmp_path / "empty").mkdir()
    done = run_program("survey", *arguments.split(), cwd=tmp_path)
    assert done.returncode == 2
    assert said in done.stderr and "Traceback" not in done.stderr
    assert not (tmp_path / "out").exists()


def test_fit_refuses_to_write_a_function_the_model_lacks(tmp_path: Path) -> None:
    _standing(tmp_path)
    _log(tmp_path / "log.csv", _rows("ferry", 200, 600))
    done = run_program("fit", "log.csv", "--model", "model.toml", "--write", cwd=tmp_path)
    assert done.returncode == 2 and "ferry" in done.stderr and "survey" in done.stderr
    assert (tmp_path / "model.toml").read_text() == STANDING


def test_what_fit_writes_is_loaded_before_it_takes_the_old_ones_place(tmp_path: Path) -> None:
    from echotally.cli.model_values import write_values

    _standing(tmp_path)
    bad = Proposal((("functions.gauge.run", '"never"'),), (("gauge-run.csv", "ms\n1\n"),), ())
    with pytest.raises(BadInput, match="never"):
        write_values(tmp_path / "model.toml", bad)
    assert (tmp_path / "model.toml").read_text() == STANDING
    assert {path.name for path in tmp_path.iterdir()} == {"model.toml", "card.toml"}


def test_a_log_without_usable_rows_is_refused(tmp_path: Path) -> None:
    (tmp_path / "log.csv").write_text("time,function,run_ms\nyesterday,gauge,soon\n")
    with pytest.raises(BadInput, match="no usable attempt"):
        survey([tmp_path / "log.csv"])


def test_the_same_evidence_gives_the_same_bytes(river: Path, tmp_path: Path) -> None:
    frame = pd.concat(run_log(load(river / "river.toml"), "heron.shared"))
    (tmp_path / "log.csv").write_text(csv_text(frame[frame["time"] < "2027-03-06"]))
    one, other = (survey([tmp_path / "log.csv"], hold_back_s=86_400) for _ in range(2))
    assert (one.text, one.card.text(), survey_json(one)) == (other.text, other.card.text(), survey_json(other))
