"""Estates drawn by lot that a survey is tried on: what sets functions off, run times, wiring, a card, all known beforehand."""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from pathlib import Path

CARD = """schema = "echotally-rates/1"
[card]
name = "osprey"
provider = "Osprey Cloud (made up)"
region = "west"
currency = "EUR"
[plans.main]
bills = "{bills}"
memory = {{ from = "128 MB", to = "8 GB", step = "64 MB" }}
vcpu_per_gb = {vcpu}
keep_alive = "{keep} min"
cold_start_billed = {cold}
rounding = {{ time = "{step} ms" }}
poll_wait = "{poll} s"
[plans.main.price]
{prices}
[plans.main.allowance]
calls = {free}
"""
PRICES = {
    "calls": '{ per = 1_000_000, unit = "0.31" }',
    "queue_operations": '{ per = 1_000_000, unit = "0.44" }',
    "topic_publishes": '{ per = 1_000_000, unit = "0.52" }',
    "stream_partition_hours": '{ unit = "0.0041" }',
    "stream_writes": '{ per = 1_000_000, unit = "0.03" }',
    "gateway_requests": '{ per = 1_000_000, unit = "1.20" }',
    "schedule_firings": '{ per = 1_000_000, unit = "0.90" }',
    "storage_operations": '{ per = 10_000, unit = "0.05" }',
    "log_gb": '{ unit = "0.55" }',
    "egress_gb": '{ unit = "0.07" }',
}
CRONS = (
    "0 2 * * *", "*/15 * * * *", "30 6 * * 1-5", "15 4,16 * * *", "0 */6 * * *", "5 8-18 * * *", "0 0 * * 0", "*/10 * * * *",
)  # fmt: skip


@dataclass
class Made:
    """An estate, its text, and the truths a survey is held against."""

    text: str
    card: str
    crons: dict[str, str] = field(default_factory=dict)
    lines: set[tuple[str, str]] = field(default_factory=set)

    def write(self, folder: Path) -> Path:
        """The model and its card in a folder; returns the model's path."""
        (folder / "card.toml").write_text(self.card)
        (folder / "model.toml").write_text(self.text)
        return folder / "model.toml"


def made_estate(seed: int) -> Made:
    """The estate of a seed."""
    r = random.Random(seed)
    bills = r.choice(["runs", "runs", "active", "allocated"])
    time = {"runs": "gb_seconds", "active": "gb_seconds", "allocated": "allocated_gb_seconds"}[bills]
    prices = {**PRICES, time: '{ tiers = [{ up_to = 20_000, unit = "0.0000182" }, { unit = "0.0000161" }] }'}
    card = CARD.format(
        bills=bills, vcpu=r.choice([0.5, 1]), keep=r.choice([5, 8, 15]), cold=r.choice(["true", "false"]) if bills == "runs" else "false",
        step=r.choice([1, 100]), poll=r.choice([10, 20]), prices="\n".join(f"{m} = {p}" for m, p in prices.items()),
        free=r.choice([0, 1_000]),
    )  # fmt: skip
    made = Made("", card)
    lines = ['schema = "echotally-model/1"', "[estate]", 'name = "drawn"', 'month = "2027-02"', 'timezone = "UTC"',
             'rate_cards = ["card.toml"]', f"seed = {seed}"]  # fmt: skip
    tables: list[str] = []
    for n in range(r.randint(3, 6)):
        _function(r, f"f{n}", made, lines, tables)
    if r.random() < 0.4:
        tables += ["[environments.live]", "[environments.trial]", f"demand = {r.choice([0.1, 0.3])}"]
    made.text = "\n".join([*lines, *tables]) + "\n"
    return made


