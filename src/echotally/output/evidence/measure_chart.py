"""A measurement as a picture: every run with the fit over it, and how several at once stretch."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from echotally.evidence.measure.rows import Run
from echotally.output.base.charts import QUIET, SUBTITLE, new_figure, picture, short, style, titled
from echotally.output.evidence.measure_view import Measured, measure_verdict, milliseconds, stretch_line


def measure_chart(found: Measured, form: str) -> bytes:
    """Every run with the fit over it, and below it, where several at once were tried, how they stretch."""
    tried, keys = found.tried, found.keys
    figure, panels = new_figure(2 if keys.stretch else 1, (2, 1.4) if keys.stretch else (1,), share_x=False)
    _draw_runs(panels[0], found)
    lines = measure_verdict(found)
    titled(panels[0], "\n".join(lines[:2]))
    if keys.stretch:
        panel = panels[1]
        levels = [each.level.at_once for each in keys.stretch]
        series = (
            ("measured", [each.level.p50_s * 1e3 for each in keys.stretch]),
            ("as the model stretches it", [each.stretched_s * 1e3 for each in keys.stretch]),
            ("one after the other", [each.queued_s * 1e3 for each in keys.stretch]),
        )
        for n, (name, values) in enumerate(series):
            panel.plot(levels, values, label=name, **style(n))
        panel.set_xticks(levels)
        panel.set_ylim(bottom=0)
        panel.set_xlabel("clients" if tried.how == "url" else "events at once")
        panel.set_ylabel("median time, ms")
        panel.legend(frameon=False)
        panel.set_title(stretch_line(keys), loc="left", fontsize=SUBTITLE, color=QUIET)
    return picture(figure, form, f"{short(tried.what, 60)} · measured on {tried.machine.vcpu:g} vCPUs · Echo Tally")


def _draw_runs(panel: Any, found: Measured) -> None:
    warm = found.tried.warm()
    if len({run.events for run in warm}) > 1:
        _by_events(panel, found, warm)
    else:
        _by_number(panel, found)
    # Room above the highest mark.
    panel.set_ylim(0, 1.08 * panel.get_ylim()[1])
    panel.set_ylabel("time, ms")
    panel.legend(frameon=False)


def _by_events(panel: Any, found: Measured, warm: Sequence[Run]) -> None:
    """Warm runs against what they held, with the fitted line: where it begins is the run, its slope what an item adds."""
    keys = found.keys
    look = {**style(1), "linestyle": "none", "alpha": 0.5}
    panel.plot([run.events for run in warm], [run.took_s * 1e3 for run in warm], label="warm runs", **look)
    if keys.per_item is not None:
        sizes = [0, max(run.events for run in warm)]
        line = [keys.run.median.value + keys.per_item.value * n for n in sizes]
        name = f"fitted: {milliseconds(keys.run.median.value)} and {milliseconds(keys.per_item.value)} an event"
        panel.plot(sizes, line, color="#0072B2", linewidth=1.8, label=name)
    panel.set_xlabel("events of a batch")


def _by_number(panel: Any, found: Measured) -> None:
    names = {"first": "first run after a pause", "warm": "warm runs", "cold": "start to first answer"}
    for n, (kind, name) in enumerate(names.items()):
        runs = [run for run in found.tried.runs if run.kind == kind and run.outcome == "ok"]
        if runs:
            look = {**style(n), "linestyle": "none"}
            panel.plot([run.number for run in runs], [run.took_s * 1e3 for run in runs], label=name, **look)
    run = found.keys.run
    panel.axhspan(run.median.low, run.median.high, color="#0072B2", alpha=0.15)
    panel.axhline(
        run.median.value, color="#0072B2", linewidth=1.2, label=f"fitted run, median {milliseconds(run.median.value)}"
    )
    panel.axhline(
        run.p95.value,
        color="#0072B2",
        linewidth=1.2,
        linestyle=":",
        label=f"fitted run, p95 {milliseconds(run.p95.value)}",
    )
    panel.set_xlabel("run")
