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
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path

from echotally.engine.play import simulate
from echotally.errors import BadInput, Problem
from echotally.model.units import memory_text
from echotally.projection.answer import PlanProjection, PlayedPlan, RefusedPlan
from echotally.projection.loaded import Loaded, load
from echotally.projection.metering import UnitKey, meter
from echotally.projection.project import project_plan
from echotally.rates.card import Plan
from echotally.rates.card_loading import candidates
from echotally.rates.feasibility import reasons_against
from echotally.rates.price_walk import about

Assignment = tuple[str, ...]
Sets = tuple[tuple[str, str], ...]
#: Assignments up to this many are all estimated; so many of the best are played.
_ALL, _PLAYED = 200_000, 12
_ONCE = ("reserved_hours", "node_hours")
_BATCHES = (1, 2, 5, 10, 20, 50, 100, 200, 500, 1_000, 2_000, 5_000, 10_000)


@dataclass(frozen=True)
class Choice:
    """The choice: today's projection, the chosen one, and the overrides that lead from one to the other.

    ``assignment`` gives each function's plan; ``tried`` how many assignments were estimated, ``played`` how many
    months were played; ``bound`` a cost no assignment can be below (None where all were estimated); ``assigned`` what the
    assignment costs at today's sizes.
    """

    loaded: Loaded
    today: PlayedPlan
    chosen: PlayedPlan
    assignment: dict[str, str]
    sets: Sets
    method: str
    tried: int
    played: int
    bound: Decimal | None
    assigned: Decimal


def choose(
    path: Path | str,
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
    return Choice(
        loaded, today, chosen, assignment, (*pins, *sized), method, tried, chooser.played, bound, plain.bill.unrounded
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
        found = [project_plan(self.loaded, offer, self.seed) for offer in self.offers]
        self.played += len(found)
        feasible = [p for p in found if isinstance(p, PlayedPlan)]
        if not feasible:
            return self.play({name: plans[0] for name, plans in self.fits.items()})
        return min(feasible, key=_rank)

    def play(self, assignment: dict[str, str], sets: Sets = ()) -> PlayedPlan:
        """The month under an assignment, with further overrides; raises ``BadInput`` where it leaves a function no room."""
        found = self.try_out(assignment, sets)
        if isinstance(found, RefusedPlan):
            name, why = found.reasons[0]
            raise BadInput(Problem(f"{name} has no room beside the others: {why}", value=assignment[name]))
        return found

    def try_out(self, assignment: dict[str, str], sets: Sets = ()) -> PlanProjection:
        """The month under an assignment, with further overrides, if it can be played."""
        self.played += 1
        functions = {
            name: f.model_copy(update={"plan": assignment[name]}) for name, f in self.loaded.model.functions.items()
        }
        if sets:
            changed = load(self.loaded.document.path, [*self.loaded.document.changed_sets(), *sets]).model
            functions = {name: f.model_copy(update={"plan": assignment[name]}) for name, f in changed.functions.items()}
            model = changed.model_copy(update={"functions": functions})
        else:
            model = self.loaded.model.model_copy(update={"functions": functions})
        placed = Loaded(model, self.loaded.document, self.loaded.month, self.loaded.offers)
        return project_plan(placed, self.loaded.offers[next(iter(assignment.values()))], self.seed)

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
            metered = meter(model, simulate(model, self.loaded.month.arrivals, placement, self.seed), offer)
            self.played += 1
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
            for key, meters in self.quantities[plan].items():
                if key is not None and key[0] == name:
                    for meter_key, quantity in meters.items():
                        total[meter_key] = total.get(meter_key, 0.0) + quantity
        return math.fsum(_bill(self.loaded.offers[plan].plan, total) for plan, total in used.items())

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
        results = [(self.play(a), a) for a in tried]
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
                    quantity * _lowest(self.loaded.offers[plan].plan, meter_name)
                    for key, meters in self.quantities[plan].items()
                    if key is not None and key[0] == name
                    for (_, meter_name), quantity in meters.items()
                )
                for plan in self.fits[name]
            )
        accounts = len({e.account for e in self.loaded.model.environments.values()})
        for offer in self.offers:
            total -= accounts * math.fsum(
                free * _lowest(offer.plan, name) for name, free in offer.plan.allowance.items()
            )
        return max(0.0, total)

    # -- sizes --------------------------------------------------------------------------------------------------
    def pins(self, assignment: dict[str, str]) -> Sets:
        """Overrides that pin each function to its plan, where it is not so pinned."""
        functions = self.loaded.model.functions
        return tuple((f"functions.{n}.plan", p) for n, p in assignment.items() if functions[n].plan != p)

    def sizes(self, assignment: dict[str, str]) -> Sets:
        """Function by function the smallest memory, batch and instance limit that miss no more and cost no more."""
        best = self.play(assignment)
        chosen: Sets = ()
        for number, name in enumerate(self.functions):
            plan = self.loaded.offers[assignment[name]].plan
            for options in (self._memories(name, plan), *self._batches(name)):
                for sets in options:
                    played = self._better(assignment, (*chosen, sets), best)
                    if played is not None:
                        chosen, best = (*chosen, sets), played
                        break
            if plan.bills != "reserved":
                limit = self._limit(name, assignment, chosen, best)
                if limit is not None:
                    chosen = (*chosen, (f"functions.{name}.instance_limit", str(limit)))
            if self.progress:
                self.progress("sizes", (number + 1) / len(self.functions))
        return chosen

    def _better(self, assignment: dict[str, str], sets: Sets, best: PlayedPlan) -> PlayedPlan | None:
        try:
            played = self.play(assignment, sets)
        except BadInput:
            return None
        worse = len(played.misses) > len(best.misses) or played.bill.unrounded > best.bill.unrounded
        return None if worse else played

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

    def _limit(self, name: str, assignment: dict[str, str], chosen: Sets, best: PlayedPlan) -> int | None:
        """The smallest instance limit that misses no more, by bisection below the most instances there were."""
        high = max((u.instances.peak for u in best.units_of(name)), default=1)
        low = 0
        while high - low > 1:
            middle = (low + high) // 2
            played = self.try_out(assignment, (*chosen, (f"functions.{name}.instance_limit", str(middle))))
            if isinstance(played, RefusedPlan) or len(played.misses) > len(best.misses):
                low = middle
            else:
                high = middle
        now = self.loaded.model.functions[name].instance_limit
        return None if high < 1 or high == now else high


def _rank(plan: PlayedPlan) -> tuple[int, Decimal]:
    return len(plan.misses), plan.bill.unrounded


def _bill(plan: Plan, quantities: dict[tuple[str, str], float]) -> float:
    total = 0.0
    prices = plan.prices()
    for (_, name), quantity in quantities.items():
        if name in prices:
            total += about(prices[name], max(0.0, quantity - plan.allowance.get(name, 0)))
    return total


def _lowest(plan: Plan, name: str) -> float:
    price = plan.prices().get(name)
    return min(float(step.unit) for step in price.steps()) / price.per if price else 0.0
