"""``project``: play the month on every plan, bill it, judge it, side by side."""

from __future__ import annotations

import logging
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from functools import partial
from typing import TYPE_CHECKING, Unpack

from msgspec.structs import replace

from echotally.engine.apart import simulate_month
from echotally.engine.machines import machines
from echotally.engine.play import Wanted
from echotally.engine.reading import Measured
from echotally.engine.sampling import expected_flows, sent_away, wants_sampling
from echotally.engine.watch import Bounds
from echotally.errors import Crowded, TooLarge
from echotally.model.estate import Model
from echotally.model.loading import ModelSource
from echotally.projection.answer import PlanProjection, PlayedPlan, Projection, RefusedPlan
from echotally.projection.bills import Bill, make_bill
from echotally.projection.choosing import Judged, choose_plan
from echotally.projection.confidence import Confidence, Doubt
from echotally.projection.loaded import Loaded, load, placement_on
from echotally.projection.memory import give_back_memory, keep_large_arrays_apart
from echotally.projection.metering import Metered, marks_for, meter
from echotally.projection.playing import USUAL, Playing, PlayingWords
from echotally.projection.threads import MANY, Progress, Tell, shared_out, side_by_side
from echotally.projection.totals import totals_of
from echotally.projection.verdict import Check, check_targets, refused_share
from echotally.projection.when_idle import bill_when_idle
from echotally.rates.card_loading import Offer
from echotally.rates.feasibility import Expected, limit_hint, memory_hint, reasons_against
from echotally.rates.node_room import floors_on_nodes

if TYPE_CHECKING:
    from echotally.engine.sampling.estimate import Sampled

_LOG = logging.getLogger(__name__)
_HOUR_NS = 3_600 * 10**9
#: Where more events than that wait, lumps and backlogs aside, a month is sampled: each takes a tenth of a kB.
_WAITING = 500_000
#: As many of them an event counts that waits as a call of its own.
_A_CALL = 3
#: Where more attempts of a function than that find no room, it is sampled as well: pushed events come again for hours, each a
#: hundred times, and that takes a few seconds.
_THROTTLED = 200_000_000


def project_plan(
    loaded: Loaded,
    candidate: Offer,
    seed: int,
    progress: Callable[[float], None] | None = None,
    how: Playing = USUAL,
) -> PlanProjection:
    """One candidate plan, unpinned functions on it. Raises ``TooLarge`` where even the sample would play too much."""
    keep_large_arrays_apart()
    model, began = loaded.model, time.perf_counter()
    placement = placement_on(model, loaded.offers, candidate)
    reasons = why_not(loaded, placement)
    if reasons:
        _LOG.info("%s cannot run the estate", candidate.name)
        return RefusedPlan(candidate, reasons)
    played, many = None, not how.exact and wants_sampling(model, loaded.month, placement, how.sampled_from)
    if many:
        played = _as_sample(loaded, candidate, seed, progress, how)
    elif not how.exact:
        waiting = _WAITING + loaded.there_at_once(_A_CALL)
        few = Bounds(True, how.attempts, waiting, _THROTTLED, _A_CALL)
        # What was played of a crowded month is let go before the sample is.
        with suppress(Crowded):
            few.hold_throttled(int(sent_away(model, loaded.month, placement)))
            played = _event_by_event(loaded, candidate, seed, progress, how, few)
        if played is None:
            with suppress(TooLarge):
                played = _as_sample(loaded, candidate, seed, progress, how)
    # Where even a sample would play too much, or the month itself is sooner played, there is no other way.
    played = played or _event_by_event(loaded, candidate, seed, progress, how)
    if model.units >= MANY or played.confidence:
        give_back_memory()
    _tell(candidate, played, time.perf_counter() - began)
    idle = bill_when_idle(loaded, candidate) if how.standing else None
    return replace(played, hints=_hints(model, placement), when_idle=idle, happenings=loaded.month.happenings)


def _as_sample(
    loaded: Loaded, candidate: Offer, seed: int, progress: Callable[[float], None] | None, how: Playing
) -> PlayedPlan | None:
    """The month from a sample; None where the month itself is sooner played."""
    from echotally.engine.sampling.estimate import Effort, sample, sample_unless_dearer

    usual, placement = Effort(), placement_on(loaded.model, loaded.offers, candidate)
    cores = 1 if how.places.width else how.cores
    effort = Effort(how.effort or usual.steady, how.most or usual.most, how.attempts, cores)
    sampling = partial(sample if how.alike else sample_unless_dearer, effort=effort)
    found = how.places.run(progress, sampling, loaded.model, loaded.month, placement, seed)
    return _sampled(loaded, found, candidate) if found else None


