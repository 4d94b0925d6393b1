"""What a projected month leaves undone, as facts: work that piles up, runs that time out, events that are lost.

Why it exists: a cost says nothing of what was not done for it, so these come before it in every view.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine.layout import SERIES
from echotally.engine.reading import UnitMeasured
from echotally.model.estate import Model
from echotally.projection.answer import PlayedPlan

_BACKLOG, _AGE = SERIES.index("backlog_peak"), SERIES.index("oldest_age_s")
#: A pile is one that was not worked off for a day at the month's end and is still this much larger than a day before, or
#: whose oldest event has this share of the retention behind it.
_DAY, _GROWN, _OLD = 24, 1.05, 0.98
#: Events below which nothing is said to pile up.
_FEW = 100
#: Shares from which what went wrong is said first.
_WORTH = 0.001


class Pile(Struct, frozen=True):
    """Work of one function that piles up: by so many events an hour, since an hour of the month, until an end.

    ``until`` is "retention" (``until_hour`` is when it is first reached, ``retention_s`` what it is) or "month".
    """

    function: str
    environment: str
    per_hour: float
    since_hour: int
    until: str
    until_hour: int
    retention_s: float | None
    left: int
    expired: int


class Loss(Struct, frozen=True):
    """Of ``whole`` events, runs or requests of a function over all environments, ``count`` came to nothing as said."""

    function: str
    what: str
    count: int
    whole: int

    @property
    def share(self) -> float:
        """The part of all that came to nothing."""
        return self.count / self.whole if self.whole else 0.0


def piles(model: Model, plan: PlayedPlan) -> list[Pile]:
    """Backlogs that grow until the month ends or the retention is reached, largest first; of what a sample does not tell none."""
    found = []
    for n, unit in enumerate(plan.measured.units):
        if unit.unit.function in plan.untold:
            continue
        series = plan.measured.series
        pile = _pile(model, unit, series.one(n, _BACKLOG), series.one(n, _AGE))
        if pile is not None:
            found.append(pile)
    return sorted(found, key=lambda p: -p.per_hour)


def _pile(model: Model, unit: UnitMeasured, backlog: NDArray[np.float64], age: NDArray[np.float64]) -> Pile | None:
    hours = len(backlog)
    if hours <= _DAY or backlog[-1] < _FEW or age[-_DAY:].min() < 3_600:
        return None
    # Asked of few: it looks at every trigger.
    retention = _retention_s(model, unit.unit.function)
    old = retention is not None and age[-1] >= _OLD * retention
    if not old and backlog[-1] < _GROWN * backlog[-1 - _DAY]:
        return None
    top = float(backlog.max())
    full = int(np.argmax(backlog >= 0.97 * top))
    low = np.flatnonzero((backlog[:full] < max(_FEW, 0.02 * top)) | (age[:full] < 1_800))
    since = int(low[-1]) if len(low) else 0
    per_hour = (float(backlog[full]) - float(backlog[since])) / max(1, full - since)
    return Pile(
        unit.unit.function,
        unit.unit.environment,
        per_hour,
        since,
        "retention" if old else "month",
        full if old else hours,
        retention if old else None,
        unit.events["unfinished"],
        unit.events["expired"],
    )


def _retention_s(model: Model, function: str) -> float | None:
    """The shortest retention of the queues and streams a function takes from, s."""
    found = []
    for trigger in model.triggers:
        if trigger.to == function and trigger.from_.kind.traits.batched:
            found.append(model.waiting_place(trigger.from_).retention / 1e9)
    return min(found, default=None)


def losses(plan: PlayedPlan) -> list[Loss]:
    """What came to nothing, worst share first: runs that timed out, events lost, requests refused; of what a sample does not tell none."""
    by_function: dict[str, list[UnitMeasured]] = {}
    for unit in plan.units:
        by_function.setdefault(unit.unit.function, []).append(unit)
    told = [(name, units) for name, units in by_function.items() if name not in plan.untold]
    found = [loss for name, units in told for loss in _of(name, units) if loss.share >= _WORTH]
    return sorted(found, key=lambda loss: -loss.share)


def _of(name: str, units: Sequence[UnitMeasured]) -> Iterator[Loss]:
    def total(kind: str) -> int:
        return sum(u.events[kind] for u in units)

    events = total("in")
    yield Loss(name, "runs time out", sum(u.attempts["timed_out"] for u in units), sum(u.started for u in units))
    yield Loss(name, "requests are refused", total("rejected"), events)
    yield Loss(name, "events are lost after their tries", total("lost"), events)
    yield Loss(name, "events go to the dead letter", total("dead_lettered"), events)
    yield Loss(name, "events expire", total("expired"), events)
    yield Loss(name, "events are too large", total("too_large"), events)
