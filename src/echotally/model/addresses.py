"""Addresses of values: dotted, as ``--set`` takes them and messages tell them, and in parts, as the tables of a file hold them."""

from __future__ import annotations

import json
import re
from collections.abc import Collection
from itertools import islice
from typing import Any

Address = tuple[str, ...]
_PARTS = re.compile(r'(?:^|\.)(?:"((?:[^"\\]|\\.)*)"(?=\.|$)|([^.]*))')
_PLAIN = re.compile(r'[^\s."=\\]+')
_BARE = re.compile(r"[A-Za-z0-9_-]+")
#: No name in a file is longer; those of triggers are made of two.
_LONGEST = 500


def dotted(address: Address) -> str:
    """The address as it is typed: a part that would not be read as one is quoted, as in TOML."""
    return ".".join(part if _PLAIN.fullmatch(part) else json.dumps(part, ensure_ascii=False) for part in address)


def address_parts(address: str) -> Address:
    """The parts of a dotted address; a part in double quotes may hold anything."""
    return tuple(part for part, _ in _read(address))


def parts_in(data: Any, address: str) -> Address:
    """The parts of an address of ``data``: a name with dots needs no quotes where ``data`` has something of that name.

    Where it has two, as ``functions.a.b.memory`` with a function ``a`` and another ``a.b``, the longer name is meant.
    """
    said, found, table, place = _read(address), list[str](), data, 0
    while place < len(said):
        end = place + _length_of_name(table, said, place)
        found.append(".".join(text for text, _ in said[place:end]))
        table, place = _below(table, found[-1]), end
    return tuple(found)


def override(text: str) -> tuple[str, str] | None:
    """The address and the value of ``ADDRESS=VALUE``, at the first equals sign that no quotes hold; None where it is no such text."""
    sign = _first_sign(text)
    address = text[:sign].strip() if sign > 0 else ""
    return (address, text[sign + 1 :].strip()) if address else None


def _first_sign(text: str) -> int:
    quoted = escaped = False
    for place, letter in enumerate(text):
        if letter == "=" and not quoted:
            return place
        if letter == '"' and not escaped:
            quoted = not quoted
        escaped = quoted and letter == "\\" and not escaped
    # Quotes that are never closed hold nothing.
    return text.find("=") if quoted else -1


def key_of(name: str) -> str:
    """A name as a key of TOML."""
    return name if _BARE.fullmatch(name) else json.dumps(name, ensure_ascii=False)


def table_of(parts: Address) -> str:
    """A table's name as TOML has it between brackets."""
    return ".".join(map(key_of, parts))


def names_of(item: Any) -> tuple[str, ...]:
    """What an element of an array may be called: its name, or where a trigger leads from and to."""
    if not isinstance(item, dict):
        return ()
    named = (item["name"],) if isinstance(item.get("name"), str) else ()
    return (*named, f"{item['from']}>{item['to']}") if "from" in item and "to" in item else named


def _read(address: str) -> list[tuple[str, bool]]:
    """Each part, and whether it was quoted."""
    return [(_unquoted(held), True) if held else (plain, False) for held, plain in _PARTS.findall(address)]


def _unquoted(held: str) -> str:
    try:
        return str(json.loads(f'"{held}"', strict=False))
    except ValueError:
        return held


def _length_of_name(table: Any, said: list[tuple[str, bool]], place: int) -> int:
    """How many of the parts from a place on make the next name: as many as the table has a name of, if something of it is left to ask for."""
    name, quoted = said[place]
    known: Collection[str] = table if isinstance(table, dict) else ()
    if isinstance(table, list) and not name.isdecimal():
        known = {name for item in table for name in names_of(item)}
    if quoted or not known:
        return 1
    whole, some = 0, 1 if name in known else 0
    for n, (text, quoted) in enumerate(islice(said, place + 1, None), 2):
        name = f"{name}.{text}"
        if quoted or len(name) > _LONGEST:
            break
        if name in known:
            whole, some = (n, some) if place + n == len(said) else (whole, n)
    return some or whole or 1


def _below(table: Any, part: str) -> Any:
    if isinstance(table, list):
        number = int(part) if part.isdecimal() else next((n for n, x in enumerate(table) if part in names_of(x)), -1)
        return table[number] if 0 <= number < len(table) else None
    return table.get(part) if isinstance(table, dict) else None