def _event_by_event(
    loaded: Loaded,
    candidate: Offer,
    seed: int,
    progress: Callable[[float], None] | None,
    how: Playing,
    within: Bounds | None = None,
) -> PlayedPlan:
    """The month with every event. Raises ``Crowded`` where it does not keep ``within`` bounds."""
    arrivals, placement = loaded.month.arrivals, placement_on(loaded.model, loaded.offers, candidate)
    marks = marks_for(placement.values(), arrivals.length_ns)._replace(passing_ns=how.passing_ns)
    bounds = within or Bounds(not how.exact, how.attempts)
    wanted = Wanted(bounds, how.starts, marks, how.cores, how.places, how.memory, how.quantities_only)
    measured = simulate_month(loaded.model, arrivals, placement, seed, progress, wanted)
    played = _exact(loaded, measured, candidate)
    # Its parts may have been played one by one, each within its bounds.
    bounds.hold(played.totals.attempts["total"])
    singly = {trigger.to for trigger in loaded.model.triggers if not trigger.from_.kind.traits.batched}
    waiting: Counter[bool] = Counter()
    for unit in measured.units:
        waiting[unit.unit.function in singly] += unit.backlog_peak
    bounds.hold_waiting(waiting[False], waiting[True])
    bounds.hold_throttled(max((unit.attempts["throttled"] for unit in measured.units), default=0))
    return played


def _tell(candidate: Offer, played: PlayedPlan, took_s: float) -> None:
    how = "every event" if played.confidence is None else "a sample"
    _LOG.info(
        "played %s: %s of %s events, %s attempts, in %.2f s",
        candidate.name,
        how,
        f"{played.totals.events['in']:,}",
        f"{played.totals.attempts['total']:,}",
        took_s,
    )


def why_not(loaded: Loaded, placement: Mapping[str, Offer]) -> tuple[tuple[str, str], ...]:
    """What speaks against playing the month on the plans of a placement, by function; empty where nothing does."""
    return tuple(_against(loaded, placement)) or tuple(_no_node_left(loaded.model, placement))


def _against(loaded: Loaded, placement: Mapping[str, Offer]) -> Iterator[tuple[str, str]]:
    """What speaks against the placement, function by function, in numbers of this month."""
    model = loaded.model
    # Asked twice: how many a reason concerns takes the month's flows, which most plans need not.
    if any(reasons_against(model, name, offer.plan) for name, offer in placement.items()):
        expected = Expected(*expected_flows(model, loaded.month))
        for name, offer in placement.items():
            yield from ((name, text) for text in reasons_against(model, name, offer.plan, expected))


def billed_again(loaded: Loaded, measured: Measured, candidate: Offer) -> PlayedPlan:
    """A month that was played event by event, metered, billed and judged."""
    return _exact(loaded, measured, candidate)


def _exact(loaded: Loaded, measured: Measured, candidate: Offer) -> PlayedPlan:
    metered, bill = _billed(loaded.model, measured, candidate)
    checks = tuple(check_targets(loaded.model, measured, bill))
    return PlayedPlan(candidate, measured, metered, bill, totals_of(measured.units), checks)


def _sampled(loaded: Loaded, found: Sampled, candidate: Offer) -> PlayedPlan:
    metered, bill = _billed(loaded.model, found.month, candidate)
    checks, sure = _judge_sample(loaded.model, found, candidate, bill)
    return PlayedPlan(candidate, found.month, metered, bill, totals_of(found.month.units), checks, confidence=sure)


def _judge_sample(model: Model, found: Sampled, candidate: Offer, bill: Bill) -> tuple[tuple[Check, ...], Confidence]:
    """The checks of a sampled month with their intervals, and the intervals of all figures a target can name."""
    # Every part is billed by itself, with its own tiers and allowance, since the scatter of bills is wanted.
    bills = [_billed(model, part, candidate)[1] for part in found.parts]
    of_parts = [check_targets(model, part, its) for part, its in zip(found.parts, bills, strict=True)]
    doubt = Doubt(found, bill.functions, _a_node(candidate, bill))
    refused = [refused_share(model, part) for part in found.parts]
    checks = doubt.checks(check_targets(model, found.month, bill), of_parts)
    return checks, doubt.confidence([float(its.unrounded) for its in bills], refused)


def _a_node(candidate: Offer, bill: Bill) -> float:
    """What a node costs that comes for a moment, and goes when it is idle for long enough."""
    lines = [line for line in bill.lines if line.meter == "node_hours"]
    hours = float(sum(line.quantity for line in lines))
    return float(sum(line.amount for line in lines)) / hours * candidate.plan.idle_ns / _HOUR_NS if hours else 0.0


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
    floors = (*_floors_missing(model, placement), *_without_effect(model, placement))
    return (*((name, text) for name, text in said if text), *floors)


def _floors_missing(model: Model, placement: Mapping[str, Offer]) -> Iterator[tuple[str, str]]:
    for room in floors_on_nodes(model, placement):
        if room.found < room.wanted:
            text = f"{room.found} of a floor of {room.wanted} find room on the nodes ({room.environment}); the rest is not there"
            yield room.function, text


