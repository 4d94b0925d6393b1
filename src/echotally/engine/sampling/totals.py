"""What a world has counted between two instants, and a month put together from such readings, each weighed."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from echotally.demand.month import MonthPlan
from echotally.engine import codes, layout
from echotally.engine.build import Built
from echotally.engine.reading import Measured, assemble
from echotally.engine.sampling.knowing import Loss
from echotally.engine.sketch import WIDTHS, bins_of

_HOUR = 3_600 * 10**9
#: Of a unit: counters, integrals over the whole month, and maxima; the first two add up over stretches of time.
COUNTS = (
    "succeeded",
    "failed",
    "timed_out",
    "throttled",
    "calls",
    "started",
    "cold_starts",
    "handled",
    "errored",
    "rejected",
    "lost",
    "dead_lettered",
    "expired",
    "too_large",
    "skipped",
    "cut_requests",
    "duplicates",
    "billed_ns",
    "busy_ns",
    "requests",
    "replies",
)
INTEGRALS = ("life_ns", "idle_floor_ns", "at_limit_ns", "lag_zero")
_SUMS = (*COUNTS, *INTEGRALS)
#: How events end; ``ev_left`` is what remains.
ENDINGS = ("handled", "errored", "rejected", "lost", "dead_lettered", "expired", "too_large", "skipped")
MAXIMA = ("level_peak", "count_peak", "wait_max", "latency_max", "backlog_peak", "lag_max", "longest_run")
#: Maxima and sketches that a lane kept full by hand has spoilt: what is known of its ages stands in their place.
_SPOILT_MAXIMA = ("wait_max", "latency_max", "backlog_peak", "lag_max")
_SOURCE_COUNTS = ("arrived", "ended", "sends", "receives", "deletes")
_SOURCE_SUMS = (*_SOURCE_COUNTS, "idle_ns")
SKETCHES = ("wait_bins", "latency_bins", "level_bins", "count_bins", "lag_bins")
_PIECES = 16


class Reading:
    """What a world has counted up to an instant, what goes on included."""

    def __init__(self, built: Built) -> None:
        w = built.world
        self.unit = {name: layout.wide_floats(w.units, name) for name in _SUMS}
        self.unit["arrived"] = w.series[:, :, 0].sum(axis=1)
        self.source = {name: w.sources[name].astype(float) for name in _SOURCE_SUMS}
        self.put = {"sent": w.edges["sent"].astype(float), "letters": w.triggers["letters"].astype(float)}
        self.sketch = {name: getattr(w, name).astype(float) for name in SKETCHES}
        self.nodes = layout.wide_floats(w.accounts, "node_hours_ns")
        self.maxima = {name: w.units[name].copy() for name in MAXIMA}
        self.peak = int(w.clock[0]["level_peak"])
        self.played = int(w.clock[0]["number"])
        self._add_what_goes_on(w, len(built.units))

    def _add_what_goes_on(self, w: Any, units: int) -> None:
        """Lives and active periods that have begun count up to now."""
        alive = w.instances[
            (w.instances["state"] != codes.ABSENT) & (w.instances["unit"] >= 0) & (w.instances["unit"] < units)
        ]
        now = w.clock[0]["now"]
        np.add.at(self.unit["life_ns"], alive["unit"], (now - alive["created"]).astype(float))
        active = alive[alive["active_since"] >= 0]
        by_activity = w.units["bills"][active["unit"]] == 1
        np.add.at(
            self.unit["billed_ns"],
            active["unit"][by_activity],
            (now - active["active_since"][by_activity]).astype(float),
        )

    def since(self, before: Reading) -> Span:
        """What came between an earlier reading and this one."""
        return Span(
            {name: self.unit[name] - before.unit[name] for name in self.unit},
            {name: self.source[name] - before.source[name] for name in self.source},
            {name: self.put[name] - before.put[name] for name in self.put},
            {name: _sparse(self.sketch[name] - before.sketch[name]) for name in self.sketch},
            nodes=self.nodes - before.nodes,
            maxima=self.maxima,
            peak=self.peak,
        )


def _sparse(bins: NDArray[np.float64]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Places (of the flattened sketch) and values of the bins that hold something: few of thousands do."""
    flat = bins.ravel()
    places = np.flatnonzero(flat)
    return places, flat[places]


