"""The stand-in platform's metrics as OTLP: hourly counts and histograms, as differences (delta).

Sources: semantic conventions for functions as a service and messaging.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from typing import Any

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from echotally.engine.codes import FAILED, THROTTLED, TIMED_OUT
from echotally.engine.play import Page
from echotally.evidence.stand_in import StandIn, run_times, stand_in
from echotally.evidence.telemetry.otlp_writing import Resources, attributes, export_request
from echotally.model.sources import SourceKind
from echotally.projection.loaded import Loaded

_HOUR_NS = 3_600 * 10**9
#: Bounds of histograms: seconds, by the conventions' advice for durations.
_SECONDS = (0.005, 0.01, 0.025, 0.05, 0.075, 0.1, 0.25, 0.5, 0.75, 1, 2.5, 5, 7.5, 10, 30, 60, 120, 300, 600, 900)


def metrics(loaded: Loaded, plan: str, seed: int | None = None) -> dict[str, Any]:
    """The month's metrics as one OTLP export request, an hour a data point.

    Raises ``BadInput`` for a plan no card has or that cannot run a function.
    """
    platform = stand_in(loaded, plan, seed, cargo=True)
    found = _Metrics(platform)
    for page in platform.pages():
        found.add(page)
    return found.request()


class _Times(Struct):
    """Times of one hour in s: how many, their sum, and how many lie within each of the bounds."""

    found: list[NDArray[np.float64]] = field(default_factory=list)
    count: int = 0
    total: float = 0.0
    bins: list[int] = field(default_factory=list)

    def add(self, ns: NDArray[np.int64]) -> None:
        """Some more, in ns."""
        if len(ns):
            self.found.append(ns / 1e9)

    def close(self) -> None:
        """No more will come: from here on they are counted only."""
        values = np.concatenate(self.found) if self.found else np.zeros(0)
        self.count, self.total, self.found = len(values), float(np.sum(values)), []
        places = np.searchsorted(_SECONDS, values, side="left")
        self.bins = [int(n) for n in np.bincount(places, minlength=len(_SECONDS) + 1)]


class _Hour(Struct):
    """One hour of one unit."""

    invocations: int = 0
    coldstarts: int = 0
    errors: int = 0
    timeouts: int = 0
    run: _Times = field(default_factory=_Times)
    cold: _Times = field(default_factory=_Times)
    sent: dict[str, int] = field(default_factory=lambda: defaultdict(int))
    consumed: dict[str, int] = field(default_factory=lambda: defaultdict(int))

    def close(self) -> None:
        """It is over."""
        self.run.close()
        self.cold.close()


class _Metrics:
    def __init__(self, platform: StandIn) -> None:
        self.platform = platform
        self.resources, self.sources = Resources(platform), platform.sources_of_triggers
        self.zero = int(platform.start.timestamp()) * 10**9
        self.hours: dict[tuple[int, int], _Hour] = defaultdict(_Hour)
        #: Hours that are not over. Attempts are noted as they end, so that one that is over stays as it is.
        self.open: set[tuple[int, int]] = set()
        self.noted = 0

    def add(self, page: Page) -> None:
        """Count a page's attempts and what they put out."""
        hours = page.attempts["ended"] // _HOUR_NS
        ran, run_ns, cold_ns = run_times(page.attempts)
        for (u, hour), rows in _alike(page.attempts["unit"], hours):
            outcomes = page.attempts["outcome"][rows]
            rows, outcomes = rows[outcomes != THROTTLED], outcomes[outcomes != THROTTLED]
            if not len(rows):
                continue
            at = self._at(u, hour)
            at.invocations += len(rows)
            at.coldstarts += int(np.count_nonzero(page.attempts["cold_ns"][rows] > 0))
            at.errors += int(np.count_nonzero(outcomes == FAILED))
            at.timeouts += int(np.count_nonzero(outcomes == TIMED_OUT))
            at.run.add(run_ns[rows][ran[rows]])
            at.cold.add(cold_ns[rows][cold_ns[rows] != 0])
            triggers, items = page.attempts["trigger"][rows], page.attempts["items"][rows]
            for trigger in np.unique(triggers).tolist():
                source = self.sources[trigger]
                if source.kind in (SourceKind.QUEUES, SourceKind.STREAMS, SourceKind.TOPICS):
                    at.consumed[source.name] += int(items[triggers == trigger].sum())
        self._puts_out(page)
        self.noted += len(page.attempts)
        self._close(int(hours[-1]) if len(hours) else 0)

    def _puts_out(self, page: Page) -> None:
        # An attempt stands on the page of what it puts out.
        lines = page.born[(page.born["number"] < 0) & (page.born["origin"] >= self.noted)]
        by = page.attempts["unit"][lines["origin"] - self.noted]
        for (u, hour, place), rows in _alike(by, lines["at"] // _HOUR_NS, lines["source"]):
            self._at(u, hour).sent[self.platform.built.sources[place][1].name] += len(rows)

    def _at(self, u: int, hour: int) -> _Hour:
        self.open.add((u, hour))
        return self.hours[u, hour]

    def _close(self, now: int) -> None:
        for key in [key for key in self.open if key[1] < now]:
            self.hours[key].close()
            self.open.remove(key)

    def request(self) -> dict[str, Any]:
        """All units' metrics; nothing is added after it."""
        for key in self.open:
            self.hours[key].close()
        found = []
        for u in range(len(self.platform.built.units)):
            hours = {hour: at for (unit, hour), at in sorted(self.hours.items()) if unit == u}
            if hours:
                found.append(self._of_unit(u, hours))
        return {"resourceMetrics": [each for request in found for each in request["resourceMetrics"]]}

    def _of_unit(self, u: int, hours: dict[int, _Hour]) -> dict[str, Any]:
        trigger = self.platform.trigger_of(self.platform.built.units[u])
        own = attributes({"faas.trigger": trigger or None})
        metrics = [
            _sum("faas.invocations", "{invocation}", [self._point(h, at.invocations, own) for h, at in hours.items()]),
            _sum("faas.coldstarts", "{coldstart}", [self._point(h, at.coldstarts, own) for h, at in hours.items()]),
            _sum("faas.errors", "{error}", [self._point(h, at.errors, own) for h, at in hours.items()]),
            _sum("faas.timeouts", "{timeout}", [self._point(h, at.timeouts, own) for h, at in hours.items()]),
            _histogram(
                "faas.invoke_duration", "s", [self._bins(h, at.run, own) for h, at in hours.items() if at.run.count]
            ),
            _histogram(
                "faas.init_duration", "s", [self._bins(h, at.cold, own) for h, at in hours.items() if at.cold.count]
            ),
        ]
        for name, kind in (("sent", "send"), ("consumed", "process")):
            points = [
                self._point(h, n, attributes({"messaging.operation.name": kind, "messaging.destination.name": where}))
                for h, at in hours.items()
                for where, n in getattr(at, name).items()
            ]
            if points:
                metrics.append(_sum(f"messaging.client.{name}.messages", "{message}", points))
        return export_request(
            "resourceMetrics", "scopeMetrics", "metrics", self.resources.of(u, self.resources.version(u, 0)), metrics
        )

    def _times(self, hour: int) -> dict[str, str]:
        start = self.zero + hour * _HOUR_NS
        return {"startTimeUnixNano": str(start), "timeUnixNano": str(start + _HOUR_NS)}

    def _point(self, hour: int, value: int, attributes: list[Any]) -> dict[str, Any]:
        return {**self._times(hour), "asInt": str(value), "attributes": attributes}

    def _bins(self, hour: int, times: _Times, attributes: list[Any]) -> dict[str, Any]:
        return {
            **self._times(hour),
            "count": str(times.count),
            "sum": times.total,
            "bucketCounts": [str(n) for n in times.bins],
            "explicitBounds": list(_SECONDS),
            "attributes": attributes,
        }


def _alike(*keys: NDArray[Any]) -> Iterator[tuple[tuple[int, ...], NDArray[np.intp]]]:
    """The places at which keys are the same, those first whose first place comes first; places in order."""
    if len(keys[0]):
        table = np.stack([key.astype(np.int64) for key in keys])
        different, first, which = np.unique(table, axis=1, return_index=True, return_inverse=True)
        order = np.argsort(which.ravel(), kind="stable")
        ends = np.cumsum(np.bincount(which.ravel()))
        for k in np.argsort(first):
            yield tuple(int(key) for key in different[:, k]), order[ends[k - 1] if k else 0 : ends[k]]


def _sum(name: str, unit: str, points: list[Any]) -> dict[str, Any]:
    return {"name": name, "unit": unit, "sum": {"aggregationTemporality": 1, "isMonotonic": True, "dataPoints": points}}


def _histogram(name: str, unit: str, points: list[Any]) -> dict[str, Any]:
    return {"name": name, "unit": unit, "histogram": {"aggregationTemporality": 1, "dataPoints": points}}
