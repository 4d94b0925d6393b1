"""Findings about queues and streams: settings that fight each other, and work that comes faster than it goes."""

from __future__ import annotations

import math
from collections.abc import Iterator
from decimal import Decimal

from echotally.findings.changes import nice_duration, pushed_by_its_topic, rewired
from echotally.findings.context import Context
from echotally.findings.rule import Noticed, Sets, rule
from echotally.model.addresses import dotted
from echotally.model.estate import Stream
from echotally.model.sources import SourceKind, SourceRef
from echotally.model.units import about_size, duration_text
from echotally.rates.billing import exact
from echotally.rates.price_walk import price_of


def clears_per_s(ctx: Context, number: int) -> float:
    """Events a second that a queue's or stream's trigger can clear by readers, partitions, limits and run time."""
    trigger = ctx.model.triggers[number]
    place = ctx.model.waiting_place(trigger.from_)
    run_s = ctx.run_s(trigger.to, None, trigger.batch)
    if isinstance(place, Stream):
        lanes: float = place.partitions * trigger.readers_in_force
    else:
        lanes = place.groups if place.fifo else trigger.readers_in_force
    parallel = min(lanes, ctx.parallel(trigger.to))
    return parallel * trigger.batch / run_s if run_s else math.inf


def _pulled(ctx: Context, kind: SourceKind) -> Iterator[tuple[int, str]]:
    """Triggers on queues or streams: number in the file, source name."""
    for number, trigger in enumerate(ctx.model.triggers):
        if trigger.from_.kind is kind:
            yield number, trigger.from_.name


@rule(
    "Q01",
    "warning",
    "messages come back before the timeout",
    "While a run still works on them, its messages are handed to another: each is handled twice.",
    cites="4.4",
)
def short_visibility(ctx: Context) -> Iterator[Noticed]:
    """Visibility below the timeout of a reading function."""
    for number, name in _pulled(ctx, SourceKind.QUEUES):
        queue, function = ctx.model.queues[name], ctx.model.functions[ctx.model.triggers[number].to]
        if queue.visibility < function.timeout:
            twice = sum(u.duplicates for u in ctx.units(ctx.model.triggers[number].to))
            yield Noticed(
                dotted(("queues", name, "visibility")),
                f"{duration_text(queue.visibility)}, while {ctx.model.triggers[number].to} may run {duration_text(function.timeout)}",
                f"{twice:,} events handled twice in the month",
                ((dotted(("queues", name, "visibility")), nice_duration(function.timeout)),),
            )


@rule(
    "Q02",
    "warning",
    "tries without a dead letter",
    "Without a dead letter `tries` does nothing: a message that always fails comes back until retention ends.",
    cites="4.4",
)
def no_dead_letter(ctx: Context) -> Iterator[Noticed]:
    """Tries written down, no dead letter."""
    for name, queue in ctx.model.queues.items():
        if "tries" in queue.model_fields_set and queue.dead_letter is None:
            again = int(queue.retention / queue.visibility)
            sets = (("queues.parked.retention", "14 d"), (dotted(("queues", name, "dead_letter")), "queues.parked"))
            yield Noticed(
                dotted(("queues", name, "tries")),
                f"{queue.tries} tries, but no dead letter to go to after them",
                f"one bad message is handled up to {again:,} times in {duration_text(queue.retention)}",
                sets,
            )


