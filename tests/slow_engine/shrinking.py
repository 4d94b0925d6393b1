"""Makes an estate on which the engines differ smaller, as long as they still do (delta debugging, one thing at a time)."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import tomlkit

from echotally.errors import BadInput
from echotally.projection.loaded import load
from tests.slow_engine.comparing import difference

#: Tables whose entries are taken out one by one.
_NAMED = ("functions", "demand", "queues", "streams", "topics", "endpoints", "folders", "schedules", "environments")
Change = Callable[[Any], None]


def shrink(path: Path, plan: str, tell: Callable[[str], None]) -> tuple[str, str] | None:
    """The smallest model found on which the engines differ on ``plan``, and how; None where they agree on the model as it is.

    ``tell`` hears of every step. The smaller model is written beside the first, where its cards are.
    """
    trial = path.with_name(path.stem + "-smaller.toml")

    def differs(document: Any) -> str | None:
        trial.write_text(tomlkit.dumps(document), encoding="utf-8")
        try:
            return difference(load(trial), plan)
        except (BadInput, KeyError):
            return None

    document = tomlkit.parse(path.read_text(encoding="utf-8"))
    why = differs(document)
    if why is None:
        trial.unlink()
        return None
    smaller = True
    while smaller:
        smaller = False
        for what, change in _changes(document):
            less = copy.deepcopy(document)
            change(less)
            if found := differs(less):
                tell(what)
                document, why, smaller = less, found, True
                break
    trial.write_text(tomlkit.dumps(document), encoding="utf-8")
    return tomlkit.dumps(document), why


def _changes(document: Any) -> Iterator[tuple[str, Change]]:
    """Everything that could be left out or made smaller, the largest parts first."""
    for table in _NAMED:
        for name in list(document.get(table, {})):
            yield f"without {table}.{name}", partial(_without, table, name)
    for n in reversed(range(len(document.get("triggers", [])))):
        yield f"without triggers.{n}", partial(_taken_out, ("triggers", n))
    for table in ("targets", "defaults", "accepted", "exchange"):
        if table in document:
            yield f"without {table}", partial(_taken_out, (table,))
    yield from _keys(document)


def _without(table: str, name: str, document: Any) -> None:
    """Take an entry out, and whatever leads to it."""
    document[table].pop(name)
    if not document[table]:
        document.pop(table)
    source = f"{table}.{name}"
    for n in reversed(range(len(document.get("triggers", [])))):
        if document["triggers"][n]["from"] == source or (
            table == "functions" and document["triggers"][n]["to"] == name
        ):
            document["triggers"].pop(n)
    for demand in list(document.get("demand", {})):
        if document["demand"][demand]["into"] == source:
            document["demand"].pop(demand)


def _keys(document: Any) -> Iterator[tuple[str, Change]]:
    """Keys left out, items of arrays left out, whole numbers halved."""
    for place in list(_places(document)):
        address = ".".join(map(str, place))
        yield f"without {address}", partial(_taken_out, place)
        value = _at(document, place)
        if isinstance(value, int) and not isinstance(value, bool) and value > 1:
            for less in (1, value // 2, value - 1):
                yield f"{address} = {less}", partial(_set, place, less)


def _places(value: Any, above: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    pairs = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in list(pairs):
        if above[:1] != ("estate",) and len(above) > 0:
            yield (*above, key)
        yield from _places(inner, (*above, key))


def _taken_out(place: tuple[Any, ...], document: Any) -> None:
    _at(document, place[:-1]).pop(place[-1])


def _set(place: tuple[Any, ...], value: int, document: Any) -> None:
    _at(document, place[:-1])[place[-1]] = value


def _at(document: Any, place: Any) -> Any:
    for part in place:
        document = document[part]
    return document
