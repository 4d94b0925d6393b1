"""One value of a file overridden by its dotted address (``--set``): checked like what is written, told like what is written."""

from __future__ import annotations

import tomllib
from difflib import get_close_matches
from typing import Any

from echotally.errors import BadInput, Problem
from echotally.model.reading import Address, Document


def set_value(document: Document, address: str, text: str) -> None:
    """Override one value by its dotted address; the text is read as TOML, else taken as a string.

    An empty text takes the value, table or array element out.
    """
    parts = tuple(address.split("."))
    try:
        value = tomllib.loads(f"v = {text}")["v"] if "\n" not in text else text
    except (tomllib.TOMLDecodeError, RecursionError, ValueError):
        value = text
    if not all(parts):
        raise BadInput(
            Problem(
                "is not an address",
                address,
                "--set",
                None,
                "",
                "a dotted address, such as functions.intake.memory",
            )
        )
    if text == "":
        _take_out(document.data, parts, address)
    else:
        _place(document, parts, value, address)
        _no_slip(document, parts[:2], address)
    document.changed[parts] = text


def _no_slip(document: Document, table: Address, address: str) -> None:
    """Refuse a new table named almost as one of the file: a value set there would quietly change nothing."""
    if table in document.made:
        beside = [name for name in document.data[table[0]] if name != table[-1]]
        near = get_close_matches(table[-1], beside, 1, 0.75)
        if near:
            allowed = f"addresses of the file, such as {table[0]}.{near[0]}"
            raise BadInput(Problem(f"{'.'.join(table)} is not in the file", address, "--set", allowed=allowed))


def _take_out(table: Any, parts: Address, address: str) -> None:
    for part in parts[:-1]:
        table = _step(table, part, address) if isinstance(table, dict | list) else None
    if isinstance(table, list):
        _step(table, parts[-1], address)
        del table[int(parts[-1])]
    elif not isinstance(table, dict) or table.pop(parts[-1], None) is None:
        raise BadInput(
            Problem("is not there to be taken out", address, "--set", allowed="an address the file has a value for")
        )


def _place(document: Document, parts: Address, value: object, address: str) -> None:
    table: Any = document.data
    for depth, part in enumerate(parts[:-1]):
        # Names of sources may be written with their kind (queues.alerts), so only plain nesting is walked.
        following = _step(table, part, address)
        if following is None:
            following = table[part] = {}
            document.made.add(parts[: depth + 1])
        if not isinstance(following, dict | list):
            raise BadInput(
                Problem(
                    "leads through a plain value",
                    address,
                    "--set",
                    None,
                    ".".join(parts[: depth + 1]),
                    "an address in the model",
                )
            )
        table = following
    if isinstance(table, list):
        _step(table, parts[-1], address)
        table[int(parts[-1])] = value
    else:
        table[parts[-1]] = value


def _step(table: Any, part: str, address: str) -> Any:
    if isinstance(table, list):
        if not part.isdecimal() or int(part) >= len(table):
            raise BadInput(
                Problem(
                    "has no such element",
                    address,
                    "--set",
                    None,
                    part,
                    f"0 to {len(table) - 1}, counted from the top",
                )
            )
        return table[int(part)]
    return table.get(part)
