"""How fast an attempt is played, beside three ways to write the scenario in SimPy and a C loop by hand. Prints; asserts nothing.

One function, Poisson calls at 80 a second, exponential runs of 1 s, at most 100 instances, cold starts of 300 ms, the rest
refused. CPU time, in turns, the least of several rounds; all keep the same statistics, which are listed.
Run: .venv/bin/python benchmarks/speed.py [--rounds 5] [--json FILE]
"""

from __future__ import annotations

import argparse
import json
import shutil
import subprocess
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from statistics import mean, stdev
from typing import Any

import simpy_loss

from echotally.engine.apart import simulate_month
from echotally.engine.play import begun, simulate
from echotally.engine.play import play as played_out
from echotally.projection.loaded import load, placement_on

HERE = Path(__file__).parent
RATE, CALLS, SIMPY_CALLS = 80, 1_728_000, 60_000
STATISTICS = (
    "calls, refused, cold starts; time at each number of calls and of instances; peaks and counts by the hour; a histogram of "
    "waits with 128 bins an octave; billed milliseconds"
)
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
#: Calls for six hours only.
SURGES = next(line for line in MODEL.splitlines() if line.startswith("surges"))
CARD = """
schema = "echotally-rates/1"
[card]
name = "c"
currency = "EUR"
[plans.p]
bills = "runs"
memory = { choices = ["512 MB"] }
vcpu_per_gb = 1
keep_alive = "5 min"
[plans.p.price]
calls = { unit = "0.1" }
"""


@dataclass(frozen=True)
class Round:
    """One round of one way: CPU ns an attempt, and what it came to: waits in all, which are those of the first cold starts."""

    ns: float
    refused: float
    level: float
    waited_s: float


def _timed(play: Callable[[], Any]) -> tuple[float, Any]:
    began = time.process_time()
    found = play()
    return time.process_time() - began, found


def our_rounds(folder: Path) -> Callable[[int], Round]:
    """Ours, with another seed each round."""
    (folder / "card.toml").write_text(CARD)
    (folder / "m.toml").write_text(MODEL.format(rate=RATE))
    loaded = load(folder / "m.toml")
    place = placement_on(loaded.model, loaded.offers, loaded.offers["c.p"])
    simulate(loaded.model, loaded.month.idle(), place, 1)

    def play(seed: int) -> Round:
        took, measured = _timed(lambda: simulate(loaded.model, loaded.month.arrivals, place, seed))
        unit = measured.units[0]
        total = unit.attempts["total"]
        # The level is over the month; calls come for its first six hours only.
        level = unit.concurrency.mean * loaded.month.length_ns / (6 * 3_600e9)
        wait = unit.wait_sketch.sum_ns / 1e9
        return Round(took / total * 1e9, unit.attempts["throttled"] / total, level, wait)

    return play


def simpy_rounds(way: simpy_loss.Scenario) -> Callable[[int], Round]:
    """One of SimPy's ways."""

    def play(seed: int) -> Round:
        took, seen = _timed(lambda: simpy_loss.run(way, SIMPY_CALLS, RATE, seed))
        return Round(took / SIMPY_CALLS * 1e9, seen.refused, seen.level, seen.waited_s)

    return play


def c_rounds(folder: Path) -> Callable[[int], Round] | None:
    """The C loop, compiled now; None where there is no compiler."""
    compiler = shutil.which("cc") or shutil.which("gcc") or shutil.which("clang")
    if compiler is None:
        return None
    program = folder / "loss"
    subprocess.run([compiler, "-O2", "-o", str(program), str(HERE / "loss.c"), "-lm"], check=True)

    def play(seed: int) -> Round:
        done = subprocess.run([program, str(RATE), str(CALLS), str(seed)], capture_output=True, text=True, check=True)
        took, calls, refused, _, level, wait, _ = done.stdout.split()
        return Round(float(took) / int(calls) * 1e9, int(refused) / int(calls), float(level), float(wait))

    return play


def in_turns(ways: dict[str, Callable[[int], Round]], rounds: int) -> dict[str, list[Round]]:
    """Every way once a round: a shared machine is not equally quick from one second to the next."""
    found: dict[str, list[Round]] = {name: [] for name in ways}
    for seed in range(1, rounds + 1):
        for name, play in ways.items():
            found[name].append(play(seed))
    return found


def _interval(values: list[float]) -> str:
    half = 2.8 * stdev(values) / len(values) ** 0.5 if len(values) > 1 else 0.0
    return f"{mean(values):.5f} ± {half:.5f}"


