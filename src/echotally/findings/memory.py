"""Findings about memory: too much, too little, and processor work starved at a small size."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal

from echotally.findings.context import Context
from echotally.findings.rule import Noticed, Sets, rule
from echotally.model.addresses import dotted
from echotally.model.units import memory_text
from echotally.rates.unit_settings import unit_settings

#: Share of memory used above which a run is at risk, and the head room a smaller size must leave.
_FULL = 0.9
#: Share of memory used below which a smaller size is looked at.
_ROOMY = 0.6
#: A saving below this share of the whole bill, or a hundredth of the currency, is not worth a word.
_WORTH, _CENT = Decimal("0.005"), Decimal("0.01")


def _worth(ctx: Context, saves: Decimal | None) -> bool:
    return saves is None or saves >= max(_CENT, ctx.total * _WORTH)


@rule(
    "M01",
    "hint",
    "memory used is far below memory given",
    "Memory is billed as given; but a smaller size also gives less CPU, so the change is played before it is named.",
    cites="6.2",
)
def far_below(ctx: Context) -> Iterator[Noticed]:
    """The next size down that holds what is used with room, where it saves and loses nothing."""
    for name, function in ctx.model.functions.items():
        if function.memory_used is None or function.memory_used > _ROOMY * function.memory:
            continue
        if not _worth(ctx, ctx.at_stake(name)) or (size := _smaller(ctx, name)) is None:
            continue
        sets: Sets = ((dotted(("functions", name, "memory")), memory_text(size)),)
        saves = ctx.saving(sets)
        longer = round((ctx.run_s(name) and _run_with(ctx, name, size) / ctx.run_s(name) - 1) * 100)
        pace = f"{longer} % longer" if longer else "as long"
        yield Noticed(
            dotted(("functions", name, "memory")),
            f"{memory_text(function.memory)} given, {memory_text(function.memory_used)} used "
            f"({function.memory_used / function.memory * 100:.0f} %); runs would take {pace} at {memory_text(size)}",
            f"saves {ctx.money(saves)} a month" if saves is not None else "memory is paid for and not used",
            sets,
            saves,
        )


def _smaller(ctx: Context, name: str) -> int | None:
    """The smallest size that holds what is used with room, or, where the timeout then cuts runs or a target is missed, the one at
    which runs take as long as now; None where neither saves.
    """
    function, plan = ctx.model.functions[name], ctx.plan(name)
    now = unit_settings(function, plan)
    as_fast = now.vcpu_used / plan.vcpu_per_gb * 1_024 if plan.vcpu_per_gb else 0.0
    needed = (function.memory_used or 0) / _FULL
    for wanted in (needed, max(needed, as_fast)):
        size = plan.memory.round_up(int(wanted) + 1)
        if size is None or size >= now.memory_mb:
            continue
        sets: Sets = ((dotted(("functions", name, "memory")), memory_text(size)),)
        played, base = ctx.trial(sets), ctx.base
        cut = played and base and played.totals.attempts["timed_out"] > base.totals.attempts["timed_out"]
        if (
            _worth(ctx, ctx.saving(sets))
            and not cut
            and not (played and base and len(played.misses) > len(base.misses))
        ):
            return size
    return None


def _run_with(ctx: Context, name: str, size: int) -> float:
    """Mean run in s at another memory size."""
    function = ctx.model.functions[name]
    # Measured where it was: another size changes how fast it runs, not how fast it ran.
    changed = function.model_copy(update={"memory": size, "measured_at": function.measured_at or function.memory})
    factor = unit_settings(changed, ctx.plan(name)).cpu_factor / unit_settings(function, ctx.plan(name)).cpu_factor
    return ctx.run_s(name) * factor


@rule(
    "M02",
    "warning",
    "memory is nearly full",
    "A run a little larger than the ones measured is killed, and what it was doing comes back.",
    cites="6.7",
)
def nearly_full(ctx: Context) -> Iterator[Noticed]:
    """Used above 90 % of given."""
    for name, function in ctx.model.functions.items():
        if function.memory_used is None or not _FULL * function.memory < function.memory_used <= function.memory:
            continue
        # The next size in which it would not be nearly full again.
        size = ctx.plan(name).memory.round_up(int(function.memory_used / _FULL) + 1)
        if size is not None:
            sets: Sets = ((dotted(("functions", name, "memory")), memory_text(size)),)
            saves = ctx.saving(sets)
            yield Noticed(
                dotted(("functions", name, "memory")),
                f"{memory_text(function.memory_used)} of {memory_text(function.memory)} used "
                f"({function.memory_used / function.memory * 100:.0f} %)",
                f"the next size costs {ctx.money(-saves)} a month more" if saves is not None else "runs may be killed",
                sets,
                saves,
                dearer=True,
            )


@rule(
    "M03",
    "hint",
    "processor work starved at a small size",
    "With more memory comes more CPU: the run gets shorter, and may cost less than it does now.",
    cites="3.2",
)
def starved(ctx: Context) -> Iterator[Noticed]:
    """A size up to four times as large that is both faster and cheaper."""
    for name, function in ctx.model.functions.items():
        plan = ctx.plan(name)
        now = unit_settings(function, plan)
        if function.cpu_share < 0.5 or now.vcpu >= function.threads or plan.bills == "reserved":
            continue
        # Whole steps of memory cost at least as much again, so where twice as much costs more, four times does too;
        # except where shorter runs are no longer ended, or find room.
        in_trouble = any(u.attempts["timed_out"] + u.attempts["throttled"] for u in ctx.units(name))
        if not _worth(ctx, ctx.at_stake(name) if in_trouble else ctx.at_stake_in_time(name)):
            continue
        for times in (2, 4):
            size = plan.memory.round_up(function.memory * times)
            if size is None or size <= now.memory_mb:
                continue
            sets: Sets = ((dotted(("functions", name, "memory")), memory_text(size)),)
            saves, run_s = ctx.saving(sets), _run_with(ctx, name, size)
            if saves is not None and saves > 0 and _worth(ctx, saves) and run_s < ctx.run_s(name):
                yield Noticed(
                    dotted(("functions", name, "memory")),
                    f"{function.cpu_share * 100:.0f} % of the run is CPU work on {now.vcpu:.2g} vCPU; at {memory_text(size)} "
                    f"a run takes {run_s:,.2f} s instead of {ctx.run_s(name):,.2f} s",
                    f"saves {ctx.money(saves)} a month",
                    sets,
                    saves,
                )
                break
            if saves is not None and saves < 0 and not in_trouble:
                break
