"""The stand-in platform's spans and metrics as OTLP/JSON, with the attributes that the semantic conventions name.

Spans: one for each attempt that ran (it begins when the code runs, after the cold start), one for each event put out, one
for each request asked of another function. A call of messages links to the spans that sent them; an asked function's span
has the asking one as its parent. Metrics: hourly counts and histograms, as differences (delta).

Sources: OTLP 1.x JSON encoding (ids in hexadecimal, 64-bit numbers as text); semantic conventions for functions as a
service, messaging and HTTP.
"""

from __future__ import annotations

import json
import zlib
from collections import defaultdict
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct, field

from echotally.engine.build import Unit
from echotally.engine.codes import FAILED, NEVER, THROTTLED, TIMED_OUT
from echotally.engine.play import Page
from echotally.evidence.stand_in import TRIGGERS, StandIn, run_times, stand_in
from echotally.files import write_whole
from echotally.model.sources import SourceKind, SourceRef
from echotally.projection.loaded import Loaded

_INTERNAL, _SERVER, _CLIENT, _PRODUCER, _CONSUMER = 1, 2, 3, 4, 5
_KINDS = {SourceKind.ENDPOINTS: _SERVER, SourceKind.SCHEDULES: _INTERNAL, SourceKind.FOLDERS: _INTERNAL}
#: Spans of one export request.
_EACH = 512
_HOUR_NS = 3_600 * 10**9
#: Bounds of histograms: seconds of the conventions' advice for durations, and powers of two of bytes.
_SECONDS = (0.005, 0.01, 0.025, 0.05, 0.075, 0.1, 0.25, 0.5, 0.75, 1, 2.5, 5, 7.5, 10, 30, 60, 120, 300, 600, 900)
_NAME = "echotally stand-in"
Span = dict[str, Any]


def spans(loaded: Loaded, plan: str, seed: int | None = None, every: int = 1) -> Iterator[dict[str, Any]]:
    """The month's spans as OTLP export requests; ``every`` N: one trace in N, chosen by its number.

    Raises ``BadInput`` for a plan no card has or that cannot run a function.
    """
    writer = _Spans(stand_in(loaded, plan, seed, cargo=True), max(1, every))
    for page in writer.platform.pages():
        yield from writer.of_page(page)
    yield from writer.rest()


def metrics(loaded: Loaded, plan: str, seed: int | None = None) -> dict[str, Any]:
    """The month's metrics as one OTLP export request, an hour a data point; raises ``BadInput`` as ``spans``."""
    platform = stand_in(loaded, plan, seed, cargo=True)
    found = _Metrics(platform)
    for page in platform.pages():
        found.add(page)
    return found.request()


def write_otlp(path: Path, requests: Iterable[dict[str, Any]]) -> None:
    """Write export requests: one document (.json), or a request a line (.jsonl), packed if the name ends in .gz."""
    texts = _lines(requests) if ".jsonl" in path.suffixes else _merged(requests)
    pieces = (text.encode() for text in texts)
    write_whole(path, _packed(pieces) if path.suffix == ".gz" else pieces)


def _lines(requests: Iterable[dict[str, Any]]) -> Iterator[str]:
    for request in requests:
        yield _text(request) + "\n"


def _merged(requests: Iterable[dict[str, Any]]) -> Iterator[str]:
    """Several requests of one kind as one: their lists put end to end."""
    before = None
    for request in requests:
        ((key, items),) = request.items()
        yield f"{{{_text(key)}:[" if before is None else ","
        yield _text(items)[1:-1]
        before = key
    yield "{}\n" if before is None else "]}\n"


def _text(value: Any) -> str:
    return json.dumps(value, separators=(",", ":"), ensure_ascii=False)


def _packed(pieces: Iterable[bytes]) -> Iterator[bytes]:
    """As gzip packs a file, without a time, so that the same always gives the same."""
    packer = zlib.compressobj(9, wbits=zlib.MAX_WBITS + 16)
    for piece in pieces:
        yield packer.compress(piece)
    yield packer.flush()


