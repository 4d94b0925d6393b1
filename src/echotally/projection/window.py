"""A stretch of a month seen closely: a day by minutes, an hour by seconds, on one plan.

The month is played as ``project`` plays it, to the end of the stretch, and read step by step (``engine.steps``).
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime, time, timedelta
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from msgspec import Struct

from echotally.demand.clock import MonthClock
from echotally.engine.layout import SERIES
from echotally.engine.play import Progress, begun
from echotally.engine.sampling import SAMPLED_FROM
from echotally.engine.steps import COLUMNS, Array, Stepped, stepped, steps_of
from echotally.errors import BadInput, Problem
from echotally.model.units import duration_ns, duration_text
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded, placement_on
from echotally.rates.card_loading import Offer

if TYPE_CHECKING:
    import pandas as pd

#: Steps that a reader takes in at a glance, s: the first that makes at most ``_GLANCE`` of them is taken.
_USUAL_S = (1, 5, 10, 30, 60, 300, 900, 3_600)
_GLANCE, _MOST = 750, 50_000
#: Columns that are counts; of those the sum over functions is asked for, of levels as well.
COUNTS = ("arrivals", "throttled", "started", "succeeded", "failed", "timed_out", "cold_starts", "handled", "lost")


class Window(Struct, frozen=True):
    """Step by step what happened between two instants on ``plan``; columns as in ``engine.steps.COLUMNS``, (units, steps)."""

    loaded: Loaded
    plan: PlayedPlan
    clock: MonthClock
    step_ns: int
    stepped: Stepped

    @property
    def units(self) -> list[tuple[str, str]]:
        """Function and environment of each row."""
        return [(unit.function, unit.environment) for unit in self.stepped.units]

    def times(self) -> list[datetime]:
        """When each step begins, local time."""
        return [self.clock.instant(int(ns)).astimezone(self.clock.zone) for ns in self.stepped.starts_ns]

    def seconds(self) -> Array:
        """How long each step is, s."""
        edges = np.append(self.stepped.starts_ns, self.stepped.until_ns)
        return np.diff(edges) / 1e9

    def of(self, name: str, function: str | None = None, environment: str | None = None) -> Array:
        """A column summed over the functions asked for (left out: all); of waits and lags the longest."""
        mine = [
            n for n, (own, where) in enumerate(self.units) if function in (None, own) and environment in (None, where)
        ]
        rows = self.stepped.columns[name][mine]
        if not name.startswith(("wait_", "latency_", "lag_")):
            found: Array = rows.sum(axis=0)
            return found
        known = np.where(np.isnan(rows), -1.0, rows).max(axis=0)
        return np.where(known < 0, np.nan, known)

    def to_frame(self) -> pd.DataFrame:
        """A row for each function, environment and step: plan, function, environment, from (local, ISO 8601), then the columns."""
        import pandas as pd

        starts = [at.isoformat() for at in self.times()]
        frames = []
        for n, (function, environment) in enumerate(self.units):
            frame = pd.DataFrame({name: self.stepped.columns[name][n] for name in COLUMNS})
            frame[list(COUNTS)] = frame[list(COUNTS)].astype("int64")
            for place, (name, value) in enumerate(
                (("plan", self.plan.offer.name), ("function", function), ("environment", environment), ("from", starts))
            ):
                frame.insert(place, name, value)
            frames.append(frame)
        return pd.concat(frames, ignore_index=True)


class Look(NamedTuple):
    """From one local day or instant to another (half-open; left out: the whole month), in steps of a duration (left out: a usual one)."""

    from_: date | None = None
    until: date | None = None
    step: str | None = None


def window(
    loaded: Loaded,
    plan: PlayedPlan,
    look: Look,
    seed: int | None = None,
    progress: Progress | None = None,
) -> Window:
    """The month, or a stretch of it, in steps.

    Raises ``BadInput`` for a stretch outside the month, more than 50,000 steps, or a month so large that it would be sampled.
    """
    clock = loaded.month.clock
    from_, until, step = look
    begin = 0 if from_ is None else _at(clock, from_, "--from")
    end = clock.length_ns if until is None else _at(clock, until, "--until")
    if begin >= end:
        what = f"{from_ or 'the month begins'} to {until or 'the month ends'}"
        raise BadInput(Problem("is no stretch of time", "--from", value=what, allowed="--from before --until"))
    step_ns = _step(step, end - begin)
    small_enough(loaded, [plan.offer], "--from")
    placement = placement_on(loaded.model, loaded.offers, plan.offer)
    built = begun(loaded.model, loaded.month.arrivals, placement, loaded.model.estate.seed if seed is None else seed)
    return Window(loaded, plan, clock, step_ns, stepped(built, steps_of(begin, end, step_ns), progress))


def small_enough(loaded: Loaded, offers: Iterable[Offer], asked: str) -> None:
    """Raises ``BadInput`` where the month is too large on each of the plans to be seen in steps, ``asked`` by an option."""
    if all(map(loaded.is_large, offers)):
        allowed = f"up to {SAMPLED_FROM / 1e6:.0f} million events"
        raise BadInput(Problem("the month has too many events to be seen step by step", asked, allowed=allowed))


def worst_day(loaded: Loaded, plan: PlayedPlan) -> date:
    """The local day on which most attempts were throttled, else the one with the largest backlog, else the busiest."""
    clock = loaded.month.clock
    for name in ("throttled", "backlog_peak", "arrivals"):
        hours = plan.measured.series.all_of(SERIES.index(name)).sum(axis=0)
        if hours.any():
            break
    by_day: dict[date, float] = {}
    for n, value in enumerate(hours):
        day = clock.instant(n * 3_600 * 10**9).astimezone(clock.zone).date()
        by_day[day] = by_day.get(day, 0.0) + float(value)
    return max(by_day, key=lambda day: (by_day[day], -day.toordinal()))


def _step(text: str | None, length_ns: int) -> int:
    if text is None:
        return next(
            (s * 10**9 for s in _USUAL_S if length_ns <= s * 10**9 * _GLANCE),
            _USUAL_S[-1] * 10**9,
        )
    try:
        step_ns = duration_ns(text)
    except ValueError as error:
        raise BadInput(Problem("is no length of time", "--step", value=text, allowed="such as 1 min")) from error
    least = -(-length_ns // _MOST)
    if step_ns < max(1, least):
        allowed = f"at least {duration_text(-(-least // 10**9) * 10**9)} for this stretch"
        raise BadInput(Problem("makes too many steps", "--step", value=text, allowed=allowed))
    return step_ns


def _at(clock: MonthClock, when: date, option: str) -> int:
    """A local day's midnight or a local instant, ns since the month's start."""
    moment = when if isinstance(when, datetime) else datetime.combine(when, time())
    ns = clock.ns(moment) if moment.tzinfo is not None else clock.local_ns(moment)
    if not 0 <= ns <= clock.length_ns:
        first = datetime.fromisoformat(f"{clock.month}-01")
        last = (first + timedelta(days=32)).replace(day=1)
        allowed = f"{first:%Y-%m-%d} to {last:%Y-%m-%d}, local"
        raise BadInput(Problem("lies outside the month", option, value=str(when), allowed=allowed))
    return ns
