"""Run logs from OTLP/JSON trace exports: the spans that carry ``faas.*`` attributes.

Names are those of the OpenTelemetry semantic conventions for functions (faas.name, faas.coldstart,
faas.invocation_id, faas.max_memory in bytes) and messaging (messaging.batch.message_count).
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from echotally.errors import BadInput, Problem
from echotally.files import opened, text_of

if TYPE_CHECKING:
    import pandas as pd

_ERROR = 2


_LARGEST = 1_000_000_000


def is_otlp(path: Path) -> bool:
    """Whether a JSON file looks like an OTLP trace export."""
    with opened(path) as file:
        return b'"resourceSpans"' in file.read(65_536)


def read_otlp(path: Path) -> tuple[pd.DataFrame, list[str]]:
    """Function spans as run-log rows (our columns, ms and MB), and what was left out, in words.

    A file holds one export request, or one a line. Raises ``BadInput`` if it is neither.
    """
    import pandas as pd

    rows: list[dict[str, Any]] = []
    other, broken = 0, 0
    for request in _requests(path):
        for resource, span in _spans(request):
            own = _attributes(span.get("attributes"))
            # The resource's attributes go for every span of the function, calls to others included.
            if not any(key.startswith("faas.") for key in own):
                other += 1
                continue
            row = _row({**_attributes(resource.get("attributes")), **own}, span)
            broken += row is None
            rows += [row] if row else []
    notes = [f"{path.name}: {other} span(s) without faas attributes left out"] if other else []
    if broken:
        notes.append(f"{path.name}: {broken} span(s) without readable times left out")
    columns = ["time", "function", "id", "run_ms", "cold", "memory_mb", "outcome", "events"]
    return pd.DataFrame(rows, columns=columns), notes


def _requests(path: Path) -> Iterator[dict[str, Any]]:
    text = text_of(path, _LARGEST)
    try:
        found = json.loads(text)
        yield from found if isinstance(found, list) else [found]
        return
    except (json.JSONDecodeError, RecursionError):
        pass
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip():
            try:
                found = json.loads(line)
            except (json.JSONDecodeError, RecursionError) as error:
                raise BadInput(Problem("is not OTLP/JSON", file=path.name, line=number)) from error
            if isinstance(found, dict):
                yield found


def _spans(request: dict[str, Any]) -> Iterator[tuple[dict[str, Any], dict[str, Any]]]:
    for each in _dicts(request.get("resourceSpans")):
        resource = each.get("resource")
        for scope in _dicts(each.get("scopeSpans")):
            for span in _dicts(scope.get("spans")):
                yield resource if isinstance(resource, dict) else {}, span


def _dicts(found: Any) -> list[dict[str, Any]]:
    return [each for each in found if isinstance(each, dict)] if isinstance(found, list) else []


def _attributes(found: Any) -> dict[str, Any]:
    """Key to plain value; 64-bit integers come as strings."""
    plain: dict[str, Any] = {}
    for each in _dicts(found):
        value = each.get("value")
        if isinstance(value, dict) and value:
            kind, raw = next(iter(value.items()))
            plain[str(each.get("key"))] = int(raw) if kind == "intValue" and str(raw).lstrip("-").isdigit() else raw
    return plain


def _row(facts: dict[str, Any], span: dict[str, Any]) -> dict[str, Any] | None:
    try:
        start, end = int(span["startTimeUnixNano"]), int(span["endTimeUnixNano"])
    except (KeyError, TypeError, ValueError):
        return None
    status = span.get("status")
    failed = isinstance(status, dict) and status.get("code") in (_ERROR, "STATUS_CODE_ERROR")
    memory = facts.get("faas.max_memory")
    count = facts.get("messaging.batch.message_count")
    return {
        "time": start / 1e9,
        "function": str(facts.get("faas.name", span.get("name", ""))),
        "id": str(facts.get("faas.invocation_id") or span.get("spanId") or ""),
        "run_ms": (end - start) / 1e6,
        "cold": facts.get("faas.coldstart") is True,
        "memory_mb": memory / 2**20 if isinstance(memory, int | float) else None,
        "outcome": "error" if failed else "ok",
        "events": count if isinstance(count, int) else 1,
    }
