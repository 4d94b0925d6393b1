"""What uncertain inputs do to a plan's metered quantities, and what those cost: the response surface of ``forecast``."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from decimal import Decimal
from statistics import NormalDist
from typing import NamedTuple

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from echotally.engine.build import stream_seed
from echotally.engine.sampling.wiring import Wiring
from echotally.model.estate import Model
from echotally.model.spread import Z95
from echotally.projection.answer import PlayedPlan
from echotally.projection.metering import Account, Metered
from echotally.rates.card import Plan, Price
from echotally.rates.card_loading import Offer
from echotally.rates.meters import OUTSIDE
from echotally.rates.price_walk import About, about_many

Array = NDArray[np.float64]
MeterKey = tuple[tuple[str, str], str]
#: A month played: how many months on, the address of the input that is moved ("" for none), its factor.
Variant = tuple[int, str, float]
#: For inputs without a range the tornado shows what a tenth more or less would do.
_USUAL = (0.9, 1.1)


class Input(Struct, frozen=True):
    """Something uncertain: ``kind`` "demand" or "run", the name, its low and high factor, whether the model says so."""

    kind: str
    name: str
    low: float
    high: float
    declared: bool

    @property
    def address(self) -> str:
        """Where it stands in the model."""
        return f"demand.{self.name}" if self.kind == "demand" else f"functions.{self.name}.run"


def inputs_of(model: Model) -> tuple[list[Input], list[Input]]:
    """Inputs with a range in the model, and all others that could have one, at a tenth more or less."""
    declared: list[Input] = []
    others: list[Input] = []
    for name, demand in model.demand.items():
        own = demand.range
        (declared if own else others).append(
            Input("demand", name, own.low if own else _USUAL[0], own.high if own else _USUAL[1], own is not None)
        )
    for name, function in model.functions.items():
        own = function.run_range
        (declared if own else others).append(
            Input("run", name, own.low if own else _USUAL[0], own.high if own else _USUAL[1], own is not None)
        )
    return declared, others


def dearest(model: Model, inputs: Sequence[Input], most: int, by_function: Mapping[str, float]) -> list[Input]:
    """So many of the inputs at the most, in their order: those whose functions cost most, a demand's all that it reaches."""
    if len(inputs) <= most:
        return list(inputs)
    wiring = Wiring(model)

    def cost(each: Input) -> float:
        names = {each.name} if each.kind == "run" else wiring.reached(model.demand[each.name].into)
        return math.fsum(by_function.get(name, 0.0) for name in names)

    kept = {each.address for each in sorted(inputs, key=lambda each: (-cost(each), each.address))[:most]}
    return [each for each in inputs if each.address in kept]


def draw_factors(inputs: Sequence[Input], draws: int, seed: int) -> Array:
    """Factors, shape (draws, inputs): stratified, median 1, 5 % below low, 5 % above high."""
    chance = np.random.default_rng(stream_seed(seed, "forecast"))
    found = np.ones((draws, len(inputs)))
    inverse = np.vectorize(NormalDist().inv_cdf, otypes=[float])
    for n, each in enumerate(inputs):
        # One draw in each of as many equal parts of the chance (Latin hypercube: McKay, Beckman and Conover 1979).
        z = inverse((chance.permutation(draws) + chance.uniform(0.02, 0.98, draws)) / draws)
        # Each side has its own scatter: a range need not be even about what is expected.
        sigma = np.where(z < 0, -np.log(each.low), np.log(each.high)) / Z95
        found[:, n] = np.exp(z * sigma)
    return found


class Played(Struct, frozen=True):
    """What one played month comes to on one plan: quantities by account and meter, attempts, throttled, cost.

    ``behind``: it leaves more of the events behind than the target allows; ``cut`` and ``losing`` are functions of which runs met
    the timeout, or events were lost. ``by_tag`` is the cost of the budgets by tag, ``by_function`` that of each function, ``parts``
    the cost split as ``--by`` has it, by labels.
    """

    meters: dict[MeterKey, float]
    attempts: float
    throttled: float
    cost: float
    at_limit: tuple[str, ...]
    behind: bool = False
    cut: tuple[str, ...] = ()
    losing: tuple[str, ...] = ()
    by_tag: Mapping[tuple[str, str], float] = field(default_factory=dict)
    hours: Mapping[Account, CommittedHours] = field(default_factory=dict)
    by_function: Mapping[str, float] = field(default_factory=dict)
    parts: Mapping[tuple[str, ...], float] = field(default_factory=dict)

    def vector(self, keys: Sequence[MeterKey]) -> Array:
        """Quantities in the order of ``keys``, then attempts and throttled ones."""
        return np.array([*(self.meters.get(key, 0.0) for key in keys), self.attempts, self.throttled])


