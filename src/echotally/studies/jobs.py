"""Points of a study: changed models projected on plans, on all cores, kept as they finish.

Why it exists: sweep, crossover and choose ask the same thing many times over. A point is played by one
module-level function from plain data, so that threads of one machine, processes and other machines give
the same rows; finished points go to an SQLite file, and the same command goes on from there.
"""

from __future__ import annotations

import hashlib
import itertools
import json
import sqlite3
import warnings
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import lru_cache, partial
from os import cpu_count
from pathlib import Path
from typing import Any
from uuid import uuid4

from msgspec import Struct
from msgspec.structs import replace

from echotally.engine.apart import Memory
from echotally.engine.compiling import form
from echotally.engine.machines import Cluster, Machines
from echotally.errors import BadInput, Problem, TooLarge
from echotally.files import LARGEST_PIPE, content_of
from echotally.projection.answer import PlanProjection, PlayedPlan
from echotally.projection.aside import CAN_FORK, as_they_come
from echotally.projection.loaded import Loaded, load
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from echotally.projection.showback import showback
from echotally.projection.tables import figures_in_all
from echotally.projection.threads import shared_out, side_by_side
from echotally.studies.running import Running
from echotally.studies.shipping import Shipment

Sets = tuple[tuple[str, str], ...]
Row = dict[str, Any]


class Point(Struct, frozen=True):
    """One changed model, asked for on some plans: its number in the study, its overrides, the plans, the seed.

    ``sampled_from`` is the number of expected events from which the month is sampled, ``effort``, ``most`` and ``attempts`` are how
    much is played (see ``Playing``; None: as usual).
    """

    number: int
    sets: Sets
    plans: tuple[str, ...]
    seed: int
    sampled_from: int | None = None
    effort: int | None = None
    most: int | None = None
    attempts: int | None = None
    #: How the cost is split beside the other figures, as ``--by`` has it; empty: not at all.
    by: str = ""
    #: Whether a plan on which even a sample would be too large is left out of the rows; else that is refused.
    some_left_out: bool = False
    #: Whether parts of the month may be as they are at other points.
    has_parts_in_common: bool = True


def _solved(
    base: Loaded,
    point: Point,
    progress: Callable[[float], None] | None = None,
    memory: Memory | None = None,
    cores: int = 1,
) -> list[Row]:
    """Rows of a point, one a plan (see ``Point.some_left_out``), in the plans' order.

    ``progress`` hears the share of each plan's month that is over; ``memory`` has what parts came to at other points.

    A change the loader refuses raises ``BadInput``.
    """
    loaded = base.changed(point.sets) if point.sets else base
    how = Playing(
        sampled_from=point.sampled_from,
        effort=point.effort,
        most=point.most,
        attempts=point.attempts,
        cores=cores,
        memory=memory if point.has_parts_in_common else None,
    )
    rows = []
    for name in point.plans:
        try:
            plan = project_plan(loaded, loaded.offers[name], point.seed, progress, how=how)
        except TooLarge:
            if not point.some_left_out:
                raise
        else:
            rows.append(row_of(plan) | _split(loaded, plan, point.by))
    return rows


def _split(loaded: Loaded, plan: PlanProjection, by: str) -> Row:
    """Columns ``cost_by:LABELS`` of a plan that could be played."""
    if not by or not isinstance(plan, PlayedPlan):
        return {}
    return {f"cost_by:{each.label}": float(each.cost) for each in showback(loaded.model, plan, by)}


def split_columns(rows: Sequence[Row]) -> list[str]:
    """Parts of the cost where it was split; what is nothing in every row is left out."""
    names = dict.fromkeys(name for row in rows for name in row if name.startswith("cost_by:"))
    return [name for name in names if any(row.get(name) for row in rows)]


def row_of(plan: PlanProjection) -> Row:
    """A plan's main figures; None where it is infeasible. Cost in the card's currency, waits and runs in s.

    Of a sampled month the cost's 95 % interval as well, ``cost_low`` to ``cost_high``.
    """
    row: Row = {"plan": plan.offer.name, "feasible": plan.feasible, "meets_targets": plan.meets_targets}
    names = ["cost.total", "throttled_share", "lost_events", "wait_p95_s"]
    names += ["latency_p50_ms", "latency_p95_ms", "latency_p99_ms", "cold_share"]
    names += ["concurrency.peak", "cold_starts", "misses"]
    found = figures_in_all(plan) if isinstance(plan, PlayedPlan) else {}
    row |= {name.replace(".", "_"): found.get(name) for name in names}
    if isinstance(plan, PlayedPlan) and plan.confidence:
        row["cost_low"], row["cost_high"] = plan.confidence.cost
    for unit in plan.units if isinstance(plan, PlayedPlan) else ():
        if unit.started and f"run_s:{unit.unit.function}" not in row:
            row[f"run_s:{unit.unit.function}"] = unit.busy_ns / unit.started / 1e9
    return row