@rule(
    "Q03",
    "warning",
    "retention is shorter than the drain of the largest lump",
    "What waits longest when many events come at once is deleted before its turn.",
    cites="4.4",
)
def short_retention(ctx: Context) -> Iterator[Noticed]:
    """Largest lump or backlog over the rate at which the trigger clears."""
    for number, _ in [*_pulled(ctx, SourceKind.QUEUES), *_pulled(ctx, SourceKind.STREAMS)]:
        trigger = ctx.model.triggers[number]
        source = ctx.model.waiting_place(trigger.from_)
        lumps = [lump.count for d in ctx.model.demand.values() if d.into == trigger.from_ for lump in d.lumps]
        largest = max([*lumps, getattr(source, "backlog", 0)])
        # As if it came alone: what comes besides only makes it later.
        drain_ns = largest / clears_per_s(ctx, number) * 1e9
        if largest and drain_ns > source.retention:
            expired = sum(u.events["expired"] for u in ctx.units(trigger.to))
            sets = ((trigger.from_.at("retention"), nice_duration(1.5 * drain_ns)),)
            yield Noticed(
                trigger.from_.at("retention"),
                f"{duration_text(source.retention)}, but {largest:,} events at once take "
                f"about {drain_ns / 3.6e12:,.1f} h to clear",
                f"{expired:,} events expired in the month",
                sets,
                accepts=("wait_p95_s",),
            )


@rule(
    "Q04",
    "warning",
    "more comes in than can be cleared",
    "A backlog that grows on average never ends; one that grows in the busiest hour makes everything late.",
    cites="4.1",
)
def too_slow(ctx: Context) -> Iterator[Noticed]:
    """Mean or busiest-hour arrivals above what the trigger clears."""
    for number, _ in [*_pulled(ctx, SourceKind.QUEUES), *_pulled(ctx, SourceKind.STREAMS)]:
        trigger = ctx.model.triggers[number]
        # What a function gets from several sources is not told apart in its counts.
        if sum(t.to == trigger.to for t in ctx.model.triggers) > 1:
            continue
        mean, busiest = ctx.per_hour(trigger.to)
        clears = clears_per_s(ctx, number) * 3_600
        if busiest <= clears:
            continue
        grows, when = (mean - clears, "on average") if mean > clears else (busiest - clears, "in its busiest hour")
        rate = mean if mean > clears else busiest
        # A quarter more than comes, so that what has gathered goes as well.
        sets = _wider(ctx, number, 1.25 * rate / 3_600)
        worst = max((u.backlog_peak for u in ctx.units(trigger.to)), default=0)
        yield Noticed(
            f"triggers.{number}",
            f"{rate:,.0f} events an hour {when}, of which {trigger.to} can clear {clears:,.0f}: the backlog grows by {grows:,.0f} an hour",
            f"up to {worst:,} events waited at once",
            sets,
            promises=("left_behind", "wait_p95_s", "lost"),
        )


def _wider(ctx: Context, number: int, rate_per_s: float) -> Sets:
    """One change after which the trigger clears ``rate_per_s``: lanes first, then the instance limit."""
    trigger = ctx.model.triggers[number]
    name = trigger.from_.name
    lanes = math.ceil(rate_per_s * ctx.run_s(trigger.to, None, trigger.batch) / trigger.batch)
    function = ctx.model.functions[trigger.to]
    limit: Sets = ()
    # On reserved instances an instance limit does nothing: what binds is their memory.
    if ctx.parallel(trigger.to) < lanes and ctx.plan(trigger.to).bills != "reserved":
        limit = ((dotted(("functions", trigger.to, "instance_limit")), str(math.ceil(lanes / function.slots))),)
    if trigger.from_.kind is SourceKind.STREAMS:
        partitions = ctx.model.streams[name].partitions
        per = trigger.readers or 1
        return (
            limit
            if lanes <= partitions * per
            else ((dotted(("streams", name, "partitions")), str(math.ceil(lanes / per))), *limit)
        )
    if ctx.model.queues[name].fifo:
        return ((dotted(("queues", name, "groups")), str(lanes)), *limit)
    return limit if lanes <= (trigger.readers or 100) else ((f"triggers.{number}.readers", str(lanes)), *limit)