def attributes(values: dict[str, Any]) -> list[dict[str, Any]]:
    """Attributes by name as OTLP has them; what is None is left out."""
    return [{"key": key, "value": _value(value)} for key, value in values.items() if value is not None]


def _value(value: Any) -> dict[str, Any]:
    if isinstance(value, bool):
        return {"boolValue": value}
    if isinstance(value, int | np.integer):
        return {"intValue": str(int(value))}
    return {"doubleValue": float(value)} if isinstance(value, float) else {"stringValue": str(value)}


def identity(kind: str, number: int, digits: int) -> str:
    """An identifier that is the same every time: a kind's letter and a number."""
    return f"{ord(kind):02x}{number:0{digits - 2}x}"


class _Resources:
    """What the spans and data points of one unit say of it."""

    def __init__(self, platform: StandIn) -> None:
        self.platform = platform
        self.releases = [self._releases(unit) for unit in platform.built.units]

    def _releases(self, unit: Unit) -> list[int]:
        named = self.platform.loaded.month.arrivals.happenings.releases.get(unit.function, ())
        return sorted(int(at) for at in named)

    def of(self, u: int, at_ns: int) -> dict[str, Any]:
        """The attributes of unit ``u``'s resource at an instant: its version counts its releases."""
        unit = self.platform.built.units[u]
        version = 1 + int(np.searchsorted(self.releases[u], at_ns, side="right"))
        return {
            "service.name": unit.function,
            "faas.name": unit.function,
            "faas.version": str(version),
            "faas.max_memory": unit.settings.memory_mb * 2**20,
            "deployment.environment.name": unit.environment,
            **{
                f"x.tag.{key}": value for key, value in self.platform.loaded.model.functions[unit.function].tags.items()
            },
        }


class _Origin(Struct):
    """Where an event came from, while it may still be carried."""

    source: int
    sent: int
    asker: int
    at: int
    number: int


