"""One event's way as OTLP spans, so that whatever shows traces shows it: a span an event at a source, inside it one an attempt."""

from __future__ import annotations

import json
from typing import Any

from msgspec import Struct

from echotally.evidence.telemetry.otlp_writing import attributes, export_request, identity
from echotally.studies.follow.answer import Arrival, Copy, Followed, Try

_INTERNAL, _CONSUMER = 1, 5


class _Trace(Struct, frozen=True):
    """The trace that all spans are of, and the month's start, ns since 1970."""

    name: str
    zero: int

    def span(
        self, me: str, name: str, times: tuple[int, int], facts: dict[str, Any], kind: int = _INTERNAL
    ) -> dict[str, Any]:
        """A span from and until two instants of the month, ns since its start."""
        return {
            "traceId": self.name,
            "spanId": me,
            "name": name,
            "kind": kind,
            "startTimeUnixNano": str(self.zero + times[0]),
            "endTimeUnixNano": str(self.zero + times[1]),
            "attributes": attributes(facts),
        }

    def event(self, at: int, name: str) -> dict[str, Any]:
        """Something that happened within a span."""
        return {"timeUnixNano": str(self.zero + at), "name": name}


def follow_otlp(found: Followed) -> str:
    """An export request in the JSON form of OTLP; one trace. Times are UTC, ns since 1970."""
    trace = _Trace(identity("f", _number(found.root), 32), int(found.clock.start.timestamp()) * 10**9)
    spans = [span for arrival, mother in _tree(found.root) for span in _of_arrival(arrival, mother, trace)]
    resource = {"service.name": found.estate, "x.plan": found.offer.name, "x.month": found.clock.month}
    return (
        json.dumps(export_request("resourceSpans", "scopeSpans", "spans", resource, spans), ensure_ascii=False) + "\n"
    )


def _tree(root: Arrival) -> list[tuple[Arrival, Copy | None]]:
    found: list[tuple[Arrival, Copy | None]] = [(root, None)]
    for arrival in root.all_that_follows():
        found += [(out, copy) for copy in arrival.copies for out in copy.puts_out()]
    return found


def _number(arrival: Arrival) -> int:
    # Arrivals from outside and inside are counted apart.
    return 2 * arrival.key[1] + (arrival.key[0] == "inside")


def _of_arrival(arrival: Arrival, mother: Copy | None, trace: _Trace) -> list[dict[str, Any]]:
    me, ended = (
        identity("b", _number(arrival), 16),
        max([arrival.at, *(copy.ended or copy.came for copy in arrival.copies)]),
    )
    facts = {
        "messaging.destination.name": arrival.source.name,
        "x.kind": str(arrival.source.kind),
        "x.how": arrival.how,
        "x.by": arrival.by,
    }
    whole = trace.span(me, arrival.source, (arrival.at, ended), facts)
    # The root has no parent: readers look for the one span that has none.
    if mother is not None:
        whole["parentSpanId"] = identity("e", mother.number, 16)
    found = [whole]
    for copy in arrival.copies:
        found += _of_copy(copy, me, trace)
    return found


def _of_copy(copy: Copy, parent: str, trace: _Trace) -> list[dict[str, Any]]:
    me = identity("e", copy.number, 16)
    ended = copy.ended or max([copy.came, *(each.ended for each in copy.tries)])
    facts = {"x.ended_as": copy.ended_as, "x.cost": f"{copy.here:.12f}", "messaging.message.id": str(copy.number)}
    whole = trace.span(me, f"{copy.source} > {copy.function or 'nobody'}", (copy.came, ended), facts)
    whole["parentSpanId"] = parent
    # What was refused never ran: a moment in the span of the waiting, and no span of its own.
    whole["events"] = [
        trace.event(each.started, f"throttled: {each.why}") for each in copy.tries if each.outcome == "throttled"
    ]
    whole["events"] += [trace.event(each.wait.begun, f"waits: {each.wait.why}") for each in copy.tries if each.wait]
    return [whole, *(_of_try(each, me, trace) for each in copy.tries if each.outcome != "throttled")]


def _of_try(each: Try, parent: str, trace: _Trace) -> dict[str, Any]:
    facts = {
        "faas.coldstart": each.run_at != each.started,
        "messaging.batch.message_count": each.events,
        "error.type": {"timed_out": "timeout", "failed": "error"}.get(each.outcome),
        "x.cold_ns": each.cold_ns,
        "x.charged_ns": each.charged_ns,
        "x.cost": f"{each.cost:.12f}",
    }
    # An attempt may hold several of the followed events, and has a span in each.
    me = identity("r", each.index * 2**20 + int(parent, 16) % 2**20, 16)
    span = trace.span(me, each.function, (each.started, each.ended), facts, _CONSUMER)
    span["parentSpanId"] = parent
    if each.run_at is not None and each.run_at > each.started:
        span["events"] = [trace.event(each.run_at, "the run begins")]
    if each.outcome in ("failed", "timed_out"):
        span["status"] = {"code": 2}
    return span
