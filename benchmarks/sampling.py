"""The sampled month: how long and how large a month of 2.7 billion calls is, and how far it is off. Prints; asserts nothing.

The exact run at 100 calls a second takes a few minutes. Run: .venv/bin/python benchmarks/sampling.py
"""

from __future__ import annotations

import resource
import tempfile
import time
from pathlib import Path

from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import load
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan

MODEL = """
schema = "echotally-model/1"
[estate]
name = "benchmark"
month = "2027-03"
rate_cards = ["card.toml"]
[functions.f]
memory = "512 MB"
run = { median = "120 ms", p95 = "400 ms" }
cold_start = "300 ms"
cpu_share = 0
[endpoints.e]
[demand.d]
into = "endpoints.e"
rate = "100 /s"
day_shape = [3, 2, 1, 1, 1, 3, 10, 26, 34, 30, 28, 30, 36, 34, 30, 30, 34, 44, 52, 48, 36, 24, 14, 7]
week_shape = [1, 1, 1, 1, 1, 2, 2]
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
calls = { per = 1_000_000, unit = "0.2" }
gb_seconds = { unit = "0.0000166" }
"""


def played(folder: Path, what: str, sets: list[tuple[str, str]], exact: bool = False) -> PlayedPlan:
    loaded = load(folder / "m.toml", sets)
    began = time.perf_counter()
    plan = project_plan(loaded, loaded.offers["c.p"], 1, how=Playing(exact=exact))
    took = time.perf_counter() - began
    assert isinstance(plan, PlayedPlan)
    attempts = plan.measured.units[0].attempts
    share = attempts["throttled"] / attempts["total"] * 100
    print(
        f"{what:34} {attempts['total']:15,} attempts {plan.bill.unrounded:12,.4f} EUR {share:8.3f} % throttled {took:7.1f} s"
    )
    return plan


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "m.toml").write_text(MODEL)
        (folder / "card.toml").write_text(CARD)
        played(folder, "(compile)", [("demand.d.rate", "1 /min")])
        played(folder, "1,000 calls/s, sampled", [("demand.d.rate", "1000 /s"), ("functions.f.instance_limit", "600")])
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(f"largest memory so far: {peak:,.0f} MB")
        limited = [("functions.f.instance_limit", "40")]
        played(folder, "100 calls/s, limit 40, sampled", limited)
        played(folder, "100 calls/s, sampled", [])
        played(folder, "100 calls/s, exact", [], exact=True)
        played(folder, "100 calls/s, limit 40, exact", limited, exact=True)
