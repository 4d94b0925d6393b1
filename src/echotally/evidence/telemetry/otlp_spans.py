"""The stand-in platform's spans as OTLP/JSON, with the attributes that the semantic conventions name.

One for each attempt that ran (it begins when the code runs, after the cold start), one for each event put out, one for each
request asked of another function. A call of messages links to the spans that sent them; an asked function's span has the
asking one as its parent.

Sources: semantic conventions for functions as a service, messaging and HTTP.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from typing import Any

from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine.codes import FAILED, NEVER, THROTTLED, TIMED_OUT
from echotally.engine.play import Page
from echotally.evidence.stand_in import TRIGGERS, StandIn, stand_in
from echotally.evidence.telemetry.otlp_origins import Origin, Origins
from echotally.evidence.telemetry.otlp_writing import Resources, attributes, export_request, identity
from echotally.model.sources import SourceKind, SourceRef
from echotally.projection.loaded import Loaded

_INTERNAL, _SERVER, _CLIENT, _PRODUCER, _CONSUMER = 1, 2, 3, 4, 5
_KINDS = {SourceKind.ENDPOINTS: _SERVER, SourceKind.SCHEDULES: _INTERNAL, SourceKind.FOLDERS: _INTERNAL}
#: Spans of one export request.
_EACH = 512
Span = dict[str, Any]
Attributes = list[dict[str, Any]]
#: Of what is put out or asked: its number, its source's place, and when, ns.
_Line = tuple[int, int, int]


def spans(loaded: Loaded, plan: str, seed: int | None = None, every: int = 1) -> Iterator[dict[str, Any]]:
    """The month's spans as OTLP export requests; ``every`` N: one trace in N, chosen by its number.

    Raises ``BadInput`` for a plan no card has or that cannot run a function.
    """
    writer = _Spans(stand_in(loaded, plan, seed, cargo=True), max(1, every))
    for page in writer.platform.pages():
        yield from writer.of_page(page)
    yield from writer.rest()


class _Attempt(Struct):
    """An attempt that ran: its place in the month's log, and what of its diary line spans tell; times in ns."""

    number: int
    unit: int
    trigger: int
    #: Of a stream: the place among all partitions of its batch's one, else -1.
    partition: int
    call: int
    items: int
    run_at: int
    ended: int
    cold_ns: int
    outcome: int

    @property
    def me(self) -> str:
        """Its span's identifier."""
        return identity("a", self.number, 16)


class _Alike(Struct, frozen=True):
    """What spans of a unit say that were set off by one source and ended alike; attributes in the order in which they stand."""

    name: str
    kind: int
    #: Before the attempt's own number, after it, and behind what is told of messages.
    first: Attributes
    then: Attributes
    last: Attributes
    counted: bool
    messages: bool
    failed: bool


