"""Replications: the same month with other seeds, side by side, and an interval for every figure."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from functools import partial
from math import sqrt
from statistics import fmean, stdev
from typing import NamedTuple, Unpack

from msgspec import Struct
from msgspec.structs import replace

from echotally.engine.build import stream_seed
from echotally.engine.machines import machines
from echotally.model.loading import ModelSource
from echotally.projection.answer import Projection
from echotally.projection.loaded import Loaded, load
from echotally.projection.playing import Playing, PlayingWords
from echotally.projection.project import project_loaded
from echotally.projection.tables import figures, figures_in_all
from echotally.projection.threads import Progress, shared_out, side_by_side
from echotally.showing import Answer

LEVEL = 0.95


class Interval(Struct, frozen=True):
    """Mean of a figure over the replications and its two-sided 95 % interval (Student's t)."""

    mean: float
    low: float
    high: float


class Replicated(Answer, frozen=True):
    """``n`` replications: the first has the model's own seed. ``figures`` by plan and dotted name; a figure that
    some replication does not have (a wait where nothing succeeded) is left out. ``picks`` counts the verdicts.
    """

    first: Projection
    seeds: tuple[int, ...]
    figures: dict[str, dict[str, Interval]]
    picks: dict[str | None, int]


class Outcome(NamedTuple):
    """What is kept of a replication: the figures of each plan that could be played, and which was picked."""

    figures: tuple[dict[str, float | None], ...]
    pick: str | None

    @classmethod
    def of(cls, found: Projection, by_function: bool) -> Outcome:
        """The outcome of a projection; ``by_function``: with the figures of each function."""
        figures_of = figures if by_function else figures_in_all
        return cls(tuple(figures_of(plan) for plan in found.played), found.pick)


class _Replicating(Playing, frozen=True):
    """How each month is played, and where the months are."""

    workers: int = -1
    cluster: str | None = None
    by_function: bool = True


class ReplicatingWords(PlayingWords, total=False):
    """What callers may say beside the question, as keywords; ``by_function`` (left out: yes): with the figures of each function."""

    by_function: bool
    workers: int
    cluster: str | None


def replication_seeds(seed: int, n: int) -> list[int]:
    """The model's seed, then one derived from it for each further replication, whatever ``n`` is."""
    return [seed, *(stream_seed(seed, f"replication {k}") >> 1 for k in range(1, n))]


def replicate(
    source: ModelSource | Loaded,
    n: int,
    plans: Sequence[str] = (),
    seed: int | None = None,
    *,
    first: Projection | None = None,
    progress: Progress | None = None,
    **words: Unpack[ReplicatingWords],
) -> Replicated:
    """Play the month ``n`` (two or more) times; ``words``: how, as in ``project``, and on how many ``workers`` (threads; -1: one a
    core) or on which ``cluster`` (the address of a Dask scheduler). The result does not depend on where.

    ``first``: the month with the first seed on these plans, where it has been played. Raises ``BadInput`` as ``project`` does.
    """
    how, loaded = _Replicating(**words), load(source)
    seeds = replication_seeds(loaded.model.estate.seed if seed is None else seed, n)
    with machines(how.cluster) as places:
        # What a plan costs when nothing runs is asked once: no seed changes it.
        once = replace(how, standing=True, places=places)
        first = first or project_loaded(loaded, list(plans), seeds[0], _part(progress, 0, 1, n), None, once)
        shared, names = places.share(loaded), [plan.offer.name for plan in first.played]

        workers, cores = places.width, 1
        if workers is None:
            workers, cores = shared_out(loaded.model.units, n - 1, how.workers if how.workers > 0 else None)

        def one(its_seed: int, tell: Callable[[float], None]) -> Outcome:
            return places.run(tell, _outcome, shared, names, its_seed, how, cores)

        tasks = {str(its_seed): partial(one, its_seed) for its_seed in seeds[1:]}
        others = side_by_side(tasks, _part(progress, 1, n - 1, n), workers)
    return summarize(first, [Outcome.of(first, how.by_function), *others], seeds)


def _part(progress: Progress | None, before: int, these: int, n: int) -> Progress | None:
    """What hears of ``these`` of ``n`` replications, ``before`` of which are over."""
    return (lambda _, share: progress(f"{n} replications", (before + these * share) / n)) if progress else None


def _outcome(
    loaded: Loaded,
    plans: list[str],
    seed: int,
    how: _Replicating,
    cores: int,
    progress: Callable[[float], None] | None = None,
) -> Outcome:
    told: Progress | None = (lambda _, share: progress(share)) if progress else None
    return Outcome.of(project_loaded(loaded, plans, seed, told, cores, replace(how, every_plan=True)), how.by_function)


def summarize(first: Projection, played: Sequence[Outcome], seeds: Sequence[int]) -> Replicated:
    """Intervals of every figure of every feasible plan over the projections, of which the first is given whole."""
    # Student's t; ``scipy.stats`` has it too, and takes a second to import.
    from scipy.special import stdtrit

    point = float(stdtrit(len(played) - 1, (1 + LEVEL) / 2))
    found: dict[str, dict[str, Interval]] = {}
    # Whether a plan can take the estate does not depend on the seed, so the same plans are played in each.
    for n, plan in enumerate(first.played):
        rows = [outcome.figures[n] for outcome in played]
        found[plan.offer.name] = {}
        for name in rows[0]:
            values = [value for row in rows if (value := row[name]) is not None]
            if len(values) == len(rows):
                # Many are nothing each time, and the exact deviation of numbers takes its time.
                apart = stdev(values) if min(values) < max(values) else 0.0
                mean, half = fmean(values), point * apart / sqrt(len(values))
                found[plan.offer.name][name] = Interval(mean, mean - half, mean + half)
    picks = Counter(outcome.pick for outcome in played)
    return Replicated(first, tuple(seeds), found, dict(picks))
