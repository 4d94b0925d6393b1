"""Which environments are copies of one another, and which hold functions of their own.

A copy runs the same functions, in the same time and memory, and gets a share of their events that is the same for all.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Collection, Mapping
from typing import Any

import numpy as np
from msgspec import Struct, field

from echotally.evidence.fit.estimates import Estimate
from echotally.evidence.survey.lines import Wiring
from echotally.evidence.survey.tables import Sums, Tables, Unit, model_name
from echotally.model.sources import SourceKind, SourceRef

#: How far the mean run of a copy may be off, beyond chance.
_RUNS = 0.2
#: And its share of a function's events, in relation to that of all.
_SHARES = 0.35
_Z = 1.959963984540054


class World(Struct, frozen=True):
    """An environment that is a copy: its factor of demand, from so many events, and whether schedules fire there."""

    factor: Estimate
    n: int
    schedules: bool


class Worlds(Struct):
    """Functions of the model with the units they stand for, environments (None: the first), and what belongs to topics.

    ``limits`` are the numbers of calls in flight that units were seen to be throttled at, ``concurrency`` that of all together.
    """

    functions: dict[str, list[Unit]]
    environments: dict[str, World | None]
    main: str
    tags: dict[str, dict[str, str]]
    bill_span: tuple[float, float]
    concurrency: int | None = None
    limits: dict[Unit, int] = field(default_factory=dict)
    feeds: dict[str, list[tuple[SourceRef, tuple[float, int] | None]]] = field(
        default_factory=lambda: defaultdict(list)
    )
    topic_demand: dict[str, list[Any]] = field(default_factory=lambda: defaultdict(list))
    notes: list[str] = field(default_factory=list)

    @property
    def bill_seconds(self) -> float:
        """How long the billed month is."""
        return self.bill_span[1] - self.bill_span[0]

    def apart(self, unit: Unit) -> bool:
        """Whether a unit is a function of its own because its environment is no copy."""
        return unit[1] != self.main

    def all_units(self, function: str) -> list[Unit]:
        """The units of a function of the log."""
        return [unit for units in self.functions.values() for unit in units if unit[0] == function]

    def relative(self, topic: str, source: SourceRef) -> float:
        """A taker's events beside those of the busiest of its topic."""
        takers = self.topic_demand.get(topic, [])
        totals = {str(s): rate.total for found, _, _ in takers for s, rate in found.rates.items()}
        most = max(totals.values(), default=0.0)
        return totals.get(str(source), most) / most if most else 1.0


def worlds_of(
    tables: Tables,
    wiring: Wiring,
    tags: dict[str, dict[str, str]],
    bill_span: tuple[float, float],
) -> Worlds:
    """The environments of a log and the functions of the model."""
    totals: dict[str, int] = defaultdict(int)
    everything = tables.scaled_sums
    timed = _timed(wiring)
    for (_, environment), sums in everything.items():
        totals[environment] += sums.started
    # The busiest is what the others are copies of; ties by name.
    main = max(sorted(totals), key=lambda name: totals[name])
    names = sorted({function for function, _ in tables.sums})
    functions: dict[str, list[Unit]] = {}
    for name in names:
        if (name, main) in tables.sums and tables.sums[name, main].started:
            functions[_free(model_name(name), functions)] = [(name, main)]
    found = Worlds(functions, {main: None}, main, tags, bill_span)
    for environment in sorted(set(totals) - {main}, key=lambda name: -totals[name]):
        own = {f: s for (f, e), s in everything.items() if e == environment and s.started}
        world = _copy(tables, timed, (main, environment), own, found.notes)
        if world is not None:
            found.environments[environment] = world
            for units in functions.values():
                if units[0][0] in own and units[0][1] == main:
                    units.append((units[0][0], environment))
            continue
        for function in own:
            alone = all(units[0][0] != function for units in functions.values())
            name = model_name(function) if alone else model_name(f"{function}-{environment}")
            functions[_free(name, functions)] = [(function, environment)]
    return found


def _free(name: str, taken: Collection[str]) -> str:
    number = 2
    free = name
    while free in taken:
        free, number = f"{name}-{number}", number + 1
    return free


