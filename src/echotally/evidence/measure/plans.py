"""What a measured run would be billed on each plan: its time rounded, and its price before allowances and tiers."""

from __future__ import annotations

import math
from collections.abc import Iterable
from decimal import Decimal, localcontext

from msgspec import Struct

from echotally.evidence.measure.keys import Keys
from echotally.evidence.measure.rows import Run
from echotally.model.estate import Function
from echotally.rates.billing import bill_account, exact
from echotally.rates.card_loading import Offer
from echotally.rates.unit_settings import unit_settings


class Billed(Struct, frozen=True):
    """A run on a plan: time and memory it is billed for (ms, MB), and money unrounded; None where the plan bills no runs one by one.

    ``memory_mb`` is what it is given. ``why_not`` says why the plan cannot run it.
    """

    plan: str
    currency: str
    memory_mb: int | None
    billed_ms: float | None
    cost: Decimal | None
    why_not: str = ""


def billed(run: Run, offers: Iterable[Offer], keys: Keys, memory_mb: int | None = None) -> list[Billed]:
    """The run on each plan, as a warm run there would take: ``memory_mb`` is what it is given, left out the least size that holds it."""
    return [_on(run, offer, keys, memory_mb) for offer in offers]


def _on(run: Run, offer: Offer, keys: Keys, memory_mb: int | None) -> Billed:
    plan, needed = offer.plan, max(1, math.ceil((run.memory_bytes or 0) / 2**20))
    name, currency, given = offer.name, offer.card.currency, plan.memory.round_up(memory_mb or needed)
    if given is None or given < needed:
        why = f"it needs {needed:,} MB; " + (
            "the plan sells none so large" if given is None else f"{given:,} MB are given"
        )
        return Billed(name, currency, given, None, None, why)
    if plan.bills not in ("runs", "active"):
        return Billed(name, currency, given, None, None, "bills instances or hours, not runs")
    settings = unit_settings(_function(keys, given, needed), plan)
    took_ns = round(run.took_s * 1e9 * settings.cpu_factor)
    step, least = int(plan.rounding.time), int(plan.rounding.at_least)
    billed_ns = max(-(-took_ns // step) * step, least)
    with localcontext(exact()):
        seconds = Decimal(billed_ns) / 10**9
        quantities = {
            "calls": Decimal(1),
            "gb_seconds": seconds * settings.memory_billed_mb / 1024,
            "vcpu_seconds": seconds * Decimal(repr(settings.vcpu)),
        }
        for meter, n in plan.per_call.items():
            quantities[meter] = quantities.get(meter, Decimal(0)) + n
        bare = plan.model_copy(update={"allowance": {}, "commitment": None})
        lines = bill_account(name, "", bare, quantities)
        # What is priced by the month costs a run nothing.
        cost = sum((line.amount for line in lines), Decimal(0))
    return Billed(name, currency, given, billed_ns / 1e6, cost)


def _function(keys: Keys, memory_mb: int, used_mb: int) -> Function:
    """The measured program as a function of a model, as far as its time and memory go."""
    return Function.model_validate(
        {
            "memory": f"{memory_mb} MB",
            "run": "1 ms",
            "cpu_share": keys.cpu_share.value if keys.cpu_share else 1.0,
            "threads": keys.threads or 1,
            "measured_vcpu": keys.measured_vcpu,
            "memory_used": f"{used_mb} MB",
        }
    )
