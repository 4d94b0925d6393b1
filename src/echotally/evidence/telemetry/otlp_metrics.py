"""Counts of an OTLP/JSON metrics export as samples of counters, as the readers of monitoring have them."""

from __future__ import annotations

from collections import defaultdict
from pathlib import Path
from typing import Any

from echotally.evidence.logs.json_stream import Lists, elements
from echotally.evidence.logs.otlp import plain_attributes

LISTS: Lists = {"resourceMetrics": {"scopeMetrics": {"metrics": {}}, "instrumentationLibraryMetrics": {"metrics": {}}}}
CUMULATIVE = (2, "AGGREGATION_TEMPORALITY_CUMULATIVE")


def otlp_samples(path: Path) -> dict[str, list[tuple[float, float]]]:
    """Sums, and the counts of histograms (``NAME_count``), by series: (time in s since 1970, value so far). Raises ``BadInput``.

    Deltas are added up; a cumulative counter is left as it is, with its fall where it began anew.
    """
    found: dict[tuple[str, bool], list[tuple[float, float, float]]] = defaultdict(list)
    for beside, metrics in elements(path, LISTS):
        resource = beside.get("resource")
        facts = plain_attributes(resource.get("attributes")) if isinstance(resource, dict) else {}
        for metric in metrics:
            if isinstance(metric, dict):
                _add(found, facts, metric)
    samples: dict[str, list[tuple[float, float]]] = {}
    for (name, cumulative), points in found.items():
        points.sort()
        if cumulative:
            samples[name] = [(end, value) for end, _, value in points]
            continue
        total = 0.0
        samples[name] = [(points[0][1], 0.0)] if points[0][1] < points[0][0] else []
        for end, _, value in points:
            total += value
            samples[name].append((end, total))
    return samples


def _add(
    found: dict[tuple[str, bool], list[tuple[float, float, float]]], facts: dict[str, Any], metric: dict[str, Any]
) -> None:
    for kind, ending in (("sum", ""), ("histogram", "_count")):
        data = metric.get(kind)
        if not isinstance(data, dict):
            continue
        for point in data.get("dataPoints") or ():
            try:
                end = int(point["timeUnixNano"]) / 1e9
                start = int(point.get("startTimeUnixNano") or point["timeUnixNano"]) / 1e9
                value = float(point.get("asInt", point.get("asDouble", point.get("count", 0))) or 0)
            except (KeyError, TypeError, ValueError, AttributeError):
                continue
            labels = ",".join(
                f"{k}={v}" for k, v in sorted({**facts, **plain_attributes(point.get("attributes"))}.items())
            )
            name = f"{metric.get('name', 'metric')}{ending}" + (f"{{{labels}}}" if labels else "")
            found[name, data.get("aggregationTemporality") in CUMULATIVE].append((end, start, value))
