"""What assignments of functions to plans cost, about: from what each function used on each plan, without playing them.

Few assignments are all estimated. Of many, a descent goes from every uniform start: function by function to its best plan until
none moves, then by moves of two functions at once where they are few. A move changes the bills of two plans and no other.
"""

from __future__ import annotations

import functools
import heapq
import itertools
import math
import operator
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from functools import cached_property

from msgspec import Struct

from echotally.projection.metering import UnitKey
from echotally.rates.card_loading import Offer
from echotally.studies.about_prices import Prices, bill_about, lowest_unit, prices_of

Assignment = tuple[str, ...]
#: Account and meter.
_Meter = tuple[str, str]
#: What was used on a plan: by unit, or for all of them together.
Used = dict[UnitKey | None, dict[_Meter, float]]
#: Assignments up to this many are all estimated; up to so many functions move in pairs.
_ALL, _PAIRS = 200_000, 12
#: So many of the neighbours of a descent's end are kept: more than are played.
_BESIDE = 50
#: A move that gains less is none.
_NOTHING = 1e-9


class Estimated(Struct, frozen=True):
    """Assignments with what they cost about, how they were found, and the least that any could cost (None: all were estimated).

    ``count`` is how many were estimated; of many only the cheapest are kept.
    """

    costs: Mapping[Assignment, float]
    count: int
    method: str
    bound: Decimal | None

    def best(self) -> list[Assignment]:
        """All of them, the cheapest first."""
        return sorted(self.costs, key=lambda a: (self.costs[a], a))


class Estimates(Struct, frozen=True, dict=True):
    """``fits``: the plans that can take each function; ``used``: what functions used on each plan; ``accounts``: how many pay."""

    offers: Sequence[Offer]
    fits: Mapping[str, Sequence[str]]
    used: Mapping[str, Used]
    accounts: int

    def search(self) -> Estimated:
        """The best assignments there are, as far as estimates tell."""
        count = math.prod(len(plans) for plans in self.fits.values())
        if count <= _ALL:
            costs = {a: self.of(a) for a in itertools.product(*self.fits.values())}
            return Estimated(costs, len(costs), f"all {count:,} assignments estimated", None)
        bound = Decimal(repr(round(self._bound(), 6)))
        return Estimated(*self._descend(), f"descent from every plan over {how_many(count)} assignments", bound)

    def of(self, assignment: Assignment) -> float:
        """The bill of an assignment: float, for ranking only."""
        return math.fsum(_Standing(self, assignment).bills.values())

    @cached_property
    def prices(self) -> dict[str, Prices]:
        """By plan."""
        return {offer.name: prices_of(offer.plan) for offer in self.offers}

    @cached_property
    def used_by(self) -> dict[str, dict[str, list[tuple[_Meter, float]]]]:
        """What each function used on each plan."""
        found: dict[str, dict[str, list[tuple[_Meter, float]]]] = {}
        for plan, kept in self.used.items():
            of_plan = found.setdefault(plan, {})
            for key, meters in kept.items():
                if key is not None:
                    of_plan.setdefault(key[0], []).extend(meters.items())
        return found

    def _descend(self) -> tuple[dict[Assignment, float], int]:
        """The ends of the descents and the best of all that lie one move beside them; how many were estimated."""
        pool: dict[Assignment, float] = {}
        seen = set[int]()
        for offer in self.offers:
            # Everyone on one plan, or on the first that takes them: starts far from each other.
            start = tuple(offer.name if offer.name in plans else plans[0] for plans in self.fits.values())
            pool[start] = self.of(start)
            now = _Standing(self, start)
            while self._one_by_one(now) or self._two_at_once(now):
                pass
            pool[now.assignment] = now.cost
            # Estimates are off by what functions do to each other, so that neighbours of the best are played as well.
            beside = [(now.moved(moves), moves) for moves in self._moves(now, 1)]
            end = now.assignment
            mark = _mark(end)
            seen |= {mark ^ _mark_of_moves(end, moves) for _, moves in beside}
            # An assignment names the plan of every function: of a thousand all their neighbours would fill the memory.
            least = heapq.nsmallest(_BESIDE, (cost for cost, _ in beside))
            # Of equal ones, of which there may be as many, the first by name.
            cheap = ((cost, now.with_moves(moves)) for cost, moves in beside if cost <= least[-1])
            pool |= {assignment: cost for cost, assignment in heapq.nsmallest(_BESIDE, cheap)}
        return pool, len(seen | {_mark(assignment) for assignment in pool})

    def _one_by_one(self, now: _Standing) -> bool:
        """Function by function to its best plan, until none moves; whether any did."""
        moved = False
        while True:
            still = True
            for place, plans in enumerate(self.fits.values()):
                # Equal costs are decided by name, so that one seed gives one answer.
                cost, plan = min((now.moved({place: plan}), plan) for plan in plans)
                if cost < now.cost - _NOTHING:
                    now.take({place: plan})
                    moved, still = True, False
            if still:
                return moved

    def _two_at_once(self, now: _Standing) -> bool:
        """The best move of two functions, where there are few; whether one gained."""
        # Pairs grow with the square of functions and of plans.
        if len(self.fits) > _PAIRS:
            return False
        moves = min(self._moves(now, 2), key=lambda m: (now.moved(m), now.with_moves(m)), default=None)
        if moves is None or now.moved(moves) >= now.cost - _NOTHING:
            return False
        now.take(moves)
        return True

    def _moves(self, now: _Standing, many: int) -> Iterator[dict[int, str]]:
        fits, standing = list(self.fits.values()), now.assignment
        for places in itertools.combinations(range(len(fits)), many):
            for plans in itertools.product(*(fits[place] for place in places)):
                if any(standing[place] != plan for place, plan in zip(places, plans, strict=True)):
                    yield dict(zip(places, plans, strict=True))

    def _bound(self) -> float:
        """Below every assignment: each function on its cheapest plan at the lowest price of every tier, and every
        allowance of every plan given away for nothing at its highest.
        """
        plans = {offer.name: offer.plan for offer in self.offers}
        total = math.fsum(
            min(
                math.fsum(quantity * lowest_unit(plans[plan], meter) for (_, meter), quantity in self._of(plan, name))
                for plan in fits
            )
            for name, fits in self.fits.items()
        )
        for plan in plans.values():
            free = math.fsum(free * lowest_unit(plan, name) for name, free in plan.allowance.items())
            total -= self.accounts * free
        return max(0.0, total)

    def _of(self, plan: str, function: str) -> Sequence[tuple[_Meter, float]]:
        return self.used_by[plan].get(function, ())


