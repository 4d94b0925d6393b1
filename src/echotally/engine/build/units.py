"""Units as records: limits, times, spreads and scaling of each function on its plan."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

from echotally.engine import codes, layout, records
from echotally.engine.build.shared import UNLIMITED, Shared, Unit
from echotally.model.estate import Function
from echotally.rates.card import BILLS, Plan

#: In the order of ``codes.RUN_STREAM`` and its like.
_PURPOSES = ("run", "cold", "error", "emit", "poison", "emitted", "ask", "asked", "kind", "same")


def units_of(shared: Shared) -> Any:
    """A record for each unit."""
    found = layout.records(records.Unit, len(shared.units))
    pushed = shared.model.only_pushed()
    for n, unit in enumerate(shared.units):
        function, plan = shared.model.functions[unit.function], unit.offer.plan
        _room(found[n], shared, unit, function)
        _times(found[n], shared, function, plan)
        _work(found[n], shared, unit, function)
        _scaling(found[n], shared, plan)
        alone = unit.function in pushed and found[n]["plan_kind"] == codes.PER_CALL
        found[n]["waits"] = shared.take_lists(len(plan.push.waits)) if alone else codes.NONE
    return found


def _room(f: Any, shared: Shared, unit: Unit, function: Function) -> None:
    """What a unit may take: instances, slots, memory, and who shares it."""
    plan, settings = unit.offer.plan, unit.settings
    reserved = plan.bills == "reserved"
    f["account"] = shared.accounts.index(unit.billed_to)
    f["plan_kind"] = codes.RESERVED if reserved else codes.POLLED if plan.scaling.kind == "polled" else codes.PER_CALL
    f["bills"] = BILLS.index(plan.bills)
    f["limit"] = UNLIMITED if settings.limit is None else settings.limit
    f["shown_limit"] = -1 if settings.limit is None else settings.limit
    f["floor"] = 0 if reserved else min(function.instance_floor, int(f["limit"]))
    f["slots"] = (plan.slots_limit or UNLIMITED) if reserved else function.slots
    f["memory"], f["vcpu"] = settings.memory_mb, plan.vcpu_each or settings.vcpu
    # Whole numbers, so that what is given back is what was taken.
    f["memory_cost"] = settings.memory_mb * 1_000_000
    f["payload_limit"] = -1 if plan.payload_limit is None else plan.payload_limit
    f["eager"] = plan.pull == "eager"


def _times(f: Any, shared: Shared, function: Function, plan: Plan) -> None:
    """Timeouts, waits and rounding, ns."""
    f["timeout"] = min(function.timeout, plan.timeout_limit or function.timeout)
    f["keep_alive"], f["cold_billed"] = plan.keep_alive, plan.cold_start_billed
    f["round_ns"], f["least_ns"] = plan.rounding.time, plan.rounding.at_least
    f["wait_limit"] = plan.wait_limit
    push = plan.push
    f["first_wait"], f["longest_wait"], f["give_up"] = push.first_wait, push.longest_wait, push.give_up
    f["retry_from"], f["retry_n"] = shared.take_pauses(push.retry_waits), len(push.retry_waits)
    f["idle_timer"], f["token_timer"], f["lag_oldest"] = codes.NEVER, -1, codes.NEVER


def _work(f: Any, shared: Shared, unit: Unit, function: Function) -> None:
    """How long runs take, what they put out, how often they fail, and the random streams of all that."""
    settings = unit.settings
    shared.spread(f, "run", function.run)
    shared.spread(f, "cold", function.cold_start)
    f["cold_factor"] = unit.offer.plan.cold_start_factor
    f["per_item"], f["per_mb"] = function.per_item, function.per_mb
    f["cpu_factor"] = settings.cpu_factor
    f["cpu_load"], f["cpu_cap"] = settings.cpu_part * settings.vcpu_used, settings.vcpu
    f["error_rate"], f["poison_rate"] = function.error_rate, function.poison_rate
    f["random"] = shared.stream(*(f"{purpose}:{unit.function}:{unit.environment}" for purpose in _PURPOSES))
    f["lists"] = shared.take_lists(codes.UNIT_LISTS)
    f["first_trigger"], f["condition"] = -1, -1
    f["same_run"] = function.retry_run == "same"
    f["covers_cold"] = unit.offer.plan.timeout_covers_cold_start


def _scaling(f: Any, shared: Shared, plan: Plan) -> None:
    scaling = plan.scaling
    if scaling.kind == "polled":
        every = scaling.every or 1
        f["look_every"], f["look_step"], f["look_per"] = scaling.every, scaling.step, scaling.per_instance
        f["look_first"] = scaling.first or scaling.step
        f["last_look"], f["look_armed"], f["look_timer"] = -(scaling.every or 0), codes.YES, codes.NEVER
        # A closed window: looks from exactly keep_alive ago until now.
        f["window_size"] = plan.keep_alive // every + 1
        f["window_at"] = shared.take_window(int(f["window_size"]))
    elif scaling.burst is not None and scaling.ramp is not None:
        f["ramp_units"], f["token_cost"] = short_ramp(scaling.ramp, scaling.burst)
        f["burst_units"] = f["token_level"] = scaling.burst * int(f["token_cost"])
        f["token_scope"] = scaling.scope == "account"


def short_ramp(ramp: tuple[int, int], burst: int) -> tuple[int, int]:
    """Start tokens and ns of a ramp so short that a full bucket stays inside an int64: exact but for absurd fractions."""
    rate = Fraction(*ramp)
    short = rate.limit_denominator(int(2**61 // max(Fraction(burst), rate)))
    return (short.numerator, short.denominator) if short else (1, 2**61 // burst)
