"""Emits and topics of a log without links, from times alone; each is a guess, with its evidence."""

from __future__ import annotations

from collections import defaultdict
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from echotally.evidence.survey.bills import Billed
from echotally.evidence.survey.coincidence import Follows, followers
from echotally.evidence.survey.lines import Output, Wiring, handled_by
from echotally.evidence.survey.redelivery import redelivery_of
from echotally.evidence.survey.tables import Tables, Unit, model_name, month_span
from echotally.model.sources import SourceKind, SourceRef


def from_times(tables: Tables, found: Wiring, billed: Billed | None) -> None:
    """Put emits into ``found``: of functions whose ends others' starts follow. Several readers of one producer read a topic."""
    lines: dict[str, list[Follows]] = defaultdict(list)
    for line in followers(tables, _readers(tables, found)):
        found.soonest[line.reader] = line.soon_s
        lines[line.reader].append(line)
    topics: dict[str, list[Follows]] = defaultdict(list)
    for reader, group in lines.items():
        if len(group) == 1 and (billed is None or "topic_publishes" in billed.meters_of(reader)):
            topics[group[0].producer] += group
    for producer, group in topics.items():
        if billed is not None or len(group) > 1:
            _topic(tables, found, producer, group, billed)
            for line in group:
                del lines[line.reader]
    for line in (each for group in lines.values() for each in group):
        handled, taken = handled_by(tables, line.producer), _taken(tables, line.reader) * line.share
        target = found.arrivals[line.reader][0].source
        if handled:
            said = _follows(line)
            found.emits.append(Output(line.producer, target, taken / handled, round(taken), handled, said, guess=True))


def _taken(tables: Tables, reader: str) -> float:
    """Events a reader took, those that came again once only."""
    units = [unit for unit in tables.sums if unit[0] == reader]
    back = redelivery_of(tables, max(units, key=lambda unit: tables.sums[unit].started))
    return handled_by(tables, reader) * (1 - (back.again if back is not None else 0.0))


def _readers(tables: Tables, found: Wiring) -> list[Unit]:
    """Functions that read one thing which other functions may put events into, each in its busiest environment."""
    readers = []
    for function, arrivals in found.arrivals.items():
        units = [unit for unit in tables.sums if unit[0] == function]
        kind = arrivals[0].source.kind
        if len(arrivals) == 1 and kind.traits.inside and kind is not SourceKind.ENDPOINTS and units:
            readers.append(max(units, key=lambda unit: tables.sums[unit].started))
    return readers


def _follows(line: Follows) -> str:
    return (
        f"{line.share:.0%} of {line.n:,} starts of {line.reader} follow an end of its runs within {line.soon_s:g} s,"
        f" where chance would have {line.chance:.1%}"
    )


def _topic(tables: Tables, found: Wiring, producer: str, lines: list[Follows], billed: Billed | None) -> None:
    """A topic between a producer and readers; what is published is on the bill, else as much as its busiest reader took."""
    readers = [line.reader for line in lines]
    handled = handled_by(tables, producer)
    taken = {reader: _taken(tables, reader) for reader in readers}
    if not handled:
        return
    published, said = max(taken.values()), "as many as the busiest reader took"
    if billed is not None and billed.month is not None:
        window = month_span(billed.month, ZoneInfo("UTC"))
        inside = sum(float(c.window(*window).good.sum()) for (f, _), c in tables.counts.items() if f == producer)
        count = sum(float(billed.of("topic_publishes", reader)) for reader in readers)
        if inside:
            published, said = count / inside * handled, "topic_publishes on the bill"
    name = model_name(f"{producer}-out")
    target = SourceRef.of(SourceKind.TOPICS, name)
    for reader in readers:
        arrival = found.arrivals[reader][0]
        found.arrivals[reader] = [replace(arrival, topic=name)]
        found.shares[name, str(arrival.source)] = min(1.0, taken[reader] / published), round(published)
    evidence = "; ".join(map(_follows, lines)) + f"; {said}"
    found.emits.append(Output(producer, target, published / handled, round(published), handled, evidence, guess=True))
