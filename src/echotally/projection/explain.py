"""From events to money for one function: each step with its formula and its numbers."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal, localcontext

from msgspec import Struct

from echotally.engine.reading import UnitMeasured
from echotally.errors import BadInput
from echotally.model.estate import Model
from echotally.model.units import duration_text, memory_text
from echotally.naming import known_name, no_such
from echotally.projection.answer import PlayedPlan
from echotally.projection.worth_following import following, worth_following
from echotally.rates.billing import Line, exact
from echotally.rates.card import Plan
from echotally.rates.meters import COMMITMENT, meter_of
from echotally.rates.outside import OUTSIDE_ACCOUNT

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


class Step(Struct, frozen=True):
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
    function = known_name("function", "--explain", function, model.functions, "functions")
    unit = next(
        (u for u in plan.measured.units if (u.unit.function, u.unit.environment) == (function, environment)), None
    )
    if unit is None:
        known_name("environment", "--explain", environment, model.environments)
        raise BadInput(no_such("function", "--explain", function, model.functions))
    return [
        *_work(model, unit),
        *_asking(model, plan, unit),
        *_trouble(model, plan, unit),
        *_speed(model, unit),
        *_time(model, unit),
        *_one_event(plan, function),
        *_money(plan, unit),
    ]


def _one_event(plan: PlayedPlan, function: str) -> Iterator[Step]:
    """How to see what became of one of its events."""
    if plan.confidence is None:
        shown = worth_following(plan, function) or following(plan, "slowest", function)
        yield Step("one event", shown, "", "11.1")


def _work(model: Model, unit: UnitMeasured) -> Iterator[Step]:
    sources = [t.from_ for t in model.triggers if t.to == unit.unit.function]
    endings = " + ".join(f"{name.replace('_', ' ')} {n:,}" for name, n in unit.events.items() if name != "in" and n)
    yield Step(
        "events in", f"from {', '.join(sources) or 'nowhere'}: {endings or 'none'}", f"{unit.events['in']:,}", "4.9"
    )
    throttled = unit.attempts["throttled"]
    yield Step("attempts", f"started {unit.started:,} + throttled {throttled:,}", f"{unit.attempts['total']:,}", "4.9")


def _asking(model: Model, plan: PlayedPlan, unit: UnitMeasured) -> Iterator[Step]:
    """What its calls ask of others, and what its callers see."""
    put = {
        p.source: p.events
        for p in plan.measured.put_in
        if (p.writer, p.environment, p.topic) == (unit.unit.function, unit.unit.environment, False)
    }
    for ask in model.functions[unit.unit.function].asks:
        whose = "the attempt fails with a bad answer" if ask.needs else "a bad answer is taken"
        yield Step(
            f"asks {ask.to}", f"{ask.each:g} for each event that did not fail; {whose}", f"{put[ask.to]:,}", "8.5"
        )
    if unit.answers.p95 is not None:
        p50, p99 = _time_text((unit.answers.p50 or 0) * 1e9), _time_text((unit.answers.p99 or 0) * 1e9)
        yield Step("latency p95", f"asking to answer, p50 {p50}, p99 {p99}", _time_text(unit.answers.p95 * 1e9), "5.4")
        cold = f"{unit.cold_calls:,} of {unit.started:,} attempts waited for an instance to start"
        yield Step("cold share", cold, f"{100 * (unit.cold_share or 0):.2g} %", "5.4")


def _trouble(model: Model, plan: PlayedPlan, unit: UnitMeasured) -> Iterator[Step]:
    """What the clock brought: incidents, releases, floors."""
    name, environment = unit.unit.function, unit.unit.environment
    found = plan.happenings
    for incident, windows in zip(model.incidents, found.incidents, strict=False):
        ours = incident.functions is None or name in incident.functions
        if ours and (incident.environments is None or environment in incident.environments):
            lasted = sum(end - start for start, end in windows)
            yield Step(f"incident {incident.name}", incident.words(), f"{lasted / 3.6e12:,.2f} h", "8.1")
    if times := found.releases.get(name):
        yield Step("releases", "instances of before take no further calls", f"{len(times):,}", "8.2")
    if changes := found.floors.get(name):
        floors = sorted({floor for _, floor in changes})
        yield Step("floors by the clock", f"to {', '.join(map(str, floors))}", f"{len(changes):,} changes", "8.3")


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
            billed_to = (line.account, line.plan)
            if billed_to not in (account, OUTSIDE_ACCOUNT):
                continue
            own = plan.metered.quantities[billed_to].get(line.meter, {}).get(key, Decimal(0))
            amount = plan.bill.shares[key].get(line.meter, Decimal(0))
            if line.meter == COMMITMENT and amount:
                yield Step(line.meter, _prepaid_text(line, plan.metered.plans[billed_to]), f"{amount:,.6f}", "7.51")
            elif own:
                yield Step(
                    line.meter,
                    _share_text(own, line, plan.metered.plans[billed_to]),
                    f"{amount:,.6f}",
                    "8.6" if billed_to == OUTSIDE_ACCOUNT else _RULES.get(line.meter, "6.3"),
                )
        yield Step("this function", "the sum of its meters", f"{plan.bill.functions[key]:,.6f}", "6.6")


def _share_text(own: Decimal, line: Line, plan: Plan) -> str:
    meter = meter_of(line.meter)
    text = f"{own:,.6g} of {line.quantity:,.6g} {meter.unit}"
    if line.allowance:
        text += f" ({line.allowance:,.6g} free)"
    prepaid = plan.commitment is not None and bool(plan.commitment.per_hour) and line.meter in plan.commitment.covers
    less = ", less what the commitment pays," if prepaid else ""
    return f"{text} x {price_text(plan, line.meter)}{less} = {line.amount:,.4f} in all"


def _prepaid_text(line: Line, plan: Plan) -> str:
    """What a commitment pays of a function's usage, and of all."""
    terms = plan.commitment
    assert terms is not None
    lost = line.lost or Decimal(0)
    return (
        f"its usage of {', '.join(terms.covers)} hour by hour at {terms.discount * 100:f} % off;"
        f" {line.amount - lost:,.4f} of {line.amount:,.4f} prepaid are used in all"
    )


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
