"""What ``fit`` prints and draws: the values first, then how sure they are, then how the log was read."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any, NamedTuple

from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.evidence.fit.estimates import Estimate, Spread
from echotally.evidence.fit.fit import Fit
from echotally.evidence.fit.proposal import Proposal, pasted
from echotally.evidence.fit.trials import TrialFit
from echotally.evidence.telemetry.reading import TraceFound
from echotally.model.addresses import table_of
from echotally.output.base.charts import new_figure, picture, plain_x, style, titled
from echotally.output.base.terminal import Column, count, rendered, table


class Figure(NamedTuple):
    """A fitted figure with its 95 % interval."""

    figure: str
    value: float
    low: float
    high: float
    unit: str
    how: str


def _said(spread: Spread) -> str:
    if spread.kind == "constant":
        return "constant"
    # Both numbers: whoever doubts the form sees how near the decision was.
    test = f"KS distance {spread.distance:.3f}, refused above {spread.refused:.3f}"
    if spread.kind == "log-normal":
        return f"log-normal ({test})"
    return f"no log-normal ({test}): kept as {len(spread.samples):,} samples"


def digits(value: float, thousands: str = ",") -> str:
    """Four digits that count, and never a power of ten."""
    return f"{value:{thousands}.0f}" if abs(value) >= 1_000 else f"{value:{thousands}.4g}"


def fit_verdict(found: Fit) -> str:
    """The run time and how much it rests on."""
    text = (
        f"{found.function}: {digits(found.run.median.value)} ms at the median, {digits(found.run.p95.value)} ms at p95"
    )
    if found.parts.per_item:
        text += f", and {found.parts.per_item.value:,.3g} ms for each event of a batch"
    return f"{text}, from {found.runs:,} runs."


def _figures(found: Fit) -> list[Figure]:
    rows = [_row("run, median", found.run.median, "ms", _said(found.run)), _row("run, p95", found.run.p95, "ms", "")]
    if found.parts.per_item:
        rows.append(_row("part per event", found.parts.per_item, "ms", "weighted least squares on batch size"))
    if found.parts.cpu_share:
        rows.append(_row("CPU share", found.parts.cpu_share, "", f"from {len(found.memories)} memory sizes"))
    if found.cold:
        rows.append(_row("cold start, median", found.cold.median, "ms", _said(found.cold)))
        rows.append(_row("cold start, p95", found.cold.p95, "ms", f"{found.cold.n:,} cold starts"))
    for name, share in (
        ("cold attempts", found.cold_share),
        ("errors", found.errors),
        ("timeouts", found.timeouts),
        ("throttled", found.throttled),
    ):
        # Shares are shown as they are talked of; the data beside keeps fractions.
        rows.append(_row(name, Estimate(share.value * 100, share.low * 100, share.high * 100), "%", ""))
    if found.memory:
        rows.append(_row("memory used, p50", found.memory.p50, "MB", ""))
        rows.append(_row("memory used, p95", found.memory.p95, "MB", ""))
    if found.rhythm:
        per_h = [x * 3_600 for x in (found.rhythm.rate.value, found.rhythm.rate.low, found.rhythm.rate.high)]
        scatter = f"over {found.rhythm.days:,.1f} days"
        # Half as much again is what a short log shows by chance; above that calls come in heaps.
        if found.rhythm.dispersion > 1.5:
            scatter += f"; scatters {found.rhythm.dispersion:,.1f} times as much as Poisson's"
        rows.append(_row("rate", Estimate(*per_h), "/h", scatter))
    return rows


def _row(name: str, found: Estimate, unit: str, note: str) -> Figure:
    return Figure(name, found.value, found.low, found.high, unit, note)


def fit_text(found: Fit, proposal: Proposal, width: int | None = None, colour: bool | None = None) -> str:
    """Verdict, figures with intervals, rhythm, memory, TOML to paste, then columns and troubles."""
    columns = [
        Column("figure", False),
        Column("value"),
        Column("from"),
        Column("to"),
        Column("unit", False),
        Column("how", False, wrap=True, rank=1),
    ]
    rows = [[f.figure, digits(f.value), digits(f.low), digits(f.high), f.unit, f.how] for f in _figures(found)]
    parts: list[RenderableType] = [Text(safe(fit_verdict(found)), style="bold"), Text("")]
    parts.append(table("Fitted, with 95 % intervals", columns, rows, (), width))
    if found.memory:
        given = f" of {found.memory.given:,.0f} MB given" if found.memory.given else ""
        text = f"Memory used: most {found.memory.largest:,.0f} MB{given}."
        parts.append(Text(text))
    parts += [Text(line) for line in _rhythm_lines(found)]
    parts += [Text(""), Text("To paste into the model:", style="bold"), Text(pasted(proposal).rstrip())]
    parts.append(Text(""))
    parts += [Text(f"Note: {safe(note)}") for note in (*found.notes, *proposal.notes)]
    parts += read_lines(found)
    return rendered(parts, width, colour)


def _rhythm_lines(found: Fit) -> list[str]:
    if not found.rhythm:
        return []
    lines = []
    for name, weights in (("By hour of the day", found.rhythm.day), ("By weekday, Monday first", found.rhythm.week)):
        bars = f"{name}: {_bars(weights)} {_ends(weights)}" if weights else f"{name}: even (or too short to tell)."
        lines.append(bars)
    return lines


def _bars(weights: tuple[Estimate, ...]) -> str:
    """One block a weight, as high as the weight is large."""
    # A week without a call has weights of nothing.
    most = max(each.value for each in weights) or 1.0
    return "".join("▁▂▃▄▅▆▇█"[min(7, int(each.value / most * 7.999))] for each in weights)


def _ends(weights: tuple[Estimate, ...]) -> str:
    values = [each.value for each in weights]
    return f"from {min(values):.2f} to {max(values):.2f} times the mean"


def read_lines(found: Fit) -> list[RenderableType]:
    """How the log was read: files, columns, and what was odd about it."""
    log = found.log
    files = ", ".join(safe(name) for name in log.files[:5]) + (
        f" and {len(log.files) - 5} more" if len(log.files) > 5 else ""
    )
    lines: list[RenderableType] = [
        Text(f"Read: {log.rows:,} rows of {files}; {'; '.join(safe(c) for c in log.columns)}.")
    ]
    # Said, so that nobody thinks the whole log was fitted.
    others = {name: n for name, n in log.functions.items() if name and name != found.function}
    if others:
        shown = ", ".join(f"{safe(name)} {n:,}" for name, n in list(others.items())[:8])
        lines.append(
            Text(f"Rows of other functions, not looked at: {shown}" + (" ..." if len(others) > 8 else "") + ".")
        )
    lines += [Text(f"Note: {safe(note)}") for note in log.notes]
    lines += [Text(f"Odd: {safe(str(trouble))}", style="yellow") for trouble in log.troubles]
    return lines


def _estimate(found: Estimate | None) -> dict[str, float] | None:
    return None if found is None else {"value": found.value, "low": found.low, "high": found.high}


def _spread_data(found: Spread | None) -> dict[str, Any] | None:
    if found is None:
        return None
    return {
        "kind": found.kind,
        "median": _estimate(found.median),
        "p95": _estimate(found.p95),
        "n": found.n,
        "distance": found.distance,
        "refused": found.refused,
    }


def fit_json(found: Fit, proposal: Proposal) -> str:
    """The fit as data (schema ``echotally-fit/1``)."""
    rhythm = found.rhythm
    data = {
        "schema": "echotally-fit/1",
        "function": found.function,
        "runs": found.runs,
        "run_ms": _spread_data(found.run),
        "per_item_ms": _estimate(found.parts.per_item),
        "cpu_share": _estimate(found.parts.cpu_share),
        "measured_at_mb": found.measured_mb,
        "cold_start_ms": _spread_data(found.cold),
        "cold_share": _estimate(found.cold_share),
        "error_rate": _estimate(found.errors),
        "timeout_share": _estimate(found.timeouts),
        "throttled_share": _estimate(found.throttled),
        "memory_used_mb": None
        if found.memory is None
        else {
            "p50": _estimate(found.memory.p50),
            "p95": _estimate(found.memory.p95),
            "max": found.memory.largest,
            "given": found.memory.given,
        },
        "rate_per_s": _estimate(rhythm.rate) if rhythm else None,
        "day_shape": [_estimate(w) for w in rhythm.day] if rhythm and rhythm.day else None,
        "week_shape": [_estimate(w) for w in rhythm.week] if rhythm and rhythm.week else None,
        # The rows of the table, so that text and data cannot tell two stories.
        "figures": [f._asdict() for f in _figures(found)],
        "sets": dict(proposal.sets),
        "rows": found.log.rows,
        "columns": list(found.log.columns),
        "notes": [*found.notes, *proposal.notes, *found.log.notes],
        "troubles": [
            {"rows": t.rows, "what": t.what, "done": t.done, "example": t.example} for t in found.log.troubles
        ],
    }
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def fit_chart(found: Fit, form: str) -> bytes:
    """Measured against fitted run times: quantiles, and the rate by hour."""
    from statistics import NormalDist

    figure, panels = new_figure(1)
    panel = panels[0]
    # Without the ends: the longest run of a log is an accident and would set the scale.
    shares = [n / 100 for n in range(1, 100)]
    panel.plot(
        found.warm,
        shares,
        label="measured, less the part per event" if found.parts.per_item else "measured",
        **(style(0) | {"markersize": 5, "markevery": 6}),
    )
    if found.run.kind == "log-normal":
        sigma = found.run.p95.value / found.run.median.value
        # p95 lies 1.645 standard deviations of the logarithm above the median.
        fitted = [found.run.median.value * sigma ** (NormalDist().inv_cdf(q) / 1.6448536269514722) for q in shares]
        panel.plot(fitted, shares, label="fitted log-normal", **(style(1) | {"markersize": 0}))
        panel.set_xscale("log")
        plain_x(panel)
    panel.set_xlabel("base run time (ms)")
    panel.set_ylabel("share of runs that are shorter")
    panel.legend(frameon=False, loc="upper left")
    titled(panel, fit_verdict(found), f"Share of runs that are shorter; fitted: {_said(found.run)}")
    return picture(
        figure,
        form,
        f"{found.log.rows:,} rows of {', '.join(Path(name).name for name in found.log.files[:3])} · Echo Tally",
    )


def trials_text(found: TrialFit, width: int | None = None, colour: bool | None = None) -> str:
    """The fitted run time, then each trial as measured and as played, with the misfit."""
    verdict = (
        f"{found.function}: {digits(found.median.value)} ms at the median, {digits(found.p95.value)} ms at p95; "
        f"played on {found.plan}, throughput is off by at most {found.worst_throughput:.1%}."
    )
    parts: list[RenderableType] = [Text(safe(verdict), style="bold"), Text("")]
    parts.append(_trials(found, width))
    lines = [f"[{table_of(('functions', found.function))}]", f"run = {_run_text(found)}"]
    parts += [Text("To paste into the model:", style="bold"), Text("\n".join(lines)), Text("")]
    if found.per_instance:
        parts.append(Text(f"Saturated, one instance answers {found.per_instance:,.2f} calls a second."))
    parts += [Text(f"Note: {safe(note)}") for note in found.notes]
    return rendered(parts, width, colour)


def _trials(found: TrialFit, width: int | None) -> RenderableType:
    columns = [
        Column("clients"),
        Column("limit"),
        Column("answers/s"),
        Column("played"),
        Column("off %"),
        Column("p50 ms", rank=1),
        Column("played", rank=1),
        Column("p95 ms"),
        Column("played"),
        Column("refused %"),
        Column("played"),
    ]
    rows = []
    for measured, played in found.rows:
        answers = played.calls_per_s
        rows.append(
            [
                count(measured.clients),
                "–" if measured.limit is None else count(measured.limit),
                f"{measured.answers_per_s:,.2f}",
                f"{answers:,.2f}",
                f"{(answers / measured.answers_per_s - 1) * 100:+.1f}" if measured.answers_per_s else "–",
                _late(measured.p50_ms),
                _late(played.latency.p50, 1e3),
                _late(measured.p95_ms),
                _late(played.latency.p95, 1e3),
                f"{measured.refused / measured.calls * 100:.2f}",
                f"{played.refused_share * 100:.2f}",
            ]
        )
    return table("Trials as measured, and as played with the fitted run time", columns, rows, (), width)


def _late(value: float | None, factor: float = 1.0) -> str:
    return "–" if value is None else f"{value * factor:,.1f}"


def _run_text(found: TrialFit) -> str:
    if found.p95.value <= found.median.value * 1.0001:
        return f'"{digits(found.median.value, "")} ms"'
    return f'{{ median = "{digits(found.median.value, "")} ms", p95 = "{digits(found.p95.value, "")} ms" }}'


def trials_json(found: TrialFit) -> str:
    """The trials as data (schema ``echotally-trials/1``)."""
    rows = [
        {
            "clients": m.clients,
            "limit": m.limit,
            "measured": {
                "answers_per_s": m.answers_per_s,
                "p50_ms": m.p50_ms,
                "p95_ms": m.p95_ms,
                "refused_share": m.refused / m.calls,
            },
            "played": {
                "answers_per_s": p.calls_per_s,
                "p50_ms": _ms(p.latency.p50),
                "p95_ms": _ms(p.latency.p95),
                "refused_share": p.refused_share,
            },
        }
        for m, p in found.rows
    ]
    data = {
        "schema": "echotally-trials/1",
        "function": found.function,
        "plan": found.plan,
        "run_ms": {"median": _estimate(found.median), "p95": _estimate(found.p95)},
        "answers_per_s_per_instance": found.per_instance,
        "rows": rows,
        "notes": list(found.notes),
    }
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def _ms(value_s: float | None) -> float | None:
    return None if value_s is None else value_s * 1e3


def trace_text(found: TraceFound, path: str) -> str:
    """What a trace made of metrics holds, and how to use it."""
    hours = (found.rows[-1][0] - found.rows[0][0]) / 3_600
    lines = [
        f"{found.total:,} events in {len(found.rows):,} rows over {hours:,.1f} hours written to {path}.",
        f"Series summed: {', '.join(safe(name) for name in found.series[:8])}"
        + (" ..." if len(found.series) > 8 else "")
        + ".",
        *(f"Note: {safe(note)}" for note in found.notes[:20]),
        f'In the model: trace = "{path}" under a demand (repeat = true lays a short one end to end).',
    ]
    return "\n".join(lines) + "\n"
