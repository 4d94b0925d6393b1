"""One row of the reference for each key: type, forms, range, default, whether it is required, an example; read from the schema.

Why it exists: the loader's types are the only place where all of that is true, and the JSON Schema says it in words a page can use.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

from msgspec import Struct

Schema = dict[str, Any]
#: The end of a quantity's pattern -> what it is, the units it takes, an example.
_QUANTITIES = {
    r"(ms|s|min|h|d)\s*$": ("duration", "ms, s, min, h, d", "30 s"),
    r"(B|kB|MB|GB)\s*$": ("size", "B, kB, MB, GB", "8 MB"),
    r"(MB|GB)\s*$": ("memory", "MB, GB", "512 MB"),
    r"/\s*(s|min|h|d)\s*$": ("rate", "/s, /min, /h, /d", "55 /s"),
}
#: Other patterns: what they are, how they are written, an example.
_PATTERNS = {
    r"^(queues|topics|streams|endpoints|folders|schedules)\..+$": ("source", "KIND.NAME", '"queues.alerts"'),
    r"^\d{4}-(0[1-9]|1[0-2])$": ("month", "YYYY-MM", '"2027-03"'),
    r"^[A-Z]{3}$": ("currency", "three capitals", '"EUR"'),
    r"^\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}(\.\d+)?)?)?$": ("local time", "YYYY-MM-DDTHH:MM", '"2027-03-14T04:00"'),
}
_MONEY = r"^\d{1,15}(\.\d{1,15})?$"
#: Keys whose value is a text of a form of its own: an example.
_TEXTS = {
    "cron": '"30 1 * * *"',
    "every": '"5 min"',
    "rrule": '"FREQ=WEEKLY;BYDAY=MO"',
    "ics": '"watch.ics"',
    "trace": '"visitors.csv"',
    "timezone": '"Europe/Dublin"',
    "plan": '"heron.shared"',
    "plans": '["heron.shared"]',
    "rate_cards": '["rates/heron.toml"]',
    "to": '"intake"',
    "function": '"intake"',
    "functions": '["intake"]',
    "account": '"main"',
    "name": '"river watch"',
    "finding": '"C02"',
    "at": '"2027-03-14T04:00"',
    "reason": '"needed until spring"',
    "what": '"text-message"',
    "like": '"shared"',
}
#: Keys whose type does not say all of it: an example, by table and key.
_OWN = {
    ("Ask", "to"): '"endpoints.latest"',
    ("Trigger", "dead_letter"): '"queues.parked"',
    ("Queue", "dead_letter"): '"queues.parked"',
    ("Incident", "name"): '"gateway hangs"',
    ("Card", "name"): '"heron"',
}
#: Tables of which one key does not go without another.
_TABLES = {
    "MemorySizes": '{ from = "128 MB", to = "8 GB", step = "64 MB" }',
    "Demand": '{ into = "queues.alerts", rate = "160 /h" }',
    "Card": '{ name = "heron", currency = "EUR" }',
    "Incident": '{ name = "gateway hangs", at = "2027-03-14T04:00", lasts = "15 min", error_rate = 0.5 }',
    "Lump": '{ cron = "0 6 * * *", count = 100 }',
    "FlatItem": '"15.00"',
    "Plan": (
        '{ bills = "runs", memory = { choices = ["512 MB"] }, vcpu_per_gb = 1, price = { gb_seconds = { unit = "0.00002" } } }'
    ),
    "Scaling": '{ kind = "per-call", burst = 100, ramp = "500 /min" }',
}
#: Of a file's patterns the rest are texts.
_TEXT = ("text", "", '"..."')


class Row(Struct, frozen=True):
    """A key: what its value is, how it is written, what it may be, what it is where it is left out, whether it has to be there."""

    key: str
    kind: str
    forms: str
    limits: str
    default: str
    required: str
    example: str
    meaning: str


class Rows:
    """The rows of every table of a file's schema."""

    def __init__(self, schema: Schema, described: Mapping[str, Mapping[str, str]], root: str) -> None:
        self.tables = {root: schema, **schema.get("$defs", {})}
        self.described = described
        self.either = _required_here_or_in_defaults(schema)

    def of(self, table: str) -> list[Row]:
        """The rows of one table, in the order of its keys."""
        schema = self.with_keys(table)
        keys = schema.get("properties", {})
        needed = schema.get("required", [])
        return [self._row(table, key, keys[key], key in needed) for key in self.described.get(table, {}) if key in keys]

    def with_keys(self, table: str) -> Schema:
        """A table's schema; of one that may be a value or a table the latter."""
        schema = self.tables.get(table, {})
        return next((each for each in [schema, *schema.get("anyOf", [])] if "properties" in each), schema)

    def _row(self, table: str, key: str, found: Schema, needed: bool) -> Row:
        kind, forms = self._kind(found)
        required = (
            "yes" if needed else "here or in `[defaults]`" if table == "Function" and key in self.either else "no"
        )
        meaning = self.described[table][key]
        example = _OWN.get((table, key)) or self.example(key, found)
        default = self._default(found, meaning, required)
        return Row(key, kind, forms, _limits(found), default, required, f"`{key} = {example}`", meaning)

    @staticmethod
    def _default(found: Schema, meaning: str, required: str) -> str:
        said = re.search(r"Default: (.+?)\.$", str(found.get("description", "")))
        if said:
            return f"`{said[1]}`"
        if "left out:" in meaning:
            return meaning.partition("left out:")[2].strip().rstrip(".").partition(";")[0]
        return "" if required != "no" else "none"

    # -- what a value is

    def _kind(self, found: Schema) -> tuple[str, str]:
        """What a value is, and how it is written."""
        options = [each for each in found.get("anyOf", [found]) if each.get("type") != "null"]
        if any(each.get("pattern") == _MONEY for each in options):
            return "money", "a decimal number in quotes"
        if "anyOf" in found and len(options) > 1:
            first, forms = self._kind(options[0])
            tables = [", ".join(each["properties"]) for each in options[1:] if "properties" in each]
            if tables:
                return f"{first} spread", " or ".join([forms, *(f"{{ {each} }}" for each in tables)])
            kinds = dict.fromkeys(self._kind(each)[0] for each in options)
            return " or ".join(kinds), forms
        return self._one_kind(options[0])

    def _one_kind(self, found: Schema) -> tuple[str, str]:
        if "$ref" in found:
            return "table", f"see {_name(found)}"
        if "enum" in found or "const" in found:
            values = found.get("enum", [found.get("const")])
            return "choice", ", ".join(json.dumps(value) for value in values)
        kind = _type(found)
        if kind == "array":
            inner, forms = self._kind(found.get("items", {}))
            return f"list of {_several(inner)}", forms
        if kind == "object":
            return self._map(found)
        if kind == "string":
            return _text(found)[:2]
        return {"boolean": ("yes or no", "true, false"), "integer": ("whole number", ""), "number": ("number", "")}.get(
            str(kind), ("value", "")
        )

    def _map(self, found: Schema) -> tuple[str, str]:
        inner: Any = found.get("additionalProperties") or next(iter(found.get("patternProperties", {}).values()), {})
        if not isinstance(inner, dict) or not inner:
            return "table", ""
        kind, forms = self._kind(inner)
        return (
            f"tables by name ({forms.removeprefix('see ')})" if kind == "table" else f"{_several(kind)} by name"
        ), forms

    # -- an example

    def example(self, key: str, found: Schema) -> str:
        """A value that the loader takes for a key of this type, as TOML."""
        options = [each for each in found.get("anyOf", [found]) if each.get("type") != "null"]
        one = options[0]
        if any(each.get("pattern") == _MONEY for each in options):
            return '"0.19"'
        if "$ref" in one:
            return self._inline(_name(one))
        if "enum" in one or "const" in one:
            return json.dumps(one.get("enum", [one.get("const")])[0])
        kind = _type(one)
        if kind == "array":
            return self._list(key, one)
        if kind == "object":
            return self._named(one)
        if kind == "string":
            known = _text(one)
            return _TEXTS.get(key, known[2]) if known[0] == "text" else known[2]
        return "true" if kind == "boolean" else _number(one)

    def _named(self, found: Schema) -> str:
        """A table of one name: of those that are known the first, else one of the form that names have."""
        patterns: dict[str, Schema] = found.get("patternProperties", {})
        inner = found.get("additionalProperties") or next(iter(patterns.values()), None)
        known = found.get("propertyNames", {})
        name = next(iter(known.get("enum", known.get("examples", []))), None)
        for form, example in (("[A-Z]{3}", "EUR"), ("\\d{4}", "2027-03")):
            name = name or next((example for pattern in patterns if form in pattern), None)
        name = name or "NAME"
        if not isinstance(inner, dict):
            return "{}"
        return f"{{ {name if name.isidentifier() else json.dumps(name)} = {self.example('', inner)} }}"

    def _list(self, key: str, found: Schema) -> str:
        if key in _TEXTS and found.get("items", {}).get("type") == "string":
            return _TEXTS[key]
        return f"[{', '.join([self.example(key, found.get('items', {}))] * found.get('minItems', 1))}]"

    def _inline(self, table: str) -> str:
        """A table with its required keys, or the first it has."""
        if table in _TABLES:
            return _TABLES[table]
        schema = self.tables[table]
        keys = schema.get("required") or list(schema.get("properties", {}))[:1]
        inside = ", ".join(f"{key} = {self.example(key, schema['properties'][key])}" for key in keys)
        return f"{{ {inside} }}"