class _Sayings:
    """What spans say of themselves that many say alike."""

    def __init__(self, platform: StandIn) -> None:
        self.platform = platform
        self.known: dict[tuple[int, int, bool, int], _Alike] = {}
        self.sent: dict[int, tuple[str, Attributes, bool]] = {}

    def of(self, attempt: _Attempt) -> _Alike:
        """Of an attempt."""
        key = (attempt.trigger, attempt.partition, attempt.cold_ns > 0, attempt.outcome)
        if key not in self.known:
            self.known[key] = self._alike(attempt)
        return self.known[key]

    def _alike(self, attempt: _Attempt) -> _Alike:
        function = self.platform.built.units[attempt.unit].function
        source = self.source(int(self.platform.built.world.triggers["source"][attempt.trigger]))
        failed = attempt.outcome in (FAILED, TIMED_OUT)
        error = "timeout" if attempt.outcome == TIMED_OUT else "error"
        facts = self._of_source(source, function, failed)
        if attempt.partition >= 0:
            first = int(self.platform.built.world.triggers["first_partition"][attempt.trigger])
            facts["messaging.destination.partition.id"] = str(attempt.partition - first)
        return _Alike(
            function,
            _KINDS.get(source.kind, _CONSUMER),
            attributes({"faas.trigger": TRIGGERS[source.kind], "faas.coldstart": attempt.cold_ns > 0}),
            attributes(facts),
            attributes({"error.type": error}) if failed else [],
            counted=source.kind.traits.batched,
            messages="messaging.system" in facts,
            failed=failed,
        )

    def _of_source(self, source: SourceRef, function: str, failed: bool) -> dict[str, Any]:
        if source.kind is SourceKind.ENDPOINTS:
            code = 500 if failed else 200
            return {"http.request.method": "GET", "http.route": f"/{source.name}", "http.response.status_code": code}
        if source.kind is SourceKind.FOLDERS:
            return {"faas.document.collection": source.name, "faas.document.operation": "insert"}
        if source.kind is SourceKind.SCHEDULES:
            return {}
        destination, subscription = self._destination(source, function)
        return {
            "messaging.system": "stand-in",
            "messaging.operation.type": "process",
            "messaging.destination.name": destination,
            "messaging.destination.subscription.name": subscription,
        }

    def _destination(self, source: SourceRef, function: str) -> tuple[str, str | None]:
        """Where an event was sent, and the subscription by which it came, if it came by one."""
        if source.kind is SourceKind.TOPICS:
            return source.name, function
        topics = self.platform.loaded.model.topics.items()
        feeding = [name for name, topic in topics if source in [feed.into for feed in topic.feeds]]
        return (feeding[0], source.name) if feeding else (source.name, None)

    def source(self, place: int) -> SourceRef:
        """The source in this place."""
        return self.platform.built.sources[place][1]

    def sends(self, place: int) -> tuple[str, Attributes, bool]:
        """Of what is put out at a source: the span's name, its attributes, and whether a message's number belongs to them."""
        if place not in self.sent:
            source = self.source(place)
            folder = source.kind is SourceKind.FOLDERS
            facts = {
                "messaging.system": "stand-in",
                "messaging.operation.type": "send",
                "messaging.destination.name": source.name,
            }
            if folder:
                facts = {"faas.document.collection": source.name, "faas.document.operation": "insert"}
            self.sent[place] = f"send {source.name}", attributes(facts), not folder
        return self.sent[place]


