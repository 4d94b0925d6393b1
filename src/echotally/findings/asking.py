"""Findings about functions that ask functions and wait: what the waiting costs, timeouts that do not fit, limits that block."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal

from echotally.findings.changes import nice_duration, percent
from echotally.findings.context import Context
from echotally.findings.rule import Noticed, Sets, rule
from echotally.model.addresses import dotted
from echotally.model.estate import Ask
from echotally.model.sources import SourceKind, SourceRef
from echotally.model.toml_text import toml_text
from echotally.model.units import duration_text
from echotally.rates.unit_settings import unit_settings

#: Share of its paid time that a function may wait for answers before it is worth a word.
_WAITS = 0.2
_CENT = Decimal("0.01")
#: Plans on which time with a call is paid.
_BY_TIME = ("runs", "active", "allocated")


def _asked(ctx: Context, ask: Ask) -> str | None:
    """The function that answers."""
    return next((t.to for t in ctx.model.triggers if t.from_ == ask.to), None)


@rule(
    "A01",
    "warning",
    "paying for waiting",
    "While a call waits for an answer both functions are paid; a queue between them is paid by the message.",
    cites="8.5",
)
def paid_waiting(ctx: Context) -> Iterator[Noticed]:
    """Functions that spend much of their paid time on answers, with a queue in place of what they ask, played."""
    for name, function in ctx.model.functions.items():
        units, plan = ctx.units(name), ctx.plan(name)
        busy, started = sum(u.busy_ns for u in units), sum(u.started for u in units)
        if not function.asks or not busy or plan.bills not in _BY_TIME:
            continue
        # What of its busy time its own runs do not explain it has waited.
        own = ctx.run_s(name) * 1e9 * started
        waits = max(0.0, 1 - own / busy)
        paid = ctx.paid_for_time(name) * Decimal(waits)
        if waits < _WAITS or paid < max(_CENT, ctx.total / 100):
            continue
        sets = _with_a_queue(ctx, name, 0)
        # Played before it is told: what a queue costs in operations may be more than the waiting.
        saves = ctx.saving(sets) if sets else None
        beside = ""
        if saves is not None:
            beside = f"; with a queue between them, which gives no answer, the month costs {ctx.money(abs(saves))} "
            beside += "less" if saves > 0 else "more"
        yield Noticed(
            dotted(("functions", name, "asks")),
            f"about {percent(waits)} of its {busy / 3.6e12:,.1f} h of runs is waiting for {function.asks[0].to}",
            f"about {ctx.money(paid)} a month is paid for waiting{beside}",
            sets if saves is not None and saves > 0 else (),
            saves,
            promises=("cost",),
            accepts=("wait_p95_s",),
        )


def _with_a_queue(ctx: Context, name: str, n: int) -> Sets:
    """Overrides that put a queue in place of an endpoint that only this function asks; nothing where that cannot be."""
    model, data = ctx.model, ctx.loaded.document.data
    ask = model.functions[name].asks[n]
    askers = [other for other, f in model.functions.items() for a in f.asks if a.to == ask.to]
    fed = any(demand.into == ask.to for demand in model.demand.values())
    queue = SourceRef.of(SourceKind.QUEUES, ask.to.name)
    # Others that ask it want their answers.
    if fed or askers != [name] or queue in model.sources():
        return ()
    written = data["functions"][name]
    asks, emits = list(written["asks"]), list(written.get("emits", ()))
    one = asks.pop(n)
    emits.append({"into": str(queue), **{key: one[key] for key in ("each", "payload") if key in one}})
    number = next(k for k, trigger in enumerate(model.triggers) if trigger.from_ == ask.to)
    sets = (
        (queue.at("retention"), "4 d"),
        (dotted(("functions", name, "emits")), toml_text(emits)),
        (dotted(("functions", name, "asks")), toml_text(asks)),
        (f"triggers.{number}.from", queue),
        (ask.to.at(), ""),
    )
    return sets if ctx.applies(sets) else ()


@rule(
    "A02",
    "warning",
    "a timeout shorter than that of the function asked",
    "The asking call is ended while what it asked runs on: both are paid, and nobody hears the answer.",
    cites="7.66",
)
def shorter_timeout(ctx: Context) -> Iterator[Noticed]:
    """Timeouts of asking functions below those of the functions that answer."""
    for name, function in ctx.model.functions.items():
        for ask in function.asks:
            other = _asked(ctx, ask)
            if other is None or function.timeout >= ctx.model.functions[other].timeout:
                continue
            longer = ctx.model.functions[other].timeout
            enough = nice_duration(longer + ctx.run_s(name, 0.99) * 1e9)
            yield Noticed(
                dotted(("functions", name, "timeout")),
                f"{duration_text(function.timeout)}; {other}, which it asks, may run {duration_text(longer)}",
                f"where {other} takes longer than {name} is left, its answer goes nowhere",
                ((dotted(("functions", name, "timeout")), enough),),
            )


@rule(
    "A03",
    "warning",
    "a chain whose limits can block each other",
    "Calls that wait for answers keep their places; where they can take all of them, what they ask finds none.",
    cites="8.5",
)
def can_block(ctx: Context) -> Iterator[Noticed]:
    """Asking functions that alone may take every place of the account that the asked one needs as well."""
    for name, function in ctx.model.functions.items():
        plan = ctx.plan(name)
        reserved = plan.bills == "reserved"
        # On reserved instances the places of all functions are one another's.
        limit = int(min(ctx.parallel(name), plan.concurrency_limit or 10**9)) if reserved else plan.concurrency_limit
        others = [other for ask in function.asks if (other := _asked(ctx, ask)) is not None]
        if limit is None or not any(ctx.placement[other].name == ctx.placement[name].name for other in others):
            continue
        own = unit_settings(function, plan).limit
        most = None if own is None or reserved else own * function.slots
        # It can never take them all, so there is always one left for whom it asks.
        if most is not None and most < limit:
            continue
        half = max(1, limit // 2 // function.slots)
        yield Noticed(
            dotted(("functions", name, "instance_limit")),
            f"its calls may take all {limit} places {'there are' if reserved else 'of the account'}, and {', '.join(others)}, which it waits for, needs some too",
            "then every request is refused until calls time out",
            ((dotted(("functions", name, "instance_limit")), str(half)),) if not reserved and limit > 1 else (),
        )
