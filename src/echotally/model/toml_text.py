"""Values as TOML on one line: what ``--set`` takes where a suggestion changes an array or a table."""

from __future__ import annotations

import json
import re
from typing import Any


def toml_text(value: Any) -> str:
    """A value as TOML on one line, as ``--set`` takes it."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{_key(key)} = {toml_text(each)}" for key, each in value.items()) + " }"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(map(toml_text, value)) + "]"
    # JSON's text, number and truth are TOML's.
    return json.dumps(value)


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else json.dumps(name)