class _Spans:
    def __init__(self, platform: StandIn, every: int) -> None:
        self.platform, self.every = platform, every
        self.resources = _Resources(platform)
        self.zero = int(platform.start.timestamp()) * 10**9
        self.origins: dict[int, _Origin] = {}
        #: Requests asked by calls that still wait: (unit's call number) to their events.
        self.asked: dict[int, list[_Origin]] = defaultdict(list)
        self.answered: dict[int, int] = {}
        #: Of what was put out: the trace of the attempt that did, and the trace at whose end it all stands.
        self.traces: dict[int, int] = {}
        self.roots: dict[int, int] = {}
        self.noted = 0
        self.batches: dict[str, tuple[dict[str, Any], list[Span]]] = {}

    def of_page(self, page: Page) -> Iterator[dict[str, Any]]:
        """The export requests that a page fills."""
        put_out: dict[int, list[Any]] = defaultdict(list)
        for line in page.born:
            if line["number"] < 0:
                put_out[int(line["origin"])].append(line)
            else:
                origin = _Origin(
                    int(line["source"]), int(line["sent"]), int(line["asker"]), int(line["at"]), int(line["number"])
                )
                self.origins[origin.number] = origin
                if origin.asker >= 0:
                    self.asked[origin.asker].append(origin)
        carried: dict[int, list[int]] = defaultdict(list)
        for line in page.carried:
            carried[int(line["attempt"])].append(int(line["number"]))
        for place, attempt in enumerate(page.attempts):
            number = self.noted + place
            if attempt["outcome"] != THROTTLED and attempt["run_at"] < NEVER:
                yield from self._attempt(number, attempt, carried.get(number, []), put_out.get(number, []))
        self.noted += len(page.attempts)

    def _trace(self, number: int) -> int:
        """The trace of a call, by its number: an asked function's span belongs to that of the one that asks."""
        while number in self.origins and self.origins[number].asker >= 0:
            number = self.origins[number].asker
        return number

    def rest(self) -> Iterator[dict[str, Any]]:
        """What has not filled a request."""
        for resource, found in self.batches.values():
            yield export_request("resourceSpans", "scopeSpans", "spans", resource, found)

    def _attempt(self, number: int, attempt: Any, events: list[int], out: list[Any]) -> Iterator[dict[str, Any]]:
        u = int(attempt["unit"])
        origins = [self.origins[each] for each in events if each in self.origins]
        asked = [each for each in self.asked.pop(int(attempt["number"]), []) if each.at >= int(attempt["run_at"])]
        trace = self._trace(int(attempt["number"]))
        # A batch belongs with its oldest event, as its span's links have it.
        root = self.roots.get(origins[0].sent, trace) if origins else trace
        for line in out:
            self.roots[int(line["sent"])], self.traces[int(line["sent"])] = root, trace
        # One trace in N, and with it those that follow from it: links lead to spans that are there.
        kept = root % self.every == 0
        me = identity("a", number, 16)
        spans = [self._own(me, trace, attempt, events, origins)]
        spans += [self._sends(me, trace, line) for line in out]
        spans += [self._asks(me, trace, each, int(attempt["ended"])) for each in asked]
        for each in events:
            self.answered[each] = int(attempt["ended"])
        yield from self._put(u, int(attempt["run_at"]), spans) if kept else ()

    def _put(self, u: int, at: int, spans: list[Span]) -> Iterator[dict[str, Any]]:
        resource = self.resources.of(u, at)
        key = json.dumps(resource)
        batch = self.batches.setdefault(key, (resource, []))[1]
        batch += spans
        # Requests of a bounded size, as exporters send them.
        if len(batch) >= _EACH:
            yield export_request("resourceSpans", "scopeSpans", "spans", resource, batch)
            del self.batches[key]

    def _span(self, me: str, trace: int, kind: int, name: str, start: int, end: int, **more: Any) -> Span:
        return {
            "traceId": identity("t", trace, 32),
            "spanId": me,
            "name": name,
            "kind": kind,
            "startTimeUnixNano": str(self.zero + start),
            "endTimeUnixNano": str(self.zero + end),
            **more,
        }

    def _own(self, me: str, trace: int, attempt: Any, events: list[int], origins: list[_Origin]) -> Span:
        unit = self.platform.built.units[int(attempt["unit"])]
        source = self._source(origins[0].source) if origins else self.platform.source_of(unit)
        kind = source.kind if source else SourceKind.SCHEDULES
        facts: dict[str, Any] = {
            "faas.trigger": TRIGGERS[kind],
            "faas.coldstart": bool(attempt["cold_ns"] > 0),
            "faas.invocation_id": me,
        }
        failed = int(attempt["outcome"]) in (FAILED, TIMED_OUT)
        if source is not None:
            facts |= self._of_source(source, unit, attempt, events, failed)
        more: dict[str, Any] = {}
        if failed:
            facts["error.type"] = "timeout" if attempt["outcome"] == TIMED_OUT else "error"
            more["status"] = {"code": 2}
        links = [
            {"traceId": identity("t", self.traces[each.sent], 32), "spanId": identity("s", each.sent, 16)}
            for each in origins
            if each.sent in self.traces
        ]
        if links and kind is not SourceKind.ENDPOINTS:
            more["links"] = links
        if origins and origins[0].asker >= 0:
            more["parentSpanId"] = identity("c", origins[0].number, 16)
        start, end = int(attempt["run_at"]), int(attempt["ended"])
        own_kind = _KINDS.get(kind, _CONSUMER)
        return self._span(me, trace, own_kind, unit.function, start, end, attributes=attributes(facts), **more)

    def _of_source(
        self, source: SourceRef, unit: Unit, attempt: Any, events: list[int], failed: bool
    ) -> dict[str, Any]:
        if source.kind is SourceKind.ENDPOINTS:
            code = 500 if failed else 200
            return {"http.request.method": "GET", "http.route": f"/{source.name}", "http.response.status_code": code}
        if source.kind is SourceKind.FOLDERS:
            return {"faas.document.collection": source.name, "faas.document.operation": "insert"}
        if source.kind is SourceKind.SCHEDULES:
            return {}
        destination, subscription = self._destination(source, unit)
        return {
            "messaging.system": "stand-in",
            "messaging.operation.type": "process",
            "messaging.destination.name": destination,
            "messaging.destination.subscription.name": subscription,
            "messaging.destination.partition.id": "0" if source.kind is SourceKind.STREAMS else None,
            "messaging.batch.message_count": int(attempt["items"]) if source.kind.traits.batched else None,
            "messaging.message.id": str(events[0]) if len(events) == 1 else None,
        }

    def _destination(self, source: SourceRef, unit: Unit) -> tuple[str, str | None]:
        """Where an event was sent, and the subscription by which it came, if it came by one."""
        if source.kind is SourceKind.TOPICS:
            return source.name, unit.function
        topics = self.platform.loaded.model.topics.items()
        feeding = [name for name, topic in topics if source in [feed.into for feed in topic.feeds]]
        return (feeding[0], source.name) if feeding else (source.name, None)

    def _source(self, place: int) -> SourceRef:
        return self.platform.built.sources[place][1]

    def _sends(self, parent: str, trace: int, line: Any) -> Span:
        source, at = self._source(int(line["source"])), int(line["at"])
        facts: dict[str, Any] = {
            "messaging.system": "stand-in",
            "messaging.operation.type": "send",
            "messaging.destination.name": source.name,
            "messaging.message.id": str(int(line["sent"])),
        }
        if source.kind is SourceKind.FOLDERS:
            facts = {"faas.document.collection": source.name, "faas.document.operation": "insert"}
        me = identity("s", int(line["sent"]), 16)
        name = f"send {source.name}"
        return self._span(me, trace, _PRODUCER, name, at, at, parentSpanId=parent, attributes=attributes(facts))

    def _asks(self, parent: str, trace: int, asked: _Origin, otherwise: int) -> Span:
        source = self._source(asked.source)
        end = max(asked.at, min(self.answered.pop(asked.number, otherwise), otherwise))
        facts = {"http.request.method": "GET", "url.full": f"http://{source.name}/"}
        me = identity("c", asked.number, 16)
        return self._span(me, trace, _CLIENT, "GET", asked.at, end, parentSpanId=parent, attributes=attributes(facts))