def _required_here_or_in_defaults(schema: Schema) -> set[str]:
    """Keys that every function needs, of its own or from ``[defaults]`` (``json_schema.model_schema``)."""
    return {
        key
        for each in schema.get("allOf", [])
        for option in each.get("anyOf", [])
        for key in option.get("properties", {}).get("defaults", {}).get("required", [])
    }


def _name(found: Schema) -> str:
    return str(found["$ref"]).rpartition("/")[2]


def _several(kind: str) -> str:
    return kind if kind.endswith("s") else f"{kind}s"


def _text(found: Schema) -> tuple[str, str, str]:
    """What a text is, how it is written, an example."""
    pattern = str(found.get("pattern", ""))
    examples = found.get("examples")
    for end, (kind, units, usual) in _QUANTITIES.items():
        if pattern.endswith(end):
            return kind, units, json.dumps(examples[0] if examples else usual)
    if pattern in _PATTERNS:
        return _PATTERNS[pattern]
    if found.get("format") == "date":
        return "day", "YYYY-MM-DD", "2027-03-14"
    kind, forms, example = _TEXT
    return kind, forms, json.dumps(examples[0]) if examples else example


def _limits(found: Schema) -> str:
    """The range of a value, or of those in a list, in words."""
    options = [each for each in found.get("anyOf", [found]) if each.get("type") != "null"]
    one = options[0]
    said = _bounds(one)
    if one.get("type") == "array":
        few, many = one.get("minItems"), one.get("maxItems")
        count = f"{few} of them" if few and few == many else f"at least {few}" if few else ""
        said = ", ".join(filter(None, (count, _bounds(one.get("items", {})))))
    return said


def _type(found: Schema) -> Any:
    """The type of a value; of a quantity, which may also be a bare 0, text."""
    kind = found.get("type")
    return kind[0] if isinstance(kind, list) else kind


def _bounds(found: Schema) -> str:
    if isinstance(found.get("type"), list):
        return ""
    least, above = found.get("minimum"), found.get("exclusiveMinimum")
    most, below = found.get("maximum"), found.get("exclusiveMaximum")
    low = f"{least:,}" if least is not None else f"above {above:,}" if above is not None else ""
    high = f"{most:,}" if most is not None else f"below {below:,}" if below is not None else ""
    if low and high:
        return f"{low} to {high}"
    return f"from {low}" if low else f"up to {high}" if high else ""


def _number(found: Schema) -> str:
    """A number within its bounds: one where it may be, else something between them."""
    bounds: dict[str, float] = {name: value for name, value in found.items() if isinstance(value, int | float)}
    most = bounds.get("maximum", bounds.get("exclusiveMaximum", 10.0))
    least = bounds.get("minimum", bounds.get("exclusiveMinimum", 0.0))
    if found.get("type") == "integer":
        return str(max(1, int(least)))
    return "0.5" if most <= 1 else "1.5" if least <= 1.5 else f"{least:g}"
