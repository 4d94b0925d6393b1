"""How a month is played: event by event or as a sample, on how many cores, and what is kept of it beside its figures."""

from __future__ import annotations

from typing import TypedDict

from msgspec import Struct

from echotally.engine.apart import Memory
from echotally.engine.machines import HERE, Machines


class Playing(Struct, frozen=True):
    """How a plan's month is played. Left out: every event of up to 40 million, a sample of more or where very many wait, on one core.

    ``exact``: every event, however many there are. ``sampled_from``: months of more expected events than that are sampled.
    ``effort``: how many events a sample plays in its steady hours (left out: six million), ``most``: how many in all, before it is
    refused (left out: 40 million). ``attempts``: months that take more of them are refused (left out: any number). ``alike``: the month is laid beside another that is played so, and stays a sample where the
    month itself would be sooner played.
    ``standing``: the bill of the month in which nothing runs is found as well.
    ``cores``: on how many threads independent parts are played, and ``places`` on which machines, and ``memory`` has what
    parts came to in other months of a study; the answer depends on none of them.
    ``quantities_only``: of a month that is played jointly no levels, waits and hours are known, what it costs and which targets it
    misses where none is about them (``asks_for_times``).
    ``starts``: when start tokens were taken is kept. ``passing_ns``: what had been measured at these instants of a month that is
    played exactly is kept (``Measured.passed``).
    ``every_plan``: where one of several plans is refused, so are all of them.
    """

    exact: bool = False
    sampled_from: int | None = None
    effort: int | None = None
    most: int | None = None
    attempts: int | None = None
    alike: bool = False
    standing: bool = False
    cores: int = 1
    places: Machines = HERE
    memory: Memory | None = None
    quantities_only: bool = False
    starts: bool = False
    passing_ns: tuple[int, ...] = ()
    every_plan: bool = False


class PlayingWords(TypedDict, total=False):
    """What callers of ``project`` and ``replicate`` may say of it, as keywords."""

    exact: bool
    sampled_from: int | None


#: What most ask for.
USUAL = Playing()
