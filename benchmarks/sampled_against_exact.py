"""Awkward months, sampled and exact, over many seeds: how far off, how often the interval holds, how often a verdict is wrong.

The truth is the exact month of the same seed. Each month has one to three million events and is sampled as if it were
large, so that both can be played often; ``--large`` adds some at full size (minutes each). A wanted figure is laid at
several distances from the usual one: a verdict is wrong where the sample says "met" and the exact month misses it.

Run: .venv/bin/python benchmarks/sampled_against_exact.py --seeds 100 [--month NAME ...] [--large]
"""

from __future__ import annotations

import argparse
import json
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path
from statistics import fmean, median

from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import load
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from echotally.projection.totals import totals_of

HEAD = """
schema = "echotally-model/1"
[estate]
name = "{name}"
month = "2027-03"
timezone = "UTC"
rate_cards = ["card.toml"]
"""
CARD = """
schema = "echotally-rates/1"
[card]
name = "c"
currency = "EUR"
[plans.p]
bills = "{bills}"
memory = {{ choices = ["256 MB"] }}
vcpu_per_gb = 1
{keys}
[plans.p.price]
calls = {{ per = 1_000_000, unit = "0.2" }}
gb_seconds = {{ unit = "0.0000166" }}
allocated_gb_seconds = {{ unit = "0.0000166" }}
"""
EVENING = "day_shape = [" + ", ".join(["0.5"] * 17 + ["3", "3", "3"] + ["0.5"] * 4) + "]"
WORKING = "day_shape = [" + ", ".join(["0.2"] * 8 + ["2.6"] * 8 + ["0.2"] * 8) + "]"


def function(name: str, run: str, more: str = "") -> str:
    """A function that does no CPU work, so that only its limits bind."""
    return f'[functions.{name}]\nmemory = "256 MB"\ncpu_share = 0\nrun = {run}\n{more}\n'


def fed(kind: str, name: str, to: str, demand: str, source: str = "", trigger: str = "") -> str:
    """A source with its demand and its trigger."""
    return (
        f'[{kind}.{name}]\n{source}\n[demand.{name}]\ninto = "{kind}.{name}"\n{demand}\n'
        f'[[triggers]]\nfrom = "{kind}.{name}"\nto = "{to}"\n{trigger}\n'
    )


