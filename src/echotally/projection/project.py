"""``project``: play the month on every plan, bill it, judge it, side by side."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from echotally.demand.month import MonthPlan
from echotally.engine.play import simulate
from echotally.engine.reading import Measured
from echotally.engine.sampling import Sampled, sample, wants_sampling
from echotally.errors import BadInput, Problem
from echotally.model.estate import Model
from echotally.projection.bills import Bill, make_bill
from echotally.projection.confidence import Confidence, Doubt
from echotally.projection.loaded import Loaded, load, placement_on
from echotally.projection.metering import Metered, meter
from echotally.projection.threads import side_by_side
from echotally.projection.verdict import Check, Judged, check_targets, choose_plan, refused_share
from echotally.projection.when_idle import standing_bill
from echotally.rates.card_loading import Offer, candidates
from echotally.rates.feasibility import limit_hint, memory_hint, reasons_against
from echotally.rates.node_room import floors_on_nodes

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class PlanProjection:
    """One candidate plan: why it is infeasible, or what the month does and costs on it."""

    offer: Offer
    reasons: tuple[tuple[str, str], ...]
    measured: Measured | None = None
    metered: Metered | None = None
    bill: Bill | None = None
    checks: tuple[Check, ...] = ()
    standing: Bill | None = None
    method: str = "exact"
    confidence: Confidence | None = None
    hints: tuple[tuple[str, str], ...] = ()

    @property
    def misses(self) -> tuple[Check, ...]:
        """The targets that are missed."""
        return tuple(check for check in self.checks if check.missed)

    @property
    def undecided(self) -> tuple[Check, ...]:
        """The targets of which a sample cannot say whether they are met."""
        return tuple(check for check in self.checks if check.undecided)

    @property
    def meets_targets(self) -> bool | None:
        """Whether every target is met; None where nothing is missed and something undecided."""
        if not self.feasible or self.misses:
            return False
        return None if self.undecided else True

    @property
    def feasible(self) -> bool:
        """Whether every function fits its plan."""
        return not self.reasons


@dataclass(frozen=True)
class Projection:
    """The answer of ``project``: every plan, the pick, the closest, and what was assumed."""

    model: Model
    month: MonthPlan
    seed: int
    currency: str
    plans: tuple[PlanProjection, ...]
    pick: str | None
    closest: str | None
    notes: tuple[str, ...] = field(default=())

    def plan(self, name: str) -> PlanProjection:
        """The projection of one plan by its full name; raises ``KeyError``."""
        return next(p for p in self.plans if p.offer.name == name)

    def to_frame(self, level: str = "functions") -> pd.DataFrame:
        """One level as a table: "functions" (a row a plan, function and environment), "plans", "bill" (a row a plan and
        meter) or "series" (a row an hour); raises ``ValueError`` for another.
        """
        from echotally.projection.tables import frame_at

        return frame_at(self, level)


def project_plan(
    loaded: Loaded,
    candidate: Offer,
    seed: int,
    progress: Callable[[float], None] | None = None,
    standing: bool = False,
    exact: bool = False,
    sampled_from: int | None = None,
    effort: int | None = None,
) -> PlanProjection:
    """One candidate plan, unpinned functions on it; ``standing``: also what it costs when nothing runs.

    A month of more than 40 million expected events (or ``sampled_from``) is sampled unless ``exact``; ``effort`` is
    how many events a sample plays in its steady hours (left out: six million). Raises ``BadInput`` where even the sample would play more than that.
    """
    model = loaded.model
    placement = placement_on(model, loaded.offers, candidate)
    reasons = tuple(
        (name, text) for name, offer in placement.items() for text in reasons_against(model, name, offer.plan)
    )
    reasons = reasons or tuple(_no_node_left(model, placement))
    if reasons:
        return PlanProjection(candidate, reasons)
    idle = standing_bill(loaded, candidate) if standing else None
    hints = _hints(model, placement)
    if not exact and wants_sampling(model, loaded.month, placement, sampled_from):
        found = sample(model, loaded.month, placement, seed, progress, effort)
        metered, bill = _billed(model, found.month, candidate)
        checks, sure = _judge_sample(model, found, candidate, bill)
        return PlanProjection(candidate, (), found.month, metered, bill, checks, idle, "sampled", sure, hints)
    measured = simulate(model, loaded.month, placement, seed, progress, bounded=not exact)
    metered, bill = _billed(model, measured, candidate)
    checks = tuple(check_targets(model, measured, bill))
    return PlanProjection(candidate, (), measured, metered, bill, checks, idle, "exact", None, hints)


def _judge_sample(
    model: Model, found: Sampled, candidate: Offer, bill: Bill
) -> tuple[tuple[Check, ...], Confidence]:  # fmt: skip
    """The checks of a sampled month with their intervals, and the intervals of all figures a target can name."""
    bills = [_billed(model, part, candidate)[1] for part in found.parts]
    of_parts = [check_targets(model, part, its) for part, its in zip(found.parts, bills, strict=True)]
    doubt = Doubt(found.month, found.parts, found.share, found.losses, found.critical)
    refused = [refused_share(model, part) for part in found.parts]
    checks = doubt.checks(check_targets(model, found.month, bill), of_parts)
    return checks, doubt.confidence([float(its.unrounded) for its in bills], refused)


def _billed(model: Model, measured: Measured, candidate: Offer) -> tuple[Metered, Bill]:
    units = [(u.unit.function, u.unit.environment) for u in measured.units]
    metered = meter(model, measured, candidate)
    return metered, make_bill(metered, units, candidate.card.currency)


def _hints(model: Model, placement: Mapping[str, Offer]) -> tuple[tuple[str, str], ...]:
    """What a plan quietly changes about a function: memory rounded up, an instance limit that does not hold."""
    said = [
        (name, text(model.functions[name], offer.plan))
        for name, offer in placement.items()
        for text in (memory_hint, limit_hint)
    ]
    floors = tuple(_floors_missing(model, placement))
    return (*((name, text) for name, text in said if text), *floors)


def _floors_missing(model: Model, placement: Mapping[str, Offer]) -> Iterator[tuple[str, str]]:
    for room in floors_on_nodes(model, placement):
        if room.found < room.wanted:
            text = f"{room.found} of a floor of {room.wanted} find room on the nodes ({room.environment}); the rest is not there"
            yield room.function, text


def _no_node_left(model: Model, placement: Mapping[str, Offer]) -> Iterator[tuple[str, str]]:
    for room in floors_on_nodes(model, placement):
        if not room.can_start:
            yield room.function, f"the floors fill every node ({room.environment}); it could never start"


def project(
    path: Path | str,
    sets: Iterable[tuple[str, str]] = (),
    plans: Iterable[str] = (),
    seed: int | None = None,
    progress: Callable[[str, float], None] | None = None,
    exact: bool = False,
    sampled_from: int | None = None,
) -> Projection:
    """Play the month of a model file on every plan (or those named) and compare.

    ``sets`` are (address, value) overrides, ``progress`` is told (plan, share of the month played),
    ``exact`` simulates every event however many there are, ``sampled_from`` samples months of more expected events
    than that (left out: 40 million).
    Raises ``BadInput``; ``OurFault`` if a sum that must hold does not.
    """
    loaded = load(path, sets)
    return project_loaded(
        loaded, list(plans), seed, progress, standing=True, exact=exact, workers=None, sampled_from=sampled_from
    )


def project_loaded(
    loaded: Loaded,
    plans: list[str],
    seed: int | None = None,
    progress: Callable[[str, float], None] | None = None,
    standing: bool = False,
    exact: bool = False,
    workers: int | None = 1,
    sampled_from: int | None = None,
) -> Projection:
    """As ``project``, of a model already loaded; ``standing``: also what each plan costs when nothing runs.

    Plans are played on ``workers`` threads (None: one per core); the result does not depend on them.
    """
    model = loaded.model
    unknown = [name for name in plans if name not in loaded.offers]
    if unknown:
        raise BadInput(Problem("no rate card has this plan", value=unknown[0], allowed=", ".join(loaded.offers)))
    chosen = [loaded.offers[name] for name in plans] or candidates(model, loaded.offers)
    the_seed = model.estate.seed if seed is None else seed

    def play(offer: Offer, tell: Callable[[float], None]) -> PlanProjection:
        return project_plan(loaded, offer, the_seed, tell, standing, exact, sampled_from)

    found = side_by_side({offer.name: partial(play, offer) for offer in chosen}, progress, workers)
    judged = [Judged(p.offer.name, p.bill.total, len(p.misses), len(p.undecided)) for p in found if p.bill is not None]
    pick, closest = choose_plan(judged)
    return Projection(
        model, loaded.month, the_seed, chosen[0].card.currency, tuple(found), pick, closest, loaded.month.notes
    )
