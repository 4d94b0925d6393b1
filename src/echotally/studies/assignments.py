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
from typing import NamedTuple

from msgspec import Struct

from echotally.projection.metering import UnitKey
from echotally.rates.card_loading import Offer
from echotally.studies.about_prices import Prices, about_meter, lowest_unit, prices_of

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
        return _Standing(self, assignment).cost

    @cached_property
    def prices(self) -> dict[str, Prices]:
        """By plan."""
        return {offer.name: prices_of(offer.plan) for offer in self.offers}

    @cached_property
    def used_by(self) -> dict[str, dict[str | None, dict[_Meter, float]]]:
        """What each function used on each plan, and None all of them together: as far as the plan has a price for it."""
        found: dict[str, dict[str | None, dict[_Meter, float]]] = {}
        for plan, kept in self.used.items():
            of_plan, prices = found.setdefault(plan, {}), self.prices[plan]
            for key, meters in kept.items():
                priced = {meter: quantity for meter, quantity in meters.items() if meter[1] in prices}
                _add(of_plan.setdefault(key and key[0], {}), priced, 1)
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
                math.fsum(
                    quantity * lowest_unit(plans[plan], meter)
                    for (_, meter), quantity in self.used_by[plan].get(name, {}).items()
                )
                for plan in fits
            )
            for name, fits in self.fits.items()
        )
        for plan in plans.values():
            free = math.fsum(free * lowest_unit(plan, name) for name, free in plan.allowance.items())
            total -= self.accounts * free
        return max(0.0, total)


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
    """An assignment with what is used on each plan and its bill, which moves change one by one."""

    def __init__(self, of: Estimates, assignment: Assignment) -> None:
        self._by, self._prices = of.used_by, of.prices
        self._functions = list(of.fits)
        self._empty = {
            plan: _PlanUsed.of(self._prices[plan], of_plan.get(None, {})) for plan, of_plan in self._by.items()
        }
        self._plans = list(assignment)
        self._members = dict.fromkeys(self._by, 0)
        self._used = dict(self._empty)
        for plan in set(assignment):
            places = [place for place, its in enumerate(assignment) if its == plan]
            self._used[plan], self._members[plan] = self._after(plan, (), places), len(places)
        self._left = _Left(-1, 0.0)
        self._cost = self._summed()

    @property
    def assignment(self) -> Assignment:
        """The plan of each function, in their order."""
        return tuple(self._plans)

    @property
    def cost(self) -> float:
        """The bill of all plans."""
        return self._cost

    def with_moves(self, moves: Mapping[int, str]) -> Assignment:
        """The assignment after some functions moved, by their places."""
        return tuple(moves.get(place, plan) for place, plan in enumerate(self._plans))

    def moved(self, moves: Mapping[int, str]) -> float:
        """What it would cost after some functions moved."""
        if len(moves) > 1:
            return self._cost + math.fsum(self._change(plan, *goes) for plan, goes in self._goings(moves).items())
        ((place, plan),) = moves.items()
        if plan == self._plans[place]:
            return self._cost
        if place != self._left.place:
            # Where a function may go is asked of one plan after the other.
            self._left = _Left(place, self._change(self._plans[place], (place,), ()))
        return self._cost + self._left.change + self._change(plan, (), (place,))

    def take(self, moves: Mapping[int, str]) -> None:
        """Move some functions."""
        for plan, (leave, come) in self._goings(moves).items():
            self._members[plan] += len(come) - len(leave)
            self._used[plan] = self._after(plan, leave, come) if self._members[plan] else self._empty[plan]
        for place, plan in moves.items():
            self._plans[place] = plan
        self._left, self._cost = _Left(-1, 0.0), self._summed()

    def _summed(self) -> float:
        return math.fsum(self._used[plan].bill for plan, members in self._members.items() if members)

    def _goings(self, moves: Mapping[int, str]) -> dict[str, tuple[list[int], list[int]]]:
        """Of each plan that moves touch the places that leave it and those that come to it."""
        found: dict[str, tuple[list[int], list[int]]] = {}
        for place, to in moves.items():
            if to != self._plans[place]:
                found.setdefault(self._plans[place], ([], []))[0].append(place)
                found.setdefault(to, ([], []))[1].append(place)
        return found

    def _after(self, plan: str, leave: Sequence[int], come: Sequence[int]) -> _PlanUsed:
        """What is used on a plan where some functions have left it and others come."""
        quantities = dict(self._used[plan].quantities)
        for sign, places in ((-1, leave), (1, come)):
            for place in places:
                _add(quantities, self._of(plan, place), sign)
        return _PlanUsed.of(self._prices[plan], quantities)

    def _change(self, plan: str, leave: Sequence[int], come: Sequence[int]) -> float:
        """What a plan's bill changes by where some functions leave it and others come; one without functions costs nothing."""
        used, members = self._used[plan], self._members[plan]
        if len(leave) == members and not come:
            return -used.bill
        if len(leave) + len(come) == 1:
            # Nearly always: it takes a third of the time to lay nothing together first.
            change, sign = self._of(plan, *leave, *come), 1 if come else -1
        else:
            change, sign = {}, 1
            for each, places in ((-1, leave), (1, come)):
                for place in places:
                    _add(change, self._of(plan, place), each)
        more = used.with_more(self._prices[plan], change, sign)
        return more if members else used.bill + more

    def _of(self, plan: str, place: int) -> dict[_Meter, float]:
        """What the function at a place uses on a plan."""
        return self._by[plan].get(self._functions[place], {})


class _Left(NamedTuple):
    """What it changes that the function at a place leaves its plan."""

    place: int
    change: float


class _PlanUsed(NamedTuple):
    """What is used on a plan, and what each of its meters and all of them cost."""

    quantities: dict[_Meter, float]
    costs: dict[_Meter, float]
    bill: float

    @classmethod
    def of(cls, prices: Prices, quantities: dict[_Meter, float]) -> _PlanUsed:
        """Priced."""
        costs = {meter: about_meter(prices, meter[1], quantity) for meter, quantity in quantities.items()}
        return cls(quantities, costs, math.fsum(costs.values()))

    def with_more(self, prices: Prices, change: Mapping[_Meter, float], sign: int) -> float:
        """What the bill changes by with so much more, or less, of some meters."""
        found = 0.0
        for meter, more in change.items():
            now = self.quantities.get(meter, 0.0) + sign * more
            found += about_meter(prices, meter[1], now) - self.costs.get(meter, 0.0)
        return found


def _add(quantities: dict[_Meter, float], some: Mapping[_Meter, float], sign: int) -> None:
    for meter, quantity in some.items():
        quantities[meter] = quantities.get(meter, 0.0) + sign * quantity