def _function(r: random.Random, name: str, made: Made, lines: list[str], tables: list[str]) -> None:
    kind = r.choice(["schedules", "endpoints", "queues", "streams", "folders", "queues"])
    lines += [f"[functions.{name}]", f'memory = "{r.choice([128, 256, 512, 1024])} MB"', f"run = {_run(r)}",
              f'cold_start = "{r.choice([200, 600, 1500])} ms"', 'timeout = "2 min"']  # fmt: skip
    if kind != "schedules" and r.random() < 0.5:
        lines.append(f"error_rate = {r.choice([0.002, 0.01])}")
    source = f"{kind}.{name}-in"
    tables += [f"[{source}]"]
    trigger = ["[[triggers]]", f'from = "{source}"', f'to = "{name}"']
    made.lines.add((source, name))
    if kind == "schedules":
        cron = r.choice(CRONS)
        made.crons[name] = cron
        tables += [f'cron = "{cron}"']
    else:
        batched = kind in ("queues", "streams")
        if kind == "streams" and r.random() < 0.5:
            tables += ["partitions = 2"]
        if batched:
            trigger += ["batch = 10"]
            wait = r.choice([0, 30, 60])
            trigger += [f'batch_wait = "{wait} s"'] if wait else []
            lines.append(f'per_item = "{r.choice([5, 40])} ms"')
        _demand(r, source, name, tables)
    tables += trigger
    if r.random() < 0.5 and kind != "endpoints":
        _emits(r, name, made, lines, tables)


def _run(r: random.Random) -> str:
    form = r.random()
    middle = r.choice([40, 150, 700, 3_000])
    if form < 0.3:
        return f'"{middle} ms"'
    if form < 0.85:
        return f'{{ median = "{middle} ms", p95 = "{middle * r.choice([2, 4])} ms" }}'
    return f'{{ mix = [{{ share = 0.9, median = "{middle} ms", p95 = "{middle * 2} ms" }}, {{ share = 0.1, constant = "{middle * 12} ms" }}] }}'


def _demand(r: random.Random, source: str, name: str, tables: list[str]) -> None:
    tables += [f"[demand.{name}]", f'into = "{source}"', f'rate = "{r.choice([20, 60, 200])} /h"']
    if r.random() < 0.5:
        shape = [0.2] * 6 + [1] * 4 + [2] * 8 + [1] * 6
        tables.append(f"day_shape = {shape}")
    if r.random() < 0.3:
        tables.append("week_shape = [1, 1, 1, 1, 1, 0.4, 0.4]")


def _emits(r: random.Random, name: str, made: Made, lines: list[str], tables: list[str]) -> None:
    """What a function puts out: into a queue of its own reader, or a topic that feeds two."""
    each = r.choice([0.3, 1, 2.5])
    if r.random() < 0.6:
        lines.insert(_place(lines, name), f'emits = [{{ into = "queues.{name}-out", each = {each} }}]')
        made.lines.add((name, f"queues.{name}-out"))
        _reader(r, f"{name}-next", f"queues.{name}-out", made, lines, tables)
        return
    lines.insert(_place(lines, name), f'emits = [{{ into = "topics.{name}-news", each = {each} }}]')
    made.lines.add((name, f"topics.{name}-news"))
    share = r.choice([0.3, 1.0])
    tables += [
        f"[topics.{name}-news]",
        f'feeds = [{{ into = "queues.{name}-a" }}, {{ into = "queues.{name}-b", share = {share} }}]',
    ]
    for part in "ab":
        made.lines.add((f"topics.{name}-news", f"queues.{name}-{part}"))
        _reader(r, f"{name}-{part}", f"queues.{name}-{part}", made, lines, tables)


def _place(lines: list[str], name: str) -> int:
    return lines.index(f"[functions.{name}]") + 1


def _reader(r: random.Random, name: str, source: str, made: Made, lines: list[str], tables: list[str]) -> None:
    lines += [
        f"[functions.{name}]",
        'memory = "256 MB"',
        f"run = {_run(r)}",
        'cold_start = "300 ms"',
        'timeout = "2 min"',
    ]
    tables += [f"[{source}]", "[[triggers]]", f'from = "{source}"', f'to = "{name}"', f"batch = {r.choice([1, 5])}"]
    made.lines.add((source, name))
