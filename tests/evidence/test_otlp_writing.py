"""Spans and metrics of the stand-in platform, read by the standard's own messages, counted beside what the month counted."""

from __future__ import annotations

import gzip
import json
from collections import Counter
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from echotally.engine import spilling
from echotally.engine.codes import FIRST_NUMBER
from echotally.errors import BadInput
from echotally.evidence import stand_in
from echotally.evidence.telemetry.otlp_counts import metrics
from echotally.evidence.telemetry.otlp_origins import Origins
from echotally.evidence.telemetry.otlp_spans import spans
from echotally.output.evidence.log_files import write_log
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded, load
from echotally.projection.project import project
from tests.evidence.made_estates import made_estate
from tests.evidence.round_trips import PLAN


@pytest.fixture(scope="module")
def estate(tmp_path_factory: pytest.TempPathFactory) -> tuple[Loaded, PlayedPlan]:
    folder = tmp_path_factory.mktemp("estate")
    path = made_estate(34).write(folder)
    # A third of its events are enough to count.
    loaded = load(path, [(f"environments.{name}.demand", "0.3") for name in load(path).model.environments])
    return loaded, project(loaded, plans=[PLAN]).played[0]


def _message(name: str) -> Any:
    """A new export request of the standard's own library: ``trace`` or ``metrics``."""
    service = import_module(f"opentelemetry.proto.collector.{name}.v1.{name}_service_pb2")
    return getattr(service, f"Export{name.capitalize()}ServiceRequest")()


def read_otlp(document: dict[str, Any], name: str) -> Any:
    """A document as the standard's reader takes it: unknown fields and wrong types are refused."""
    pytest.importorskip("opentelemetry.proto")
    message = _message(name)
    # The JSON form is that of the library whose message this is, wherever that library lives.
    form = import_module(f"{type(message.DESCRIPTOR).__module__.split('.')[0]}.protobuf.json_format")
    # Identifiers are hexadecimal in OTLP's JSON, base64 in the library's: as many letters of both are valid.
    return form.ParseDict(document, message, ignore_unknown_fields=False)


@pytest.fixture(scope="module")
def written(estate: tuple[Loaded, PlayedPlan]) -> list[dict[str, Any]]:
    return list(spans(estate[0], PLAN))


def _own(requests: list[dict[str, Any]]) -> list[tuple[dict[str, str], dict[str, Any]]]:
    """Spans of functions (not of what they send), each with its resource's attributes."""
    found = []
    for request in requests:
        for resource in request["resourceSpans"]:
            facts = _facts(resource["resource"])
            for scope in resource["scopeSpans"]:
                found += [(facts, span) for span in scope["spans"] if "faas.trigger" in _facts(span)]
    return found


def _facts(of: dict[str, Any]) -> dict[str, Any]:
    return {each["key"]: next(iter(each["value"].values())) for each in of.get("attributes", [])}