def played(found: PlayedPlan) -> Played:
    """What a projected plan comes to, as numbers to reckon with."""
    by_tag = {(c.by.removeprefix("tag:"), c.value or ""): c.found for c in found.checks if c.by and c.by != "month"}
    meters = {
        (account, meter): float(found.metered.total(account, meter))
        for account, quantities in found.metered.quantities.items()
        for meter in quantities
    }
    units, by_function = found.measured.units, dict[str, float]()
    for (name, _), amount in found.bill.functions.items():
        by_function[name] = by_function.get(name, 0.0) + float(amount)
    full = tuple(u.unit.function for u in units if u.at_limit_ns and u.instance_limit and u.attempts["throttled"])
    behind = any(miss.target == "left_behind" for miss in found.misses)
    attempts = found.totals.attempts
    return Played(
        meters,
        float(attempts["total"]),
        float(attempts["throttled"]),
        float(found.bill.unrounded),
        full,
        behind,
        tuple(dict.fromkeys(u.unit.function for u in units if u.attempts["timed_out"])),
        tuple(dict.fromkeys(u.unit.function for u in units if u.lost_events)),
        by_tag,
        {account: committed_hours(found.metered, account) for account in found.metered.hours},
        by_function,
    )


class CommittedHours(Struct, frozen=True):
    """What the usage that a commitment covers costs at full price, hour by hour, in floating point: for many draws at once."""

    plan: Plan
    lengths: Array
    full: Array

    def instead_of(self, costs: Mapping[MeterKey, Array], account: Account) -> Array:
        """What is added to the full price of each draw: what was prepaid, less usage that it paid. Every hour has the draw's share."""
        terms = self.plan.commitment
        assert terms is not None
        covered = sum((costs.get((account, meter), np.zeros(1)) for meter in terms.covers), np.zeros(1))
        usual = float(self.full.sum())
        # How much more a draw uses it uses in every hour.
        times = covered / usual if usual else np.zeros_like(covered)
        most = float(terms.per_hour) * self.lengths / float(1 - terms.discount)
        paid = np.array([np.minimum(self.full * each, most).sum() for each in times])
        found: Array = float(terms.per_hour) * self.lengths.sum() - paid
        return found


def committed_hours(metered: Metered, account: Account) -> CommittedHours:
    """The hours of an account with a commitment, from the month as metered."""
    plan = metered.plans[account]
    terms = plan.commitment
    assert terms is not None
    prices = plan.prices()
    so_far = dict.fromkeys(terms.covers, 0.0)
    full = []
    for _, quantities in metered.hours[account]:
        cost = 0.0
        for meter in terms.covers:
            free, about = float(plan.allowance.get(meter, 0)), About(prices[meter])
            before = so_far[meter]
            so_far[meter] += float(sum(quantities.get(meter, {}).values(), Decimal(0)))
            cost += about(max(0.0, so_far[meter] - free)) - about(max(0.0, before - free))
        full.append(cost)
    return CommittedHours(plan, np.array([float(length) for length, _ in metered.hours[account]]), np.array(full))


class Months(NamedTuple):
    """Months played: ``base`` as expected, ``ends`` the reference months with one input at an end."""

    base: Mapping[Variant, Mapping[str, Played]]
    ends: Mapping[Variant, Mapping[str, Played]]


