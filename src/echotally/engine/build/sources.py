"""Sources, triggers, partitions and edges as records: who hands events to whom."""

from __future__ import annotations

from typing import Any

from echotally.engine import codes, layout, records
from echotally.engine.build.shared import Shared
from echotally.model.estate import Trigger
from echotally.model.sources import SourceKind
from echotally.model.spread import Spread

_CODES = {kind: n for n, kind in enumerate(SourceKind)}


def triggers_of(shared: Shared) -> Any:
    """A record for each trigger and environment, in the order of their sources."""
    rows = trigger_rows(shared)
    found = layout.records(records.Trigger, len(rows))
    for g, (environment, trigger) in zip(found, rows, strict=False):
        _trigger(g, shared, environment, trigger)
    return found


def trigger_rows(shared: Shared) -> list[tuple[str, Trigger]]:
    """Every trigger of every environment, source by source."""
    triggers = shared.model.triggers_by_source()
    return [(env, t) for env, source in shared.sources for t in triggers.get(source, [])]


def _trigger(g: Any, shared: Shared, environment: str, trigger: Trigger) -> None:
    source = trigger.from_
    g["kind"] = _CODES[source.kind]
    g["source"], g["unit"] = shared.source_at[environment, source], shared.unit_at[trigger.to, environment]
    g["batch"], g["batch_wait"] = trigger.batch, trigger.batch_wait
    g["readers"] = trigger.readers_in_force
    g["tries"] = trigger.tries_in_force or 0
    g["dead_letter"] = shared.source_at[environment, trigger.dead_letter] if trigger.dead_letter else -1
    g["fail_each"], g["wake_timer"] = trigger.on_failure == "failed", -1
    g["share"], g["share_all"] = trigger.share, trigger.share >= 1
    g["items"], g["after"] = 1, -1
    if source.kind is SourceKind.SCHEDULES:
        schedule = shared.model.schedules[source.name]
        g["items"], g["skip"] = schedule.items, schedule.overlap == "skip"
    g["random"] = shared.stream(f"share:{source}:{trigger.to}:{environment}")


def sources_of(shared: Shared) -> Any:
    """A record for each source and environment."""
    found = layout.records(records.Source, len(shared.sources))
    for q, (environment, source) in zip(found, shared.sources, strict=False):
        q["kind"] = _CODES[source.kind]
        q["lists"], q["random"] = shared.take_lists(codes.SOURCE_LISTS), shared.stream(f"source:{source}:{environment}")
        q["delay_timer"] = q["visibility_timer"] = q["expire_timer"] = codes.NEVER
        q["dead_letter"], q["home"], q["payload_limit"], q["skew"], q["partitions"] = -1, -1, -1, -1, 1
        if source.kind is SourceKind.QUEUES:
            queue = shared.model.queues[source.name]
            q["visibility"], q["retention"], q["delay"] = queue.visibility, queue.retention, queue.delay
            q["tries"], q["fifo"], q["groups"] = queue.tries, queue.fifo, queue.groups
            q["dead_letter"] = shared.source_at[environment, queue.dead_letter] if queue.dead_letter else -1
        elif source.kind is SourceKind.STREAMS:
            stream = shared.model.streams[source.name]
            q["partitions"], q["retention"] = stream.partitions, stream.retention
            q["skew"] = -1 if stream.skew is None else stream.skew
    return found


def wire(shared: Shared, units: Any, triggers: Any, sources: Any) -> None:
    """Triggers stand in the order of their sources; each unit and source knows its first."""
    last: dict[int, int] = {}
    for n in range(len(trigger_rows(shared))):
        source, unit = sources[triggers[n]["source"]], int(triggers[n]["unit"])
        if source["trigger_n"] == 0:
            source["first_trigger"], source["home"] = n, unit
            source["payload_limit"] = units[unit]["payload_limit"]
        source["trigger_n"] += 1
        if unit in last:
            triggers[last[unit]]["after"] = n
        else:
            units[unit]["first_trigger"] = n
        last[unit] = n
        triggers[n]["visible_list"] = source["lists"] + codes.L_VISIBLE
        units[unit]["stream_n"] += source["kind"] == codes.STREAM


def partitions_of(shared: Shared, triggers: Any) -> Any:
    """Partitions, a set of its own for each trigger of a stream."""
    rows = [
        (n, shared.model.streams[t.from_.name])
        for n, (_, t) in enumerate(trigger_rows(shared))
        if t.from_.kind is SourceKind.STREAMS
    ]
    found = layout.records(records.Partition, sum(stream.partitions for _, stream in rows))
    place = 0
    for n, stream in rows:
        triggers[n]["first_partition"], triggers[n]["partition_n"] = place, stream.partitions
        for partition in found[place : place + stream.partitions]:
            partition["trigger"], partition["list"] = n, shared.take_lists(1)
            partition["first"], partition["wake_timer"], partition["timer"] = -1, -1, codes.NEVER
        place += stream.partitions
    return found


def edges_of(shared: Shared, units: Any, sources: Any) -> Any:
    """Feeds of topics, and what functions emit and ask."""
    rows: list[tuple[int, float, float, Spread, bool]] = []
    for source, (environment, address) in zip(sources, shared.sources, strict=False):
        if address.kind is SourceKind.TOPICS:
            feeds = shared.model.topics[address.name].feeds
            source["first_edge"], source["edge_n"] = len(rows), len(feeds)
            rows += [
                (shared.source_at[environment, feed.into], feed.share, 0.0, Spread(0, 0.0), False) for feed in feeds
            ]
    for n, unit in enumerate(shared.units):
        emits = shared.model.functions[unit.function].emits
        units[n]["first_emit"], units[n]["emit_n"] = len(rows), len(emits)
        rows += [(shared.source_at[unit.environment, emit.into], 1.0, emit.each, emit.payload, False) for emit in emits]
        asks = shared.model.functions[unit.function].asks
        units[n]["first_ask"], units[n]["ask_n"] = len(rows), len(asks)
        rows += [(shared.source_at[unit.environment, ask.to], 1.0, ask.each, ask.payload, ask.needs) for ask in asks]
    found = layout.records(records.Edge, len(rows))
    for edge, (target, share, each, payload, needs) in zip(found, rows, strict=False):
        edge["target"], edge["share"], edge["share_all"] = target, share, share >= 1
        edge["whole"], edge["fraction"], edge["needs"] = int(each), each - int(each), needs
        shared.spread(edge, "payload", payload)
    return found


def backlogs_of(shared: Shared) -> list[tuple[int, int]]:
    """(source, messages) of every queue that holds some when the month begins."""
    found = [
        (n, shared.model.queues[source.name].backlog)
        for n, (_, source) in enumerate(shared.sources)
        if source.kind is SourceKind.QUEUES
    ]
    return [(n, backlog) for n, backlog in found if backlog]
