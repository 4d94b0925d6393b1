"""What sets functions off and what they put out: from attributes, links and parents of spans, a log's columns, or the bill.

Links first, then parents across processes, then equal names of destinations. What none of them tells is guessed from the times
and batches of the attempts, and says so.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Mapping

import numpy as np

from echotally.database import quoted
from echotally.evidence.fit.rhythm import STRETCH_S
from echotally.evidence.logs.otlp import CLIENT, PRODUCER, TABLES
from echotally.evidence.logs.reading import RunLog
from echotally.evidence.survey.batches import batching_of
from echotally.evidence.survey.bills import Billed
from echotally.evidence.survey.from_times import from_times
from echotally.evidence.survey.lines import Arrival, Output, Wiring, handled_by
from echotally.evidence.survey.tables import Tables, Unit, model_name
from echotally.model.sources import SourceKind, SourceRef

#: Words by which a trigger is known, whatever else stands beside them.
_WORDS = {
    SourceKind.ENDPOINTS: r"http|https|request|gateway|endpoint|api|rest|web|url|rpc",
    SourceKind.SCHEDULES: r"timer|schedule|scheduled|cron|clock|periodic",
    SourceKind.FOLDERS: r"datasource|storage|file|files|folder|blob|object|document|bucket|upload",
    SourceKind.STREAMS: r"stream|streams|record|records|partition|shard|log",
    SourceKind.TOPICS: r"topic|topics|notification|publish",
    SourceKind.QUEUES: r"pubsub|queue|queues|message|messages|messaging|event|events",
}
#: Meters of a bill that only functions of one kind of source have.
_METERS = {
    "schedule_firings": SourceKind.SCHEDULES,
    "gateway_requests": SourceKind.ENDPOINTS,
    "queue_operations": SourceKind.QUEUES,
    "stream_partition_hours": SourceKind.STREAMS,
    "stream_writes": SourceKind.STREAMS,
    "topic_publishes": SourceKind.TOPICS,
    "storage_operations": SourceKind.FOLDERS,
}
#: Inner spans that may stand between a function's span and what it sends.
_DEPTH = 6
#: A share of events that come from nowhere, below which it is loss of spans and not demand.
_OUTSIDE = 0.02


def kind_of(word: str | None) -> SourceKind | None:
    """The kind of source a trigger's word means, None where it means none we know."""
    if not word:
        return None
    # In words, not in letters: 'http' in 'HttpTrigger' counts, 'log' in 'catalogue' does not.
    words = set(re.split(r"[^a-z]+", re.sub(r"(?<=[a-z])(?=[A-Z])", " ", word).lower()))
    for kind, known in _WORDS.items():
        if words & set(known.split("|")):
            return kind
    return None


def wiring_of(tables: Tables, billed: Billed | None) -> Wiring:
    """The lines of the estate; a bill tells kinds of sources by its meters."""
    found = Wiring(traced=_has_spans(tables))
    found.arrivals = _arrivals(tables, {f: billed.meters_of(f) for f, _ in tables.sums} if billed else {})
    if found.traced:
        found.asks = _asks(tables, found)
        found.emits = _emits(tables, found)
        found.shares = _shares(tables, found)
        found.outside = _outside(tables)
        found.soonest = _soonest(tables)
        found.partitions = _partitions(tables)
    else:
        from_times(tables, found, billed)
    _without_circles(tables, found)
    return found


