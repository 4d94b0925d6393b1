"""What a world has counted between two instants, and a month put together from such readings, each weighed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from echotally.engine import codes, layout
from echotally.engine.build import Built
from echotally.engine.counted import Counted
from echotally.engine.hourly import Hourly
from echotally.engine.layout import events_so_far
from echotally.engine.reading import ENDINGS, Measured, assemble
from echotally.engine.sampling.knowing import Loss
from echotally.engine.sampling.sparse import Floats, Records, Sparse, Sum, summed
from echotally.engine.sampling.sums import (
    Maxima,
    Put,
    Sketches,
    SourceCounts,
    SourceTimes,
    UnitCounts,
    UnitTimes,
    mean,
    no_sketches,
    read_put,
    read_sums,
    take_sketches,
    write_sums,
)
from echotally.engine.sketch import WIDTHS, ManyWaits, WaitsMade, bins_of

_HOUR = 3_600 * 10**9
_PIECES = 16
_PEAKS = (codes.IN_FLIGHT_PEAK, codes.COUNT_PEAK, codes.BACKLOG_PEAK)


class Span(Struct):
    """The counts of a stretch of time, by unit, source and sketch (``Sparse``), and the maxima up to its end.

    ``arrived`` are events by unit, ``nodes`` node time by account, ns, ``peak`` the most calls in flight in all.
    """

    unit: UnitCounts
    times: UnitTimes
    arrived: Floats
    source: SourceCounts
    source_times: SourceTimes
    put: Put
    sketch: Sketches
    nodes: Floats
    maxima: Maxima
    peak: int

    def forget_waits(self, units: set[int]) -> None:
        """Forget how long these units' events waited and took: ``add_waits`` puts in what is known of all of them."""
        rows, sketch = sorted(units), self.sketch
        for name in ("wait_bins", "latency_bins"):
            bins = getattr(sketch, name)
            setattr(sketch, name, bins.kept(~np.isin(bins.records, rows)))

    def without_lanes_kept_full(self, units: set[int]) -> Span:
        """The same, with nothing of the ages of events that were laid into full lanes of these units."""
        rows = sorted(units)
        self.maxima.forget_ages(rows)
        lag = self.sketch.lag_bins
        # What was laid in to keep a lane full has ages of nobody's; ``add_lag`` puts in those that are known.
        self.sketch.lag_bins = lag.kept(~np.isin(lag.records, rows))
        self.times.lag_zero[rows] = 0
        return self


class Reading(Span):
    """What a world has counted up to an instant, what goes on included; its sketches hold what came since the last reading.

    ``played`` are the events it has played. ``sketch``: what stands for its sketches, which then are not looked at.
    """

    played: int

    @classmethod
    def of(cls, built: Built, sketch: Sketches | None = None) -> Reading:
        """What the world has counted up to now."""
        w = built.world
        hours = int(w.clock[0]["now"]) // _HOUR + 1
        found = cls(
            unit=read_sums(UnitCounts, w.units),
            times=read_sums(UnitTimes, w.units),
            arrived=w.series[:hours, :, codes.ARRIVALS].sum(axis=0),
            source=read_sums(SourceCounts, w.sources),
            source_times=read_sums(SourceTimes, w.sources),
            put=read_put(w),
            sketch=sketch or take_sketches(w),
            nodes=layout.wide_floats(w.accounts, "node_hours_ns"),
            maxima=Maxima.of(w),
            peak=int(w.clock[0]["level_peak"]),
            played=events_so_far(w),
        )
        found._add_what_goes_on(w, len(built.units))
        return found

    def _add_what_goes_on(self, w: layout.World, units: int) -> None:
        """Lives and active periods that have begun count up to now."""
        alive = w.instances[
            (w.instances["state"] != codes.ABSENT) & (w.instances["unit"] >= 0) & (w.instances["unit"] < units)
        ]
        now = w.clock[0]["now"]
        np.add.at(self.times.life_ns, alive["unit"], (now - alive["created"]).astype(float))
        active = alive[alive["active_since"] >= 0]
        by_activity = w.units["bills"][active["unit"]] == codes.ACTIVE
        np.add.at(
            self.unit.billed_ns,
            active["unit"][by_activity],
            (now - active["active_since"][by_activity]).astype(float),
        )

    def since(self, before: Reading) -> Span:
        """What came between the reading before this one and this."""
        return Span(
            self.unit.less(before.unit),
            self.times.less(before.times),
            self.arrived - before.arrived,
            self.source.less(before.source),
            self.source_times.less(before.source_times),
            self.put.less(before.put),
            self.sketch,
            nodes=self.nodes - before.nodes,
            maxima=self.maxima,
            peak=self.peak,
        )


