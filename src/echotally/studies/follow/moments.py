"""One event's way as moments: when, where, what happened and why, in the order of the tree of what came of it."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from msgspec import Struct

from echotally.studies.follow.answer import Arrival, Copy, Followed, Try

#: How events end, in words.
ENDINGS = {
    "succeeded": "handled",
    "errored": "answered by an error",
    "rejected": "given up: refused",
    "lost": "lost: given up without a dead letter",
    "dead_lettered": "given up, to the dead letter",
    "expired": "expired: the retention is over",
    "too_large": "too large for the plan",
    "skipped": "skipped: the firing before still runs",
    "unfinished": "still there as the month ends",
}


class Moment(Struct, frozen=True):
    """Something that happened to an event: ns since the month's start, where, what (a word of a fixed list), and in words.

    ``depth`` is 0 for the event that is followed, 1 for what it put out, and so on. ``event`` is the number of the copy, None for an
    arrival; ``attempt`` the attempt it belongs to, with ``function``.
    """

    at: int
    depth: int
    place: str
    what: str
    text: str
    event: int | None = None
    function: str | None = None
    attempt: int | None = None


def clocked(ns: int) -> str:
    """A length of time as people read it, exact to the millisecond."""
    if ns < 60 * 10**9:
        return f"{ns / 1e9:.3f} s"
    minutes, rest = divmod(ns, 60 * 10**9)
    hours, minutes = divmod(minutes, 60)
    days, hours = divmod(hours, 24)
    parts = [f"{days} d" if days else "", f"{hours} h" if hours else "", f"{minutes} min" if minutes else ""]
    return " ".join(filter(None, (*parts, f"{rest / 1e9:.3f} s" if rest else "")))


def moments(found: Followed, depth: int | None = None, most: int | None = None) -> Iterator[Moment]:
    """The moments of the event and of what followed, up to ``depth`` generations and ``most`` arrivals."""
    way = _Way(found)
    for arrival, generation in found.root.generations(depth, most):
        yield from way.of_arrival(arrival, generation)


class _Way(Struct, frozen=True):
    """The moments of one arrival and its copies."""

    found: Followed

    def of_arrival(self, arrival: Arrival, depth: int) -> Iterator[Moment]:
        """Its coming, and what becomes of each copy."""
        copies = len(arrival.copies)
        text = {
            "demand": f"comes from demand {arrival.by}",
            "schedule": f"{arrival.by} fires",
            "backlog": "lies there as the month begins",
            "put out": f"put out by {arrival.by}",
            "asked": f"asked by {arrival.by}",
            "dead letter": f"dead letter of {arrival.by}",
        }[arrival.how]
        if copies > 1:
            text += f", copied to {copies} readers"
        elif not copies:
            text += "; nobody gets it"
        yield Moment(arrival.at, depth, arrival.source, "comes", text)
        for copy in arrival.copies:
            yield from self._of_copy(copy, depth)

    def _of_copy(self, copy: Copy, depth: int) -> Iterator[Moment]:
        def moment(at: int, what: str, text: str, each: Try | None = None) -> Moment:
            place = f"functions.{each.function}" if each else copy.source
            return Moment(at, depth, place, what, text, copy.number, copy.function, each.index if each else None)

        for each in copy.tries:
            if each.wait:
                length = clocked(each.wait.ended - each.wait.begun)
                yield moment(each.wait.begun, "waits", f"waits {length}: {each.wait.why}")
            if each.outcome == "throttled":
                yield moment(each.started, "throttled", f"throttled: {each.why}{self._back(each)}", each)
                continue
            yield moment(each.started, "starts", _starts(each), each)
            if each.run_at is not None and each.run_at > each.started:
                yield moment(each.run_at, "runs", "runs", each)
            yield moment(each.ended, each.outcome, f"{_ends(each)}{self._back(each)}", each)
        if copy.left:
            length = clocked(copy.left.ended - copy.left.begun)
            yield moment(copy.left.begun, "waits", f"waits {length}: {copy.left.why}")
        if copy.ended is not None and copy.ended_as is not None:
            yield moment(copy.ended, "ends", ENDINGS[copy.ended_as])

    def _back(self, each: Try) -> str:
        """When the event is tried again, by the clock of the wall."""
        if each.back_at is None or each.good:
            return ""
        if each.back_at <= each.ended:
            return ", to be tried again at once"
        clock = self.found.clock
        at = (clock.start + timedelta(milliseconds=each.back_at // 10**6)).astimezone(clock.zone)
        day = "" if each.back_at - each.ended < 12 * 3_600 * 10**9 else f"{at:%Y-%m-%d} "
        return f", comes back at {day}{at:%H:%M:%S}.{at.microsecond // 1000:03}"


def _starts(each: Try) -> str:
    batch = f"leaves in a batch of {each.events:,}" if each.events > 1 else "starts"
    if each.items > each.events:
        batch = f"starts with {each.items:,} items"
    if each.run_at is None:
        return f"{batch}, on an instance that starts cold"
    if each.run_at == each.started:
        return f"{batch}, and runs at once"
    # What is not the instance's own start is that of a node, or of what else had to be there first (rule 7.20).
    node = each.run_at - each.started - each.cold_ns
    first = f" on a node that starts in {clocked(node)}" if node > 0 else ""
    return f"{batch}{first}, cold start {clocked(each.cold_ns)}"


def _ends(each: Try) -> str:
    took = clocked(each.ended - each.started if each.run_at is None else each.run_ns)
    if each.outcome == "failed" and each.good:
        return f"its batch failed in part after {took}; it was handled"
    return {
        "succeeded": f"done after {took}",
        "failed": f"failed after {took}",
        "timed_out": f"timed out after {took}",
        "still_running": f"has run for {took} as the month ends",
    }[each.outcome]
