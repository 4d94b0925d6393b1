"""What a rule looks at: the model, the plan, the month played on it, and the month with a change."""

from __future__ import annotations

import math
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping
from copy import copy
from decimal import Decimal
from functools import cached_property
from pathlib import Path
from threading import Lock
from typing import NamedTuple

from msgspec import Struct, field
from msgspec.structs import replace

from echotally.engine.apart import Memory
from echotally.engine.reading import UnitMeasured
from echotally.engine.sampling import worth_sampling
from echotally.errors import BadInput
from echotally.findings.rule import Sets
from echotally.model.estate import Model, Trigger
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded, load, placement_on
from echotally.projection.metering import UnitKey
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from echotally.projection.totals import Totals, totals_of
from echotally.projection.trial import Trials
from echotally.projection.tried import Trial, trial_of
from echotally.rates.billing import minor_digits
from echotally.rates.card import Plan
from echotally.rates.card_loading import Offer
from echotally.rates.meters import BY_COUNT
from echotally.rates.unit_settings import run_ns, unit_settings

#: Above this many events a month changes are played on a small sample of so many events, so that ``check`` stays quick.
_MOST_REPLAYED, _SMALL = 2_000_000, 200_000
#: A change that touches up to so many functions is always tried. Of those that take more, each rule tries what so much work
#: allows, in events (building and reading a function is worth so many), and never fewer than these; one where a single one is much.
_SMALL_PART, _WORK, _WORK_OF_A_FUNCTION, _FEWEST, _MUCH = 10, 4_000_000, 5_000, 3, 4_000_000
#: Whose money is no unit's.
_NOBODYS = ("", "")
#: Due whatever the runs are.
_NOT_BY_RUNS = frozenset({"stream_partition_hours", "storage_gb_months", "flat_months"})
#: Meters of the time that a function's runs take.
_OF_TIME = ("gb_seconds", "vcpu_seconds", "instance_hours", "allocated_gb_seconds", "allocated_vcpu_seconds")


class Told(NamedTuple):
    """What a rule has tried in another process: the changes, without what was measured of each function; and which it asked for."""

    tried: dict[Sets, tuple[Trial | None, Trial | None]]
    asked: dict[tuple[str, ...], bool]
    large: int


