"""Run logs back into a model: what went in comes out, and what is odd is counted."""

from __future__ import annotations

import json
import subprocess
from importlib import import_module
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from echotally.errors import BadInput
from echotally.evidence.fit.fit import Fit, fit
from echotally.evidence.fit.proposal import pasted, propose
from echotally.evidence.fit.trials import fit_trials
from echotally.evidence.logs import reading
from echotally.evidence.logs.reading import open_log
from echotally.evidence.run_log import run_log
from echotally.output.base.frames import write_frame
from echotally.projection.loaded import Loaded, load
from tests.conftest import run_program

CARD = """
schema = "echotally-rates/1"
[card]
name = "reed"
currency = "EUR"
[plans.a]
bills = "runs"
memory = { from = "128 MB", to = "4 GB", step = "64 MB" }
vcpu_per_gb = 1
vcpu_limit = 2
price = { calls = { per = 1_000_000, unit = "0.2" } }
"""
MODEL = """
schema = "echotally-model/1"
[estate]
name = "weir"
month = "2027-02"
timezone = "Europe/Dublin"
rate_cards = ["card.toml"]
[functions.sort]            # a comment that stays
memory = "512 MB"
run = { median = "80 ms", p95 = "240 ms" }
per_item = "12 ms"
cold_start = { median = "900 ms", p95 = "1500 ms" }
cpu_share = 0.6
error_rate = 0.02
memory_used = "200 MB"
[queues.levels]
[demand.gauges]
into = "queues.levels"
rate = "60 /h"
spread = "bursty"
burst = 4
day_shape = [1, 1, 1, 1, 1, 1, 2, 3, 3, 3, 3, 3, 3, 3, 3, 3, 3, 3, 2, 2, 1, 1, 1, 1]
[[triggers]]
from = "queues.levels"
to = "sort"
batch = 5
"""


