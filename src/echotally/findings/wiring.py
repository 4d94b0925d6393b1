"""Findings about wiring: what nothing sets off, nothing feeds, nothing reads, and what no plan carries.

Cycles are errors of the loader, which prints them (``echotally.model.wiring``).
"""

from __future__ import annotations

from collections.abc import Iterator

from echotally.findings.context import Context
from echotally.findings.rule import Noticed, Sets, rule
from echotally.model.addresses import dotted
from echotally.model.sources import SourceKind, SourceRef
from echotally.model.units import about_size


def _fed(ctx: Context) -> set[str]:
    """Every source something puts events into."""
    model = ctx.model
    found = {demand.into for demand in model.demand.values()}
    found |= {into for function in model.functions.values() for into in function.feeds}
    found |= {feed.into for topic in model.topics.values() for feed in topic.feeds}
    found |= {letter for q in model.queues.values() if (letter := q.dead_letter)}
    found |= {t.dead_letter for t in model.triggers if t.dead_letter}
    return found | {f"queues.{name}" for name, q in model.queues.items() if q.backlog}


@rule(
    "W01",
    "warning",
    "a function is never triggered",
    "It never runs; or the line that should set it off is missing.",
    cites="4.1",
)
def never_triggered(ctx: Context) -> Iterator[Noticed]:
    """Functions without a trigger."""
    wired = {trigger.to for trigger in ctx.model.triggers}
    for name in ctx.model.functions:
        if name not in wired:
            yield Noticed(
                dotted(("functions", name)),
                "has no trigger, so it never runs",
                "its work is not done, or it is a leftover",
                ((dotted(("functions", name)), ""),),
            )


@rule(
    "W02",
    "warning",
    "a source is never fed",
    "No demand, emit, feed or dead letter leads there: what it triggers never runs.",
    cites="4.7",
)
def never_fed(ctx: Context) -> Iterator[Noticed]:
    """Sources without anything that puts events in."""
    fed = _fed(ctx)
    for source in ctx.model.sources():
        if source.kind is SourceKind.SCHEDULES or source in fed:
            continue
        readers = ", ".join(t.to for t in ctx.model.triggers if t.from_ == source)
        yield Noticed(
            source.at(),
            "nothing puts events into it",
            f"{readers} never runs for it" if readers else "a leftover",
            _taken_out(ctx, source),
        )


def _taken_out(ctx: Context, source: SourceRef) -> Sets:
    """Take a source out, with the triggers that read it; later items first, so that numbers stay true."""
    numbers = [n for n, trigger in enumerate(ctx.model.triggers) if trigger.from_ == source]
    return (*((f"triggers.{n}", "") for n in reversed(numbers)), (source.at(), ""))


@rule(
    "W03",
    "warning",
    "a source is never read",
    "Events go in and nothing takes them out: the work is lost, and the source is billed.",
    cites="7.64",
)
def never_read(ctx: Context) -> Iterator[Noticed]:
    """Sources without trigger or feed; a dead letter queue that people look into is fine."""
    read = {trigger.from_ for trigger in ctx.model.triggers}
    letters = {q.dead_letter for q in ctx.model.queues.values()} | {t.dead_letter for t in ctx.model.triggers}
    for source in ctx.model.sources():
        kind, name = source.kind, source.name
        if source in read or source in letters or (kind is SourceKind.TOPICS and ctx.model.topics[name].feeds):
            continue
        writers = [name for name, f in ctx.model.functions.items() if any(e.into == source for e in f.emits)]
        if kind is SourceKind.FOLDERS and writers:
            # An output folder is where results are meant to land.
            continue
        came = (
            sum(s.arrived for s in ctx.base.measured.sources if s.source == source)
            if ctx.base and ctx.base.measured
            else 0
        )
        into = [d for d, demand in ctx.model.demand.items() if demand.into == source]
        written = [
            (dotted(("functions", name, "emits", str(n))), "")
            for name in writers
            for n, emit in reversed(list(enumerate(ctx.model.functions[name].emits)))
            if emit.into == source
        ]
        sets = (*((dotted(("demand", d)), "") for d in into), *written, (source.at(), ""))
        yield Noticed(source.at(), "no function reads it", f"{came:,} events of the month are handled by nobody", sets)


@rule(
    "W04",
    "error",
    "a payload that no plan carries",
    "Events above a plan's payload limit are refused at the door, whatever plan is chosen.",
    cites="4.8",
)
def too_large_everywhere(ctx: Context) -> Iterator[Noticed]:
    """p95 payload above the payload limit of every plan that is sold."""
    limits = [o.plan.payload_limit for o in ctx.loaded.offers.values() if o.plan.available is True]
    known = [limit for limit in limits if limit is not None]
    if not known or len(known) < len(limits):
        return
    for name, demand in ctx.model.demand.items():
        p95 = demand.payload.quantile(0.95)
        if p95 > max(known):
            yield Noticed(
                dotted(("demand", name, "payload")),
                f"p95 is {about_size(p95)}; the most any plan carries is {about_size(max(known))}",
                f"at least {demand.payload.share_above(max(known)) * 100:.2g} % of its events are refused",
                ((dotted(("demand", name, "payload")), f"{max(known)} B"),),
            )