def _without_effect(model: Model, placement: Mapping[str, Offer]) -> Iterator[tuple[str, str]]:
    """Keys about a function's own instances, on plans where it has none (rules 8.2 and 7.82)."""
    for name, offer in placement.items():
        function = model.functions[name]
        if offer.plan.bills == "reserved":
            keys = [key for key in ("instance_floors", "releases") if getattr(function, key)]
            if keys:
                yield name, f"{' and '.join(keys)} have no effect on reserved instances"


def _no_node_left(model: Model, placement: Mapping[str, Offer]) -> Iterator[tuple[str, str]]:
    for room in floors_on_nodes(model, placement):
        if not room.can_start:
            yield room.function, f"the floors fill every node ({room.environment}); it could never start"


def project(
    path: ModelSource | Loaded,
    sets: Iterable[tuple[str, str]] = (),
    plans: Iterable[str] = (),
    seed: int | None = None,
    *,
    progress: Callable[[str, float], None] | None = None,
    cluster: str | None = None,
    **how: Unpack[PlayingWords],
) -> Projection:
    """Play the month of a model file on every plan (or those named) and compare.

    ``sets`` are (address, value) overrides, ``progress`` is told (plan, share of the month played),
    ``exact`` simulates every event however many there are, ``sampled_from`` samples months of more expected events
    than that (left out: 40 million); months in which very many wait are sampled as well, unless ``exact``.
    ``cluster``: the address of a Dask scheduler, on whose workers plans and the independent parts of a large estate are
    played, with the same answer. A plan whose month is too large even for a sample stands beside the others without figures.
    Raises ``BadInput``; ``OurFault`` if a sum that must hold does not.
    """
    loaded = load(path, sets)
    with machines(cluster) as places:
        return project_loaded(loaded, list(plans), seed, progress, None, Playing(**how, standing=True, places=places))


def _all_played(
    chosen: Sequence[Offer],
    play: Callable[[Offer, int, Tell], PlanProjection],
    units: int,
    progress: Progress | None,
    workers: int | None,
    sampled: bool,
) -> list[PlanProjection]:
    """The plans, in their order. Samples of many functions are put together from so much that each is played by itself, on all cores."""
    at_once, cores = shared_out(units, len(chosen), workers, room=not sampled)
    order = sorted(chosen, key=_takes_long)
    tasks = {offer.name: partial(play, offer, cores) for offer in order}
    found = dict(zip(tasks, side_by_side(tasks, progress, at_once), strict=True))
    return [found[offer.name] for offer in chosen]


def _takes_long(offer: Offer) -> int:
    """By which plans are begun: first those of which a large estate is one part, played on one core, and where most may come again."""
    plan = offer.plan
    return 0 if plan.bills == "nodes" else 1 if plan.scaling.scope == "account" else 2


def _why_unplayed(offer: Offer, error: TooLarge) -> str:
    return f"not played: {error.problems[0].message}; project --plan {offer.name} --exact plays it"


def project_loaded(
    loaded: Loaded,
    plans: list[str],
    seed: int | None = None,
    progress: Callable[[str, float], None] | None = None,
    workers: int | None = 1,
    how: Playing = USUAL,
) -> Projection:
    """As ``project``, of a model already loaded.

    Plans are played on ``workers`` threads (None: one per core), or side by side on other machines; the result depends on neither.
    A plan whose month is too large even for a sample stands beside the others without figures, unless ``how.every_plan``.
    """
    model = loaded.model
    chosen = loaded.chosen(plans)
    the_seed = model.estate.seed if seed is None else seed

    def play(offer: Offer, cores: int, tell: Tell) -> PlanProjection:
        return project_plan(loaded, offer, the_seed, tell, replace(how, cores=cores))

    too_large: dict[str, TooLarge] = {}
    first = placement_on(model, loaded.offers, chosen[0])
    # On other machines each has the room of its own.
    here = model.units >= MANY and not how.places.width
    sampled = here and not how.exact and wants_sampling(model, loaded.month, first, how.sampled_from)

    def play_if_possible(offer: Offer, cores: int, tell: Tell) -> PlanProjection:
        try:
            return play(offer, cores, tell)
        except TooLarge as error:
            if how.every_plan or len(chosen) == 1:
                raise
            # Anew: where it was raised, whatever had been played stands on the stack that it holds.
            too_large[offer.name] = TooLarge(list(error.problems))
            tell(1.0)
            return RefusedPlan.unplayed(offer, _why_unplayed(offer, error))

    found = _all_played(chosen, play_if_possible, model.units, progress, how.places.width or workers, sampled)
    if too_large and not any(isinstance(plan, PlayedPlan) for plan in found):
        # Whichever was refused first by the clock, the same one is told.
        raise next(too_large[offer.name] for offer in chosen if offer.name in too_large)
    # By the rounded total, which is what is shown: plans that cost the same to the cent are equal.
    judged = [
        Judged(p.offer.name, p.bill.total, len(p.misses), len(p.undecided)) for p in found if isinstance(p, PlayedPlan)
    ]
    pick, closest = choose_plan(judged)
    return Projection(
        model, loaded.month, the_seed, chosen[0].card.currency, tuple(found), pick, closest, loaded.month.notes
    )
