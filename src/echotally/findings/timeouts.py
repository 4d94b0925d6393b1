"""Findings about timeouts: runs that are cut, timeouts no plan keeps or that hide a hung call."""

from __future__ import annotations

from collections.abc import Iterator

from echotally.findings.changes import nice_duration, percent
from echotally.findings.context import Context
from echotally.findings.rule import Noticed, Sets, rule
from echotally.model.addresses import dotted
from echotally.model.sources import SourceKind
from echotally.model.units import duration_ns, duration_text
from echotally.projection.totals import totals_of
from echotally.rates.unit_settings import run_ns, share_longer

#: Share of runs cut from which it is worth a word.
_CUT = 0.001
#: A timeout this many times the 99th percentile hides a call that hangs.
_FAR = 30
#: Share of the timeout a full batch may take before one slow run cuts it.
_NEAR = 0.8


@rule(
    "T01",
    "warning",
    "runs are cut by the timeout",
    "A run that is cut is billed to the timeout and does nothing; its events come back or are lost.",
    cites="3.3",
)
def cut(ctx: Context) -> Iterator[Noticed]:
    """Share of runs that timed out in the month as it was played; the change is the first longer timeout that cuts none."""
    for name, function in ctx.model.functions.items():
        totals, plan = ctx.totals(name), ctx.plan(name)
        started, timed_out = totals.started, _cut_anyway(ctx, name, totals.attempts["timed_out"])
        if not started or timed_out < _CUT * started:
            continue
        limit = min(function.timeout, plan.timeout_limit or function.timeout)
        sets = _longer(ctx, name, limit, plan.timeout_limit)
        yield Noticed(
            dotted(("functions", name, "timeout")),
            f"{timed_out:,} of {started:,} runs ({percent(timed_out / started)}) take longer than {duration_text(limit)}",
            f"{timed_out:,} attempts timed out in the month",
            sets,
            promises=("timed_out",),
        )


def _cut_anyway(ctx: Context, name: str, timed_out: int) -> int:
    """Runs cut without incidents that make runs longer: what hangs is not mended by a longer timeout."""
    hanging = [
        n
        for n, i in enumerate(ctx.model.incidents)
        if (i.run is not None or (i.run_times or 0) > 1) and (i.functions is None or name in i.functions)
    ]
    if not timed_out or not hanging:
        return timed_out
    without = ctx.trial(tuple((f"incidents.{n}", "") for n in reversed(hanging)))
    return totals_of(without.units_of(name)).attempts["timed_out"] if without else timed_out


def _longer(ctx: Context, name: str, now: int, most: int | None) -> Sets:
    """A longer timeout, no longer than the plan allows, under which hardly a run is cut; else the longest allowed, if it helps."""
    tried: list[Sets] = []
    for times in (1.5, 2, 3, 5, 10, 20, 50):
        wanted = nice_duration(times * now)
        if most is not None and duration_ns(wanted) > most:
            break
        sets: Sets = ((dotted(("functions", name, "timeout")), wanted),)
        tried.append(sets)
        played = ctx.trial(sets)
        if played is None:
            continue
        totals = totals_of(played.units_of(name))
        if totals.attempts["timed_out"] <= _CUT / 10 * totals.started:
            return sets
    if ctx.too_large and tried:
        return tried[min(1, len(tried) - 1)]
    return tried[-1] if tried else ()


@rule(
    "T02",
    "hint",
    "the timeout is above a plan's limit",
    "The plan cannot take the function, though its runs may be far shorter than the timeout asked for.",
    cites="6.7",
)
def above_the_plan(ctx: Context) -> Iterator[Noticed]:
    """Timeouts that shut the function out of plans it would fit."""
    for name, function in ctx.model.functions.items():
        items = max((ctx.model.items_of(t) for _, t in ctx.triggers(name)), default=1)
        shut = [
            (offer.name, limit)
            for offer in ctx.loaded.offers.values()
            if (limit := offer.plan.timeout_limit) is not None
            and function.timeout > limit
            and offer.plan.available is True
            and share_longer(function, offer.plan, limit, items) < _CUT
        ]
        if shut:
            plan, limit = max(shut, key=lambda s: s[1])
            names = ", ".join(name for name, _ in shut)
            yield Noticed(
                dotted(("functions", name, "timeout")),
                f"{duration_text(function.timeout)} is above the limit of {names}, yet fewer than 1 run in 1,000 needs "
                f"more than {duration_text(limit)}",
                f"{len(shut)} plan(s) cannot be chosen",
                ((dotted(("functions", name, "timeout")), duration_text(limit)),),
            )


