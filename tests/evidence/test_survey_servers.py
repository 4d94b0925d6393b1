"""A survey asks servers of metrics, and meets circles that a model cannot hold."""

from __future__ import annotations

import base64
import json
import random
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread
from typing import Any
from urllib.parse import parse_qs, urlparse

import pytest

from echotally.errors import BadInput
from echotally.evidence.survey.made import loaded_from
from echotally.evidence.survey.metrics import read_metrics
from echotally.evidence.survey.survey import survey

AT = 1_801_440_000


# -- a server of metrics ------------------------------------------------------------------------------------------
class _Asked(BaseHTTPRequestHandler):
    """Lets in who knows the word; counts sixty calls an hour."""

    def do_GET(self) -> None:
        known = self.headers.get("Authorization") in ("Bearer open", "Basic " + base64.b64encode(b"ann:open").decode())
        asked = parse_qs(urlparse(self.path).query)
        start = int(float(asked["start"][0]))
        values = [[start + 3_600 * k, str(60 * k)] for k in range(20)]
        series = {"metric": {"__name__": "faas_invocations_total", "faas_name": "gauge"}, "values": values}
        answer = (
            {"data": {"result": [series] if asked["query"] == ["faas_invocations_total"] else []}}
            if known
            else {"status": "error", "error": "who \x1b[31mare you?"}
        )
        self.send_response(200 if known else 401)
        self.end_headers()
        self.wfile.write(json.dumps(answer).encode())

    def log_message(self, *_: object) -> None:
        """Says nothing."""


@pytest.mark.parametrize(
    ("name", "value"), [("ECHOTALLY_METRICS_TOKEN", "open"), ("ECHOTALLY_METRICS_LOGIN", "ann:open"), (None, "")]
)
def test_a_server_is_asked_with_credentials_of_the_environment(
    name: str | None, value: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    for each in ("ECHOTALLY_METRICS_TOKEN", "ECHOTALLY_METRICS_LOGIN"):
        monkeypatch.delenv(each, raising=False)
    if name:
        monkeypatch.setenv(name, value)
    with ThreadingHTTPServer(("127.0.0.1", 0), _Asked) as server:
        Thread(target=server.serve_forever, daemon=True).start()
        address = f"http://127.0.0.1:{server.server_port}"
        try:
            if name:
                assert (
                    read_metrics([address], (AT, AT + 72_000)).total("invocations", ("gauge", "live"), AT, AT + 1e6)
                    == 19 * 60
                )
            else:
                with pytest.raises(BadInput, match=r"answered 401: who .*are you\?") as refused:
                    read_metrics([address], (AT, AT + 72_000))
                assert "\x1b" not in str(refused.value) and "ECHOTALLY_METRICS_TOKEN" in str(refused.value)
        finally:
            server.shutdown()


# -- circles ------------------------------------------------------------------------------------------------------
def _span(name: str, kind: int, me: int, at_ms: int, took_ms: int, **more: Any) -> dict[str, Any]:
    facts = [{"key": key, "value": {"stringValue": value}} for key, value in more.pop("facts", {}).items()]
    start = (AT * 1_000 + at_ms) * 10**6
    return {"name": name, "kind": kind, "spanId": f"{me:016x}", "traceId": f"{me:032x}", "startTimeUnixNano": str(start),
            "endTimeUnixNano": str(start + took_ms * 10**6), "attributes": facts, **more}  # fmt: skip


def test_what_a_function_puts_into_its_own_queue_is_no_circle_of_the_model(tmp_path: Path) -> None:
    """A worker that puts one message in five back into the queue it reads: real, and more than a model can hold."""
    spans, chance, at, sent = [], random.Random(8), 0, None
    for n in range(3_000):
        at += round(chance.expovariate(1 / 300_000))
        facts = {"faas.trigger": "pubsub", "messaging.destination.name": "work", "faas.invocation_id": str(n)}
        links: list[dict[str, str]] = [{"spanId": f"{sent:016x}", "traceId": "0" * 32}] if sent else []
        spans.append(_span("worker", 5, 10 + 2 * n, at, 100, facts=facts, links=links))
        sent = None
        if n % 5 == 0:
            sent = 11 + 2 * n
            put = {"messaging.destination.name": "work", "messaging.operation.type": "send"}
            spans.append(_span("send work", 4, sent, at + 90, 1, facts=put, parentSpanId=f"{10 + 2 * n:016x}"))
    resource = {"attributes": [{"key": "faas.name", "value": {"stringValue": "worker"}}]}
    document = {"resourceSpans": [{"resource": resource, "scopeSpans": [{"spans": spans}]}]}
    (tmp_path / "spans.json").write_text(json.dumps(document))
    found = survey([tmp_path / "spans.json"], hold_back_s=0)
    assert "functions.worker.emits" not in found.values and "no circles" in " ".join(found.notes)
    assert found.values["demand.work.rate"].number == pytest.approx(12, rel=0.1)
    assert loaded_from(found).model.functions["worker"]
