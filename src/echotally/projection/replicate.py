"""Replications: the same month with other seeds, side by side, and an interval for every figure."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from math import sqrt
from statistics import fmean, stdev
from threading import Event
from typing import Unpack

from echotally.engine.build import stream_seed
from echotally.errors import Stopped
from echotally.model.loading import ModelSource
from echotally.projection.answer import Projection
from echotally.projection.loaded import Loaded, load
from echotally.projection.playing import Playing, PlayingWords
from echotally.projection.project import project_loaded
from echotally.projection.tables import figures
from echotally.showing import Answer

LEVEL = 0.95


@dataclass(frozen=True)
class Interval:
    """Mean of a figure over the replications and its two-sided 95 % interval (Student's t)."""

    mean: float
    low: float
    high: float


@dataclass(frozen=True, repr=False)
class Replicated(Answer):
    """``n`` replications: the first has the model's own seed. ``figures`` by plan and dotted name; a figure that
    some replication does not have (a wait where nothing succeeded) is left out. ``picks`` counts the verdicts.
    """

    first: Projection
    seeds: tuple[int, ...]
    figures: dict[str, dict[str, Interval]]
    picks: dict[str | None, int]


def replication_seeds(seed: int, n: int) -> list[int]:
    """The model's seed, then one derived from it for each further replication, whatever ``n`` is."""
    return [seed, *(stream_seed(seed, f"replication {k}") >> 1 for k in range(1, n))]


def replicate(
    source: ModelSource | Loaded,
    n: int,
    plans: Sequence[str] = (),
    seed: int | None = None,
    *,
    workers: int = -1,
    progress: Callable[[str, float], None] | None = None,
    **how: Unpack[PlayingWords],
) -> Replicated:
    """Play the month ``n`` (two or more) times on ``workers`` cores (-1: all); the result does not depend on them;
    ``how`` as in ``project``.

    Kernels release the interpreter, so threads run side by side. Raises ``BadInput`` as ``project`` does.
    """
    from joblib import Parallel, delayed

    loaded = load(source)
    seeds = replication_seeds(loaded.model.estate.seed if seed is None else seed, n)
    done = [0]
    stop = Event()

    def going_on(plan: str, share: float) -> None:
        if stop.is_set():
            raise Stopped("interrupted")

    def one(number: int, its_seed: int) -> Projection:
        # What a plan costs when nothing runs is asked once: no seed changes it.
        playing = Playing(**how, standing=number == 0)
        played = project_loaded(loaded, list(plans), its_seed, going_on, how=playing)
        done[0] += 1
        if progress:
            progress(f"{n} replications", done[0] / n)
        return played

    first = one(0, seeds[0])
    try:
        others = Parallel(n_jobs=workers, prefer="threads")(delayed(one)(k, s) for k, s in enumerate(seeds[1:], 1))
    except KeyboardInterrupt:
        # Threads cannot be ended from outside; they look at this between two stretches of their month.
        stop.set()
        raise
    return summarize([first, *others], seeds)


def summarize(played: Sequence[Projection], seeds: Sequence[int]) -> Replicated:
    """Intervals of every figure of every feasible plan over the projections."""
    # Student's t; ``scipy.stats`` has it too, and takes a second to import.
    from scipy.special import stdtrit

    point = float(stdtrit(len(played) - 1, (1 + LEVEL) / 2))
    found: dict[str, dict[str, Interval]] = {}
    # Whether a plan can take the estate does not depend on the seed, so the same plans are played in each.
    for n, plan in enumerate(played[0].played):
        rows = [figures(projection.played[n]) for projection in played]
        found[plan.offer.name] = {}
        for name in rows[0]:
            values = [value for row in rows if (value := row[name]) is not None]
            if len(values) == len(rows):
                mean, half = fmean(values), point * stdev(values) / sqrt(len(values))
                found[plan.offer.name][name] = Interval(mean, mean - half, mean + half)
    picks = Counter(projection.pick for projection in played)
    return Replicated(played[0], tuple(seeds), found, dict(picks))
