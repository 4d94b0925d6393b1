"""How far a plan is from its edges: at how many times today's demand each allowance, limit and target is reached (rule 7.54).

Found by playing: every environment's demand is multiplied, schedules and backlogs stay, and the factor is narrowed to 1 %. Plays
are shared by all edges of a plan. Months that the factor makes large are played as samples, and are known to their intervals.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from datetime import date, timedelta
from functools import partial
from threading import Lock

from msgspec import Struct
from msgspec.structs import replace

from echotally.engine.reading import Measured
from echotally.errors import BadInput
from echotally.model.spread import Spread
from echotally.projection.answer import Edge, PlayedPlan, Projection, allowances_used
from echotally.projection.loaded import Loaded, placement_on
from echotally.projection.metering import up_to
from echotally.projection.over_time import days_of
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from echotally.projection.threads import MANY, Progress, shared_out, side_by_side
from echotally.rates.feasibility import Feeding

#: Factors are powers of this, so that edges share plays: 70 steps an octave are 1 % apart.
_STEP = 2 ** (1 / 70)
_OCTAVE = 70
#: No factor beyond these many steps, 1,000 times more or less, is looked for.
_FURTHEST = 698
#: Months of more events than this are sampled, with so many events; no factor makes a month larger than that, but for two octaves.
_LARGE, _EFFORT = 6_000_000, 500_000
_ALWAYS = 2 * _OCTAVE
#: After so many guesses in a row that did not halve what is left, the middle is looked at (Dekker 1969).
_MISSED = 2
#: Kind, what, function ("" for none).
_Key = tuple[str, str, str]
_Tell = Callable[[float], None]
_NEVER_BY_DEMAND = ("payload",)


def with_edges(
    loaded: Loaded, projection: Projection, progress: Progress | None = None, *, near: bool = False
) -> Projection:
    """The same projection with the edges of every plan that was played; ``near``: of the plan shown, up to 4 times the demand."""
    plans = [projection.best] if near and projection.best else projection.played
    plans_at_once, cores = shared_out(loaded.model.units, len(plans))
    # Cores that no other plan uses look for several edges at a time, or play the parts of a large estate.
    at_once, parts_at_once = (1, cores) if loaded.model.units >= MANY else (cores, 1)

    def searched(plan: PlayedPlan, tell: Callable[[float], None]) -> PlayedPlan:
        search = _Search(loaded, plan, projection.seed, tell, near, at_once, parts_at_once)
        return replace(plan, edges=tuple(search.edges()))

    tasks = {f"{plan.offer.name}, edges": partial(searched, plan) for plan in plans}
    found = {plan.offer.name: plan for plan in side_by_side(tasks, progress, plans_at_once)} if tasks else {}
    return replace(projection, plans=tuple(found.get(plan.offer.name, plan) for plan in projection.plans))


class _Search(Struct, dict=True):
    loaded: Loaded
    plan: PlayedPlan
    seed: int
    tell: Callable[[float], None]
    near: bool
    at_once: int = 1
    cores: int = 1

    def __post_init__(self) -> None:
        self._playing, self._lock = dict[int, Future[None]](), Lock()
        # The same whatever the demand.
        self._payloads = dict(self._of_payloads())
        # By steps from today's demand.
        self._known: dict[int, dict[_Key, float] | None] = {0: self._shares(self.plan)}
        events = max(1, self.plan.totals.events["in"])
        most = 0 if self.near else int(math.log(max(1.0, _LARGE / events), _STEP))
        self._furthest = min(_FURTHEST, max(_ALWAYS, most))

    def edges(self) -> Iterator[Edge]:
        """Every edge, the nearest first; those that no demand reaches last."""
        now = self._known[0] or {}
        days = self._days(now)
        moved = [key for key in now if key[0] not in _NEVER_BY_DEMAND and not self._alone(key)]
        tasks = {str(key): partial(self._factor, key) for key in moved}
        factors = side_by_side(tasks, lambda _, share: self.tell(share), self.at_once) if tasks else []
        at = dict(zip(moved, factors, strict=True))
        found = [Edge(key[0], key[1], key[2] or None, share, at.get(key), days.get(key)) for key, share in now.items()]
        yield from sorted(found, key=lambda edge: (edge.reached_at_times or math.inf, -edge.used_share))

    # -- what is used of each -------------------------------------------------------------------------------------
    def _shares(self, plan: PlayedPlan) -> dict[_Key, float]:
        """How much of each edge a month uses, 1 at the edge."""
        found: dict[_Key, float] = {}
        for allowance in allowances_used(plan):
            found["allowance", allowance.meter, ""] = allowance.used_share
        found |= self._levels(plan, plan.measured)
        found |= self._payloads
        for check in plan.checks:
            if check.wanted:
                part = "" if check.by is None else f" {check.by.removeprefix('tag:')} {check.value}"
                found["target", check.target + part, check.function or ""] = check.found / check.wanted
        return found

    def _levels(self, plan: PlayedPlan, measured: Measured) -> dict[_Key, float]:
        """Limits of calls at once, instances and run times, as far as the month has gone."""
        found: dict[_Key, float] = {}
        limits = {u.unit.billed_to: u.unit.offer.plan.concurrency_limit for u in plan.measured.units}
        # The most calls at once are known of the estate, which is the account where there is one only.
        if len(limits) == 1 and (limit := next(iter(limits.values()))) is not None:
            found["concurrency", plan.offer.name, ""] = measured.concurrency.peak / limit
        for unit, whole in zip(measured.units, plan.measured.units, strict=True):
            name = unit.unit.function
            own: dict[_Key, float] = {
                ("timeout", "longest run", name): unit.longest_run_ns / self.loaded.model.functions[name].timeout
            }
            if whole.instance_limit and unit.unit.offer.plan.bills != "reserved":
                own["instances", "instance limit", name] = unit.instances.peak / whole.instance_limit
            for key, share in own.items():
                found[key] = max(found.get(key, 0.0), share)
        return found

    def _of_payloads(self) -> Iterator[tuple[_Key, float]]:
        model = self.loaded.model
        feeding, handed = Feeding(model), defaultdict[str, list[Spread]](list)
        for trigger in model.triggers:
            handed[trigger.to] += [payload for _, payload in feeding.payloads(trigger.from_)]
        for name, offer in placement_on(model, self.loaded.offers, self.plan.offer).items():
            if limit := offer.plan.payload_limit:
                largest = max((payload.quantile(0.95) for payload in handed[name]), default=0.0)
                yield ("payload", "p95 of payloads", name), largest / limit

    # -- by playing -----------------------------------------------------------------------------------------------
    def _at(self, step: int, tell: _Tell) -> dict[_Key, float]:
        """The shares so many steps from today's demand; none where that month cannot be played."""
        with self._lock:
            known, mine = self._playing.get(step), Future[None]()
            if known is None and step not in self._known:
                self._playing[step] = mine
        if known:
            # Another edge asked for it a little earlier.
            known.result()
        elif step not in self._known:
            try:
                self._known[step] = self._played(_STEP**step, tell)
            except BaseException as error:
                mine.set_exception(error)
                raise
            mine.set_result(None)
        return self._known[step] or {}

    def _played(self, times: float, tell: _Tell) -> dict[_Key, float] | None:
        model = self.loaded.model
        environments = {
            name: each.model_copy(update={"demand": each.demand * times}) for name, each in model.environments.items()
        }
        how = Playing(sampled_from=_LARGE, effort=_EFFORT, cores=self.cores)
        try:
            busier = self.loaded.with_model(model.model_copy(update={"environments": environments}))
            # How many months an edge takes is not known beforehand; who tells is heard when it is to stop.
            played = project_plan(busier, self.plan.offer, self.seed, lambda _: tell(0.0), how)
        except BadInput:
            # More work than any month holds.
            return None
        return self._shares(played) if isinstance(played, PlayedPlan) else None

    def _factor(self, key: _Key, tell: _Tell) -> float | None:
        """The demand multiple at which an edge is reached, to 1 %; None where no factor in reach does it."""
        found = self._looked_for(key, tell)
        tell(1.0)
        return found

    def _looked_for(self, key: _Key, tell: _Tell) -> float | None:
        bracket = self._bracket(key, tell)
        if bracket is None:
            return None
        low, high = bracket
        missed = 0
        while (width := high - low) > 1:
            guess = _between(low, self._at(low, tell)[key], high, self._at(high, tell)[key])
            step = (low + high) // 2 if missed >= _MISSED else guess
            share = self._at(step, tell).get(key)
            if share is None:
                return None
            low, high = (step, high) if share < 1 else (low, step)
            missed = missed + 1 if 2 * (high - low) > width else 0
        return float(_STEP**high)

    def _bracket(self, key: _Key, tell: _Tell) -> tuple[int, int] | None:
        """Steps below the edge and at or beyond it, an octave apart or less."""
        step = 0
        up = self._at(0, tell)[key] < 1
        while True:
            after = max(-_FURTHEST, min(self._furthest, step + (_OCTAVE if up else -_OCTAVE)))
            share = self._at(after, tell).get(key)
            if share is None or after == step:
                return None
            if (share >= 1) == up:
                return (step, after) if up else (after, step)
            step = after

    # -- this month -----------------------------------------------------------------------------------------------
    def _alone(self, key: _Key) -> bool:
        """Whether a function's runs take as long whatever the demand: one call an instance, nothing asked."""
        if key[0] != "timeout":
            return False
        units = self.plan.units_of(key[2])
        function = self.loaded.model.functions[key[2]]
        shared = function.slots > 1 or any(u.unit.offer.plan.bills == "reserved" for u in units)
        return not shared and not function.asks

    def _days(self, now: dict[_Key, float]) -> dict[_Key, date]:
        """The first local day of this month by whose end an allowance is used up or a limit met."""
        reached = {
            key
            for key, share in now.items()
            if share >= 1 and key[0] in ("allowance", "concurrency", "instances", "timeout")
        }
        if not reached or self.plan.confidence is not None:
            return {}
        clock = self.loaded.month.clock
        ends = days_of(clock)
        again = project_plan(
            self.loaded, self.plan.offer, self.seed, how=Playing(exact=True, passing_ns=tuple(ends[:-1]))
        )
        assert isinstance(again, PlayedPlan)
        first = date.fromisoformat(f"{clock.month}-01")
        found: dict[_Key, date] = {}
        for n, mark in enumerate([*again.measured.passed, again.measured]):
            metered = up_to(self.loaded.model, mark, self.plan.offer, self.plan.measured.month_ns)
            looked = self._levels(self.plan, mark)
            looked |= {
                ("allowance", a.meter, ""): a.used_share for a in allowances_used(replace(self.plan, metered=metered))
            }
            for key in reached - found.keys():
                if looked.get(key, 0.0) >= 1:
                    found[key] = first + timedelta(days=n)
        return found


def _between(low: int, below: float, high: int, beyond: float) -> int:
    """A step between two, nearer to where a share that grows as a power of demand reaches 1."""
    middle = (low + high) // 2
    # What stays at its limit however much comes, as instances do, gives no slope to guess by.
    if below <= 0 or beyond <= 1:
        return middle
    part = math.log(1 / below) / math.log(beyond / below)
    # A step to the side of it, in turn, so that both ends close in.
    guess = low + part * (high - low)
    aside = math.ceil(guess) if guess - low < high - guess else math.floor(guess)
    return min(high - 1, max(low + 1, aside))
