"""What ``measure`` prints and draws: the verdict, runs, levels, what a run is billed, the keys with intervals, and TOML to paste."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from msgspec import Struct
from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.evidence.fit.estimates import Estimate, Spread
from echotally.evidence.fit.proposal import Proposal, pasted
from echotally.evidence.measure.keys import Keys, Stretch
from echotally.evidence.measure.machine import BUSY
from echotally.evidence.measure.plans import Billed
from echotally.evidence.measure.rows import Run, Tried
from echotally.output.base.terminal import Column, count, rendered, table

#: Runs shown in the table: the first ones and the last.
_FIRST, _LAST = 8, 4
_KINDS = {
    "fresh": {"first": "first", "warm": "fresh process", "cold": ""},
    "serve": {"first": "", "warm": "answer", "cold": "start to first answer"},
    "url": {"first": "", "warm": "request", "cold": ""},
}


class Measured(Struct, frozen=True):
    """A program that was tried, the keys found, what is proposed, and what each run would be billed on each plan."""

    tried: Tried
    keys: Keys
    proposal: Proposal
    billed: tuple[tuple[Run, tuple[Billed, ...]], ...] = ()


def measure_verdict(found: Measured) -> list[str]:
    """The run time first, then how sure it is, then whether the machine was quiet."""
    keys, tried = found.keys, found.tried
    run = keys.run.median
    lines = [
        f"{tried.what}: a warm run takes {milliseconds(run.value)} ({milliseconds(run.low)} to {milliseconds(run.high)}), p95 {milliseconds(keys.run.p95.value)}{_share(keys)}."
    ]
    if keys.cold_start is not None:
        start = keys.cold_start.median
        lines.append(
            f"A cold start takes {milliseconds(start.value)} ({milliseconds(start.low)} to {milliseconds(start.high)}) more."
        )
    # In the first lines, as it may make every figure below wrong.
    if tried.machine.busy:
        load = f"{tried.machine.load:.1f}"
        lines.append(
            f"Machine busy: a load of {load} as it began, above {BUSY}. Times hold other programs' work; measure again when it is quiet."
        )
    # Runs that failed tell no run time, but that they did is no detail.
    failed = sum(1 for each in tried.runs if each.outcome != "ok")
    if failed:
        lines.append(f"{failed:,} of {len(tried.runs):,} runs failed or were ended; times are of those that went well.")
    return [safe(line) for line in lines]


def _share(keys: Keys) -> str:
    if keys.cpu_share is None:
        return ""
    threads = f" on {keys.threads} vCPUs at once" if keys.threads and keys.threads > 1 else ""
    return f", {keys.cpu_share.value:.0%} of it CPU work{threads}"


def milliseconds(value: float) -> str:
    """A time as people read it: in ms, long ones in s."""
    # Ten seconds and more nobody reads in milliseconds.
    if value >= 10_000:
        return f"{value / 1000:,.2f} s"
    return f"{value:,.1f} ms" if value >= 100 else f"{value:,.2f} ms"


def _machine(found: Measured) -> str:
    machine = found.tried.machine
    load = "unknown" if machine.load is None else f"{machine.load:.2f}"
    factor = "" if found.keys.factor == 1 else f"; times are for a processor {found.keys.factor:g} times as fast"
    return (
        f"Measured here: {machine.vcpu:g} vCPUs, {machine.model}, {machine.system}, load {load}. Starting an empty program, or its interpreter, takes "
        f"{milliseconds(machine.start_s * 1e3)}{factor}. A provider's processor is another: measured_vcpu says what it was measured with, "
        "--factor how fast the other is."
    )


# -- as text


def measure_text(found: Measured, width: int | None = None, colour: bool | None = None) -> str:
    """Verdict, keys, TOML to paste at the end, and between them runs, levels and plans."""
    lines = measure_verdict(found)
    parts: list[RenderableType] = [Text(lines[0], style="bold"), *(Text(line) for line in lines[1:]), Text("")]
    parts.append(_runs(found, width))
    if found.keys.stretch:
        parts.append(_levels(found, width))
        parts.append(Text(stretch_line(found.keys)))
        parts.append(Text(""))
    if found.billed:
        parts.append(_plans(found, width))
    # Near the end, above what is pasted: the last lines are what stands on the screen when it is over.
    parts.append(_keys(found, width))
    parts.append(Text(safe(_machine(found)), style="dim"))
    parts += [Text(f"Note: {safe(note)}") for note in (*found.tried.notes, *found.keys.notes, *found.proposal.notes)]
    parts += [Text(""), Text("To paste into the model:", style="bold"), Text(pasted(found.proposal).rstrip())]
    return rendered(parts, width, colour)


def _runs(found: Measured, width: int | None) -> RenderableType:
    runs = found.tried.runs
    # The first few show what warms up, the last ones how it stays; leaving out one line would save nothing.
    shown = list(runs) if len(runs) <= _FIRST + _LAST + 1 else [*runs[:_FIRST], *runs[-_LAST:]]
    several = len({run.events for run in runs}) > 1
    plans = {run.number: prices for run, prices in found.billed}
    # One plan in the table, as an example; all of them stand in the table of plans.
    priced = next((b for prices in plans.values() for b in prices if b.cost is not None), None)
    columns = [
        Column("run"),
        Column("what", False),
        *([Column("events")] if several else []),
        Column("took ms"),
        Column("CPU ms"),
        Column("memory MB", rank=1),
        Column("reply B", rank=2),
        Column("log B", rank=3),
        *([Column(f"billed ms on {priced.plan}", rank=2), Column(f"cost {priced.currency}", rank=2)] if priced else []),
        Column("outcome", False, rank=1),
    ]
    rows = []
    for run in shown:
        on = next((b for b in plans.get(run.number, ()) if priced and b.plan == priced.plan), None)
        rows.append(
            [
                count(run.number),
                _KINDS[found.tried.how][run.kind],
                *([count(run.events)] if several else []),
                f"{run.took_s * 1e3:,.2f}",
                "–" if run.cpu_s is None else f"{run.cpu_s * 1e3:,.2f}",
                _memory(run, on),
                count(run.reply_bytes),
                count(run.log_bytes),
                *(_price(on) if priced else []),
                _outcome(run),
            ]
        )
    more = "; of those not shown the figures are in --format csv" if len(shown) < len(runs) else ""
    return table(f"Runs ({len(runs):,}{more})", columns, rows, width=width)


def _price(on: Billed | None) -> list[str]:
    return [_figure(on.billed_ms if on else None, ",.0f"), _figure(on.cost if on else None, ".9f")]


def _figure(value: Any, form: str) -> str:
    return "–" if value is None else format(value, form)


def _memory(run: Run, on: Billed | None) -> str:
    if run.memory_bytes is None:
        return "–"
    used = f"{run.memory_bytes / 2**20:,.1f}"
    return f"{used} of {on.memory_mb:,}" if on and on.memory_mb else used


def _outcome(run: Run) -> str:
    if run.outcome == "timeout":
        return "ended: time limit"
    if run.outcome == "error":
        return f"exit {run.exit}" if run.exit is not None else "failed"
    return "ok; files may not have been cached" if run.kind == "first" else "ok"


def _levels(found: Measured, width: int | None) -> RenderableType:
    first = "clients" if found.tried.how == "url" else "at once"
    columns = [
        Column(first),
        Column("answers"),
        Column("calls/s"),
        Column("mean ms"),
        Column("p50 ms", rank=1),
        Column("p95 ms"),
        Column("stretched ms", rank=1),
        Column("in turn ms", rank=1),
        Column("as if", False),
    ]
    rows = [
        [
            count(each.level.at_once),
            count(each.level.answers),
            f"{each.level.per_s:,.1f}",
            f"{each.level.mean_s * 1e3:,.2f}",
            f"{each.level.p50_s * 1e3:,.2f}",
            f"{each.level.p95_s * 1e3:,.2f}",
            f"{each.stretched_s * 1e3:,.2f}",
            f"{each.queued_s * 1e3:,.2f}",
            each.is_like,
        ]
        for each in found.keys.stretch
    ]
    return table(
        "Several at once (stretched: as rule 3.2 says; in turn: one after the other)", columns, rows, width=width
    )


def stretch_line(keys: Keys) -> str:
    """Whether runs beside each other stretch as the model says."""
    several = [each for each in keys.stretch if each.level.at_once > 1]
    if not several:
        return "Only one at a time was tried: how runs stretch is not known."
    if all(each.is_like == "stretched" for each in several):
        return f"Runs beside each other stretch as the model says, up to {keys.slots} at once."
    if all(each.is_like == "one after the other" for each in several):
        return "It serves one after the other: one slot an instance, and the others wait."
    held = [each.level.at_once for each in several if each.is_like == "stretched"]
    until = f" up to {max(held)} at once" if held else " at any number tried"
    return f"The model's stretch holds{until if held else ' not' + until}; beyond it, load is not foretold."


def _plans(found: Measured, width: int | None) -> RenderableType:
    run, prices = found.billed[len(found.billed) // 2]
    columns = [
        Column("plan", False),
        Column("memory MB"),
        Column("billed ms"),
        Column("cost of a run"),
        Column("of a million"),
        Column("", False, True, rank=1),
    ]
    rows = [
        [
            safe(b.plan),
            count(b.memory_mb),
            _figure(b.billed_ms, ",.0f"),
            _figure(b.cost, ".9f"),
            "–" if b.cost is None else f"{b.cost * 10**6:,.2f}",
            safe(b.why_not),
        ]
        for b in prices
    ]
    currency = prices[0].currency if prices else ""
    return table(
        f"The median run ({run.took_s * 1e3:,.2f} ms here) on each plan ({currency}, before allowances)",
        columns,
        rows,
        width=width,
    )


def key_rows(keys: Keys) -> list[dict[str, Any]]:
    """Each key with its value and its 95 % interval."""
    rows: list[dict[str, Any]] = []

    def add(name: str, found: Estimate | None, unit: str, how: str = "") -> None:
        if found is not None:
            rows.append(
                {"key": name, "value": found.value, "low": found.low, "high": found.high, "unit": unit, "how": how}
            )

    add("run", keys.run.median, "ms", f"median of {keys.run.n:,} warm runs, {_kind(keys.run)}")
    add("run p95", keys.run.p95, "ms")
    add("per_item", keys.per_item, "ms", "least squares on events")
    add("per_mb", keys.per_mb, "ms", "least squares on MB")
    if keys.cold_start is not None:
        add(
            "cold_start",
            keys.cold_start.median,
            "ms",
            f"start to first answer less a warm run, {keys.cold_start.n:,} starts",
        )
    add("cpu_share", keys.cpu_share, "", "CPU time of warm runs by their time")
    if keys.threads is not None:
        add("threads", Estimate(keys.threads, keys.threads, keys.threads), "", "most vCPUs in use at once")
    add("memory_used", keys.memory_used, "MB", "the most of any run")
    add("reply_bytes", keys.reply_bytes, "B", "mean of standard output, or of answers")
    add("log_bytes", keys.log_bytes, "B", "mean of standard error")
    add("error_rate", keys.error_rate, "")
    return rows


def _kind(found: Spread) -> str:
    return {"constant": "all alike", "log-normal": "log-normal", "samples": "no log-normal: kept as samples"}[
        found.kind
    ]


def _keys(found: Measured, width: int | None) -> RenderableType:
    columns = [
        Column("key", False),
        Column("value"),
        Column("from"),
        Column("to"),
        Column("unit", False),
        Column("how", False, True, rank=1),
    ]
    rows = [
        [row["key"], *(f"{row[name]:,.4g}" for name in ("value", "low", "high")), row["unit"], row["how"]]
        for row in key_rows(found.keys)
    ]
    return table("Keys of the model, with 95 % intervals", columns, rows, width=width)


# -- as data


def measure_json(found: Measured) -> str:
    """As data (schema ``echotally-measure/1``): ``rows`` are the runs, or with --url the levels."""
    tried, machine = found.tried, found.tried.machine
    plans = {run.number: prices for run, prices in found.billed}
    runs = [_run(run, plans.get(run.number, ())) for run in tried.runs]
    levels = [_stretch(each, tried.how == "url") for each in found.keys.stretch]
    data = {
        "schema": "echotally-measure/1",
        "what": tried.what,
        "how": tried.how,
        "machine": {
            "vcpu": machine.vcpu,
            "model": machine.model,
            "system": machine.system,
            "load": machine.load,
            "busy": machine.busy,
            "empty_program_ms": machine.start_s * 1e3,
            "line_and_back_ms": machine.answer_s * 1e3,
        },
        "rows": levels if tried.how == "url" else runs,
        "runs": runs,
        "levels": levels,
        "keys": {
            row["key"].replace(" ", "_"): {k: v for k, v in row.items() if k != "key"} for row in key_rows(found.keys)
        },
        "run_spread": found.keys.run.kind,
        "measured_vcpu": found.keys.measured_vcpu,
        "factor": found.keys.factor,
        "slots": found.keys.slots,
        "stretch": stretch_line(found.keys) if found.keys.stretch else None,
        "sets": dict(found.proposal.sets),
        "toml": pasted(found.proposal),
        "notes": [*tried.notes, *found.keys.notes, *found.proposal.notes],
    }
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def _run(run: Run, prices: Sequence[Billed]) -> dict[str, Any]:
    return {
        "run": run.number,
        "kind": run.kind,
        "took_ms": run.took_s * 1e3,
        "cpu_ms": None if run.cpu_s is None else run.cpu_s * 1e3,
        "memory_mb": None if run.memory_bytes is None else run.memory_bytes / 2**20,
        "reply_bytes": run.reply_bytes,
        "log_bytes": run.log_bytes,
        "events": run.events,
        "payload_bytes": run.payload_bytes,
        "outcome": run.outcome,
        "exit": run.exit,
        "plans": [
            {
                "plan": b.plan,
                "memory_mb": b.memory_mb,
                "billed_ms": b.billed_ms,
                "cost": None if b.cost is None else f"{b.cost:.12f}",
                "currency": b.currency,
                "why_not": b.why_not or None,
            }
            for b in prices
        ],
    }


def _stretch(found: Stretch, clients: bool) -> dict[str, Any]:
    level = found.level
    return {
        "clients" if clients else "at_once": level.at_once,
        "calls": level.answers,
        "failed": level.failed,
        "seconds": level.seconds,
        "calls_per_s": level.per_s,
        "mean_ms": level.mean_s * 1e3,
        "p50_ms": level.p50_s * 1e3,
        "p95_ms": level.p95_s * 1e3,
        "cpu_s": level.cpu_s,
        "stretched_ms": found.stretched_s * 1e3,
        "one_after_the_other_ms": found.queued_s * 1e3,
        "is_like": found.is_like,
    }