def _timed(wiring: Wiring) -> set[str]:
    """Functions whose events come from schedules, or from what those put out: they do not follow a factor of demand."""
    arrivals = wiring.arrivals
    timed = {f for f, ways in arrivals.items() if ways and all(a.source.kind is SourceKind.SCHEDULES for a in ways)}
    while True:
        targets = {str(o.target) for o in (*wiring.emits, *wiring.asks) if o.function in timed}
        more = {
            f
            for f, ways in arrivals.items()
            for a in ways
            if str(a.source) in targets or (a.topic and f"topics.{a.topic}" in targets)
        }
        if more <= timed:
            return timed
        timed |= more


def _copy(
    tables: Tables, timed: set[str], pair: tuple[str, str], own: Mapping[str, Sums], notes: list[str]
) -> World | None:
    """The second environment of a pair as a copy of the first, or None, with the reason among ``notes``."""
    main, environment = pair
    firsts = {f: s for (f, e), s in tables.scaled_sums.items() if e == main and s.started}
    # Schedules fire as often in a copy, so that they say nothing of its share.
    fed = [f for f in firsts if f not in timed]
    theirs = sum(own[f].events for f in fed if f in own)
    ours = sum(firsts[f].events for f in fed)
    fires = any(f in own for f in timed)
    if not ours or not fed:
        factor = 1.0 if not ours else theirs / ours
    else:
        factor = theirs / ours
    why = _why_not(tables, pair, own, firsts, fed, factor)
    if why:
        notes.append(f"environment {environment} is no copy of {main}: {why}; its functions stand for themselves")
        return None
    half = _Z * math.sqrt(max(theirs, 1.0)) / max(ours, 1.0)
    return World(Estimate(factor, max(0.0, factor - half), factor + half), round(theirs), fires or not timed)


def _why_not(
    tables: Tables,
    pair: tuple[str, str],
    own: Mapping[str, Sums],
    firsts: Mapping[str, Sums],
    fed: list[str],
    factor: float,
) -> str:
    """What makes the second environment of a pair no copy of the first; empty where nothing does."""
    main, environment = pair
    strange = sorted(set(own) - set(firsts))
    if strange:
        return f"{strange[0]} runs only there"
    slower, timed = [], 0
    for function, first in firsts.items():
        there = own.get(function)
        expected = first.events * factor
        if there is None:
            if function in fed and expected > 20:
                return f"{function} does not run there"
            continue
        if function in fed and min(there.events, expected) > 20:
            # A third more or less is another day; beyond that and four deviations it is another world.
            apart = abs(there.events / expected - 1)
            if apart > _SHARES + 4 / math.sqrt(min(there.events, expected)):
                return f"{function} has {there.events:,.0f} events there, where {expected:,.0f} would be its share"
        if there.memory and first.memory and there.memory != first.memory:
            return f"{function} has {there.memory:,.0f} MB there and {first.memory:,.0f} MB here"
        timed += there.attempts["ok"] >= 30
        if there.attempts["ok"] >= 30 and _slower(tables, function, main, environment):
            slower.append(function)
    # One that waits for others, or is rarely called, may take longer there; half of them is another world.
    if len(slower) > timed / 3 and (len(slower) > 1 or timed < 3):
        name = slower[0]
        return f"{name} runs {short_ms(own[name].mean_run)} there and {short_ms(firsts[name].mean_run)} here, and so do others"
    return ""


def _slower(tables: Tables, function: str, main: str, environment: str) -> bool:
    """Whether a function's quicker warm runs take another time in an environment than in the first."""
    found = []
    for place in (main, environment):
        sample = tables.samples[function, place]
        good = sample.good & (sample.run > 0)
        # Small batches only: a copy gets fewer events, and so shorter runs.
        few = sample.events[good] <= np.quantile(sample.events[good], 0.5)
        found.append(sample.run[good][few])
    quick = [float(np.quantile(runs, 0.25)) for runs in found]
    scatter = [float(np.std(np.log(runs))) / math.sqrt(len(runs)) for runs in found]
    return abs(math.log(quick[1] / quick[0])) > math.log(1 + _RUNS) + 5 * math.hypot(*scatter)


def short_ms(value: float) -> str:
    """A time in ms, as said."""
    return f"{value:,.0f} ms"
