"""A projection as JSON, exactly as design section 6 lays it out."""

from __future__ import annotations

import json
from collections.abc import Sequence
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

from echotally.engine.reading import UnitMeasured
from echotally.engine.sketch import Level
from echotally.output.model.checked import values_in_force
from echotally.output.projection.replications_view import replications_dict
from echotally.projection.answer import (
    Edge,
    IncidentEffect,
    PlanProjection,
    PlayedPlan,
    Projection,
    RefusedPlan,
    Said,
    SoFar,
    allowances_used,
)
from echotally.projection.bills import Bill, merged_lines
from echotally.projection.confidence import Confidence
from echotally.projection.outcomes import cost_per_call
from echotally.projection.replicate import Replicated
from echotally.projection.showback import showback, splits_of
from echotally.projection.totals import totals_of
from echotally.projection.verdict import Check
from echotally.rates.billing import exact
from echotally.rates.card import Price


def amount_text(amount: Decimal) -> str:
    """Money with six decimals, as lines and shares are shown."""
    return f"{amount.quantize(Decimal('0.000001'), ROUND_HALF_UP, context=exact()):f}"


def _level(level: Level) -> dict[str, Any]:
    return {"mean": level.mean, "p95": level.p95, "p99": level.p99, "peak": level.peak}


def _unit(plan: PlayedPlan, unit: UnitMeasured) -> dict[str, Any]:
    instances = unit.instances
    return {
        "function": unit.unit.function,
        "environment": unit.unit.environment,
        "plan": unit.unit.offer.name,
        "events": {**unit.events, "duplicates": unit.duplicates},
        "calls": unit.calls,
        "attempts": unit.attempts,
        "throttled_share": unit.throttled_share,
        "cold_starts": unit.cold_starts,
        "concurrency": _level(unit.concurrency),
        "instances": {
            "mean": instances.mean,
            "p95": instances.p95,
            "peak": instances.peak,
            "limit": unit.instance_limit,
            "hours_at_limit": unit.at_limit_ns / 3.6e12,
        },
        "wait_s": {"p50": unit.waits.p50, "p95": unit.waits.p95, "p99": unit.waits.p99, "max": unit.waits.max},
        "latency_s": {
            "p50": unit.latency.p50,
            "p95": unit.latency.p95,
            "p99": unit.latency.p99,
            "max": unit.latency.max,
        },
        "latency_ms": None if unit.answers.p50 is None else _answers(unit),
        "cold_share": None if unit.answers.p50 is None else unit.cold_share,
        "lag_s": None if unit.lag_max_s is None else {"p95": unit.lag_p95_s, "max": unit.lag_max_s},
        "backlog_peak": unit.backlog_peak,
        "left_behind": totals_of([unit]).left_behind_share,
        "billed_s": unit.time_billed_ns / 1e9,
        "gb_seconds": unit.gb_seconds,
        "cost": amount_text(plan.bill.functions[unit.key]),
        "cost_per_call": _per_call(plan, unit),
    }


def _per_call(plan: PlayedPlan, unit: UnitMeasured) -> dict[str, str] | None:
    """What one call costs, nine decimals: calls are cheap."""
    found = cost_per_call(plan.bill, unit)
    if found is None:
        return None
    mean, p95 = (each.quantize(Decimal("1e-9"), ROUND_HALF_UP, context=exact()) for each in (found.mean, found.p95))
    return {"mean": f"{mean:f}", "p95": f"{p95:f}"}


def _answers(unit: UnitMeasured) -> dict[str, float]:
    """From asking to the answer, of handled requests, ms."""
    return {name: 1e3 * (getattr(unit.answers, name) or 0.0) for name in ("p50", "p95", "p99")}


def _by(plan: PlayedPlan, billed_on: str, meter: str) -> dict[str, float]:
    """A line's quantity by function and environment, over all accounts; what belongs to no function is left out."""
    found: dict[str, float] = {}
    for account, meters in plan.metered.quantities.items():
        for unit, quantity in meters.get(meter, {}).items() if account[1] == billed_on else ():
            if unit is not None:
                name = f"{unit[0]}@{unit[1]}"
                found[name] = found.get(name, 0.0) + float(quantity)
    return found