def how_many(count: int) -> str:
    """A count in few digits; of a thousand functions there are more assignments than any float can say."""
    return f"{count:.3g}" if count < 10**300 else f"10^{int(math.log10(count))}"


def _mark(assignment: Assignment) -> int:
    """A number that tells assignments apart, of which a move changes one term: a thousand plans need not be hashed for each."""
    return functools.reduce(operator.xor, map(hash, enumerate(assignment)))


def _mark_of_moves(assignment: Assignment, moves: Mapping[int, str]) -> int:
    """What moves change of an assignment's mark."""
    changed = (hash((place, assignment[place])) ^ hash((place, plan)) for place, plan in moves.items())
    return functools.reduce(operator.xor, changed)


class _Standing:
    """An assignment with each plan's quantities and bill, which moves change one by one."""

    def __init__(self, of: Estimates, assignment: Assignment) -> None:
        self._of, self._functions = of, list(of.fits)
        self._plans = list(assignment)
        self._quantities: dict[str, dict[_Meter, float]] = {}
        for place, plan in enumerate(assignment):
            self._add(self._quantities.setdefault(plan, self._once(plan)), place, plan, 1)
        self.bills = {plan: self._bill(plan, used) for plan, used in self._quantities.items()}
        self._members = {plan: assignment.count(plan) for plan in self._quantities}

    @property
    def assignment(self) -> Assignment:
        """The plan of each function, in their order."""
        return tuple(self._plans)

    @property
    def cost(self) -> float:
        """The bill of all plans."""
        return math.fsum(self.bills.values())

    def with_moves(self, moves: Mapping[int, str]) -> Assignment:
        """The assignment after some functions moved, by their places."""
        return tuple(moves.get(place, plan) for place, plan in enumerate(self._plans))

    def moved(self, moves: Mapping[int, str]) -> float:
        """What it would cost after some functions moved."""
        return math.fsum({**self.bills, **{plan: bill for plan, (_, _, bill) in self._after(moves).items()}}.values())

    def take(self, moves: Mapping[int, str]) -> None:
        """Move some functions."""
        for plan, (members, quantities, bill) in self._after(moves).items():
            self._members[plan], self._quantities[plan], self.bills[plan] = members, quantities, bill
        for place, plan in moves.items():
            self._plans[place] = plan

    def _after(self, moves: Mapping[int, str]) -> dict[str, tuple[int, dict[_Meter, float], float]]:
        """Members, quantities and bill of each plan that moves touch; a plan without functions costs nothing."""
        members: dict[str, int] = {}
        quantities: dict[str, dict[_Meter, float]] = {}
        for place, to in moves.items():
            for plan, sign in ((self._plans[place], -1), (to, 1)):
                if plan not in quantities:
                    # A copy: a move is looked at far more often than it is made.
                    quantities[plan] = dict(self._quantities.get(plan) or self._once(plan))
                self._add(quantities[plan], place, plan, sign)
                members[plan] = members.get(plan, self._members.get(plan, 0)) + sign
        return {
            plan: (members[plan], used, self._bill(plan, used)) if members[plan] else (0, self._once(plan), 0.0)
            for plan, used in quantities.items()
        }

    def _once(self, plan: str) -> dict[_Meter, float]:
        """What a plan uses whoever is on it."""
        return dict(self._of.used[plan].get(None, {}))

    def _add(self, quantities: dict[_Meter, float], place: int, plan: str, sign: int) -> None:
        for meter, quantity in self._of.used_by[plan].get(self._functions[place], ()):
            quantities[meter] = quantities.get(meter, 0.0) + sign * quantity

    def _bill(self, plan: str, quantities: dict[_Meter, float]) -> float:
        return bill_about(self._of.prices[plan], quantities)
