"""The month's plan: every tap of every environment, built from schedules, rates, lumps and traces.

Why it exists: the engine wants only taps, ``firings`` and ``demand`` want the same taps described, and a
schedule or trace that cannot be used must be reported with its address, all of them together.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from heapq import heappop, heappush
from pathlib import Path
from typing import NamedTuple, TypeVar

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from echotally.demand.clock import MonthClock, month_clock
from echotally.demand.cron import BadSchedule
from echotally.demand.happenings import QUIET, Happenings, cron_times, happenings_of
from echotally.demand.rate_shapes import rate_stretches
from echotally.demand.schedules import month_firings_ns
from echotally.demand.stretches import NONE, Stretch, Stretches
from echotally.demand.traces import BadTrace, read_trace
from echotally.errors import BadInput, Problem
from echotally.model.estate import Demand, Environment, Lump, Model, Schedule
from echotally.model.reading import Document
from echotally.model.sources import SourceKind, SourceRef
from echotally.model.spread import Spread, constant

Result = TypeVar("Result")


class Tap(Struct, frozen=True):
    """A stream of arrivals at one source of one environment.

    ``kind`` is "rate", "counted" or "clients"; ``label`` names its random stream; ``demand`` is the one it belongs to, None
    for a schedule's; ``lump``: its events come in lumps.
    """

    label: str
    environment: str
    source: SourceRef
    kind: str
    spread: str
    stretches: Stretches = NONE
    burst: float = 1.0
    payload: Spread = field(default_factory=lambda: constant(1_000))
    clients: int = 0
    think: Spread = field(default_factory=lambda: constant(0))
    client_tries: int = 1
    client_pause_ns: int = 0
    refused_pause_ns: int = 1_000_000
    demand: str | None = None
    lump: bool = False

    @property
    def expected(self) -> float:
        """Events expected in the month (clients: unknown beforehand, 0)."""
        return self.stretches.expected


class Arrivals(Struct, frozen=True):
    """What a simulation is given of a month: its taps, how long to play, ns, and what the clock brings."""

    taps: tuple[Tap, ...]
    length_ns: int
    happenings: Happenings = QUIET

    @property
    def expected(self) -> float:
        """Events expected from outside."""
        return math.fsum(tap.expected for tap in self.taps)


class MonthPlan(Struct, frozen=True):
    """The month, its taps, its schedules' firings, and notes on what was read.

    ``storms`` are the stretches of time with a surge or a lump, ns from the start.
    """

    clock: MonthClock
    taps: tuple[Tap, ...]
    firings: dict[str, Stretches]
    notes: tuple[str, ...]
    storms: tuple[tuple[int, int], ...] = ()
    happenings: Happenings = QUIET

    @property
    def length_ns(self) -> int:
        """Elapsed nanoseconds of the month."""
        return self.clock.length_ns

    @property
    def arrivals(self) -> Arrivals:
        """All of its taps over all of it."""
        return Arrivals(self.taps, self.length_ns, self.happenings)

    def firings_ns(self, name: str) -> NDArray[np.int64]:
        """When a schedule fires, ns from the month's start, rising."""
        return self.firings[name].start_ns

    def idle(self) -> Arrivals:
        """The month with nothing coming from outside."""
        return Arrivals((), self.length_ns, self.happenings)


class Known(NamedTuple):
    """A model whose month has been planned: another that shares schedules with it need not look for their firings again."""

    model: Model
    month: MonthPlan

    def firings(self, name: str, model: Model) -> Stretches | None:
        """The firings of a schedule of another model; None where it, its month or its zone is another one."""
        found = self.month.firings.get(name)
        here, there = self.model.estate, model.estate
        same = here.month == there.month and here.timezone == there.timezone
        return found if same and self.model.schedules.get(name) == model.schedules[name] else None


def plan_month(
    model: Model, document: Document, factors: Mapping[str, float] | None = None, known: Known | None = None
) -> MonthPlan:
    """Build the month; raises ``BadInput`` with every schedule, lump and trace that cannot be used.

    ``factors`` multiply demands by name, as an environment's ``demand`` multiplies all of them.
    """
    return _Planner(model, document, factors or {}, known).plan()