class Response:
    """Quantities of one plan as a function of the inputs' factors, month by month, and what they cost."""

    def __init__(
        self,
        offers: Sequence[Mapping[str, Offer]],
        offer: Offer,
        inputs: Sequence[Input],
        references: Sequence[int],
        months: Months,
        outside: Plan | None = None,
    ) -> None:
        """``offers`` are the plans of each month; ``outside`` bills outside services."""
        base, ends = months
        self.outside = outside or offer.plan
        self.offers, self.offer, self.inputs, self.references = offers, offer, inputs, references
        self.steps = sorted({step for step, _, _ in base})
        self.keys = sorted({key for each in (*base.values(), *ends.values()) for key in each[offer.name].meters})
        self.base = np.array([base[step, "", 1.0][offer.name].vector(self.keys) for step in self.steps])
        self.prices = [[self._price(key, step) for key in self.keys] for step in self.steps]
        self.hours = [base[step, "", 1.0][offer.name].hours for step in self.steps]
        # Quantities that are zero in a reference month change by amounts, all others by shares.
        self.by_share = np.all(self.base[references] > 0, axis=0)
        # Change of each quantity at an input's ends, by reference month: (references, inputs, 2, quantities).
        self.changes = np.array(
            [
                [
                    [self._change(ends[step, each.address, end][offer.name], step) for end in (each.low, each.high)]
                    for each in inputs
                ]
                for step in references
            ]
        )

    def _change(self, played: Played, step: int) -> Array:
        there, here = played.vector(self.keys), self.base[step]
        found: Array = (there - here) / np.where(self.by_share, np.where(here > 0, here, 1.0), 1.0)
        return found

    def _price(self, key: MeterKey, step: int) -> tuple[Price | None, float]:
        (_, plan_name), meter = key
        plan: Plan = self.outside if meter.startswith(OUTSIDE) else self.offers[step][plan_name].plan
        return plan.prices().get(meter), float(plan.allowance.get(meter, 0))

    def allowances(self) -> Iterable[tuple[MeterKey, float]]:
        """Meters with an allowance."""
        return [(key, free) for key, (_, free) in zip(self.keys, self.prices[0], strict=True) if free > 0]

    def quantity(self, factors: Array, step: int, key: MeterKey) -> Array:
        """A meter's quantity in each draw."""
        found: Array = self._quantities(factors, step)[:, self.keys.index(key)]
        return found

    def _quantities(self, factors: Array, step: int) -> Array:
        """All quantities of a month, shape (draws, quantities): meters, then attempts and throttled attempts."""
        size = self.base.shape[1]
        # Shares multiply (a tenth more calls, each a fifth longer), amounts add up.
        times, more = np.ones((len(factors), size)), np.zeros((len(factors), size))
        for n, each in enumerate(self.inputs):
            low, high = (
                np.array([np.interp(step, self.references, self.changes[:, n, side, q]) for q in range(size)])
                for side in (0, 1)
            )
            f = factors[:, n]
            # How far towards its low or high end a factor lies; beyond an end the line goes on.
            down = (1 - np.minimum(f, 1)) / (1 - each.low) if each.low < 1 else np.zeros(len(f))
            up = (np.maximum(f, 1) - 1) / (each.high - 1) if each.high > 1 else np.zeros(len(f))
            change = np.outer(down, low) + np.outer(up, high)
            times *= np.maximum(0.0, 1 + change)
            more += change
        usual = self.base[step]
        found: Array = np.where(self.by_share, usual * times, np.maximum(0.0, usual + more))
        return found

    def costs(self, factors: Array) -> Array:
        """Cost of each draw and month, shape (draws, months)."""
        found = np.zeros((len(factors), len(self.steps)))
        for step in self.steps:
            quantities = self._quantities(factors, step)
            of_meter: dict[MeterKey, Array] = {}
            for n, (price, free) in enumerate(self.prices[step]):
                if price is not None:
                    of_meter[self.keys[n]] = about_many(price, np.maximum(0.0, quantities[:, n] - free))
                    found[:, step] += of_meter[self.keys[n]]
            for account, hourly in self.hours[step].items():
                found[:, step] += hourly.instead_of(of_meter, account)
        return found

    def shares(self, factors: Array) -> Array:
        """Share of attempts throttled in each draw and month."""
        found = np.zeros((len(factors), len(self.steps)))
        for step in self.steps:
            quantities = self._quantities(factors, step)
            found[:, step] = np.clip(quantities[:, -1] / np.maximum(quantities[:, -2], 1.0), 0.0, 1.0)
        return found
