"""The parts of a survey, each on what is known beforehand: headings, schedules, batches, zones, metrics, spans of the official SDK."""

from __future__ import annotations

import gzip
import json
import math
import random
import re
import shlex
import sys
from bisect import bisect_right
from datetime import UTC, datetime
from importlib import import_module
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo, available_timezones

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from echotally.cli.failing import exit_code
from echotally.cli.main import cli
from echotally.demand.cron import firings_after, parse_cron
from echotally.errors import BadInput
from echotally.evidence.logs.columns import map_columns
from echotally.evidence.logs.json_stream import elements
from echotally.evidence.logs.reading import open_log
from echotally.evidence.survey import tables as survey_tables
from echotally.evidence.survey.batches import Batching, batching_of
from echotally.evidence.survey.levels import limit_met, limits_met
from echotally.evidence.survey.metrics import Metrics, read_metrics
from echotally.evidence.survey.partitions import told
from echotally.evidence.survey.schedules import _zones_apart, guess_schedule
from echotally.evidence.survey.survey import survey
from echotally.evidence.survey.tables import Sampled, Tables
from echotally.evidence.survey.wiring import prepare_spans
from echotally.evidence.telemetry.reading import trace_of_files

ROOT = Path(__file__).parents[2]
AT = 1_801_440_000


# -- headings -----------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("headings", "found"),
    [
        (["Started At", "Function Name", "Duration (ms)", "Memory Size (MB)", "Max Memory Used (MB)"],
         {"time": "Started At", "function": "Function Name", "run": "Duration (ms)", "memory": "Memory Size (MB)",
          "memory_used": "Max Memory Used (MB)"}),
        (["timestamp", "tookSeconds", "initDurationMs", "requestId", "stage", "statusCode"],
         {"time": "timestamp", "run": "tookSeconds", "cold_start": "initDurationMs", "id": "requestId", "environment": "stage",
          "outcome": "statusCode"}),
        (["BEGAN_AT_UTC", "RUN_MS", "BILLED_DURATION_MS", "BATCH_SIZE", "TRIGGER_TYPE", "HOST_NAME"],
         {"time": "BEGAN_AT_UTC", "run": "RUN_MS", "billed": "BILLED_DURATION_MS", "events": "BATCH_SIZE",
          "trigger": "TRIGGER_TYPE", "host": "HOST_NAME"}),
        (["time", "elapsed-ms", "invocation-id", "name", "environment", "result", "event-count", "queue"],
         {"time": "time", "run": "elapsed-ms", "id": "invocation-id", "function": "name", "environment": "environment",
          "outcome": "result", "events": "event-count", "source": "queue"}),
    ],
    ids=["spaces", "camels", "shouting", "dashes"],
)  # fmt: skip
def test_headings_are_known_by_their_words(headings: list[str], found: dict[str, str]) -> None:
    mapped = map_columns(headings, (), "log.csv")
    assert {ours: each.theirs for ours, each in mapped.items()} == found


# -- JSON of any size ---------------------------------------------------------------------------------------------
_VALUES = st.recursive(
    st.none()
    | st.booleans()
    | st.integers(-(10**12), 10**12)
    | st.text(max_size=12)
    | st.floats(allow_nan=False, allow_infinity=False),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=6), inner, max_size=3),
    max_leaves=12,
)


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.dictionaries(st.text(max_size=5), _VALUES, max_size=4), max_size=12),
    st.sampled_from([None, 1, 2]),
    st.booleans(),
)
def test_a_list_read_piece_by_piece_is_the_list(
    tmp_path_factory: pytest.TempPathFactory, rows: list[Any], indent: int | None, packed: bool
) -> None:
    path = tmp_path_factory.mktemp("json") / ("a.json.gz" if packed else "a.json")
    text = json.dumps(
        {"before": {"rows": [1]}, "rows": rows, "after": "]}"}, indent=indent, ensure_ascii=bool(indent)
    ).encode()
    path.write_bytes(gzip.compress(text) if packed else text)
    assert [row for _, some in elements(path, {"rows": {}}) for row in some] == rows


