"""The month at several multiples of today's demand, on every plan: what the report's slider moves through."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from decimal import Decimal
from functools import partial

from msgspec import Struct

from echotally.projection.answer import PlayedPlan, Projection
from echotally.projection.choosing import Judged, choose_plan
from echotally.projection.loaded import Loaded
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from echotally.projection.threads import Progress, shared_out, side_by_side
from echotally.projection.verdict import Check, asks_for_times
from echotally.studies.crossings import scaled
from echotally.studies.work import month_work

SCALES = (0.5, 0.75, 1.0, 1.5, 2.0, 3.0)
#: Of a large estate fewer, and none above twice today's demand: where all would take more work than this (``work.month_work``).
_FEW, _MOST = (0.5, 1.0, 2.0), 10_000_000


class PlanThen(Struct, frozen=True):
    """What the page tells of a plan at another demand, its cost as ``Bill`` has it; a whole bill, or all that a month measured, would
    be megabytes for each.
    """

    name: str
    total: Decimal
    shown: Decimal
    unrounded: Decimal
    throttled_share: float
    misses: tuple[Check, ...]
    undecided: tuple[Check, ...]

    @classmethod
    def of(cls, plan: PlayedPlan) -> PlanThen:
        """Of a plan that was played."""
        bill, share = plan.bill, plan.totals.throttled_share
        return cls(plan.offer.name, bill.total, bill.shown, bill.unrounded, share, plan.misses, plan.undecided)


class DemandPoint(Struct, frozen=True):
    """The plans of one multiple of today's demand, and the one that would be picked there (None: none meets every target)."""

    scale: float
    plans: tuple[PlanThen, ...]
    pick: str | None


def demand_points(
    loaded: Loaded, projection: Projection, scales: Sequence[float] = (), progress: Progress | None = None
) -> list[DemandPoint]:
    """Every plan of a projection that was played, at each multiple (left out: as many as are soon played); today's month is not
    played again.
    """
    scales = scales or _soon_played(projection)
    names = [plan.offer.name for plan in projection.played]
    quantities = not asks_for_times(loaded.model)
    changed = {scale: loaded.changed(scaled(loaded, scale)) for scale in scales if scale != 1}

    def played(scale: float, name: str, tell: Callable[[float], None]) -> PlanThen | None:
        month = changed[scale]
        how = Playing(cores=cores, quantities_only=quantities)
        found = project_plan(month, month.offers[name], projection.seed, tell, how)
        return PlanThen.of(found) if isinstance(found, PlayedPlan) else None

    tasks = {f"{scale:g} x, {name}": partial(played, scale, name) for scale in changed for name in names}
    # Of quantities alone little is kept.
    workers, cores = shared_out(projection.model.units, len(tasks), room=quantities)
    found = side_by_side(tasks, progress, workers)
    by_task = dict(zip(tasks, found, strict=True))
    points = []
    for scale in scales:
        if scale == 1:
            plans = tuple(PlanThen.of(plan) for plan in projection.played)
        else:
            plans = tuple(p for name in names if (p := by_task[f"{scale:g} x, {name}"]) is not None)
        points.append(
            DemandPoint(
                scale,
                plans,
                choose_plan([Judged(p.name, p.total, len(p.misses), len(p.undecided)) for p in plans])[0],
            )
        )
    return points


def _soon_played(projection: Projection) -> Sequence[float]:
    attempts = [plan.totals.attempts["total"] for plan in projection.played]
    work = sum(month_work(n * scale, projection.model.units) for n in attempts for scale in SCALES if scale != 1)
    return SCALES if work <= _MOST else _FEW
