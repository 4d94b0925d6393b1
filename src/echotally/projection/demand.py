"""``demand``: what comes in during the month, per source, before any function runs."""

from __future__ import annotations

from collections.abc import Iterable

from echotally.demand.summary import SourceDemand
from echotally.engine.drawing import draw_demand
from echotally.errors import Problem, TooLarge
from echotally.model.loading import ModelSource
from echotally.projection.loaded import Loaded, load
from echotally.showing import Answer

#: Drawing so many takes minutes.
_MOST = 10_000_000_000


class DemandView(Answer, frozen=True):
    """The demand of a model, drawn with ``seed``; ``closed_loop`` names demands that depend on the answers."""

    loaded: Loaded
    seed: int
    sources: tuple[SourceDemand, ...]
    closed_loop: tuple[str, ...]


def view_demand(
    path: ModelSource | Loaded, sets: Iterable[tuple[str, str]] = (), seed: int | None = None
) -> DemandView:
    """Draw the month's arrivals of every source; raises ``BadInput``, also where there are more than can be drawn one by one."""
    loaded = load(path, sets)
    expected = sum(tap.expected for tap in loaded.month.taps if tap.kind != "clients")
    if expected > _MOST:
        what = f"expects {expected:,.0f} events, which would be drawn one by one"
        raise TooLarge(Problem(what, value=loaded.model.estate.month, allowed=f"at most {_MOST:,}"))
    seed = loaded.model.estate.seed if seed is None else seed
    offer = next(iter(loaded.offers.values()))
    sources = draw_demand(loaded.model, loaded.month, offer, seed)
    closed = tuple(name for name, demand in loaded.model.demand.items() if demand.clients is not None)
    return DemandView(loaded, seed, tuple(sources), closed)
