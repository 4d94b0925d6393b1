"""``crossover``: what each plan costs at a multiple of today's volume, and where the lines cross."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from itertools import combinations, pairwise
from typing import TYPE_CHECKING, TypeVar, Unpack

from echotally.engine.machines import machines
from echotally.errors import BadInput, Problem, TooLarge
from echotally.model.loading import ModelSource
from echotally.model.sources import SourceKind
from echotally.projection.loaded import Loaded, all_sets, load
from echotally.projection.threads import side_by_side
from echotally.rates.card_loading import candidates
from echotally.showing import Answer
from echotally.studies.jobs import AtPoints, Point, Row, Sets, run_points
from echotally.studies.running import Running, RunningWords

if TYPE_CHECKING:
    import pandas as pd

Found = TypeVar("Found")
#: Volumes to look at between the bounds, a decade; crossings are found to this share of their volume.
_PER_DECADE, _EXACT = 5, 0.002
#: Changes of what meets its targets are found to 1 %.
_CHANGE = 0.01
#: How far beyond a guess the order must have changed, as a share of the volume: well within the stated 1 %.
_BEYOND = 0.006
#: Larger months are sampled: a hundred times a month is a hundred times the work.
_SAMPLED_FROM = 8_000_000


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
class Change:
    """Between two volumes looked at a plan begins (``meets``) or ceases to meet its targets, at ``scale`` to 1 %."""

    scale: float
    plan: str
    meets: bool


@dataclass(frozen=True, repr=False)
class Crossover(Answer):
    """Costs by scale and plan (``rows``: scale and the figures of a point), the crossings, and the changes of what meets
    its targets, by scale.

    ``too_large`` are volumes and plans of which no month was played: even a sample would have been too large. The same holds for
    crossings and changes next to them.
    """

    loaded: Loaded
    events: float
    scales: tuple[float, ...]
    rows: tuple[Row, ...]
    crossings: tuple[Crossing, ...]
    changes: tuple[Change, ...] = ()
    by: str | None = None
    too_large: tuple[tuple[float, str], ...] = ()

    def picks(self) -> list[tuple[float, str | None]]:
        """The cheapest plan that meets every target, from each volume on at which that changes; None: there is none."""
        knots = sorted({*self.scales, *(c.scale for c in self.crossings), *(c.scale for c in self.changes)})
        found: list[tuple[float, str | None]] = []
        for low, high in pairwise(knots):
            plan = self._between(low, high)
            if not found or found[-1][1] != plan:
                found.append((low, plan))
        return found

    def _between(self, low: float, high: float) -> str | None:
        """The cheapest that meets every target between two neighbouring knots, by costs laid straight between volumes."""
        middle = math.sqrt(low * high)
        meeting = [
            (self._cost(plan, middle), plan)
            for plan in dict.fromkeys(row["plan"] for row in self.rows)
            if self._known(plan, low, high) and self._meets(plan, middle)
        ]
        return min(meeting, default=(0.0, None))[1]

    def _known(self, plan: str, low: float, high: float) -> bool:
        """Whether the plan was played at the volumes looked at that lie around two knots."""
        around = max(s for s in self.scales if s <= low), min(s for s in self.scales if s >= high)
        return not any((scale, plan) in self.too_large for scale in around)

    def _around(self, plan: str, scale: float) -> tuple[Row, Row]:
        mine = [row for row in self.rows if row["plan"] == plan]
        below = max((row for row in mine if row["scale"] <= scale), key=lambda r: r["scale"])
        above = min((row for row in mine if row["scale"] >= scale), key=lambda r: r["scale"])
        return below, above

    def _cost(self, plan: str, scale: float) -> float:
        below, above = self._around(plan, scale)
        # Crossings have been played: they lie on the lines as well.
        points = [(below["scale"], below["cost_total"]), (above["scale"], above["cost_total"])]
        points += [(c.scale, c.cost) for c in self.crossings if plan in (c.below, c.above)]
        points.sort()
        left = max(p for p in points if p[0] <= scale)
        right = min(p for p in points if p[0] >= scale)
        share = (scale - left[0]) / (right[0] - left[0]) if right[0] > left[0] else 0.0
        return float(left[1] + share * (right[1] - left[1]))

    def _meets(self, plan: str, scale: float) -> bool:
        below, _ = self._around(plan, scale)
        known = [(below["scale"], bool(below["meets_targets"]))]
        known += [(c.scale, c.meets) for c in self.changes if c.plan == plan and below["scale"] <= c.scale <= scale]
        return max(known)[1]

    def to_frame(self) -> pd.DataFrame:
        """A row for each scale and plan."""
        from echotally.projection.tables import frame_of

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
    path: ModelSource | Loaded,
    low: float = 0.01,
    high: float = 100.0,
    plans: Sequence[str] = (),
    *,
    sets: Iterable[tuple[str, str]] = (),
    **words: Unpack[RunningWords],
) -> Crossover:
    """Costs of the plans from ``low`` to ``high`` times today's demand, and every crossing to within 1 %.

    Only plans that take every function are shown. All volumes use the same random streams.
    ``words``: how it is played (``Running``). Raises ``BadInput``.
    """
    if not 0 < low < high:
        raise BadInput(
            Problem(
                "is not a range of volumes", "--scale", value=f"{low:g}..{high:g}", allowed="LOW..HIGH, 0 < LOW < HIGH"
            )
        )
    run = Running(**words)
    loaded, sets = load(path, sets := tuple(sets)), all_sets(path, sets)
    names = tuple(plans) or tuple(offer.name for offer in candidates(loaded.model, loaded.offers))
    chosen = loaded.model.estate.seed if run.seed is None else run.seed
    # Evenly by ratio: from a hundredth to a hundred times is as far up as down.
    count = max(2, math.ceil(math.log10(high / low) * _PER_DECADE) + 1)
    scales = tuple(low * (high / low) ** (n / (count - 1)) for n in range(count))
    points = [
        Point(n, scaled(loaded, s), names, chosen, _SAMPLED_FROM, run.by or "", some_left_out=True)
        for n, s in enumerate(scales)
    ]
    events = math.fsum(t.expected for t in loaded.month.taps if t.source.kind is not SourceKind.SCHEDULES)
    with machines(run.cluster) as places:
        study = AtPoints(places, loaded, sets)
        found = run_points(study, points, run)
        rows = tuple({"scale": s, **row} for n, s in enumerate(scales) for row in found[n] if row["feasible"])
        too_large = [(s, name) for n, s in enumerate(scales) for name in names if name not in _plans(found[n])]
        if too_large and not rows:
            what = "asks for volumes at which even a sample of a month would be too large, on every plan"
            raise TooLarge(Problem(what, "--scale", value=f"{low:g}..{high:g}", allowed="smaller volumes"))
        seeker = _Seeker(study, chosen, events, rows)
        at_once = places.width or (run.workers if run.workers > 0 else None)
        crossings = seeker.all(scales, at_once, run.progress)
        changes = seeker.changes(scales, at_once, run.progress)
    return Crossover(
        loaded,
        events,
        scales,
        rows,
        tuple(sorted(crossings, key=lambda c: c.scale)),
        tuple(sorted(changes, key=lambda c: c.scale)),
        run.by,
        tuple(too_large),
    )


def _plans(rows: Sequence[Row]) -> set[str]:
    return {row["plan"] for row in rows}


class _Seeker:
    """Finds crossings between two neighbouring volumes by false position (the Illinois variant, Dowell and Jarratt 1971)."""

    def __init__(self, study: AtPoints, seed: int, events: float, rows: Sequence[Row]) -> None:
        self.study, self.seed, self.events = study, seed, events
        self.known: dict[tuple[float, str], Row] = {(row["scale"], row["plan"]): row for row in rows}
        self.plans = list(dict.fromkeys(row["plan"] for row in rows))

    def all(
        self, scales: Sequence[float], workers: int | None, progress: Callable[[str, float], None] | None
    ) -> list[Crossing]:
        """Every crossing between neighbouring scales, side by side on threads."""
        tasks = {
            f"{one}, {other} from {low}": partial(_unless_too_large, partial(self._crossing, one, other, low, high))
            for one, other in combinations(self.plans, 2)
            # Where both cost the same to the last digit the order is still what it was before.
            for low, high in pairwise(s for s in self._played(scales, one, other) if self._gap(s, one, other))
            if self._gap(low, one, other) * self._gap(high, one, other) < 0
        }
        told = (lambda _, share: progress(f"{len(tasks)} crossings", share)) if progress else None
        return [crossing for crossing in side_by_side(tasks, told, workers) if crossing is not None]

    def _played(self, scales: Sequence[float], *plans: str) -> list[float]:
        """The volumes at which the month was played on all of some plans."""
        return [scale for scale in scales if all((scale, plan) in self.known for plan in plans)]

    def changes(
        self, scales: Sequence[float], workers: int | None, progress: Callable[[str, float], None] | None
    ) -> list[Change]:
        """Where plans begin or cease to meet their targets, by bisection, side by side on threads."""
        tasks = {
            f"{plan} from {low}": partial(_unless_too_large, partial(self._change, plan, low, high))
            for plan in self.plans
            for low, high in pairwise(self._played(scales, plan))
            if bool(self._at(low, plan)["meets_targets"]) != bool(self._at(high, plan)["meets_targets"])
        }
        told = (lambda _, share: progress(f"{len(tasks)} changes", share)) if progress else None
        return [change for change in side_by_side(tasks, told, workers) if change is not None]

    def _change(self, plan: str, low: float, high: float, tell: Callable[[float], None]) -> Change:
        meets = bool(self._at(high, plan)["meets_targets"])
        while high / low > 1 + _CHANGE:
            middle = math.sqrt(low * high)
            if bool(self._at(middle, plan, lambda _: tell(0.0))["meets_targets"]) == meets:
                high = middle
            else:
                low = middle
        tell(1.0)
        return Change(math.sqrt(low * high), plan, meets)

    def _at(self, scale: float, plan: str, tell: Callable[[float], None] | None = None) -> Row:
        if (scale, plan) not in self.known:
            # The same seed at every volume, so that lines differ by volume and not by chance.
            point = Point(0, scaled(self.study.loaded, scale), (plan,), self.seed, _SAMPLED_FROM)
            self.known[scale, plan] = self.study.rows(point, tell)[0]
        return self.known[scale, plan]

    def _gap(self, scale: float, one: str, other: str, tell: Callable[[float], None] | None = None) -> float:
        costs: list[float] = [self._at(scale, plan, tell)["cost_total"] for plan in (one, other)]
        return costs[0] - costs[1]

    def _crossing(self, one: str, other: str, low: float, high: float, tell: Callable[[float], None]) -> Crossing:
        left, right = _End(low, self._gap(low, one, other)), _End(high, self._gap(high, one, other))
        below, above = (one, other) if left.gap < 0 else (other, one)

        def heard(_: float) -> None:
            # How far a search is cannot be told; what is told is that it goes on, so that it can be stopped.
            tell(0.0)

        scale = low
        while right.scale / left.scale > 1 + _EXACT:
            # Never closer than a twentieth to an end, or a guess might stay there.
            share = min(0.95, max(0.05, left.weight / (left.weight - right.weight)))
            scale = left.scale + (right.scale - left.scale) * share
            gap = self._gap(scale, one, other, heard)
            if _near_enough(scale, gap, left, right):
                # Costs may step: it is a crossing only if the order has changed a little further on.
                further = scale * (1 + _BEYOND if gap * left.gap > 0 else 1 - _BEYOND)
                beyond = min(right.scale, max(left.scale, further))
                if gap * (after := self._gap(beyond, one, other, heard)) <= 0:
                    break
                scale, gap = beyond, after
            moved, kept = (left, right) if gap * left.gap > 0 else (right, left)
            moved.moves(scale, gap)
            kept.stays()
        tell(1.0)
        cost: float = self._at(scale, one)["cost_total"]
        cheapest = self._cheapest(scale, cost, (one, other), (low, high), heard)
        return Crossing(scale, scale * self.events, cost, below, above, cheapest)

    def _cheapest(
        self,
        scale: float,
        cost: float,
        pair: tuple[str, str],
        around: tuple[float, float],
        tell: Callable[[float], None],
    ) -> bool:
        """Whether the two meet every target there and no third plan that does is cheaper.

        A third plan that costs more at the neighbouring volume below is not played: costs rise with volume. Nor is one that
        was left out beside it.
        """
        if not all(self._at(scale, plan, tell)["meets_targets"] for plan in pair):
            return False
        known = [plan for plan in self.plans if plan not in pair and len(self._played(around, plan)) == len(around)]
        others = [plan for plan in known if self._at(around[0], plan)["cost_total"] < cost]
        return not any(
            r["meets_targets"] and r["cost_total"] < cost for r in (self._at(scale, p, tell) for p in others)
        )


def _unless_too_large(look: Callable[[Callable[[float], None]], Found], tell: Callable[[float], None]) -> Found | None:
    """What is looked for; None where a month on the way is too large even for a sample."""
    try:
        return look(tell)
    except TooLarge:
        tell(1.0)
        return None


@dataclass
class _End:
    """One end of the stretch a crossing is in: the gap between the plans there, and its weight in the next guess."""

    scale: float
    gap: float
    stayed: int = 0

    @property
    def weight(self) -> float:
        """The gap, halved for each time in a row after the first that only the other end moved (Illinois)."""
        return self.gap / float(2 ** max(0, self.stayed - 1))

    def moves(self, scale: float, gap: float) -> None:
        self.scale, self.gap, self.stayed = scale, gap, 0

    def stays(self) -> None:
        self.stayed += 1


def _near_enough(scale: float, gap: float, left: _End, right: _End) -> bool:
    """Whether the gap there, at the gentler of the slopes to both ends, is closed within ``_EXACT`` of the volume."""
    slopes = abs(gap - left.gap) / (scale - left.scale), abs(right.gap - gap) / (right.scale - scale)
    return abs(gap) <= min(slopes) * _EXACT * scale
