"""Assignments that differ from one by few functions: each is tried in the part of the estate that it changes, where it has parts.

Of many functions the best estimates differ by one or two, so that playing the whole month of each would play the same over and over.
What is told here decides only which of them are played: whatever is chosen has been.
"""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from operator import itemgetter
from typing import Any

from echotally.engine.apart import SHARE_ROOM
from echotally.model.addresses import dotted
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded
from echotally.projection.trial import Trials
from echotally.projection.tried import Trial
from echotally.studies.assigned import EFFORT, LARGE, AssignedMonths

Assigned = dict[str, str]


def sorted_out(
    months: AssignedMonths[Any], base: PlayedPlan, first: Assigned, pinned: Loaded, others: Sequence[Assigned]
) -> tuple[list[Assigned], int]:
    """What is to be played of some assignments beside ``first``, of which ``base`` is the month and ``pinned`` has the pins; and how many
    are not.

    Those that take the whole month to say, and of the rest the one that misses least and the one that costs least, where that is less
    than of ``first``.
    """
    # Start tokens that parts share are looked at where the month is played.
    trials = Trials(pinned, base, LARGE, EFFORT, months.seed, rough=True)
    to_play, told = set[int](), list[tuple[int, Decimal, int]]()
    for number, other in enumerate(others):
        pair = _pair(trials, first, other)
        if pair is None:
            to_play.add(number)
            continue
        months.played += 1
        old, new = pair
        # Else no plan can take it.
        if new is not None:
            told.append((len(new.misses) - len(old.misses), new.cost - old.cost, number))
    for least in (min(told, default=None), min(told, key=itemgetter(1), default=None)):
        if least is not None and (least[:2] < (0, 0) or least[1] < 0):
            to_play.add(least[2])
    return [other for number, other in enumerate(others) if number in to_play], len(others) - len(to_play)


def _pair(trials: Trials, first: Assigned, other: Assigned) -> tuple[Trial, Trial | None] | None:
    offers = trials.loaded.offers
    moved = {name: plan for name, plan in other.items() if first[name] != plan}
    # Whose functions share room: with one more or less of them the parts of the estate are others.
    if any(offers[plan].plan.bills in SHARE_ROOM for name in moved for plan in (first[name], moved[name])):
        return None
    return trials.pair(tuple((dotted(("functions", name, "plan")), plan) for name, plan in moved.items()))