def export_request(whole: str, scopes: str, inner: str, resource: dict[str, Any], found: list[Any]) -> dict[str, Any]:
    """One export request."""
    scope = {"scope": {"name": _NAME}, inner: found}
    return {whole: [{"resource": {"attributes": attributes(resource)}, scopes: [scope]}]}


class _Hour(Struct):
    """One hour of one unit: sums, and the times they are made of."""

    invocations: int = 0
    coldstarts: int = 0
    errors: int = 0
    timeouts: int = 0
    run_s: list[float] = field(default_factory=list)
    cold_s: list[float] = field(default_factory=list)
    sent: dict[str, int] = field(default_factory=lambda: defaultdict(int))
    consumed: dict[str, int] = field(default_factory=lambda: defaultdict(int))


class _Metrics:
    def __init__(self, platform: StandIn) -> None:
        self.platform = platform
        self.resources = _Resources(platform)
        self.zero = int(platform.start.timestamp()) * 10**9
        self.hours: dict[tuple[int, int], _Hour] = defaultdict(_Hour)
        self.unit_of: dict[int, int] = {}
        self.noted = 0

    def add(self, page: Page) -> None:
        """Count a page's attempts and what they put out."""
        ran, run_ns, cold_ns = run_times(page.attempts)
        for place, attempt in enumerate(page.attempts):
            if attempt["outcome"] == THROTTLED:
                continue
            u, hour = int(attempt["unit"]), int(attempt["ended"]) // _HOUR_NS
            at = self.hours[u, hour]
            at.invocations += 1
            at.coldstarts += bool(attempt["cold_ns"] > 0)
            at.errors += attempt["outcome"] == FAILED
            at.timeouts += attempt["outcome"] == TIMED_OUT
            if ran[place]:
                at.run_s.append(run_ns[place] / 1e9)
            if cold_ns[place]:
                at.cold_s.append(cold_ns[place] / 1e9)
            source = self.platform.source_of(self.platform.built.units[u])
            if source is not None and source.kind in (SourceKind.QUEUES, SourceKind.STREAMS, SourceKind.TOPICS):
                at.consumed[source.name] += int(attempt["items"])
            self.unit_of[self.noted + place] = u
        for line in page.born:
            if line["number"] < 0 <= line["origin"]:
                by = self.unit_of.get(int(line["origin"]))
                source = self.platform.built.sources[int(line["source"])][1]
                if by is not None:
                    self.hours[by, int(line["at"]) // _HOUR_NS].sent[source.name] += 1
        self.noted += len(page.attempts)

    def request(self) -> dict[str, Any]:
        """All units' metrics."""
        found = []
        for u in range(len(self.platform.built.units)):
            hours = {hour: at for (unit, hour), at in sorted(self.hours.items()) if unit == u}
            if hours:
                found.append(self._of_unit(u, hours))
        return {"resourceMetrics": [each for request in found for each in request["resourceMetrics"]]}

    def _of_unit(self, u: int, hours: dict[int, _Hour]) -> dict[str, Any]:
        trigger = self.platform.trigger_of(self.platform.built.units[u])
        own = attributes({"faas.trigger": trigger or None})
        metrics = [
            _sum("faas.invocations", "{invocation}", [self._point(h, at.invocations, own) for h, at in hours.items()]),
            _sum("faas.coldstarts", "{coldstart}", [self._point(h, at.coldstarts, own) for h, at in hours.items()]),
            _sum("faas.errors", "{error}", [self._point(h, at.errors, own) for h, at in hours.items()]),
            _sum("faas.timeouts", "{timeout}", [self._point(h, at.timeouts, own) for h, at in hours.items()]),
            _histogram(
                "faas.invoke_duration", "s", [self._bins(h, at.run_s, own) for h, at in hours.items() if at.run_s]
            ),
            _histogram(
                "faas.init_duration", "s", [self._bins(h, at.cold_s, own) for h, at in hours.items() if at.cold_s]
            ),
        ]
        for name, kind in (("sent", "send"), ("consumed", "process")):
            points = [
                self._point(h, n, attributes({"messaging.operation.name": kind, "messaging.destination.name": where}))
                for h, at in hours.items()
                for where, n in getattr(at, name).items()
            ]
            if points:
                metrics.append(_sum(f"messaging.client.{name}.messages", "{message}", points))
        return export_request("resourceMetrics", "scopeMetrics", "metrics", self.resources.of(u, 0), metrics)

    def _times(self, hour: int) -> dict[str, str]:
        start = self.zero + hour * _HOUR_NS
        return {"startTimeUnixNano": str(start), "timeUnixNano": str(start + _HOUR_NS)}

    def _point(self, hour: int, value: int, attributes: list[Any]) -> dict[str, Any]:
        return {**self._times(hour), "asInt": str(value), "attributes": attributes}

    def _bins(self, hour: int, values: list[float], attributes: list[Any]) -> dict[str, Any]:
        counts = np.bincount(np.searchsorted(_SECONDS, values, side="left"), minlength=len(_SECONDS) + 1)
        return {
            **self._times(hour),
            "count": str(len(values)),
            "sum": float(np.sum(values)),
            "bucketCounts": [str(int(n)) for n in counts],
            "explicitBounds": list(_SECONDS),
            "attributes": attributes,
        }


def _sum(name: str, unit: str, points: list[Any]) -> dict[str, Any]:
    return {"name": name, "unit": unit, "sum": {"aggregationTemporality": 1, "isMonotonic": True, "dataPoints": points}}


def _histogram(name: str, unit: str, points: list[Any]) -> dict[str, Any]:
    return {"name": name, "unit": unit, "histogram": {"aggregationTemporality": 1, "dataPoints": points}}
