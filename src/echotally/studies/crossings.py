"""Where two plans cost the same, and where a plan begins or ceases to meet its targets, between volumes looked at.

Months that are samples are known to their intervals: two plans that differ by less than that leaves in doubt are not told apart, and
a search ends where it is no longer decided on which side of the crossing it stands.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import partial
from itertools import combinations, pairwise
from typing import NamedTuple, TypeVar

from msgspec import Struct
from msgspec.structs import replace

from echotally.errors import TooLarge
from echotally.model.addresses import dotted
from echotally.projection.loaded import Loaded
from echotally.projection.threads import Progress, side_by_side
from echotally.studies.jobs import AtPoints, Point, Row, Sets, cost_bounds, is_estimate

Found = TypeVar("Found")
Tell = Callable[[float], None]
#: The two volumes between which a crossing is known to lie are no farther apart than this share, and it is told to 1 %.
_EXACT, _TOLD = 0.015, 0.01
#: The same of changes of what meets its targets, told in their middle, and of those between samples.
_CHANGE, _CHANGE_OF_SAMPLES = 0.02, 0.05
#: So often at the most either end of the volumes at which a change is undecided is looked for.
_NARROWED = 4
#: A guess is tried so far beyond, as a share of the volume: where it is a good one the order has changed there, and both sides are known.
_BEYOND = 0.006
#: Larger months are sampled, with so many events in their steady hours: a hundred times a month is a hundred times the work.
SAMPLED_FROM, EFFORT = 8_000_000, 2_000_000


class Most(NamedTuple):
    """A month is left out where even a sample would play more events, or where it takes more attempts: where nothing finds room, each
    event is tried many times.
    """

    events: int = SAMPLED_FROM
    attempts: int = 30_000_000


#: Where somebody says how far to look, and where nobody does.
USUAL, SOON = Most(), Most(4_000_000, 12_000_000)


class Crossing(Struct, frozen=True):
    """Two plans that cost the same at ``scale`` times today's demand: ``below`` is cheaper under it, ``above`` over it.

    ``cheapest``: no third plan that meets the targets is cheaper there. It lies between ``low`` and ``high``: 1 % to either side, or
    with 95 % where months are samples.
    """

    scale: float
    events: float
    cost: float
    below: str
    above: str
    cheapest: bool
    low: float
    high: float


class Change(Struct, frozen=True):
    """Between two volumes looked at a plan begins (``meets``) or ceases to meet its targets, at ``scale``: between ``low``, where
    that is not yet so, and ``high``, where it is.
    """

    scale: float
    plan: str
    meets: bool
    low: float
    high: float


def scaled(loaded: Loaded, scale: float) -> Sets:
    """Overrides that multiply every environment's demand."""
    return tuple(
        (dotted(("environments", name, "demand")), repr(environment.demand * scale))
        for name, environment in loaded.model.environments.items()
    )


def points_at(
    loaded: Loaded, scales: Sequence[float], plans: tuple[str, ...], seed: int, by: str = "", most: Most = USUAL
) -> list[Point]:
    """The months of some volumes on some plans."""
    return [
        Point(
            n,
            scaled(loaded, scale),
            plans,
            seed,
            sampled_from=SAMPLED_FROM,
            effort=EFFORT,
            most=most.events,
            attempts=most.attempts,
            by=by,
            some_left_out=True,
            # Every demand is another one at each volume.
            has_parts_in_common=False,
        )
        for n, scale in enumerate(scales)
    ]


