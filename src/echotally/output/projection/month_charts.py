"""Pictures of a month's course: what operators look at together, how long things wait and run, how near the edges are."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from echotally.engine.sketch import STARTS
from echotally.model.sources import SourceKind
from echotally.output.base.charts import (
    COLOURS,
    DASHES,
    INK,
    SMALL,
    TEXT,
    ended,
    headed,
    new_figure,
    picture,
    plain_x,
    small_panels,
    source_of,
    titled,
)
from echotally.output.base.terminal import count, seconds
from echotally.projection.answer import PlayedPlan, Projection
from echotally.projection.window import Window
from echotally.rates.unit_settings import share_longer

#: So many lines can be told apart and named at their ends.
_MOST_LINES = 8


def local_axis(panel: Any, window: Window) -> None:
    """Local time along the foot of a panel: days, hours or minutes, whatever fits."""
    from matplotlib import dates

    made: Any = dates
    locator = made.AutoDateLocator(tz=window.clock.zone, minticks=4, maxticks=9)
    panel.xaxis.set_major_locator(locator)
    panel.xaxis.set_major_formatter(made.ConciseDateFormatter(locator, tz=window.clock.zone))
    end = window.clock.instant(window.stepped.until_ns).astimezone(window.clock.zone)
    panel.set_xlim(window.times()[0], end)


def when_text(window: Window) -> str:
    """The stretch in words, with its steps."""
    first = window.times()[0]
    last = window.clock.instant(window.stepped.until_ns).astimezone(window.clock.zone)
    step = window.step_ns / 1e9
    size = f"{step:g} s" if step < 60 else f"{step / 60:g} min" if step < 3_600 else f"{step / 3_600:g} h"
    shown = f"{first:%Y-%m-%d %H:%M}" + (f":{first:%S}" if first.second else "")
    until = f"{last:%H:%M}" if last.date() == first.date() else f"{last:%Y-%m-%d %H:%M}"
    return f"{shown} to {until} local ({window.clock.zone.key}), in steps of {size}"


# -- what operators look at together ------------------------------------------------------------------------------
def dashboard_chart(window: Window, function: str | None, environment: str | None, form: str) -> bytes:
    """Calls, run time, waits, instances, memory, trouble and backlog over one time axis; of one function or of all."""
    look = _Looked(window, function, environment)
    drawn = look.panels()
    figure, panels = small_panels(len(drawn) // 2, 2)
    for panel, draw in zip(panels, drawn, strict=True):
        draw(panel)
        panel.set_ylim(bottom=0)
    for panel in panels[-2:]:
        local_axis(panel, window)
    whose = function or "All functions"
    place = f" ({environment})" if environment else ""
    headed(figure, f"{whose}{place} on {window.plan.offer.name}: {look.finding()}")
    return picture(figure, form, f"{when_text(window)} · {source_of(window.loaded.model)}")


def stretch_chart(window: Window, kind: str, function: str, environment: str, form: str) -> bytes:
    """``levels``: instances, calls and throttled attempts; ``backlog``: events waiting and how long those wait that start."""
    figure, panels = new_figure(2, (3, 2))
    look = _Looked(window, function, environment)
    (look.levels if kind == "levels" else look.backlog)(panels)
    for panel in panels:
        panel.set_ylim(bottom=0)
    local_axis(panels[-1], window)
    titled(panels[0], f"{function} ({environment}) on {window.plan.offer.name}: {look.finding()}", when_text(window))
    return picture(figure, form, source_of(window.loaded.model))


class _Looked:
    """The columns of a window for one function or all of them, and a drawing for each panel."""

    def __init__(self, window: Window, function: str | None, environment: str | None) -> None:
        self.window, self.times, self.length = window, window.times(), window.seconds()
        self.whose = (function, environment)
        self.units = [
            unit
            for unit in window.stepped.units
            if function in (None, unit.function) and environment in (None, unit.environment)
        ]

    def of(self, name: str) -> Any:
        return self.window.of(name, *self.whose)

    def finding(self) -> str:
        """The worst of it, else the busiest moment."""
        throttled, calls = self.of("throttled"), self.of("started")
        waits = self.of("wait_p95_s")
        # Trouble before size: the busiest moment is news only where nothing went wrong.
        if throttled.sum():
            worst = int(throttled.argmax())
            return (
                f"{count(throttled.sum())} attempts find no room, most of them about {self.times[worst]:%H:%M on %d %B}"
            )
        if calls.sum() == 0:
            return "nothing runs in this stretch"
        busiest = int(calls.argmax())
        said = (
            f"at most {calls[busiest] / self.length[busiest]:,.3g} calls a second, {self.times[busiest]:%H:%M on %d %B}"
        )
        if np.isfinite(waits).any():
            longest = int(np.nanargmax(waits))
            said += f"; p95 waits up to {seconds(waits[longest])} s, {self.times[longest]:%H:%M on %d %B}"
        return said

    def panels(self) -> Sequence[Callable[[Any], None]]:
        return (
            self._calls,
            self._trouble,
            self._runs,
            self._waits,
            self._instances,
            self._memory,
            self._backlog,
            self._cold,
            # Of what reads streams, how far it is behind, beside what it gets done.
            *((self._lag, self._done) if np.isfinite(self.of("lag_s")).any() else ()),
        )

    def levels(self, panels: Sequence[Any]) -> None:
        self._instances(panels[0])
        limit = self.units[0].settings.limit if self.units else None
        # A limit far above all that happens would press that to the foot.
        if limit is not None and limit <= 20 * max(1.0, float(self.of("instances_peak").max())):
            panels[0].axhline(limit, color=INK, linestyle="--", linewidth=1.2, label="instance limit")
        panels[0].set_title("")
        panels[0].set_ylabel("most in the step")
        panels[0].legend(frameon=False, loc="upper left", ncols=3)
        self._trouble(panels[1])
        panels[1].set_title("")
        panels[1].set_ylabel("throttled, failed")

    def backlog(self, panels: Sequence[Any]) -> None:
        self._backlog(panels[0])
        panels[0].set_title("")
        panels[0].set_ylabel("most events waiting")
        self._step(panels[1], self.of("wait_p95_s"), 1, "p95", dash=1)
        panels[1].set_ylabel("wait of events that start:\np95 in the step (s)")

    def _step(self, panel: Any, values: Any, n: int, label: str, **how: Any) -> None:
        panel.step(
            self.times,
            values,
            where="post",
            color=COLOURS[n],
            linestyle=DASHES[how.pop("dash", 0)],
            linewidth=1.5,
            label=label,
        )

    def _named(self, panel: Any, what: str) -> None:
        panel.set_title(what, loc="left", fontsize=TEXT, color=INK)
        if len(panel.get_legend_handles_labels()[1]) > 1:
            panel.legend(
                frameon=False,
                loc="lower right",
                bbox_to_anchor=(1, 0.98),
                ncols=3,
                fontsize=SMALL,
                borderaxespad=0,
                handlelength=1.6,
            )

    def _calls(self, panel: Any) -> None:
        self._step(panel, self.of("arrivals") / self.length, 5, "events", dash=1)
        self._step(panel, self.of("started") / self.length, 0, "calls")
        self._named(panel, "events and calls a second")

    def _trouble(self, panel: Any) -> None:
        for n, (name, label) in enumerate(
            (("throttled", "throttled"), ("failed", "failed"), ("timed_out", "timed out"))
        ):
            values = self.of(name)
            # Throttling is always there, so that its absence is seen.
            if values.any() or not n:
                self._step(panel, values, (1, 3, 6)[n], label, dash=n)
        self._named(panel, "attempts a step")

    def _runs(self, panel: Any) -> None:
        # Of a step in which none ended nothing is drawn.
        ended_n = self.of("succeeded") + self.of("failed") + self.of("timed_out")
        busy = self.of("busy_s")
        mean = np.divide(busy, ended_n, out=np.full(len(busy), np.nan), where=ended_n > 0)
        self._step(panel, mean, 2, "mean")
        self._named(panel, "run time: time with runs / runs ended (s)")

    def _waits(self, panel: Any) -> None:
        model = self.window.loaded.model
        # Of requests what their callers see, which is the run as well.
        answered = any(t.from_.kind is SourceKind.ENDPOINTS and t.to == self.whose[0] for t in model.triggers)
        what = "latency" if answered else "wait"
        self._step(panel, self.of(f"{what}_p50_s"), 0, "p50")
        self._step(panel, self.of(f"{what}_p95_s"), 1, "p95", dash=1)
        said = "latency of requests (s)" if answered else "wait from arrival to start (s)"
        self._named(panel, said if self.whose[0] else f"longest {said}")

    def _instances(self, panel: Any) -> None:
        self._step(panel, self.of("instances_peak"), 0, "instances")
        self._step(panel, self.of("concurrency_peak"), 4, "calls in flight", dash=1)
        self._named(panel, "most at once" if self.whose[0] else "most at once, summed")

    def _memory(self, panel: Any) -> None:
        model, columns = self.window.loaded.model, self.window.stepped.columns
        given, used = np.zeros(len(self.times)), np.zeros(len(self.times))
        for n, unit in enumerate(self.window.stepped.units):
            if unit in self.units:
                given += columns["instances_peak"][n] * unit.settings.memory_mb / 1_024
                used += columns["concurrency_peak"][n] * model.functions[unit.function].used_mb / 1_024
        self._step(panel, given, 0, "given")
        self._step(panel, used, 2, "used by runs", dash=1)
        self._named(panel, "memory (GB)")

    def _backlog(self, panel: Any) -> None:
        values = self.of("backlog_peak")
        panel.fill_between(self.times, values, step="post", color=COLOURS[0], alpha=0.35, linewidth=0)
        self._step(panel, values, 0, "waiting")
        self._named(panel, "most events waiting")

    def _lag(self, panel: Any) -> None:
        self._step(panel, self.of("lag_s"), 1, "lag")
        what = "age of the oldest record not handled (s)"
        self._named(panel, what if self.whose[0] else f"longest {what}")

    def _done(self, panel: Any) -> None:
        self._step(panel, self.of("handled") / self.length, 2, "handled")
        if self.of("lost").any():
            self._step(panel, self.of("lost") / self.length, 1, "lost", dash=1)
        self._named(panel, "events handled a second")

    def _cold(self, panel: Any) -> None:
        self._step(panel, self.of("cold_starts"), 5, "cold starts")
        self._named(panel, "instances started cold, a step")


# -- waits and runs -----------------------------------------------------------------------------------------------
def waits_chart(projection: Projection, plan: PlayedPlan, form: str) -> bytes:
    """How long events wait and runs take: the share that is over by then, by function, on a logarithmic axis."""
    figure, panels = new_figure(2, (1, 1), share_x=False)
    waits, runs = _waited(plan), _ran(projection, plan)
    for panel, lines, what in zip(panels, (waits, runs), ("wait from arrival to start", "run time"), strict=True):
        for n, (_, x, y) in enumerate(lines):
            panel.step(x, y * 100, where="post", color=COLOURS[n], linestyle=DASHES[n], linewidth=1.7)
        panel.set_xscale("log")
        plain_x(panel)
        panel.set_xlabel(f"{what} (s)")
        panel.set_ylabel("% over by then")
        panel.set_ylim(0, 104)
        if lines:
            _direct(panel, lines)
    best = max(waits, key=lambda line: line[1][-1], default=None)
    worst = max(plan.units, key=lambda unit: unit.waits.p95 or 0.0)
    said = (
        f"On {plan.offer.name} events of {worst.unit.function} wait longest: p95 {seconds(worst.waits.p95)} s"
        if best and worst.waits.p95
        else f"On {plan.offer.name} nothing waits"
    )
    most = len({unit.unit.function for unit in plan.units})
    shown = f"the {_MOST_LINES} functions that wait longest" if most > _MOST_LINES else "all functions"
    titled(
        panels[0],
        said,
        f"{projection.model.estate.month}; above {shown}, below their run times as drawn, alone in an instance",
    )
    return picture(figure, form, source_of(projection.model, projection.seed))


_Curve = tuple[str, Any, Any]


def _waited(plan: PlayedPlan) -> list[_Curve]:
    """The share of events that had started after each wait, longest p95 first."""
    units = sorted((u for u in plan.units if u.waits.p95 is not None), key=lambda u: -(u.waits.p95 or 0.0))
    found: dict[str, _Curve] = {}
    for unit in units:
        sketch = unit.wait_sketch
        if unit.unit.function not in found and len(sketch.counts):
            # A logarithmic axis has no nothing: what does not wait stands at a millisecond.
            x = np.maximum(STARTS[sketch.places] / 1e9, 0.001)
            found[unit.unit.function] = (unit.unit.function, x, np.cumsum(sketch.counts) / sketch.counts.sum())
    return list(found.values())[:_MOST_LINES]


def _ran(projection: Projection, plan: PlayedPlan) -> list[_Curve]:
    names = [name for name, _, _ in _waited(plan)]
    # Run times are known beforehand, so they are drawn from the model and not from the sketch.
    x = np.geomspace(0.001, 3_600, 400)
    found = []
    for name in names:
        unit = next(u for u in plan.units if u.unit.function == name)
        y = np.array([1 - share_longer(projection.model.functions[name], unit.unit.offer.plan, at * 1e9) for at in x])
        found.append((name, x, y))
    if found:
        # What is over before the first and after the last of them is not shown.
        seen = np.flatnonzero([any(0.001 < y[n] < 0.999 for _, _, y in found) for n in range(len(x))])
        if len(seen):
            first, last = max(0, seen[0] - 1), min(len(x), seen[-1] + 2)
            found = [(name, x[first:last], y[first:last]) for name, x, y in found]
    return found


def _direct(panel: Any, lines: Sequence[_Curve]) -> None:
    """Names beside the panel in the order in which the lines reach their half, the slowest at the foot."""
    slow = sorted(
        range(len(lines)),
        key=lambda n: float(lines[n][1][min(len(lines[n][1]) - 1, int(np.searchsorted(lines[n][2], 0.5)))]),
    )
    steps = np.linspace(98, 4, len(lines)) if len(lines) > 1 else [50.0]
    ended(panel, [(float(at), lines[n][0], COLOURS[n]) for at, n in zip(steps, slow, strict=True)])


# -- edges --------------------------------------------------------------------------------------------------------
def edges_chart(projection: Projection, plan: PlayedPlan, form: str) -> bytes:
    """How near the month is to each allowance, limit and target: a bar a gauge, full at the edge (rule 10.3)."""
    # Sixteen bars can be read on one page.
    edges = sorted(plan.edges or (), key=lambda edge: -edge.used_share)[:16]
    figure, (panel,) = new_figure()
    panel.grid(False, axis="y")
    for n, edge in enumerate(edges):
        share = edge.used_share
        over = share > 1
        panel.barh(
            n,
            min(share, 1.6),
            color=COLOURS[1] if over else COLOURS[0],
            height=0.62,
            hatch="///" if over else "",
            edgecolor="white",
        )
        reached = "" if edge.reached_at_times is None else f", reached at {edge.reached_at_times:,.3g} x today's demand"
        panel.annotate(f" {share:,.0%}{reached}", (min(share, 1.6), n), va="center", fontsize=10)
    panel.axvline(1, color="#1a1a1a", linewidth=1.4)
    names = [f"{edge.what}" + (f" of {edge.function}" if edge.function else "") for edge in edges]
    panel.set_yticks(range(len(edges)), [name.replace("_", " ") for name in names])
    panel.invert_yaxis()
    panel.set_xlim(0, 2.2)
    panel.set_xlabel("share used; 1 is the edge")
    from matplotlib.ticker import PercentFormatter

    panel.xaxis.set_major_formatter(PercentFormatter(1.0))
    passed = [edge for edge in edges if edge.used_share > 1]
    near = edges[0] if edges else None
    said = (
        f"On {plan.offer.name} {len(passed)} edges are passed" if passed else f"On {plan.offer.name} no edge is passed"
    )
    if near is not None and not passed:
        said += f"; the nearest is {names[0].replace('_', ' ')}, {near.used_share:.0%} used"
    titled(panel, said, f"Allowances, limits and targets of {projection.model.estate.month}, the fullest first")
    return picture(figure, form, source_of(projection.model, projection.seed))
