"""The verdict in words: what is left undone, which plan, why, how sure, and what would change it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import timedelta

from echotally.errors import safe
from echotally.model.units import duration_text
from echotally.output.base.terminal import count, money, percent_difference, percent_more, seconds
from echotally.projection.answer import PlayedPlan, Projection, SoFar
from echotally.projection.trouble import Loss, Pile, losses, piles
from echotally.projection.verdict import Check

_SHARES = {"throttled": "throttled", "refused": "refused", "left_behind": "left behind"}
_SECONDS = {"wait_p95": "wait p95", "latency_p95": "latency p95"}
#: Losses named in the first lines; the tables have all.
_MOST_SAID = 3
#: Attempts an exact month plays a second, about: only for saying how long it would take.
_PLAYED_PER_S = 3_000_000


def check_text(check: Check, currency: str) -> str:
    """A target in words, with what was found (and its interval, where it is an estimate) and what was wanted."""
    who = f"{check.function}: " if check.function else ""
    if check.by is not None:
        who = f"{check.by.removeprefix('tag:')} {check.value}: "
    found, wanted = _quantity(check, check.found), _wanted(check)
    between = ""
    if check.low is not None and check.high is not None and check.low < check.high:
        between = f", {_quantity(check, check.low)} to {_quantity(check, check.high)}"
    unit = {**dict.fromkeys(_SECONDS, " s"), "monthly_cost": f" {currency}", "lost": " events"}.get(check.target, " %")
    name = {**_SHARES, **_SECONDS, "monthly_cost": "cost"}.get(check.target, check.target)
    more = " %" if check.target in _SHARES else " s" if check.target in _SECONDS else ""
    return f"{who}{name} {found}{unit}{between} (target {wanted}{more})"


def _wanted(check: Check) -> str:
    """A target as it was written: no more digits than that."""
    if check.target in _SHARES:
        return f"{check.wanted * 100:g}"
    return f"{check.wanted:g}" if check.target in _SECONDS else _quantity(check, check.wanted)


def _quantity(check: Check, value: float) -> str:
    if check.target in _SHARES:
        share = value * 100
        # Two digits behind the point, or as many as it takes to see that a small share is not 0.
        return f"{share:.2f}" if share >= 0.01 or share == 0 else f"{share:.1g}"
    if check.target in _SECONDS:
        return seconds(value)
    return money(value) if check.target == "monthly_cost" else count(value)


def landing_lines(landing: SoFar, currency: str) -> list[str]:
    """Where a month lands that is billed in part, beside the budget, and how the bill so far compares with the model."""
    low, high = money(landing.low), money(landing.high)
    between = f" ({low} to {high})" if low != high else ""
    said = f"Lands at {money(landing.lands)} {currency}{between}: {money(landing.billed)} billed before {landing.until}, the rest as played"
    target = landing.monthly_cost
    if target is None:
        lines = [f"{said}; the model sets no monthly_cost."]
    elif landing.passed_on:
        lines = [f"{said}. The budget of {money(target)} is passed on {landing.passed_on}."]
    else:
        left = "stays below" if landing.high <= target else "may be passed: the interval reaches above"
        lines = [
            f"{said}. The budget of {money(target)} {left}."
            if left != "stays below"
            else f"{said}. It stays below the budget of {money(target)}."
        ]
    if landing.played_so_far:
        lines.append(
            f"So far the bill is {percent_difference(landing.billed, landing.played_so_far)} what the model says of those days"
            " (reconcile --until says why)."
        )
    return lines + [f"Note: {note}." for note in landing.notes]


def verdict_lines(projection: Projection) -> list[str]:
    """What piles up and what is lost on the plan shown, then the pick and what speaks for it, or the closest plan."""
    shown = projection.best
    if shown is not None and shown.so_far is not None:
        trouble = trouble_lines(projection, shown)
        misses = (f"It misses {check_text(miss, projection.currency)}." for miss in shown.misses)
        return [
            f"{shown.offer.name}, {projection.model.estate.month}.",
            *landing_lines(shown.so_far, projection.currency),
            *trouble,
            *misses,
        ]
    before = list(trouble_lines(projection, shown)) if shown else []
    first = 1 if _piling(projection) else 0
    return [
        *before[:first],
        headline(projection),
        *not_played([plan.offer.name for plan in projection.unplayed]),
        *before[first:],
        *_reasons(projection),
    ]


def not_played(plans: Sequence[str]) -> Iterator[str]:
    """That it is not known of some plans what they would come to."""
    if plans:
        names, were = ", ".join(map(safe, plans)), "was" if len(plans) == 1 else "were"
        yield f"{names} {were} not played, and may cost less: even a sample of the month there is too large."


def headline(projection: Projection) -> str:
    """The verdict in one sentence."""
    best, currency = projection.best, projection.currency
    if best is None:
        return "No plan can take every function; the reasons are below."
    cost = money(best.bill.shown)
    if projection.pick:
        if best.undecided:
            return f"Pick {projection.pick}, undecided: {cost} {currency} a month{_between(best)}; no other plan surely meets every target."
        those = " of those played" if projection.unplayed else ""
        met = "meets every target" if has_targets(projection) else f"is the cheapest{those} that takes every function"
        return f"Pick {projection.pick}: {cost} {currency} a month{_between(best)}, {met}."
    played = " that was played" if projection.unplayed else ""
    return f"No plan{played} meets every target. Closest is {projection.closest}, {cost} {currency} a month{_between(best)}:"


def _between(plan: PlayedPlan) -> str:
    if plan.confidence is None:
        return ""
    low, high = plan.confidence.cost
    return f" ({money(low)} to {money(high)})"


def untold_text(plan: PlayedPlan) -> str:
    """That a sample does not tell how much a plan's functions get done."""
    names, more = ", ".join(safe(name) for name in plan.untold[:_MOST_SAID]), len(plan.untold) - _MOST_SAID
    others = f" and {more} more" if more > 0 else ""
    return (
        f"On {safe(plan.offer.name)} less gets done than comes to {names}{others}: how much less a sample does not tell, "
        f"--exact --plan {safe(plan.offer.name)} does."
    )