def _check(check: Check) -> dict[str, Any]:
    part = {} if check.by is None else {"by": check.by, "value": check.value}
    return {"target": check.target, "function": check.function, **part, "wanted": check.wanted, "found": check.found}


def _confidence(sure: Confidence) -> dict[str, Any]:
    """Every interval, as pairs of low and high."""
    return {
        "level": sure.level,
        "cost": list(sure.cost),
        "throttled_share": list(sure.throttled_share),
        "refused": list(sure.refused),
        "lost": list(sure.lost),
        "left_behind": list(sure.left_behind),
        "functions": [
            {
                "function": f.function,
                "environment": f.environment,
                "wait_p95": None if f.wait_p95 is None else list(f.wait_p95),
                "left_behind": list(f.left_behind),
            }
            for f in sure.functions
        ],
        "untold": list(sure.untold),
    }


#: The keys of a plan, in the order they are written; what is not known of a refused plan is null.
_KEYS = (
    "plan",
    "feasible",
    "reasons",
    "meets_targets",
    "misses",
    "undecided",
    "cost",
    "attempts",
    "throttled_share",
    "concurrency",
    "hints",
    "method",
    "confidence",
    "allowances",
    "left_behind",
    "functions",
)


def _plan(plan: PlanProjection) -> dict[str, Any]:
    known = _refused(plan) if isinstance(plan, RefusedPlan) else _played(plan)
    head = {
        "plan": plan.offer.name,
        "feasible": plan.feasible,
        "meets_targets": plan.meets_targets,
        "method": plan.method,
    }
    return dict.fromkeys(_KEYS) | {"misses": [], "undecided": [], "hints": [], "reasons": []} | head | known


def _refused(plan: RefusedPlan) -> dict[str, Any]:
    return {"reasons": _said(plan.reasons)}


def _said(texts: Sequence[Said]) -> list[dict[str, str]]:
    return [{"function": name, "text": text} for name, text in texts]


def _played(plan: PlayedPlan) -> dict[str, Any]:
    return {
        "misses": [_check(m) for m in plan.misses],
        "undecided": [_check(m) for m in plan.undecided],
        "hints": _said(plan.hints),
        "confidence": plan.confidence and _confidence(plan.confidence),
        "cost": {
            "total": f"{plan.bill.total:f}",
            "lines": _lines(plan, plan.bill),
            "idle": amount_text(plan.bill.idle),
            "when_nothing_runs": None if plan.when_idle is None else f"{plan.when_idle.total:f}",
        },
        "attempts": plan.totals.attempts,
        "throttled_share": plan.totals.throttled_share,
        "left_behind": plan.totals.left_behind_share,
        "concurrency": _level(plan.measured.concurrency),
        "functions": [_unit(plan, unit) for unit in plan.units],
        "allowances": _allowances(plan),
        **({} if plan.edges is None else {"edges": [_edge(edge) for edge in plan.edges]}),
        **({} if plan.so_far is None else {"so_far": _so_far(plan.so_far)}),
        **({} if plan.incidents is None else {"incidents": [_incident(effect) for effect in plan.incidents]}),
    }


def _allowances(plan: PlayedPlan) -> list[dict[str, Any]]:
    """How much of each allowance is used; the demand at which it is used up where edges were looked for."""
    pinned = len({u.unit.offer.name for u in plan.measured.units} | {plan.offer.name}) > 1
    at = {edge.what: edge.reached_at_times for edge in plan.edges or () if edge.kind == "allowance"}
    return [
        {
            **({"plan": each.plan} if pinned else {}),
            "meter": each.meter,
            "used_share": each.used_share,
            "used_up_at_times": at.get(each.meter),
        }
        for each in allowances_used(plan)
    ]


def _edge(edge: Edge) -> dict[str, Any]:
    return {
        "kind": edge.kind,
        "what": edge.what,
        "function": edge.function,
        "used_share": edge.used_share,
        "reached_at_times": edge.reached_at_times,
        "reached_on": None if edge.reached_on is None else str(edge.reached_on),
    }