class Span:
    """The counts of a stretch of time, by unit, source and sketch (sparse), and the maxima up to its end."""

    def __init__(
        self,
        unit: dict[str, Any],
        source: dict[str, Any],
        put: dict[str, Any],
        sketch: dict[str, Any],
        *,
        nodes: Any,
        maxima: dict[str, Any],
        peak: int,
    ) -> None:
        self.unit, self.source, self.put, self.sketch = unit, source, put, sketch
        self.nodes, self.maxima, self.peak = nodes, maxima, peak

    def without_lanes_kept_full(self, units: set[int]) -> Span:
        """The same, with nothing of the ages of events that were laid into full lanes of these units."""
        rows = sorted(units)
        for name in _SPOILT_MAXIMA:
            self.maxima[name] = self.maxima[name].copy()
            self.maxima[name][rows] = 0
        places, values = self.sketch["lag_bins"]
        kept = ~np.isin(places // (2 * layout.WAIT_BINS), rows)
        self.sketch["lag_bins"] = places[kept], values[kept]
        self.unit["lag_zero"][rows] = 0
        return self


class Total:
    """A month in the making: weighed sums of spans, laid out like a finished world."""

    def __init__(self, built: Built, month: MonthPlan) -> None:
        first = Reading(built)
        self.built = built
        self.unit = {name: np.zeros_like(values) for name, values in first.unit.items()}
        self.source = {name: np.zeros_like(values) for name, values in first.source.items()}
        self.put = {name: np.zeros_like(values) for name, values in first.put.items()}
        self.sketch = {name: np.zeros_like(values) for name, values in first.sketch.items()}
        self.nodes = np.zeros_like(first.nodes)
        self.maxima = {name: np.zeros_like(values) for name, values in first.maxima.items()}
        self.left = np.zeros(len(built.units))
        self.peak = 0
        self.series = np.zeros((len(built.units), -(-month.clock.length_ns // _HOUR), len(layout.SERIES)))

    def add(self, span: Span, weight: float) -> None:
        """Add a span, ``weight`` times."""
        for mine, name in ((self.unit, "unit"), (self.source, "source"), (self.put, "put")):
            for key, values in mine.items():
                values += weight * getattr(span, name)[key]
        for key, sketch in self.sketch.items():
            places, values = span.sketch[key]
            sketch.reshape(-1)[places] += weight * values
        self.nodes += weight * span.nodes
        for key, values in self.maxima.items():
            np.maximum(values, span.maxima[key], out=values)
        self.peak = max(self.peak, span.peak)

    def add_apart(self, span: Span) -> None:
        """Add what else happened in the same month: counts, and time only of units that did nothing so far."""
        alone = self.unit["started"] == 0
        for name in (*COUNTS, "arrived"):
            self.unit[name] += span.unit[name]
        for name in _SOURCE_COUNTS:
            self.source[name] += span.source[name]
        for name, values in self.put.items():
            values += span.put[name]
        for name in INTEGRALS:
            self.unit[name][alone] = span.unit[name][alone]
        for name in ("wait_bins", "latency_bins"):
            places, values = span.sketch[name]
            self.sketch[name].reshape(-1)[places] += values
        rows = np.flatnonzero(alone)
        for name in ("level_bins", "count_bins"):
            self.sketch[name][rows] = 0
            places, values = span.sketch[name]
            kept = np.isin(places // layout.LEVEL_BINS, rows)
            self.sketch[name].reshape(-1)[places[kept]] += values[kept]
        self.nodes = np.maximum(self.nodes, span.nodes)
        for key, values in self.maxima.items():
            values += np.where(alone, span.maxima[key] - values, 0)

    def add_hours(self, span: Span, hour: int, weight: float) -> None:
        """A span's part of an hour of the series: arrivals and throttled attempts, peaks."""
        self.series[:, hour, 0] += span.unit["arrived"] * weight
        self.series[:, hour, 1] += span.unit["throttled"] * weight
        for column, name in ((2, "level_peak"), (3, "count_peak"), (4, "backlog_peak")):
            np.maximum(self.series[:, hour, column], span.maxima[name], out=self.series[:, hour, column])

    def add_waits(self, unit: int, counts: Any, low_ns: Any, high_ns: Any, run_ns: float) -> None:
        """Events of a unit that waited between ``low_ns`` and ``high_ns``, evenly spread, and then ran ``run_ns``."""
        shares = (np.arange(_PIECES) + 0.5) / _PIECES
        waits = np.rint(np.add.outer(low_ns, np.zeros(_PIECES)) + np.outer(high_ns - low_ns, shares)).ravel()
        each = np.repeat(counts / _PIECES, _PIECES)
        for name, more in (("wait_bins", 0.0), ("latency_bins", run_ns)):
            place, into = bins_of((waits + more).astype(np.int64))
            np.add.at(self.sketch[name][unit, 0], place, each)
            np.add.at(self.sketch[name][unit, 1], place, each * into)
        longest = int(high_ns.max(initial=0))
        self.maxima["wait_max"][unit] = max(self.maxima["wait_max"][unit], longest)
        self.maxima["latency_max"][unit] = max(self.maxima["latency_max"][unit], longest + int(run_ns))

    def add_lag(self, unit: int, lasted_ns: Any, low_ns: Any, high_ns: Any) -> None:
        """A unit's oldest record was between ``low_ns`` and ``high_ns`` old, rising or falling evenly, for a time."""
        shares = (np.arange(_PIECES) + 0.5) / _PIECES
        ages = np.rint(np.add.outer(low_ns, np.zeros(_PIECES)) + np.outer(high_ns - low_ns, shares)).ravel()
        place, _ = bins_of(ages.astype(np.int64))
        np.add.at(self.sketch["lag_bins"][unit, 0], place, np.repeat(lasted_ns / _PIECES, _PIECES))
        self.maxima["lag_max"][unit] = max(
            self.maxima["lag_max"][unit], int(high_ns.max(initial=0)), int(low_ns.max(initial=0))
        )

    def knows(self, losses: Mapping[str, Loss]) -> None:
        """Put what is expected of losses whose chance is known in place of what was sampled of them."""
        for n, unit in enumerate(self.built.units):
            loss = losses.get(unit.function)
            if loss is None:
                continue
            lost, other = ("dead_lettered", "lost") if loss.dead_letter else ("lost", "dead_lettered")
            tried = self.unit["handled"][n] + self.unit["dead_lettered"][n] + self.unit["lost"][n]
            self.unit[lost][n], self.unit[other][n] = tried * loss.chance, 0.0
            self.unit["handled"][n] = tried - self.unit[lost][n]

    @staticmethod
    def mean(parts: list[Total]) -> Total:
        """The mean of several estimates; the largest of their maxima."""
        found = parts[0]
        whole = Total.__new__(Total)
        whole.built = found.built
        for name in ("unit", "source", "put", "sketch"):
            setattr(
                whole, name, {k: sum(getattr(p, name)[k] for p in parts) / len(parts) for k in getattr(found, name)}
            )
        whole.nodes = sum((p.nodes for p in parts), np.zeros_like(found.nodes)) / len(parts)
        whole.left = sum((p.left for p in parts), np.zeros_like(found.left)) / len(parts)
        whole.series = sum((p.series for p in parts), np.zeros_like(found.series)) / len(parts)
        whole.maxima = {k: np.maximum.reduce([p.maxima[k] for p in parts]) for k in found.maxima}
        whole.peak = max(p.peak for p in parts)
        return whole

    def measured(self, model: Any, month: MonthPlan) -> Measured:
        """The estimate as a measured month: whole counts whose sums hold."""
        w = self.built.world
        units, sources, accounts, clock = w.units.copy(), w.sources.copy(), w.accounts.copy(), w.clock.copy()
        for name in _SUMS:
            layout.set_wide(units, name, self.unit[name])
        for name, values in self.maxima.items():
            units[name] = values
        units["in_flight"] = units["flying"] = 0
        # What is in a steady stretch when it ends would have ended in the next: only carried work is left at the end.
        units["unfinished"] = np.rint(self.left)
        units["attempts"] = units["succeeded"] + units["failed"] + units["timed_out"] + units["throttled"]
        units["started"] = units["attempts"] - units["throttled"]
        for name, values in self.source.items():
            sources[name] = np.rint(values)
        edges, triggers = w.edges.copy(), w.triggers.copy()
        edges["sent"], triggers["letters"] = np.rint(self.put["sent"]), np.rint(self.put["letters"])
        layout.set_wide(accounts, "node_hours_ns", self.nodes)
        clock[0]["horizon"], clock[0]["level_peak"] = month.clock.length_ns, self.peak
        _spread_lag(self.sketch["lag_bins"])
        sketches = {name: np.rint(values).astype(np.int64) for name, values in self.sketch.items()}
        world = w._replace(
            units=units,
            sources=sources,
            accounts=accounts,
            clock=clock,
            edges=edges,
            triggers=triggers,
            series=self.series,
            **sketches,
        )
        return assemble(model, self.built, world)


def _spread_lag(lag: NDArray[np.float64]) -> None:
    """Write the second row (rises that passed a bin whole, as steps) out as time, while it is not rounded yet."""
    for rows in lag:
        rows[0] += np.maximum(0.0, np.cumsum(rows[1])) * WIDTHS
        rows[1] = 0


def forget_maxima(w: Any) -> None:
    """Peaks of the warm-up are not the month's."""
    w.units["level_peak"], w.units["count_peak"], w.units["backlog_peak"] = (
        w.units["in_flight"],
        w.units["count"],
        w.units["waiting"],
    )
    w.units["wait_max"] = w.units["latency_max"] = w.units["lag_max"] = 0
    w.clock[0]["level_peak"] = w.clock[0]["in_flight"]