class Context(Struct, dict=True):
    """The model, the plan it is looked at on, the month played on it (None where it does not fit).

    ``on_plans``: what it came to on each plan that was played, by name, without its parts. ``every``: every change is tried, however
    much each takes.
    """

    path: Path
    sets: Sets
    loaded: Loaded
    offer: Offer
    base: PlayedPlan | None
    on_plans: Mapping[str, Trial] = field(default_factory=dict)
    every: bool = False
    tried: dict[Sets, tuple[Trial | None, Trial | None]] = field(default_factory=dict)
    _loadable: dict[Sets, bool] = field(default_factory=dict)
    _as_it_is: list[Trial | None] = field(default_factory=list)
    _lock: Lock = field(default_factory=Lock)
    #: What parts came to where a change is of the whole estate: without one of its environments all others are as they were.
    _memory: Memory = field(default_factory=Memory)
    _asked: dict[tuple[str, ...], bool] = field(default_factory=dict)
    _large: int = 0

    def of_a_rule(self) -> Context:
        """The same for one rule, which has tries of its own; what was played and loaded is shared by all."""
        # Made before, they are copied; else each rule would make its own.
        if self.base is not None:
            _ = self._trials, self.placement, self.too_large, self._attempts
        own = copy(self)
        # A copy of a struct has its fields, and nothing that was kept of them.
        vars(own).update(vars(self))
        own._asked, own._large = {}, 0
        return own

    def get_ready(self) -> None:
        """Find what processes that try changes would each find by itself: when start tokens were taken."""
        if self._trials is not None:
            _ = self._trials.tokens.times

    def told(self, changes: Iterable[Sets]) -> Told:
        """What trying some changes came to, for the process that asked for it."""
        pairs = {sets: self.tried[sets] for sets in changes if sets in self.tried}
        tried = {sets: (_figures_of(now), _figures_of(then)) for sets, (now, then) in pairs.items()}
        return Told(tried, self._asked, self._large)

    def takes_over(self, told: Told, asked: bool = True) -> None:
        """As if what was tried elsewhere had been tried here, and, where a rule looked there, ``asked`` for."""
        self.tried.update({sets: pair for sets, pair in told.tried.items() if sets not in self.tried})
        if asked:
            self._asked, self._large = told.asked, told.large

    @property
    def model(self) -> Model:
        """The model."""
        return self.loaded.model

    @property
    def currency(self) -> str:
        """The currency of every amount."""
        return self.offer.card.currency

    @cached_property
    def month_s(self) -> float:
        """Seconds of the month."""
        return self.loaded.month.clock.length_ns / 1e9

    @cached_property
    def placement(self) -> dict[str, Offer]:
        """Each function's plan."""
        return placement_on(self.model, self.loaded.offers, self.offer)

    def plan(self, name: str) -> Plan:
        """The plan function ``name`` is on."""
        return self.placement[name].plan

    @cached_property
    def total(self) -> Decimal:
        """The month's cost on the plan looked at."""
        return self.base.bill.unrounded if self.base else Decimal(0)

    def money(self, amount: Decimal | float) -> str:
        """An amount in words."""
        size = abs(float(amount))
        digits = minor_digits(self.currency)
        # Three digits that say something, however small the amount.
        places = digits if size == 0 or size >= 1 else max(digits, 3 - math.floor(math.log10(size)))
        return f"{amount:,.{places}f} {self.currency}"

    def units(self, name: str) -> list[UnitMeasured]:
        """What was measured of a function, an item an environment."""
        return self.base.units_of(name) if self.base else []

    def totals(self, name: str) -> Totals:
        """What a function came to in all environments together."""
        return totals_of(self.units(name))

    def cost(self, name: str) -> Decimal:
        """What a function costs in all environments."""
        return self._costs.get(name, Decimal(0))

    def paid_for_time(self, name: str) -> Decimal:
        """What a function pays for its time, in all environments: seconds and hours of instances with calls."""
        return self._costs_of_time.get(name, Decimal(0))

    @cached_property
    def _costs(self) -> dict[str, Decimal]:
        return _by_function(self.base.bill.functions.items()) if self.base else {}

    @cached_property
    def _costs_of_time(self) -> dict[str, Decimal]:
        shares = self.base.bill.shares if self.base else {}
        return _by_function(
            (key, parts[meter]) for key, parts in shares.items() for meter in _OF_TIME if meter in parts
        )

    def at_stake(self, name: str) -> Decimal | None:
        """The most that other runs of a function could save: what they pay, and what stands idle; None where not played.

        Saves plays: what is worth less than a finding needs not be tried.
        """
        return self._stake(name, self._by_runs) if self.base and self.base.bill else None

    def at_stake_in_time(self, name: str) -> Decimal | None:
        """As ``at_stake``, of shorter runs: batches only get smaller by them, so that nothing that is counted gets less."""
        return self._stake(name, self._by_time) if self.base and self.base.bill else None

    def _stake(self, name: str, paid: dict[tuple[str, str], Decimal]) -> Decimal:
        """What a function pays, and what none of them does, which has no unit."""
        own = sum((amount for key, amount in paid.items() if key[0] == name), Decimal(0))
        return paid.get(_NOBODYS, Decimal(0)) + own

    @cached_property
    def _by_runs(self) -> dict[tuple[str, str], Decimal]:
        """What each unit pays for what its runs use."""
        return self._paid_without(_NOT_BY_RUNS)

    @cached_property
    def _by_time(self) -> dict[tuple[str, str], Decimal]:
        """What each unit pays for as long as its runs take."""
        return self._paid_without(_NOT_BY_RUNS.union(BY_COUNT))

    def _paid_without(self, meters: frozenset[str]) -> dict[tuple[str, str], Decimal]:
        bill = self.base.bill if self.base else None
        if bill is None:
            return {}
        paid = {
            key: sum((a for meter, a in parts.items() if meter not in meters), Decimal(0))
            for key, parts in bill.shares.items()
        }
        whole = sum((line.amount for line in bill.lines if line.meter not in meters), Decimal(0))
        return {**paid, _NOBODYS: whole - sum(paid.values(), Decimal(0))}

    def calls(self, name: str) -> int:
        """Started attempts of a function in all environments."""
        return sum(u.started for u in self.units(name))

    def triggers(self, name: str) -> Iterator[tuple[int, Trigger]]:
        """A function's triggers with their numbers in the file."""
        return ((n, t) for n, t in enumerate(self.model.triggers) if t.to == name)

    def run_s(self, name: str, share: float | None = None, items: int = 1) -> float:
        """Run time in s of a call of ``items`` on the function's plan: the mean, or the quantile ``share``."""
        function = self.model.functions[name]
        base = function.run.mean if share is None else function.run.quantile(share)
        return run_ns(function, self.plan(name), base, items) / 1e9

    def timeout_s(self, name: str) -> float:
        """When a run of a function is ended on its plan, s."""
        function, plan = self.model.functions[name], self.plan(name)
        return min(function.timeout, plan.timeout_limit or function.timeout) / 1e9

    def parallel(self, name: str) -> float:
        """How many calls of a function may run at once by its own and the account's limits."""
        function, plan = self.model.functions[name], self.plan(name)
        if plan.bills == "reserved":
            # As if it were alone on them: neighbours only take from this.
            room = (plan.instance_memory or 0) * (1 - plan.used_by_others[0]) // function.memory
            return (plan.instances or 1) * min(room, plan.slots_limit or math.inf)
        limit = unit_settings(function, plan).limit
        own = math.inf if limit is None else limit * function.slots
        return min(own, plan.concurrency_limit or math.inf)

    def per_hour(self, name: str) -> tuple[float, float]:
        """Events that arrive at a function in an hour of its busiest environment: mean, and busiest hour."""
        measured = self.base.measured if self.base else None
        if measured is None:
            return 0.0, 0.0
        # Environments are not added up: a rate is what one instance of the function sees.
        rows = [measured.series.one(n, 0) for n, u in enumerate(measured.units) if u.unit.function == name]
        busiest = max(rows, key=lambda row: float(row.sum()), default=None)
        return (0.0, 0.0) if busiest is None else (float(busiest.mean()), float(busiest.max()))

    def trial(self, sets: Sets) -> Trial | None:
        """The month with a change, on the same plan, or a small sample of it; None where it cannot be played."""
        return self._pair(sets)[1]

    def beside(self, sets: Sets) -> Trial | None:
        """What the month with a change is laid beside: the month as it is, or of a large one a small sample; None without one."""
        return self._pair(sets)[0]

    def _pair(self, sets: Sets) -> tuple[Trial | None, Trial | None]:
        if not self.is_tried(sets):
            return None, None
        self.try_change(sets)
        return self.tried[sets]

    def is_tried(self, sets: Sets) -> bool:
        """Whether a change is among those that are played: all where each takes a small part, else as many as work allows.

        Told by what this rule has asked before and by nothing else, so that it is the same however threads take turns. A search
        (the smallest limit, the memory that costs least) is one change: half of one would find something else.
        """
        what = tuple(address for address, _ in sets)
        if what not in self._asked:
            work = 0 if self.every else self.work_of(sets)
            self._asked[what] = work == 0 or self._large < max(_FEWEST if work <= _MUCH else 1, _WORK // work)
            self._large += work > 0
        return self._asked[what]

    def try_change(self, sets: Sets) -> None:
        """Try a change of which it is known that it ``is_tried``."""
        if sets not in self.tried:
            self.tried[sets] = self._tried(sets)

    def is_on_plan(self, sets: Sets, name: str) -> None:
        """A change puts every function on plan ``name``: where that month was played event by event, it needs not be played again."""
        played, base = self.on_plans.get(name), self.base
        if played and base and not played.sampled and base.confidence is None:
            self.tried[sets] = trial_of(base), played
            self._asked[tuple(address for address, _ in sets)] = True

    @property
    def untried(self) -> int:
        """How many changes were asked for and not played, those of one value in one place counted once."""
        return sum(not tried for tried in self._asked.values())

    def work_of(self, sets: Sets) -> int:
        """What playing a change takes, in events; 0 where only a small part of the estate is played."""
        if self._trials is None or self.base is None:
            return 0
        functions = self._trials.functions_played(sets)
        if len(functions) <= _SMALL_PART:
            return 0
        whole = len(functions) == len(self.model.functions)
        events = self._attempts.total() if whole else sum(self._attempts[name] for name in functions)
        return (_SMALL if self.too_large and events > _MOST_REPLAYED else events) + _WORK_OF_A_FUNCTION * len(functions)

    @cached_property
    def _attempts(self) -> Counter[str]:
        """Attempts of each function in all environments."""
        found: Counter[str] = Counter()
        for unit in self.base.measured.units if self.base else ():
            found[unit.unit.function] += unit.attempts["total"]
        return found

    def _tried(self, sets: Sets) -> tuple[Trial | None, Trial | None]:
        # In the part that the change touches where that tells all, else in the whole month.
        pair = self._trials.pair(sets) if self._trials else None
        return pair or (self._whole, self._play(sets))

    @cached_property
    def _trials(self) -> Trials | None:
        return Trials(self.loaded, self.base, _MOST_REPLAYED, _SMALL) if self.base else None

    @cached_property
    def too_large(self) -> bool:
        """Whether the month holds so many events that changes of the whole are played on a sample of it."""
        return worth_sampling(self.model, self.loaded.month, self.placement, _MOST_REPLAYED)

    def applies(self, sets: Sets) -> bool:
        """Whether the model with a change can be loaded."""
        if sets not in self._loadable:
            # A part loads in a hundredth of the time that the whole model takes.
            part = self._trials.loads(sets) if self._trials else None
            self._loadable[sets] = self._changed(sets) is not None if part is None else part
        return self._loadable[sets]

    def _changed(self, sets: Sets) -> Loaded | None:
        try:
            return load(self.path, [*self.sets, *sets], like=self.loaded)
        except BadInput:
            return None

    @property
    def _whole(self) -> Trial | None:
        """The whole month, or of a large one a small sample; None where neither can be played."""
        if self.base is None or not self.too_large:
            return trial_of(self.base) if self.base else None
        # Once for all rules, which look side by side.
        with self._lock:
            if not self._as_it_is:
                self._as_it_is.append(self._project(self.loaded))
        return self._as_it_is[0]

    def _project(self, loaded: Loaded) -> Trial | None:
        offer, seed = loaded.offers[self.offer.name], self.model.estate.seed
        start, effort = (0, _SMALL) if self.too_large else (None, None)
        try:
            how = Playing(sampled_from=start, effort=effort, alike=True, memory=self._memory)
            played = project_plan(loaded, offer, seed, how=how)
        except BadInput:
            return None
        return trial_of(played, self.too_large) if isinstance(played, PlayedPlan) else None

    def _play(self, sets: Sets) -> Trial | None:
        if self.base is not None and self._whole is None:
            return None
        changed = self._changed(sets)
        return self._project(changed) if changed else None

    def saving(self, sets: Sets) -> Decimal | None:
        """What a change saves a month, by playing it."""
        now, played = self._pair(sets)
        return now.cost - played.cost if now and played else None


def _by_function(amounts: Iterable[tuple[UnitKey, Decimal]]) -> dict[str, Decimal]:
    """Amounts of units added up over the environments, once for all functions."""
    found: dict[str, Decimal] = defaultdict(Decimal)
    for (function, _), amount in amounts:
        found[function] += amount
    return found


def _figures_of(trial: Trial | None) -> Trial | None:
    """A trial without what was measured of each function."""
    return replace(trial, part=()) if trial else None