def _so_far(landing: SoFar) -> dict[str, Any]:
    """Where the month lands, amounts as text of six decimals."""
    target = landing.monthly_cost
    return {
        "until": str(landing.until),
        "billed": amount_text(landing.billed),
        "played_so_far": amount_text(landing.played_so_far),
        "lands": amount_text(landing.lands),
        "low": amount_text(landing.low),
        "high": amount_text(landing.high),
        "monthly_cost": None if target is None else f"{target:f}",
        "passed_on": None if landing.passed_on is None else str(landing.passed_on),
        "days": [{"day": str(day), "cost": amount_text(cost)} for day, cost in landing.days],
        "notes": list(landing.notes),
    }


def _incident(effect: IncidentEffect) -> dict[str, Any]:
    """What one incident made of the month, and what would have helped."""
    helped = effect.helped
    return {
        "name": effect.name,
        "cost": amount_text(effect.cost),
        "left_behind": effect.left_behind,
        "wait_p95": effect.wait_p95_s,
        "would_have_helped": helped
        and {"set": dict(helped.sets), "cost": amount_text(-helped.saved), "left_behind_events": -helped.served},
    }


def _lines(plan: PlayedPlan, bill: Bill) -> list[dict[str, Any]]:
    """The bill's lines; each names its plan where functions are pinned to others."""
    offers = {u.unit.offer.name for u in plan.measured.units}
    pinned = offers != {plan.offer.name}
    return [
        {
            **({"plan": line.plan} if pinned else {}),
            "meter": line.meter,
            "quantity": float(line.quantity),
            "allowance": float(line.allowance),
            "billable": float(line.billable),
            "amount": amount_text(line.amount),
            **({} if line.lost is None else {"lost": amount_text(line.lost)}),
            "by": _by(plan, line.plan, line.meter),
        }
        for line in merged_lines(bill)
    ]


def projection_dict(projection: Projection) -> dict[str, Any]:
    """The projection as plain data (schema ``echotally-projection/1``)."""
    hours = projection.month.clock.hours
    return {
        "schema": "echotally-projection/1",
        "estate": projection.model.estate.name,
        "month": projection.model.estate.month,
        "hours": int(hours) if hours == int(hours) else hours,
        "seed": projection.seed,
        "currency": projection.currency,
        "pick": projection.pick,
        "closest": projection.closest,
        "plans": [_plan(plan) for plan in projection.plans],
        "notes": list(projection.notes),
        "inputs": {"model": dict(values_in_force(projection.model)), "cards": _cards(projection)},
    }


def _cards(projection: Projection) -> dict[str, Any]:
    """What each plan charges, as on its card: prices and allowances by meter, for ``compare``."""
    offers = {plan.offer.name: plan.offer for plan in projection.plans}
    for played in projection.played:
        offers |= {u.unit.offer.name: u.unit.offer for u in played.measured.units}
    return {
        name: {
            "prices": {meter: _price(price) for meter, price in offer.plan.prices().items()},
            "allowance": {meter: f"{Decimal(free):f}" for meter, free in offer.plan.allowance.items()},
        }
        for name, offer in offers.items()
    }


def _price(price: Price) -> dict[str, Any]:
    tiers = [{"unit": f"{tier.unit:f}"} | ({"up_to": tier.up_to} if tier.up_to else {}) for tier in price.steps()]
    return {"per": price.per, "tiers": tiers} | ({"volume": True} if price.volume else {})


def projection_json(projection: Projection, by: str | None = None, replicated: Replicated | None = None) -> str:
    """The projection as JSON text; ``by`` adds each plan's cost split that way, ``replicated`` the intervals."""
    data = projection_dict(projection)
    if by:
        splits = splits_of(by)
        for plan, shown in zip(projection.plans, data["plans"], strict=True):
            shares = showback(projection.model, plan, by) if isinstance(plan, PlayedPlan) else []
            shown["showback"] = [
                {**dict(zip(splits, s.labels, strict=True)), "events": s.events, "cost": amount_text(s.cost)}
                for s in shares
            ]
    if replicated:
        data["replications"] = replications_dict(replicated)
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"
