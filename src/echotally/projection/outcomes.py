"""What a plan bills, by what attempts came to: handled, failed, timed out, done twice, or no attempt at all (rule 10.1)."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal, localcontext

from msgspec import Struct

from echotally.engine.reading import UnitMeasured
from echotally.projection.answer import PlayedPlan
from echotally.projection.bills import Bill
from echotally.rates.billing import exact
from echotally.rates.meters import OUTSIDE

IDLE_TIME, BESIDE, OUTSIDERS = "floors and idle time", "beside compute", "outside"
#: Every name of the split, in the order in which it is shown.
OUTCOMES = ("handled", "cold starts", "failed", "timed out", "duplicates", "running", IDLE_TIME, BESIDE, OUTSIDERS)
#: Meters of time in which calls ran, and of instances there without one.
_WITH_CALLS = ("gb_seconds", "vcpu_seconds")
_PAID_FOR = ("instance_hours", "allocated_gb_seconds", "allocated_vcpu_seconds", "reserved_hours", "node_hours")
_WITHOUT_CALLS = ("idle_gb_seconds", "idle_vcpu_seconds")
_TIME = (*_WITH_CALLS, *_PAID_FOR)


class CallCost(Struct, frozen=True):
    """What one call of a function costs, an attempt that started, in the card's currency: the mean, and that of which 95 % are not dearer.

    All that the function pays is in it; calls differ by the time they are charged for.
    """

    mean: Decimal
    p95: Decimal


def outcome_costs(plan: PlayedPlan, unit: UnitMeasured) -> dict[str, Decimal]:
    """What a function pays in an environment by outcome, all nine names; they sum to its cost exactly."""
    found = dict.fromkeys(OUTCOMES, Decimal(0))
    with localcontext(exact()):
        for meter, amount in plan.bill.shares[unit.key].items():
            for outcome, part in _parts(meter, amount, unit).items():
                found[outcome] += part
        _settle(found, plan.bill.functions[unit.key])
    return found


def outcome_costs_of_nobody(bill: Bill) -> dict[str, Decimal]:
    """What belongs to no function by outcome, all nine names; they sum to idle and flat cost exactly."""
    found = dict.fromkeys(OUTCOMES, Decimal(0))
    with localcontext(exact()):
        for line in bill.lines:
            found[_of_nobody(line.meter)] += line.amount
        # The lines as a whole less what functions pay of them.
        for shares in bill.shares.values():
            for meter, amount in shares.items():
                found[_of_nobody(meter)] -= amount
        _settle(found, bill.idle + bill.flat)
    return found


def _of_nobody(meter: str) -> str:
    if meter.startswith(OUTSIDE):
        return OUTSIDERS
    return IDLE_TIME if meter in (*_PAID_FOR, *_WITHOUT_CALLS) else BESIDE


def _settle(found: dict[str, Decimal], whole: Decimal) -> None:
    """What divisions of 60 digits leave over goes to the largest part."""
    found[max(found, key=lambda outcome: abs(found[outcome]))] += whole - sum(found.values(), Decimal(0))


def _parts(meter: str, amount: Decimal, unit: UnitMeasured) -> dict[str, Decimal]:
    """One line of a function by outcome."""
    outcomes, bills = unit.outcomes, unit.unit.offer.plan.bills
    if meter == "calls":
        return _shared_out(amount, outcomes.attempts)
    if meter in _WITH_CALLS:
        return _shared_out(amount, outcomes.times_ns)
    if meter in _PAID_FOR:
        busy = {outcome: ns for outcome, ns in outcomes.times_ns.items() if outcome != "cold starts"}
        # A function's part of reserved and node time is that of its runs already; of its instances' lives the rest is idle.
        rest = max(0, unit.life_ns - sum(busy.values())) if bills == "allocated" else 0
        return _shared_out(amount, {**busy, IDLE_TIME: rest})
    return {_of_nobody(meter): amount}


def _shared_out(amount: Decimal, weights: Mapping[str, int]) -> dict[str, Decimal]:
    whole = sum(weights.values())
    if not whole:
        return {IDLE_TIME: amount}
    return {outcome: amount * weight / whole for outcome, weight in weights.items() if weight}


def cost_per_call(bill: Bill, unit: UnitMeasured) -> CallCost | None:
    """What one call of a function costs in an environment; None where none started."""
    if not unit.started or unit.charge_p95_s is None:
        return None
    charged_ns = sum(unit.outcomes.times_ns.values())
    with localcontext(exact()):
        cost = bill.functions[unit.key]
        # Only what is charged by time differs from call to call; the rest is the same for each.
        of_time = sum((amount for meter, amount in bill.shares[unit.key].items() if meter in _TIME), Decimal(0))
        longer = of_time * Decimal(repr(unit.charge_p95_s)) * 10**9 / charged_ns if charged_ns else Decimal(0)
        return CallCost(cost / unit.started, (cost - of_time) / unit.started + longer)
