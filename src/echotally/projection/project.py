"""``project``: play the month on every plan, bill it, judge it, side by side."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path

from echotally.demand.month import MonthPlan, plan_month
from echotally.engine.measured import Measured
from echotally.engine.running import simulate
from echotally.errors import BadInput, Problem
from echotally.model.estate import Model
from echotally.model.loading import load_with_document
from echotally.model.reading import Document
from echotally.projection.bills import Bill, make_bill
from echotally.projection.metering import meter
from echotally.projection.verdict import Miss, choose_plan, find_misses
from echotally.rates.feasibility import reasons_against
from echotally.rates.loading import Offer, candidates, load_offers


@dataclass(frozen=True)
class PlanProjection:
    """One candidate plan: why it is infeasible, or what the month does and costs on it."""

    offer: Offer
    reasons: tuple[tuple[str, str], ...]
    measured: Measured | None = None
    bill: Bill | None = None
    misses: tuple[Miss, ...] = ()
    method: str = "exact"

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


@dataclass(frozen=True)
class Loaded:
    """A model ready to be played: document, month and offers checked as well."""

    model: Model
    document: Document
    month: MonthPlan
    offers: dict[str, Offer]


def load(path: Path | str, sets: Iterable[tuple[str, str]] = ()) -> Loaded:
    """Load and check a model with its cards, schedules and traces; raises ``BadInput`` with every mistake."""
    model, document = load_with_document(path, sets)
    problems: list[Problem] = []
    month, offers = None, None
    try:
        offers = load_offers(document, model)
    except BadInput as error:
        problems += error.problems
    try:
        month = plan_month(model, document)
    except BadInput as error:
        problems += error.problems
    if month is None or offers is None:
        raise BadInput(problems)
    return Loaded(model, document, month, offers)


def placement_on(model: Model, offers: dict[str, Offer], candidate: Offer) -> dict[str, Offer]:
    """Each function's plan when ``candidate`` is projected: its own pin, or the candidate."""
    return {name: offers[function.plan] if function.plan else candidate for name, function in model.functions.items()}


def project_plan(
    loaded: Loaded, candidate: Offer, seed: int, progress: Callable[[float], None] | None = None
) -> PlanProjection:
    """One candidate plan, unpinned functions on it."""
    model = loaded.model
    placement = placement_on(model, loaded.offers, candidate)
    reasons = tuple(
        (name, text) for name, offer in placement.items() for text in reasons_against(model, name, offer.plan)
    )
    if reasons:
        return PlanProjection(candidate, reasons)
    measured = simulate(model, loaded.month, placement, seed, progress)
    units = [(u.unit.function, u.unit.environment) for u in measured.units]
    bill = make_bill(meter(model, measured, candidate), units, candidate.card.currency)
    return PlanProjection(candidate, (), measured, bill, tuple(find_misses(model, measured, bill)))


def project(
    path: Path | str,
    sets: Iterable[tuple[str, str]] = (),
    plans: Iterable[str] = (),
    seed: int | None = None,
    progress: Callable[[str, float], None] | None = None,
) -> Projection:
    """Play the month of a model file on every plan (or those named) and compare.

    ``sets`` are (address, value) overrides, ``progress`` is told (plan, share of the month played).
    Raises ``BadInput``; ``OurFault`` if a sum that must hold does not.
    """
    loaded = load(path, sets)
    return project_loaded(loaded, list(plans), seed, progress)


def project_loaded(
    loaded: Loaded,
    plans: list[str],
    seed: int | None = None,
    progress: Callable[[str, float], None] | None = None,
) -> Projection:
    """As ``project``, of a model already loaded."""
    model = loaded.model
    unknown = [name for name in plans if name not in loaded.offers]
    if unknown:
        raise BadInput(Problem("no rate card has this plan", value=unknown[0], allowed=", ".join(loaded.offers)))
    chosen = [loaded.offers[name] for name in plans] or candidates(model, loaded.offers)
    seed = model.estate.seed if seed is None else seed
    found = []
    for offer in chosen:
        tell = (lambda share, name=offer.name: progress(name, share)) if progress else None
        found.append(project_plan(loaded, offer, seed, tell))
    judged: list[tuple[str, Decimal, int]] = [
        (p.offer.name, p.bill.total, len(p.misses)) for p in found if p.bill is not None
    ]
    pick, closest = choose_plan(judged)
    return Projection(
        model, loaded.month, seed, chosen[0].card.currency, tuple(found), pick, closest, loaded.month.notes
    )
