"""One value of a file overridden by its dotted address (``--set``): checked like what is written, told like what is written."""

from __future__ import annotations

import tomllib
from difflib import get_close_matches
from typing import Any

from echotally.errors import BadInput, Problem
from echotally.model.addresses import Address, dotted, names_of, parts_in
from echotally.model.reading import Document
from echotally.model.spoken import as_the_file_says
from echotally.model.taking_out import taken_along
from echotally.model.units import WrittenFloat


def set_value(document: Document, address: str, text: str) -> None:
    """Override one value by its dotted address; the text is read as TOML, else taken as a string.

    An empty text takes the value, table or array element out, and with a source, function, environment or outside service the
    wiring that points to it. Elements of arrays go by number or by name. Addresses that begin with ``cards`` are kept for the
    rate cards.
    """
    parts = parts_in(document.data, address)
    text = as_the_file_says(text, parts)
    try:
        # As the file would say it; what is no TOML value is taken for a text, so that nobody need quote quotes.
        value = tomllib.loads(f"v = {text}", parse_float=WrittenFloat)["v"] if "\n" not in text else text
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
                "a dotted address, such as functions.intake.memory; a name with = in it stands in double quotes",
            )
        )
    if parts[0] == "cards" and "cards" not in document.data:
        document.card_sets.append((parts, text))
        document.changed[parts] = text
        return
    parts = _by_number(document.data, parts)
    if text == "":
        document.along += taken_along(document.data, parts)
        _take_out(document.data, parts, address)
    else:
        _place(document, parts, value, address)
        _no_slip(document, parts[:2], address)
    document.changed[parts] = text


def _by_number(data: Any, parts: Address) -> Address:
    """The same address with elements of arrays by their numbers, where it has them by name."""
    table, found = data, []
    for part in parts:
        if isinstance(table, list) and not part.isdecimal():
            # By name, so that an override still means the same when somebody puts an element above it.
            part = next((str(n) for n, item in enumerate(table) if part in names_of(item)), part)
        found.append(part)
        if isinstance(table, list):
            table = table[int(part)] if part.isdecimal() and int(part) < len(table) else None
        else:
            table = table.get(part) if isinstance(table, dict) else None
    return tuple(found)


def _no_slip(document: Document, table: Address, address: str) -> None:
    """Refuse a new table named almost as one of the file: a value set there would quietly change nothing."""
    if table in document.made:
        beside = [name for name in document.data[table[0]] if name != table[-1]]
        # Nearly the same name is a slip; another name is a new table, which an override may make.
        near = get_close_matches(table[-1], beside, 1, 0.75)
        if near:
            allowed = f"addresses of the file, such as {dotted((table[0], near[0]))}"
            raise BadInput(Problem(f"{dotted(table)} is not in the file", address, "--set", allowed=allowed))


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
                    dotted(parts[: depth + 1]),
                    "an address in the model",
                )
            )
        table = following
    if isinstance(table, list):
        _step(table, parts[-1], address)
        table[int(parts[-1])] = value
    else:
        table[parts[-1]] = value


def _named(table: list[Any]) -> str:
    names = [f'"{name}"' for item in table[:10] for name in names_of(item)]
    return f", or {', '.join(names)}" if names else ""


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
                    f"0 to {len(table) - 1}, counted from the top" + _named(table),
                )
            )
        return table[int(part)]
    return table.get(part)