def _without_circles(tables: Tables, found: Wiring) -> None:
    """Leave out the weakest line of every circle, which a model cannot have: what came by it comes from outside."""
    import networkx as nx  # type: ignore[import-untyped]

    while True:
        graph = nx.DiGraph()
        for output in (*found.emits, *found.asks):
            for reader in _readers_of(found, output.target):
                graph.add_edge(output.function, reader)
        try:
            circle = nx.find_cycle(graph)
        except nx.NetworkXNoCycle:
            return
        lines = [
            o
            for o in (*found.emits, *found.asks)
            for asker, reader in circle
            if o.function == asker and reader in _readers_of(found, o.target)
        ]
        # The line of fewest events is the likeliest to be a retry or a stray.
        weakest = min(lines, key=lambda o: (o.n, o.function, str(o.target)))
        found.emits = [o for o in found.emits if o is not weakest]
        found.asks = [o for o in found.asks if o is not weakest]
        found.circles.append(
            f"{weakest.function} puts events into {weakest.target}, which lead back to it: a model has no circles, so they come from outside"
        )
        for reader in _readers_of(found, weakest.target):
            share = weakest.n / max(1.0, handled_by(tables, reader))
            found.outside[reader] = min(1.0, found.outside.get(reader, 0.0) + share)


def _readers_of(found: Wiring, target: SourceRef) -> list[str]:
    """The functions that take what is put into a source or a topic."""
    topic = target.name if target.kind is SourceKind.TOPICS else None
    return [f for f, ways in found.arrivals.items() for a in ways if a.source == target or (topic and a.topic == topic)]


def _has_spans(tables: Tables) -> bool:
    return bool(tables.log.query("SELECT count(*) FROM entries")[0][0])


def _arrivals(tables: Tables, billed: Mapping[str, set[str]]) -> dict[str, list[Arrival]]:
    rows = tables.query(
        "SELECT f, trigger_word, coalesce(destination, source) AS d, subscription, partition IS NOT NULL AS partitioned,"
        " coalesce(batched, false) OR max(events) > 1, count(*), max(events)"
        " FROM {seen} s LEFT JOIN entries USING (span) WHERE outcome <> 'throttled'"
        " GROUP BY f, trigger_word, d, subscription, partitioned, batched ORDER BY f, count(*) DESC"
    )
    # A queue hands each message to one; where several functions each get what is sent there, it is a topic.
    readers: dict[str, set[str]] = defaultdict(set)
    for f, word, where, subscription, *_ in rows:
        if where and not subscription and kind_of(word) is SourceKind.QUEUES:
            readers[where].add(f)
    found: dict[str, list[Arrival]] = defaultdict(list)
    for f, word, where, subscription, partitioned, batched, n, _most in rows:
        meters = billed.get(f, set())
        kind, evidence, guess = _kind(f, word, partitioned, batched, meters)
        if _may_be_stream(kind, word, subscription, meters) and (n_parts := _partitions_by_times(tables, f)) > 1:
            kind, guess = SourceKind.STREAMS, True
            evidence += f", and they leave as from {n_parts} partitions"
        name, topic = model_name(_last_name(where or f)), None
        if kind is SourceKind.QUEUES and subscription:
            topic = name
            evidence = f"a subscription to {where}"
            if batched:
                name = model_name(subscription)
            else:
                kind = SourceKind.TOPICS
                topic = None
        elif kind is SourceKind.QUEUES and len(readers.get(where or "", ())) > 1:
            evidence = f"{len(readers[where])} functions read {where}: a topic"
            if batched:
                topic, name = name, model_name(f"{name}-{f}")
            else:
                kind = SourceKind.TOPICS
        source = SourceRef.of(kind, name)
        # Rare strays (a probe, a test) are no way of their own.
        if any(each.source == source for each in found[f]) or (found[f] and n < 0.001 * found[f][0].n):
            continue
        found[f].append(Arrival(source, topic, int(n), evidence, guess, word, where))
    return dict(found)


def _last_name(where: str) -> str:
    """The telling end of a route or an address: ``/map`` is ``map``, ``https://host/a/b`` is ``a-b``."""
    # The host is the same for all; it tells no two sources apart.
    path = re.sub(r"^[a-z]+://[^/]+", "", where).strip("/")
    return path.replace("/", "-") or where.strip("/") or "root"


def _may_be_stream(kind: SourceKind, word: str | None, subscription: str | None, meters: set[str]) -> bool:
    """Whether what is taken for a queue may be a stream: nothing calls it a queue, and no bill tells."""
    named = re.search("queue", word or "", re.IGNORECASE)
    return kind is SourceKind.QUEUES and not named and not subscription and not meters & set(_METERS)