def told(found: dict[str, list[Round]]) -> dict[str, float]:
    """Print the comparison; the least CPU time of each way, ns an attempt."""
    least = {name: min(r.ns for r in rounds) for name, rounds in found.items()}
    fastest = least.get("C by hand", least["Echo Tally"])
    print(
        f"{'':28}{'ns':>9}{'to C' if 'C by hand' in least else 'to ours':>9}   refused             calls in flight      waited in all, s"
    )
    for name, rounds in found.items():
        figures = "   ".join(_interval([getattr(r, key) for r in rounds]) for key in ("refused", "level", "waited_s"))
        print(f"{name:28}{least[name]:9,.0f}{least[name] / fastest:9.2f}   {figures}")
    if "C by hand" not in least:
        print("C by hand: not compared, there is no compiler here")
    print(f"All keep: {STATISTICS}.")
    return least


def river_rates(rounds: int) -> tuple[float, float]:
    """CPU ns an attempt of the small river watch, frozen for good, all functions jointly on its per-run plan.

    The least of all that a month takes, its world built and read, and of its playing alone. The first play still finds code and
    memory cold, which is as much as a quarter of so short a month, and does not count.
    """
    loaded = load(HERE / "models" / "river-small.toml")
    place = placement_on(loaded.model, loaded.offers, loaded.offers["heron.per-run"])
    measured = simulate(loaded.model, loaded.month.arrivals, place, 1)
    whole, played = [], []
    for _ in range(rounds):
        whole.append(_timed(lambda: simulate(loaded.model, loaded.month.arrivals, place, 1))[0])
        built = begun(loaded.model, loaded.month.arrivals, place, 1)
        played.append(_timed(lambda built=built: played_out(built))[0])  # type: ignore[misc]
    attempts = sum(u.attempts["total"] for u in measured.units)
    return min(whole) / attempts * 1e9, min(played) / attempts * 1e9


def estate_of(folder: Path, parts: int, rate: float, surges: str = SURGES) -> Path:
    """The model of an estate of independent functions, so many calls a second to each, with its card."""
    head, part = MODEL[: (at := MODEL.index("[functions.f]"))], MODEL[at:]
    for name in ("functions.f", "endpoints.e", "demand.d"):
        part = part.replace(name, name + "{n}")
    part = part.replace('to = "f"', 'to = "f{n}"').replace("{rate} /s", f"{rate} /s").replace(SURGES, surges)
    (folder / "card.toml").write_text(CARD)
    (folder / "m.toml").write_text(head.format() + "".join(part.format(n=n) for n in range(parts)))
    return folder / "m.toml"


def estate_rates(folder: Path, parts: int, rounds: int) -> tuple[float, float]:
    """CPU ns an attempt of an estate of independent functions, played jointly and in parts, in turns; the least of each."""
    loaded = load(estate_of(folder, parts, RATE / parts))
    place = placement_on(loaded.model, loaded.offers, loaded.offers["c.p"])
    taken: dict[str, list[float]] = {"jointly": [], "in parts": []}
    for _ in range(rounds):
        for way, play in (("jointly", simulate), ("in parts", simulate_month)):
            took, measured = _timed(lambda play=play: play(loaded.model, loaded.month.arrivals, place, 1))  # type: ignore[misc]
            taken[way].append(took / sum(u.attempts["total"] for u in measured.units) * 1e9)
    return min(taken["jointly"]), min(taken["in parts"])


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--json", type=Path, help="Also write the figures, as ratios to the C loop (or to ours).")
    chosen = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        ways = {"Echo Tally": our_rounds(folder)}
        by_hand = c_rounds(folder)
        if by_hand:
            ways["C by hand"] = by_hand
        ways |= {name: simpy_rounds(way) for name, way in simpy_loss.WAYS.items()}
        least = told(in_turns(ways, chosen.rounds))
        unit = least.get("C by hand", least["Echo Tally"])
        # A month of it takes a thirtieth of a second: many of them are soon played, and their least is no chance.
        river, played = river_rates(8 * chosen.rounds)
        print(
            f"River watch, jointly: {river:,.0f} ns an attempt, of which {played:,.0f} to play it, {1e3 / played:,.1f} million "
            "attempts a CPU second"
        )
        figures = {name: ns / unit for name, ns in least.items()}
        figures |= {"river watch, jointly": river / unit, "river watch, its playing": played / unit}
        for parts in (10, 100, 1_000):
            jointly, apart = estate_rates(folder, parts, chosen.rounds)
            figures |= {f"{parts:,} functions, jointly": jointly / unit, f"{parts:,} functions, in parts": apart / unit}
            print(f"{parts:5,} functions: {jointly:,.0f} ns an attempt jointly, {apart:,.0f} in parts")
    if chosen.json:
        chosen.json.write_text(
            json.dumps({"to": "C by hand" if by_hand else "Echo Tally", "ratios": figures}, indent=2)
        )


if __name__ == "__main__":
    main()
