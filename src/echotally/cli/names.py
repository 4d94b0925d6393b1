"""Names of the model that is named on the command line, for completion: plans, functions, queues, addresses, zones, meters.

The files are only parsed, never checked: a shell waits for the answer, and a model with mistakes has names all the same.
"""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any

import click
from click.shell_completion import CompletionItem

Tables = dict[str, Any]
#: Where the words of a line stand in its context.
TYPED = "echotally.typed"


class Name(click.ParamType):  # type: ignore[type-arg]
    """A text whose completions are names of a kind."""

    def __init__(self, kind: str) -> None:
        self.name = kind

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        """Names of the kind that begin with what is there; none where the model cannot be read."""
        model = _model(ctx)
        # Only what begins so: shells do not filter what they are given.
        return [CompletionItem(name) for name in _KNOWN[self.name](*model) if name.startswith(incomplete)]


def _model(ctx: click.Context) -> tuple[Tables, Path]:
    # A line that is not finished is not parsed to its end: the model is looked for among the words.
    words = (Path(word) for word in ctx.meta.get(TYPED, ()) if word.endswith(".toml"))
    path = next((path for path in words if path.is_file()), None)
    return (_parsed(path), path) if path else ({}, Path())


def _parsed(path: Path) -> Tables:
    try:
        return tomllib.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        return {}


def _keys(model: Tables, table: str) -> list[str]:
    found = model.get(table)
    return list(found) if isinstance(found, dict) else []


def _functions(model: Tables, path: Path) -> list[str]:
    return _keys(model, "functions")


def _queues(model: Tables, path: Path) -> list[str]:
    return _keys(model, "queues")


def _schedules(model: Tables, path: Path) -> list[str]:
    return _keys(model, "schedules")


def _cards(model: Tables, path: Path) -> Iterator[tuple[str, Tables]]:
    files = model.get("estate", {}).get("rate_cards", [])
    for name in files if isinstance(files, list) else []:
        card = _parsed(path.parent / str(name))
        own = card.get("card", {}).get("name", Path(str(name)).stem)
        yield str(own), card


def _plans(model: Tables, path: Path) -> list[str]:
    return [f"{own}.{plan}" for own, card in _cards(model, path) for plan in _keys(card, "plans")]


def _environments(model: Tables, path: Path) -> list[str]:
    return _keys(model, "environments")


def _zones(model: Tables, path: Path) -> list[str]:
    from zoneinfo import available_timezones

    return sorted(available_timezones())


def _splits(model: Tables, path: Path) -> list[str]:
    tags = {tag for f in model.get("functions", {}).values() if isinstance(f, dict) for tag in f.get("tags", {})}
    return ["function", "environment", "source", "outcome", *(f"tag:{tag}" for tag in sorted(tags))]


def _explained(model: Tables, path: Path) -> list[str]:
    return [
        *_functions(model, path),
        *(f"{f}@{e}" for f in _functions(model, path) for e in _environments(model, path)),
    ]


def _addresses(model: Tables, path: Path) -> Iterator[str]:
    """Every address of the file and of its cards, and the keys that a function, a plan's prices and the estate may have."""
    from echotally.model.addresses import dotted
    from echotally.model.key_texts import MODEL_KEYS
    from echotally.rates.meters import METERS

    def known() -> Iterator[tuple[str, ...]]:
        yield from _inside(model, ())
        for name in _functions(model, path):
            yield from (("functions", name, key) for key in MODEL_KEYS.get("Function", {}))
        yield from (("estate", key) for key in MODEL_KEYS.get("Estate", {}))
        yield from (("targets", key) for key in MODEL_KEYS.get("Targets", {}))
        for own, card in _cards(model, path):
            for plan in _keys(card, "plans"):
                at = ("cards", own, "plans", plan)
                yield from ((*at, "price", meter, "unit") for meter in METERS)
                yield from ((*at, key) for key in card["plans"][plan] if key != "price")

    yield from (f"{dotted(address)}=" for address in known())


def _inside(table: Tables, at: tuple[str, ...]) -> Iterator[tuple[str, ...]]:
    for key, value in table.items():
        if isinstance(value, dict):
            yield from _inside(value, (*at, key))
        elif not isinstance(value, list) and (*at, key) != ("schema",):
            yield (*at, key)


def _once(names: Callable[[Tables, Path], Iterable[str]]) -> Callable[[Tables, Path], Iterable[str]]:
    return lambda model, path: dict.fromkeys(names(model, path))


_KNOWN: dict[str, Callable[[Tables, Path], Iterable[str]]] = {
    "plan": _plans,
    "function": _functions,
    "queue": _queues,
    "schedule": _schedules,
    "environment": _environments,
    "zone": _zones,
    "split": _splits,
    "explained": _explained,
    "address": _once(_addresses),
}
PLAN, FUNCTION, QUEUE, SCHEDULE = Name("plan"), Name("function"), Name("queue"), Name("schedule")
ENVIRONMENT, ZONE, SPLIT, EXPLAINED, ADDRESS = (
    Name(kind) for kind in ("environment", "zone", "split", "explained", "address")
)
