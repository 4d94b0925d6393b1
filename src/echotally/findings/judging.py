"""Tries each suggested change before it is given: it must apply, leave the plan usable, and make nothing worse unsaid.

Why it exists: advice that was not tried has cost people work. A change is played on the same plan with the same seed and laid beside
the month as it is; what it does is part of the finding.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from decimal import Decimal

from msgspec import Struct
from msgspec.structs import replace

from echotally.findings.context import Context
from echotally.findings.rule import Noticed, Outcome
from echotally.projection.totals import Totals
from echotally.projection.tried import Trial

#: Random numbers meet other events after a change: counts scatter by their root, waits by a few per cent.
_SCATTER, _WAIT_SHARE, _WAIT_S = 3.0, 0.05, 0.05
#: So much more does a small sample of a large month scatter.
_SAMPLED_WIDE = 10.0
#: A cost that rises by less is no change of it.
_DEARER, _DEARER_SAMPLED = Decimal("0.0005"), Decimal("0.01")


class _Figure(Struct, frozen=True):
    """A figure that may get worse: its name, how it is read, and how far it scatters by chance."""

    name: str
    read: Callable[[Totals], float]
    slack: Callable[[float], float]


def _of_count(before: float) -> float:
    return 1 + _SCATTER * math.sqrt(before)


_FIGURES = (
    _Figure("lost", lambda t: t.lost, _of_count),
    _Figure("timed_out", lambda t: t.attempts["timed_out"], _of_count),
    _Figure("throttled", lambda t: t.attempts["throttled"], _of_count),
    _Figure("refused", lambda t: t.events["rejected"], _of_count),
    _Figure("left_behind", lambda t: t.left_behind, _of_count),
    _Figure("handled_twice", lambda t: t.duplicates, _of_count),
    _Figure("cold_starts", lambda t: t.cold_starts, _of_count),
    _Figure("cold_calls", lambda t: t.cold_calls, _of_count),
    _Figure("wait_p95_s", lambda t: t.wait_p95_s or 0.0, lambda before: _WAIT_S + _WAIT_SHARE * before),
)
#: Cold starts are told, but what they cost and how long they make callers wait is judged by itself.
_ONLY_TOLD = {"cold_starts", "cold_calls"}


def judged(ctx: Context, noticed: Noticed) -> Noticed:
    """The finding with what its change does, or without a change that cannot be given."""
    if not noticed.sets:
        return noticed
    # What was not tried, or what the model could not be loaded with, is kept as a remark, without the change.
    if not ctx.is_tried(noticed.sets) or not ctx.applies(noticed.sets):
        return replace(noticed, sets=(), saves=None)
    now, played = ctx.beside(noticed.sets), ctx.trial(noticed.sets)
    if ctx.base is not None and now is None:
        return noticed
    if played is None:
        return replace(noticed, sets=(), saves=None)
    # No plan can take the estate as it is: there is nothing to lay the change beside.
    if now is None:
        return replace(noticed, saves=None, outcome=Outcome(Decimal(0), {}, opens=True))
    outcome = replace(_outcome(now, played), sampled=played.sampled)
    if not _may_be_given(ctx, noticed, outcome, len(played.misses) - len(now.misses)):
        return replace(noticed, sets=(), saves=None)
    return replace(noticed, saves=-outcome.cost if outcome.cost else None, outcome=outcome)


def _outcome(before: Trial, after: Trial) -> Outcome:
    figures = {f.name: (float(f.read(before.totals)), float(f.read(after.totals))) for f in _FIGURES}
    return Outcome(after.cost - before.cost, figures)


def _may_be_given(ctx: Context, noticed: Noticed, outcome: Outcome, more_misses: int) -> bool:
    told = {*_ONLY_TOLD, *noticed.accepts}
    worse = [f.name for f in _FIGURES if f.name not in told and _moved(f, outcome) > 0]
    better = [f.name for f in _FIGURES if _moved(f, outcome) < 0]
    # A share of the whole bill: a function that costs a cent more is nobody's concern.
    dearer = outcome.cost > ctx.total * (_DEARER_SAMPLED if outcome.sampled else _DEARER)
    if worse or (more_misses > 0 and not dearer):
        return False
    if noticed.promises and not any(
        name in better or (name == "cost" and outcome.cost < 0) for name in noticed.promises
    ):
        return False
    # Dearer is allowed for what gets better by it, or where the finding says that it costs.
    return not dearer or bool(better) or noticed.dearer


def _moved(figure: _Figure, outcome: Outcome) -> int:
    """1 worse, -1 better, 0 the same as far as chance lets one tell."""
    before, after = outcome.figures[figure.name]
    # A small sample scatters more: by the events it left out, and by what a stretch happens to hold.
    wide = _SAMPLED_WIDE if outcome.sampled else 1.0
    up, down = wide * figure.slack(before), wide * figure.slack(after)
    return 1 if after > before + up else -1 if after < before - down else 0