class _Spans:
    def __init__(self, platform: StandIn, every: int) -> None:
        self.platform, self.every = platform, every
        self.sayings, self.resources, self.origins = _Sayings(platform), Resources(platform), Origins()
        self.zero = int(platform.start.timestamp()) * 10**9
        #: Requests asked by calls that still wait, by the call's number: the number and source of each, and when it came, ns.
        self.asked: dict[int, list[_Line]] = defaultdict(list)
        #: When each of them was answered.
        self.answered: dict[int, int] = {}
        self.noted = 0
        self.batches: dict[tuple[int, int], list[Span]] = {}

    def of_page(self, page: Page) -> Iterator[dict[str, Any]]:
        """The export requests that a page fills."""
        put_out = self._born(page)
        carried: dict[int, list[Origin]] = defaultdict(list)
        for attempt, origin in zip(
            page.carried["attempt"].tolist(), self.origins.of(page.carried["number"]), strict=True
        ):
            carried[attempt].append(origin)
        lines = page.attempts
        ran = ((lines["outcome"] != THROTTLED) & (lines["run_at"] < NEVER)).nonzero()[0]
        told = _lines(
            lines[ran], "unit", "trigger", "partition", "number", "items", "run_at", "ended", "cold_ns", "outcome"
        )
        for number, line in zip((self.noted + ran).tolist(), told, strict=True):
            yield from self._attempt(_Attempt(number, *line), carried.get(number, []), put_out.get(number, []))
        self.noted += len(lines)

    def _born(self, page: Page) -> dict[int, list[_Line]]:
        """Learn where a page's events came from; what its attempts put out: number, source and time in ns, by the attempt."""
        self.origins.learn(page.born)
        inside, event = page.born["origin"] >= 0, page.born["number"] >= 0
        put_out: dict[int, list[_Line]] = defaultdict(list)
        for origin, *line in _lines(page.born[inside & ~event], "origin", "sent", "source", "at"):
            put_out[origin].append(tuple(line))
        for asker, *line in _lines(page.born[event & (page.born["asker"] >= 0)], "asker", "number", "source", "at"):
            self.asked[asker].append(tuple(line))
        return put_out

    def rest(self) -> Iterator[dict[str, Any]]:
        """What has not filled a request."""
        for (u, version), found in self.batches.items():
            yield export_request("resourceSpans", "scopeSpans", "spans", self.resources.of(u, version), found)

    def _attempt(self, attempt: _Attempt, events: list[Origin], out: list[_Line]) -> Iterator[dict[str, Any]]:
        trace = self.origins.trace(attempt.call)
        # A batch belongs with its oldest event, as its span's links have it.
        root = self.origins.root_of(events[0].sent, trace) if events else trace
        for sent, _, _ in out:
            self.origins.puts_out(sent, trace, root)
        asked = self._asked(attempt) if attempt.call in self.asked else []
        for each in events:
            if each.asker >= 0:
                self.answered[each.number] = attempt.ended
        # One trace in N, and with it those that follow from it: links lead to spans that are there.
        if root % self.every == 0:
            found = [self._own(trace, attempt, events)]
            found += [self._sends(attempt, trace, *line) for line in out]
            found += [self._asks(attempt, trace, *line) for line in asked]
            yield from self._put(attempt, found)

    def _asked(self, attempt: _Attempt) -> list[tuple[int, int, int, int]]:
        """What an attempt asked, and when each was answered, or the attempt over."""
        asked = self.asked.pop(attempt.call)
        # An attempt that follows may be on the same page with what it asked.
        later = [line for line in asked if line[2] > attempt.ended]
        if later:
            self.asked[attempt.call] = later
        return [
            (number, source, at, max(at, min(self.answered.pop(number, attempt.ended), attempt.ended)))
            for number, source, at in asked
            if attempt.run_at <= at <= attempt.ended
        ]

    def _put(self, attempt: _Attempt, spans: list[Span]) -> Iterator[dict[str, Any]]:
        u, version = attempt.unit, self.resources.version(attempt.unit, attempt.run_at)
        batch = self.batches.setdefault((u, version), [])
        batch += spans
        # Requests of a bounded size, as exporters send them.
        if len(batch) >= _EACH:
            yield export_request("resourceSpans", "scopeSpans", "spans", self.resources.of(u, version), batch)
            del self.batches[u, version]

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

    def _own(self, trace: int, attempt: _Attempt, events: list[Origin]) -> Span:
        said, me = self.sayings.of(attempt), attempt.me
        facts = [*said.first, {"key": "faas.invocation_id", "value": {"stringValue": me}}, *said.then]
        if said.counted:
            facts += attributes({"messaging.batch.message_count": attempt.items})
        if said.messages and len(events) == 1:
            facts += attributes({"messaging.message.id": str(events[0].number)})
        more: dict[str, Any] = {"attributes": facts + said.last}
        if said.failed:
            more["status"] = {"code": 2}
        links = [
            {"traceId": identity("t", sender, 32), "spanId": identity("s", each.sent, 16)}
            for each in events
            if each.sent >= 0 and (sender := self.origins.sender_of(each.sent)) >= 0
        ]
        if links and said.kind != _SERVER:
            more["links"] = links
        if events and events[0].asker >= 0:
            more["parentSpanId"] = identity("c", events[0].number, 16)
        return self._span(me, trace, said.kind, said.name, attempt.run_at, attempt.ended, **more)

    def _sends(self, by: _Attempt, trace: int, sent: int, source: int, at: int) -> Span:
        name, facts, message = self.sayings.sends(source)
        if message:
            facts = facts + attributes({"messaging.message.id": str(sent)})
        me = identity("s", sent, 16)
        return self._span(me, trace, _PRODUCER, name, at, at, parentSpanId=by.me, attributes=facts)

    def _asks(self, by: _Attempt, trace: int, number: int, source: int, at: int, end: int) -> Span:
        facts = {"http.request.method": "GET", "url.full": f"http://{self.sayings.source(source).name}/"}
        me = identity("c", number, 16)
        return self._span(me, trace, _CLIENT, "GET", at, end, parentSpanId=by.me, attributes=attributes(facts))


def _lines(of: NDArray[Any], *names: str) -> Iterator[tuple[Any, ...]]:
    """Some columns of records, a row at a time, as numbers of Python."""
    return zip(*(of[name].tolist() for name in names), strict=True)