SLOW = '{ median = "4 s", p95 = "9 s" }'
JOBS = "".join(
    f'[schedules.s{n}]\ncron = "0 * * * *"\n[[triggers]]\nfrom = "schedules.s{n}"\nto = "job"\n' for n in range(6)
)
#: Name: (model, how the plan bills, further keys of the plan).
MONTHS: dict[str, tuple[str, str, str]] = {
    "a stream that falls behind all month": (
        function("f", '"5 s"') + fed("streams", "s", "f", 'rate = "0.5 /s"', 'retention = "24 h"'),
        "runs",
        "",
    ),
    "eight busy hours a day leave a backlog": (
        function("f", '"10 s"', "instance_limit = 12") + fed("queues", "q", "f", f'rate = "0.8 /s"\n{WORKING}'),
        "allocated",
        "",
    ),
    "a surge of two days": (
        function("f", SLOW, "instance_limit = 8")
        + fed(
            "queues",
            "q",
            "f",
            'rate = "0.5 /s"\nsurges = [{ at = "2027-03-14T04:20", lasts = "50 h", times = 6 }]',
            'visibility = "1 min"',
        ),
        "runs",
        "",
    ),
    "a lump every night": (
        function("f", SLOW, "instance_limit = 8")
        + fed(
            "queues",
            "q",
            "f",
            'rate = "0.5 /s"\nlumps = [{ cron = "0 2 * * *", count = 20_000, over = "1 min" }]',
            'visibility = "1 min"',
        ),
        "runs",
        "",
    ),
    "a stream just at its capacity": (
        function("f", '"5 s"') + fed("streams", "s", "f", 'rate = "0.2 /s"', 'retention = "24 h"'),
        "runs",
        "",
    ),
    "one hot partition in the evening": (
        function("f", '{ median = "400 ms", p95 = "900 ms" }', 'per_item = "100 ms"')
        + fed(
            "streams",
            "s",
            "f",
            f'rate = "1.5 /s"\n{EVENING}',
            'partitions = 4\nskew = 0.7\nretention = "6 h"',
            "batch = 2",
        ),
        "runs",
        "",
    ),
    "evening peaks refuse visitors": (
        function("f", '{ median = "2 s", p95 = "5 s" }', "instance_limit = 12")
        + fed("endpoints", "e", "f", f'rate = "1.2 /s"\nclient_tries = 2\n{EVENING}'),
        "runs",
        "",
    ),
    "pictures sent away in the evening": (
        function("f", SLOW, "instance_limit = 4") + fed("folders", "p", "f", f'rate = "0.35 /s"\n{EVENING}'),
        "runs",
        '[plans.p.push]\nfirst_wait = "30 s"\ngive_up = "2 h"',
    ),
    "a topic that falls behind by day": (
        function("f", SLOW, "instance_limit = 3") + fed("topics", "t", "f", f'rate = "0.8 /s"\n{WORKING}'),
        "runs",
        '[plans.p.push]\nfirst_wait = "10 s"\ngive_up = "3 h"',
    ),
    "a topic, a queue and nightly jobs never keep up": (
        function("f", '"6 s"', "instance_limit = 2")
        + function("g", SLOW, "instance_limit = 2")
        + fed("topics", "t", "f", f'rate = "0.5 /s"\n{EVENING}')
        + fed("queues", "q", "g", 'rate = "0.5 /s"')
        + '[schedules.s]\ncron = "30 1 * * *"\nitems = 400\n[[triggers]]\nfrom = "schedules.s"\nto = "f"\n',
        "runs",
        '[plans.p.push]\nfirst_wait = "10 s"\ngive_up = "2 h"',
    ),
    "hourly jobs beside requests": (
        function("f", '"5 s"')
        + function("job", '"50 min"', 'timeout = "60 min"')
        + fed("endpoints", "e", "f", 'rate = "0.5 /s"')
        + JOBS,
        "runs",
        "concurrency_limit = 9",
    ),
    "rare failures, dead letters": (
        function("f", '"200 ms"', "error_rate = 0.04")
        + "[queues.parked]\n"
        + fed("queues", "q", "f", 'rate = "0.6 /s"', 'visibility = "1 min"\ntries = 3\ndead_letter = "queues.parked"'),
        "runs",
        "",
    ),
    "polled growth in the evening": (
        function("f", SLOW, "error_rate = 0.02")
        + "[queues.parked]\n"
        + fed(
            "queues",
            "q",
            "f",
            f'rate = "0.8 /s"\n{EVENING}',
            'visibility = "1 min"\ntries = 3\ndead_letter = "queues.parked"',
            "batch = 5",
        ),
        "active",
        'instance_limit = 12\nscaling = { kind = "polled", every = "30 s", per_instance = 16, step = 4 }',
    ),
    "alerts pile up behind a slow sender": (
        function("f", '{ median = "1 s", p95 = "3 s" }', 'emits = [{ into = "queues.q", each = 1.5 }]')
        + function("g", '{ median = "6 s", p95 = "9 s" }', "instance_limit = 6")
        + '[queues.q]\n[[triggers]]\nfrom = "queues.q"\nto = "g"\n'
        + fed("endpoints", "e", "f", f'rate = "0.4 /s"\n{EVENING}'),
        "runs",
        "",
    ),
}
#: The same at full size: rates times, runs divided, so that the queues are alike and the events many.
LARGE = {
    "200 records/s handled, 500 coming": (
        function("f", '"5 ms"')
        + fed("streams", "s", "f", 'rate = "50 /s"', 'retention = "24 h"').replace("50 /s", "500 /s"),
        "runs",
        "",
    ),
    "twelve instances, eight busy hours": (
        function("f", '"1 s"', "instance_limit = 12") + fed("queues", "q", "f", f'rate = "8 /s"\n{WORKING}'),
        "allocated",
        "",
    ),
    "six jobs beside ten requests a second": (
        function("f", '"500 ms"', 'timeout = "10 s"')
        + function("job", '"50 min"', 'timeout = "60 min"')
        + fed("endpoints", "e", "f", 'rate = "10 /s"')
        + JOBS,
        "runs",
        "concurrency_limit = 12",
    ),
}
WANTED = (0.8, 0.9, 0.94, 0.97, 0.99, 1.0, 1.01, 1.03, 1.06, 1.1, 1.25)


def write(name: str, folder: Path) -> Path:
    """The model and the card of a month, as files."""
    model, bills, keys = {**MONTHS, **LARGE}[name]
    (folder / "card.toml").write_text(CARD.format(bills=bills, keys=keys))
    path = folder / "model.toml"
    path.write_text(HEAD.format(name=name) + model)
    return path


def figures(plan: PlayedPlan) -> dict[str, float]:
    """The figures a target can name."""
    units = plan.measured.units
    asked = sum(u.events["in"] for u in units if u.requests)
    found = {
        "cost": float(plan.bill.unrounded),
        "throttled": totals_of(units).throttled_share,
        "refused": sum(u.events["rejected"] for u in units) / asked if asked else 0.0,
        "lost": float(sum(u.lost_events for u in units)),
        "left behind": totals_of(units).left_behind_share,
    }
    return found | {f"wait p95 {u.unit.function}": u.waits.p95 or 0.0 for u in units}


