"""OTLP in its JSON form: export requests of spans and metrics, and the files they stand in.

Source: OTLP 1.x JSON encoding (ids in hexadecimal, 64-bit numbers as text).
"""

from __future__ import annotations

import zlib
from bisect import bisect_right
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from echotally.engine.build import Unit
from echotally.evidence.stand_in import StandIn
from echotally.files import write_whole

_NAME = "echotally stand-in"


def write_otlp(path: Path, requests: Iterable[dict[str, Any]]) -> None:
    """Write export requests: one document (.json), or a request a line (.jsonl), packed if the name ends in .gz."""
    pieces = _lines(requests) if ".jsonl" in path.suffixes else _merged(requests)
    write_whole(path, _packed(pieces) if path.suffix == ".gz" else pieces)


def _lines(requests: Iterable[dict[str, Any]]) -> Iterator[bytes]:
    for request in requests:
        yield msgspec.json.encode(request) + b"\n"


def _merged(requests: Iterable[dict[str, Any]]) -> Iterator[bytes]:
    """Several requests of one kind as one: their lists put end to end."""
    before = None
    for request in requests:
        ((key, items),) = request.items()
        yield b"{" + msgspec.json.encode(key) + b":[" if before is None else b","
        yield msgspec.json.encode(items)[1:-1]
        before = key
    yield b"{}\n" if before is None else b"]}\n"


def _packed(pieces: Iterable[bytes]) -> Iterator[bytes]:
    """As gzip packs a file, without a time, so that the same always gives the same."""
    packer = zlib.compressobj(9, wbits=zlib.MAX_WBITS + 16)
    for piece in pieces:
        yield packer.compress(piece)
    yield packer.flush()


def attributes(values: dict[str, Any]) -> list[dict[str, Any]]:
    """Attributes by name as OTLP has them; what is None is left out."""
    return [{"key": key, "value": _value(value)} for key, value in values.items() if value is not None]


def _value(value: Any) -> dict[str, Any]:
    if isinstance(value, bool):
        return {"boolValue": value}
    if isinstance(value, int | np.integer):
        return {"intValue": str(int(value))}
    return {"doubleValue": float(value)} if isinstance(value, float) else {"stringValue": str(value)}


def identity(kind: str, number: int, digits: int) -> str:
    """An identifier that is the same every time: a kind's letter and a number."""
    return f"{ord(kind):02x}{number:0{digits - 2}x}"


def export_request(whole: str, scopes: str, inner: str, resource: dict[str, Any], found: list[Any]) -> dict[str, Any]:
    """One export request."""
    scope = {"scope": {"name": _NAME}, inner: found}
    return {whole: [{"resource": {"attributes": attributes(resource)}, scopes: [scope]}]}


class Resources:
    """What the spans and data points of one unit say of it."""

    def __init__(self, platform: StandIn) -> None:
        self.platform = platform
        self.releases = [self._releases(unit) for unit in platform.built.units]

    def _releases(self, unit: Unit) -> list[int]:
        named = self.platform.loaded.month.arrivals.happenings.releases.get(unit.function, ())
        return sorted(int(at) for at in named)

    def version(self, u: int, at_ns: int) -> int:
        """Which version of unit ``u`` runs at an instant, counted from 1 by its releases."""
        return 1 + bisect_right(self.releases[u], at_ns)

    def of(self, u: int, version: int) -> dict[str, Any]:
        """The attributes of unit ``u``'s resource in one of its versions."""
        unit = self.platform.built.units[u]
        tags = self.platform.loaded.model.functions[unit.function].tags
        return {
            "service.name": unit.function,
            "faas.name": unit.function,
            "faas.version": str(version),
            "faas.max_memory": unit.settings.memory_mb * 2**20,
            "deployment.environment.name": unit.environment,
            **{f"x.tag.{key}": value for key, value in tags.items()},
        }