@pytest.mark.parametrize("text", ['{"rows": [{"a": 1}', '{"rows": [{"a": ]}', '{"rows": [1, 2', "[", '{"rows": {"a'])
def test_a_document_that_breaks_off_is_refused(text: str, tmp_path: Path) -> None:
    (tmp_path / "a.json").write_text(text)
    with pytest.raises(BadInput):
        assert list(elements(tmp_path / "a.json", {"rows": {}})) != []


# -- schedules ----------------------------------------------------------------------------------------------------
CRONS = [
    "0 2 * * *",
    "*/15 * * * *",
    "30 6 * * 1-5",
    "15 4,16 * * *",
    "0 */6 * * *",
    "5 8-18 * * *",
    "0 0 * * 0",
    "20 3 1 * *",
    "45 7 * * 1",
]


@pytest.mark.parametrize("zone", ["UTC", "Europe/Berlin"])
@pytest.mark.parametrize("cron", CRONS)
def test_a_cron_expression_comes_back_from_its_firings(cron: str, zone: str) -> None:
    """Three months across a change of clocks; starts are up to two seconds late, one in fifty is tried again a minute after."""
    chance, starts = random.Random(cron), []
    for at in firings_after(parse_cron(cron), ZoneInfo(zone), datetime(2027, 1, 20, tzinfo=UTC)):
        if at > datetime(2027, 5, 20, tzinfo=UTC):
            break
        starts.append(at.timestamp() + chance.uniform(0, 2))
        starts += [starts[-1] + 60] if chance.random() < 0.02 else []
    found = guess_schedule(np.array(starts))
    assert found is not None and found.cron == cron
    same = {found.zone, *found.zones}
    every_hour = cron in ("*/15 * * * *",)
    assert zone in same or every_hour


@pytest.mark.parametrize("starts", [[0.0], [0.0, 86_400.0], [0.0, 300_000.0, 310_000.0, 900_000.0, 1_000_000.0]])
def test_a_few_starts_make_no_expression(starts: list[float]) -> None:
    found = guess_schedule(np.array(starts) + 1_801_440_000)
    assert found is None or found.cron is None


# -- batches ------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("rate", "wait", "most", "partitions"),
    [(0.05, 60, 10, 1), (0.15, 60, 10, 1), (0.01, 30, 100, 1), (0.05, 60, 50, 2), (0.2, 20, 5, 1)],
)
def test_the_wait_of_batches_comes_back(rate: float, wait: float, most: int, partitions: int) -> None:
    sample, rates = _batches(rate, wait, most, partitions)
    found = batching_of(sample, rates, partitions)
    assert found.wait_s is not None and found.wait_s.value == pytest.approx(wait, rel=0.03)
    if np.sum(sample.events == most) > 100:
        assert (found.batch, found.capped) == (most, True)


@pytest.mark.parametrize(
    ("rate", "wait", "most", "partitions"),
    [(0.1, 60, 10, 8), (0.02, 30, 10, 3), (0.05, 60, 100, 1), (0.3, 60, 10, 5), (3, 30, 100, 20), (2, 30, 50, 7)],
)
def test_the_times_of_batches_tell_how_many_partitions_there_are(
    rate: float, wait: float, most: int, partitions: int
) -> None:
    found = batching_of(*_batches(rate, wait, most, partitions), None)
    assert found.wait_s is not None
    assert (found.partitions, round(found.wait_s.value)) == (partitions, wait)


@pytest.mark.parametrize("skew", [0.4, 0.7])
def test_of_a_hot_partition_the_wait_is_that_of_each_partitions_own_events(skew: float) -> None:
    sample, rates = _batches(0.025, 120, 20, 4, skew)
    # Made by lot: of the hot one all batches carry its share, of the three others theirs.
    found = batching_of(sample, rates, 4, np.where(sample.used > 0, (1 - skew) / 3, skew))
    assert found.wait_s is not None and found.wait_s.value == pytest.approx(120, rel=0.03)