@pytest.fixture(scope="module")
def weir(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("weir")
    (folder / "card.toml").write_text(CARD)
    (folder / "model.toml").write_text(MODEL)
    return folder / "model.toml"


def _log(model: Path, seed: int, sets: tuple[tuple[str, str], ...] = ()) -> pd.DataFrame:
    return pd.concat(run_log(load(model, sets), "reed.a", seed), ignore_index=True)


@pytest.fixture(scope="module")
def ten(weir: Path, tmp_path_factory: pytest.TempPathFactory) -> list[Fit]:
    """The same month with ten seeds, each logged at two memory sizes, each fitted."""
    folder, loaded = tmp_path_factory.mktemp("logs"), load(weir)
    found = []
    for seed in range(10):
        larger = _log(weir, seed, (("functions.sort.memory", "1 GB"), ("functions.sort.measured_at", "512 MB")))
        frame = pd.concat([_log(weir, seed + 1_000), larger.assign(id=larger["id"] + 10**6)], ignore_index=True)
        write_frame(frame, folder / "log.parquet")
        found.append(fit([folder / "log.parquet"], "sort", loaded=loaded, plan="reed.a"))
    return found


@pytest.mark.parametrize(
    ("figure", "truth"),
    [
        (lambda f: f.run.median, 80.0),
        (lambda f: f.run.p95, 240.0),
        (lambda f: f.parts.per_item, 12.0),
        (lambda f: f.parts.cpu_share, 0.6),
        (lambda f: f.cold.median, 900.0),
        (lambda f: f.cold.p95, 1500.0),
        (lambda f: f.errors, 0.02),
        (lambda f: f.rhythm.day[9], 72 / 51),
        (lambda f: f.rhythm.rate, 2 * 60 / 3600),
    ],
    ids=["run median", "run p95", "per item", "cpu share", "cold median", "cold p95", "errors", "day shape", "rate"],
)
def test_known_parameters_lie_in_their_intervals_as_often_as_stated(ten: list[Fit], figure, truth) -> None:  # type: ignore[no-untyped-def]
    # 95 % intervals, ten seeds: fewer than 7 hits have a chance of 0.1 % (binomial).
    hits = sum(figure(found).holds(truth) for found in ten)
    assert hits >= 7


def test_memory_used_is_read_beside_what_was_given(ten: list[Fit]) -> None:
    memory = ten[0].memory
    assert memory is not None and memory.given == 1024
    assert 190 < memory.p95.low <= memory.p95.value <= memory.p95.high <= memory.largest <= 200


def test_a_log_normal_run_is_kept_and_another_shape_becomes_samples(tmp_path: Path) -> None:
    chance = np.random.default_rng(5)
    two_humps = np.where(chance.random(4_000) < 0.5, chance.normal(50, 2, 4_000), chance.normal(400, 9, 4_000))
    times = pd.date_range("2027-02-01", periods=4_000, freq="5min", tz="UTC")
    path = tmp_path / "log.csv"
    pd.DataFrame({"time": times, "run_ms": two_humps}).to_csv(path, index=False)
    humps = fit([path])
    assert humps.run.kind == "samples" and humps.run.distance > humps.run.refused
    pd.DataFrame({"time": times, "run_ms": chance.lognormal(4, 0.5, 4_000)}).to_csv(path, index=False)
    assert fit([path]).run.kind == "log-normal"


@pytest.mark.parametrize("ending", ["csv", "jsonl", "parquet"])
def test_every_format_gives_the_same_fit(weir: Path, tmp_path: Path, ending: str) -> None:
    frame = _log(weir, 3)
    write_frame(frame, tmp_path / "log.parquet")
    path = tmp_path / f"log.{ending}"
    if ending == "jsonl":
        frame.to_json(path, orient="records", lines=True, date_format="iso", date_unit="ns")
    elif ending == "csv":
        write_frame(frame, path)
    a, b = fit([path], "sort"), fit([tmp_path / "log.parquet"], "sort")
    assert a.run.median.value == pytest.approx(b.run.median.value, rel=1e-9)
    assert a.rhythm is not None and b.rhythm is not None and a.rhythm.rate == b.rhythm.rate


def test_several_files_are_read_as_one_log(weir: Path, tmp_path: Path) -> None:
    frame = _log(weir, 3)
    for n, part in enumerate((frame[:5_000], frame[5_000:])):
        write_frame(part, tmp_path / f"{n}.csv")
    assert fit([tmp_path / "0.csv", tmp_path / "1.csv"], "sort").log.rows == len(frame)


def _read(path: Path, *told: tuple[str, str], timezone: str = "UTC"):  # type: ignore[no-untyped-def]
    with open_log([path], told, timezone) as log:
        return log, log.query("SELECT t, run_ms, cold_ms, memory_mb, outcome, events FROM runs ORDER BY rowid")


@pytest.mark.parametrize(
    ("heading", "cell", "wanted_ms"),
    [
        ("run_ms", "120", 120.0),
        ("Duration (s)", "0.12", 120.0),
        ("elapsed_us", "120000", 120.0),
        ("took", "120 ms", 120.0),
        ("took", "0.12 s", 120.0),
        ("runTimeMs", "1.2e2", 120.0),
        ("duration", "120000µs", 120.0),
    ],
)
def test_units_are_taken_from_the_cell_then_the_heading(
    tmp_path: Path, heading: str, cell: str, wanted_ms: float
) -> None:
    path = tmp_path / "log.csv"
    path.write_text(f"time,{heading}\n2027-02-01T00:00:00Z,{cell}\n", encoding="utf-8")
    assert _read(path)[1][0][1] == pytest.approx(wanted_ms)


@pytest.mark.parametrize(
    ("text", "timezone", "epoch"),
    [
        ("2027-02-01T00:00:00Z", "UTC", 1801440000),
        ("2027-02-01 01:00:00+01:00", "UTC", 1801440000),
        ("2027-02-01T01:00:00", "Europe/Paris", 1801440000),
        ("1801440000", "UTC", 1801440000),
        ("1801440000000", "UTC", 1801440000),
        ("1801440000000000000", "UTC", 1801440000),
    ],
)
def test_times_of_any_form(tmp_path: Path, text: str, timezone: str, epoch: float) -> None:
    path = tmp_path / "log.csv"
    path.write_text(f"time,run_ms\n{text},5\n")
    assert _read(path, timezone=timezone)[1][0][0] == pytest.approx(epoch)


def test_mixed_units_are_counted_and_each_read_by_its_own(tmp_path: Path) -> None:
    rows = ["time,took", *(f"2027-02-01T00:0{n}:00Z,{cell}" for n, cell in enumerate(("5 ms", "6 ms", "0.007 s", "8")))]
    (tmp_path / "log.csv").write_text("\n".join(rows) + "\n")
    log, found = _read(tmp_path / "log.csv")
    assert [row[1] for row in found] == pytest.approx([5, 6, 7, 8])
    assert "2 row(s) of log.csv with another unit of run time than most" in str(log.troubles[0])


def test_columns_can_be_told(tmp_path: Path) -> None:
    path = tmp_path / "log.csv"
    path.write_text("when,spent_s,how\n2027-02-01T00:00:00Z,2,fail\n")
    log, rows = _read(path, ("time", "when"), ("run", "spent_s"), ("outcome", "how"))
    assert rows[0][1] == 2_000 and rows[0][4] == "error"
    assert "run from 'spent_s' in s (as told)" in [str(m) for m in log.mapped]


ODD = """time,run_ms,outcome,events,id
2027-02-01T00:00:00Z,10,ok,1,a
2027-02-01T00:00:01Z,10,ok,1,a
yesterday,10,ok,1,b
2027-02-01T00:00:02Z,-4,ok,1,c
2027-02-01T00:00:03Z,10,maybe,1,d
2027-02-01T00:00:04Z,ten,ok,1,e
2027-02-01T00:00:05Z,10,ok,0,f
2027-01-31T00:00:05Z,10,ok,1,g
2027-02-01T00:00:06Z,10,ok,1,h
2027-02-01T00:00:07Z,,throttled,1,i
"""


@pytest.mark.parametrize(
    "said",
    [
        "1 row(s) with an id that was there before: counted once",
        "1 row(s) without a readable time (such as 'yesterday 10 1 ok'): left out",
        "1 row(s) with a negative run time (such as '2027-02-01T00:00:02Z -4 1 ok'): left out",
        "1 row(s) with an outcome we do not know (such as '2027-02-01T00:00:03Z 10 1 maybe'): left out",
        "1 row(s) without a readable run time (such as '2027-02-01T00:00:04Z ten 1 ok'): left out",
        "1 row(s) with no events (such as '2027-02-01T00:00:05Z 10 0 ok'): left out",
        "1 row(s) more than an hour before the row above: kept; times are sorted",
    ],
)
def test_odd_rows_are_counted_and_named(tmp_path: Path, said: str) -> None:
    (tmp_path / "log.csv").write_text(ODD)
    log, _ = _read(tmp_path / "log.csv")
    assert said in [str(trouble) for trouble in log.troubles]


def test_lines_that_do_not_fit_their_columns_are_counted(tmp_path: Path) -> None:
    lines = ["time,run_ms", *(f"2027-02-01T00:{n % 60:02d}:00Z,5" for n in range(50)), "2027-02-01T00:00:00Z,5,6,7"]
    (tmp_path / "log.csv").write_text("\n".join(lines) + "\n")
    log, _ = _read(tmp_path / "log.csv")
    assert any("do not fit its columns" in str(t) and t.rows == 1 for t in log.troubles)


@pytest.mark.parametrize("encoding", ["utf-16", "cp1252", "utf-8-sig"])
def test_odd_encodings_are_read_and_said(tmp_path: Path, encoding: str) -> None:
    path = tmp_path / "log.csv"
    path.write_text("time,run_ms,function\n2027-02-01T00:00:00Z,5,Wächter\n", encoding=encoding)
    with open_log([path]) as log:
        assert log.functions == {"Wächter": 1}
        assert bool(log.notes) == (encoding != "utf-8-sig")


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"", "is empty"),
        (b"\x00\x01\x02binary", "is not text"),
        (b"a,b\n1,2\n", "has no column known as time"),
        (b"time,run_ms\n", "holds no rows"),
    ],
    ids=["empty", "binary", "no columns", "no rows"],
)
def test_what_is_no_log_is_refused_in_one_line(tmp_path: Path, content: bytes, said: str) -> None:
    (tmp_path / "log.csv").write_bytes(content)
    with pytest.raises(BadInput, match=said):
        fit([tmp_path / "log.csv"])


