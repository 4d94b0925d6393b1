"""Findings about limits: instances, slots, floors, the account's concurrency."""

from __future__ import annotations

import math
from collections.abc import Iterator
from decimal import Decimal

from echotally.findings.changes import percent
from echotally.findings.context import Context
from echotally.findings.rule import Noticed, Sets, rule
from echotally.model.addresses import dotted
from echotally.model.sources import SourceKind
from echotally.projection.totals import totals_of
from echotally.rates.unit_settings import unit_settings

#: A limit far above any use, to see how many instances would be used without one.
_OPEN = 100_000


@rule(
    "L01",
    "warning",
    "instance limits add up to more than the account allows",
    "Each limit looks safe alone; together one function's storm takes the room of all others.",
    cites="3.4",
)
def above_the_account(ctx: Context) -> Iterator[Noticed]:
    """Limits of functions on one plan against its concurrency limit."""
    for offer in {o.name: o for o in ctx.placement.values()}.values():
        cap = offer.plan.concurrency_limit
        limited = {
            name: f.instance_limit * f.slots
            for name, f in ctx.model.functions.items()
            if f.instance_limit is not None and ctx.placement[name].name == offer.name
        }
        total = sum(limited.values())
        if cap is None or total <= cap or len(limited) < 2:
            continue
        # The largest gives up what there is too much: it has most to give.
        largest = max(limited, key=lambda name: limited[name])
        left = max(1, (cap - total + limited[largest]) // ctx.model.functions[largest].slots)
        yield Noticed(
            dotted(("functions", largest, "instance_limit")),
            f"limits of {', '.join(limited)} add up to {total:,} calls at once; the account on {offer.name} allows {cap:,}",
            "one of them can starve the others",
            ((dotted(("functions", largest, "instance_limit")), str(left)),),
        )


@rule(
    "L02",
    "warning",
    "an instance limit throttles at the usual peak",
    "Work is refused for want of instances, though the account has room.",
    cites="3.4",
)
def throttles(ctx: Context) -> Iterator[Noticed]:
    """The smallest limit that would throttle nothing, found by playing the month."""
    for name, function in ctx.model.functions.items():
        throttled = ctx.totals(name).attempts["throttled"]
        if function.instance_limit is None or not throttled or not any(u.at_limit_ns for u in ctx.units(name)):
            continue
        attempts = ctx.totals(name).attempts["total"]
        sets = _smallest(ctx, name, function.instance_limit)
        yield Noticed(
            dotted(("functions", name, "instance_limit")),
            f"{function.instance_limit} instances refuse {throttled:,} of {attempts:,} attempts ({throttled / attempts * 100:.2f} %)",
            f"{throttled:,} attempts throttled in the month",
            sets,
            ctx.saving(sets) if sets else None,
        )


def _throttled(ctx: Context, name: str, limit: int) -> tuple[int, int] | None:
    """(throttled, most instances) of a function under another limit."""
    played = ctx.trial(((dotted(("functions", name, "instance_limit")), str(limit)),))
    if played is None:
        return None
    units = played.units_of(name)
    return totals_of(units).attempts["throttled"], max(u.instances.peak for u in units)


def _smallest(ctx: Context, name: str, now: int) -> Sets:
    """Bisect between today's limit, which throttles, and what an open limit would use."""
    found = _throttled(ctx, name, _OPEN)
    if found is None:
        return ((dotted(("functions", name, "instance_limit")), str(max(now + 1, _enough(ctx, name)))),)
    least, high = found[0], found[1]
    low = now
    while high - low > 1:
        middle = (low + high) // 2
        # As good as without a limit is good enough: what is throttled even then has another cause.
        seen = _throttled(ctx, name, middle)
        if seen is not None and seen[0] <= least:
            high = middle
        else:
            low = middle
    return ((dotted(("functions", name, "instance_limit")), str(max(high, now + 1))),)


def _enough(ctx: Context, name: str) -> int:
    """Where the month is too long to play again: calls in flight of M/G/infinity in the busiest hour, mean + 4 sigma.

    Without limits the number in flight is Poisson with mean rate x run (Takacs 1962), whatever the run's shape.
    """
    load = ctx.per_hour(name)[1] / 3_600 * ctx.run_s(name)
    return math.ceil((load + 4 * math.sqrt(load)) / ctx.model.functions[name].slots)


@rule(
    "L03",
    "hint",
    "a floor that is never reached",
    "Instances of a floor are paid while they wait; more of them than ever work are paid for nothing.",
    cites="6.2",
)
def floor_too_high(ctx: Context) -> Iterator[Noticed]:
    """Floor above the most instances that ever had a call."""
    for name, function in ctx.model.functions.items():
        units = ctx.units(name)
        if not function.instance_floor or not units or ctx.plan(name).bills == "reserved":
            continue
        needed = max(math.ceil(u.concurrency.peak / function.slots) for u in units)
        if needed < function.instance_floor:
            sets: Sets = ((dotted(("functions", name, "instance_floor")), str(needed)),)
            saves = ctx.saving(sets)
            yield Noticed(
                dotted(("functions", name, "instance_floor")),
                f"{function.instance_floor} instances wait all month; at most {needed} ever had a call",
                f"saves {ctx.money(saves)} a month" if saves is not None else "idle instances are paid for",
                sets,
                saves,
            )


@rule(
    "L04",
    "warning",
    "more slots than the CPU can serve",
    "Beyond the point where the CPU is full another call in an instance only slows the others.",
    cites="3.2",
)
def too_many_slots(ctx: Context) -> Iterator[Noticed]:
    """Slots x CPU share x vCPUs used above the vCPUs there are."""
    for name, function in ctx.model.functions.items():
        if function.slots < 2 or not function.cpu_share or ctx.plan(name).bills == "reserved":
            continue
        settings = unit_settings(function, ctx.plan(name))
        # Where the calls' CPU work together just fills the instance (rule 3.2).
        full = settings.vcpu / (settings.cpu_part * settings.vcpu_used)
        if function.slots > full * 1.001:
            stretch = function.slots / full
            yield Noticed(
                dotted(("functions", name, "slots")),
                f"{function.slots} calls need {function.slots * settings.cpu_part * settings.vcpu_used:.2g} vCPU; an instance has "
                f"{settings.vcpu:.2g}",
                f"a full instance takes {stretch:.1f} times as long for each call",
                ((dotted(("functions", name, "slots")), str(max(1, int(full)))),),
            )


#: Share of calls that wait for a cold start from which callers notice, and the most a floor may add to the bill to be named.
_COLD = 0.1


@rule(
    "L05",
    "hint",
    "many calls wait for a cold start",
    "Events come so far apart that instances are gone before the next: a floor keeps one warm, at a price.",
    cites="3.4",
)
def many_cold(ctx: Context) -> Iterator[Noticed]:
    """Cold starts in a tenth of the calls of an endpoint's function, with the price of a floor that ends them."""
    for name, function in ctx.model.functions.items():
        units, plan = ctx.units(name), ctx.plan(name)
        started, cold = sum(u.started for u in units), sum(u.cold_starts for u in units)
        asked = any(t.from_.kind is SourceKind.ENDPOINTS for _, t in ctx.triggers(name))
        # Only callers notice a cold start; a message may come a second later.
        if not asked or not started or cold < _COLD * started or plan.bills == "reserved" or function.instance_floor:
            continue
        sets: Sets = ((dotted(("functions", name, "instance_floor")), "1"),)
        saves = ctx.saving(sets)
        price = "" if saves is None else f"; a floor of one costs {ctx.money(max(-saves, Decimal(0)))} a month"
        yield Noticed(
            dotted(("functions", name, "instance_floor")),
            f"{cold:,} of {started:,} calls ({percent(cold / started)}) wait for a cold start",
            f"callers wait about {function.cold_start.mean * plan.cold_start_factor / 1e9:,.2f} s more{price}",
            sets,
            saves,
            promises=("cold_starts",),
            dearer=True,
        )
