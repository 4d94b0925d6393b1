"""Addresses of values: dotted, as ``--set`` takes them and messages tell them, and in parts, as the tables of a file hold them."""

from __future__ import annotations

import json
import re
from collections.abc import Collection
from typing import Any

Address = tuple[str, ...]
_PARTS = re.compile(r'(?:^|\.)(?:"((?:[^"\\]|\\.)*)"(?=\.|$)|([^.]*))')
_PLAIN = re.compile(r'[^\s."=\\]+')
_BARE = re.compile(r"[A-Za-z0-9_-]+")
_WORDS = re.compile(r'"(?:[^"\\]|\\.)*"|[^"=]+|.', re.S)


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
    said, found, table = _read(address), list[str](), data
    while said:
        end = _end_of_name(table, said)
        part = ".".join(text for text, _ in said[:end])
        found.append(part)
        said, table = said[end:], _below(table, part)
    return tuple(found)


def override(text: str) -> tuple[str, str] | None:
    """The address and the value of ``ADDRESS=VALUE``, at the first equals sign that no quotes hold; None where it is no such text."""
    sign = next((word.start() for word in _WORDS.finditer(text) if word[0] == "="), 0)
    address = text[:sign].strip()
    return (address, text[sign + 1 :].strip()) if address else None


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


def _end_of_name(table: Any, said: list[tuple[str, bool]]) -> int:
    """How many of the parts make the next name: as many as the table has a name of, if something of it is left to ask for."""
    known: Collection[str] = table if isinstance(table, dict) else ()
    if isinstance(table, list) and not said[0][0].isdecimal():
        known = {name for item in table for name in names_of(item)}
    ends = [n for n in range(1, len(said) + 1) if n == 1 or not any(quoted for _, quoted in said[:n])]
    named = [n for n in ends if ".".join(text for text, _ in said[:n]) in known]
    return max([n for n in named if n < len(said)] or named or [1])


def _below(table: Any, part: str) -> Any:
    if isinstance(table, list):
        number = int(part) if part.isdecimal() else next((n for n, x in enumerate(table) if part in names_of(x)), -1)
        return table[number] if 0 <= number < len(table) else None
    return table.get(part) if isinstance(table, dict) else None