def test_otlp_of_the_official_sdk_is_read(tmp_path: Path) -> None:
    sdk = pytest.importorskip("opentelemetry.sdk.trace")
    encoder = pytest.importorskip("opentelemetry.exporter.otlp.proto.common.trace_encoder")
    from opentelemetry.sdk.resources import Resource
    from opentelemetry.sdk.trace.export import SimpleSpanProcessor
    from opentelemetry.sdk.trace.export.in_memory_span_exporter import InMemorySpanExporter
    from opentelemetry.trace import Status, StatusCode

    exporter = InMemorySpanExporter()
    provider = sdk.TracerProvider(resource=Resource({"faas.name": "sort", "faas.max_memory": 536870912}))
    provider.add_span_processor(SimpleSpanProcessor(exporter))
    tracer, start = provider.get_tracer("t"), 1_801_440_000 * 10**9
    for n in range(200):
        facts = {"faas.invocation_id": str(n), "faas.coldstart": n % 20 == 0, "messaging.batch.message_count": 2}
        span = tracer.start_span("sort", attributes=facts, start_time=start + n * 60 * 10**9)
        if n % 50 == 7:
            span.set_status(Status(StatusCode.ERROR))
        span.end(start + n * 60 * 10**9 + (900 if n % 20 == 0 else 100 + n % 7) * 10**6)
    tracer.start_span("a database call").end()
    request = encoder.encode_spans(exporter.get_finished_spans())
    # The JSON form is that of the library whose message this is, wherever that library lives.
    package = type(request.DESCRIPTOR).__module__.split(".")[0]
    form = import_module(f"{package}.protobuf.json_format").MessageToDict(request)
    (tmp_path / "spans.json").write_text(json.dumps(form))
    found = fit([tmp_path / "spans.json"], "sort")
    assert found.errors.value == pytest.approx(4 / 200)
    assert found.run.median.value == pytest.approx(103, rel=0.02)
    assert found.cold is not None and found.cold.median.value == pytest.approx(797, rel=0.02)
    assert found.measured_mb == 512
    assert "1 span(s) without faas attributes left out" in " ".join(found.log.notes)


