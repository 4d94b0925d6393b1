"""Assignments near one that has been played: what trials of parts tell of them is what their whole months come to."""

from __future__ import annotations

import random
from decimal import Decimal
from itertools import product
from typing import Any

import pytest

from echotally.projection.loaded import load
from echotally.studies import near_ones
from echotally.studies.assigned import AssignedMonths
from echotally.studies.choose import choose
from echotally.studies.near_ones import sorted_out
from tests.studies.made_up_plans import FIXED, RUNS

#: A plan that is paid for by the month as well, whoever is on it.
FLAT = RUNS + '[plans.{name}.flat]\nwatching = {{ unit = "{flat}" }}\n'
PLANS = [
    FLAT.format(name="p0", calls="0.0040", seconds="0.00010", free=300, flat="3.50"),
    FLAT.format(name="p1", calls="0.0010", seconds="0.00200", free=0, flat="1.25"),
    FLAT.format(name="p2", calls="0.0025", seconds="0.00070", free=500, flat="0.10"),
]


def apart(seed: int, functions: int = 4) -> str:
    """Functions that share nothing but what their plan bills once, its tiers and its allowances."""
    rng, model = random.Random(seed), ""
    for name in "fghijklm"[:functions]:
        model += (
            f'[functions.{name}]\nmemory = "512 MB"\nrun = "{rng.choice([1, 3, 8])} s"\ncpu_share = 0\n'
            f'[queues.{name}]\n[demand.{name}]\ninto = "queues.{name}"\nmonthly = {rng.choice([90, 400, 1_500])}\n'
            f'[[triggers]]\nfrom = "queues.{name}"\nto = "{name}"\n'
        )
    return model


def months_of(path) -> AssignedMonths[Any]:
    return AssignedMonths(load(path), 1, lambda month, _: month)


def pinned(path, assignment):
    return load(path, [(f"functions.{name}.plan", plan) for name, plan in assignment.items()])


@pytest.mark.parametrize("seed", range(4))
def test_a_trial_says_what_the_whole_month_with_other_plans_costs(estate, seed, monkeypatch):
    path, rng = estate(apart(seed), *PLANS), random.Random(seed)
    months = months_of(path)
    every = [dict(zip("fghi", plans, strict=True)) for plans in product(months.loaded.offers, repeat=4)]
    # All on one, so that some come to a plan that nobody is on; and any, which some leave without anybody.
    for first in (every[0], rng.choice(every)):
        month = months.play(first)
        others = rng.sample([a for a in every if 1 <= sum(a[n] != first[n] for n in a) <= 2], 8)
        found: list[Decimal] = []
        pair = near_ones._pair

        def told(*of, pair=pair, found=found):
            old, new = pair(*of)
            found.append(new.cost - old.cost)
            return old, new

        monkeypatch.setattr(near_ones, "_pair", told)
        to_play, left = sorted_out(months, month, first, pinned(path, first), others)
        monkeypatch.undo()
        whole = [months.play(other).bill.unrounded - month.bill.unrounded for other in others]
        assert [float(cost) for cost in found] == pytest.approx([float(cost) for cost in whole], abs=1e-9)
        # Of those that cost less than the first, the cheapest is played.
        least = min(zip(whole, range(8), strict=True))
        assert to_play == ([others[least[1]]] if least[0] < 0 else []) and left == 8 - len(to_play)


def test_what_takes_the_whole_month_to_say_is_played(estate):
    # Functions on reserved instances share them, so that one more is another month for all of them.
    path = estate(apart(1), *PLANS, FIXED.format(name="flat", hour="0.01", calls="0.0010"))
    months = months_of(path)
    on_runs, (*_, reserved) = dict.fromkeys("fghi", next(iter(months.loaded.offers))), months.loaded.offers
    others = [on_runs | {"g": reserved}, on_runs | {"h": reserved, "i": reserved}]
    assert sorted_out(months, months.play(on_runs), on_runs, pinned(path, on_runs), others) == (others, 0)


@pytest.mark.parametrize("seed", range(3))
def test_the_choice_is_the_one_that_playing_all_of_the_best_finds(estate, seed, monkeypatch):
    path = estate(apart(seed + 10, 8), *PLANS)
    found = choose(path, sizes=False)
    monkeypatch.setattr("echotally.studies.choose.sorted_out", lambda *of: (of[-1], 0))
    whole = choose(path, sizes=False)
    assert found.assignment == whole.assignment and found.chosen.bill.unrounded == whole.chosen.bill.unrounded
    assert "in the parts that they change" in found.method and "in the parts" not in whole.method
