"""Findings about what the clock brings: windows that touch no moment, floors that meet, releases, services nobody uses."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from decimal import Decimal

from echotally.demand.happenings import cron_times
from echotally.findings.changes import percent
from echotally.findings.context import Context
from echotally.findings.rule import Noticed, Sets, rule
from echotally.model.addresses import dotted
from echotally.model.sources import SourceKind

#: So many more calls that wait for a cold start make a release worth a word.
_FEW = 5


@rule(
    "I01",
    "warning",
    "it touches no moment of the month",
    "A window, release or floor outside the month changes nothing: the figures are those of a month without it.",
    cites="7.47",
)
def touches_nothing(ctx: Context) -> Iterator[Noticed]:
    """Incidents without a window in the month, releases and floors without a firing."""
    found = ctx.loaded.month.happenings
    for n, incident in enumerate(ctx.model.incidents):
        if not found.incidents[n]:
            when = f"{incident.at:%Y-%m-%d %H:%M}" if incident.at else incident.cron
            yield _nothing(ctx, f"incidents.{n}", f"{incident.name} ({when})")
    for name, function in ctx.model.functions.items():
        if function.releases and not found.releases.get(name):
            yield _nothing(ctx, dotted(("functions", name, "releases")), "none of the releases")
        if function.instance_floors and not found.floors.get(name):
            yield _nothing(ctx, dotted(("functions", name, "instance_floors")), "none of the floors")


def _nothing(ctx: Context, address: str, what: str) -> Noticed:
    return Noticed(
        address, f"{what} lies in {ctx.model.estate.month}", "the month is as if it were not there", ((address, ""),)
    )


@rule(
    "I02",
    "hint",
    "two floors at one instant",
    "Of two firings at one instant the last written wins, and the other floor never holds from there.",
    cites="7.56",
)
def floors_meet(ctx: Context) -> Iterator[Noticed]:
    """Floors by the clock that fire together with others of the same function."""
    for name, function in ctx.model.functions.items():
        at: dict[int, list[int]] = defaultdict(list)
        for n, change in enumerate(function.instance_floors):
            for moment in cron_times(change.cron, ctx.loaded.month.clock):
                at[moment].append(n)
        both = [numbers for numbers in at.values() if len(numbers) > 1]
        if not both:
            continue
        first, last = both[0][0], both[0][-1]
        floors = function.instance_floors
        yield Noticed(
            dotted(("functions", name, "instance_floors", str(first))),
            f"fires {len(both)} times together with another: the floor is then {floors[last].floor}, not {floors[first].floor}",
            f"the floor of {floors[first].floor} does not hold",
            ((dotted(("functions", name, "instance_floors", str(first))), ""),),
        )


@rule(
    "I03",
    "hint",
    "a release makes callers wait",
    "A release makes every instance cold; a floor has new ones started at once, before anybody asks.",
    cites="8.2",
)
def cold_release(ctx: Context) -> Iterator[Noticed]:
    """Releases of functions that answer requests, by the calls that wait for a cold start more than without, and a floor, played."""
    for name, function in ctx.model.functions.items():
        asked = any(t.from_.kind is SourceKind.ENDPOINTS for _, t in ctx.triggers(name))
        units, plan = ctx.units(name), ctx.plan(name)
        times = ctx.loaded.month.happenings.releases.get(name)
        if not asked or not times or not units or plan.bills == "reserved" or function.instance_floor:
            continue
        out: Sets = ((dotted(("functions", name, "releases")), ""),)
        now, without = ctx.beside(out), ctx.trial(out)
        if now is None or without is None:
            continue
        cold = sum(u.cold_calls for u in now.units_of(name))
        more = cold - sum(u.cold_calls for u in without.units_of(name))
        if more < _FEW:
            continue
        floor = max(1, *(int(u.concurrency.p95) for u in units))
        sets: Sets = ((dotted(("functions", name, "instance_floor")), str(floor)),)
        saves = ctx.saving(sets)
        price = "" if saves is None else f"; a floor of {floor} costs {ctx.money(max(-saves, Decimal(0)))} a month"
        yield Noticed(
            dotted(("functions", name, "releases")),
            f"after {len(times)} releases {more:,} more calls wait for a cold start than without ({cold:,} in all)",
            f"callers wait about {function.cold_start.mean * plan.cold_start_factor / 1e9:,.2f} s more{price}",
            sets,
            saves,
            promises=("cold_calls",),
            dearer=True,
        )


@rule(
    "W05",
    "warning",
    "an outside service that nobody uses",
    "It has a price and no use: a leftover, or a function lacks its `uses`.",
    cites="8.6",
)
def unused_service(ctx: Context) -> Iterator[Noticed]:
    """Outside services that no function names."""
    used = {use.what for function in ctx.model.functions.values() for use in function.uses}
    for name in ctx.model.outside:
        if name not in used:
            yield Noticed(
                dotted(("outside", name)),
                "no function uses it",
                "its cost is nowhere in the bill",
                ((dotted(("outside", name)), ""),),
            )


@rule(
    "C07",
    "warning",
    "paying an outside service for attempts that fail",
    "A use counted by the attempt is paid again by every retry, whether or not anything came of it.",
    cites="8.6",
)
def paid_retries(ctx: Context) -> Iterator[Noticed]:
    """Uses by the attempt of functions whose attempts fail or are repeated."""
    for name, function in ctx.model.functions.items():
        units = ctx.units(name)
        started, served = sum(u.started_items for u in units), sum(u.served for u in units)
        for n, use in enumerate(function.uses):
            if use.on != "attempt" or not started or started - served < max(1, started // 1_000):
                continue
            service = ctx.model.outside[use.what]
            wasted = Decimal(repr(use.each)) * (started - served) * service.unit / service.per
            if wasted < Decimal("0.01"):
                continue
            yield Noticed(
                dotted(("functions", name, "uses", str(n))),
                f"{percent((started - served) / started)} of the {started:,} events of its attempts came to nothing",
                f"{wasted:,.2f} {service.currency or ctx.currency} a month for {use.what} that nobody got anything from",
                ((dotted(("functions", name, "uses", str(n), "on")), "handled"),),
                promises=("cost",),
            )
