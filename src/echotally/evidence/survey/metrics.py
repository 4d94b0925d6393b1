"""Metrics of functions: OTLP/JSON, or the text and answers of a monitoring server, as counts by function, environment and time.

Spans are often a sample, metrics are not: rates are theirs. Names are those of the semantic conventions (``faas.invocations``,
``faas.coldstarts``, ``faas.errors``, ``faas.timeouts``, ``faas.invoke_duration``, ``faas.init_duration``, ``faas.mem_usage``).
"""

from __future__ import annotations

import itertools
import math
import re
from collections import defaultdict
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from echotally.errors import BadInput, Problem
from echotally.evidence.fit.rhythm import STRETCH_S
from echotally.evidence.logs.json_stream import elements
from echotally.evidence.logs.otlp import begins_with, plain_attributes
from echotally.evidence.survey.tables import OTHERWISE, Unit
from echotally.evidence.telemetry.otlp_metrics import CUMULATIVE, LISTS
from echotally.evidence.telemetry.reading import samples_of_file, samples_of_server

#: Names of metrics, by what they count; a monitoring server writes underscores and endings of its own.
_NAMES = {
    "invocations": r"faas[._]invocations",
    "coldstarts": r"faas[._]coldstarts",
    "errors": r"faas[._]errors",
    "timeouts": r"faas[._]timeouts",
    "run": r"faas[._]invoke_duration",
    "cold": r"faas[._]init_duration",
    "memory": r"faas[._]mem_usage",
    "sent": r"messaging[._]client[._]sent[._]messages",
    "consumed": r"messaging[._]client[._]consumed[._]messages",
}
#: A point: from when to when (s since 1970), how many, and what they add up to.
Point = tuple[float, float, float, float]


