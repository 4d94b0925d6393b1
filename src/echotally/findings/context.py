"""What a finding is, the register of all rules, and the context a rule looks at.

A rule is one function: it gets a ``Context`` and yields what it noticed. Its code, level, title and reason
stand at its head, and are all that ``check``, SARIF and the reference need to know about it.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from functools import cached_property
from pathlib import Path
from typing import Any

from echotally.engine.reading import UnitMeasured
from echotally.engine.sampling import expected_events
from echotally.errors import BadInput
from echotally.model.estate import Model, Trigger
from echotally.model.sources import SourceKind, SourceRef
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded, load, placement_on
from echotally.projection.project import project_plan
from echotally.projection.totals import Totals, totals_of
from echotally.rates.card import Plan
from echotally.rates.card_loading import Offer
from echotally.rates.unit_settings import run_ns, unit_settings

Sets = tuple[tuple[str, str], ...]
LEVELS = ("error", "warning", "hint")
#: Above this many events a month changes are played on a small sample of so many events, so that ``check`` stays quick.
_MOST_REPLAYED, _SMALL = 2_000_000, 200_000


@dataclass(frozen=True)
class Rule:
    """A rule: stable code, level, title, and why it matters."""

    code: str
    level: str
    title: str
    why: str
    look: Callable[[Context], Iterator[Noticed]]


@dataclass(frozen=True)
class Outcome:
    """What a change does to the month it was played in: cost after less before, and (before, after) of each figure.

    ``sampled``: the month is large, and a small sample of it was played, with and without the change. ``opens``: the plan
    cannot be used as it is, and can with the change; there is nothing to compare.
    """

    cost: Decimal
    figures: dict[str, tuple[float, float]]
    sampled: bool = False
    opens: bool = False


@dataclass(frozen=True)
class Noticed:
    """What a rule noticed at an address: the numbers of this model in words, and one change to try.

    ``effect`` says what it costs or loses; ``saves`` is what the change saves a month, where it was replayed. ``promises`` are
    figures of which the change must better one (``cost`` or a name of ``Outcome.figures``), or it is not given; ``accepts`` are
    figures that it may worsen, as its text says; ``dearer``: it is meant to cost more, and says so. ``outcome`` is what it did when it was played; None where it was not.
    """

    address: str
    text: str
    effect: str
    sets: Sets
    saves: Decimal | None = None
    promises: tuple[str, ...] = ()
    accepts: tuple[str, ...] = ()
    dearer: bool = False
    outcome: Outcome | None = None


@dataclass(frozen=True)
class Finding:
    """A noticed thing with its rule, its place in the file, and the reason if the model accepts it."""

    rule: Rule
    noticed: Noticed
    file: str
    line: int | None
    accepted: str | None = None


RULES: dict[str, Rule] = {}


def rule(
    code: str, level: str, title: str, why: str
) -> Callable[[Callable[[Context], Iterator[Noticed]]], Callable[[Context], Iterator[Noticed]]]:
    """Register a rule under its code."""

    def register(look: Callable[[Context], Iterator[Noticed]]) -> Callable[[Context], Iterator[Noticed]]:
        assert code not in RULES and level in LEVELS
        RULES[code] = Rule(code, level, title, why, look)
        return look

    return register


#: Due whatever the runs are.
_NOT_BY_RUNS = frozenset({"stream_partition_hours", "storage_gb_months", "flat_months"})


@dataclass
class Context:
    """The model, the plan it is looked at on, the month played on it (None where it does not fit)."""

    path: Path
    sets: Sets
    loaded: Loaded
    offer: Offer
    base: PlayedPlan | None
    tried: dict[Sets, PlayedPlan | None] = field(default_factory=dict)
    _loadable: dict[Sets, bool] = field(default_factory=dict)

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
        places = 2 if size == 0 or size >= 1 else max(2, 3 - math.floor(math.log10(size)))
        return f"{amount:,.{places}f} {self.currency}"

    def units(self, name: str) -> list[UnitMeasured]:
        """What was measured of a function, an item an environment."""
        return self.base.units_of(name) if self.base else []

    def totals(self, name: str) -> Totals:
        """What a function came to in all environments together."""
        return totals_of(self.units(name))

    def cost(self, name: str) -> Decimal:
        """What a function costs in all environments."""
        bill = self.base.bill if self.base else None
        return sum((cost for key, cost in bill.functions.items() if key[0] == name), Decimal(0)) if bill else Decimal(0)

    def at_stake(self, name: str) -> Decimal | None:
        """The most that other runs of a function could save: what they pay, and what stands idle; None where not played.

        Saves plays: what is worth less than a finding needs not be tried.
        """
        bill = self.base.bill if self.base else None
        if bill is None:
            return None
        runs = sum((line.amount for line in bill.lines if line.meter not in _NOT_BY_RUNS), Decimal(0))
        others = (parts for key, parts in bill.shares.items() if key[0] != name)
        return runs - sum(
            (a for parts in others for meter, a in parts.items() if meter not in _NOT_BY_RUNS), Decimal(0)
        )

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
            room = (plan.instance_memory or 0) * (1 - plan.already_used) // function.memory
            return (plan.instances or 1) * min(room, plan.slots_limit or math.inf)
        limit = unit_settings(function, plan).limit
        own = math.inf if limit is None else limit * function.slots
        return min(own, plan.concurrency_limit or math.inf)

    def per_hour(self, name: str) -> tuple[float, float]:
        """Events that arrive at a function in an hour of its busiest environment: mean, and busiest hour."""
        measured = self.base.measured if self.base else None
        if measured is None:
            return 0.0, 0.0
        rows = [measured.series[n, :, 0] for n, u in enumerate(measured.units) if u.unit.function == name]
        busiest = max(rows, key=lambda row: float(row.sum()), default=None)
        return (0.0, 0.0) if busiest is None else (float(busiest.mean()), float(busiest.max()))

    def trial(self, sets: Sets) -> PlayedPlan | None:
        """The month with a change, on the same plan, or a small sample of it; None where it cannot be played."""
        if sets not in self.tried:
            self.tried[sets] = self._play(sets)
        return self.tried[sets]

    @cached_property
    def too_large(self) -> bool:
        """Whether the month holds so many events that changes are played on a sample of it."""
        return expected_events(self.model, self.loaded.month, self.placement) > _MOST_REPLAYED

    def applies(self, sets: Sets) -> bool:
        """Whether the model with a change can be loaded."""
        if sets not in self._loadable:
            self._changed(sets)
        return self._loadable[sets]

    def _changed(self, sets: Sets) -> Loaded | None:
        try:
            loaded = load(self.path, [*self.sets, *sets], like=self.loaded)
        except BadInput:
            loaded = None
        self._loadable[sets] = loaded is not None
        return loaded

    @cached_property
    def compared(self) -> PlayedPlan | None:
        """What changes are laid beside: the month, or of a large one a small sample; None where neither can be played."""
        if self.base is None or not self.too_large:
            return self.base
        return self._project(self.loaded)

    def _project(self, loaded: Loaded) -> PlayedPlan | None:
        offer, seed = loaded.offers[self.offer.name], self.model.estate.seed
        start, effort = (0, _SMALL) if self.too_large else (None, None)
        try:
            played = project_plan(loaded, offer, seed, sampled_from=start, effort=effort)
        except BadInput:
            return None
        return played if isinstance(played, PlayedPlan) else None

    def _play(self, sets: Sets) -> PlayedPlan | None:
        if self.base is not None and self.compared is None:
            return None
        changed = self._changed(sets)
        return self._project(changed) if changed else None

    def saving(self, sets: Sets) -> Decimal | None:
        """What a change saves a month, by playing it."""
        played = self.trial(sets)
        now = self.compared
        return now.bill.unrounded - played.bill.unrounded if now and played else None


def rewired(ctx: Context, source: SourceRef, kind: SourceKind) -> Sets:
    """Overrides that put a topic or queue of the same name in the place of a source that only demand feeds.

    Nothing where something else feeds it too, or where the model with the change could not be loaded.
    """
    model = ctx.model
    new = SourceRef.of(kind, source.name)
    fed = [d for d, demand in model.demand.items() if demand.into == source]
    inside = [e.into for f in model.functions.values() for e in f.emits]
    inside += [feed.into for topic in model.topics.values() for feed in topic.feeds]
    if not fed or source in inside or new in model.sources():
        return ()
    sets: list[tuple[str, str]] = [(f"{new}.feeds", "[]") if kind is SourceKind.TOPICS else (f"{new}.retention", "1 d")]
    sets += [(f"demand.{d}.into", new) for d in fed]
    for number, trigger in enumerate(model.triggers):
        if trigger.from_ == source:
            sets.append((f"triggers.{number}.from", new))
            dropped = trigger.model_fields_set - {"from_", "to", "batch", "batch_wait"} if kind is SourceKind.QUEUES else (
                trigger.model_fields_set - {"from_", "to"}
            )  # fmt: skip
            sets += [(f"triggers.{number}.{key}", "") for key in sorted(dropped)]
    sets.append((source, ""))
    return _that_load(ctx, sets)


def pushed_by_its_topic(ctx: Context, queue: str) -> Sets:
    """Overrides that let the one topic that feeds a queue call its functions itself; nothing where that cannot be."""
    model = ctx.model
    feeding = [(t, feed) for t, topic in model.topics.items() for feed in topic.feeds if feed.into == queue]
    if len(feeding) != 1 or len(model.topics[feeding[0][0]].feeds) != 1:
        return ()
    topic, feed = feeding[0]
    sets = [(f"topics.{topic}.feeds", "[]")]
    for number, trigger in enumerate(model.triggers):
        if trigger.from_ == queue:
            sets += [(f"triggers.{number}.from", f"topics.{topic}"), (f"triggers.{number}.share", repr(feed.share))]
            sets += [(f"triggers.{number}.{key}", "") for key in sorted(trigger.model_fields_set - {"from_", "to"})]
    return _that_load(ctx, [*sets, (queue, "")])


def _that_load(ctx: Context, sets: Sequence[tuple[str, str]]) -> Sets:
    """The overrides, or nothing where the model with them could not be loaded."""
    return tuple(sets) if ctx.applies(tuple(sets)) else ()


def nice_duration(ns: float) -> str:
    """The next round duration at or above ``ns``, as the file writes it."""
    steps = [(unit, n) for unit in ("ms", "s", "min", "h", "d") for n in (1, 2, 5, 10, 15, 20, 30, 45, 100, 200, 500)]
    worth: dict[str, Any] = {"ms": 10**6, "s": 10**9, "min": 60 * 10**9, "h": 3_600 * 10**9, "d": 86_400 * 10**9}
    steps += [("d", n) for n in (1_000, 2_000, 5_000, 10_000, 20_000)]
    # Nothing longer than a hundred years can be written.
    longest = ("d", 36_525)
    unit, n = min((s for s in steps if s[1] * worth[s[0]] >= ns), key=lambda s: s[1] * worth[s[0]], default=longest)
    return f"{n} {unit}"


def percent(share: float) -> str:
    """A share in words: two digits that count, never in powers of ten."""
    value = share * 100
    if value == 0 or value >= 99.95:
        return f"{value:.0f} %"
    places = max(0, 1 - math.floor(math.log10(value)))
    return f"{value:.{places}f} %"
