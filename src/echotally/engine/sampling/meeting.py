"""Which schedules meet the rest of an estate at a limit, so that they cannot be played apart from it.

Why it exists: a sample plays what schedules do over the whole month, but the rest by stretches of an hour. Where both may want the
same room, the hours in which a schedule fires are played as they are. There may be thousands of schedules: what the rest reaches,
and how near a limit it comes, is found out once for all of them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from echotally.demand.month import Tap
from echotally.engine.build import Unit
from echotally.engine.sampling.sums import Maxima
from echotally.engine.sampling.wiring import Wiring
from echotally.model.estate import Model
from echotally.model.sources import SourceRef
from echotally.rates.card_loading import Offer

#: A limit that schedules and the rest come so near together is one they share.
_NEAR = 0.9


class _Reached(NamedTuple):
    """Functions that what is not by schedule can reach in an environment, and the plans they are on."""

    functions: set[str]
    plans: set[str]


class Rest:
    """What ``taps``, all but the schedules that are played apart, reach."""

    def __init__(self, model: Model, placement: Mapping[str, Offer], taps: Sequence[Tap]) -> None:
        self.model, self.placement = model, placement
        self.wiring = Wiring(model)
        sources: dict[str, set[SourceRef]] = {}
        for tap in taps:
            sources.setdefault(tap.environment, set()).add(tap.source)
        self._reached = {name: self._all_reached(its) for name, its in sources.items()}

    def _all_reached(self, sources: set[SourceRef]) -> _Reached:
        functions = self.wiring.reached(*sources)
        return _Reached(functions, {self.placement[name].name for name in functions})

    def meets(self, tap: Tap, crowding: Crowding) -> bool:
        """Whether a schedule's calls may meet the rest at a limit: a function's, an account's, nodes, reserved room."""
        reached = self._reached.get(tap.environment)
        if reached is None:
            return False
        mine = self.wiring.reached(tap.source)
        if not mine.isdisjoint(reached.functions):
            return True
        account = self.model.environments[tap.environment].account or ""
        beside = {offer.name: offer for offer in map(self.placement.__getitem__, mine) if offer.name in reached.plans}
        return any(crowding.wants(account, offer) for offer in beside.values())


class Crowding:
    """How near to its limits an account comes on a plan, where schedules, played alone, and the rest have their peaks at once."""

    def __init__(self, units: Sequence[Unit], stretches: Sequence[Maxima], alone: Maxima) -> None:
        self.units = units
        self._levels = alone.level_peak + _highest([each.level_peak for each in stretches])
        self._counts = alone.count_peak + _highest([each.count_peak for each in stretches])
        self._near: dict[tuple[str, str], bool] = {}

    def wants(self, account: str, offer: Offer) -> bool:
        """Whether functions of an account may want the same room of a plan at once."""
        return offer.plan.bills in ("reserved", "nodes") or self._is_near(account, offer)

    def _is_near(self, account: str, offer: Offer) -> bool:
        """Whether it comes near the limit of calls in flight, or of starts."""
        key = (account, offer.name)
        if key not in self._near:
            rows = [n for n, u in enumerate(self.units) if u.account == account and u.offer.name == offer.name]
            limits = ((self._levels, offer.plan.concurrency_limit), (self._counts, _tokens(offer)))
            self._near[key] = any(
                limit is not None and int(peaks[rows].sum()) > _NEAR * limit for peaks, limit in limits
            )
        return self._near[key]


def _highest(peaks: Sequence[NDArray[np.int64]]) -> NDArray[np.int64] | int:
    return np.maximum.reduce(peaks) if peaks else 0


def _tokens(offer: Offer) -> int | None:
    scaling = offer.plan.scaling
    return scaling.burst if scaling.burst is not None and scaling.scope == "account" else None
