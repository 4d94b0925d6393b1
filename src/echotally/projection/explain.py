"""From events to money for one function: each step with its formula and its numbers."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal, localcontext

from echotally.engine.reading import UnitMeasured
from echotally.errors import BadInput, Problem
from echotally.model.estate import Model
from echotally.model.units import duration_text, memory_text
from echotally.projection.answer import PlayedPlan
from echotally.rates.billing import Line, exact
from echotally.rates.card import Plan
from echotally.rates.meters import METERS

#: How each way to bill turns time into billed time (rule 6.1).
_BILLED = {
    "runs": "each attempt, {cold}up to {time}, at least {least}",
    "active": "each time an instance has calls, {cold}up to {time}, at least {least}",
    "allocated": "each instance from start to end, up to {time}, at least {least}",
    "reserved": "time with a run (paid by the month, whatever runs)",
    "nodes": "time with a run (paid by the node, whatever runs)",
}


#: Meters of compute; all others are told in rule 6.3.
_COMPUTE = (
    "calls",
    "gb_seconds",
    "vcpu_seconds",
    "instance_hours",
    "idle_gb_seconds",
    "idle_vcpu_seconds",
    "allocated_gb_seconds",
    "allocated_vcpu_seconds",
    "reserved_hours",
    "node_hours",
    "cluster_hours",
)
_RULES = dict.fromkeys(_COMPUTE, "6.2")


@dataclass(frozen=True)
class Step:
    """One step of the walk: what it is, how it comes about, what it comes to, and the rule of docs/rules.md that says so."""

    label: str
    formula: str
    result: str
    rule: str


def explain(model: Model, plan: PlayedPlan, function: str, environment: str | None = None) -> list[Step]:
    """The walk from events to cost of ``function`` in an environment (default: the file's first).

    Raises ``BadInput`` for a function or environment the model does not have.
    """
    environment = environment or next(iter(model.environments))
    unit = next(
        (u for u in plan.measured.units if (u.unit.function, u.unit.environment) == (function, environment)), None
    )
    if unit is None:
        known = ", ".join(model.functions) if function not in model.functions else ", ".join(model.environments)
        found = function if function not in model.functions else environment
        raise BadInput(Problem("there is no such function or environment", "--explain", value=found, allowed=known))
    return [*_work(model, unit), *_speed(model, unit), *_time(model, unit), *_money(plan, unit)]


def _work(model: Model, unit: UnitMeasured) -> Iterator[Step]:
    sources = [t.from_ for t in model.triggers if t.to == unit.unit.function]
    endings = " + ".join(f"{name.replace('_', ' ')} {n:,}" for name, n in unit.events.items() if name != "in" and n)
    yield Step(
        "events in", f"from {', '.join(sources) or 'nowhere'}: {endings or 'none'}", f"{unit.events['in']:,}", "4.9"
    )
    throttled = unit.attempts["throttled"]
    yield Step("attempts", f"started {unit.started:,} + throttled {throttled:,}", f"{unit.attempts['total']:,}", "4.9")


def _speed(model: Model, unit: UnitMeasured) -> Iterator[Step]:
    """How fast a run is on this memory, alone and in company."""
    function, plan, settings = model.functions[unit.unit.function], unit.unit.offer.plan, unit.unit.settings
    share = function.cpu_share
    yield Step(
        "CPU factor",
        f"(1 - {share:g}) + {share:g} x vCPUs measured with / {settings.vcpu_used:.3g} vCPUs here",
        f"{settings.cpu_factor:.3f}",
        "3.1",
    )
    if plan.bills != "reserved" and function.slots > 1 and share:
        yield Step(
            "CPU share here",
            f"{share:g} x vCPUs measured with / {settings.vcpu_used:.3g} vCPUs here, of the CPU factor",
            f"{settings.cpu_part:.3f}",
            "3.2",
        )
        yield Step(
            "crowding",
            f"max(1, calls in the instance x {settings.cpu_part:.3f} x {settings.vcpu_used:.3g} / {settings.vcpu:.3g} vCPUs)",
            f"{max(1.0, function.slots * settings.cpu_part * settings.vcpu_used / settings.vcpu):.3f} when full",
            "3.2",
        )


def _time(model: Model, unit: UnitMeasured) -> Iterator[Step]:
    """How long runs and cold starts take, and what of it is billed."""
    function, plan, settings = model.functions[unit.unit.function], unit.unit.offer.plan, unit.unit.settings
    per_call = unit.events["in"] / unit.started if unit.started else 0.0
    parts = [f"run {_time_text(function.run.mean)} on average"]
    if function.per_item:
        parts.append(f"{duration_text(function.per_item)} x {per_call:.3g} events")
    if function.per_mb:
        parts.append(f"{duration_text(function.per_mb)} a MB")
    mean = unit.busy_ns / unit.started if unit.started else 0.0
    yield Step(
        "run time", f"({' + '.join(parts)}) x CPU factor x crowding, cut at the timeout", _time_text(mean), "3.1"
    )
    billed = "billed" if plan.cold_start_billed else "not billed"
    cold = function.cold_start.mean * plan.cold_start_factor
    yield Step("cold starts", f"about {_time_text(cold)} each, {billed}", f"{unit.cold_starts:,}", "3.4")
    billed_as = _BILLED[plan.bills].format(
        cold="cold start included, " if plan.cold_start_billed else "",
        time=duration_text(plan.rounding.time),
        least=duration_text(plan.rounding.at_least),
    )
    yield Step("billed time", billed_as, f"{unit.time_billed_ns / 1e9:,.1f} s", "6.1")
    yield Step(
        "memory",
        f"{memory_text(function.memory)} asked, {memory_text(settings.memory_mb)} run, "
        f"{memory_text(settings.memory_billed_mb)} billed",
        f"{settings.memory_billed_mb / 1024:g} GB",
        "6.2",
    )


def _money(plan: PlayedPlan, unit: UnitMeasured) -> Iterator[Step]:
    key = (unit.unit.function, unit.unit.environment)
    account = (unit.unit.account, unit.unit.offer.name)
    with localcontext(exact()):
        for line in plan.bill.lines:
            if (line.account, line.plan) != account:
                continue
            own = plan.metered.quantities[account].get(line.meter, {}).get(key, Decimal(0))
            amount = plan.bill.shares[key].get(line.meter, Decimal(0))
            if own:
                yield Step(
                    line.meter,
                    _share_text(own, line, unit.unit.offer.plan),
                    f"{amount:,.6f}",
                    _RULES.get(line.meter, "6.3"),
                )
        yield Step("this function", "the sum of its meters", f"{plan.bill.functions[key]:,.6f}", "6.6")


def _share_text(own: Decimal, line: Line, plan: Plan) -> str:
    meter = METERS[line.meter]
    text = f"{own:,.6g} of {line.quantity:,.6g} {meter.unit}"
    if line.allowance:
        text += f" ({line.allowance:,.6g} free)"
    return f"{text} x {price_text(plan, line.meter)} = {line.amount:,.4f} in all"


def price_text(plan: Plan, meter: str) -> str:
    """A price as a person reads it: money per so many units, tiers in order."""
    price = plan.prices()[meter]
    per = f" per {price.per:,}" if price.per > 1 else ""
    if price.tiers is None:
        return f"{price.unit:f}{per}"
    steps = [f"{t.unit:f}" + (f" to {t.up_to:,}" if t.up_to else " above") for t in price.tiers]
    return ("all at the tier reached: " if price.volume else "") + ", ".join(steps) + per


def _time_text(ns: float) -> str:
    return f"{ns / 1e6:,.1f} ms" if ns < 1e9 else f"{ns / 1e9:,.2f} s"
