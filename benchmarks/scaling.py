"""Whether an attempt costs the same in a small month and in a large one. Prints; asserts nothing.

Run: .venv/bin/python benchmarks/scaling.py
"""

from __future__ import annotations

import resource
import tempfile
import time
from pathlib import Path

from speed import CARD, MODEL

from echotally.engine.play import simulate
from echotally.projection.loaded import load, placement_on

#: Seconds of the month with demand, at 92 calls a second: 1, 10 and 100 million attempts.
SPANS = {"2027-03-01T03:00": 1, "2027-03-02T06:00": 10, "2027-03-13T14:00": 100}


def rate(folder: Path, until: str) -> float:
    (folder / "m.toml").write_text(MODEL.format(rate=92).replace("2027-03-01T06:00", until))
    loaded = load(folder / "m.toml")
    place = placement_on(loaded.model, loaded.offers, loaded.offers["c.p"])
    began = time.perf_counter()
    measured = simulate(loaded.model, loaded.month.arrivals, place, 1)
    took = time.perf_counter() - began
    attempts = measured.units[0].attempts["total"]
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"{attempts:12,} attempts   {took / attempts * 1e9:6.0f} ns each   {peak:,.0f} MB")
    return took / attempts


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "card.toml").write_text(CARD)
        rate(folder, "2027-03-01T00:10")
        # In turns, and the best and the middle of three: a shared machine is not equally quick all the time.
        rounds = [[rate(folder, until) for until in SPANS] for _ in range(3)]
        for millions, costs in zip(SPANS.values(), map(sorted, zip(*rounds, strict=True)), strict=True):
            print(f"{millions:4} million: best {costs[0] * 1e9:.0f} ns, middle {costs[1] * 1e9:.0f} ns an attempt")