def is_estimate(row: Row) -> bool:
    """Whether a row is of a sampled month."""
    return "cost_low" in row


def cost_bounds(row: Row) -> tuple[float, float]:
    """Where a month's cost lies: the 95 % interval of an estimate, else the cost itself."""
    cost: float = row["cost_total"]
    return float(row.get("cost_low", cost)), float(row.get("cost_high", cost))


def study_digest(loaded: Loaded, sets: Sets, points: Sequence[Point]) -> str:
    """A digest of everything the rows depend on: the files read, the overrides, the points, the version."""
    from importlib.metadata import version

    from echotally.engine.compiling import cache_folder

    found = hashlib.sha256()
    folder = loaded.document.path.parent
    named = [loaded.document.path, *(folder / name for name in loaded.model.estate.rate_cards)]
    named += [folder / d.trace for d in loaded.model.demand.values() if d.trace]
    for path in named:
        found.update(content_of(path, LARGEST_PIPE))
    found.update(
        json.dumps(
            [sets, [(p.sets, p.plans, p.seed, p.sampled_from, p.effort, p.most, p.attempts) for p in points]]
        ).encode()
    )
    found.update(f"{version('echotally')} {cache_folder().name} {loaded.model!r}".encode())
    return found.hexdigest()


class Store:
    """Finished points in an SQLite file, known by the study's digest. Use as a context."""

    def __init__(self, path: Path, digest: str) -> None:
        self.path = path
        try:
            self.db = sqlite3.connect(path, isolation_level=None)
            self.db.execute("PRAGMA journal_mode=WAL")
            self.db.execute("CREATE TABLE IF NOT EXISTS study (digest TEXT)")
            self.db.execute("CREATE TABLE IF NOT EXISTS point (number INTEGER PRIMARY KEY, rows TEXT)")
            known = self.db.execute("SELECT digest FROM study").fetchall()
            if not known:
                self.db.execute("INSERT INTO study VALUES (?)", (digest,))
        except sqlite3.Error as error:
            raise BadInput(Problem(f"is not a store of points: {error}", file=str(path))) from error
        if known and known[0][0] != digest:
            raise BadInput(
                Problem(
                    "holds points of another study: the model, a card, the points asked for or the version differ",
                    file=str(path),
                    allowed="the same command as before, or another --store",
                )
            )

    def __enter__(self) -> Store:
        return self

    def __exit__(self, *_: object) -> None:
        self.db.close()

    def finished(self) -> dict[int, list[Row]]:
        """Points that are done, by number."""
        return {number: json.loads(rows) for number, rows in self.db.execute("SELECT number, rows FROM point")}

    def keep(self, number: int, rows: list[Row]) -> None:
        """Keep a finished point, whole or not at all."""
        self.db.execute("INSERT OR REPLACE INTO point VALUES (?, ?)", (number, json.dumps(rows)))


def run_points(
    study: AtPoints, points: Sequence[Point], run: Running, rising_from: int | None = None
) -> dict[int, list[Row]]:
    """Rows of every point, by number, wherever they are played; those that an earlier, cut-off run of the same study kept are not
    played again.

    Points from this place on are of larger and larger months: they are played one after the other, plans side by side, and a plan
    that is left out of one of them is not tried at those after it.
    """
    if run.store is None:
        return _all_played(study, points, run, rising_from, {}, lambda number, rows: None)
    with Store(Path(run.store), study_digest(study.loaded, study.sets, points)) as kept:
        return _all_played(study, points, run, rising_from, kept.finished(), kept.keep)


def _all_played(
    study: AtPoints,
    points: Sequence[Point],
    run: Running,
    rising_from: int | None,
    found: dict[int, list[Row]],
    keep: Callable[[int, list[Row]], None],
) -> dict[int, list[Row]]:
    """The rows found already, and those of all other points, each kept as it comes."""
    small = [point for point in points[:rising_from] if point.number not in found]
    rising = points[rising_from:] if rising_from is not None else []
    for number, rows in itertools.chain(study.each(small, run.workers), _one_by_one(study, rising, run, found)):
        keep(number, rows)
        found[number] = rows
        if run.progress:
            run.progress(f"{len(points)} points", len(found) / len(points))
    return found


