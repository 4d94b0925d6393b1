"""Writes overrides into a model's text, comments and order kept (tomlkit)."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import tomlkit

from echotally.errors import BadInput, Problem
from echotally.model.addresses import Address, parts_in


def with_values(text: str, sets: Iterable[tuple[str, str]]) -> str:
    """The text of a TOML file with values put at dotted addresses, as ``--set`` reads them; an empty one is taken out.

    Raises ``BadInput`` for an address that leads through a plain value or an element that is not there.
    """
    document = tomlkit.parse(text)
    for address, value in sets:
        _put(document, parts_in(document, address), value, address)
    return tomlkit.dumps(document)


def _put(document: Any, parts: Address, value: str, address: str) -> None:
    table = document
    for part in parts[:-1]:
        table = _inside(table, part, address)
    # In place, by tomlkit: comments and order belong to whoever wrote them.
    last: Any = int(parts[-1]) if isinstance(table, list) else parts[-1]
    if value == "":
        table.pop(last)
    else:
        table[last] = _value(value)


def _inside(table: Any, part: str, address: str) -> Any:
    try:
        if isinstance(table, list):
            return table[int(part)]
        if part not in table:
            table[part] = tomlkit.table()
        found = table[part]
    except (IndexError, ValueError, TypeError) as error:
        raise BadInput(Problem("cannot be written there", address)) from error
    if not isinstance(found, dict | list):
        raise BadInput(Problem("leads through a plain value", address))
    return found


def _value(text: str) -> Any:
    try:
        return tomlkit.parse(f"v = {text}")["v"]
    except tomlkit.exceptions.TOMLKitError:
        return text