@rule(
    "Q05",
    "hint",
    "a full batch is above the payload limit",
    "The plan cuts such a batch, so that more calls are made than the batch size promises.",
    cites="4.8",
)
def batch_too_heavy(ctx: Context) -> Iterator[Noticed]:
    """Batch x mean payload above the plan's limit."""
    for number, trigger in enumerate(ctx.model.triggers):
        limit = ctx.plan(trigger.to).payload_limit
        sizes = [d.payload.mean for d in ctx.model.demand.values() if d.into == trigger.from_]
        if limit is None or trigger.batch < 2 or not sizes or trigger.batch * max(sizes) <= limit:
            continue
        fits = max(1, int(limit / max(sizes)))
        yield Noticed(
            f"triggers.{number}.batch",
            f"{trigger.batch} events of {about_size(max(sizes))} are {about_size(trigger.batch * max(sizes))}; the plan carries "
            f"{about_size(limit)}",
            f"batches are cut to about {fits} events",
            ((f"triggers.{number}.batch", str(fits)),),
        )


@rule(
    "Q06",
    "hint",
    "partitions idle, or one of them hot",
    "Partitions are paid by the hour, used or not; and a partition that gets most events is the only one that counts.",
    cites="4.6",
)
def partitions(ctx: Context) -> Iterator[Noticed]:
    """A stream of several partitions that hardly works, or whose first partition is too busy."""
    for number, name in _pulled(ctx, SourceKind.STREAMS):
        trigger, stream = ctx.model.triggers[number], ctx.model.streams[name]
        if stream.partitions < 2:
            continue
        busiest = ctx.per_hour(trigger.to)[1] / 3_600
        # What one partition alone could clear.
        one = clears_per_s(ctx, number) / stream.partitions
        hot = stream.skew is not None and stream.skew > 1.5 / stream.partitions and busiest * stream.skew > 0.8 * one
        if hot and stream.skew is not None:
            even = 1 / stream.partitions
            yield Noticed(
                dotted(("streams", name, "skew")),
                f"the first partition gets {stream.skew * 100:.0f} % of {busiest:,.1f} events a second in the busiest hour and "
                f"clears {one:,.1f}",
                "its records wait while the other partitions idle",
                ((dotted(("streams", name, "skew")), f"{even:.3f}"),),
            )
        elif busiest < 0.25 * one:
            sets: Sets = ((dotted(("streams", name, "partitions")), "1"),)
            saves = ctx.saving(sets)
            if saves is None or saves > Decimal("0.01"):
                yield Noticed(
                    dotted(("streams", name, "partitions")),
                    f"{stream.partitions} partitions, while one alone would be {busiest / one * 100:.1f} % busy in the busiest hour",
                    f"saves {ctx.money(saves)} a month" if saves else "partitions are paid for and idle",
                    sets,
                    saves,
                )


@rule(
    "Q07",
    "warning",
    "idle readers cost more than the work",
    "Readers that find nothing poll again, and each poll is billed.",
    cites="6.3",
)
def polls(ctx: Context) -> Iterator[Noticed]:
    """Price of a queue's idle polls above what its function costs otherwise."""
    measured = ctx.base.measured if ctx.base else None
    for number, name in _pulled(ctx, SourceKind.QUEUES) if measured else ():
        plan, reader = ctx.plan(ctx.model.triggers[number].to), ctx.model.triggers[number].to
        price = plan.prices().get("queue_operations")
        idle_ns = sum(s.idle_ns for s in measured.sources if s.source == f"queues.{name}") if measured else 0
        if price is None or not idle_ns:
            continue
        count = Decimal(idle_ns) * plan.idle_readers / plan.poll_wait
        cost = price_of(price, exact().create_decimal(count))
        bill = ctx.base.bill if ctx.base else None
        work = sum(
            (
                amount
                for key, parts in (bill.shares.items() if bill else ())
                if key[0] == reader
                for meter, amount in parts.items()
                if meter != "queue_operations"
            ),
            Decimal(0),
        )
        if cost < max(Decimal("0.01"), ctx.total / 100) or cost <= work:
            continue
        sets = _without_polls(ctx, reader, SourceRef.of(SourceKind.QUEUES, name)) or _unread(ctx, number)
        yield Noticed(
            dotted(("queues", name)),
            f"{count:,.0f} polls find nothing and cost {ctx.money(cost)}; the work of {reader} costs {ctx.money(work)}",
            f"{ctx.money(cost)} a month for waiting",
            sets,
            ctx.saving(sets) if sets else None,
        )