def test_the_program_writes_the_fit_into_the_model_and_keeps_comments(weir: Path, tmp_path: Path) -> None:
    for name in ("card.toml", "model.toml"):
        (tmp_path / name).write_text((weir.parent / name).read_text())
    slower = (("functions.sort.run", "300 ms"),)
    write_frame(_log(weir, 2, slower), tmp_path / "log.csv")
    done = run_program(
        "fit", "log.csv", "--function", "sort", "--model", "model.toml", "--plan", "reed.a", "--write", cwd=tmp_path
    )
    assert done.returncode == 0, done.stderr
    text = (tmp_path / "model.toml").read_text()
    assert "# a comment that stays" in text
    assert load(tmp_path / "model.toml").model.functions["sort"].run.scale == pytest.approx(300e6, rel=0.01)


def test_the_rate_is_proposed_only_where_one_demand_feeds_the_function(weir: Path, ten: list[Fit]) -> None:
    assert "[demand.gauges]" in pasted(propose(ten[0], load(weir).model))
    assert "[demand" not in pasted(propose(ten[0], None))


def test_trials_are_fitted_and_played_beside_the_measurements(weir: Path, tmp_path: Path) -> None:
    from echotally.studies.load_trial import load_trial

    rows = load_trial(weir, "sort", (1, 4, 16), (8,), calls=20_000, plan="reed.a").rows
    lines = ["clients,limit,calls,seconds,refused,p50_ms,p95_ms"]
    lines += [
        f"{r.clients},{r.limit},{r.calls},{r.seconds},{r.refused},{(r.latency.p50 or 0) * 1e3},{(r.latency.p95 or 0) * 1e3}"
        for r in rows
    ]
    (tmp_path / "trials.csv").write_text("\n".join([*lines, "0,8,10,1,0,1,1"]) + "\n")
    found = fit_trials(weir, "sort", tmp_path / "trials.csv", "reed.a")
    # per_item (12 ms) of a single request is part of the latency.
    assert found.median.value == pytest.approx(92, rel=0.03)
    assert len(found.rows) == 3 and "left out" in found.notes[0]


COUNTER = """# TYPE requests counter
requests_total{zone="a"} 100 1801440000
requests_total{zone="a"} 160 1801440060
requests_total{zone="a"} 20 1801440120
# EOF
"""
RANGE = {
    "status": "success",
    "data": {"resultType": "matrix", "result": [{"metric": {"__name__": "load"}, "values": [[1801440000, "2"], [1801440060, "3"], [1801440120, "0"]]}]},
}  # fmt: skip


@pytest.mark.parametrize(
    ("text", "counts"),
    [(COUNTER, [60, 20]), (COUNTER.replace("# EOF\n", "").replace("1801440", "1801440000").replace("0000000", "000000"), None), (json.dumps(RANGE), [120, 180])],
    ids=["openmetrics with a reset", "prometheus text", "range query of rates"],
)  # fmt: skip
def test_metrics_become_a_trace_the_model_reads(tmp_path: Path, text: str, counts: list[int] | None) -> None:
    from echotally.evidence.telemetry.reading import trace_of_files

    if counts is None:
        text = (
            "\n".join(
                f'requests_total{{zone="a"}} {n} {1801440000000 + k * 60_000}' for k, n in enumerate((100, 160, 20))
            )
            + "\n"
        )
        counts = [60, 20]
    (tmp_path / "metrics.txt").write_text(text)
    found = trace_of_files([tmp_path / "metrics.txt"])
    assert [count for _, count in found.rows] == counts
    assert found.csv().splitlines()[1] == f"2027-02-01T00:00:00+00:00,{counts[0]}"


