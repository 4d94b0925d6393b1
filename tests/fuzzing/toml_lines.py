"""Tables of a made-up case as TOML, one line a top-level key."""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import date
from typing import Any


def toml(tables: Mapping[str, Any]) -> str:
    """Tables as TOML, one line a top-level key."""
    return "\n".join(f"{_key(key)} = {_toml(value)}" for key, value in tables.items()) + "\n"


def _key(key: str) -> str:
    return _text(key)


def _text(text: str) -> str:
    return json.dumps(text).replace("\x7f", "\\u007f")


def _toml(value: Any) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, str):
        return _text(value)
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, Mapping):
        return "{ " + ", ".join(f"{_key(k)} = {_toml(v)}" for k, v in value.items()) + " }"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(_toml(v) for v in value) + "]"
    return repr(value)