def _without_polls(ctx: Context, reader: str, source: SourceRef) -> Sets:
    """Pin the reader to a plan that prices no queue operations or waits longer between polls, if one takes it
    and saves; else hand the events over by a topic, which nobody polls.
    """
    from echotally.rates.feasibility import reasons_against

    gentle: list[Sets] = [
        ((dotted(("functions", reader, "plan")), offer.name),)
        for offer in ctx.loaded.offers.values()
        if ("queue_operations" not in offer.plan.price or offer.plan.poll_wait > 2 * ctx.plan(reader).poll_wait)
        and not reasons_against(ctx.model, reader, offer.plan)
    ]
    # Played, since another plan has other prices for everything else too.
    saved = [(saves, sets) for sets in gentle if (saves := ctx.saving(sets)) is not None and saves > 0]
    return max(saved)[1] if saved else rewired(ctx, source, SourceKind.TOPICS) or pushed_by_its_topic(ctx, source)


def _unread(ctx: Context, number: int) -> Sets:
    """A queue that nothing comes into needs no reader."""
    model, source = ctx.model, ctx.model.triggers[number].from_
    into = {demand.into for demand in model.demand.values()} | {
        into for f in model.functions.values() for into in f.feeds
    }
    into |= {feed.into for topic in model.topics.values() for feed in topic.feeds}
    into |= {q.dead_letter for q in model.queues.values() if q.dead_letter}
    into |= {t.dead_letter for t in model.triggers if t.dead_letter}
    return () if source in into else ((f"triggers.{number}", ""),)


@rule(
    "Q08",
    "warning",
    "the same source is wired twice to one function",
    "Two triggers on a stream, topic or schedule each get everything: every event is handled twice.",
    cites="4.7",
)
def wired_twice(ctx: Context) -> Iterator[Noticed]:
    """Two triggers with one source and one function."""
    seen: dict[tuple[str, str], int] = {}
    for number, trigger in enumerate(ctx.model.triggers):
        key = (trigger.from_, trigger.to)
        if key in seen and trigger.from_.kind is not SourceKind.QUEUES:
            sets: Sets = ((f"triggers.{number}", ""),)
            saves = ctx.saving(sets)
            events = sum(u.events["in"] for u in ctx.units(trigger.to))
            yield Noticed(
                f"triggers.{number}",
                f"{trigger.from_} already goes to {trigger.to} by triggers.{seen[key]}",
                f"about half of {events:,} events are handled a second time",
                sets,
                saves,
            )
        seen.setdefault(key, number)


@rule(
    "Q09",
    "warning",
    "two functions compete for one queue",
    "A queue hands each message to one reader: neither function sees them all. A topic would give each a copy.",
    cites="4.4",
)
def competing(ctx: Context) -> Iterator[Noticed]:
    """Two triggers of different functions on one queue."""
    first: dict[str, int] = {}
    for number, trigger in enumerate(ctx.model.triggers):
        if trigger.from_.kind is not SourceKind.QUEUES:
            continue
        other = first.setdefault(trigger.from_, number)
        if ctx.model.triggers[other].to != trigger.to:
            mine, theirs = (
                sum(u.events["in"] for u in ctx.units(t)) for t in (trigger.to, ctx.model.triggers[other].to)
            )
            yield Noticed(
                f"triggers.{number}",
                f"{trigger.to} and {ctx.model.triggers[other].to} both read {trigger.from_}: they got "
                f"{mine:,} and {theirs:,} events",
                "each message is seen by one of them only",
                ((f"triggers.{number}", ""),),
            )
