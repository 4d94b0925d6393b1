"""``sweep``: every combination of some values, on every plan; the best point and the front of the good ones."""

from __future__ import annotations

import itertools
import math
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Unpack

from msgspec import Struct
from msgspec.structs import replace

from echotally.engine.machines import machines
from echotally.errors import BadInput, Problem
from echotally.model import units
from echotally.model.addresses import address_parts, override
from echotally.model.loading import ModelSource
from echotally.model.spoken import as_the_file_says
from echotally.projection.loaded import Loaded, all_sets, load
from echotally.showing import Answer
from echotally.studies.jobs import AtPoints, Point, Row, run_points
from echotally.studies.running import Running, RunningWords

if TYPE_CHECKING:
    import pandas as pd

#: What "best" may mean: the column made smallest, cost deciding between equals.
OBJECTIVES = {"cost": "cost_total", "wait": "wait_p95_s", "throttled": "throttled_share"}
_MOST_POINTS = 1_000_000


class Axis(Struct, frozen=True):
    """One address and the values it takes, as the file would write them."""

    address: str
    values: tuple[str, ...]


class Sweep(Answer, frozen=True):
    """Every combination on every plan: ``rows`` hold the axes' values, the figures, and whether they are on the front.

    ``best`` is the row that serves the objective under the targets; None if none meets them, then ``closest``
    has the fewest misses. Where demand itself is varied there is neither. ``unplayed``: at how many points a plan's month is too
    large even for a sample, so that it has no row there.
    """

    loaded: Loaded
    axes: tuple[Axis, ...]
    objective: str
    rows: tuple[Row, ...]
    best: Row | None
    closest: Row | None
    unplayed: tuple[tuple[str, int], ...] = ()

    @property
    def demand_varied(self) -> bool:
        """Whether an axis is how much comes in: then less is cheaper, and no point is the best of them."""
        return any(is_demand(axis.address) for axis in self.axes)

    def to_frame(self) -> pd.DataFrame:
        """The rows as a tidy table."""
        import pandas as pd

        return pd.DataFrame(list(self.rows))


_DEMAND_KEYS = ("rate", "monthly", "clients", "trace", "lumps", "surges", "payload", "growth", "range")


def is_demand(address: str) -> bool:
    """Whether an address says how much comes in: of a demand, an environment's factor, a schedule, a backlog."""
    parts = address_parts(address)
    return (
        (parts[0] == "demand" and (len(parts) < 3 or parts[2] in _DEMAND_KEYS))
        or (parts[0] == "environments" and parts[-1] in ("demand", "schedules"))
        or (parts[0] == "schedules" and parts[-1] in ("cron", "every", "rrule", "items"))
        or (parts[0] == "queues" and parts[-1] == "backlog")
        or address == "estate.month"
    )


def parse_axis(text: str) -> Axis:
    """``ADDRESS=a,b,c``, ``ADDRESS=lo..hi:steps`` or ``ADDRESS=lo..hi:steps:log``; raises ``BadInput``."""
    address, values = override(text) or ("", "")
    if not values:
        raise BadInput(Problem("is not an axis", "--vary", value=text, allowed=_FORMS))
    if ".." not in values:
        return Axis(address, tuple(_plain(value) for value in values.split(",")))
    bounds, _, rest = values.partition(":")
    count, _, scale = rest.partition(":")
    low, _, high = bounds.partition("..")
    if not count.isdecimal() or int(count) < 2 or scale not in ("", "log"):
        raise BadInput(Problem("is not a range", "--vary", value=text, allowed=_FORMS))
    if len(count) > 9 or int(count) > _MOST_POINTS:
        raise BadInput(Problem("has too many steps", "--vary", value=text, allowed=f"at most {_MOST_POINTS:,} points"))
    return Axis(address, _between(_plain(low), _plain(high), int(count), bool(scale), text))


def _plain(value: str) -> str:
    return as_the_file_says(value.strip(), ())


_FORMS = "ADDRESS=a,b,c or ADDRESS=lo..hi:steps or ADDRESS=lo..hi:steps:log"
_READERS: tuple[tuple[Callable[[object], object], Callable[[float], str]], ...] = (
    (units.memory_mb, lambda mb: f"{round(mb)} MB"),
    (units.duration_ns, lambda ns: units.duration_text(round(ns / 1e6) * 10**6)),
    (units.rate_per_s, lambda rate: f"{rate:.9f} /s"),
    (units.size_bytes, lambda size: f"{round(size)} B"),
)


