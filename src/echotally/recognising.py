"""What a file is, where another kind was wanted: told by its tables, headings or schema, with the command that takes it.

Only the begin of a file is read. A guess is made of signs that such files alone have; without one nothing is said.
"""

from __future__ import annotations

import csv
import json
import re
from pathlib import Path
from shlex import quote

from msgspec import Struct

from echotally.errors import Problem
from echotally.files import content_of, opened

_HEAD = 64_000
_SCHEMA = re.compile(r'"?schema"?\s*[=:]\s*"echotally-([a-z-]+)/\d+"')
_TABLE = re.compile(r"^\s*\[+\s*\"?([a-z_]+)", re.M)


class FileKind(Struct, frozen=True):
    """A kind of file: what it is called, and a command that takes it, with ``{}`` for its name."""

    key: str
    name: str
    command: str


KINDS = {
    kind.key: kind
    for kind in (
        FileKind("model", "a model", "echotally project {}"),
        FileKind("rates", "a rate card", "echotally rates show {}"),
        FileKind("projection", "a saved projection", "echotally compare {} LATER.json"),
        FileKind("answer", "the saved answer of a command", ""),
        FileKind("bill", "a bill with FOCUS columns", "echotally reconcile MODEL {}"),
        FileKind("log", "a log of runs", "echotally fit {}"),
        FileKind("trial", "results of load trials", "echotally fit {} --model MODEL --function NAME"),
        FileKind("spans", "spans in OTLP form", "echotally survey {} -o surveyed"),
        FileKind("metrics", "metrics", "echotally survey LOG --metrics {} -o surveyed"),
        FileKind("defaults", "a file of default options", ""),
        FileKind("page", "a page", ""),
        FileKind("picture", "a picture", ""),
    )
}


def what_is(path: Path) -> FileKind | None:
    """The kind of a file, None where no sign tells it or it cannot be read."""
    try:
        if str(path) == "-":
            head = content_of(path, _HEAD)[:_HEAD]
        else:
            with opened(path) as file:
                head = file.read(_HEAD)
    except OSError:
        return None
    key = _kind(head.removeprefix(b"\xef\xbb\xbf"), path)
    return KINDS[key] if key else None


def _kind(head: bytes, path: Path) -> str:
    if head.startswith((b"\x89PNG", b"\xff\xd8", b"%PDF")):
        return "picture"
    text = head.decode("utf-8", "replace")
    if text.lstrip()[:15].lower().startswith(("<!doctype html", "<html")):
        return "page"
    if text.lstrip().startswith(("{", "[{")):
        return _of_json(text)
    if path.name == "echotally.toml" and "schema" not in text:
        return "defaults"
    said = _SCHEMA.search(text)
    if said and said[1] in ("model", "rates"):
        return said[1]
    tables = set(_TABLE.findall(text))
    if "estate" in tables:
        return "model"
    if {"card", "plans"} <= tables:
        return "rates"
    return _of_rows(text)


def _of_json(text: str) -> str:
    said = _SCHEMA.search(text[:2_000])
    if said:
        return "projection" if said[1] == "projection" else "answer"
    if '"resourceSpans"' in text:
        return "spans"
    if '"resourceMetrics"' in text:
        return "metrics"
    first = text.strip().splitlines()[0]
    try:
        row = json.loads(first)
    except ValueError:
        return ""
    return _of_headings(list(row)) if isinstance(row, dict) else ""


def _of_rows(text: str) -> str:
    if re.search(r"^# (TYPE|HELP) ", text, re.M):
        return "metrics"
    first = text.strip().splitlines()[0] if text.strip() else ""
    rows = list(csv.reader([first], delimiter=next((sign for sign in ",;\t" if sign in first), ",")))
    return _of_headings(rows[0]) if rows else ""


def _of_headings(headings: list[str]) -> str:
    said = {heading.strip().lower() for heading in headings}
    if said & {"billedcost", "effectivecost"}:
        return "bill"
    if {"clients", "calls", "seconds"} <= said:
        return "trial"
    times = {"time", "timestamp", "start", "started", "at", "start_time", "starttime"}
    runs = {"run", "run_ms", "duration", "duration_ms", "took", "took_ms", "run_time", "elapsed"}
    return "log" if said & times and said & runs else ""


def mistaken(path: Path, wanted: str) -> Problem | None:
    """What to say of a file that is of another kind than ``wanted``; None where it may be of that kind, or no sign tells."""
    kind = what_is(path)
    if kind is None or kind.key == wanted:
        return None
    name = str(path)
    takes = f"; '{kind.command.format(quote(name))}' takes it" if kind.command else ""
    return Problem(f"is {kind.name}, and {KINDS[wanted].name} is wanted{takes}", file=name)
