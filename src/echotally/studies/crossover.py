"""``crossover``: what each plan costs at a multiple of today's volume, and where the lines cross."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from itertools import combinations, pairwise
from pathlib import Path
from typing import TYPE_CHECKING

from echotally.errors import BadInput, Problem
from echotally.projection.placement import Loaded, load
from echotally.rates.loading import candidates
from echotally.studies.points import Point, Row, Sets, run_points, solve

if TYPE_CHECKING:
    import pandas as pd

#: Volumes to look at between the bounds, a decade; crossings are found to this share of their volume.
_PER_DECADE, _EXACT = 5, 0.002
#: Larger months are sampled: a hundred times a month is a hundred times the work.
_SAMPLED_ABOVE = 8_000_000


@dataclass(frozen=True)
class Crossing:
    """Two plans that cost the same at ``scale`` times today's demand: ``below`` is cheaper under it, ``above`` over it.

    ``cheapest``: no third plan that meets the targets is cheaper there.
    """

    scale: float
    events: float
    cost: float
    below: str
    above: str
    cheapest: bool


@dataclass(frozen=True)
class Crossover:
    """Costs by scale and plan (``rows``: scale and the figures of a point), and the crossings, by scale."""

    loaded: Loaded
    events: float
    scales: tuple[float, ...]
    rows: tuple[Row, ...]
    crossings: tuple[Crossing, ...]

    def to_frame(self) -> pd.DataFrame:
        """A row for each scale and plan."""
        from echotally.projection.flat import frame_of

        return frame_of(self.rows)

    def cheapest(self, scale: float) -> Row | None:
        """The cheapest plan that meets every target at one of the scales looked at."""
        return min(
            (r for r in self.rows if r["scale"] == scale and r["meets_targets"]),
            key=lambda r: r["cost_total"],
            default=None,
        )


def scaled(loaded: Loaded, scale: float) -> Sets:
    """Overrides that multiply every environment's demand."""
    return tuple(
        (f"environments.{name}.demand", repr(environment.demand * scale))
        for name, environment in loaded.model.environments.items()
    )


def crossover(
    path: Path | str,
    low: float = 0.01,
    high: float = 100.0,
    plans: Sequence[str] = (),
    sets: Iterable[tuple[str, str]] = (),
    seed: int | None = None,
    workers: int = -1,
    store: Path | None = None,
    cluster: str | None = None,
    progress: Callable[[str, float], None] | None = None,
) -> Crossover:
    """Costs of the plans from ``low`` to ``high`` times today's demand, and every crossing to within 1 %.

    Only plans that take every function are shown. All volumes use the same random streams. Raises ``BadInput``.
    """
    if not 0 < low < high:
        raise BadInput(
            Problem(
                "is not a range of volumes", "--scale", value=f"{low:g}..{high:g}", allowed="LOW..HIGH, 0 < LOW < HIGH"
            )
        )
    sets = tuple(sets)
    loaded = load(path, sets)
    names = tuple(plans) or tuple(offer.name for offer in candidates(loaded.model, loaded.offers))
    chosen = loaded.model.estate.seed if seed is None else seed
    count = max(2, math.ceil(math.log10(high / low) * _PER_DECADE) + 1)
    scales = tuple(low * (high / low) ** (n / (count - 1)) for n in range(count))
    points = [Point(n, scaled(loaded, s), names, chosen, _SAMPLED_ABOVE) for n, s in enumerate(scales)]
    found = run_points(loaded, sets, points, workers, store, cluster, progress)
    rows = tuple({"scale": s, **row} for n, s in enumerate(scales) for row in found[n] if row["feasible"])
    events = sum(t.expected for t in loaded.month.taps if not t.source.startswith("schedules."))
    seeker = _Seeker(loaded, sets, chosen, events)
    return Crossover(loaded, events, scales, rows, tuple(sorted(seeker.all(rows, scales), key=lambda c: c.scale)))


class _Seeker:
    """Finds crossings between two neighbouring volumes by false position (the Illinois variant, Dowell and Jarratt 1971)."""

    def __init__(self, loaded: Loaded, sets: Sets, seed: int, events: float) -> None:
        self.loaded, self.sets, self.seed, self.events = loaded, sets, seed, events
        self.known: dict[tuple[float, str], Row] = {}

    def at(self, scale: float, plan: str) -> Row:
        if (scale, plan) not in self.known:
            point = Point(0, scaled(self.loaded, scale), (plan,), self.seed, _SAMPLED_ABOVE)
            self.known[scale, plan] = solve(str(self.loaded.document.path), self.sets, point)[0]
        return self.known[scale, plan]

    def all(self, rows: Sequence[Row], scales: Sequence[float]) -> Iterable[Crossing]:
        self.known |= {(row["scale"], row["plan"]): row for row in rows}
        plans = list(dict.fromkeys(row["plan"] for row in rows))
        for low, high in pairwise(scales):
            for one, other in combinations(plans, 2):
                gaps = [self.at(s, one)["cost_total"] - self.at(s, other)["cost_total"] for s in (low, high)]
                if gaps[0] * gaps[1] < 0:
                    yield self._crossing(one, other, low, high, gaps[0], gaps[1], plans)

    def _crossing(
        self, one: str, other: str, low: float, high: float, gap: float, over: float, plans: list[str]
    ) -> Crossing:
        below, above = (one, other) if gap < 0 else (other, one)
        side = 0
        while high / low > 1 + _EXACT:
            share = min(0.95, max(0.05, gap / (gap - over)))
            middle = low * (high / low) ** share
            here = self.at(middle, one)["cost_total"] - self.at(middle, other)["cost_total"]
            if here == 0:
                low = high = middle
            elif here * gap > 0:
                low, gap = middle, here
                over = over / 2 if side == 1 else over
                side = 1
            else:
                high, over = middle, here
                gap = gap / 2 if side == -1 else gap
                side = -1
        scale = math.sqrt(low * high)
        cost = self.at(low, one)["cost_total"]
        others = [self.at(low, plan) for plan in plans if plan not in (one, other)]
        cheapest = not any(r["meets_targets"] and r["cost_total"] < cost for r in others) and all(
            self.at(low, plan)["meets_targets"] for plan in (one, other)
        )
        return Crossing(scale, scale * self.events, cost, below, above, cheapest)
