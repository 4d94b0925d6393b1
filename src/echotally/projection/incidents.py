"""What each incident of the month cost, left behind and delayed: the month as it is against the month without it (rule 7.46)."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from decimal import Decimal

from msgspec import Struct
from msgspec.structs import replace

from echotally.engine.reading import UnitMeasured
from echotally.model.addresses import dotted
from echotally.model.happenings import Incident
from echotally.model.units import duration_text
from echotally.projection.answer import Helped, IncidentEffect, PlanProjection, PlayedPlan, Projection
from echotally.projection.loaded import Loaded
from echotally.projection.playing import USUAL, Playing
from echotally.projection.project import project_plan
from echotally.rates.unit_settings import run_ns

Sets = tuple[tuple[str, str], ...]
_S = 10**9
#: A timeout worth proposing lies so far above what all but one in a thousand usual runs take.
_NEARLY_ALL, _ROOM = 0.999, 2.0


def with_incidents(
    loaded: Loaded,
    projection: Projection,
    progress: Callable[[str, float], None] | None = None,
    how: Playing = USUAL,
) -> Projection:
    """The same projection with the effect of every incident on every plan that was played.

    Each is one more month a plan and incident, and one more where a shorter timeout is tried; ``how`` every one of them is played.
    """
    plans: list[PlanProjection] = []
    for plan in projection.plans:
        if not isinstance(plan, PlayedPlan):
            plans.append(plan)
            continue
        told = None if progress is None else lambda share, name=plan.offer.name: progress(f"{name}, incidents", share)
        study = _Study(loaded, plan, projection.seed, how)
        plans.append(replace(plan, incidents=tuple(study.effects(told))))
    return replace(projection, plans=tuple(plans))


class _Study(Struct):
    """One plan's month, and the months laid beside it."""

    loaded: Loaded
    plan: PlayedPlan
    seed: int
    how: Playing

    def effects(self, progress: Callable[[float], None] | None) -> Iterator[IncidentEffect]:
        incidents = self.loaded.model.incidents
        for n, incident in enumerate(incidents):
            yield self._effect(n, incident)
            if progress:
                progress((n + 1) / len(incidents))

    def _effect(self, n: int, incident: Incident) -> IncidentEffect:
        # An empty value takes the incident out; the others stay.
        without = self._played(((f"incidents.{n}", ""),))
        cost, left = self._more(without)
        return IncidentEffect(
            incident.name, cost, left, _longer_waits(self.plan, without), self._helped(incident, without)
        )

    def _played(self, sets: Sets) -> PlayedPlan:
        changed = self.loaded.changed(sets)
        found = project_plan(changed, changed.offers[self.plan.offer.name], self.seed, how=self.how)
        # What fits with the incident fits without it: feasibility does not look at incidents.
        assert isinstance(found, PlayedPlan)
        return found

    def _more(self, other: PlayedPlan) -> tuple[Decimal, float]:
        """What this month cost and left behind more than the other."""
        cost = self.plan.bill.unrounded - other.bill.unrounded
        return cost, self.plan.totals.left_behind_share - other.totals.left_behind_share

    def _helped(self, incident: Incident, without: PlayedPlan) -> Helped | None:
        """Shorter timeouts of the functions that hung, tried; None where there are none, or they did not help."""
        sets = tuple(self._shorter(incident))
        if not sets or (incident.run is None and (incident.run_times or 1) <= 1):
            return None
        tried = self._played(sets)
        saved = self.plan.bill.unrounded - tried.bill.unrounded
        served = self.plan.totals.left_behind - tried.totals.left_behind
        # It must not cost what it does not save: neither money nor events.
        if (saved <= 0 and served <= 0) or saved < 0 or served < 0:
            return None
        return Helped(sets, saved, served, self.plan.bill.unrounded - without.bill.unrounded)

    def _shorter(self, incident: Incident) -> Iterator[tuple[str, str]]:
        model, offers = self.loaded.model, {u.unit.function: u.unit.offer for u in self.plan.units}
        asking = {name for name, f in model.functions.items() if f.asks}
        for name, function in model.functions.items():
            # How long a call that asks should be let run is not told by its own run.
            if (incident.functions is not None and name not in incident.functions) or name in asking:
                continue
            items = max((model.items_of(t) for t in model.triggers if t.to == name), default=1)
            usual = run_ns(function, offers[name].plan, function.run.quantile(_NEARLY_ALL), items)
            wanted = max(_S, math.ceil(_ROOM * usual / _S) * _S)
            if wanted < function.timeout and not function.per_mb:
                yield dotted(("functions", name, "timeout")), duration_text(wanted)


def _longer_waits(plan: PlayedPlan, without: PlayedPlan) -> float | None:
    """The largest difference of a function's p95 wait, s; None where nothing succeeded."""

    def waits(units: list[UnitMeasured]) -> dict[tuple[str, str], float]:
        return {u.key: u.waits.p95 for u in units if u.waits.p95 is not None}

    with_it, before = waits(plan.units), waits(without.units)
    return max((wait - before[key] for key, wait in with_it.items() if key in before), default=None)