class _Planner:
    def __init__(self, model: Model, document: Document, factors: Mapping[str, float], known: Known | None) -> None:
        self.model, self.document, self.factors, self.known = model, document, factors, known
        self.clock = month_clock(model.estate.month, model.estate.timezone)
        self.folder = Path(document.path).parent
        self.problems: list[Problem] = []
        self.notes: list[str] = []

    def plan(self) -> MonthPlan:
        firings = {name: self._firings(name, schedule) for name, schedule in self.model.schedules.items()}
        taps: list[Tap] = []
        for name, environment in self.model.environments.items():
            if environment.schedules:
                taps += [self._firing_tap(name, source, its) for source, its in firings.items()]
            for label, demand in self.model.demand.items():
                taps += self._demand_taps(name, environment, label, demand)
        # Problems are gathered, not raised one by one: whoever mends a file wants all of them.
        happenings = happenings_of(
            self.model, self.clock, lambda address, value, make: self._try(address, value, make, [])
        )
        if self.problems:
            raise BadInput(list(dict.fromkeys(self.problems)))
        notes = tuple(dict.fromkeys(self.notes))
        return MonthPlan(self.clock, tuple(taps), firings, notes, self._storms(taps), happenings)

    def _firings(self, name: str, schedule: Schedule) -> Stretches:
        found = self.known.firings(name, self.model) if self.known else None
        if found is not None:
            return found
        return self._try(
            ("schedules", name, "rrule" if schedule.rrule else "cron"),
            schedule.rrule or schedule.cron,
            lambda: Stretches.at(month_firings_ns(schedule, self.clock, self.model.estate.timezone)),
            NONE,
        )

    def _storms(self, taps: list[Tap]) -> tuple[tuple[int, int], ...]:
        surges = [
            (self.clock.local_ns(surge.at), self.clock.local_ns(surge.at) + surge.lasts)
            for demand in self.model.demand.values()
            for surge in demand.surges
        ]
        lumps = [(s.start_ns, s.end_ns) for tap in taps if tap.lump for s in tap.stretches]
        return tuple(sorted({*surges, *lumps}))

    def _try(self, address: tuple[str, ...], value: object, make: Callable[[], Result], otherwise: Result) -> Result:
        try:
            return make()
        except (BadSchedule, BadTrace) as error:
            self.problems.append(self.document.problem(address, error.message, value, error.allowed))
            return otherwise

    def _firing_tap(self, environment: str, source: str, firings: Stretches) -> Tap:
        return Tap(
            f"schedule:{source}:{environment}",
            environment,
            SourceRef.of(SourceKind.SCHEDULES, source),
            "counted",
            "even",
            firings,
            payload=self.model.schedules[source].payload,
        )

    def _demand_taps(self, name: str, environment: Environment, label: str, demand: Demand) -> list[Tap]:
        def tap(part: str, kind: str, spread: str, stretches: Stretches) -> Tap:
            return Tap(
                f"demand:{label}:{name}:{part}",
                name,
                demand.into,
                kind,
                spread,
                stretches,
                demand.burst or 1.0,
                demand.payload,
                _clients(demand, factor),
                demand.think,
                demand.client_tries,
                demand.client_pause,
                _refused_pause(demand),
                label,
                part.startswith("lump"),
            )

        # Environment and study multiply; whole counts are rounded once, from the product.
        factor = environment.demand * self.factors.get(label, 1.0)
        taps: list[Tap] = []
        if demand.clients is not None:
            taps.append(tap("clients", "clients", "even", NONE))
        elif demand.trace is not None:
            taps.append(tap("trace", "counted", demand.spread, self._trace(label, demand, factor)))
        elif demand.rate is not None or demand.monthly is not None:
            taps.append(
                tap(
                    "rate",
                    "rate",
                    demand.spread,
                    rate_stretches(demand, self.clock, factor),
                )
            )
        for number, lump in enumerate(demand.lumps):
            for lane, stretches in enumerate(self._lump_lanes(label, number, lump, factor)):
                taps.append(tap(f"lump{number}.{lane}", "counted", "even", stretches))
        return taps

    def _trace(self, label: str, demand: Demand, factor: float) -> Stretches:
        path = self.folder / (demand.trace or "")
        trace = self._try(
            ("demand", label, "trace"),
            demand.trace,
            lambda: read_trace(path, self.clock, factor, demand.repeat),
            None,
        )
        if trace is None:
            return NONE
        self.notes += trace.notes
        return trace.stretches

    def _lump_lanes(self, label: str, number: int, lump: Lump, factor: float) -> list[Stretches]:
        """A lump's occurrences, in as many lanes as it takes so that no two of a lane overlap."""
        address = ("demand", label, "lumps", str(number), "cron")
        starts: list[int] = self._try(address, lump.cron, lambda: self._lump_starts(lump), [])
        # Scaled as demand is, and rounded half up (rules 2.3 and 2.6).
        count = int(lump.count * factor + 0.5)
        lanes: list[list[Stretch]] = []
        # Lanes that are busy by when they end, and free ones by number: the first free one is taken.
        busy: list[tuple[int, int]] = []
        free: list[int] = []
        for start in starts if count else []:
            while busy and busy[0][0] <= start:
                heappush(free, heappop(busy)[1])
            # The lowest free lane: occurrences that never overlap all share the first.
            number_of = heappop(free) if free else len(lanes)
            if number_of == len(lanes):
                lanes.append([])
            lanes[number_of].append(Stretch(start, start + lump.over, count=count))
            heappush(busy, (start + lump.over, number_of))
        return [Stretches.of(lane) for lane in lanes]

    def _lump_starts(self, lump: Lump) -> list[int]:
        if lump.at is not None:
            starts = [self.clock.local_ns(lump.at)]
        else:
            starts = cron_times(lump.cron or "", self.clock)
        return [start for start in starts if 0 <= start < self.clock.length_ns]


def _refused_pause(demand: Demand) -> int:
    """How long a refused client of a closed loop pauses at least, ns: ``client_pause`` where it is written, else 1 ms."""
    return demand.client_pause if "client_pause" in demand.model_fields_set else 1_000_000


def _clients(demand: Demand, factor: float) -> int:
    if demand.clients is None:
        return 0
    return max(1, int(demand.clients * factor + 0.5))
