"""Reads a TOML file into checked types, reporting every mistake with file, line, address and remedy.

Why it exists: model and rate card are both read this way, so a refusal looks the same everywhere.
"""

from __future__ import annotations

import copy
import re
import tomllib
from collections.abc import Mapping, Sequence
from difflib import get_close_matches
from functools import cached_property
from pathlib import Path
from types import UnionType
from typing import Any, TypeVar, Union, get_args, get_origin

from msgspec import Struct, field
from pydantic import BaseModel, ValidationError

from echotally.errors import BadInput, Problem, Refused
from echotally.files import text_of, unreadable
from echotally.model.addresses import Address, dotted
from echotally.model.fields import SPELLINGS
from echotally.model.positions import key_lines, line_of
from echotally.recognising import mistaken

Table = TypeVar("Table", bound=BaseModel)
#: Far above any estate written by hand or script; keeps junk from filling the memory.
LARGEST_FILE_BYTES = 32_000_000


class Document(Struct, dict=True):
    """A TOML file: its data, where its keys stand, which addresses ``--set`` changed, which tables it made.

    ``written`` is the data as the file has it, where ``--set`` changed some; ``card_sets`` are overrides of rate cards, ``along`` is
    what went with something that was taken out.
    """

    path: Path
    data: dict[str, Any]
    text: str
    changed: dict[Address, str] = field(default_factory=dict)
    made: set[Address] = field(default_factory=set)
    written: dict[str, Any] | None = None
    card_sets: list[tuple[Address, str]] = field(default_factory=list)
    along: list[str] = field(default_factory=list)

    @cached_property
    def lines(self) -> dict[Address, int]:
        """The line of every key; looked for only where something is to be said of one."""
        return key_lines(self.text)

    def copy(self) -> Document:
        """The same document, which may be changed without changing this one."""
        # The data is never changed in place once it is loaded, so that it may stand for what was written.
        written = self.data if self.written is None else self.written
        return Document(
            self.path,
            copy.deepcopy(self.data),
            self.text,
            dict(self.changed),
            set(self.made),
            written,
            list(self.card_sets),
            list(self.along),
        )

    def changed_sets(self) -> list[tuple[str, str]]:
        """The overrides that were applied, as (address, value)."""
        return [(dotted(address), text) for address, text in self.changed.items()]

    def problem(self, address: Address, message: str, value: object = None, allowed: str = "") -> Problem:
        """A ``Problem`` at an address of this file, or on the command line where ``--set`` put it there."""
        shown = "" if value is None else _shown(value)
        # Where an override changed a part of the address, the mistake is on the command line, not in the file.
        for length in range(len(address), 0, -1):
            if address[:length] in self.changed:
                return Problem(message, dotted(address), "--set", None, shown, allowed)
        for length in range(1, len(address) + 1):
            if address[:length] in self.made:
                message += self._not_in_file(address[:length]) if length < len(address) else ""
                return Problem(message, dotted(address), "--set", None, shown, allowed)
        return Problem(message, dotted(address), str(self.path), line_of(self.lines, address), shown, allowed)

    def _not_in_file(self, table: Address) -> str:
        """Said of a table that an override made, most likely by a slip of the pen."""
        beside: Any = self.data
        for part in table[:-1]:
            beside = beside[part]
        # Its own name is there by now: the override has made the table.
        near = get_close_matches(table[-1], [name for name in beside if name != table[-1]], 1, 0.5)
        hint = f"; did you mean {dotted((*table[:-1], near[0]))}?" if near else ""
        return f" ({dotted(table)} is not in the file{hint})"


def hold_kind(document: Document, schema: str, own: Sequence[str]) -> None:
    """Raise ``BadInput`` for a file that shows no sign of being of the kind wanted: of what is in it nothing is said then.

    A sign is the key ``schema``, or two of the tables ``own`` that such a file has.
    """
    said = document.data.get("schema")
    # What says its kind is taken at its word, and every mistake in it is told.
    if said == schema:
        return
    other = mistaken(document.path, schema.removeprefix("echotally-").partition("/")[0])
    if other is not None:
        raise BadInput(other)
    if not (isinstance(said, str) and said.startswith("echotally-")) and len(set(own) & set(document.data)) < 2:
        allowed = f'schema = "{schema}" and the tables {", ".join(own)}'
        raise BadInput(Problem("is no file of this kind", file=str(document.path), allowed=allowed))


def _shown(value: object) -> str:
    # As the file writes texts, so that the value can be searched for.
    text = repr(value) if not isinstance(value, str) else f'"{value}"'
    return text if len(text) <= 80 else text[:77] + "..."