#: A function that has as many instances as it may for so much of the time lacks no other's room.
_MOSTLY = 0.9


class Total(Span):
    """A month in the making: weighed sums of spans (each sketch a ``Sum``), and what they say by hour.

    ``left`` is what is unfinished at the end, by unit; ``series`` (units, hours, columns) becomes ``hours`` (``gives_its_hours``).
    """

    built: Built
    length_ns: int
    left: Floats
    series: NDArray[np.float64]
    hours: Hourly = field(default_factory=lambda: Hourly(()))

    @classmethod
    def nothing(cls, built: Built, length_ns: int) -> Total:
        """Nothing so far, of a month of ``length_ns``."""
        first = Reading.of(built)
        units = len(built.units)
        return cls(
            first.unit.empty(),
            first.times.empty(),
            np.zeros_like(first.arrived),
            first.source.empty(),
            first.source_times.empty(),
            first.put.empty(),
            first.sketch.alike(lambda sketch: Sum(sketch.shape)),
            np.zeros_like(first.nodes),
            first.maxima.empty(),
            0,
            built,
            length_ns,
            np.zeros(units),
            np.zeros((units, -(-length_ns // _HOUR), len(layout.SERIES))),
        )

    def add(self, span: Span, weight: float) -> None:
        """Add a span, ``weight`` times."""
        self.unit.gains(span.unit, weight)
        self.times.gains(span.times, weight)
        self.arrived += weight * span.arrived
        self.source.gains(span.source, weight)
        self.source_times.gains(span.source_times, weight)
        self.put.gains(span.put, weight)
        for bins, more in self.sketch.pairs(span.sketch):
            bins.add(more, weight)
        self.nodes += weight * span.nodes
        self.maxima.rises(span.maxima)
        self.peak = max(self.peak, span.peak)

    def add_apart(self, span: Span, still: Span | None) -> None:
        """Add what else happened in the same month: counts, and time only of units that did nothing so far.

        ``still`` is the month in which nothing comes, where the clock brings something: what floors and releases start is in the
        month so far already.
        """
        alone = self.unit.started == 0
        self.unit.gains(span.unit if still is None else span.unit.less(still.unit))
        self.unit.cold_starts[alone] = span.unit.cold_starts[alone]
        self.arrived += span.arrived
        self.source.gains(span.source)
        self.put.gains(span.put)
        for time, more in self.times.pairs(span.times):
            time[alone] = more[alone]
        self.sketch.wait_bins.add(span.sketch.wait_bins)
        self.sketch.latency_bins.add(span.sketch.latency_bins)
        self.sketch.request_bins.add(span.sketch.request_bins)
        self.sketch.charge_bins.add(span.sketch.charge_bins)
        rows = np.flatnonzero(alone)
        for bins, more in (
            (self.sketch.level_bins, span.sketch.level_bins),
            (self.sketch.count_bins, span.sketch.count_bins),
        ):
            bins.empties(rows)
            bins.add(more.kept(np.isin(more.records, rows)))
        self.nodes = np.maximum(self.nodes, span.nodes)
        for most, its in self.maxima.pairs(span.maxima):
            most += np.where(alone, its - most, 0)

    def add_hours(self, spans: Sequence[Span], which: Any, hours: Any, weights: Any) -> None:
        """Spans' parts of hours of the series, in the order of time: arrivals and throttled attempts, peaks.

        ``which`` numbers the span of each, ``hours`` its hour and ``weights`` how often it is counted: arrays of equal length.
        """
        counts = np.array([(span.arrived, span.unit.throttled) for span in spans])
        peaks = np.array([(s.maxima.level_peak, s.maxima.count_peak, s.maxima.backlog_peak) for s in spans])
        nth = np.arange(len(hours)) - np.searchsorted(hours, hours)
        # Hour by hour at once, and what an hour has of several spans one after the other: sums are rounded as one by one.
        for n in range(int(nth.max(initial=-1)) + 1):
            now = nth == n
            span, hour, weight = which[now], hours[now], weights[now]
            for column, its in zip((codes.ARRIVALS, codes.THROTTLES), counts.swapaxes(0, 1), strict=True):
                self.series[:, hour, column] += (its[span] * weight[:, None]).T
            for column, most in zip(_PEAKS, peaks.swapaxes(0, 1), strict=True):
                self.series[:, hour, column] = np.maximum(self.series[:, hour, column], most[span].T)

    def add_waits(self, unit: int, counts: Any, low_ns: Any, high_ns: Any, run_ns: float) -> None:
        """Events of a unit that waited between ``low_ns`` and ``high_ns``, evenly spread, and then ran ``run_ns``."""
        shares = (np.arange(_PIECES) + 0.5) / _PIECES
        waits = np.rint(np.add.outer(low_ns, np.zeros(_PIECES)) + np.outer(high_ns - low_ns, shares)).ravel()
        # Evenly over the ages, in a few pieces each: the sketch has bins, not points.
        each = np.repeat(counts / _PIECES, _PIECES)
        for bins, more in ((self.sketch.wait_bins, 0.0), (self.sketch.latency_bins, run_ns)):
            place, into = bins_of((waits + more).astype(np.int64))
            bins.add_to_row((unit, 0), place, each)
            bins.add_to_row((unit, 1), place, each * into)
        longest, most = int(high_ns.max(initial=0)), self.maxima
        most.wait_max[unit] = max(most.wait_max[unit], longest)
        most.latency_max[unit] = max(most.latency_max[unit], longest + int(run_ns))

    def add_lag(self, unit: int, lasted_ns: Any, low_ns: Any, high_ns: Any) -> None:
        """A unit's oldest record was between ``low_ns`` and ``high_ns`` old, rising or falling evenly, for a time."""
        shares = (np.arange(_PIECES) + 0.5) / _PIECES
        ages = np.rint(np.add.outer(low_ns, np.zeros(_PIECES)) + np.outer(high_ns - low_ns, shares)).ravel()
        place, _ = bins_of(ages.astype(np.int64))
        self.sketch.lag_bins.add_to_row((unit, 0), place, np.repeat(lasted_ns / _PIECES, _PIECES))
        lag = self.maxima.lag_max
        lag[unit] = max(lag[unit], int(high_ns.max(initial=0)), int(low_ns.max(initial=0)))

    def come_less_ended(self) -> Floats:
        """Events of each unit that came and did not end, nor are left at the end."""
        fields = [field for field in ENDINGS.values() if field != "unfinished"]
        return self.arrived - sum((getattr(self.unit, name) for name in fields), self.left)

    def short(self) -> Floats:
        """The share of each unit's events that are refused, lost or left over, or of its attempts that are throttled, if that is more;
        0 of those that mostly have all instances that they may.
        """
        unit = self.unit
        undone = unit.rejected + unit.lost + unit.dead_lettered + unit.expired + self.left
        attempts = unit.started + unit.throttled
        found: Floats = np.maximum(undone / np.maximum(1.0, self.arrived), unit.throttled / np.maximum(1.0, attempts))
        found[self.times.at_limit_ns > _MOSTLY * self.length_ns] = 0.0
        return found

    def knows(self, losses: Mapping[str, Loss]) -> None:
        """Put what is expected of losses whose chance is known in place of what was sampled of them."""
        for n, unit in enumerate(self.built.units):
            loss = losses.get(unit.function)
            if loss is None:
                continue
            counts = self.unit
            lost, other = (
                (counts.dead_lettered, counts.lost) if loss.dead_letter else (counts.lost, counts.dead_lettered)
            )
            # How many were tried is what was sampled; how many of them are lost is what is known.
            tried = counts.handled[n] + counts.dead_lettered[n] + counts.lost[n]
            lost[n], other[n] = tried * loss.chance, 0.0
            counts.handled[n] = tried - lost[n]

    def gives_its_hours(self) -> Hourly:
        """The series, to which nothing is added any more; of it only the arrivals stay, which bills are made of."""
        found = Hourly.of(self.series)
        self.series, self.hours = self.series[:0].copy(), Hourly(found.columns[: int(codes.ARRIVALS) + 1])
        return found

    def is_put_together(self) -> None:
        """Add up what sketches are made of, so that it can be forgotten."""
        for _, bins in self.sketch.items():
            bins.whole()

    @staticmethod
    def mean(parts: list[Total], hours: Hourly) -> Total:
        """The mean of several estimates, ``hours`` that of theirs; the largest of their maxima."""
        found = parts[0]
        maxima = found.maxima.empty()
        for part in parts:
            maxima.rises(part.maxima)
        return Total(
            mean([p.unit for p in parts]),
            mean([p.times for p in parts]),
            sum((p.arrived for p in parts), np.zeros_like(found.arrived)) / len(parts),
            mean([p.source for p in parts]),
            mean([p.source_times for p in parts]),
            mean([p.put for p in parts]),
            found.sketch.alike(lambda *sketches: Sum.mean(sketches), *(p.sketch for p in parts[1:])),
            sum((p.nodes for p in parts), np.zeros_like(found.nodes)) / len(parts),
            maxima,
            max(p.peak for p in parts),
            found.built,
            found.length_ns,
            sum((p.left for p in parts), np.zeros_like(found.left)) / len(parts),
            found.series,
            hours,
        )

    def measured(self, model: Any) -> Measured:
        """The estimate as a measured month: whole counts whose sums hold."""
        w = self.built.world
        units, sources, accounts = w.units.copy(), w.sources.copy(), w.accounts.copy()
        # Rounded one by one; sums that must hold are made of the rounded parts below.
        write_sums(self.unit, units)
        write_sums(self.times, units)
        write_sums(self.maxima, units)
        units["in_flight"] = units["flying"] = 0
        # What is in a steady stretch when it ends would have ended in the next: only carried work is left at the end.
        units["unfinished"] = np.rint(self.left)
        units["attempts"] = units["succeeded"] + units["failed"] + units["timed_out"] + units["throttled"]
        units["started"] = units["attempts"] - units["throttled"]
        write_sums(self.source, sources)
        write_sums(self.source_times, sources)
        edges, triggers = w.edges.copy(), w.triggers.copy()
        edges["sent"], triggers["letters"] = np.rint(self.put.sent), np.rint(self.put.letters)
        layout.set_wide(accounts, "node_hours_ns", self.nodes)
        sums = self.sketch.alike(Sum.whole)
        counted = Counted(
            units=units,
            sources=sources,
            accounts=accounts,
            edges=edges,
            triggers=triggers,
            wait_bins=_rounded_waits(sums.wait_bins),
            # Latencies are read from both together: their sum is what is rounded.
            late_bins=(_rounded_waits(sums.latency_bins, sums.request_bins),),
            request_bins=_rounded_waits(sums.request_bins),
            level_bins=_rounded(sums.level_bins),
            estate_levels=_rounded(sums.estate_levels)[0],
            count_bins=_rounded(sums.count_bins),
            charge_bins=_rounded_waits(sums.charge_bins),
            lag_bins=Records(lambda units: _whole(_spread(sums.lag_bins.some(units)))),
            hours=lambda: self.hours,
            length_ns=self.length_ns,
            level_peak=self.peak,
        )
        return assemble(model, self.built, counted)


def _whole(numbers: Floats) -> NDArray[np.int64]:
    return np.rint(numbers).astype(np.int64)


def _rounded(sketch: Sparse) -> Records:
    return Records(lambda units: _whole(sketch.some(units)))


def _rounded_waits(*sketches: Sparse) -> WaitsMade:
    """Sketches of waits added up in whole numbers, some units at a time: of all at once each step takes tens of MB."""

    def some(units: range) -> ManyWaits:
        parts = [sketch.part(units) for sketch in sketches]
        return _whole_waits(summed(parts[0].shape, [(part, 1.0) for part in parts]))

    return WaitsMade(some)


def _whole_waits(sketch: Sparse) -> ManyWaits:
    """A sketch of waits in whole numbers, without the bins that are empty then."""
    units, _, bins = sketch.shape
    # Numbers of bins, a unit's after the other's: of the counts, and of what says how far in they lie.
    unit, place = np.divmod(sketch.places.astype(np.int64), 2 * bins)
    row, place = np.divmod(place, bins)
    (counted, counts), (inside, into) = (
        ((unit * bins + place)[row == k], _whole(sketch.values[row == k])) for k in (0, 1)
    )
    counted, counts = counted[counts != 0], counts[counts != 0]
    at = np.minimum(inside.searchsorted(counted), len(inside) - 1)
    found = np.where(inside[at] == counted, into[at], 0) if len(inside) else np.zeros_like(counts)
    unit, place = np.divmod(counted, bins)
    return ManyWaits(place.astype(np.int16), counts, found, unit.searchsorted(np.arange(units + 1)))


def _spread(lag: Floats) -> Floats:
    """The second row (rises that passed a bin whole, as steps) written out as time, while it is not rounded yet."""
    time, steps = lag[:, 0], lag[:, 1]
    return np.stack([time + np.maximum(0.0, np.cumsum(steps, axis=1)) * WIDTHS, np.zeros_like(steps)], axis=1)


def forgotten(built: Built, unread: bool = False) -> Reading:
    """A reading after the warm-up, whose peaks are not the month's: they are counted anew from here.

    ``unread``: nobody asks what its sketches hold.
    """
    found, w = Reading.of(built, no_sketches(built.world) if unread and built.forgets_sketches() else None), built.world
    w.units["level_peak"], w.units["count_peak"], w.units["backlog_peak"] = (
        w.units["in_flight"],
        w.units["count"],
        w.units["waiting"],
    )
    w.units["wait_max"] = w.units["latency_max"] = w.units["lag_max"] = 0
    w.clock[0]["level_peak"] = w.clock[0]["in_flight"]
    return found