def _one_by_one(
    study: AtPoints, points: Sequence[Point], run: Running, found: Mapping[int, list[Row]]
) -> Iterator[tuple[int, list[Row]]]:
    """The points that are not found yet, on the plans that none before them has left out."""
    plans = dict.fromkeys(points[0].plans) if points else {}
    for point in points:
        rows = found.get(point.number)
        if rows is None:
            rows = study.by_plan(replace(point, plans=tuple(plans)), run.workers)
            yield point.number, rows
        plans = {row["plan"]: None for row in rows}


@lru_cache(maxsize=1)
def _base(path: str, sets: Sets, study: str) -> Loaded:
    """The model of a study, loaded once in each process; ``study`` is another word for each run, as files may change."""
    return load(path, sets)


@lru_cache(maxsize=1)
def _memory(study: str) -> Memory:
    """What parts came to at the points of a study that this process has played."""
    return Memory()


def _numbered(path: str, sets: Sets, study: str, point: Point) -> tuple[int, list[Row]]:
    return point.number, _solved(_base(path, sets, study), point, memory=_memory(study))


class AtPoints:
    """A study's model where its points are played: on this machine, or, sent with all its files, on a cluster."""

    def __init__(self, places: Machines, loaded: Loaded, sets: Sets) -> None:
        if str(loaded.document.path) == "-":
            what = "comes from standard input, which the processes that play the points cannot read"
            raise BadInput(Problem(what, file="the model", allowed="the name of a file"))
        self.places, self.loaded, self.sets, self._memory = places, loaded, sets, Memory()
        self._files = places.share(Shipment.of(loaded)) if isinstance(places, Cluster) else None

    def each(self, points: Sequence[Point], workers: int) -> Iterator[tuple[int, list[Row]]]:
        """Rows of each point, as they come."""
        if not isinstance(self.places, Cluster):
            yield from self._on_cores(points, workers)
            return
        from distributed import as_completed

        futures = self.places.client.map(_numbered_there, points, sets=self.sets, files=self._files, pure=False)
        try:
            for _, result in as_completed(futures, with_results=True):
                yield result
        except Exception as error:
            self.places.reraised(error)

    def _on_cores(self, points: Sequence[Point], workers: int) -> Iterable[tuple[int, list[Row]]]:
        if workers == 1 or len(points) < 4:
            return ((point.number, self.rows(point, None)) for point in points)
        if CAN_FORK:
            # Processes begin with everything that is known here, the machine code too.
            form()
            tasks = [partial(self.rows, point, None) for point in points]
            found = as_they_come(tasks, workers if workers > 0 else cpu_count() or 1)
            return ((points[n].number, rows) for n, rows in found)
        from joblib import Parallel, delayed

        path, study = str(self.loaded.document.path.absolute()), uuid4().hex
        # A process that has taken much memory is put in another's place; nobody needs to hear of it.
        warnings.filterwarnings("ignore", "A worker stopped", UserWarning)
        pool = Parallel(n_jobs=workers, return_as="generator_unordered", batch_size=1)
        work = (delayed(_numbered)(path, self.sets, study, point) for point in points)
        begun: Iterable[tuple[int, list[Row]]] = pool(work)
        return begun

    def by_plan(self, point: Point, workers: int) -> list[Row]:
        """Rows of one point, its plans played side by side."""
        at_once, cores = self.places.width, 1
        if at_once is None:
            here = workers if workers > 0 else None
            at_once, cores = shared_out(self.loaded.model.units, len(point.plans), here)
        tasks = {plan: partial(self.rows, replace(point, plans=(plan,)), cores=cores) for plan in point.plans}
        return [row for rows in side_by_side(tasks, None, at_once) for row in rows] if tasks else []

    def rows(self, point: Point, tell: Callable[[float], None] | None, cores: int = 1) -> list[Row]:
        """Rows of one point, waited for, on so many cores where it is played here."""
        if not isinstance(self.places, Cluster):
            return _solved(self.loaded, point, tell, self._memory, cores)
        return self.places.run(tell, _numbered_there, point, self.sets, self._files)[1]


def _numbered_there(point: Point, sets: Sets, files: Shipment) -> tuple[int, list[Row]]:
    with files.unpacked() as path:
        return _numbered(str(path), sets, files.digest, point)
