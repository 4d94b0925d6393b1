"""What the engine is told about each unit: a function in an environment, on a plan.

Why it exists: the rules that turn a function and a plan into simulation settings (vCPU share, CPU
factor, limits, feasibility-neutral rounding of memory) are needed by the engine, the bill and the findings.
"""

from __future__ import annotations

from msgspec import Struct

from echotally.model.estate import Function, Model
from echotally.rates.card import Plan


class UnitSettings(Struct, frozen=True):
    """Derived settings. Memory in MB; ``cpu_factor``, ``cpu_part`` (s(m)) and ``vcpu`` as in rules 3.1 and 3.2."""

    memory_mb: int
    memory_billed_mb: int
    vcpu: float
    vcpu_used: float
    cpu_factor: float
    cpu_part: float
    limit: int | None


def unit_settings(function: Function, plan: Plan) -> UnitSettings:
    """Settings of a function on a plan; memory is rounded up to a size sold (the largest if none holds it)."""
    memory = plan.memory.round_up(function.memory) or plan.memory.largest_mb
    measured_mb = plan.memory.round_up(function.measured_at or function.memory) or plan.memory.largest_mb
    vcpu = plan.vcpu(memory)
    # A function of one thread gains nothing from a second vCPU, but pays for it.
    used = min(function.threads, vcpu)
    # A measured_vcpu stands in place of v(measured_at), which threads have bounded already (rules 7.3 and 7.63).
    measured = function.measured_vcpu or min(function.threads, plan.vcpu(measured_mb))
    on_cpu = function.cpu_share * measured / used
    factor = (1 - function.cpu_share) + on_cpu
    billed = memory if plan.memory_billed == "given" else (plan.memory.round_up(function.used_mb) or memory)
    # Both hold, so the smaller one decides (rule 3.4).
    limits = [limit for limit in (function.instance_limit, plan.instance_limit) if limit is not None]
    part = on_cpu / factor if factor else 0.0
    return UnitSettings(memory, min(billed, memory), vcpu, used, factor, part, min(limits, default=None))


def run_ns(function: Function, plan: Plan, base_ns: float, items: int = 1, payload_bytes: float = 0.0) -> float:
    """Run time in ns of a batch of ``items`` whose base run is ``base_ns``, alone in its instance."""
    work = base_ns + function.per_item * items + function.per_mb * payload_bytes / 1e6
    return work * unit_settings(function, plan).cpu_factor


def batch_sizes(model: Model, name: str) -> list[int]:
    """Items of a full call of function ``name``, one number a trigger (1 without triggers)."""
    found = []
    for trigger in model.triggers:
        if trigger.to == name:
            found.append(model.items_of(trigger))
    return found or [1]


def share_longer(function: Function, plan: Plan, limit_ns: float, items: int = 1, payload_bytes: float = 0.0) -> float:
    """Share of runs of ``items`` that would take longer than ``limit_ns`` on the plan, alone in their instance."""
    fixed = function.per_item * items + function.per_mb * payload_bytes / 1e6
    # The spread is of the base run, so the limit is brought back to where the base run was measured.
    base_ns = limit_ns / unit_settings(function, plan).cpu_factor - fixed
    return 1.0 if base_ns < 0 else function.run.share_above(base_ns)
