"""Findings about timeouts: runs that are cut, timeouts no plan keeps or that hide a hung call."""

from __future__ import annotations

from collections.abc import Iterator

from echotally.model.units import duration_text
from echotally.rates.settings import run_ns, share_longer
from echotally.studies.findings.base import Context, Noticed, batch_of, nice_duration, rule

#: Share of runs cut from which it is worth a word.
_CUT = 0.001
#: A timeout this many times the 99th percentile hides a call that hangs.
_FAR = 30
#: Share of the timeout a full batch may take before one slow run cuts it.
_NEAR = 0.8


@rule("T01", "warning", "runs are cut by the timeout",
      "A run that is cut is billed to the timeout and does nothing; its events come back or are lost.")  # fmt: skip
def cut(ctx: Context) -> Iterator[Noticed]:
    """Share of runs longer than the timeout."""
    for name, function in ctx.model.functions.items():
        plan = ctx.plan(name)
        limit = min(function.timeout, plan.timeout_limit or function.timeout)
        items = max((batch_of(function, t, ctx.model) for _, t in ctx.triggers(name)), default=1)
        share = share_longer(function, plan, limit, items)
        if share < _CUT:
            continue
        wanted = nice_duration(run_ns(function, plan, function.run.quantile(0.9999), items))
        timed_out = sum(u.attempts["timed_out"] for u in ctx.units(name))
        yield Noticed(
            f"functions.{name}.timeout",
            f"{share * 100:.2g} % of full calls take longer than {duration_text(limit)}",
            f"{timed_out:,} attempts timed out in the month", ((f"functions.{name}.timeout", wanted),),
        )  # fmt: skip


@rule("T02", "hint", "the timeout is above a plan's limit",
      "The plan cannot take the function, though its runs may be far shorter than the timeout asked for.")  # fmt: skip
def above_the_plan(ctx: Context) -> Iterator[Noticed]:
    """Timeouts that shut the function out of plans it would fit."""
    for name, function in ctx.model.functions.items():
        items = max((batch_of(function, t, ctx.model) for _, t in ctx.triggers(name)), default=1)
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
                f"functions.{name}.timeout",
                f"{duration_text(function.timeout)} is above the limit of {names}, yet fewer than 1 run in 1,000 needs "
                f"more than {duration_text(limit)}",
                f"{len(shut)} plan(s) cannot be chosen",
                ((f"functions.{name}.timeout", duration_text(limit)),),
            )


@rule("T03", "hint", "the timeout is far above any run",
      "A call that hangs, on a dead connection say, is billed to the timeout before anybody knows.")  # fmt: skip
def far_above(ctx: Context) -> Iterator[Noticed]:
    """Timeout many times p99."""
    for name, function in ctx.model.functions.items():
        items = max((batch_of(function, t, ctx.model) for _, t in ctx.triggers(name)), default=1)
        plan = ctx.plan(name)
        slow = run_ns(function, plan, function.run.quantile(0.99), items)
        if function.timeout < _FAR * slow:
            continue
        mean = run_ns(function, plan, function.run.mean, items)
        good = function.timeout / mean if mean else float("inf")
        yield Noticed(
            f"functions.{name}.timeout",
            f"{duration_text(function.timeout)}, while 99 runs in 100 end within {slow / 1e9:,.2f} s",
            f"one hung call is billed like {good:,.0f} good ones",
            ((f"functions.{name}.timeout", nice_duration(max(5 * slow, 10**9))),),
        )


@rule("T04", "warning", "an endpoint's timeout is above the gateway's wait",
      "The gateway gives up first: the caller gets an error while the run goes on and is billed.")  # fmt: skip
def above_the_gateway(ctx: Context) -> Iterator[Noticed]:
    """Timeout of a function behind an endpoint above the plan's gateway_wait."""
    for name, function in ctx.model.functions.items():
        wait = ctx.plan(name).gateway_wait
        if wait is None or function.timeout <= wait:
            continue
        if any(t.from_.startswith("endpoints.") for _, t in ctx.triggers(name)):
            share = share_longer(function, ctx.plan(name), wait)
            yield Noticed(
                f"functions.{name}.timeout",
                f"{duration_text(function.timeout)}, but the gateway of {ctx.placement[name].name} waits only {duration_text(wait)}",
                f"{share * 100:.2g} % of runs would be billed for an answer nobody gets",
                ((f"functions.{name}.timeout", duration_text(wait)),),
            )


@rule("T05", "warning", "a full batch nears the timeout",
      "One slow run in a full batch is cut, and the whole batch comes back.")  # fmt: skip
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
                    "whole batches are handled again", ((f"triggers.{number}.batch", str(safe)),),
                )  # fmt: skip
