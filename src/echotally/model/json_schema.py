"""JSON Schema of the file formats, from the same definitions as the loader: completion and hover help in editors."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel
from pydantic.json_schema import GenerateJsonSchema

from echotally.model.estate import Model
from echotally.model.key_texts import MODEL_KEYS
from echotally.model.spread import Spread
from echotally.model.units import duration_text, memory_text, size_text

Schema = dict[str, Any]


class _Generator(GenerateJsonSchema):
    # Defaults are given as the file writes them, by ``_described``; the numbers inside are nobody's business.
    ignored_warning_kinds = {"skipped-choice", "non-serializable-default"}


def spread_text(key: str, default: Spread) -> str:
    """A spread that holds where a key is left out, as the file writes it."""
    return default.text or (size_text(int(default.scale)) if key == "payload" else duration_text(int(default.scale)))


def file_schema(root: type[BaseModel], described: dict[str, dict[str, str]]) -> Schema:
    """The JSON Schema (draft 2020-12) of a file whose types are ``root``; ``described`` has a line a key."""
    schema = root.model_json_schema(by_alias=True, schema_generator=_Generator)
    tables = {root.__name__: schema, **schema.get("$defs", {})}
    for name, table in tables.items():
        for key, found in table.get("properties", {}).items():
            _describe(found, described.get(name, {}).get(key, ""))
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}


def _describe(found: Schema, line: str) -> None:
    found.pop("title", None)
    default = found.pop("default", None)
    if default is not None:
        text = _as_written(found, default)
        line += f" Default: {text}." if text else ""
    found["description"] = line.strip()


def _as_written(found: Schema, default: Any) -> str:
    """A default as the file writes it; empty where it says nothing (an empty table, a spread)."""
    pattern = str(found.get("pattern", ""))
    if isinstance(default, int) and not isinstance(default, bool) and pattern:
        if "min" in pattern:
            return duration_text(default) if default else "0 s"
        return size_text(default) if r"(B|kB" in pattern else memory_text(default)
    if isinstance(default, bool):
        return str(default).lower()
    return "" if isinstance(default, dict | list) or default in (None, "") else str(default)


def model_schema() -> Schema:
    """JSON Schema of the model file."""
    schema = file_schema(Model, MODEL_KEYS)
    function = schema["$defs"]["Function"]
    # What [defaults] gives, a function may leave out; what neither gives is missing.
    needed = function.pop("required")
    schema["properties"]["defaults"] = {
        **{key: value for key, value in function.items() if key != "title"},
        "description": "Any key of a function; a function overrides it.",
    }
    given = [
        {
            "anyOf": [
                {"required": ["defaults"], "properties": {"defaults": {"required": [key]}}},
                {"properties": {"functions": {"additionalProperties": {"required": [key]}}}},
            ]
        }
        for key in needed
    ]
    return {**schema, "title": "Echo Tally model", "allOf": given}
