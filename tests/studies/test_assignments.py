"""Estimated assignments: a move costs what the whole assignment costs, and the descent is held against all there are."""

from __future__ import annotations

from itertools import product
from random import Random

import pytest

from echotally.rates.card_loading import Offer, load_card, offers_of
from echotally.studies import assignments
from echotally.studies.assignments import Assignment, Estimates, _Standing
from tests.small_river import SMALL_RIVER

METERS = ("calls", "gb_seconds", "queue_operations", "node_hours", "reserved_hours")


@pytest.fixture(scope="module")
def offers() -> list[Offer]:
    return [offer for name in ("heron", "osier") for offer in offers_of(load_card(SMALL_RIVER / f"rates/{name}.toml"))]


def made_up(offers: list[Offer], seed: int, functions: int) -> Estimates:
    """Functions that some plans take, with quantities around allowances and tiers, and what a plan uses once."""
    chance = Random(seed)
    names = [offer.name for offer in offers]
    fits = {f"f{n}": chance.sample(names, chance.randrange(1, len(names) + 1)) for n in range(functions)}
    used: dict[str, assignments.Used] = {name: {None: {("", "flat_months"): 1.0}} for name in names}
    for function, plans in fits.items():
        for plan in plans:
            used[plan][function, "live"] = {("", meter): 10 ** chance.uniform(0, 8) for meter in METERS}
    return Estimates(offers, fits, used, 1)


def every(of: Estimates) -> list[Assignment]:
    return list(product(*of.fits.values()))


@pytest.mark.parametrize("seed", range(6))
def test_a_move_costs_what_the_assignment_after_it_costs(offers: list[Offer], seed: int) -> None:
    of, chance = made_up(offers, seed, 8), Random(seed)
    now = _Standing(of, tuple(chance.choice(plans) for plans in of.fits.values()))
    for _ in range(60):
        places = chance.sample(range(8), chance.randrange(1, 4))
        moves = {place: chance.choice(list(of.fits.values())[place]) for place in places}
        after = now.with_moves(moves)
        assert now.moved(moves) == pytest.approx(of.of(after), rel=1e-9, abs=1e-6)
        now.take(moves)
        assert now.assignment == after and now.cost == pytest.approx(of.of(after), rel=1e-9, abs=1e-6)


@pytest.mark.parametrize("seed", range(6))
def test_a_descent_ends_where_no_move_of_two_gains_and_above_the_bound(
    offers: list[Offer], seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    of = made_up(offers, seed, 4)
    whole = of.search()
    least = min(of.of(a) for a in every(of))
    assert whole.bound is None and whole.costs[whole.best()[0]] == least
    monkeypatch.setattr(assignments, "_ALL", 0)
    found = of.search()
    best = found.best()[0]
    for assignment, cost in found.costs.items():
        assert cost == pytest.approx(of.of(assignment), rel=1e-9, abs=1e-6)
    near = [a for a in every(of) if sum(x != y for x, y in zip(a, best, strict=True)) <= 2]
    assert found.costs[best] <= min(map(of.of, near)) + 1e-6
    assert found.bound is not None and float(found.bound) <= least + 1e-5


@pytest.mark.parametrize(
    ("plans", "functions", "said"),
    [(8, 6, "2.62e+05"), (8, 300, "8.45e+270"), (8, 1_000, "10^903"), (9, 9_000, "10^8588")],
)
def test_however_many_there_are_they_are_said(plans: int, functions: int, said: str) -> None:
    assert assignments.how_many(plans**functions) == said


@pytest.mark.parametrize("seed", range(6))
def test_of_many_the_cheapest_are_kept_and_all_are_counted(
    offers: list[Offer], seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(assignments, "_ALL", 0)
    of = made_up(offers, seed, 9)
    every_one = of.search()
    monkeypatch.setattr(assignments, "_BESIDE", 5)
    few = of.search()
    # Nothing was left out of the first, whose neighbours are fewer than are kept.
    assert every_one.count == few.count == len(every_one.costs) > len(few.costs)
    assert few.best()[:5] == every_one.best()[:5]


def test_functions_that_cost_the_same_everywhere_fill_no_memory(
    offers: list[Offer], monkeypatch: pytest.MonkeyPatch
) -> None:
    names = [offer.name for offer in offers]
    monkeypatch.setattr(assignments, "_ALL", 0)
    monkeypatch.setattr(assignments, "_BESIDE", 5)
    found = Estimates(offers, {f"f{n}": names for n in range(30)}, {name: {} for name in names}, 1).search()
    # Each start with what of its neighbours is kept; all of them are counted.
    assert len(found.costs) <= 6 * len(names) and found.count == len(names) * (1 + 30 * (len(names) - 1))
