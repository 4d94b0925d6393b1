"""How fast schedules are counted and arrivals drawn, against NumPy's exponential gaps. Prints; asserts nothing.

Run: .venv/bin/python benchmarks/demand.py
"""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from echotally.demand.clock import month_clock
from echotally.demand.schedules import month_firings_ns
from echotally.engine import codes
from echotally.engine.build import build
from echotally.engine.play import ask
from echotally.model.estate import Schedule
from echotally.projection.loaded import load

MODEL = """
schema = "echotally-model/1"
[estate]
name = "b"
month = "2027-03"
rate_cards = ["card.toml"]
[functions.f]
memory = "512 MB"
run = "1 s"
[queues.q]
[demand.d]
into = "queues.q"
monthly = 10_000_000
day_shape = [3, 2, 1, 1, 1, 3, 10, 26, 34, 30, 28, 30, 36, 34, 30, 30, 34, 44, 52, 48, 36, 24, 14, 7]
week_shape = [1, 1, 1, 1, 1, 2, 2]
[[triggers]]
from = "queues.q"
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


def timed(what: str, action: Callable[[], int]) -> float:
    began = time.perf_counter()
    result = action()
    took = time.perf_counter() - began
    print(f"{what:60} {took:8.3f} s   ({result:,})")
    return took


def draw(folder: Path) -> Callable[[], int]:
    (folder / "m.toml").write_text(MODEL)
    (folder / "card.toml").write_text(CARD)
    loaded = load(folder / "m.toml")
    built = build(loaded.model, loaded.month.arrivals, {"f": loaded.offers["c.p"]}, 1)
    bins = np.zeros(744 * 60, np.int64)
    world = built.world._replace(counts=bins)
    return lambda: ask(world, codes.COUNT, 0, 60 * 10**9)


if __name__ == "__main__":
    clock = month_clock("2027-03", "Europe/Dublin")
    months = [month_clock(f"2027-{n:02}", "Europe/Dublin") for n in range(1, 13)]
    every = Schedule(cron="* * * * *")
    monthly = Schedule(cron="0 0 1 * *")
    timed("a month of an every-minute schedule", lambda: len(month_firings_ns(every, clock, "Europe/Dublin")))
    timed(
        "a year of a monthly schedule", lambda: sum(len(month_firings_ns(monthly, m, "Europe/Dublin")) for m in months)
    )
    with tempfile.TemporaryDirectory() as name:
        draw(Path(name))()
        ours = min(timed("10 million Poisson arrivals with shapes", draw(Path(name))) for _ in range(3))
    generator = np.random.default_rng(1)
    plain = min(
        timed("NumPy, 10 million exponential gaps", lambda: len(generator.standard_exponential(10_000_000)))
        for _ in range(3)
    )
    print(f"speed of NumPy's plain gaps reached: {plain / ours:.2f}")