def _partitions_by_times(tables: Tables, function: str) -> int:
    """In how many partitions the batches of a function's busiest environment seem to wait, each for itself."""
    unit = max((unit for unit in tables.sums if unit[0] == function), key=lambda unit: tables.sums[unit].started)
    counts, sample = tables.counts[unit], tables.in_a_row(unit)
    if not len(sample.t) or sample.events.max() < 2:
        return 1
    # Events of two hours about each attempt: a quarter of an hour alone has too few.
    begin, end = (np.searchsorted(counts.stretch, sample.t // STRETCH_S + shift) for shift in (-4, 5))
    upto = np.concatenate([[0.0], np.cumsum(counts.events)])
    return batching_of(sample, (upto[end] - upto[begin]) / (9 * STRETCH_S), None).partitions


def _partitions(tables: Tables) -> dict[tuple[Unit, str | None], list[float]]:
    """Events by each partition that spans name, the busiest first."""
    rows = tables.query(
        "SELECT f, e, coalesce(destination, source) AS d, sum(events) AS n FROM {seen} s JOIN entries USING (span)"
        " WHERE outcome <> 'throttled' AND partition IS NOT NULL GROUP BY f, e, d, partition ORDER BY f, e, d, n DESC"
    )
    found: dict[tuple[Unit, str | None], list[float]] = defaultdict(list)
    for f, e, where, n in rows:
        found[(f, e), where].append(float(n))
    return dict(found)


def _kind(
    function: str, word: str | None, partitioned: bool, batched: bool, meters: set[str]
) -> tuple[SourceKind, str, bool]:
    """What sets a function off, by what evidence, and whether that is a guess."""
    known = kind_of(word)
    if partitioned:
        return SourceKind.STREAMS, "partitions in its spans", False
    # Spans call queues, topics and streams messaging alike; the bill does not.
    told = {_METERS[meter] for meter in meters if meter in _METERS}
    if known is SourceKind.QUEUES and len(told & {SourceKind.STREAMS, SourceKind.TOPICS, SourceKind.QUEUES}) == 1:
        (only,) = told & {SourceKind.STREAMS, SourceKind.TOPICS, SourceKind.QUEUES}
        return only, f"trigger '{word}', and the bill has {', '.join(sorted(meters & set(_METERS)))}", False
    if known is not None:
        return known, f"trigger '{word}'", False
    if SourceKind.SCHEDULES in told:
        return SourceKind.SCHEDULES, "the bill counts its firings", False
    for kind in (SourceKind.ENDPOINTS, SourceKind.STREAMS, SourceKind.FOLDERS, SourceKind.QUEUES, SourceKind.TOPICS):
        if kind in told:
            return kind, f"the bill has {', '.join(sorted(m for m in meters if _METERS.get(m) is kind))} of it", False
    if batched:
        return SourceKind.QUEUES, "its attempts hold batches", True
    return SourceKind.ENDPOINTS, "nothing says what sets it off; as requests its attempts are played one for one", True


def prepare_spans(log: RunLog) -> None:
    """The tables ``owned`` (what was sent or asked, with the attempt whose span it stands in, however deep) and ``waits`` (how long
    attempts waited for what they asked of other functions, ms); empty where the log has no spans.
    """
    run = log.connection.execute
    for name, columns in TABLES.items():
        if name != "otlp":
            shape = ", ".join(f"{column} {kind}" for column, kind in columns)
            run(f"CREATE TABLE IF NOT EXISTS {name} ({shape})")
    run(
        "CREATE TEMP TABLE pending AS SELECT DISTINCT span, parent, kind, destination, n, payload, start, finish FROM sends"
    )
    wanted = (
        "SELECT p.span, p.kind, p.destination, p.n, p.payload, p.start, p.finish, r.function AS f, r.outcome, r.t, r.span AS owner"
        " FROM pending p JOIN runs r ON p.parent = r.span WHERE r.usable"
    )
    run(f"CREATE TEMP TABLE owned AS {wanted}")
    for _ in range(_DEPTH if log.query("SELECT count(*) FROM between_spans")[0][0] else 0):
        run(
            "CREATE TEMP TABLE deeper AS SELECT p.* REPLACE (i.parent AS parent)"
            " FROM pending p JOIN between_spans i ON p.parent = i.span"
        )
        run("DROP TABLE pending")
        run("ALTER TABLE deeper RENAME TO pending")
        run(f"INSERT INTO owned {wanted}")
    run("DROP TABLE pending")
    # Requests asked at one instant are waited for together, others one after another.
    run(
        "CREATE TEMP TABLE waits AS SELECT owner AS span, 1000 * least(sum(finish - start), max(finish) - min(start)) AS ms"
        f" FROM owned o WHERE kind = {CLIENT} AND o.span IN (SELECT parent FROM entries) GROUP BY owner"
    )


def _asks(tables: Tables, found: Wiring) -> list[Output]:
    """Requests that a function sends and another answers: a client's span that is the parent of a function's."""
    rows = tables.query(
        "SELECT o.f, s.f, count(DISTINCT o.span) FROM {seen} s JOIN entries x USING (span)"
        f" JOIN owned o ON x.parent = o.span WHERE o.kind = {CLIENT} AND o.outcome = 'ok' GROUP BY 1, 2 ORDER BY 1, 2"
    )
    rows += tables.query(
        "SELECT r.f, s.f, count(DISTINCT s.span) FROM {seen} s JOIN entries x USING (span) JOIN named r ON x.parent = r.span"
        " WHERE r.f <> s.f AND r.outcome = 'ok' AND s.trigger_word IN ('http', 'other') GROUP BY 1, 2 ORDER BY 1, 2"
    )
    outputs = []
    for asker, asked, n in rows:
        # Who answers is reached by its endpoint, whatever the client's span calls it.
        target = _source_of(found, asked, SourceKind.ENDPOINTS)
        handled = handled_by(tables, asker)
        if target is not None and handled and asker != asked:
            evidence = f"{n:,} client spans with {asked}'s as children"
            outputs.append(Output(asker, target, n / handled, int(n), handled, evidence))
    return outputs


def _source_of(found: Wiring, function: str, kind: SourceKind) -> SourceRef | None:
    return next((a.source for a in found.arrivals.get(function, ()) if a.source.kind is kind), None)


def _emits(tables: Tables, found: Wiring) -> list[Output]:
    """What functions put out: their producers' spans, by destination."""
    rows = tables.log.query(
        "SELECT f, destination, sum(n), count(*), avg(payload) FROM"
        f" (SELECT DISTINCT span, f, destination, n, payload, outcome FROM owned f WHERE kind = {PRODUCER} AND outcome = 'ok' AND {tables.where})"
        " WHERE destination IS NOT NULL GROUP BY 1, 2 ORDER BY 1, 2"
    )
    # Links straight to a function's span: it put the message out without a span of its own.
    rows += tables.query(
        "SELECT r.f, coalesce(x.destination, s.source, s.f), count(DISTINCT hash(l.linked, s.f)), count(*), NULL"
        " FROM {seen} s JOIN links l USING (span) JOIN entries x USING (span) JOIN named r ON l.linked = r.span"
        " WHERE r.outcome = 'ok' GROUP BY 1, 2 ORDER BY 1, 2"
    )
    outputs = []
    for function, where, n, spans, payload in rows:
        target, handled = _target(found, str(where)), handled_by(tables, function)
        if handled:
            evidence = f"{spans:,} producer spans into {where}"
            size = float(payload) if payload else None
            outputs.append(Output(function, target, float(n) / handled, int(n), handled, evidence, size))
    return outputs


def _target(found: Wiring, where: str) -> SourceRef:
    """The source a destination's name is: a topic if something subscribes to it, else what is read by that name."""
    name = model_name(_last_name(where))
    if name in found.topics:
        return SourceRef.of(SourceKind.TOPICS, name)
    for group in found.arrivals.values():
        for arrival in group:
            if arrival.source.name == name and arrival.source.kind.traits.inside:
                return arrival.source
    return SourceRef.of(SourceKind.QUEUES, name)


def _shares(tables: Tables, found: Wiring) -> dict[tuple[str, str], tuple[float, int]]:
    """Of each topic and taker (a source's address, or a function's name): its share of what was published, and of how many."""
    published = {
        model_name(_last_name(str(where))): int(n)
        for where, n in tables.log.query(
            f"SELECT destination, count(DISTINCT span) FROM owned WHERE kind = {PRODUCER} AND {tables.where} GROUP BY 1"
        )
        if where
    }
    taken = tables.query(
        "SELECT s.f, count(DISTINCT o.span) FROM {seen} s JOIN links l USING (span) JOIN owned o ON l.linked = o.span"
        f" WHERE o.kind = {PRODUCER} GROUP BY 1"
    )
    shares = {}
    for function, n in taken:
        for arrival in found.arrivals.get(function, ()):
            topic = arrival.topic or (arrival.source.name if arrival.source.kind is SourceKind.TOPICS else None)
            if topic and published.get(topic):
                taker = str(arrival.source) if arrival.topic else function
                part = int(n) / published[topic] * _apart(tables, function)
                shares[topic, taker] = min(1.0, part), published[topic]
    return shares


def _apart(tables: Tables, function: str) -> float:
    """What makes good that a function's spans were drawn apart from those of its producers: 1 where traces were kept whole."""
    by = max((by for (f, _), by in tables.by.items() if f == function), default=1.0)
    if by == 1.0:
        return by
    # Drawn apart, a link's other end is there as often as a span is kept; drawn by traces, always.
    ((links, there),) = tables.query(
        "SELECT count(*), count(*) FILTER (l.linked IN (SELECT span FROM owned)) FROM {seen} s JOIN links l USING (span)"
        f" WHERE s.f = {quoted(function)}"
    )
    return by if links and there / links < (1 + 1 / by) / 2 else 1.0


def _outside(tables: Tables) -> dict[str, float]:
    """The share of each function's events that come from outside: neither linked to, nor child of, what a function sent.

    Of a sample, what is linked to a span that was not kept counts as sent by one like those that were.
    """
    ours = "(SELECT span FROM owned UNION ALL SELECT span FROM named WHERE span IS NOT NULL)"
    rows = tables.query(
        "SELECT f, sum(events), sum(events) FILTER (known), sum(events) FILTER (linked) FROM (SELECT s.f, s.events,"
        f" coalesce(s.span IN (SELECT span FROM links WHERE linked IN {ours}), false) OR coalesce(x.parent IN {ours}, false) AS known,"
        " s.span IN (SELECT span FROM links) OR x.parent IS NOT NULL AS linked"
        " FROM {seen} s LEFT JOIN entries x USING (span)) s GROUP BY 1"
    )
    found = {}
    for f, total, known, linked in rows:
        sampled = any(unit[0] == f for unit in tables.by)
        inside = float(linked or 0) if sampled and known else float(known or 0)
        share = 1 - inside / float(total) if total else 0.0
        found[f] = share if share > _OUTSIDE else 0.0
    return found


def _soonest(tables: Tables) -> dict[str, float]:
    """How long the first message of a batch waited before its attempt began, s: the tenth part that waited least."""
    rows = tables.query(
        "SELECT f, quantile_cont(wait, 0.1) FROM (SELECT s.f AS f, s.span, max(s.t - o.finish) AS wait FROM {seen} s"
        f" JOIN links l USING (span) JOIN owned o ON l.linked = o.span WHERE o.kind = {PRODUCER} AND NOT s.cold GROUP BY 1, 2)"
        " GROUP BY 1"
    )
    return {str(f): float(wait) for f, wait in rows if wait is not None}
