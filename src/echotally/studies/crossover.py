"""``crossover``: what each plan costs at a multiple of today's volume, and where the lines cross."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from itertools import pairwise
from typing import TYPE_CHECKING, Unpack

from echotally.engine.machines import machines
from echotally.errors import BadInput, Problem, TooLarge
from echotally.model.loading import ModelSource
from echotally.model.sources import SourceKind
from echotally.projection.loaded import Loaded, all_sets, load
from echotally.rates.card_loading import candidates
from echotally.showing import Answer
from echotally.studies.crossings import SAMPLED_FROM, SOON, USUAL, Change, Crossing, Seeker, points_at
from echotally.studies.jobs import AtPoints, Row, run_points
from echotally.studies.running import Running, RunningWords
from echotally.studies.work import month_work

if TYPE_CHECKING:
    import pandas as pd

#: Volumes to look at between the bounds, a decade; fewer where all of them take as long as so many events.
_PER_DECADE, _FEW, _MUCH = 5, 2, 100_000_000
#: Between which volumes it is looked, widest first, where nobody says: the first whose months take no more work than this
#: (``work.month_work``), or the last.
_WIDTHS = ((0.01, 100.0), (0.01, 30.0), (0.01, 10.0), (0.1, 10.0), (0.1, 3.0), (0.3, 3.0), (0.5, 2.0))
_SOON = 30_000_000
#: Months of more events are played one after the other, so that what cannot be played is tried once.
_LARGE = 1_000_000


class Crossover(Answer, frozen=True):
    """Costs by scale and plan (``rows``: scale and the figures of a point), the crossings, and the changes of what meets
    its targets, by scale.

    ``too_large`` are volumes and plans of which no month was played: too many attempts, or even a sample would have been too large;
    and all volumes above that. The same holds for crossings and changes next to them. ``narrowed``: nobody said between which
    volumes to look, and as wide as usual would have taken long.
    """

    loaded: Loaded
    events: float
    scales: tuple[float, ...]
    rows: tuple[Row, ...]
    crossings: tuple[Crossing, ...]
    changes: tuple[Change, ...] = ()
    by: str | None = None
    too_large: tuple[tuple[float, str], ...] = ()
    narrowed: bool = False

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
        # Beside crossings it was played: they lie on the lines as well.
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


def crossover(
    path: ModelSource | Loaded,
    low: float | None = None,
    high: float | None = None,
    plans: Sequence[str] = (),
    *,
    sets: Iterable[tuple[str, str]] = (),
    **words: Unpack[RunningWords],
) -> Crossover:
    """Costs of the plans from ``low`` to ``high`` times today's demand, and every crossing, of months played event by event to 1 %.

    Left out, it is from a hundredth to a hundred times, or as far of that as is soon played (``Crossover.narrowed``).

    Only plans that take every function are shown. All volumes use the same random streams. Months of more than 8 million events are
    sampled, and crossings between them known to their intervals; large studies look at fewer volumes. A plan that takes more than 30
    million attempts at a volume is left out from there on (12 million where the range is left out).
    ``words``: how it is played (``Running``). Raises ``BadInput``.
    """
    run = Running(**words)
    loaded, sets = load(path, sets := tuple(sets)), all_sets(path, sets)
    names = tuple(plans) or tuple(offer.name for offer in candidates(loaded.model, loaded.offers))
    chosen = loaded.model.estate.seed if run.seed is None else run.seed
    events = math.fsum(t.expected for t in loaded.month.taps if t.source.kind is not SourceKind.SCHEDULES)
    low, high, narrowed = _bounds(low, high, events, len(names), loaded.model.units)
    scales = _evenly(low, high, _FEW if narrowed else _per_decade(low, high, events, len(names), loaded.model.units))
    most = SOON if narrowed else USUAL
    points = points_at(loaded, scales, names, chosen, run.by or "", most)
    with machines(run.cluster) as places:
        study = AtPoints(places, loaded, sets)
        small = sum(scale * events <= _LARGE for scale in scales)
        found = run_points(study, points, run, small)
        rows = tuple({"scale": s, **row} for n, s in enumerate(scales) for row in found[n] if row["feasible"])
        too_large = [(s, name) for n, s in enumerate(scales) for name in names if name not in _plans(found[n])]
        if too_large and not rows:
            what = "asks for volumes at which even a sample of a month would be too large, on every plan"
            raise TooLarge(Problem(what, "--scale", value=f"{low:g}..{high:g}", allowed="smaller volumes"))
        seeker = Seeker(study, chosen, events, rows, most)
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
        narrowed,
    )


def _bounds(low: float | None, high: float | None, events: float, plans: int, units: int) -> tuple[float, float, bool]:
    """Between which volumes to look, and whether that is narrower than usual; raises ``BadInput`` for what is no range."""
    usual = _WIDTHS[0]
    if low is None and high is None:
        soon = (w for w in _WIDTHS if _work(_evenly(*w, _FEW), events, plans, units) <= _SOON)
        chosen = next(soon, _WIDTHS[-1])
        return *chosen, chosen != usual
    low, high = usual[0] if low is None else low, usual[1] if high is None else high
    if not 0 < low < high:
        what, asked = "is not a range of volumes", f"{low:g}..{high:g}"
        raise BadInput(Problem(what, "--scale", value=asked, allowed="LOW..HIGH, 0 < LOW < HIGH"))
    return low, high, False


def _per_decade(low: float, high: float, events: float, plans: int, units: int) -> int:
    """At how many volumes a decade months of so many events for so many functions are looked at on so many plans."""
    most = _work(_evenly(low, high, _PER_DECADE), events, plans, units)
    return _PER_DECADE if most <= _MUCH else _FEW


def _work(scales: Sequence[float], events: float, plans: int, units: int) -> float:
    """What playing the months of some volumes takes."""
    return plans * math.fsum(month_work(min(SAMPLED_FROM, scale * events), units) for scale in scales)


def _evenly(low: float, high: float, a_decade: int) -> tuple[float, ...]:
    """Volumes evenly by ratio: from a hundredth to a hundred times is as far up as down."""
    count = max(2, math.ceil(math.log10(high / low) * a_decade) + 1)
    return tuple(low * (high / low) ** (n / (count - 1)) for n in range(count))


def _plans(rows: Sequence[Row]) -> set[str]:
    return {row["plan"] for row in rows}