@pytest.mark.parametrize("readers", [1, 3])
def test_batches_that_gather_while_all_readers_are_busy_tell_how_many_there_are(readers: int) -> None:
    """Events come faster than readers end: each takes what has gathered since, as soon as it is free."""
    chance, free, came, rows = random.Random(5), [0.0] * readers, 0.0, []
    arrivals = [came := came + chance.expovariate(0.6 * readers) for _ in range(20_000)]
    n = 0
    while n < len(arrivals):
        reader = min(range(readers), key=free.__getitem__)
        start = max(free[reader], arrivals[n])
        end = min(bisect_right(arrivals, start), n + 50)
        rows.append((start, run := chance.uniform(4, 6), float(end - n)))
        free[reader], n = start + run, end
    table: NDArray[np.float64] = np.array(rows, dtype=np.float64)
    t, run_s, events = table[:, 0], table[:, 1], table[:, 2]
    zero = np.zeros(len(t))
    sample = Sampled(t, run_s * 1_000, zero, zero > 0, events, zero, zero, zero, zero, zero < 1, zero < 1, 1)
    found = batching_of(sample, zero + 0.6 * readers, 1)
    assert (found.wait_s, found.at_once) == (None, readers)


@pytest.mark.parametrize(("many", "batch", "capped"), [(400, 25, True), (2, 25, False), (0, 9, False)])
def test_larger_batches_elsewhere_in_a_long_log_are_not_forgotten(many: int, batch: int, capped: bool) -> None:
    """A flood in the middle of the month: the latest attempts have no such batches."""
    found = Batching(9, 4, None, capped=False).with_larger(np.repeat([3.0, 25.0], [20_000, many]))
    assert (found.batch, found.capped) == (batch, capped)


def test_batches_that_are_all_full_have_a_wait_in_which_they_fill() -> None:
    """Six events evenly six seconds apart: a wait of half a minute, or six at most; both make the same calls."""
    t = np.linspace(0.0, 36.0 * 1_999, 2_000)
    zero = np.zeros(len(t))
    sample = Sampled(t, zero + 100, zero, zero > 0, zero + 6, zero, zero, zero, zero, zero < 1, zero < 1, 1)
    found = batching_of(sample, zero + 1 / 6, 1)
    assert found.wait_s is not None and found.wait_s.value > 30
    assert (found.batch, found.filled, found.at_once) == (6, True, None)


@pytest.mark.parametrize("partitions", [None, 1])
def test_batches_that_come_together_at_a_beat_are_no_partitions(partitions: int | None) -> None:
    """Every five minutes fifty events at once, cut into ten batches."""
    t = np.repeat(np.arange(2_000) * 300.0, 10) + np.tile(np.arange(10) * 0.002, 2_000)
    zero = np.zeros(len(t))
    sample = Sampled(t, zero + 10, zero, zero > 0, zero + 5, zero, zero, zero, zero, zero < 1, zero < 1, 1)
    found = batching_of(sample, zero + 50 / 300, partitions)
    assert (found.partitions, found.wait_s) == (1, None)


@pytest.mark.parametrize(
    ("events", "batches", "billed", "n", "skew", "sure"),
    [
        ([700, 100, 100, 100], 500, 0, 4, 0.7, True),  # one is hot
        ([260, 250, 250, 240], 500, 0, 4, None, True),  # as chance would have it
        ([3, 2, 1], 5, 0, 3, None, False),  # five batches may not have met all
        ([400, 100], 100, 6, 6, 0.8, True),  # the bill counts six, and two got something
        ([500], 100, 6, 6, None, True),  # one name for all is no name
        ([500], 100, 0, 1, None, True),
    ],
)
def test_partitions_that_are_told(
    events: list[float], batches: int, billed: int, n: int, skew: float | None, sure: bool
) -> None:
    found = told(events, batches, billed)
    assert found is not None and (found.n, found.skew, found.sure) == (n, skew, sure)


def test_of_partitions_nobody_tells_nothing_is_told() -> None:
    assert told([], 100, 0) is None


def _batches(
    rate: float, wait: float, most: int, partitions: int, skew: float | None = None
) -> tuple[Sampled, NDArray[np.float64]]:
    """Batches made by the definition: the first event opens one, it leaves after the wait or full; events go round the partitions,
    or fall to them by lot. The sample's memory used is the partition's number.
    """
    chance, clock, opened = random.Random(7), 0.0, [math.inf] * partitions
    held, batches = [0] * partitions, []
    for n in range(60_000):
        clock += chance.expovariate(rate)
        for p in range(partitions):
            if clock >= opened[p] + wait:
                batches.append((opened[p] + wait, held[p], p))
                opened[p], held[p] = math.inf, 0
        p = n % partitions
        if skew is not None:
            p = 0 if chance.random() < skew else chance.randrange(1, partitions)
        opened[p], held[p] = min(clock, opened[p]), held[p] + 1
        if held[p] == most:
            batches.append((clock, most, p))
            opened[p], held[p] = math.inf, 0
    t, events, of = np.array(sorted(batches), dtype=float).T
    zero = np.zeros(len(t))
    return Sampled(t, zero + 10, zero, zero > 0, events, zero, zero, of, zero, zero < 1, zero < 1, 1), zero + rate