def read_document(path: Path) -> Document:
    """Parse a TOML file. Raises ``BadInput`` with one clear line if it cannot be read as one."""
    name = str(path)
    try:
        text = text_of(path, LARGEST_FILE_BYTES, errors="strict")
    except UnicodeDecodeError as error:
        raise BadInput(Problem("is not a text file (UTF-8)", file=name)) from error
    except OSError as error:
        raise unreadable(path, error, "a TOML file") from error
    # An empty file is valid TOML and would be called a model without a name.
    if not text.strip():
        raise BadInput(Problem("is empty; 'echotally start DIR' writes one to begin with", file=name))
    # The parser would name a sign that nobody can see.
    if "\0" in text:
        raise BadInput(Problem("is a binary file, not TOML text", file=name))
    try:
        return Document(path, tomllib.loads(text), text)
    except (tomllib.TOMLDecodeError, RecursionError, ValueError) as error:
        other = mistaken(path, "model")
        raise BadInput(
            other or _syntax_problem(str(error) or "nested too deeply", name, 'schema = "echotally-' in text)
        ) from error


def _syntax_problem(text: str, name: str, known: bool) -> Problem:
    message, _, place = text.partition(" (at line ")
    if not known:
        # The file may be anything: what is in it is not repeated.
        message = re.split(r"['(\"]", message)[0].strip() or "a sign out of place"
    # The parser tells line and column in its own words; the line is what an editor jumps to.
    line = place.split(",")[0]
    return Problem(f"is not TOML: {message}", file=name, line=int(line) if line.isdigit() else None)


def validate(document: Document, kind: type[Table], data: Mapping[str, Any], prefix: Address = ()) -> Table:
    """Turn plain data into ``kind``; every mistake found goes into one ``BadInput``."""
    try:
        return kind.model_validate(data, context={"folder": document.path.parent})
    except ValidationError as error:
        # All of them at once: whoever mends a file wants to do it in one go.
        items = error.errors(include_url=False)
        raise BadInput(
            [_translate(document, kind, item, prefix) for item in items if not _echo(item, items)]
        ) from error


def _echo(item: Any, items: list[Any]) -> bool:
    """An array is called too short when its elements were refused; their own errors say enough."""
    place = item["loc"]
    return item["type"] == "too_short" and any(
        i["loc"][: len(place)] == place and len(i["loc"]) > len(place) for i in items
    )


def _translate(document: Document, kind: type[BaseModel], item: Any, prefix: Address) -> Problem:
    place: tuple[str | int, ...] = item["loc"]
    # The validator marks keys of tables so; in an address they stand as they are.
    address = prefix + tuple(str(part) for part in place if part != "[key]")
    found = item["input"]
    if item["type"] == "extra_forbidden":
        known = keys_at(kind, place[:-1])
        # More daring than elsewhere: a hint costs nothing, as all keys stand beside it.
        near = get_close_matches(str(place[-1]), known, 1, 0.5)
        hint = f"unknown key; did you mean {near[0]}?" if near else "unknown key"
        return document.problem(address, hint, None, ", ".join(known))
    # By kind, since the library's words are about fields and types, and ours about keys and values.
    if item["type"] == "missing":
        return document.problem(address, "is required and missing")
    if item["type"] == "value_error":
        error: Refused = item["ctx"]["error"]
        return document.problem(address, error.message, None if isinstance(found, dict) else found, error.allowed)
    if item["type"] == "string_pattern_mismatch":
        return document.problem(address, "is not spelled as it must be", found, SPELLINGS[item["ctx"]["pattern"]])
    if item["type"] == "literal_error":
        return document.problem(address, "is not one of the values allowed", found, item["ctx"]["expected"])
    message = (
        item["msg"].replace("Input should be", "should be").replace("tuple", "array").replace("dictionary", "table")
    )
    return document.problem(address, message[0].lower() + message[1:], found if not isinstance(found, dict) else None)


def keys_at(kind: type[BaseModel], place: tuple[str | int, ...]) -> list[str]:
    """The keys allowed at a place inside ``kind``, as the file writes them."""
    current: Any = kind
    for part in place:
        current = _inner(current, part)
    table = _table_of(current)
    return [info.alias or name for name, info in table.model_fields.items()] if table else []


def _inner(annotation: Any, part: str | int) -> Any:
    table = _table_of(annotation)
    if table is not None:
        for name, info in table.model_fields.items():
            if (info.alias or name) == part:
                return info.annotation
        return None
    arguments = [argument for argument in get_args(annotation) if argument not in (type(None), Ellipsis)]
    if get_origin(annotation) in (Union, UnionType):
        return _inner(arguments[0], part)
    return arguments[-1] if get_origin(annotation) is dict else (arguments[0] if arguments else None)


def _table_of(annotation: Any) -> type[BaseModel] | None:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    for argument in get_args(annotation) if get_origin(annotation) in (Union, UnionType) else ():
        if isinstance(argument, type) and issubclass(argument, BaseModel):
            return argument
    return None
