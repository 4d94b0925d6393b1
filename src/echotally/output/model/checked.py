"""What ``check`` says of a model without mistakes, and every value in force."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator
from fractions import Fraction
from typing import Any

from pydantic import BaseModel

from echotally.errors import safe
from echotally.model.addresses import Address, dotted
from echotally.model.estate import Model
from echotally.model.sources import SourceKind
from echotally.model.spread import Spread
from echotally.model.units import duration_text, rate_text
from echotally.projection.loaded import Loaded

_DURATIONS = {
    "timeout",
    "per_item",
    "per_mb",
    "visibility",
    "retention",
    "delay",
    "batch_wait",
    "every",
    "client_pause",
    "lasts",
    "over",
}
_MEMORY = {"memory", "measured_at", "memory_used"}


def checked_text(loaded: Loaded) -> str:
    """One paragraph: what the model holds, and that it has no errors."""
    model = loaded.model
    events = sum(tap.expected for tap in loaded.month.taps)
    clients = sum(tap.clients for tap in loaded.month.taps)
    beside = f", besides the requests of {clients:,} clients" if clients else ""
    lines = [
        f"{safe(model.estate.name)}: no errors.",
        f"{_several(model.functions, 'function')}, {_several(model.sources(), 'source')}, {_several(model.triggers, 'trigger')}, "
        f"{_several(model.environments, 'environment')}, {_several(loaded.offers, 'plan')} on "
        f"{_several(model.estate.rate_cards, 'card')}; about {events:,.0f} events come in during {model.estate.month}{beside}.",
        *loaded.month.notes,
    ]
    return "\n".join(lines) + "\n"


def _several(things: Collection[object], word: str) -> str:
    return f"{len(things)} {word}{'' if len(things) == 1 else 's'}"


def defaults_text(loaded: Loaded) -> str:
    """Every value of the model in force, one address a line, those of the file and the defaults alike."""
    return "\n".join(f"{address} = {value}" for address, value in _all_in_force(loaded.model)) + "\n"


def defaults_json(loaded: Loaded) -> str:
    """The same as data (schema ``echotally-values/1``)."""
    rows = [{"address": address, "value": value} for address, value in _all_in_force(loaded.model)]
    return json.dumps({"schema": "echotally-values/1", "values": rows}, indent=2, ensure_ascii=False) + "\n"


def _all_in_force(model: Model) -> list[tuple[str, str]]:
    """As ``values_in_force``, those too that are taken from elsewhere where nothing is said."""
    said = dict(values_in_force(model))
    taken = {address: value for address, value in _taken_from_elsewhere(model) if address not in said}
    tables = list(dict.fromkeys(address.rsplit(".", 1)[0] for address in said))
    place = {table: n for n, table in enumerate(tables)}
    # Each beside the other values of its table.
    return sorted([*said.items(), *taken.items()], key=lambda row: place.get(row[0].rsplit(".", 1)[0], len(place)))


def _taken_from_elsewhere(model: Model) -> Iterator[tuple[str, str]]:
    yield "estate.plans", "every plan of the cards"
    for name, function in model.functions.items():
        yield safe(dotted(("functions", name, "instance_limit"))), "the plan's own"
        yield safe(dotted(("functions", name, "measured_at"))), f"{function.measured_at or function.memory} MB"
        yield safe(dotted(("functions", name, "measured_vcpu"))), "what each plan gives at measured_at"
        yield safe(dotted(("functions", name, "memory_used"))), f"{function.used_mb} MB"
    for name, schedule in model.schedules.items():
        yield safe(dotted(("schedules", name, "timezone"))), model.estate.timezone
        if schedule.cron is None:
            yield (
                safe(dotted(("schedules", name, "from"))),
                "the month's start" if schedule.every else "1 January of the year, 00:00",
            )
    for number, trigger in enumerate(model.triggers):
        keys = trigger.from_.kind.traits.trigger_keys
        if "readers" in keys:
            yield f"triggers.{number}.readers", str(trigger.readers_in_force)
        if trigger.from_.kind is SourceKind.QUEUES:
            queue = model.queues[trigger.from_.name]
            yield (
                f"triggers.{number}.tries",
                f"{queue.tries} receipts" if queue.dead_letter else "until the retention ends",
            )
        elif "tries" in keys:
            yield f"triggers.{number}.tries", str(trigger.tries_in_force or "without end")


def values_in_force(model: Model) -> list[tuple[str, str]]:
    """(address, value) of every value of a model, as text safe to print."""
    return list(_inside((), model))


def _inside(at: Address, value: Any) -> Iterator[tuple[str, str]]:
    if isinstance(value, BaseModel):
        for name, info in type(value).model_fields.items():
            yield from _inside((*at, info.alias or name), getattr(value, name))
    elif isinstance(value, dict):
        for key, inner in value.items():
            yield from _inside((*at, key), inner)
    elif isinstance(value, tuple) and value and isinstance(value[0], BaseModel):
        for number, inner in enumerate(value):
            yield from _inside((*at, str(number)), inner)
    elif value is not None and value != ():
        yield safe(dotted(at)), _text(at[-1], value)


def _text(key: str, value: Any) -> str:
    if isinstance(value, Spread):
        return safe(value.text) or (duration_text(int(value.scale)) if key != "payload" else f"{value.scale:g} B")
    if isinstance(value, Fraction):
        return rate_text(value)
    if key in _MEMORY:
        return f"{value} MB"
    if isinstance(value, tuple):
        return safe(json.dumps(value, ensure_ascii=False, default=str))
    return duration_text(value) if key in _DURATIONS else safe(str(value))
