"""What ``follow`` prints: what became of one event, moment by moment, who was in the way, what it cost, and all of it as data."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta
from decimal import Decimal
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.output.base.terminal import Column, money, rendered, shown_in, table
from echotally.studies.follow.answer import Arrival, Copy, Followed, Try, Wait
from echotally.studies.follow.moments import ENDINGS, Moment, clocked, moments

#: Less money than that is shown in millionths.
_SMALL = Decimal("0.01")


def local_time(found: Followed, ns: int) -> str:
    """Local time with its offset, exact to the millisecond."""
    # Cut, not rounded, so that no moment comes before what led to it.
    at = found.clock.start + timedelta(milliseconds=ns // 10**6)
    return datetime.isoformat(at.astimezone(found.clock.zone), sep=" ", timespec="milliseconds")


def since(found: Followed, ns: int) -> float:
    """Milliseconds since the event came, to the nanosecond."""
    return (ns - found.root.at) / 1e6


def _about(found: Followed) -> Copy | None:
    """The copy that the answer is about: the one that was looked for, else the first."""
    copies = found.root.copies
    return next((copy for copy in copies if copy.number == found.chosen), copies[0] if copies else None)


def follow_verdict(found: Followed) -> list[str]:
    """What became of the event, where its time went, what it cost."""
    root, about = found.root, _about(found)
    name = f"{root.source}@{root.environment}"
    lines = [f"{found.estate}, {found.clock.month} on {found.offer.name}: {found.asked}."]
    if about is None:
        lines.append(f"It came to {name}, where nobody gets it.")
    else:
        lines.append(_what_became(found, about))
        lines += _way(about)
    followed = sum(1 for _ in root.all_that_follows()) - 1
    with_it = f", {_amount(root.with_followed)} with the {followed:,} that followed" if followed else ""
    lines.append(f"It cost {_amount(root.here)} {found.currency} here{with_it}{' at least' if found.cut else ''}.")
    return [safe(line) for line in lines]


def _what_became(found: Followed, about: Copy) -> str:
    ended = "not over" if about.ended_as is None else ENDINGS[about.ended_as]
    after = f" after {clocked((about.ended or about.came) - about.came)}" if about.ended else ""
    return (
        f"{ended[0].upper()}{ended[1:]}{after}, at {about.source}@{about.environment} for {about.function or 'nobody'}."
    )


def _way(about: Copy) -> Iterator[str]:
    """Where the time went, and who was in the way of the longest wait for room."""
    waited = sum(each.wait.ended - each.wait.begun for each in about.tries if each.wait)
    cold = sum(
        (each.ended if each.run_at is None else each.run_at) - each.started
        for each in about.tries
        if each.outcome != "throttled"
    )
    ran = sum(each.run_ns for each in about.tries)
    left = about.left.ended - about.left.begun if about.left else 0
    parts = [("waiting", waited + left), ("starting cold", cold), ("running", ran)]
    told = [f"{clocked(ns)} {what}" for what, ns in parts if ns]
    if told:
        tries = sum(1 for each in about.tries if each.outcome != "throttled")
        times = len(about.tries) - tries
        count = f" in {tries} attempts" if tries > 1 else ""
        also = f", throttled {times} {'time' if times == 1 else 'times'}" if times else ""
        yield f"{', '.join(told)}{count}{also}."
    longest = max(_waits(about), key=lambda wait: wait.ended - wait.begun, default=None)
    refused = next((each for each in about.tries if each.neighbours), None)
    if longest and longest.neighbours:
        yield f"In the way, as its longest wait for room began ({longest.why}): {_names(longest.neighbours)}."
    elif refused:
        yield f"In the way as it was throttled ({refused.why}): {_names(refused.neighbours)}."


def _names(neighbours: Iterable[tuple[str, str, int]]) -> str:
    return ", ".join(f"{n:,} of {function}@{environment}" for function, environment, n in neighbours)


def _waits(about: Copy) -> Iterator[Wait]:
    yield from (each.wait for each in about.tries if each.wait and each.wait.room)
    if about.left and about.left.room:
        yield about.left


def _amount(amount: Decimal) -> str:
    return money(amount) if amount >= _SMALL or not amount else f"{amount:.8f}"


def follow_text(
    found: Followed, width: int | None = None, colour: bool | None = None, depth: int = 4, most: int = 25
) -> str:
    """The verdict, the moments as a table, the money of each step, and what belongs to no event."""
    shown_in(found.currency)
    lines = follow_verdict(found)
    parts: list[RenderableType] = [Text(lines[0], style="bold"), *(Text(line) for line in lines[1:]), Text("")]
    told = list(moments(found, depth, most))
    columns = [
        Column("local time", False, rank=1),
        Column("after", True),
        Column("where", False),
        Column("what happens", False, True),
    ]
    rows = [[local_time(found, m.at), _after(found, m.at), "  " * m.depth + safe(m.place), safe(m.text)] for m in told]
    marks = ["red" if m.what in ("throttled", "failed", "timed_out") else "" for m in told]
    parts.append(table(f"Its way ({found.clock.zone.key}; after: since it came, s)", columns, rows, marks, width))
    parts.append(_steps(found, depth, most, width))
    all_of_it = sum(1 for _ in found.root.all_that_follows())
    shown = sum(1 for m in told if m.what == "comes")
    if shown < all_of_it:
        parts.append(Text(f"{all_of_it - shown:,} more followed; --depth and --most show them.", style="dim"))
    parts.append(Text(safe(_nobody(found)), style="dim"))
    return rendered(parts, width, colour)


def _after(found: Followed, ns: int) -> str:
    return f"{since(found, ns) / 1000:,.3f}"


def _steps(found: Followed, depth: int, most: int, width: int | None) -> RenderableType:
    columns = [
        Column("step", False),
        Column("tries", rank=1),
        Column("waited s", rank=1),
        Column("cold s", rank=2),
        Column("ran s", rank=1),
        Column("charged s", rank=2),
        Column("here"),
        Column("with what followed"),
    ]
    rows = []
    for arrival, generation in found.root.generations(depth, most):
        indent = "  " * generation
        if arrival.own or not arrival.copies:
            rows.append(
                [
                    f"{indent}{safe(arrival.source)}",
                    "",
                    "",
                    "",
                    "",
                    "",
                    f"{arrival.own:.9f}",
                    f"{arrival.with_followed:.9f}",
                ]
            )
        for copy in arrival.copies:
            step = f"{indent}{safe(copy.source)} > {safe(copy.function or 'nobody')}"
            rows.append([step, *_figures([copy]), f"{copy.here:.9f}", f"{_with_followed(copy):.9f}"])
    everything = [copy for arrival in found.root.all_that_follows() for copy in arrival.copies]
    if len(rows) > 1:
        whole = f"{found.root.with_followed:.9f}"
        rows.append(["in all", *_figures(everything), whole, whole])
    return table(f"What it cost ({found.currency}; its equal part of each batch)", columns, rows, width=width)


def _figures(copies: list[Copy]) -> list[str]:
    """Tries, and time waiting, starting, running and charged for, its part of each batch, of some copies together."""
    tries = [each for copy in copies for each in copy.tries]
    waited = sum(each.wait.ended - each.wait.begun for each in tries if each.wait)
    started = [each for each in tries if each.outcome != "throttled"]
    cold = sum((each.ended if each.run_at is None else each.run_at) - each.started for each in started)
    sums = (waited, cold, sum(each.run_ns for each in started), sum(each.charged_ns // each.events for each in started))
    return [f"{len(tries):,}", *(f"{ns / 1e9:,.3f}" for ns in sums)]


def _with_followed(copy: Copy) -> Decimal:
    return copy.here + sum((out.with_followed for out in copy.puts_out()), Decimal(0))


def _nobody(found: Followed) -> str:
    if not found.nobody:
        return f"All of the month's {money(found.bill)} {found.currency} belongs to events."
    parts = ", ".join(
        f"{name} {money(amount)}" for name, amount in sorted(found.nobody.items(), key=lambda item: -item[1])
    )
    return (
        f"Of the month's {money(found.bill)} {found.currency}, {money(sum(found.nobody.values(), Decimal(0)))} belongs to no event: {parts}. "
        "Allowances and tiers are shared by all events alike."
    )


# -- as data


def follow_json(found: Followed, depth: int | None = None, most: int | None = None) -> str:
    """As data (schema ``echotally-follow/1``): ``rows`` are the moments; times local with offset and ms since arrival, money unrounded text."""
    data = {
        "schema": "echotally-follow/1",
        "estate": found.estate,
        "month": found.clock.month,
        "timezone": found.clock.zone.key,
        "plan": found.offer.name,
        "seed": found.seed,
        "currency": found.currency,
        "asked": found.asked,
        "event": _arrival(found, found.root),
        "rows": [_row(found, m) for m in moments(found, depth, most)],
        "bill": {
            "total": _exact(found.bill),
            "of_no_event": {name: _exact(amount) for name, amount in found.nobody.items()},
        },
        "followed_whole": not found.cut,
        "notes": list(found.notes),
    }
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def _exact(amount: Decimal) -> str:
    # Divisions leave 60 digits; the twentieth is far below what any sum needs.
    return f"{amount:.20f}".rstrip("0").rstrip(".") or "0"


def _row(found: Followed, m: Moment) -> dict[str, Any]:
    return {
        "at": local_time(found, m.at),
        "after_ms": since(found, m.at),
        "depth": m.depth,
        "place": m.place,
        "what": m.what,
        "text": m.text,
        "event": m.event,
        "function": m.function,
        "attempt": m.attempt,
    }


def _arrival(found: Followed, root: Arrival) -> dict[str, Any]:
    """An arrival with all that followed, each inside what put it out; made from the leaves up, however long the chain."""
    made: dict[tuple[str, int], dict[str, Any]] = {}
    whole: dict[tuple[str, int], Decimal] = {}
    for arrival in reversed(list(root.all_that_follows())):
        outs = [out for copy in arrival.copies for out in copy.puts_out()]
        whole[arrival.key] = arrival.here + sum((whole[out.key] for out in outs), Decimal(0))
        made[arrival.key] = {
            "source": arrival.source,
            "environment": arrival.environment,
            "at": local_time(found, arrival.at),
            "after_ms": since(found, arrival.at),
            "how": arrival.how,
            "by": arrival.by,
            "cost": {"here": _exact(arrival.here), "with_what_followed": _exact(whole[arrival.key])},
            "copies": [_copy(found, copy, made, whole) for copy in arrival.copies],
        }
    return made[root.key]


def _copy(found: Followed, copy: Copy, made: dict[Any, Any], whole: dict[Any, Decimal]) -> dict[str, Any]:
    outs = list(copy.puts_out())
    return {
        "event": copy.number,
        "source": copy.source,
        "function": copy.function,
        "ended_as": copy.ended_as,
        "ended_at": None if copy.ended is None else local_time(found, copy.ended),
        "ended_after_ms": None if copy.ended is None else since(found, copy.ended),
        "cost": {
            "here": _exact(copy.here),
            "with_what_followed": _exact(copy.here + sum((whole[out.key] for out in outs), Decimal(0))),
        },
        "attempts": [_attempt(found, each) for each in copy.tries],
        "left_waiting": None if copy.left is None else _wait(found, copy.left),
        "put_out": [made[out.key] for out in outs],
    }


def _attempt(found: Followed, each: Try) -> dict[str, Any]:
    return {
        "attempt": each.index,
        "function": each.function,
        "environment": each.environment,
        "outcome": each.outcome,
        "handled": each.good,
        "started_at": local_time(found, each.started),
        "started_after_ms": since(found, each.started),
        "run_after_ms": None if each.run_at is None else since(found, each.run_at),
        "ended_after_ms": since(found, each.ended),
        "cold_ms": each.cold_ns / 1e6,
        "ran_ms": each.run_ns / 1e6,
        "charged_ms": each.charged_ns / 1e6,
        "events": each.events,
        "items": each.items,
        "wait": None if each.wait is None else _wait(found, each.wait),
        "throttled_because": each.why or None,
        "in_the_way": _neighbours(each.neighbours),
        "back_after_ms": None if each.back_at is None else since(found, each.back_at),
        "cost": {"here": _exact(each.cost)},
    }


def _wait(found: Followed, wait: Wait) -> dict[str, Any]:
    return {
        "from_ms": since(found, wait.begun),
        "until_ms": since(found, wait.ended),
        "why": wait.why,
        "for_room": wait.room,
        "in_the_way": _neighbours(wait.neighbours),
    }


def _neighbours(found: Iterable[tuple[str, str, int]]) -> list[dict[str, Any]]:
    return [{"function": function, "environment": environment, "calls": n} for function, environment, n in found]


def lanes(root: Arrival) -> Iterable[tuple[Arrival, Copy, int]]:
    """Every copy with its generation, in the order of the tree."""
    for arrival, generation in root.generations(99, 99):
        for copy in arrival.copies:
            yield arrival, copy, generation
