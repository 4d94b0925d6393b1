"""The sampled month: a stretch of each group of hours is played and weighed, surges and lumps in full.

Why it exists: past some ten million attempts every event more only confirms what is known. This is stratified
sampling (Cochran, "Sampling Techniques", 3rd ed. 1977, chapter 5). Each stretch is read in ``PARTS`` parts; the
month estimated from each part alone gives the spread the interval is made of (batch means, Law and Kelton,
"Simulation Modeling and Analysis", section 9.5).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import timedelta
from typing import Any

import numpy as np

from echotally.demand.clock import MonthClock
from echotally.demand.month import MonthPlan
from echotally.engine import records as r
from echotally.engine.build import Built, stream_seed
from echotally.engine.measured import Measured, assemble
from echotally.engine.running import begun, play
from echotally.engine.strata import Window, cut_month, schedules_alone
from echotally.model.estate import Model
from echotally.rates.loading import Offer

#: Expected events from which the month is sampled (design section 5).
SAMPLED_FROM = 20_000_000
PARTS = 4
_HOUR = 3_600 * 10**9
#: Of a unit: counters, integrals over the whole month, and maxima; the first two add up over stretches of time.
_COUNTS = (
    "succeeded", "failed", "timed_out", "throttled", "calls", "started", "cold_starts", "ev_ok", "ev_errored",
    "ev_rejected", "ev_lost", "ev_dead", "ev_expired", "ev_large", "ev_skipped", "duplicates", "billed_ns", "busy_ns",
    "requests", "replies",
)  # fmt: skip
_INTEGRALS = ("life_ns", "idle_floor_ns", "at_limit_ns", "lag_zero")
_SUMS = (*_COUNTS, *_INTEGRALS)
_MAXIMA = ("conc_peak", "inst_peak", "wait_max", "late_max", "backlog_peak", "lag_max")
_SOURCE_COUNTS = ("arrived", "sends", "receives", "deletes")
_SOURCE_SUMS = (*_SOURCE_COUNTS, "idle_ns")
_SKETCHES = ("h_wait", "h_late", "h_conc", "h_inst", "h_lag")


def wants_sampling(month: MonthPlan, above: int | None = None) -> bool:
    """Whether the month expects so many events that it is sampled (``above``: a bound of one's own)."""
    return sum(tap.expected for tap in month.taps) > (SAMPLED_FROM if above is None else above)


def sample(
    model: Model,
    month: MonthPlan,
    placement: Mapping[str, Offer],
    seed: int,
    progress: Callable[[float], None] | None = None,
) -> tuple[Measured, list[Measured]]:
    """The month estimated from a sample, and ``PARTS`` estimates, each from a part of the sample alone.

    Schedules are played over the whole month, but apart from the rest: they do not compete with it for room.
    """
    windows = cut_month(model, month, placement)
    quiet = _without_backlog(model)
    parts: list[_Total] = []
    for number, window in enumerate(windows):
        plan = _plan_of(month, window)
        built = begun(model if window.backlog else quiet, plan, placement, stream_seed(seed, f"window {number}"))
        parts = parts or [_Total(built, month) for _ in range(PARTS)]
        _play_in_parts(built, window, parts)
        if progress:
            progress((number + 1) / (len(windows) + 1))
    _play_schedules(begun(quiet, schedules_alone(month), placement, seed), parts)
    return _Total.mean(parts).measured(model, month), [part.measured(model, month) for part in parts]


def _without_backlog(model: Model) -> Model:
    queues = {name: queue.model_copy(update={"backlog": 0}) for name, queue in model.queues.items()}
    return model.model_copy(update={"queues": queues})


def _plan_of(month: MonthPlan, window: Window) -> MonthPlan:
    """A month that lasts as long as the window, to the next microsecond and a little more."""
    length = window.warm_ns + window.length_ns
    end = month.clock.start + timedelta(microseconds=length // 1_000 + 1)
    return MonthPlan(MonthClock(month.clock.month, month.clock.zone, month.clock.start, end), window.taps, {}, ())


def _play_in_parts(built: Built, window: Window, parts: list[_Total]) -> None:
    """Warm up, then read the window part by part; a window played in full counts for each estimate as a whole."""
    if window.warm_ns:
        play(built, window.warm_ns)
    _forget_maxima(built.world)
    before = start = _Reading(built)
    for number, part in enumerate(parts, 1):
        play(built, window.warm_ns + window.length_ns * number // len(parts))
        after = _Reading(built)
        if window.weight > 1:
            part.add(before, after, window.weight * len(parts))
            part.add_hours(before, after, window, window.length_ns / len(parts))
        before = after
    if window.weight <= 1:
        for part in parts:
            part.add(start, before, 1.0)
            part.add_hours(start, before, window, float(window.length_ns))


def _forget_maxima(w: Any) -> None:
    """Peaks of the warm-up are not the month's."""
    w.fn["conc_peak"], w.fn["inst_peak"], w.fn["backlog_peak"] = w.fn["in_flight"], w.fn["count"], w.fn["waiting"]
    w.fn["wait_max"] = w.fn["late_max"] = w.fn["lag_max"] = 0
    w.ck[0]["peak"] = w.ck[0]["in_flight"]


def _play_schedules(built: Built, parts: list[_Total]) -> None:
    """All schedules over the whole month, on top of the rest."""
    start = _Reading(built)
    play(built)
    end = _Reading(built)
    for part in parts:
        part.add_counts(start, end)


class _Reading:
    """What a world has counted up to an instant, what goes on included."""

    def __init__(self, built: Built) -> None:
        w = built.world
        self.unit = {name: w.fn[name].astype(float) for name in _SUMS}
        self.unit["arrived"] = w.series[:, :, 0].sum(axis=1)
        self.source = {name: w.so[name].astype(float) for name in _SOURCE_SUMS}
        self.sketch = {name: getattr(w, name).astype(float) for name in _SKETCHES}
        self.nodes = w.ac["node_hours_ns"].astype(float)
        self.maxima = {name: w.fn[name].copy() for name in _MAXIMA}
        self.peak = int(w.ck[0]["peak"])
        self._add_what_goes_on(w, len(built.units))

    def _add_what_goes_on(self, w: Any, units: int) -> None:
        """Lives and active periods that have begun count up to now."""
        alive = w.ins[(w.ins["alive"] != r.ABSENT) & (w.ins["unit"] >= 0) & (w.ins["unit"] < units)]
        now = w.ck[0]["now"]
        np.add.at(self.unit["life_ns"], alive["unit"], (now - alive["created"]).astype(float))
        active = alive[alive["active_since"] >= 0]
        by_activity = w.fn["bills"][active["unit"]] == 1
        np.add.at(
            self.unit["billed_ns"],
            active["unit"][by_activity],
            (now - active["active_since"][by_activity]).astype(float),
        )


class _Total:
    """A month in the making: weighed sums of readings, laid out like a finished world."""

    def __init__(self, built: Built, month: MonthPlan) -> None:
        first = _Reading(built)
        self.built = built
        self.unit = {name: np.zeros_like(values) for name, values in first.unit.items()}
        self.source = {name: np.zeros_like(values) for name, values in first.source.items()}
        self.sketch = {name: np.zeros_like(values) for name, values in first.sketch.items()}
        self.nodes = np.zeros_like(first.nodes)
        self.maxima = {name: np.zeros_like(values) for name, values in first.maxima.items()}
        self.peak, self.steps = 0, 0
        self.series = np.zeros((len(built.units), -(-month.clock.length_ns // _HOUR), len(r.SERIES)))

    def add(self, before: _Reading, after: _Reading, weight: float) -> None:
        """Add what came between two readings, ``weight`` times."""
        for mine, name in ((self.unit, "unit"), (self.source, "source"), (self.sketch, "sketch")):
            for key, values in mine.items():
                values += weight * (getattr(after, name)[key] - getattr(before, name)[key])
        self.nodes += weight * (after.nodes - before.nodes)
        for key, values in self.maxima.items():
            np.maximum(values, after.maxima[key], out=values)
        self.peak = max(self.peak, after.peak)

    def add_counts(self, before: _Reading, after: _Reading) -> None:
        """Add what else happened in the same month: counts, and time only of units that did nothing so far."""
        alone = self.unit["started"] == 0
        for name in (*_COUNTS, "arrived"):
            self.unit[name] += after.unit[name] - before.unit[name]
        for name in _SOURCE_COUNTS:
            self.source[name] += after.source[name] - before.source[name]
        for name in _INTEGRALS:
            self.unit[name][alone] = (after.unit[name] - before.unit[name])[alone]
        for name in ("h_wait", "h_late"):
            self.sketch[name] += after.sketch[name] - before.sketch[name]
        rows = np.flatnonzero(alone)
        for name in ("h_conc", "h_inst"):
            self.sketch[name][rows] = (after.sketch[name] - before.sketch[name])[rows]
        self.nodes = np.maximum(self.nodes, after.nodes - before.nodes)
        for key, values in self.maxima.items():
            values += np.where(alone, after.maxima[key] - values, 0)

    def add_hours(self, before: _Reading, after: _Reading, window: Window, read_ns: float) -> None:
        """The hours a window stands for: its arrivals and throttled attempts an hour, its peaks."""
        if not window.hours:
            return
        hours = list(window.hours)
        arrived = after.unit["arrived"] - before.unit["arrived"]
        throttled = after.unit["throttled"] - before.unit["throttled"]
        self.series[:, hours, 0] = (arrived * _HOUR / read_ns)[:, None]
        self.series[:, hours, 1] = (throttled * _HOUR / read_ns)[:, None]
        for column, name in ((2, "conc_peak"), (3, "inst_peak"), (4, "backlog_peak")):
            self.series[:, hours, column] = after.maxima[name][:, None]

    @staticmethod
    def mean(parts: list[_Total]) -> _Total:
        """The mean of several estimates; the largest of their maxima."""
        found = parts[0]
        whole = _Total.__new__(_Total)
        whole.built, whole.steps = found.built, found.steps
        for name in ("unit", "source", "sketch"):
            setattr(
                whole, name, {k: sum(getattr(p, name)[k] for p in parts) / len(parts) for k in getattr(found, name)}
            )
        whole.nodes = sum((p.nodes for p in parts), np.zeros_like(found.nodes)) / len(parts)
        whole.series = sum((p.series for p in parts), np.zeros_like(found.series)) / len(parts)
        whole.maxima = {k: np.maximum.reduce([p.maxima[k] for p in parts]) for k in found.maxima}
        whole.peak = max(p.peak for p in parts)
        return whole

    def measured(self, model: Model, month: MonthPlan) -> Measured:
        """The estimate as a measured month: whole counts whose sums hold."""
        w = self.built.world
        fn, so, ac, ck = w.fn.copy(), w.so.copy(), w.ac.copy(), w.ck.copy()
        for name in _SUMS:
            fn[name] = np.rint(self.unit[name])
        for name, values in self.maxima.items():
            fn[name] = values
        fn["in_flight"] = 0
        # What arrives and does not end in a stretch would be left at the month's end.
        ended = sum((fn[name] for name in _COUNTS if name.startswith("ev_")), np.zeros(len(fn), np.int64))
        fn["ev_left"] = np.maximum(0, np.rint(self.unit["arrived"]).astype(np.int64) - ended)
        fn["attempts"] = fn["succeeded"] + fn["failed"] + fn["timed_out"] + fn["throttled"]
        fn["started"] = fn["attempts"] - fn["throttled"]
        for name, values in self.source.items():
            so[name] = np.rint(values)
        ac["node_hours_ns"] = np.rint(self.nodes)
        ck[0]["horizon"], ck[0]["peak"] = month.clock.length_ns, self.peak
        sketches = {name: np.rint(values).astype(np.int64) for name, values in self.sketch.items()}
        world = w._replace(fn=fn, so=so, ac=ac, ck=ck, series=self.series, **sketches)
        return assemble(model, self.built, world)
