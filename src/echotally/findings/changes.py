"""Changes that findings suggest in more than one place: another kind of source, a round duration, a share in words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from echotally.findings.context import Context
from echotally.findings.rule import Sets
from echotally.model.addresses import dotted
from echotally.model.sources import SourceKind, SourceRef


def rewired(ctx: Context, source: SourceRef, kind: SourceKind) -> Sets:
    """Overrides that put a topic or queue of the same name in the place of a source that only demand feeds.

    Nothing where something else feeds it too, or where the model with the change could not be loaded.
    """
    model = ctx.model
    new = SourceRef.of(kind, source.name)
    fed = [d for d, demand in model.demand.items() if demand.into == source]
    inside = [into for f in model.functions.values() for into in f.feeds]
    inside += [feed.into for topic in model.topics.values() for feed in topic.feeds]
    # What a function or topic puts in says which kind of source it is for.
    if not fed or source in inside or new in model.sources():
        return ()
    sets: list[tuple[str, str]] = [
        (new.at("feeds"), "[]") if kind is SourceKind.TOPICS else (new.at("retention"), "1 d")
    ]
    sets += [(dotted(("demand", d, "into")), new) for d in fed]
    for number, trigger in enumerate(model.triggers):
        if trigger.from_ == source:
            sets.append((f"triggers.{number}.from", new))
            # Keys that the other kind does not have would be refused; its defaults stand in their place.
            dropped = (
                trigger.model_fields_set - {"from_", "to", "batch", "batch_wait"}
                if kind is SourceKind.QUEUES
                else (trigger.model_fields_set - {"from_", "to"})
            )
            sets += [(f"triggers.{number}.{key}", "") for key in sorted(dropped)]
    sets.append((source.at(), ""))
    return _that_load(ctx, sets)


def pushed_by_its_topic(ctx: Context, queue: SourceRef) -> Sets:
    """Overrides that let the one topic that feeds a queue call its functions itself; nothing where that cannot be."""
    model = ctx.model
    feeding = [(t, feed) for t, topic in model.topics.items() for feed in topic.feeds if feed.into == queue]
    # A topic with several feeds would give each of the functions everything it copies.
    if len(feeding) != 1 or len(model.topics[feeding[0][0]].feeds) != 1:
        return ()
    topic, feed = feeding[0]
    sets = [(dotted(("topics", topic, "feeds")), "[]")]
    for number, trigger in enumerate(model.triggers):
        if trigger.from_ == queue:
            sets += [
                (f"triggers.{number}.from", SourceRef.of(SourceKind.TOPICS, topic)),
                (f"triggers.{number}.share", repr(feed.share)),
            ]
            sets += [(f"triggers.{number}.{key}", "") for key in sorted(trigger.model_fields_set - {"from_", "to"})]
    return _that_load(ctx, [*sets, (queue.at(), "")])


def _that_load(ctx: Context, sets: Sequence[tuple[str, str]]) -> Sets:
    """The overrides, or nothing where the model with them could not be loaded."""
    return tuple(sets) if ctx.applies(tuple(sets)) else ()


def nice_duration(ns: float) -> str:
    """The next round duration at or above ``ns``, as the file writes it."""
    steps = [(unit, n) for unit in ("ms", "s", "min", "h", "d") for n in (1, 2, 5, 10, 15, 20, 30, 45, 100, 200, 500)]
    worth: dict[str, Any] = {"ms": 10**6, "s": 10**9, "min": 60 * 10**9, "h": 3_600 * 10**9, "d": 86_400 * 10**9}
    steps += [("d", n) for n in (1_000, 2_000, 5_000, 10_000, 20_000)]
    # Nothing longer than a hundred years can be written.
    longest = ("d", 36_525)
    unit, n = min((s for s in steps if s[1] * worth[s[0]] >= ns), key=lambda s: s[1] * worth[s[0]], default=longest)
    return f"{n} {unit}"


def percent(share: float) -> str:
    """A share in words: two digits that count, never in powers of ten."""
    value = share * 100
    if value == 0 or value >= 99.95:
        return f"{value:.0f} %"
    places = max(0, 1 - math.floor(math.log10(value)))
    return f"{value:.{places}f} %"