def test_events_that_come_together_have_not_waited() -> None:
    chance, t, clock = random.Random(3), [], 0.0
    for _ in range(5_000):
        clock += chance.expovariate(1 / 60)
        t.append(clock)
    zero = np.zeros(len(t))
    events = np.array([float(chance.choice((2, 3))) for _ in t])
    sample = Sampled(np.array(t), zero + 10, zero, zero > 0, events, zero, zero, zero, zero, zero < 1, zero < 1, 1)
    assert batching_of(sample, zero + 2.5 / 60, 1).wait_s is None


# -- many functions -----------------------------------------------------------------------------------------------
#: Calls in flight that a function may have; none: it is never throttled.
_LIMITS = {"weir": 3, "gauge": 7, "camera": None, "lock": 1}


@pytest.fixture
def limited(tmp_path: Path) -> Path:
    """Every ten seconds ten calls of each function, of which its limit runs, for 4 s, and the rest is throttled."""
    rows = [
        f"{AT + 10 * n + 0.1 * k},{name},{'throttled,0' if limit is not None and k >= limit else 'ok,4000'}"
        for name, limit in _LIMITS.items()
        for n in range(200)
        for k in range(10)
    ]
    random.Random(4).shuffle(rows)
    path = tmp_path / "log.csv"
    path.write_text("\n".join(["time,function,outcome,run_ms", *rows]) + "\n")
    return path


