"""Which plan to pick (rule 6.8)."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

from msgspec import Struct


class Judged(Struct, frozen=True):
    """A feasible plan: its cost, how many targets it misses, how many are undecided."""

    plan: str
    cost: Decimal
    misses: int
    undecided: int = 0


def choose_plan(judged: Sequence[Judged]) -> tuple[str | None, str | None]:
    """(pick, closest) of feasible plans.

    The pick is the cheapest that meets all, ties by name; without one, the cheapest that misses nothing though something
    is undecided; without one, the closest has the fewest misses, then the lowest cost.
    """
    # A plan that surely meets all goes before a cheaper one that perhaps does (rule 6.8).
    kept = sorted(((j.undecided > 0), j.cost, j.plan) for j in judged if j.misses == 0)
    if kept:
        return kept[0][2], None
    near = sorted((j.misses, j.cost, j.plan) for j in judged)
    return None, near[0][2] if near else None
