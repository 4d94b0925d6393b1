"""Run logs from OTLP/JSON trace exports: the spans that carry ``faas.*`` attributes, and what links them.

Names are those of the semantic conventions for functions (faas.name, faas.trigger, faas.coldstart, faas.invocation_id,
faas.max_memory in bytes), messaging and HTTP; older spellings are read too. Besides the rows of a run log tables are filled:
``entries`` (by what an attempt came), ``sends`` (what attempts put out or asked), ``links`` (which attempt took what); ``between_spans``
are the spans between.
"""

from __future__ import annotations

import csv
import gc
import gzip
import re
from collections.abc import Iterator
from contextlib import contextmanager
from hashlib import blake2b
from os import cpu_count
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from echotally.database import quoted
from echotally.evidence.logs.json_stream import Lists, loaded, pieces
from echotally.files import opened

if TYPE_CHECKING:
    from duckdb import DuckDBPyConnection

_ERROR = (2, "STATUS_CODE_ERROR")
_KINDS = {
    "SPAN_KIND_INTERNAL": 1,
    "SPAN_KIND_SERVER": 2,
    "SPAN_KIND_CLIENT": 3,
    "SPAN_KIND_PRODUCER": 4,
    "SPAN_KIND_CONSUMER": 5,
}
CLIENT, PRODUCER = 3, 4
SPANS: Lists = {"resourceSpans": {"scopeSpans": {"spans": {}}, "instrumentationLibrarySpans": {"spans": {}}}}
#: Bytes of spans that are sorted together.
_TOGETHER = 4 << 20
#: Bytes of a file from which on other processes help, packed and not.
_LARGE_PACKED, _LARGE = 6 << 20, 64 << 20
_HEX = re.compile(r"[0-9a-fA-F]{16}")
#: Spellings of earlier conventions, by the name of today.
_OLDER = {
    "faas.invocation_id": ("faas.execution", "faas.execution_id"),
    "deployment.environment.name": ("deployment.environment",),
    "messaging.operation.type": ("messaging.operation",),
    "messaging.destination.name": ("messaging.destination",),
    "http.request.method": ("http.method",),
    "http.response.status_code": ("http.status_code",),
    "http.route": ("http.target",),
    "messaging.message.id": ("messaging.message_id",),
    "messaging.message.body.size": ("messaging.message_payload_size_bytes", "messaging.message.payload_size_bytes"),
    "http.request.body.size": ("http.request_content_length",),
}
TABLES = {
    "otlp": (
        ("time", "DOUBLE"),
        ("function", "VARCHAR"),
        ("environment", "VARCHAR"),
        ("id", "VARCHAR"),
        ("run_ms", "DOUBLE"),
        ("cold", "BOOLEAN"),
        ("memory_mb", "DOUBLE"),
        ("outcome", "VARCHAR"),
        ("events", "BIGINT"),
        ("trigger", "VARCHAR"),
        ("source", "VARCHAR"),
        ("version", "VARCHAR"),
        ("payload_bytes", "DOUBLE"),
        ("span", "UBIGINT"),
    ),
    "entries": (
        ("span", "UBIGINT"),
        ("parent", "UBIGINT"),
        ("destination", "VARCHAR"),
        ("subscription", "VARCHAR"),
        ("partition", "VARCHAR"),
        ("batched", "BOOLEAN"),
        ("message", "UBIGINT"),
    ),
    "sends": (
        ("span", "UBIGINT"),
        ("parent", "UBIGINT"),
        ("kind", "TINYINT"),
        ("destination", "VARCHAR"),
        ("n", "BIGINT"),
        ("payload", "DOUBLE"),
        ("start", "DOUBLE"),
        ("finish", "DOUBLE"),
        ("cause", "VARCHAR"),
    ),
    "links": (("span", "UBIGINT"), ("linked", "UBIGINT")),
    "between_spans": (("span", "UBIGINT"), ("parent", "UBIGINT")),
    "tags": (("function", "VARCHAR"), ("key", "VARCHAR"), ("value", "VARCHAR")),
}
#: Attributes of a resource that are tags: names without a namespace, or in one for tags (``x.tag.team``, ``tags.team``).
_TAG = re.compile(r"(?:x\.)?(?:tags?\.)?([^.]+)")


def begins_with(path: Path, word: bytes) -> bool:
    """Whether a word stands in a file's first bytes, unpacked where it is packed."""
    with opened(path) as file:
        start = file.read(65_536)
    if start.startswith(b"\x1f\x8b"):
        try:
            with opened(path) as file, gzip.open(file) as inner:
                start = inner.read(65_536)
        except (OSError, EOFError):
            return False
    return word in start


def is_otlp(path: Path) -> bool:
    """Whether a JSON file looks like an OTLP trace export."""
    return begins_with(path, b'"resourceSpans"')