@pytest.mark.parametrize("bunch", [1, 2_500, 400_000])
def test_functions_asked_for_together_are_told_apart(
    bunch: int, limited: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """However many stand in one query: each limit is its own, and each function has its own attempts in their order."""
    monkeypatch.setattr(survey_tables, "_BUNCH", bunch)
    with open_log([limited]) as log:
        prepare_spans(log)
        tables = Tables(log, math.inf)
        assert {f: n for (f, _), n in limits_met(tables).items()} == {f: n for f, n in _LIMITS.items() if n is not None}
        assert [limit_met(tables, [(f, "live")]) for f in _LIMITS] == list(_LIMITS.values())
        assert not tables.followed
        for name, limit in _LIMITS.items():
            sample = tables.samples[name, "live"]
            assert sample.t.tolist() == [AT + 10 * n + 0.1 * k for n in range(200) for k in range(10)]
            assert sample.ran.reshape(200, 10).sum(axis=1).tolist() == [limit or 10] * 200
            assert sample.run[sample.good].tolist() == [4_000.0] * (200 * (limit or 10))
            part = tables.within(AT + 1_000).samples[name, "live"]
            assert part.t.tolist() == sample.t[:1_000].tolist() and part.run.base is not None


@pytest.mark.parametrize("days", [(0.0, 2.0), (25.3, 31.9), (27.45, 27.55), (26.9, 27.04), (0.2, 60.8)])
def test_zones_apart_are_those_whose_clocks_change_in_the_span(days: tuple[float, float]) -> None:
    """Laid beside asking each zone for itself: the span is not widened by half a day."""
    first, last = (datetime(2027, 3, 1, tzinfo=UTC).timestamp() + 86_400 * day for day in days)
    moments = np.linspace(first, last, max(2, int((last - first) / 43_200) + 1))
    changing = {
        name
        for name in available_timezones()
        if len({datetime.fromtimestamp(at, ZoneInfo(name)).utcoffset() for at in moments.tolist()}) > 1
    }
    assert {name for group in _zones_apart(first, last, ("UTC",)) for name in group} == changing


# -- metrics ------------------------------------------------------------------------------------------------------
def _points(values: list[tuple[int, int, int]]) -> list[dict[str, Any]]:
    return [
        {"startTimeUnixNano": str((AT + a) * 10**9), "timeUnixNano": str((AT + b) * 10**9), "asInt": str(n)}
        for a, b, n in values
    ]


@pytest.mark.parametrize(
    ("temporality", "values", "total"),
    [
        (1, [(0, 60, 5), (60, 120, 7), (120, 180, 1)], 13),
        (2, [(0, 60, 5), (0, 120, 12), (0, 180, 13)], 13),
        # Begun anew: counted from nothing again, which is no negative count.
        (2, [(0, 60, 5), (0, 120, 12), (120, 180, 3), (120, 240, 4)], 16),
        (2, [(0, 60, 5), (0, 120, 12), (0, 180, 2)], 14),
        # A point that is there twice counts once.
        (1, [(0, 60, 5), (0, 60, 5), (60, 120, 7)], 12),
    ],
    ids=["delta", "cumulative", "restarted", "fallen", "doubled"],
)
def test_counters_are_counts(temporality: int, values: list[tuple[int, int, int]], total: int, tmp_path: Path) -> None:
    metric = {
        "name": "faas.invocations",
        "sum": {"aggregationTemporality": temporality, "isMonotonic": True, "dataPoints": _points(values)},
    }
    resource = {"attributes": [{"key": "faas.name", "value": {"stringValue": "f"}}]}
    document = {"resourceMetrics": [{"resource": resource, "scopeMetrics": [{"metrics": [metric]}]}]}
    (tmp_path / "m.json").write_text(json.dumps(document))
    assert (
        read_metrics([tmp_path / "m.json"], (AT, AT + 300)).total("invocations", ("f", "live"), AT, AT + 300) == total
    )


def test_a_trace_of_packed_otlp_metrics_counts_what_they_count(tmp_path: Path) -> None:
    delta = {
        "name": "faas.invocations",
        "sum": {"aggregationTemporality": 1, "dataPoints": _points([(0, 60, 5), (60, 120, 7), (120, 180, 1)])},
    }
    document = {"resourceMetrics": [{"scopeMetrics": [{"metrics": [delta]}]}]}
    (tmp_path / "m.json.gz").write_bytes(gzip.compress(json.dumps(document).encode()))
    found = trace_of_files([tmp_path / "m.json.gz"])
    assert [count for _, count in found.rows] == [5, 7, 1] and found.rows[0][0] == AT
    (tmp_path / "text.gz").write_bytes(
        gzip.compress(b"requests_total 1 1801440000000\nrequests_total 9 1801440060000\n")
    )
    assert trace_of_files([tmp_path / "text.gz"]).total == 8
    (tmp_path / "bad.gz").write_bytes(gzip.compress(b"requests_total 1 1801440000000\n" * 50)[:40])
    with pytest.raises(BadInput, match="cannot be unpacked"):
        trace_of_files([tmp_path / "bad.gz"])


def test_starts_between_counts_by_the_hour_are_those_of_the_minutes_seen() -> None:
    found = Metrics()
    found.points["invocations", ("f", "live")] = [
        (h * 3_600.0, (h + 1) * 3_600.0, float(h % 24 == 3), 0.0) for h in range(240)
    ]
    starts = found.starts(("f", "live"), np.array([3 * 3_600 + 1_800.5]))
    assert starts is not None and len(starts) == 10 and set(starts % 86_400) == {3 * 3_600 + 1_800.5}


# -- spans and metrics of the official SDK ------------------------------------------------------------------------
def _as_json(message: Any) -> Any:
    package = type(message.DESCRIPTOR).__module__.split(".")[0]
    return import_module(f"{package}.protobuf.json_format").MessageToDict(message)


@pytest.fixture(scope="module")
def official(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A week of a function that asks another and publishes for two, named by the semantic conventions' own constants."""
    pytest.importorskip("opentelemetry.sdk.trace")
    from opentelemetry.exporter.otlp.proto.common.metrics_encoder import encode_metrics
    from opentelemetry.exporter.otlp.proto.common.trace_encoder import encode_spans
    from opentelemetry.sdk.metrics import MeterProvider
    from opentelemetry.sdk.metrics.export import InMemoryMetricReader
    from opentelemetry.sdk.resources import Resource
    from opentelemetry.sdk.trace import TracerProvider
    from opentelemetry.sdk.trace.export import SimpleSpanProcessor
    from opentelemetry.sdk.trace.export.in_memory_span_exporter import InMemorySpanExporter
    from opentelemetry.semconv._incubating.attributes import faas_attributes as faas
    from opentelemetry.semconv._incubating.attributes import messaging_attributes as messaging
    from opentelemetry.semconv._incubating.metrics import faas_metrics
    from opentelemetry.trace import Link, SpanKind, set_span_in_context

    exporter, reader = InMemorySpanExporter(), InMemoryMetricReader()

    def tracer(name: str) -> Any:
        facts: dict[str, Any] = {
            faas.FAAS_NAME: name,
            faas.FAAS_MAX_MEMORY: 512 * 2**20,
            "deployment.environment.name": "live",
        }
        provider = TracerProvider(resource=Resource(facts))
        provider.add_span_processor(SimpleSpanProcessor(exporter))
        return provider.get_tracer("river")

    intake, lookup, mail, sms = (tracer(name) for name in ("intake", "lookup", "mail", "sms"))
    meter = MeterProvider(
        [reader], resource=Resource({faas.FAAS_NAME: "intake", "deployment.environment.name": "live"})
    ).get_meter("river")
    calls = meter.create_counter(faas_metrics.FAAS_INVOCATIONS)
    chance, at = random.Random(1), 1_801_440_000 * 10**9
    ms = 10**6
    for n in range(2_000):
        at += round(chance.expovariate(1 / 300) * 10**9)
        http = {
            faas.FAAS_TRIGGER: "http",
            "http.request.method": "GET",
            "http.route": "/levels",
            faas.FAAS_INVOCATION_ID: f"i{n}",
        }
        calls.add(1)
        own = intake.start_span("intake", kind=SpanKind.SERVER, start_time=at, attributes=http)
        inside = set_span_in_context(own)
        ask = intake.start_span("GET", context=inside, kind=SpanKind.CLIENT, start_time=at + 5 * ms)
        asked = {faas.FAAS_TRIGGER: "http", "http.route": "/lookup", faas.FAAS_INVOCATION_ID: f"l{n}"}
        lookup.start_span(
            "lookup", context=set_span_in_context(ask), kind=SpanKind.SERVER, start_time=at + 6 * ms, attributes=asked
        ).end(at + 36 * ms)
        ask.end(at + 38 * ms)
        if n % 4 == 0:
            facts = {
                messaging.MESSAGING_SYSTEM: "river",
                messaging.MESSAGING_OPERATION_TYPE: "send",
                messaging.MESSAGING_DESTINATION_NAME: "flood",
            }
            sent = intake.start_span(
                "send flood", context=inside, kind=SpanKind.PRODUCER, start_time=at + 50 * ms, attributes=facts
            )
            sent.end(at + 51 * ms)
            for name, reader_of in (("mail", mail), ("sms", sms)):
                if name == "mail" or n % 8 == 0:
                    taken = {faas.FAAS_TRIGGER: "pubsub", messaging.MESSAGING_SYSTEM: "river", messaging.MESSAGING_OPERATION_TYPE: "process",
                             messaging.MESSAGING_DESTINATION_NAME: "flood", messaging.MESSAGING_DESTINATION_SUBSCRIPTION_NAME: name,
                             messaging.MESSAGING_BATCH_MESSAGE_COUNT: 1, faas.FAAS_INVOCATION_ID: f"{name}{n}"}  # fmt: skip
                    links = [Link(sent.get_span_context())]
                    reader_of.start_span(
                        name, kind=SpanKind.CONSUMER, start_time=at + 80 * ms, links=links, attributes=taken
                    ).end(at + 280 * ms)
        own.end(at + 100 * ms)
    folder = tmp_path_factory.mktemp("official")
    spans, half = exporter.get_finished_spans(), len(exporter.get_finished_spans()) // 2
    (folder / "a.jsonl").write_text(
        "".join(json.dumps(_as_json(encode_spans(spans[k : k + 500]))) + "\n" for k in range(0, half, 500))
    )
    (folder / "b.json.gz").write_bytes(
        gzip.compress(json.dumps(_as_json(encode_spans(spans[len(range(0, half, 500)) * 500 :]))).encode())
    )
    data = reader.get_metrics_data()
    assert data is not None
    (folder / "m.json").write_text(json.dumps(_as_json(encode_metrics(data))))
    return folder


def test_wiring_of_official_spans_is_exact(official: Path) -> None:
    found = survey([official], hold_back_s=0)
    values = {address: value.toml for address, value in found.values.items()}
    assert values["functions.intake.asks"] == '[{ to = "endpoints.lookup", each = 1 }]'
    assert values["functions.intake.emits"] == '[{ into = "topics.flood", each = 0.25 }]'
    shares = {
        into: float(share)
        for into, share in re.findall(r'into = "queues\.(\w+)", share = ([\d.]+)', values["topics.flood.feeds"])
    }
    assert shares == {"mail": 1.0, "sms": 0.5}
    # Own time: what it waited for the other function's answer is no run time of its own.
    assert found.values["functions.intake.run"].number == pytest.approx(67, rel=0.02)
    assert [address for address in values if address.startswith("demand.") and address.endswith(".rate")] == [
        "demand.levels.rate"
    ]
    # The SDK's metrics are of the minute they were read in, not of the week: what they do not cover is not theirs to count.
    assert found.functions["intake"].by == 1.0


def test_where_spans_are_a_sample_shares_and_lines_stay_what_they_are(official: Path, tmp_path: Path) -> None:
    """Every function's spans drawn by lot, apart from the others': one in two is kept."""
    chance, kept = random.Random(5), []
    for line in (official / "a.jsonl").read_text().splitlines():
        request = json.loads(line)
        for resource in request["resourceSpans"]:
            for scope in resource["scopeSpans"]:
                scope["spans"] = [
                    s
                    for s in scope["spans"]
                    if chance.random() < 0.5 or s["kind"] in ("SPAN_KIND_CLIENT", "SPAN_KIND_PRODUCER")
                ]
        kept.append(json.dumps(request))
    (tmp_path / "half.jsonl").write_text("\n".join(kept) + "\n")
    found = survey([tmp_path / "half.jsonl"], hold_back_s=0)
    assert {"intake", "lookup", "mail", "sms"} <= set(found.functions)
    assert "topics.flood" in found.values["functions.intake.emits"].toml


# -- the walk-through ---------------------------------------------------------------------------------------------
def test_from_logs_to_a_model_runs_as_it_is_written(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    page = (ROOT / "docs/from-logs-to-a-model.md").read_text()
    lines = [line for block in re.findall(r"```sh\n(.*?)```", page, re.S) for line in block.splitlines()]
    monkeypatch.chdir(tmp_path)
    assert len(lines) >= 9
    for line in lines:
        word, *rest = shlex.split(line)
        if word == "mkdir":
            Path(rest[0]).mkdir()
        elif word == "python":
            source = ROOT / rest[0]
            monkeypatch.setattr(sys, "argv", [str(source), *rest[1:]])
            exec(compile(source.read_text(), str(source), "exec"), {"__name__": "__main__", "__file__": str(source)})
        else:
            assert exit_code(cli, rest) == 0, (line, capsys.readouterr().err)
            if rest[0] == "survey":
                said = capsys.readouterr().out
                assert "A model of 50 functions" in said
                assert ("No value of the model has drifted" in said) == ("--model" in rest)
    before, after = (
        json.loads((tmp_path / f"{name}.json").read_text())["plans"][0]["cost"]["total"] for name in ("before", "after")
    )
    assert 0.1 < 1 - float(after) / float(before) < 0.3


def test_words_are_met_as_they_are_meant() -> None:
    from echotally.evidence.survey.wiring import kind_of

    kinds = {
        word: kind_of(word)
        for word in ("http", "pubsub", "timer", "datasource", "ObjectCreated", "mqMessage", None, "other")
    }
    names = {word: kind.value if kind else None for word, kind in kinds.items()}
    assert names == {"http": "endpoints", "pubsub": "queues", "timer": "schedules", "datasource": "folders",
                     "ObjectCreated": "folders", "mqMessage": "queues", None: None, "other": None}  # fmt: skip


def test_the_month_of_a_bill_is_that_of_its_zone() -> None:
    from echotally.evidence.survey.bills import Billed

    for start, month in (
        ("2027-02-28T23:00:00Z", "2027-03"),
        ("2027-03-01T00:00:00Z", "2027-03"),
        ("2027-03-01T08:00:00Z", "2027-03"),
    ):
        assert Billed(starts={start}).month == month
    assert Billed().month is None
