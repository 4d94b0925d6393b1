"""Findings about money: idle cost, copies, open endpoints, waiting that is paid for, allowances, tags."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator
from decimal import Decimal, localcontext

from echotally.findings.changes import rewired
from echotally.findings.context import Context
from echotally.findings.rule import Noticed, Sets, rule
from echotally.model.addresses import dotted
from echotally.model.sources import SourceKind, SourceRef
from echotally.projection.bills import merged_lines
from echotally.projection.when_idle import bill_when_idle
from echotally.rates.billing import exact
from echotally.rates.commitments import commit
from echotally.rates.feasibility import reasons_against
from echotally.rates.unit_settings import unit_settings

_CENT = Decimal("0.01")


@rule(
    "C01",
    "hint",
    "most of the bill is due when nothing runs",
    "Take-down is the step people forget: this part of the bill comes whether anything happens or not.",
    cites="6.3",
)
def idle(ctx: Context) -> Iterator[Noticed]:
    """Standing cost of at least half the bill."""
    if ctx.base is None or not ctx.total:
        return
    bill = bill_when_idle(ctx.loaded, ctx.offer)
    if bill.unrounded < ctx.total / 2 or bill.unrounded < 1:
        return
    parts = sorted(((line.amount, line.meter) for line in merged_lines(bill) if line.amount), reverse=True)
    # The three largest are most of it; the bill has the rest.
    listed = ", ".join(f"{meter} {amount:,.2f}" for amount, meter in parts[:3])
    sets = _take_down(ctx, parts[0][1])
    yield Noticed(
        "estate",
        f"{ctx.money(bill.unrounded)} of {ctx.money(ctx.total)} a month is due when nothing runs ({listed})",
        f"{bill.unrounded / ctx.total * 100:.0f} % of the bill",
        sets,
        ctx.saving(sets) if sets else None,
    )


def _take_down(ctx: Context, meter: str) -> Sets:
    """One change that takes the largest idle cost down: partitions, floors, a copy, else another plan."""
    model = ctx.model
    if meter == "stream_partition_hours":
        wide = max(model.streams, key=lambda name: model.streams[name].partitions)
        if model.streams[wide].partitions > 1:
            return ((dotted(("streams", wide, "partitions")), str(model.streams[wide].partitions // 2)),)
    floors = [name for name, f in model.functions.items() if f.instance_floor]
    if floors and ("idle" in meter or "allocated" in meter or meter == "instance_hours"):
        most = max(floors, key=lambda n: model.functions[n].instance_floor)
        return ((dotted(("functions", most, "instance_floor")), "0"),)
    # The first environment is the one that the estate is for.
    copies = list(model.environments)[1:]
    if copies:
        return ((dotted(("environments", copies[-1])), ""),)
    streams = (
        [SourceRef.of(SourceKind.STREAMS, name) for name in model.streams] if meter == "stream_partition_hours" else []
    )
    by_queue = next((sets for stream in streams if (sets := rewired(ctx, stream, SourceKind.QUEUES))), ())
    return by_queue or _elsewhere(ctx)


def _elsewhere(ctx: Context) -> Sets:
    """Every function on the plan that costs least when nothing runs, if another one takes them all and does not cost more."""
    fits = [
        offer
        for offer in ctx.loaded.offers.values()
        if offer.name != ctx.offer.name
        and not any(reasons_against(ctx.model, name, offer.plan) for name in ctx.model.functions)
    ]
    if not fits:
        return ()
    least = min(fits, key=lambda offer: bill_when_idle(ctx.loaded, offer).unrounded)
    # With pins the month on another plan has not been played as it would be without them.
    pinned = any(function.plan for function in ctx.model.functions.values())
    played = ctx.on_plans.get(least.name) if not pinned else None
    if played and played.cost > ctx.total:
        return ()
    sets = tuple((dotted(("functions", name, "plan")), least.name) for name in ctx.model.functions)
    if not pinned:
        ctx.is_on_plan(sets, least.name)
    return sets


@rule(
    "C02",
    "warning",
    "a copy of the estate costs more than a fifth of the first",
    "A copy for trying things out has little demand, but its schedules, partitions and polls cost in full.",
    cites="6.4",
)
def dear_copy(ctx: Context) -> Iterator[Noticed]:
    """Environments after the first, by cost."""
    bill = ctx.base.bill if ctx.base else None
    if bill is None:
        return
    costs: dict[str, Decimal] = dict.fromkeys(ctx.model.environments, Decimal(0))
    for (_, environment), cost in bill.functions.items():
        costs[environment] += cost
    (live, full), *copies = costs.items()
    for name, cost in copies:
        if cost > full / 5 and cost >= _CENT:
            sets: Sets = ((dotted(("environments", name)), ""),)
            yield Noticed(
                dotted(("environments", name)),
                f"costs {ctx.money(cost)} for {ctx.model.environments[name].demand:g} x the demand; {live} costs {ctx.money(full)}",
                f"{cost / full * 100:.0f} % of {live}" if full else "all of the cost",
                sets,
                ctx.saving(sets),
            )


@rule(
    "C03",
    "hint",
    "an open endpoint",
    "Anyone can call it. Without a limit of its own only the account's stops a storm, and the storm is billed.",
    cites="6.6",
)
def open_endpoint(ctx: Context) -> Iterator[Noticed]:
    """Endpoints whose function has no instance limit, with ten and a hundred times the traffic."""
    asked = {into for function in ctx.model.functions.values() for into in function.feeds}
    open_to_all = {demand.into for demand in ctx.model.demand.values()}
    for trigger in ctx.model.triggers:
        function = ctx.model.functions[trigger.to]
        units = ctx.units(trigger.to)
        if trigger.from_.kind is not SourceKind.ENDPOINTS or function.instance_limit is not None or not units:
            continue
        if trigger.from_ in asked and trigger.from_ not in open_to_all:
            # Only functions of the estate ask it: it is as open as those are.
            continue
        plan, now = ctx.plan(trigger.to), ctx.cost(trigger.to)
        if plan.bills in ("reserved", "nodes"):
            continue
        parallel, run_s = ctx.parallel(trigger.to), ctx.run_s(trigger.to)
        if plan.instance_limit is not None and parallel == plan.instance_limit * function.slots:
            cap = "the plan's instance limit"
        else:
            cap = "the account's concurrency limit" if parallel < math.inf else "nothing"
        most = f"at {parallel / run_s:,.0f} a second" if parallel < math.inf and run_s else "at no rate"
        # Twice the highest there was leaves a usual day alone and stops a storm.
        peak = max(u.instances.peak for u in units)
        yield Noticed(
            dotted(("functions", trigger.to)),
            f"{trigger.from_} is open and {trigger.to} has no instance limit: ten times the traffic costs about {ctx.money(10 * now)}, "
            f"a hundred times {ctx.money(100 * now)}; {cap} stops it {most}",
            f"{ctx.money(9 * now)} to {ctx.money(99 * now)} a month more",
            ((dotted(("functions", trigger.to, "instance_limit")), str(max(1, 2 * peak))),),
        )


@rule(
    "C04",
    "hint",
    "waiting is paid for by the call",
    "A run that mostly waits leaves its CPU idle; several calls in one instance would share what the wait costs.",
    cites="6.2",
)
def paid_waiting(ctx: Context) -> Iterator[Noticed]:
    """Low CPU share, long run, one slot, on a plan that sells slots: played with more of them."""
    for name, function in ctx.model.functions.items():
        plan = ctx.plan(name)
        if function.cpu_share > 0.25 or function.slots > 1 or ctx.run_s(name) < 0.2 or plan.bills == "reserved":
            continue
        settings = unit_settings(function, plan)
        room = settings.vcpu / (settings.cpu_part * settings.vcpu_used) if function.cpu_share else 10.0
        slots = int(min(10, room, plan.slots_limit or 10))
        sets: Sets = ((dotted(("functions", name, "slots")), str(slots)),)
        saves = ctx.saving(sets) if slots > 1 else None
        if saves is not None and saves >= max(_CENT, ctx.total / 200):
            yield Noticed(
                dotted(("functions", name, "slots")),
                f"{(1 - function.cpu_share) * 100:.0f} % of a run of {ctx.run_s(name):,.2f} s is waiting, one call an instance",
                f"saves {ctx.money(saves)} a month",
                sets,
                saves,
            )


@rule(
    "C05",
    "hint",
    "an allowance is about to be crossed",
    "What was free until now is billed from the next unit on.",
    cites="6.5",
)
def near_allowance(ctx: Context) -> Iterator[Noticed]:
    """Between 80 % and all of an allowance used. There is nothing to change, only something to know."""
    bill = ctx.base.bill if ctx.base else None
    for line in bill.lines if bill else ():
        offer = ctx.loaded.offers.get(line.plan)
        # An outside service belongs to no plan.
        free = offer.plan.allowance.get(line.meter, 0) if offer else 0
        if not free or not Decimal("0.8") * free <= line.quantity <= free:
            continue
        yield Noticed(
            f"plans.{line.plan}.allowance.{line.meter}",
            f"{line.quantity:,.0f} of {free:,} free {line.meter} are used ({line.quantity / free * 100:.0f} %)",
            f"free until demand grows by {(free / line.quantity - 1) * 100:.0f} %",
            (),
        )


@rule(
    "C06",
    "hint",
    "a function without a tag that others have",
    "Its cost goes to nobody when the bill is split by that tag.",
    cites="6.6",
)
def untagged(ctx: Context) -> Iterator[Noticed]:
    """Tags that most functions have and some lack."""
    functions = ctx.model.functions
    for tag, have in Counter(tag for f in functions.values() for tag in f.tags).items():
        if have * 2 < len(functions):
            continue
        # A value to begin with; whose it is the reader knows.
        common = Counter(f.tags[tag] for f in functions.values() if tag in f.tags).most_common(1)[0][0]
        for name, function in functions.items():
            if tag not in function.tags:
                yield Noticed(
                    dotted(("functions", name)),
                    f"has no tag '{tag}', which {have} of {len(functions)} functions have",
                    f"{ctx.money(ctx.cost(name))} a month belong to nobody",
                    ((dotted(("functions", name, "tags", tag)), common),),
                )


@rule(
    "C08",
    "warning",
    "a commitment costs more than it saves",
    "What no usage takes of a prepaid hour is lost; where much is, the discount does not make up for it.",
    cites="10.4",
)
def dear_commitment(ctx: Context) -> Iterator[Noticed]:
    """Commitments under which the month is dearer than without."""
    if ctx.base is None:
        return
    for (account, name), plan in ctx.base.metered.plans.items():
        with localcontext(exact()):
            found = commit(plan, ctx.base.metered.hours.get((account, name), []))
            dearer = found.amount - sum(found.covered.values(), Decimal(0)) if found else Decimal(0)
        if found is None or dearer < _CENT:
            continue
        # As an override of the card: commitments stand there and not in the model.
        card, _, short = name.partition(".")
        sets: Sets = ((dotted(("cards", card, "plans", short, "commitment", "per_hour")), '"0"'),)
        yield Noticed(
            "estate",
            f"{ctx.money(found.amount)} a month are prepaid on {name}, of which {ctx.money(found.lost)} are lost: usage they pay would cost"
            f" {ctx.money(found.amount - dearer)} without",
            f"{ctx.money(dearer)} a month; 'choose --commitment' says which amount is the cheapest",
            sets,
            ctx.saving(sets),
        )
