"""Rules about which keys go together, as JSON Schema fragments: the same that the loader's validators check."""

from __future__ import annotations

from typing import Any

Schema = dict[str, Any]


def exactly_one(*keys: str) -> Schema:
    """One of the keys, and only one."""
    return {"oneOf": [{"required": [key]} for key in keys]}


def at_most_one(*keys: str) -> Schema:
    """No two of the keys."""
    pairs = [{"required": [a, b]} for n, a in enumerate(keys) for b in keys[n + 1 :]]
    return {"not": {"anyOf": pairs}}


def at_least_one(*keys: str) -> Schema:
    """One of the keys or more."""
    return {"anyOf": [{"required": [key]} for key in keys]}


def none_of(*keys: str) -> Schema:
    """None of the keys."""
    return {"not": {"anyOf": [{"required": [key]} for key in keys]}}


def together(one: str, other: str) -> Schema:
    """Both keys or neither."""
    return {"dependentRequired": {one: [other], other: [one]}}


def where(key: str, value: object, then: Schema, otherwise: Schema | None = None) -> Schema:
    """``then`` holds where ``key`` is ``value``, ``otherwise`` (nothing) where it is not."""
    found = {"if": {"required": [key], "properties": {key: {"const": value}}}, "then": then}
    return found if otherwise is None else {**found, "else": otherwise}


def all_of(*parts: Schema) -> Schema:
    """Every part holds."""
    return {"allOf": list(parts)}