def test_the_standards_own_reader_takes_requests(written: list[dict[str, Any]]) -> None:
    # From the whole month: a reader takes longer than all that it reads took to be written.
    some = written[:: 1 + len(written) // 8]
    read = [read_otlp(request, "trace") for request in some]
    n = sum(len(scope.spans) for each in read for resource in each.resource_spans for scope in resource.scope_spans)
    assert n == sum(
        len(scope["spans"]) for each in some for resource in each["resourceSpans"] for scope in resource["scopeSpans"]
    )


def test_there_is_a_span_for_every_attempt_that_began(
    written: list[dict[str, Any]], estate: tuple[Loaded, PlayedPlan]
) -> None:
    seen = Counter((facts["faas.name"], facts["deployment.environment.name"]) for facts, _ in _own(written))
    failed = Counter(facts["faas.name"] for facts, span in _own(written) if "error.type" in _facts(span))
    cold = Counter(facts["faas.name"] for facts, span in _own(written) if _facts(span)["faas.coldstart"])
    for unit in estate[1].measured.units:
        key = (unit.unit.function, unit.unit.environment)
        assert seen[key] == unit.attempts["succeeded"] + unit.attempts["failed"] + unit.attempts["timed_out"]
        if len(estate[0].model.environments) < 2:
            assert failed[key[0]] == unit.attempts["failed"] + unit.attempts["timed_out"]
            assert cold[key[0]] == unit.cold_calls


def test_links_and_parents_lead_to_spans_that_are_there(written: list[dict[str, Any]]) -> None:
    ids = [
        span["spanId"]
        for request in written
        for r in request["resourceSpans"]
        for s in r["scopeSpans"]
        for span in s["spans"]
    ]
    assert len(ids) == len(set(ids)) and all(len(each) == 16 for each in ids)
    known = set(ids)
    linked = [link["spanId"] for _, span in _own(written) for link in span.get("links", [])]
    parents = [span["parentSpanId"] for _, span in _own(written) if "parentSpanId" in span]
    assert set(linked) <= known and set(parents) <= known


def test_a_sample_keeps_whole_traces_and_about_its_share(
    estate: tuple[Loaded, PlayedPlan], written: list[dict[str, Any]]
) -> None:
    some = list(spans(estate[0], PLAN, every=5))
    ids = {
        span["spanId"]
        for request in some
        for r in request["resourceSpans"]
        for s in r["scopeSpans"]
        for span in s["spans"]
    }
    assert {link["spanId"] for _, span in _own(some) for link in span.get("links", [])} <= ids
    assert len(_own(some)) == pytest.approx(len(_own(written)) / 5, rel=0.1)


def test_metrics_count_what_the_month_counted(estate: tuple[Loaded, PlayedPlan]) -> None:
    request = metrics(estate[0], PLAN)
    read_otlp(request, "metrics")
    totals: Counter[tuple[str, str, str]] = Counter()
    for resource in request["resourceMetrics"]:
        facts = _facts(resource["resource"])
        for scope in resource["scopeMetrics"]:
            for metric in scope["metrics"]:
                for point in metric.get("sum", metric.get("histogram", {})).get("dataPoints", []):
                    value = int(point.get("asInt", point.get("count", 0)))
                    totals[metric["name"], facts["faas.name"], facts["deployment.environment.name"]] += value
    for unit in estate[1].measured.units:
        at = (unit.unit.function, unit.unit.environment)
        assert (
            totals["faas.invocations", *at]
            == unit.attempts["total"] - unit.attempts["throttled"] - unit.attempts["running"]
        )
        assert totals["faas.coldstarts", *at] == unit.cold_calls
        assert totals["faas.errors", *at] == unit.attempts["failed"]


@pytest.mark.parametrize(
    "name", ["a.otlp.json", "a.otlp.json.gz", "a.otlp.jsonl", "a.otlp.jsonl.gz", "a.metrics.json", "a.metrics.json.gz"]
)
def test_a_name_says_the_form_and_the_same_month_gives_the_same_bytes(name: str, tmp_path: Path) -> None:
    # A twentieth of the estate fills several requests, and is written in a twentieth of the time.
    loaded = load(made_estate(15).write(tmp_path), [("environments.live.demand", "0.05")])
    contents = []
    for _ in range(2):
        write_log(loaded, PLAN, None, tmp_path / name)
        contents.append((tmp_path / name).read_bytes())
    assert contents[0] == contents[1]
    text = gzip.decompress(contents[0]) if name.endswith(".gz") else contents[0]
    lines = text.decode().splitlines()
    assert len(lines) > 1 if "jsonl" in name else len(lines) == 1
    assert all(isinstance(json.loads(line), dict) for line in lines)


@pytest.mark.parametrize(
    ("name", "said"),
    [("log.txt", "no ending of a log"), ("log.csv.gz", "no ending of a log"), ("no/such/log.csv", "cannot be written")],
)
def test_a_log_that_cannot_be_written_is_refused_before_the_month_is_played(
    name: str, said: str, tmp_path: Path
) -> None:
    with pytest.raises(BadInput, match=said):
        write_log(load(made_estate(15).write(tmp_path)), PLAN, None, tmp_path / name)


CROWDED = """
[functions.a]
memory = "512 MB"
run = "100 ms"
error_rate = 0.05
instance_limit = 40
asks = [{ to = "endpoints.e", each = 0.2 }]
emits = [{ into = "folders.f", each = 0.1 }, { into = "topics.t", each = 0.1 }]
[functions.b]
memory = "256 MB"
run = "10 ms"
[endpoints.e]
[folders.f]
[topics.t]
[queues.q]
retention = "14 d"
backlog = 3_000
[schedules.s]
cron = "0 3 * * *"
items = 20
[demand.d]
into = "queues.q"
rate = "3 /h"
lumps = [{ at = "2027-03-02T00:00", count = 2_000 }]
[[triggers]]
from = "queues.q"
to = "a"
batch = 10
[[triggers]]
from = "schedules.s"
to = "a"
[[triggers]]
from = "endpoints.e"
to = "b"
[[triggers]]
from = "folders.f"
to = "b"
[[triggers]]
from = "topics.t"
to = "b"
"""


def test_spans_and_metrics_are_the_same_wherever_a_page_ends(
    write: Callable[[str], Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    # More was there before the month, and more comes at one instant, than a small page has lines.
    loaded = load(write(CROWDED))
    usual, counted = list(spans(loaded, "test.plan")), metrics(loaded, "test.plan")
    monkeypatch.setattr(stand_in, "_CARGO", 2)
    monkeypatch.setattr(stand_in, "_DIARY", 2)
    for entries in (7, 100_000):
        monkeypatch.setattr(stand_in, "_ENTRIES", entries)
        assert list(spans(loaded, "test.plan")) == usual
        assert metrics(loaded, "test.plan") == counted
    assert sum(_facts(span)["faas.trigger"] == "timer" for _, span in _own(usual)) == 31
    sent = {span["spanId"] for span in _all(usual) if span["kind"] == 4}
    linked = [link["spanId"] for _, span in _own(usual) for link in span.get("links", [])]
    assert sent == set(linked) and len(linked) == len(sent) > 500


def _all(requests: list[dict[str, Any]]) -> list[dict[str, Any]]:
    return [span for r in requests for each in r["resourceSpans"] for s in each["scopeSpans"] for span in s["spans"]]


def test_where_many_events_came_from_stands_in_a_file(monkeypatch: pytest.MonkeyPatch) -> None:
    born = np.zeros(50_000, [(name, np.int64) for name in ("number", "sent", "asker")])
    born["number"] = FIRST_NUMBER + np.arange(50_000)
    born["sent"], born["asker"] = np.arange(50_000) % 70 - 1, -1
    # Every tenth was asked for by the one before it, which was asked for by the first of its hundred.
    born["asker"][1::10], born["asker"][10::10] = born["number"][:-1:10], born["number"][10::10] // 100 * 100
    born["asker"][born["asker"] == born["number"]] = -1
    found = []
    for large in (spilling.LARGE, 1 << 12):
        monkeypatch.setattr(spilling, "LARGE", large)
        origins = Origins()
        for page in np.array_split(born, 31):
            origins.learn(page)
        found.append((origins.of(born["number"]), [origins.trace(int(number)) for number in born["number"]]))
        assert spilling.is_spilled(origins.events.cells) == (large < 1 << 20)
    assert found[0] == found[1]
    assert [(each.sent, each.asker) for each in found[0][0]] == list(zip(born["sent"], born["asker"], strict=True))
    by_number = dict(zip(born["number"].tolist(), born["asker"].tolist(), strict=True))
    for number, trace in zip(born["number"].tolist(), found[0][1], strict=True):
        while by_number[number] >= 0:
            number = by_number[number]
        assert trace == number