class Metrics(Struct):
    """Points by what they count, function and environment; what was left out, in words."""

    points: dict[tuple[str, Unit], list[Point]] = field(default_factory=lambda: defaultdict(list))
    notes: list[str] = field(default_factory=list)

    def total(self, what: str, unit: Unit, low: float, high: float) -> float | None:
        """How many there were between two instants; None where nothing counts them."""
        points = self.points.get((what, unit))
        if not points:
            return None
        return sum(n for start, end, n, _ in points if low <= (start + end) / 2 < high)

    def by_point(self, what: str, unit: Unit) -> dict[tuple[float, float], float]:
        """How many there were from when to when."""
        found: dict[tuple[float, float], float] = defaultdict(float)
        for start, end, n, _ in self.points.get((what, unit), []):
            found[start, end] += n
        return found

    def mean(self, what: str, unit: Unit) -> tuple[float, float] | None:
        """The mean of what a histogram measures, and of how many; None where there is none."""
        points = self.points.get((what, unit), [])
        n, total = sum(p[2] for p in points), sum(p[3] for p in points)
        return (total / n, n) if n else None

    def starts(self, unit: Unit, some: NDArray[np.float64]) -> NDArray[np.float64] | None:
        """When a function started, from counts by the hour and the moments within the hour of some of its starts.

        What fires by a clock does so at the same minutes; None where points are wider than an hour, or nothing is counted.
        """
        points = [point for point in self.points.get(("invocations", unit), []) if point[2] > 0]
        widths = {round(end - start) for start, end, _, _ in points}
        if not points or not len(some) or max(widths) > 3_600 or min(widths) < 60:
            return None
        # What starts within a minute and a half of another is the same firing, late.
        moments = np.sort(some % 3_600)
        marks = moments[np.concatenate([[True], np.diff(moments) > 90])]
        found: list[float] = []
        for start, end, n, _ in points:
            hour = start - start % 3_600
            inside = [hour + mark for mark in marks if start <= hour + mark < end]
            found += inside[: max(1, round(n))]
        return np.array(found) if found else None

    def quarters(self, what: str, unit: Unit) -> tuple[NDArray[np.int64], NDArray[np.float64]] | None:
        """Counts by stretch of a quarter of an hour (number since 1970), those of longer points spread evenly; None where
        points are longer than an hour, or there are none.
        """
        found: dict[int, float] = defaultdict(float)
        points = self.points.get((what, unit), [])
        if not points or max(end - start for start, end, _, _ in points) > 3_600:
            return None
        for start, end, n, _ in points:
            low, high = int(start // STRETCH_S), math.ceil(end / STRETCH_S)
            for place in range(low, max(high, low + 1)):
                found[place] += n / max(1, high - low)
        places = sorted(found)
        return np.array(places, np.int64), np.array([found[place] for place in places])

    @property
    def units(self) -> set[Unit]:
        """The functions and environments that are counted."""
        return {unit for _, unit in self.points}


def is_metrics(path: Path) -> bool:
    """Whether a JSON file looks like an OTLP metrics export."""
    return begins_with(path, b'"resourceMetrics"')


def read_metrics(sources: Sequence[str | Path], span: tuple[float, float]) -> Metrics:
    """Metrics of files and servers (addresses beginning with http); a server is asked for ``span`` (s since 1970).

    Raises ``BadInput`` for what cannot be read.
    """
    found = Metrics()
    for source in sources:
        if str(source).startswith(("http://", "https://")):
            for name in ("faas_invocations_total", "faas_coldstarts_total", "faas_errors_total"):
                _text(found, samples_of_server(str(source), name, *span))
        elif is_metrics(Path(source)):
            _otlp(found, Path(source))
        else:
            _text(found, samples_of_file(Path(source)))
    if sources and not found.points:
        allowed = "metrics named faas.invocations and so on, with faas.name"
        raise BadInput(Problem("holds no metric of functions", file=str(sources[0]), allowed=allowed))
    for points in found.points.values():
        points.sort()
    return found


def _what(name: str) -> str | None:
    # Servers that scrape put unit and kind behind a name.
    plain = re.sub(r"(_seconds|_bytes|_total|_count|_milliseconds)+$", "", name)
    return next((what for what, known in _NAMES.items() if re.fullmatch(known, plain)), None)


def _unit(facts: dict[str, Any]) -> Unit | None:
    name = next(
        (
            facts[key]
            for key in ("faas.name", "faas_name", "function", "service.name", "service_name")
            if facts.get(key)
        ),
        None,
    )
    keys = ("deployment.environment.name", "deployment_environment_name", "deployment.environment", "environment")
    where = next((facts[key] for key in keys if facts.get(key)), OTHERWISE)
    return (str(name), str(where)) if name else None


def _otlp(found: Metrics, path: Path) -> None:
    series: dict[tuple[Any, ...], list[tuple[float, float, float, float]]] = defaultdict(list)
    cumulative: set[tuple[Any, ...]] = set()
    for beside, metrics in elements(path, LISTS):
        resource = beside.get("resource")
        facts = plain_attributes(resource.get("attributes")) if isinstance(resource, dict) else {}
        for metric in metrics:
            what = _what(str(metric.get("name", ""))) if isinstance(metric, dict) else None
            if what is None:
                continue
            data = next(
                (metric[kind] for kind in ("sum", "histogram", "gauge", "exponentialHistogram") if kind in metric), None
            )
            if not isinstance(data, dict):
                continue
            for point in data.get("dataPoints") or ():
                own = plain_attributes(point.get("attributes"))
                unit = _unit({**facts, **own})
                if unit is None:
                    continue
                key = (what, unit, tuple(sorted((k, str(v)) for k, v in {**facts, **own}.items())))
                if data.get("aggregationTemporality") in CUMULATIVE:
                    cumulative.add(key)
                series[key].append(_point(point, metric))
    for key, points in series.items():
        # Exporters repeat points, and files overlap.
        ordered = sorted(set(points), key=lambda point: (point[1], point[0]))
        if key in cumulative:
            found.points[key[0], key[1]] += _differences(ordered)
        else:
            found.points[key[0], key[1]] += [(start or end, end, n, total) for start, end, n, total in ordered]


def _point(point: dict[str, Any], metric: dict[str, Any]) -> Point:
    start, end = (int(point.get(name) or 0) / 1e9 for name in ("startTimeUnixNano", "timeUnixNano"))
    value = float(point.get("asInt", point.get("asDouble", point.get("count", 0))) or 0)
    total = float(point.get("sum") or 0.0)
    if metric.get("unit") == "ms":
        total /= 1_000
    return start, end, value, total


def _differences(points: list[Point]) -> list[Point]:
    """Cumulative points as those between them; a counter that begins anew (another start, or a fall) is no negative count.

    Without a start (0) it is not known over how long the first point had been counted: it is left out.
    """
    found = []
    for before, after in itertools.pairwise(points):
        anew = after[2] < before[2] or (after[0] > 0 and after[0] != before[0] and after[0] >= before[1])
        n, total = (after[2], after[3]) if anew else (after[2] - before[2], after[3] - before[3])
        found.append((max(after[0], before[1]) if anew else before[1], after[1], n, total))
    return [points[0], *found] if points and points[0][0] > 0 else found


def _text(found: Metrics, samples: dict[str, list[tuple[float, float]]]) -> None:
    for name, values in samples.items():
        base, _, labels = name.partition("{")
        what = _what(base)
        facts = dict(part.split("=", 1) for part in labels.rstrip("}").split(",") if "=" in part)
        unit = _unit(facts)
        if what is None or unit is None or base.endswith(("_bucket", "_sum", "_created")):
            continue
        found.points[what, unit] += _differences([(0.0, at, value, 0.0) for at, value in sorted(set(values))])
