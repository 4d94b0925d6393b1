"""How else the month might go: with other seeds, and at other demands."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import replace

from echotally.projection.answer import Projection
from echotally.projection.loaded import Loaded
from echotally.projection.replicate import Interval, replicate
from echotally.projection.threads import Progress, part_of
from echotally.studies.demand_points import DemandPoint, demand_points

#: With so many seeds, today's among them.
_SEEDS = 5


class Otherwise(Struct, frozen=True):
    """The figures in all of the plan shown, each with its interval over ``seeds`` seeds; every plan at several demands."""

    seeds: int = 0
    figures: Mapping[str, Interval] | None = None
    points: tuple[DemandPoint, ...] = ()


def otherwise(loaded: Loaded, projection: Projection, progress: Progress | None = None) -> Otherwise:
    """Months of the plan that is shown with other seeds, then of every plan at other demands; nothing where no plan can be shown."""
    best = projection.best
    if best is None:
        return Otherwise()
    first, name = replace(projection, plans=(best,)), best.offer.name
    replicated = replicate(
        loaded, _SEEDS, [name], projection.seed, first=first, by_function=False, progress=part_of(progress, 0.0, 0.1)
    )
    points = demand_points(loaded, projection, progress=part_of(progress, 0.1, 1.0))
    return Otherwise(_SEEDS, replicated.figures[name], tuple(points))