@rule(
    "T03",
    "hint",
    "the timeout is far above any run",
    "A call that hangs, on a dead connection say, is billed to the timeout before anybody knows.",
    cites="3.3",
)
def far_above(ctx: Context) -> Iterator[Noticed]:
    """Timeout many times the longest run of the month as it was played."""
    for name, function in ctx.model.functions.items():
        units = ctx.units(name)
        longest, started = max((u.longest_run_ns for u in units), default=0), sum(u.started for u in units)
        # How long a call that asks may take is not told by its own run.
        if not started or function.timeout < _FAR * longest or function.asks:
            continue
        mean = sum(u.busy_ns for u in units) / started
        good = function.timeout / mean if mean else float("inf")
        wanted = nice_duration(max(5 * longest, 10**9))
        if duration_ns(wanted) >= function.timeout:
            continue
        yield Noticed(
            dotted(("functions", name, "timeout")),
            f"{duration_text(function.timeout)}, while the longest of {started:,} runs took {longest / 1e9:,.2f} s",
            f"one hung call is billed like {good:,.0f} good ones",
            ((dotted(("functions", name, "timeout")), wanted),),
        )


@rule(
    "T06",
    "warning",
    "a scheduled run comes near its timeout",
    "A few more items, or a slow day, and the whole run is cut: all of its work is lost at once.",
    cites="3.3",
)
def run_nears(ctx: Context) -> Iterator[Noticed]:
    """The longest run of a firing above 80 % of the timeout, though none is cut yet."""
    for name, function in ctx.model.functions.items():
        totals, plan = ctx.totals(name), ctx.plan(name)
        longest = totals.longest_run_ns
        limit = min(function.timeout, plan.timeout_limit or function.timeout)
        fired = [t for _, t in ctx.triggers(name) if t.from_.kind is SourceKind.SCHEDULES]
        if not fired or not _NEAR * limit < longest <= limit or totals.attempts["timed_out"]:
            continue
        items = max(ctx.model.schedules[t.from_.name].items for t in fired)
        wanted = nice_duration(max(2 * longest, 1.5 * limit))
        fits = plan.timeout_limit is None or duration_ns(wanted) <= plan.timeout_limit
        yield Noticed(
            dotted(("functions", name, "timeout")),
            f"a run takes {longest / 1e9:,.1f} s of the {duration_text(limit)} allowed for {items:,} items",
            f"{percent(limit / longest - 1)} more of it and every such run is cut",
            ((dotted(("functions", name, "timeout")), wanted),) if fits else (),
        )


@rule(
    "T04",
    "warning",
    "an endpoint's timeout is above the gateway's wait",
    "The gateway gives up first: the caller gets an error while the run goes on and is billed.",
    cites="3.3",
)
def above_the_gateway(ctx: Context) -> Iterator[Noticed]:
    """Timeout of a function behind an endpoint above the plan's gateway_wait."""
    for name, function in ctx.model.functions.items():
        wait = ctx.plan(name).gateway_wait
        if wait is None or function.timeout <= wait:
            continue
        if any(t.from_.kind is SourceKind.ENDPOINTS for _, t in ctx.triggers(name)):
            share = share_longer(function, ctx.plan(name), wait)
            yield Noticed(
                dotted(("functions", name, "timeout")),
                f"{duration_text(function.timeout)}, but the gateway of {ctx.placement[name].name} waits only {duration_text(wait)}",
                f"{percent(share)} of runs would be billed for an answer nobody gets",
                ((dotted(("functions", name, "timeout")), duration_text(wait)),),
            )


@rule(
    "T05",
    "warning",
    "a full batch nears the timeout",
    "One slow run in a full batch is cut, and the whole batch comes back.",
    cites="3.1",
)
def batch_nears(ctx: Context) -> Iterator[Noticed]:
    """p99 of a full batch above 80 % of the timeout while a smaller batch is safe."""
    for name, function in ctx.model.functions.items():
        plan = ctx.plan(name)
        slow = function.run.quantile(0.99)
        for number, trigger in ctx.triggers(name):
            room = _NEAR * function.timeout
            if trigger.batch < 2 or not function.per_item or run_ns(function, plan, slow, trigger.batch) <= room:
                continue
            one = run_ns(function, plan, slow, 1) - run_ns(function, plan, slow, 0)
            safe = int((room - run_ns(function, plan, slow, 0)) / one) if one else 0
            if safe >= 1:
                yield Noticed(
                    f"triggers.{number}.batch",
                    f"a slow batch of {trigger.batch} runs {run_ns(function, plan, slow, trigger.batch) / 1e9:,.1f} s of "
                    f"the {duration_text(function.timeout)} allowed; the largest safe batch is {safe}",
                    "whole batches are handled again",
                    ((f"triggers.{number}.batch", str(safe)),),
                )