def read_otlp(path: Path, connection: DuckDBPyConnection, folder: Path) -> tuple[int, list[str]]:
    """Fill the tables of ``TABLES`` from a file's spans, by way of ``folder``; how many are attempts, and what was left out, in words.

    A file holds one export request, or several; a large one is sorted by all cores. Raises ``BadInput`` if it is neither.
    """
    attempts, other, broken = 0, 0, 0
    for part in _parts(path, folder):
        part.load(connection)
        attempts, other, broken = attempts + part.attempts, other + part.other, broken + part.broken
    notes = [f"{path.name}: {other} span(s) without faas attributes left out"] if other else []
    if broken:
        notes.append(f"{path.name}: {broken} span(s) without readable times left out")
    return attempts, notes


#: Some spans as text, with what stands beside them.
_Some = list[tuple[dict[str, Any], bytes]]


def _parts(path: Path, folder: Path) -> Iterator[_Part]:
    grouped = enumerate(_grouped(path))
    if path.stat().st_size < (_LARGE_PACKED if path.suffix == ".gz" else _LARGE) or (cpu_count() or 1) < 2:
        yield from (_sorted_part(some, folder, number, path.name) for number, some in grouped)
        return
    from joblib import Parallel, delayed

    pool = Parallel(n_jobs=-1, return_as="generator", batch_size=1, pre_dispatch="2 * n_jobs")
    yield from pool(delayed(_sorted_part)(some, folder, number, path.name) for number, some in grouped)


def _grouped(path: Path) -> Iterator[_Some]:
    """The file's spans, a few megabytes at a time."""
    some: _Some = []
    size = 0
    for beside, text in pieces(path, SPANS):
        some.append((beside, text))
        size += len(text)
        if size > _TOGETHER:
            yield some
            some, size = [], 0
    yield some


def _sorted_part(some: _Some, folder: Path, number: int, name: str) -> _Part:
    """Spans sorted into files of rows, a file a table."""
    rows = _Rows()
    with _no_collection():
        for beside, text in some:
            rows.take(beside, loaded(text, name))
        return rows.written(folder, number)


class _Part(Struct, frozen=True):
    """Files of rows by table, and how many spans they are of."""

    files: dict[str, Path]
    attempts: int
    other: int
    broken: int

    def load(self, connection: DuckDBPyConnection) -> None:
        """Put the rows into the tables; the files are gone then."""
        for name, place in self.files.items():
            columns = "{" + ", ".join(f"{quoted(column)}: {quoted(kind)}" for column, kind in TABLES[name]) + "}"
            form = "header=false, delim=',', quote='\"', escape='\"', nullstr='', auto_detect=false"
            connection.execute(f"INSERT INTO {name} FROM read_csv({quoted(place)}, {form}, columns={columns})")
            place.unlink()