class Seeker:
    """Finds crossings between two neighbouring volumes by false position (the Illinois variant, Dowell and Jarratt 1971)."""

    def __init__(self, study: AtPoints, seed: int, events: float, rows: Sequence[Row], most: Most = USUAL) -> None:
        self.study, self.seed, self.events, self.most = study, seed, events, most
        self.known: dict[tuple[float, str], Row] = {(row["scale"], row["plan"]): row for row in rows}
        self.plans = list(dict.fromkeys(row["plan"] for row in rows))

    def all(self, scales: Sequence[float], workers: int | None, progress: Progress | None) -> list[Crossing]:
        """Every crossing between neighbouring scales, side by side on threads."""
        tasks = {
            f"{one}, {other} from {low}": partial(_unless_too_large, partial(self._crossing, one, other, low, high))
            for one, other in combinations(self.plans, 2)
            # Where both cost the same, to the last digit or as far as samples tell, the order is still what it was before.
            for low, high in pairwise(s for s in self._played(scales, one, other) if self._told_apart(s, one, other))
            if self._gap(low, one, other) * self._gap(high, one, other) < 0
        }
        told = (lambda _, share: progress(f"{len(tasks)} crossings", share)) if progress else None
        return [crossing for crossing in side_by_side(tasks, told, workers) if crossing is not None]

    def _played(self, scales: Sequence[float], *plans: str) -> list[float]:
        """The volumes at which the month was played on all of some plans."""
        return [scale for scale in scales if all((scale, plan) in self.known for plan in plans)]

    def changes(self, scales: Sequence[float], workers: int | None, progress: Progress | None) -> list[Change]:
        """Where plans begin or cease to meet their targets, by bisection, side by side on threads."""
        tasks = {
            f"{plan} from {low}": partial(_unless_too_large, partial(self._change, plan, low, high))
            for plan in self.plans
            for low, high in pairwise(s for s in self._played(scales, plan) if self._meets(s, plan) is not None)
            if self._meets(low, plan) != self._meets(high, plan)
        }
        told = (lambda _, share: progress(f"{len(tasks)} changes", share)) if progress else None
        return [change for change in side_by_side(tasks, told, workers) if change is not None]

    def _change(self, plan: str, low: float, high: float, tell: Tell) -> Change:
        meets = bool(self._meets(high, plan))
        while high / low > 1 + self._finest(plan, low, high):
            middle = math.sqrt(low * high)
            now = self._meets(middle, plan, lambda _: tell(0.0))
            if now is None:
                low = self._edge(plan, low, middle, not meets, tell)
                high = self._edge(plan, high, middle, meets, tell)
                break
            low, high = (low, middle) if now == meets else (middle, high)
        tell(1.0)
        return Change(math.sqrt(low * high), plan, meets, low, high)

    def _edge(self, plan: str, decided: float, undecided: float, meets: bool, tell: Tell) -> float:
        """How far from where it is decided towards where it is not the plan surely meets its targets, or misses one."""
        for _ in range(_NARROWED):
            if max(decided / undecided, undecided / decided) <= 1 + _CHANGE_OF_SAMPLES:
                break
            middle = math.sqrt(decided * undecided)
            if self._meets(middle, plan, lambda _: tell(0.0)) is meets:
                decided = middle
            else:
                undecided = middle
        return decided

    def _finest(self, plan: str, low: float, high: float) -> float:
        sampled = any(is_estimate(self._at(scale, plan)) for scale in (low, high))
        return _CHANGE_OF_SAMPLES if sampled else _CHANGE

    def _meets(self, scale: float, plan: str, tell: Tell | None = None) -> bool | None:
        found: bool | None = self._at(scale, plan, tell)["meets_targets"]
        return found

    def _at(self, scale: float, plan: str, tell: Tell | None = None) -> Row:
        if (scale, plan) not in self.known:
            # The same seed at every volume, so that lines differ by volume and not by chance.
            (point,) = points_at(self.study.loaded, [scale], (plan,), self.seed, most=self.most)
            self.known[scale, plan] = self.study.rows(replace(point, some_left_out=False), tell)[0]
        return self.known[scale, plan]

    def _gap(self, scale: float, one: str, other: str, tell: Tell | None = None) -> float:
        costs: list[float] = [self._at(scale, plan, tell)["cost_total"] for plan in (one, other)]
        return costs[0] - costs[1]

    def _doubt(self, scale: float, *plans: str) -> float:
        """Half of the 95 % interval of what two plans differ by: nothing where both months were played event by event."""
        # As if the samples had nothing in common; most of what chance does in one it does in the other, so it is less.
        return math.hypot(*(_half(self._at(scale, plan)) for plan in plans))

    def _told_apart(self, scale: float, one: str, other: str) -> bool:
        return abs(self._gap(scale, one, other)) > self._doubt(scale, one, other)

    def _crossing(self, one: str, other: str, low: float, high: float, tell: Tell) -> Crossing:
        left, right = _End(low, self._gap(low, one, other)), _End(high, self._gap(high, one, other))
        below, above = (one, other) if left.gap < 0 else (other, one)

        def heard(_: float) -> None:
            # How far a search is cannot be told; what is told is that it goes on, so that it can be stopped.
            tell(0.0)

        undecided = None
        while right.scale / left.scale > 1 + _EXACT and undecided is None:
            scale = _guess(left, right)
            gap = self._gap(scale, one, other, heard)
            if gap and not self._told_apart(scale, one, other):
                # On which side of the crossing this is cannot be told, however near another guess would come.
                undecided = scale
            else:
                moved, kept = (left, right) if gap * left.gap > 0 else (right, left)
                moved.moves(scale, gap)
                kept.stays()
        tell(1.0)
        # What was played next to it stands for it.
        played = undecided or min(left, right, key=lambda end: abs(end.gap)).scale
        cheapest = self._cheapest(played, self._at(played, one)["cost_total"], (one, other), (low, high), heard)
        if undecided is None:
            scale = _between(left, right)
            share = (scale - left.scale) / (right.scale - left.scale)
            costs: list[float] = [self._at(end.scale, one)["cost_total"] for end in (left, right)]
            cost = costs[0] + share * (costs[1] - costs[0])
        else:
            scale, cost = undecided, self._at(undecided, one)["cost_total"]
        slope = abs(right.gap - left.gap) / (right.scale - left.scale)
        aside = max(_TOLD * scale, self._doubt(played, one, other) / slope)
        # At both ends it was decided.
        least = max(scale - aside, min(left.scale, scale * (1 - _TOLD)))
        most = min(scale + aside, max(right.scale, scale * (1 + _TOLD)))
        return Crossing(scale, scale * self.events, cost, below, above, cheapest, least, most)

    def _cheapest(
        self,
        scale: float,
        cost: float,
        pair: tuple[str, str],
        around: tuple[float, float],
        tell: Tell,
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


def _unless_too_large(look: Callable[[Tell], Found], tell: Tell) -> Found | None:
    """What is looked for; None where a month on the way is too large even for a sample."""
    try:
        return look(tell)
    except TooLarge:
        tell(1.0)
        return None


def _half(row: Row) -> float:
    """How far at the most a cost may be from where it is told to be; 0 where it is exact."""
    low, high = cost_bounds(row)
    cost: float = row["cost_total"]
    return max(high - cost, cost - low)


class _End(Struct):
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


def _guess(left: _End, right: _End) -> float:
    """Where to look next: by false position, a little beyond it as seen from the nearer end."""
    width = right.scale - left.scale
    found = left.scale + width * left.weight / (left.weight - right.weight)
    found *= 1 + _BEYOND if found - left.scale < right.scale - found else 1 - _BEYOND
    # Never closer than a twentieth to an end, or a guess might stay there.
    return min(right.scale - 0.05 * width, max(left.scale + 0.05 * width, found))


def _between(left: _End, right: _End) -> float:
    """Where two lines cross that are straight between two volumes, within 1 % of both."""
    found = left.scale + (right.scale - left.scale) * left.gap / (left.gap - right.gap)
    return min(left.scale * (1 + _TOLD), max(right.scale / (1 + _TOLD), found))