def _between(low: str, high: str, count: int, log: bool, text: str) -> tuple[str, ...]:
    for read, write in _READERS:
        try:
            return _spaced(float(read(low)), float(read(high)), count, log, write)  # type: ignore[arg-type]
        except ValueError:
            continue
    try:
        whole = all("." not in bound and "e" not in bound.lower() for bound in (low, high))
        write = (lambda n: str(round(n))) if whole else (lambda n: f"{n:.6g}")
        return _spaced(float(low), float(high), count, log, write)
    except ValueError as error:
        raise BadInput(Problem("has bounds that are no quantities", "--vary", value=text, allowed=_FORMS)) from error


def _spaced(low: float, high: float, count: int, log: bool, write: Callable[[float], str]) -> tuple[str, ...]:
    if log and min(low, high) <= 0:
        raise ValueError("logarithms need bounds above 0")
    steps = [n / (count - 1) for n in range(count)]
    values = [low * (high / low) ** s if log else low + (high - low) * s for s in steps]
    return tuple(dict.fromkeys(write(value) for value in values))


def sweep(
    path: ModelSource | Loaded,
    vary: Iterable[str],
    sets: Iterable[tuple[str, str]] = (),
    plans: Sequence[str] = (),
    *,
    objective: str = "cost",
    **words: Unpack[RunningWords],
) -> Sweep:
    """Project every combination of the axes on every plan (the model's, or ``plans``).

    ``words``: how it is played (``Running``). Raises ``BadInput``; a value the loader refuses is refused before anything is played.
    """
    run, sets = Running(**words), tuple(sets)
    axes = tuple(parse_axis(text) for text in vary)
    loaded, sets = load(path, sets), all_sets(path, sets)
    names = tuple(offer.name for offer in loaded.chosen(plans, "--plan"))
    if not axes:
        raise BadInput(Problem("a sweep needs at least one axis", "--vary", allowed=_FORMS))
    if math.prod(len(axis.values) for axis in axes) * len(names) > _MOST_POINTS:
        raise BadInput(Problem(f"asks for more than {_MOST_POINTS:,} points", "--vary"))
    for axis in axes:
        for value in axis.values:
            loaded.changed([(axis.address, value)])
    combinations = [
        tuple(zip((axis.address for axis in axes), values, strict=True))
        for values in itertools.product(*(axis.values for axis in axes))
    ]
    chosen = loaded.model.estate.seed if run.seed is None else run.seed
    points = [
        Point(n, changed, names, chosen, by=run.by or "", some_left_out=True) for n, changed in enumerate(combinations)
    ]
    with machines(run.cluster) as places:
        at_points = AtPoints(places, loaded, sets)
        found = run_points(at_points, points, run)
        cut = next((point for point in points if len(found[point.number]) < len(names)), None)
        if cut and not any(row["feasible"] for rows in found.values() for row in rows):
            # Nothing could be played, and not because no plan could take it: the first point of those says why.
            run_points(at_points, [replace(cut, some_left_out=False)], replace(run, store=None))
    rows = [{**dict(combinations[n]), **row} for n in range(len(points)) for row in found[n]]
    played = Counter(row["plan"] for row in rows)
    unplayed = tuple((name, len(points) - played[name]) for name in names if played[name] < len(points))
    return _judged(loaded, axes, objective, rows, unplayed)


def _judged(
    loaded: Loaded, axes: tuple[Axis, ...], objective: str, rows: list[Row], unplayed: tuple[tuple[str, int], ...]
) -> Sweep:
    for row, good in zip(rows, pareto_front(rows), strict=True):
        row["front"] = good
    wanted = OBJECTIVES[objective]

    def rank(row: Row) -> tuple[float, float]:
        return (math.inf if row[wanted] is None else row[wanted], row["cost_total"])

    feasible = [row for row in rows if row["feasible"]]
    meeting = [row for row in feasible if row["meets_targets"]]
    if any(is_demand(axis.address) for axis in axes):
        return Sweep(loaded, axes, objective, tuple(rows), None, None, unplayed)
    best = min(meeting, key=rank, default=None)
    near = None if best else min(feasible, key=lambda row: (row["misses"], *rank(row)), default=None)
    return Sweep(loaded, axes, objective, tuple(rows), best, near, unplayed)


def pareto_front(rows: Sequence[Row]) -> list[bool]:
    """Whether no other feasible row is at least as good in cost, wait and throttling and better in one of them."""
    values = [
        tuple(math.inf if row[key] is None else row[key] for key in ("cost_total", "wait_p95_s", "throttled_share"))
        if row["feasible"]
        else None
        for row in rows
    ]
    known = {value for value in values if value}
    return [
        value is not None
        and not any(other != value and all(a <= b for a, b in zip(other, value, strict=True)) for other in known)
        for value in values
    ]