def intervals(plan: PlayedPlan) -> dict[str, tuple[float, float]]:
    """The interval of each figure of a sampled month."""
    sure = plan.confidence
    assert sure is not None
    found = {
        "cost": sure.cost,
        "throttled": sure.throttled_share,
        "refused": sure.refused,
        "lost": sure.lost,
        "left behind": sure.left_behind,
    }
    return found | {f"wait p95 {f.function}": f.wait_p95 for f in sure.functions if f.wait_p95 is not None}


def one(
    name: str, seed: int
) -> tuple[dict[str, float], dict[str, float], dict[str, tuple[float, float]], float, float]:
    """A month exactly and sampled: exact figures, sampled figures, intervals, and what each took (CPU s)."""
    with tempfile.TemporaryDirectory() as folder:
        loaded = load(write(name, Path(folder)))
    offer = loaded.offers["c.p"]
    began = time.process_time()
    sampled = project_plan(loaded, offer, seed, how=Playing(sampled_from=0))
    middle = time.process_time()
    exact = project_plan(loaded, offer, seed, how=Playing(exact=True))
    assert isinstance(exact, PlayedPlan) and isinstance(sampled, PlayedPlan)
    return figures(exact), figures(sampled), intervals(sampled), middle - began, time.process_time() - middle


def verdicts(exact: list[float], found: list[tuple[float, float]]) -> tuple[float, float, float]:
    """Shares of (seed, wanted) pairs: undecided, wrongly met, and wrongly met where the truth is more than 5 % off."""
    usual = fmean(exact)
    pairs = [(e, low, high, usual * k) for e, (low, high) in zip(exact, found, strict=True) for k in WANTED]
    undecided = sum(low <= wanted <= high for _, low, high, wanted in pairs)
    wrong = [(e, wanted) for e, low, high, wanted in pairs if high < wanted < e]
    far = sum(e > 1.05 * wanted for e, wanted in wrong)
    return undecided / len(pairs), len(wrong) / len(pairs), far / len(pairs)


def rows(
    name: str, results: list[tuple[dict[str, float], dict[str, float], dict[str, tuple[float, float]], float, float]]
) -> Iterator[dict[str, object]]:
    """A row for each figure of a month that is ever more than nothing."""
    for figure in results[0][0]:
        exact = [r[0][figure] for r in results]
        sampled = [r[1][figure] for r in results]
        between = [r[2].get(figure, (0.0, 0.0)) for r in results]
        held = sum(low <= e <= high for e, (low, high) in zip(exact, between, strict=True))
        if not any(exact) and not any(sampled):
            continue
        off = [abs(s / e - 1) for s, e in zip(sampled, exact, strict=True) if e]
        undecided, wrong, far = verdicts(exact, between)
        yield {
            "month": name,
            "figure": figure,
            "exact": fmean(exact),
            "sampled": fmean(sampled),
            "off (median)": median(off) if off else None,
            "half width": fmean((high - low) / 2 for low, high in between) / fmean(exact) if any(exact) else None,
            "held": held,
            "of": len(exact),
            "undecided": undecided,
            "wrongly met": wrong,
            "by more than 5 %": far,
        }


def main() -> None:
    """Print a table, and all of it as JSON lines to a file if asked."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, default=10)
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--month", action="append", choices=[*MONTHS, *LARGE])
    parser.add_argument("--large", action="store_true")
    parser.add_argument("--workers", type=int, default=2)
    parser.add_argument("--json", type=Path)
    asked = parser.parse_args()
    names = asked.month or ([*LARGE] if asked.large else [*MONTHS])
    with ProcessPoolExecutor(asked.workers) as pool:
        for name in names:
            results = list(pool.map(partial(one, name), range(asked.first, asked.first + asked.seeds)))
            took = fmean(r[3] for r in results), fmean(r[4] for r in results)
            print(f"\n{name}: sampled {took[0]:.2f} CPU s, exact {took[1]:.2f}")
            for row in rows(name, results):
                if asked.json:
                    with asked.json.open("a") as file:
                        file.write(json.dumps(row) + "\n")
                off, half = (
                    f"{100 * x:7.2f} %" if isinstance(x, float) else "      – "
                    for x in (row["off (median)"], row["half width"])
                )
                print(
                    f"  {row['figure']:<14} exact {row['exact']:>14,.5g} sampled {row['sampled']:>14,.5g} off {off} ± {half} "
                    f"held {row['held']}/{row['of']} undecided {row['undecided']:.0%} wrongly met {row['wrongly met']:.2%} far {row['by more than 5 %']:.2%}"
                )
            sys.stdout.flush()


if __name__ == "__main__":
    main()
