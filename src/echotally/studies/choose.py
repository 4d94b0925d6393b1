"""``choose``: which plan for which function, and the smallest limit, memory and batch that keep the targets.

Assignments are first estimated, then played. Every plan is played once with all functions that fit it; the
quantities each function used there are put together for any assignment and billed as they would be: allowances
shared, reserved instances and flat items once. The best estimates are then played in full, and the cheapest
that meets the targets is chosen. Few assignments are all estimated; of many, a descent moves one or two
functions at a time from every uniform start, and the gap to a bound below every assignment is said.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import cached_property
from os import cpu_count

from echotally.demand.month import MonthPlan
from echotally.engine.apart import simulate_month
from echotally.engine.sampling import expected_events
from echotally.errors import BadInput, Problem
from echotally.model.estate import Model
from echotally.model.loading import ModelSource
from echotally.model.units import memory_text
from echotally.projection.answer import PlanProjection, PlayedPlan, RefusedPlan
from echotally.projection.loaded import Loaded, load, placement_on
from echotally.projection.metering import UnitKey, meter
from echotally.projection.project import project_plan
from echotally.projection.trial import Trial, Trials, trial_of
from echotally.rates.card import Plan
from echotally.rates.card_loading import Offer, candidates
from echotally.rates.feasibility import reasons_against
from echotally.studies.about_prices import Prices, bill_about, lowest_unit, prices_of
from echotally.studies.choice import Choice, Sets
from echotally.studies.committing import commitments
from echotally.studies.warm_hours import warm_hours

Assignment = tuple[str, ...]
#: Assignments up to this many are all estimated; so many of the best are played.
_ALL, _PLAYED = 200_000, 12
#: Months of more expected events are compared as samples of about so many.
_LARGE, _EFFORT = 2_000_000, 400_000
_ONCE = ("reserved_hours", "node_hours")
_BATCHES = (1, 2, 5, 10, 20, 50, 100, 200, 500, 1_000, 2_000, 5_000, 10_000)


def with_commitments(
    found: Choice, seed: int | None = None, progress: Callable[[str, float], None] | None = None
) -> Choice:
    """The choice with the commitments that its plans sell, billed against its month (``committing``)."""
    loaded = found.loaded.changed(found.sets) if found.sets else found.loaded
    the_seed = loaded.model.estate.seed if seed is None else seed
    return replace(found, commitments=tuple(commitments(loaded, found.chosen, the_seed, progress)))


def choose(
    path: ModelSource | Loaded,
    sets: Iterable[tuple[str, str]] = (),
    seed: int | None = None,
    sizes: bool = True,
    progress: Callable[[str, float], None] | None = None,
) -> Choice:
    """The cheapest assignment that meets the targets (else with the fewest misses), then sizes (``sizes``).

    Today is the plan ``project`` picks, else the closest, with the model's pins. Raises ``BadInput`` where some function
    fits no plan.
    """
    loaded = load(path, sets)
    chooser = _Chooser(loaded, loaded.model.estate.seed if seed is None else seed, progress)
    today = chooser.today()
    assignment, tried, method, bound = chooser.best_assignment()
    pins = chooser.pins(assignment)
    plain = chooser.play(assignment)
    sized = chooser.sizes(assignment) if sizes else ()
    chosen = chooser.play(assignment, sized) if sized else plain
    if _rank(chosen) > _rank(plain):
        # What decided on a sample of a large month need not hold in the whole of it.
        chosen, sized = plain, ()
    return Choice(
        loaded,
        today,
        chosen,
        assignment,
        (*pins, *sized),
        method,
        tried,
        chooser.played,
        bound,
        plain.bill.unrounded,
        sized=sizes,
    )


@dataclass
class _Chooser:
    loaded: Loaded
    seed: int
    progress: Callable[[str, float], None] | None
    played: int = 0
    quantities: dict[str, dict[UnitKey | None, dict[tuple[str, str], float]]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        model = self.loaded.model
        self.functions = list(model.functions)
        self.offers = candidates(model, self.loaded.offers)
        self.fits = {
            name: [o.name for o in self.offers if not reasons_against(model, name, o.plan)] for name in self.functions
        }
        lost = [name for name, plans in self.fits.items() if not plans]
        if lost:
            raise BadInput(Problem(f"no plan can take {', '.join(lost)}; 'echotally project' says why"))

    def today(self) -> PlayedPlan:
        """What the model's own pins and the plan that would be picked cost."""
        found = [project_plan(self.loaded, offer, self.seed, cores=cpu_count() or 1) for offer in self.offers]
        self.played += len(found)
        feasible = [p for p in found if isinstance(p, PlayedPlan)]
        if not feasible:
            return self.play({name: plans[0] for name, plans in self.fits.items()})
        return min(feasible, key=_rank)

    def play(self, assignment: dict[str, str], sets: Sets = (), *, rough: bool = False) -> PlayedPlan:
        """The month under an assignment, with further overrides; raises ``BadInput`` where it leaves a function no room."""
        found = self.try_out(assignment, sets, rough=rough)
        if isinstance(found, RefusedPlan):
            name, why = found.reasons[0]
            raise BadInput(Problem(f"{name} has no room beside the others: {why}", value=assignment[name]))
        return found

    def try_out(self, assignment: dict[str, str], sets: Sets = (), *, rough: bool = False) -> PlanProjection:
        """The month under an assignment, with further overrides, if it can be played."""
        self.played += 1
        functions = {
            name: f.model_copy(update={"plan": assignment[name]}) for name, f in self.loaded.model.functions.items()
        }
        if sets:
            changed = load(self.loaded.document.path, [*self.loaded.document.changed_sets(), *sets])
            own = changed.model.functions.items()
            functions = {name: f.model_copy(update={"plan": assignment[name]}) for name, f in own}
            model, month = changed.model.model_copy(update={"functions": functions}), changed.month
        else:
            model, month = self.loaded.model.model_copy(update={"functions": functions}), self.loaded.month
        return self._project(model, self.loaded.offers[next(iter(assignment.values()))], month, rough=rough)

    def _project(
        self, model: Model, offer: Offer, month: MonthPlan | None = None, *, rough: bool = True
    ) -> PlanProjection:
        """A month of the estate (left out: as it is); ``rough``: of a large one a small sample, which decides the same in a fraction of the time."""
        placed = Loaded(model, self.loaded.document, month or self.loaded.month, self.loaded.offers)
        start, effort = (0, _EFFORT) if rough and self.large else (None, None)
        return project_plan(placed, offer, self.seed, sampled_from=start, effort=effort, cores=cpu_count() or 1)

    @cached_property
    def large(self) -> bool:
        """Whether a month holds so many events that what is only compared is played as a sample."""
        offer = self.offers[0]
        placement = placement_on(self.loaded.model, self.loaded.offers, offer)
        return expected_events(self.loaded.model, self.loaded.month, placement) > _LARGE

    # -- estimates ----------------------------------------------------------------------------------------------
    def measure(self) -> None:
        """Play every plan once with the functions that fit it, and keep what each used there."""
        model = self.loaded.model
        for number, offer in enumerate(self.offers):
            placement = {
                name: offer if offer.name in fits else self.loaded.offers[fits[0]] for name, fits in self.fits.items()
            }
            if not any(o is offer for o in placement.values()):
                continue
            pinned = {n: f.model_copy(update={"plan": placement[n].name}) for n, f in model.functions.items()}
            played = self._project(model.model_copy(update={"functions": pinned}), offer)
            self.played += 1
            if isinstance(played, RefusedPlan):
                # Functions that find no room beside each other may each find some; what they use is the same.
                month = self.loaded.month.arrivals
                metered = meter(model, simulate_month(model, month, placement, self.seed), offer)
            else:
                metered = played.metered
            kept: dict[UnitKey | None, dict[tuple[str, str], float]] = {}
            for (account, plan), metered_parts in metered.quantities.items():
                if plan == offer.name:
                    for name, parts in metered_parts.items():
                        for key, quantity in parts.items():
                            # Instances and nodes are paid once for the whole plan, whoever uses them.
                            owner = None if name in _ONCE else key
                            meters = kept.setdefault(owner, {})
                            meters[account, name] = meters.get((account, name), 0.0) + float(quantity)
            self.quantities[offer.name] = kept
            if self.progress:
                self.progress("plans", (number + 1) / len(self.offers))

    def estimate(self, assignment: Assignment) -> float:
        """The bill of an assignment from what was measured: float, for ranking only."""
        used: dict[str, dict[tuple[str, str], float]] = {}
        for name, plan in zip(self.functions, assignment, strict=True):
            total = used.setdefault(plan, dict(self.quantities[plan].get(None, {})))
            for meter_key, quantity in self._used_by[plan].get(name, ()):
                total[meter_key] = total.get(meter_key, 0.0) + quantity
        return math.fsum(bill_about(self._prices[plan], total) for plan, total in used.items())

    @cached_property
    def _prices(self) -> dict[str, Prices]:
        return {offer.name: prices_of(offer.plan) for offer in self.offers}

    @cached_property
    def _used_by(self) -> dict[str, dict[str, list[tuple[tuple[str, str], float]]]]:
        """What each function used on each plan."""
        found: dict[str, dict[str, list[tuple[tuple[str, str], float]]]] = {}
        for plan, kept in self.quantities.items():
            of_plan = found.setdefault(plan, {})
            for key, meters in kept.items():
                if key is not None:
                    of_plan.setdefault(key[0], []).extend(meters.items())
        return found

    def best_assignment(self) -> tuple[dict[str, str], int, str, Decimal | None]:
        """Estimate, play the best estimates, take the cheapest that meets the targets."""
        self.measure()
        count = math.prod(len(plans) for plans in self.fits.values())
        if count <= _ALL:
            pool = {a: self.estimate(a) for a in itertools.product(*(self.fits[name] for name in self.functions))}
            method, bound = f"all {count:,} assignments estimated", None
        else:
            pool = self._descend()
            method, bound = (
                f"descent from every plan over {count:.3g} assignments",
                Decimal(repr(round(self._bound(), 6))),
            )
        ranked = sorted(pool, key=lambda a: (pool[a], a))
        tried = [dict(zip(self.functions, a, strict=True)) for a in ranked[:_PLAYED]]
        tried += [d for d in self._uniform() if d not in tried]
        results = [(found, a) for a in tried if isinstance(found := self.try_out(a, rough=True), PlayedPlan)]
        # Where none has room beside the others, the first says why.
        results = results or [(self.play(tried[0]), tried[0])]
        best = min(results, key=lambda r: (_rank(r[0]), list(r[1].values())))[1]
        return best, len(pool), f"{method}; the best {len(tried)} played", bound

    def _uniform(self) -> Iterator[dict[str, str]]:
        """Every plan that takes all functions, on its own."""
        for offer in self.offers:
            if all(offer.name in plans for plans in self.fits.values()):
                yield dict.fromkeys(self.functions, offer.name)

    def _descend(self) -> dict[Assignment, float]:
        """Best improvement by moving one function, then two at once, from each uniform or nearly uniform start."""
        pool: dict[Assignment, float] = {}
        for offer in self.offers:
            now = tuple(offer.name if offer.name in self.fits[n] else self.fits[n][0] for n in self.functions)
            pool[now] = self.estimate(now)
            while True:
                moves = {a: self.estimate(a) for a in self._neighbours(now, 1)}
                if min(moves.values(), default=math.inf) >= pool[now] and len(self.functions) <= 12:
                    moves |= {a: self.estimate(a) for a in self._neighbours(now, 2)}
                pool |= moves
                best = min(moves, key=lambda a: (moves[a], a), default=now)
                if moves.get(best, math.inf) >= pool[now] - 1e-9:
                    break
                now = best
        return pool

    def _neighbours(self, now: Assignment, many: int) -> Iterator[Assignment]:
        for places in itertools.combinations(range(len(now)), many):
            for plans in itertools.product(*(self.fits[self.functions[p]] for p in places)):
                changed = list(now)
                for place, plan in zip(places, plans, strict=True):
                    changed[place] = plan
                if tuple(changed) != now:
                    yield tuple(changed)

    def _bound(self) -> float:
        """Below every assignment: each function on its cheapest plan at the lowest price of every tier, and every
        allowance of every plan given away for nothing at its highest.
        """
        total = 0.0
        for name in self.functions:
            total += min(
                math.fsum(
                    quantity * lowest_unit(self.loaded.offers[plan].plan, meter_name)
                    for key, meters in self.quantities[plan].items()
                    if key is not None and key[0] == name
                    for (_, meter_name), quantity in meters.items()
                )
                for plan in self.fits[name]
            )
        accounts = len({e.account for e in self.loaded.model.environments.values()})
        for offer in self.offers:
            total -= accounts * math.fsum(
                free * lowest_unit(offer.plan, name) for name, free in offer.plan.allowance.items()
            )
        return max(0.0, total)

    # -- sizes --------------------------------------------------------------------------------------------------
    def pins(self, assignment: dict[str, str]) -> Sets:
        """Overrides that pin each function to its plan, where it is not so pinned."""
        functions = self.loaded.model.functions
        return tuple((f"functions.{n}.plan", p) for n, p in assignment.items() if functions[n].plan != p)

    def sizes(self, assignment: dict[str, str]) -> Sets:
        """Function by function the smallest memory, batch, hours of a floor and instance limit that miss and cost no more."""
        pinned = load(self.loaded.document.path, self._with_pins(assignment), like=self.loaded)
        trials = _Sizes(self, assignment, pinned)
        chosen: Sets = ()
        for number, name in enumerate(self.functions):
            plan = self.loaded.offers[assignment[name]].plan
            for options in (self._memories(name, plan), *self._batches(name)):
                better = next((sets for sets in options if trials.no_worse((*chosen, sets))), None)
                if better is not None:
                    chosen = (*chosen, better)
                    trials.take(chosen)
            if plan.bills != "reserved":
                for sets in self._hours(name, trials):
                    if trials.no_worse((*chosen, *sets)):
                        chosen = (*chosen, *sets)
                        trials.take(chosen)
                        break
                limit = self._limit(name, trials, chosen)
                if limit is not None:
                    chosen = (*chosen, (f"functions.{name}.instance_limit", str(limit)))
            if self.progress:
                self.progress("sizes", (number + 1) / len(self.functions))
        return chosen

    def _with_pins(self, assignment: dict[str, str]) -> list[tuple[str, str]]:
        return [*self.loaded.document.changed_sets(), *((f"functions.{n}.plan", p) for n, p in assignment.items())]

    def _memories(self, name: str, plan: Plan) -> list[tuple[str, str]]:
        """Sizes sold below today's that hold what a run uses, smallest first (at most eight)."""
        function = self.loaded.model.functions[name]
        now = plan.memory.round_up(function.memory) or function.memory
        sizes: list[int] = []
        size = plan.memory.round_up(function.memory_used or function.memory)
        while size is not None and size < now and len(sizes) < 200:
            sizes.append(size)
            size = plan.memory.round_up(size + 1)
        few = sizes[:: max(1, -(-len(sizes) // 8))]
        return [(f"functions.{name}.memory", memory_text(size)) for size in few]

    def _batches(self, name: str) -> Iterator[list[tuple[str, str]]]:
        """Smaller batches of each of its queues and streams, smallest first."""
        for number, trigger in enumerate(self.loaded.model.triggers):
            if trigger.to == name and trigger.batch > 1:
                yield [(f"triggers.{number}.batch", str(n)) for n in _BATCHES if n < trigger.batch]

    def _hours(self, name: str, trials: _Sizes) -> Iterator[Sets]:
        """A floor by the hours in place of one all day, fewest hours first, where a target says what it is there for."""
        function, estate = self.loaded.model.functions[name], self.loaded.model.targets
        for_what = (function.targets.wait_p95, function.targets.latency_p95, estate.wait_p95, estate.latency_p95)
        if function.instance_floor and not function.instance_floors and any(t is not None for t in for_what):
            yield from warm_hours(trials.measured, self.loaded.month.clock, name, function.instance_floor)

    def _limit(self, name: str, trials: _Sizes, chosen: Sets) -> int | None:
        """The smallest instance limit that misses no more, by bisection below the most instances there were."""
        high = trials.most_instances(name, chosen)
        low = 0
        while high - low > 1:
            middle = (low + high) // 2
            if not trials.misses_no_more((*chosen, (f"functions.{name}.instance_limit", str(middle)))):
                low = middle
            else:
                high = middle
        now = self.loaded.model.functions[name].instance_limit
        return None if high < 1 or high == now else high


class _Sizes:
    """Sizes tried one after the other on an assignment: each in the part of the estate that it changes, where it has parts."""

    def __init__(self, chooser: _Chooser, assignment: dict[str, str], pinned: Loaded) -> None:
        self._chooser, self._assignment = chooser, assignment
        base = chooser.play(assignment, rough=True)
        self.measured = base.measured
        self._trials = Trials(pinned, base, _LARGE, _EFFORT, chooser.seed)
        self._taken: Sets = ()
        self._in_parts: dict[tuple[Sets, frozenset[str] | None], tuple[Trial, Trial | None] | None] = {}
        self._whole: dict[Sets, Trial | None] = {}

    def take(self, sets: Sets) -> None:
        """Lay what follows beside the month with these."""
        self._taken = sets

    def no_worse(self, sets: Sets) -> bool:
        """Whether these cost no more and miss no more than what was taken so far."""
        return any(new.cost <= old.cost and len(new.misses) <= len(old.misses) for old, new in self._pair(sets))

    def misses_no_more(self, sets: Sets) -> bool:
        """Whether these miss no more targets than what was taken so far."""
        return any(len(new.misses) <= len(old.misses) for old, new in self._pair(sets))

    def most_instances(self, name: str, sets: Sets) -> int:
        """The most instances there are of a function."""
        pair = self._in_part(sets, f"functions.{name}.instance_limit")
        found = pair[1] if pair else self._of_whole(sets)
        return max((u.instances.peak for u in found.units_of(name)), default=1) if found else 1

    def _pair(self, sets: Sets) -> Iterator[tuple[Trial, Trial]]:
        """What was taken so far, and these; nothing where they cannot be played.

        Both of the part that the last of these reaches, or both of the whole: costs of one and of the other are not laid
        beside each other.
        """
        address = sets[-1][0]
        parts = self._in_part(self._taken, address), self._in_part(sets, address)
        old, new = (part[1] if part else None for part in parts)
        if None in parts:
            old, new = self._of_whole(self._taken), self._of_whole(sets)
        if old and new:
            yield old, new

    def _in_part(self, sets: Sets, address: str) -> tuple[Trial, Trial | None] | None:
        """As ``Trials.pair``, of those of the overrides that belong to the part an address belongs to."""
        own = self._trials.of_part(sets, address)
        key = own, self._trials.members(address)
        if key not in self._in_parts:
            self._in_parts[key] = found = self._trials.pair(own, address)
            self._chooser.played += found is not None
        return self._in_parts[key]

    def _of_whole(self, sets: Sets) -> Trial | None:
        """The whole month with these; None where it cannot be played."""
        if sets not in self._whole:
            try:
                found = self._chooser.try_out(self._assignment, sets, rough=True)
            except BadInput:
                return None
            self._whole[sets] = trial_of(found) if isinstance(found, PlayedPlan) else None
        return self._whole[sets]


def _rank(plan: PlayedPlan) -> tuple[int, Decimal]:
    return len(plan.misses), plan.bill.unrounded