def test_a_real_monitoring_server_is_asked(tmp_path: Path) -> None:
    """Optional: a Prometheus of the distribution's packages, on this machine only."""
    import shutil
    import socket
    import time
    from datetime import UTC, datetime, timedelta

    from echotally.evidence.telemetry.reading import trace_of_server

    program = shutil.which("prometheus")
    if program is None:
        pytest.skip("no prometheus on this machine")
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    config = f"global: {{scrape_interval: 1s}}\nscrape_configs: [{{job_name: me, static_configs: [{{targets: ['127.0.0.1:{port}']}}]}}]\n"
    (tmp_path / "p.yml").write_text(config)
    arguments = [
        program,
        f"--config.file={tmp_path}/p.yml",
        f"--storage.tsdb.path={tmp_path}/d",
        f"--web.listen-address=127.0.0.1:{port}",
    ]
    with subprocess.Popen(arguments, stderr=subprocess.DEVNULL) as server:
        try:
            found = None
            for _ in range(40):
                time.sleep(1)
                now = datetime.now(UTC)
                try:
                    found = trace_of_server(
                        f"http://127.0.0.1:{port}", "up", now - timedelta(seconds=8), now, 1, rates=True
                    )
                except BadInput:
                    continue
                if found.total >= 3:
                    break
        finally:
            server.terminate()
    assert found is not None and found.total >= 3 and found.series[0].startswith("up")


def _starts(loaded: Loaded, keep: slice = slice(None), shift_s: float = 0.0) -> pd.DataFrame:
    """A log of the nightly schedule's own firings, some left out or moved."""
    times = loaded.month.firings_ns("nightly-charts")[keep]
    start = pd.Timestamp(loaded.month.clock.start)
    moved = [start + pd.Timedelta(ns, "ns") + pd.Timedelta(shift_s, "s") for ns in times]
    return pd.DataFrame({"time": moved, "function": "charts", "run_ms": 5.0})


@pytest.mark.parametrize(
    ("keep", "shift_s", "wanted"),
    [
        (slice(None), 0.0, (31, 0, 0, 0)),
        (slice(None, None, 2), 5.0, (16, 0, 15, 0)),
        (slice(None), 300.0, (0, 30, 1, 1)),
        (slice(None), 7_200.0, (0, 30, 1, 1)),
    ],
    ids=["as scheduled", "every second one missed", "five minutes late", "two hours off"],
)
def test_firings_are_laid_beside_a_log(
    river: Path, tmp_path: Path, keep: slice, shift_s: float, wanted: tuple[int, ...]
) -> None:
    from echotally.evidence.telemetry.firing_check import check_firings

    loaded = load(river)
    frame = _starts(loaded, keep, shift_s)
    ends = pd.DataFrame({"time": [loaded.month.clock.start, loaded.month.clock.end], "function": "map", "run_ms": 1.0})
    write_frame(pd.concat([frame, ends]), tmp_path / "log.csv")
    found = check_firings(loaded, "nightly-charts", [tmp_path / "log.csv"])
    if shift_s >= 300:
        assert len(found.late) == 31 and found.shift_h == round(shift_s / 3_600)
    else:
        assert (found.on_time, len(found.late), len(found.missed), len(found.extra)) == wanted
        assert found.shift_h == 0


def test_rows_read_in_any_order_are_put_into_one_and_added_up_by_one_thread(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    # What is larger than that is read by all cores.
    monkeypatch.setattr(reading, "_LARGE", 1)
    rows = [f"2027-03-{1 + n % 28:02}T00:{n % 60:02}:00Z,f,ok,{n / 7}" for n in range(3_000)]
    logs = []
    for name, lines in (("a", rows), ("b", rows[::-1])):
        (tmp_path / f"{name}.csv").write_text("\n".join(["time,function,outcome,run_ms", *lines]))
        with open_log([tmp_path / f"{name}.csv"]) as log:
            assert log.query("SELECT current_setting('threads')") == [(1,)]
            logs.append(log.query("SELECT t, run_ms FROM runs ORDER BY rowid"))
    assert logs[0] == logs[1] == sorted(logs[0]) and len(logs[0]) == 3_000