def refused_title(projection: Projection) -> str:
    """What stands over the plans without figures."""
    if len(projection.unplayed) == len(projection.refused):
        return "Not played"
    return "Cannot be used, or not played" if projection.unplayed else "Cannot be used"


def has_targets(projection: Projection) -> bool:
    """Whether the model sets a target of its own: the default for what is left behind is none."""
    model = projection.model
    own = [f.targets.model_fields_set for f in model.functions.values()]
    return bool(model.targets.model_fields_set or any(own))


def _piling(projection: Projection) -> bool:
    return projection.best is not None and bool(piles(projection.model, projection.best))


def trouble_lines(projection: Projection, plan: PlayedPlan) -> Iterator[str]:
    """What a plan's month leaves undone: piles first, then the worst losses."""
    for pile in piles(projection.model, plan)[:_MOST_SAID]:
        yield _pile_text(projection, pile)
    for loss in losses(plan)[:_MOST_SAID]:
        yield f"On {plan.offer.name}, {_loss_text(loss)}."
    if plan.untold:
        yield untold_text(plan)


def _loss_text(loss: Loss) -> str:
    return f"{count(loss.count)} of {count(loss.whole)} {safe(loss.function)} {loss.what} ({loss.share * 100:.3g} %)"


def _pile_text(projection: Projection, pile: Pile) -> str:
    clock = projection.month.clock
    when = f"{(clock.start + timedelta(hours=pile.until_hour)).astimezone(clock.zone):%d %B %H:%M}"
    start = f"{(clock.start + timedelta(hours=pile.since_hour)).astimezone(clock.zone):%d %B %H:%M}"
    name = (
        safe(pile.function)
        if len(projection.model.environments) == 1
        else safe(f"{pile.function} ({pile.environment})")
    )
    grows = f"{name}: work piles up by {count(pile.per_hour)} events an hour from {start}"
    if pile.until == "retention" and pile.retention_s is not None:
        kept = duration_text(int(pile.retention_s * 1e9))
        return f"{grows}, until what is oldest reaches the retention of {kept} on {when}; {count(pile.expired)} expire."
    return f"{grows} to the month's end, when {count(pile.left)} are left."


def _reasons(projection: Projection) -> Iterator[str]:
    best = projection.best
    if best is None:
        return
    if projection.pick:
        yield from _undecided(projection, best)
        yield from _beside(projection, best)
        yield from _sure(projection, best)
    else:
        yield from (f"  it misses {check_text(miss, projection.currency)}." for miss in best.misses)
        yield from _undecided(projection, best)


def _undecided(projection: Projection, plan: PlayedPlan) -> Iterator[str]:
    """What a sample cannot decide, and what would."""
    for check in plan.undecided:
        yield f"Undecided: {check_text(check, projection.currency)}."
    if plan.undecided:
        yield f"To settle it: --exact plays every event, about {_exact_time(plan)}; or a target further from what was found."


def _exact_time(plan: PlayedPlan) -> str:
    played = (plan.totals.attempts["total"] + plan.totals.events["in"]) / 2
    minutes = played / _PLAYED_PER_S / 60
    return "a minute" if minutes < 1.5 else f"{minutes:,.0f} minutes" if minutes < 90 else f"{minutes / 60:,.0f} hours"


def _beside(projection: Projection, best: PlayedPlan) -> Iterator[str]:
    """What stands in the way of the plans around the pick, and how far they are from taking its place."""
    others = [p for p in projection.played if p.offer.name != best.offer.name]
    costs = {p.offer.name: (p.bill.unrounded, p.bill.shown) for p in others}
    currency = projection.currency
    for plan in sorted(others, key=lambda p: (costs[p.offer.name][0], p.offer.name)):
        cost, shown = costs[plan.offer.name]
        if cost > best.bill.unrounded:
            continue
        if plan.misses:
            reasons = "; ".join(check_text(miss, currency) for miss in plan.misses)
            yield f"Why not {plan.offer.name}, {money(shown)}: it misses {reasons}. Without that it would be the pick."
        elif plan.undecided:
            reasons = "; ".join(check_text(check, currency) for check in plan.undecided)
            yield f"Why not {plan.offer.name}, {money(shown)}: undecided is {reasons}."
    meeting = sorted((costs[p.offer.name][0], p.offer.name) for p in others if p.meets_targets)
    if meeting:
        cost, name = meeting[0]
        rise = (
            f", {percent_more(cost, best.bill.unrounded)}" if best.bill.unrounded and cost > best.bill.unrounded else ""
        )
        yield f"Next is {name} at {money(costs[name][1])}{rise}: the pick changes if prices or volume move it past that."
    elif others:
        played = " that was played" if projection.unplayed else ""
        yield (
            f"No other plan{played} meets every target."
            if has_targets(projection)
            else "No other plan can be used without leaving work behind."
        )


def _sure(projection: Projection, best: PlayedPlan) -> Iterator[str]:
    if best.checks and has_targets(projection):
        tight = max(best.checks, key=lambda check: check.used)
        yield f"Tightest target: {check_text(tight, projection.currency)}."