@contextmanager
def _no_collection() -> Iterator[None]:
    """Without looking for circles of garbage: millions of small objects are made here, none of them in a circle."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


class _Rows:
    """Spans as rows of the tables."""

    def __init__(self) -> None:
        self.rows: dict[str, list[tuple[Any, ...]]] = {name: [] for name in TABLES}
        self.attempts, self.other, self.broken = 0, 0, 0
        self.tagged: set[tuple[str, str, str]] = set()

    def take(self, beside: dict[str, Any], spans: list[Any]) -> None:
        """Sort some spans of one resource into the tables."""
        resource = beside.get("resource")
        facts = plain_attributes(resource.get("attributes")) if isinstance(resource, dict) else {}
        for span in spans:
            if isinstance(span, dict):
                self._span(facts, span)
        self._tags(facts)

    def _tags(self, facts: dict[str, Any]) -> None:
        name = str(facts.get("faas.name") or facts.get("service.name") or "")
        for key, value in facts.items():
            tag = _TAG.fullmatch(key)
            if name and tag and isinstance(value, str) and (name, key, value) not in self.tagged:
                self.tagged.add((name, key, value))
                self.rows["tags"].append((name, tag[1][:100], value[:200]))

    def _span(self, resource: dict[str, Any], span: dict[str, Any]) -> None:
        own = plain_attributes(span.get("attributes"))
        try:
            start, end = int(span["startTimeUnixNano"]), int(span["endTimeUnixNano"])
        except (KeyError, TypeError, ValueError):
            self.broken += any(key.startswith("faas.") for key in own)
            return
        kind = span.get("kind")
        kind = _KINDS.get(kind, 0) if isinstance(kind, str) else kind if isinstance(kind, int) else 0
        me, parent = number_of(span.get("spanId")), number_of(span.get("parentSpanId"))
        if kind in (CLIENT, PRODUCER):
            self._sent(own, kind, me, parent, start, end)
            return
        # The resource's attributes go for every span of the function, calls to others included.
        if not any(key.startswith("faas.") for key in own):
            self.other += 1
            self.rows["between_spans"].append((me, parent))
            return
        self._attempt({**resource, **own}, span, me, parent, start, end)

    def _sent(self, own: dict[str, Any], kind: int, me: int | None, parent: int | None, start: int, end: int) -> None:
        where = destination_of(own)
        n = _of(own, "messaging.batch.message_count")
        size = _of(own, "messaging.message.body.size")
        payload = float(size) if isinstance(size, int | float) else None
        many = n if isinstance(n, int) and n > 0 else 1
        cause = str(_of(own, "faas.invoked_name") or own.get("server.address") or own.get("url.full") or "")[:200]
        self.rows["sends"].append((me, parent, kind, where, many, payload, start / 1e9, end / 1e9, cause))

    def _attempt(
        self, facts: dict[str, Any], span: dict[str, Any], me: int | None, parent: int | None, start: int, end: int
    ) -> None:
        self.attempts += 1
        memory, count = facts.get("faas.max_memory"), _of(facts, "messaging.batch.message_count")
        size = _of(facts, "messaging.message.body.size") or _of(facts, "http.request.body.size")
        where = destination_of(facts)
        subscription = facts.get("messaging.destination.subscription.name")
        message = facts.get("messaging.message.id") or facts.get("messaging.message_id")
        name = facts.get("faas.name") or facts.get("service.name") or span.get("name") or ""
        self.rows["otlp"].append(
            (
                start / 1e9,
                str(name)[:200],
                str(_of(facts, "deployment.environment.name") or "")[:200] or None,
                str(_of(facts, "faas.invocation_id") or span.get("spanId") or ""),
                (end - start) / 1e6,
                facts.get("faas.coldstart") is True,
                memory / 2**20 if isinstance(memory, int | float) else None,
                _outcome(facts, span),
                count if isinstance(count, int) else 1,
                str(facts.get("faas.trigger") or "")[:50] or None,
                str(subscription or where or "")[:200] or None,
                str(facts.get("faas.version") or facts.get("service.version") or "")[:100] or None,
                float(size) if isinstance(size, int | float) else None,
                me,
            )
        )
        partition = facts.get("messaging.destination.partition.id")
        batched = isinstance(count, int)
        self.rows["entries"].append(
            (
                me,
                parent,
                where,
                str(subscription)[:200] if subscription else None,
                None if partition is None else str(partition)[:100],
                batched,
                hashed(message),
            )
        )
        for link in span.get("links") or ():
            if isinstance(link, dict):
                self.rows["links"].append((me, number_of(link.get("spanId"))))

    def written(self, folder: Path, number: int) -> _Part:
        """The rows as files, of tables that have any."""
        files = {}
        for name, rows in self.rows.items():
            if rows:
                # A table of text is the quickest way in that needs no further library.
                place = files[name] = folder / f"{name}-{number}.csv"
                with place.open("w", encoding="utf-8", errors="replace", newline="") as file:
                    csv.writer(file).writerows(rows)
        return _Part(files, self.attempts, self.other, self.broken)


def plain_attributes(found: Any) -> dict[str, Any]:
    """Key to plain value; 64-bit integers come as strings."""
    plain: dict[str, Any] = {}
    for each in found if isinstance(found, list) else ():
        if not isinstance(each, dict):
            continue
        value = each.get("value")
        if isinstance(value, dict) and value:
            kind, raw = next(iter(value.items()))
            plain[str(each.get("key"))] = int(raw) if kind == "intValue" and str(raw).lstrip("-").isdigit() else raw
    return plain


def _of(facts: dict[str, Any], name: str) -> Any:
    """An attribute by the name of today's conventions, or by an older one."""
    if name in facts:
        return facts[name]
    return next((facts[old] for old in _OLDER.get(name, ()) if old in facts), None)


def destination_of(facts: dict[str, Any]) -> str | None:
    """Where a span's event goes or comes from: a queue or topic, a folder, or a route."""
    found = (
        _of(facts, "messaging.destination.name") or facts.get("faas.document.collection") or _of(facts, "http.route")
    )
    if found is None and facts.get("url.path"):
        found = facts["url.path"]
    return str(found)[:200] if found else None


def number_of(text: Any) -> int | None:
    """A span's identifier as a number: its hexadecimal digits, or a digest of whatever else it is."""
    if not isinstance(text, str) or not text:
        return None
    return int(text, 16) if _HEX.fullmatch(text) else hashed(text)


def hashed(text: Any) -> int | None:
    """A digest of 64 bits, the same everywhere; None of nothing."""
    if text is None or text == "":
        return None
    return int.from_bytes(blake2b(str(text).encode("utf-8", "replace"), digest_size=8).digest())


def _outcome(facts: dict[str, Any], span: dict[str, Any]) -> str:
    status = span.get("status")
    code = _of(facts, "http.response.status_code")
    kind = str(facts.get("error.type", "")).lower()
    if "timeout" in kind or "timed" in kind or "deadline" in kind or code == 504:
        return "timeout"
    if code == 429:
        return "throttled"
    failed = isinstance(status, dict) and status.get("code") in _ERROR
    return "error" if failed or (isinstance(code, int) and code >= 500) else "ok"
