"""The compiled loop against the same scenario written in SimPy, as a ratio in one run. Prints; asserts nothing.

One function, Poisson arrivals, exponential runs of 1 s, at most 100 at once, cold starts, the rest refused.
Run: .venv/bin/python benchmarks/speed.py
"""

from __future__ import annotations

import math
import random
import tempfile
import time
from collections import defaultdict
from collections.abc import Generator
from pathlib import Path
from typing import Any

import simpy

from echotally.engine.play import simulate
from echotally.projection.loaded import load, placement_on

MODEL = """
schema = "echotally-model/1"
[estate]
name = "benchmark"
month = "2027-03"
rate_cards = ["card.toml"]
[functions.f]
memory = "512 MB"
run = {{ mean = "1 s", shape = "exponential" }}
cold_start = "300 ms"
cpu_share = 0
instance_limit = 100
[endpoints.e]
[demand.d]
into = "endpoints.e"
rate = "{rate} /s"
surges = [{{ at = "2027-03-01T06:00", lasts = "31 d", times = 0 }}]
[[triggers]]
from = "endpoints.e"
to = "f"
"""
CARD = """
schema = "echotally-rates/1"
[card]
name = "c"
currency = "EUR"
[plans.p]
bills = "runs"
memory = { choices = ["512 MB"] }
vcpu_per_gb = 1
[plans.p.price]
calls = { unit = "0.1" }
"""
RATE = 92


class Level:
    """A level over time: how long each value lasted, and its peak in each hour, as ours keeps it."""

    def __init__(self, env: simpy.Environment) -> None:
        self.env, self.value, self.since = env, 0, 0.0
        self.lasted: dict[int, float] = defaultdict(float)
        self.peaks: dict[int, int] = defaultdict(int)

    def change(self, by: int) -> None:
        self.lasted[self.value] += self.env.now - self.since
        self.since = self.env.now
        self.value += by
        hour = int(self.env.now // 3600)
        self.peaks[hour] = max(self.peaks[hour], self.value)


class Pool:
    """The same scenario with the same answers, in SimPy: a process a call, a process an idle instance's keep-alive.

    Idle instances are reused, most recent first; new ones start cold; at the limit a call is refused.
    """

    def __init__(self, env: simpy.Environment, limit: int, keep_s: float) -> None:
        self.env, self.limit, self.keep_s = env, limit, keep_s
        self.idle: list[simpy.Process] = []
        self.calls, self.instances = Level(env), Level(env)
        self.waits: dict[int, int] = defaultdict(int)
        self.arrived: dict[int, int] = defaultdict(int)
        self.throttled: dict[int, int] = defaultdict(int)
        self.refused = self.done = self.cold = 0
        self.billed_ms = 0
        self.random = random.Random(1)

    def rests(self) -> Generator[Any, Any, None]:
        """An idle instance: it goes after the keep-alive unless a call takes it first."""
        me = self.env.active_process
        try:
            yield self.env.timeout(self.keep_s)
            self.idle.remove(me)  # type: ignore[arg-type]
            self.instances.change(-1)
        except simpy.Interrupt:
            pass

    def call(self, cold: bool) -> Generator[Any, Any, None]:
        asked = self.env.now
        self.calls.change(1)
        if cold:
            yield self.env.timeout(0.3)
        # A sketch of waits, 128 bins an octave, as ours.
        wait_ns = (self.env.now - asked) * 1e9
        self.waits[int(math.log2(wait_ns) * 128) if wait_ns else 0] += 1
        run = self.random.expovariate(1.0)
        yield self.env.timeout(min(run, 30.0))
        self.billed_ms += math.ceil(run * 1e3)
        self.calls.change(-1)
        self.done += 1
        self.idle.append(self.env.process(self.rests()))

    def arrivals(self, n: int) -> Generator[Any, Any, None]:
        for _ in range(n):
            yield self.env.timeout(self.random.expovariate(RATE))
            hour = int(self.env.now // 3600)
            self.arrived[hour] += 1
            if self.idle:
                self.idle.pop().interrupt()
                self.env.process(self.call(False))
            elif self.instances.value < self.limit:
                self.instances.change(1)
                self.cold += 1
                self.env.process(self.call(True))
            else:
                self.refused += 1
                self.throttled[hour] += 1


def simpy_rate(n: int) -> float:
    env = simpy.Environment()
    pool = Pool(env, 100, 300.0)
    env.process(pool.arrivals(n))
    began = time.perf_counter()
    env.run()
    rate = n / (time.perf_counter() - began)
    print(f"SimPy      {rate:12,.0f} attempts/s   refused {pool.refused / n:.4f}")
    return rate


def our_rate(folder: Path) -> float:
    (folder / "card.toml").write_text(CARD)
    (folder / "m.toml").write_text(MODEL.format(rate="0.01"))
    small = load(folder / "m.toml")
    place = placement_on(small.model, small.offers, small.offers["c.p"])
    simulate(small.model, small.month.arrivals, place, 1)
    (folder / "m.toml").write_text(MODEL.format(rate=RATE))
    loaded = load(folder / "m.toml")
    began = time.perf_counter()
    measured = simulate(loaded.model, loaded.month.arrivals, place, 1)
    attempts = measured.units[0].attempts
    rate = attempts["total"] / (time.perf_counter() - began)
    print(f"Echo Tally {rate:12,.0f} attempts/s   refused {attempts['throttled'] / attempts['total']:.4f}")
    return rate


def demo_rate(folder: Path) -> None:
    from echotally.demo import write_example

    write_example("river-watch", folder / "river")
    loaded = load(folder / "river" / "river.toml")
    offer = loaded.offers["heron.per-run"]
    place = placement_on(loaded.model, loaded.offers, offer)
    began = time.perf_counter()
    measured = simulate(loaded.model, loaded.month.arrivals, place, 1)
    took = time.perf_counter() - began
    attempts = sum(u.attempts["total"] for u in measured.units)
    events = sum(s.arrived for s in measured.sources)
    print(f"Demo estate, jointly: {attempts / took:,.0f} attempts/s, {events / took:,.0f} events/s")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as name:
        # In turns, and the best of each: a shared machine is not equally quick from one second to the next.
        rates = [(our_rate(Path(name)), simpy_rate(100_000)) for _ in range(5)]
        ours, theirs = (max(column) for column in zip(*rates, strict=True))
        print(f"Ratio      {ours / theirs:12,.0f}")
        demo_rate(Path(name))
