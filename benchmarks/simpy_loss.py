"""The loss scenario of ``speed.py`` in SimPy, three ways: as people write it, as lean processes, with callbacks only.

All keep the statistics that ours keeps: time at each level of calls and instances, peaks and counts by the hour, a histogram
of waits with 128 bins an octave, billed milliseconds.
"""

from __future__ import annotations

import math
import random
from collections import defaultdict
from collections.abc import Callable, Generator
from dataclasses import dataclass
from typing import Any

import simpy

KEEP_S, COLD_S, TIMEOUT_S, LIMIT = 300.0, 0.3, 30.0, 100


@dataclass(frozen=True)
class Seen:
    """What a run came to: shares, mean calls in flight, waits in all, s."""

    refused: float
    level: float
    waited_s: float


class Level:
    """A level over time: how long each value lasted, and its peak in each hour."""

    def __init__(self, env: simpy.Environment) -> None:
        self.env, self.value, self.since = env, 0, 0.0
        self.lasted: dict[int, float] = defaultdict(float)
        self.peaks: dict[int, int] = defaultdict(int)

    def change(self, by: int) -> None:
        now = self.env.now
        self.lasted[self.value] += now - self.since
        self.since = now
        self.value += by
        hour = int(now // 3600)
        self.peaks[hour] = max(self.peaks[hour], self.value)


class Statistics:
    """What all three keep."""

    def __init__(self, env: simpy.Environment) -> None:
        self.env = env
        self.calls, self.instances = Level(env), Level(env)
        self.waits: dict[int, int] = defaultdict(int)
        self.arrived: dict[int, int] = defaultdict(int)
        self.throttled: dict[int, int] = defaultdict(int)
        self.refused = self.done = self.billed_ms = 0
        self.wait_s = 0.0

    def started(self, wait_s: float, run_s: float) -> None:
        wait_ns = wait_s * 1e9
        self.waits[int(math.log2(wait_ns) * 128) if wait_ns else 0] += 1
        self.wait_s += wait_s
        self.billed_ms += math.ceil(run_s * 1e3)
        self.done += 1

    def turned_away(self) -> None:
        self.refused += 1
        self.throttled[int(self.env.now // 3600)] += 1

    def seen(self, n: int) -> Seen:
        held = self.calls.lasted
        level = sum(k * s for k, s in held.items()) / sum(held.values())
        return Seen(self.refused / n, level, self.wait_s)


def as_people_write_it(env: simpy.Environment, kept: Statistics, draw: random.Random, n: int, rate: float) -> None:
    """A process a call, and a process an idle instance's keep-alive, which the next call interrupts."""
    idle: list[simpy.Process] = []

    def rests() -> Generator[Any, Any, None]:
        me = env.active_process
        try:
            yield env.timeout(KEEP_S)
            idle.remove(me)  # type: ignore[arg-type]
            kept.instances.change(-1)
        except simpy.Interrupt:
            pass

    def call(cold: bool) -> Generator[Any, Any, None]:
        asked = env.now
        kept.calls.change(1)
        if cold:
            yield env.timeout(COLD_S)
        run = min(draw.expovariate(1.0), TIMEOUT_S)
        kept.started(env.now - asked, run)
        yield env.timeout(run)
        kept.calls.change(-1)
        idle.append(env.process(rests()))

    def arrivals() -> Generator[Any, Any, None]:
        for _ in range(n):
            yield env.timeout(draw.expovariate(rate))
            kept.arrived[int(env.now // 3600)] += 1
            if idle:
                idle.pop().interrupt()
                env.process(call(False))
            elif kept.instances.value < LIMIT:
                kept.instances.change(1)
                env.process(call(True))
            else:
                kept.turned_away()

    env.process(arrivals())


class _Idle:
    """Idle instances by when they were released; those idle too long are dropped when they are next looked at."""

    def __init__(self, kept: Statistics) -> None:
        self.kept, self.released = kept, list[float]()

    def dropped(self, now: float) -> None:
        gone = 0
        while gone < len(self.released) and self.released[gone] + KEEP_S <= now:
            gone += 1
            self.kept.instances.change(-1)
        if gone:
            del self.released[:gone]

    def room(self, now: float) -> bool | None:
        """Whether a call starts cold; None where it finds no room."""
        self.dropped(now)
        if self.released:
            self.released.pop()
            return False
        if self.kept.instances.value < LIMIT:
            self.kept.instances.change(1)
            return True
        return None


def lean_processes(env: simpy.Environment, kept: Statistics, draw: random.Random, n: int, rate: float) -> None:
    """A process a call with one wait; idle instances are a list of times."""
    idle = _Idle(kept)

    def call(cold: bool) -> Generator[Any, Any, None]:
        kept.calls.change(1)
        run, wait = min(draw.expovariate(1.0), TIMEOUT_S), COLD_S if cold else 0.0
        kept.started(wait, run)
        yield env.timeout(wait + run)
        kept.calls.change(-1)
        idle.released.append(env.now)

    def arrivals() -> Generator[Any, Any, None]:
        for _ in range(n):
            yield env.timeout(draw.expovariate(rate))
            kept.arrived[int(env.now // 3600)] += 1
            cold = idle.room(env.now)
            if cold is None:
                kept.turned_away()
            else:
                env.process(call(cold))

    env.process(arrivals())


def callbacks(env: simpy.Environment, kept: Statistics, draw: random.Random, n: int, rate: float) -> None:
    """No process at all: events with a callback each."""
    idle, left = _Idle(kept), [n]

    def ends(_: Any) -> None:
        kept.calls.change(-1)
        idle.released.append(env.now)

    def arrives(_: Any) -> None:
        now = env.now
        kept.arrived[int(now // 3600)] += 1
        left[0] -= 1
        if left[0]:
            simpy.Timeout(env, draw.expovariate(rate)).callbacks.append(arrives)
        cold = idle.room(now)
        if cold is None:
            kept.turned_away()
            return
        kept.calls.change(1)
        run, wait = min(draw.expovariate(1.0), TIMEOUT_S), COLD_S if cold else 0.0
        kept.started(wait, run)
        simpy.Timeout(env, wait + run).callbacks.append(ends)

    simpy.Timeout(env, draw.expovariate(rate)).callbacks.append(arrives)


Scenario = Callable[[simpy.Environment, Statistics, random.Random, int, float], None]
WAYS: dict[str, Scenario] = {
    "SimPy, as people write it": as_people_write_it,
    "SimPy, lean processes": lean_processes,
    "SimPy, callbacks only": callbacks,
}


def run(way: Scenario, n: int, rate: float, seed: int) -> Seen:
    """Play ``n`` arrivals one way."""
    env = simpy.Environment()
    kept = Statistics(env)
    way(env, kept, random.Random(seed), n, rate)
    env.run()
    return kept.seen(n)
