"""A small stand-in platform: plays an estate on one plan and leaves the run log a real platform would leave.

Why it exists: ``fit`` and the firing check need logs to try them on, and logs made from known parameters show
whether what comes back is what went in.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from echotally.engine import codes
from echotally.engine.build import Unit, stream_seed
from echotally.engine.play import attempts, begun, finish
from echotally.errors import BadInput, Problem
from echotally.projection.loaded import Loaded, placement_on
from echotally.rates.feasibility import reasons_against

if TYPE_CHECKING:
    import pandas as pd

#: Attempts of one chunk of the log; a quarter of them are played at a time.
_DIARY = 400_000
OUTCOMES = ("ok", "error", "timeout", "throttled")
#: A run uses this share of the function's ``memory_used`` at least; the rest is drawn evenly.
_LEAST_MEMORY = 0.8


def run_log(loaded: Loaded, plan: str, seed: int | None = None) -> Iterator[pd.DataFrame]:
    """The month's run log on ``plan`` in chunks, a row for each attempt in the order they ended.

    Columns: ``time`` (start, UTC), ``function``, ``environment``, ``id``, ``events``, ``outcome`` (ok, error,
    timeout, throttled), ``cold_start_ms``, ``run_ms``, ``billed_ms``, ``memory_mb``, ``memory_used_mb``.
    Raises ``BadInput`` for a plan no card has or that cannot run a function.
    """
    offer = loaded.offer(plan)
    placement = placement_on(loaded.model, loaded.offers, offer)
    against = [text for name, at in placement.items() for text in reasons_against(loaded.model, name, at.plan)]
    if against:
        raise BadInput(Problem("cannot run this estate", value=plan, allowed=f"a plan that can; {against[0]}"))
    seed = loaded.model.estate.seed if seed is None else seed
    built = begun(loaded.model, loaded.month.arrivals, placement, seed, diary=_DIARY)
    chance = np.random.default_rng(stream_seed(seed, "memory used"))
    start = np.datetime64(loaded.month.clock.start.replace(tzinfo=None), "ns")
    number = 0
    for chunk in attempts(built):
        yield _frame(loaded, built.units, chunk, start, number, chance)
        number += len(chunk)
    finish(built)


def _frame(
    loaded: Loaded, units: list[Unit], chunk: NDArray[Any], start: Any, number: int, chance: np.random.Generator
) -> pd.DataFrame:
    import pandas as pd

    def per_unit(of: Callable[[Unit], Any]) -> NDArray[Any]:
        found: NDArray[Any] = np.array([of(unit) for unit in units])[chunk["unit"]]
        return found

    functions = loaded.model.functions
    ran = chunk["outcome"] != codes.THROTTLED
    run_ns = np.where(ran, chunk["ended"] - chunk["run_at"], 0)
    cold_ns = np.where(ran, chunk["run_at"] - chunk["at"], 0)
    used = per_unit(lambda u: functions[u.function].used_mb)
    used = used * (_LEAST_MEMORY + (1 - _LEAST_MEMORY) * chance.random(len(chunk)))
    return pd.DataFrame(
        {
            "time": pd.DatetimeIndex(start + chunk["at"].astype("timedelta64[ns]"), tz="UTC"),
            "function": per_unit(lambda u: u.function),
            "environment": per_unit(lambda u: u.environment),
            "id": np.arange(number, number + len(chunk)),
            "events": chunk["items"],
            "outcome": np.array(OUTCOMES)[chunk["outcome"]],
            "cold_start_ms": cold_ns / 1e6,
            "run_ms": run_ns / 1e6,
            "billed_ms": _billed_ns(units, chunk, run_ns, cold_ns) * ran / 1e6,
            "memory_mb": per_unit(lambda u: u.settings.memory_mb),
            "memory_used_mb": np.where(ran, used.round(1), 0.0),
        }
    )


def _billed_ns(
    units: list[Unit], chunk: NDArray[Any], run_ns: NDArray[np.int64], cold_ns: NDArray[np.int64]
) -> NDArray[np.int64]:
    """Time billed for each attempt on a plan that bills runs: rounded up, then raised to the least."""
    plans = [unit.offer.plan for unit in units]
    step = np.array([plan.rounding.time for plan in plans])[chunk["unit"]]
    least = np.array([plan.rounding.at_least for plan in plans])[chunk["unit"]]
    cold = np.array([plan.cold_start_billed for plan in plans])[chunk["unit"]]
    raw = run_ns + np.where(cold, cold_ns, 0)
    rounded: NDArray[np.int64] = np.maximum(-(-raw // step) * step, least)
    return rounded
