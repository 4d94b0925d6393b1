"""The verdict in words: which plan, why, how sure, and what would change it."""

from __future__ import annotations

from collections.abc import Iterator

from echotally.output.terminal import seconds
from echotally.projection.project import PlanProjection, Projection
from echotally.projection.verdict import Check


def check_text(check: Check, currency: str) -> str:
    """A target in words, with what was found and what was wanted."""
    who = f"{check.function}: " if check.function else ""
    if check.target in ("throttled", "refused"):
        return f"{who}{check.target} {check.found * 100:.2f} % (target {check.wanted * 100:g} %)"
    if check.target == "wait_p95":
        return f"{who}wait p95 {seconds(check.found)} s (target {check.wanted:g} s)"
    if check.target == "monthly_cost":
        return f"cost {check.found:,.2f} {currency} (target {check.wanted:,.2f})"
    return f"{who}{check.target} {check.found:,.0f} events (target {check.wanted:,.0f})"


def verdict_lines(projection: Projection) -> list[str]:
    """The verdict: the pick and what speaks for it, or the closest plan and what it misses."""
    money = projection.currency
    if projection.pick:
        best = projection.plan(projection.pick)
        assert best.bill is not None
        met = "meets every target" if best.checks else "is the cheapest that takes every function"
        first = f"Pick {projection.pick}: {best.bill.total:,.2f} {money} a month, {met}."
        return [first, *_beside(projection, best), *_sure(projection, best)]
    if projection.closest:
        near = projection.plan(projection.closest)
        assert near.bill is not None
        return [
            f"No plan meets every target. Closest is {projection.closest}, {near.bill.total:,.2f} {money} a month:",
            *(f"  it misses {check_text(miss, money)}." for miss in near.misses),
        ]
    return ["No plan can take every function; the reasons are below."]


def _beside(projection: Projection, best: PlanProjection) -> Iterator[str]:
    """What stands in the way of the plans around the pick, and how far they are from taking its place."""
    assert best.bill is not None
    others = [p for p in projection.plans if p.bill and p.offer.name != best.offer.name]
    costs = {p.offer.name: p.bill.total for p in others if p.bill}
    money = projection.currency
    cheaper = sorted((costs[p.offer.name], p.offer.name, p) for p in others if p.misses)
    for cost, name, plan in cheaper:
        if cost <= best.bill.total:
            reasons = "; ".join(check_text(miss, money) for miss in plan.misses)
            yield f"Why not {name}, {cost:,.2f}: it misses {reasons}. Without that it would be the pick."
    meeting = sorted((costs[p.offer.name], p.offer.name) for p in others if not p.misses)
    if meeting:
        cost, name = meeting[0]
        rise = f", {(cost / best.bill.total - 1) * 100:,.0f} % more" if best.bill.total else ""
        yield f"Next is {name} at {cost:,.2f}{rise}: the pick changes if prices or volume move it past that."
    elif others:
        yield "No other plan meets every target."


def _sure(projection: Projection, best: PlanProjection) -> Iterator[str]:
    if best.checks:
        tight = max(best.checks, key=lambda check: check.used)
        yield f"Tightest target: {check_text(tight, projection.currency)}."
