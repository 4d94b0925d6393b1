"""A small stand-in platform: plays an estate on one plan and leaves the run log a real platform would leave.

Why it exists: ``fit`` and the firing check need logs to try them on, and logs made from known parameters show
whether what comes back is what went in.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from echotally.engine import codes
from echotally.engine.build import Unit, stream_seed
from echotally.evidence.stand_in import OUTCOMES, TRIGGERS, StandIn, run_times, stand_in
from echotally.model.loading import ModelSource
from echotally.model.reading import Document
from echotally.projection.loaded import Loaded, load

if TYPE_CHECKING:
    import pandas as pd

    from echotally.projection.answer import Projection

#: A run uses this share of the function's ``memory_used`` at least; the rest is drawn evenly.
_LEAST_MEMORY = 0.8


def run_log(loaded: ModelSource | Loaded, plan: str, seed: int | None = None) -> Iterator[pd.DataFrame]:
    """The month's run log on ``plan`` in chunks, a row for each attempt in the order they ended.

    Columns: ``time`` (start, UTC), ``function``, ``environment``, ``id``, ``trigger`` (http, timer, pubsub, datasource),
    ``source`` (the name of what set it off), ``events``, ``outcome`` (ok, error, timeout,
    throttled), ``cold_start_ms``, ``run_ms``, ``billed_ms``, ``memory_mb``, ``memory_used_mb``.
    Raises ``BadInput`` for a plan no card has or that cannot run a function.
    """
    platform = stand_in(load(loaded), plan, seed)
    chance = np.random.default_rng(stream_seed(platform.seed, "memory used"))
    number = 0
    for page in platform.pages():
        yield _frame(platform, page.attempts, number, chance)
        number += len(page.attempts)


def attempts_frame(projection: Projection) -> pd.DataFrame:
    """The run log of the plan that a projection shows, as one table; raises ``ValueError`` where no plan can run the estate."""
    import pandas as pd

    shown = projection.best
    if shown is None:
        raise ValueError("no plan can run the estate")
    offers = {plan.offer.name: plan.offer for plan in projection.plans}
    offers |= {unit.unit.offer.name: unit.unit.offer for unit in shown.measured.units}
    loaded = Loaded(projection.model, Document(Path("(played)"), {}, ""), projection.month, offers)
    return pd.concat(run_log(loaded, shown.offer.name, projection.seed), ignore_index=True)


def _frame(platform: StandIn, chunk: NDArray[Any], number: int, chance: np.random.Generator) -> pd.DataFrame:
    import pandas as pd

    units, functions = platform.built.units, platform.loaded.model.functions
    sources = platform.sources_of_triggers

    def per_unit(of: Callable[[Unit], Any]) -> pd.Index:
        return pd.Index([of(unit) for unit in units]).take(chunk["unit"])

    started = chunk["outcome"] != codes.THROTTLED
    ran, run_ns, cold_ns = run_times(chunk)
    used = per_unit(lambda u: functions[u.function].used_mb).to_numpy()
    used = used * (_LEAST_MEMORY + (1 - _LEAST_MEMORY) * chance.random(len(chunk)))
    start = np.datetime64(platform.start.replace(tzinfo=None), "ns")
    return pd.DataFrame(
        {
            "time": pd.DatetimeIndex(start + chunk["at"].astype("timedelta64[ns]"), tz="UTC"),
            "function": per_unit(lambda u: u.function),
            "environment": per_unit(lambda u: u.environment),
            "id": np.arange(number, number + len(chunk)),
            "trigger": pd.Index([TRIGGERS[source.kind] for source in sources]).take(chunk["trigger"]),
            "source": pd.Index([source.name for source in sources]).take(chunk["trigger"]),
            "events": chunk["items"],
            "outcome": pd.Index(OUTCOMES).take(chunk["outcome"]),
            "cold_start_ms": cold_ns / 1e6,
            "run_ms": run_ns / 1e6,
            "billed_ms": _billed_ns(units, chunk, ran, run_ns, cold_ns) * started / 1e6,
            "memory_mb": per_unit(lambda u: u.settings.memory_mb),
            "memory_used_mb": np.where(ran, used.round(1), 0.0),
        }
    )


def _billed_ns(
    units: list[Unit],
    chunk: NDArray[Any],
    ran: NDArray[np.bool_],
    run_ns: NDArray[np.int64],
    cold_ns: NDArray[np.int64],
) -> NDArray[np.int64]:
    """Time billed for each attempt on a plan that bills runs: rounded up, then raised to the least."""
    plans = [unit.offer.plan for unit in units]
    step = np.array([plan.rounding.time for plan in plans])[chunk["unit"]]
    least = np.array([plan.rounding.at_least for plan in plans])[chunk["unit"]]
    cold = np.array([plan.cold_start_billed for plan in plans])[chunk["unit"]]
    raw = run_ns + np.where(cold, cold_ns, 0)
    rounded: NDArray[np.int64] = np.where(ran | cold, np.maximum(-(-raw // step) * step, least), 0)
    return rounded
