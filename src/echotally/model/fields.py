"""The typed fields of model and rate card: one definition each for parsing, refusing and JSON Schema.

A validator raises ``Refused``; the loader adds file, line and address.
"""

from __future__ import annotations

import re
from contextlib import suppress
from datetime import datetime
from decimal import Decimal
from fractions import Fraction
from functools import cache
from pathlib import Path
from typing import Annotated, Any
from zoneinfo import ZoneInfo, available_timezones

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationInfo, WithJsonSchema

from echotally.errors import Refused
from echotally.model import units
from echotally.model.spread import Spread, parse_spread

_QUANTITY = r"^\s*\d[\d_]*(\.\d+)?\s*"


def _text_schema(pattern: str, example: str) -> WithJsonSchema:
    return WithJsonSchema({"type": "string", "pattern": pattern, "examples": [example]})


def _quantity_schema(pattern: str, example: str) -> WithJsonSchema:
    """A number and its unit; nothing is nothing in every unit, so that 0 may stand alone."""
    # ``maximum`` 0: the one whole number allowed is the one that needs no unit.
    forms = {"type": ["string", "integer"], "pattern": pattern, "minimum": 0, "maximum": 0, "examples": [example]}
    return WithJsonSchema(forms)


def _spread_schema(unit_pattern: str, example: str) -> WithJsonSchema:
    text = {"type": "string", "pattern": unit_pattern, "examples": [example]}
    forms: list[dict[str, Any]] = [
        {"median": text, "p95": text},
        {"mean": text, "shape": {"const": "exponential"}},
        {"samples": {"type": "string"}},
    ]
    share = {"share": {"type": "number", "minimum": 0, "maximum": 1}}
    parts = [_table({**share, **form}) for form in [{"constant": text}, *forms]]
    mix = {"mix": {"type": "array", "minItems": 1, "items": {"anyOf": parts}}}
    return WithJsonSchema({"anyOf": [text, *map(_table, forms), _table(mix)]})


def _table(properties: dict[str, Any]) -> dict[str, Any]:
    """A table with all of these keys and no other."""
    return {"type": "object", "properties": properties, "required": list(properties), "additionalProperties": False}


_DURATION = _QUANTITY + r"(ms|s|min|h|d)\s*$"
_SIZE = _QUANTITY + r"(B|kB|MB|GB)\s*$"

Duration = Annotated[int, BeforeValidator(units.duration_ns), _quantity_schema(_DURATION, "30 s")]
Size = Annotated[int, BeforeValidator(units.size_bytes), _quantity_schema(_SIZE, "1.2 kB")]
Memory = Annotated[int, BeforeValidator(units.memory_mb), _text_schema(_QUANTITY + r"(MB|GB)\s*$", "512 MB")]
Rate = Annotated[
    Fraction, BeforeValidator(units.rate_per_s), _quantity_schema(_QUANTITY + r"/\s*(s|min|h|d)\s*$", "55 /s")
]
Money = Annotated[
    Decimal,
    BeforeValidator(units.money),
    WithJsonSchema(
        {
            "anyOf": [
                {"type": "string", "pattern": r"^\d{1,15}(\.\d{1,15})?$"},
                {"type": "integer", "minimum": 0},
            ]
        }
    ),
]


#: Years in which a moment may lie: time zones, and the days on either side of it, can be told of all of them.
FIRST_YEAR, LAST_YEAR = 1900, 9998


def _folder(info: ValidationInfo) -> Path:
    # Without a context the data was handed over in Python, and files are looked for where it runs.
    return Path((info.context or {}).get("folder", "."))


def _positive(ns: int) -> int:
    if ns <= 0:
        raise Refused("must be longer than nothing", 'a duration above "0 s"')
    return ns


def _run_spread(found: object, info: ValidationInfo) -> Spread:
    return parse_spread(found, units.duration_ns, "120 ms", "ms", 1_000_000, _folder(info))


def _size_spread(found: object, info: ValidationInfo) -> Spread:
    return parse_spread(found, units.size_bytes, "8 MB", "bytes", 1, _folder(info))


PositiveDuration = Annotated[
    int, BeforeValidator(lambda found: _positive(units.duration_ns(found))), _text_schema(_DURATION, "30 s")
]
RunSpread = Annotated[Spread, BeforeValidator(_run_spread), _spread_schema(_DURATION, "120 ms")]
SizeSpread = Annotated[Spread, BeforeValidator(_size_spread), _spread_schema(_SIZE, "8 MB")]


@cache
def _zones() -> frozenset[str]:
    return frozenset(available_timezones())


@cache
def _packaged_zones() -> frozenset[str]:
    """Those of the time zone package, where there is one: a list, where the system's are a folder of files to look into."""
    with suppress(ImportError, OSError):
        import tzdata

        return frozenset(Path(tzdata.__path__[0], "zones").read_text(encoding="utf-8").split())
    return frozenset()


def _zone(found: object) -> str:
    if not isinstance(found, str) or (found not in _packaged_zones() and found not in _zones()):
        from difflib import get_close_matches

        near = get_close_matches(str(found), _zones(), 1)
        raise Refused("is not a time zone", "an IANA zone name" + (f", perhaps {near[0]}" if near else ""))
    # Opened once here, so that a zone that is listed and cannot be read is told of at its line.
    ZoneInfo(found)
    return found


def _month(found: object) -> str:
    if (
        not isinstance(found, str)
        or not re.fullmatch(r"\d{4}-(0[1-9]|1[0-2])", found)
        or not 1970 <= int(found[:4]) <= 9998
    ):
        raise Refused("is not a calendar month", '"YYYY-MM" from 1970-01 to 9998-12')
    return found


def _moment(found: object) -> datetime:
    """A local time without offset, as text or as a TOML date-time."""
    try:
        # TOML has times of its own, and the parser has made them into one already.
        moment = datetime.fromisoformat(found) if isinstance(found, str) else found
    except ValueError:
        moment = None
    # An offset would be a second clock beside the estate's zone, and wrong for half of the year.
    if not isinstance(moment, datetime) or moment.tzinfo is not None:
        raise Refused("is not a local time", '"YYYY-MM-DDTHH:MM" without offset')
    if not FIRST_YEAR <= moment.year <= LAST_YEAR:
        raise Refused("is out of range", f"years {FIRST_YEAR} to {LAST_YEAR}")
    return moment


Zone = Annotated[str, BeforeValidator(_zone), WithJsonSchema({"type": "string", "examples": ["Europe/Dublin"]})]
Month = Annotated[str, BeforeValidator(_month), _text_schema(r"^\d{4}-(0[1-9]|1[0-2])$", "2027-03")]
Moment = Annotated[
    datetime,
    BeforeValidator(_moment),
    _text_schema(r"^\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}(\.\d+)?)?)?$", "2027-03-14T04:00"),
]
Share = Annotated[float, Field(ge=0, le=1)]
#: Counts are bounded so that every sum of a month stays inside an int64.
Count = Annotated[int, Field(ge=0, le=10**9, strict=True)]
Positive = Annotated[int, Field(ge=1, le=10**9, strict=True)]
Factor = Annotated[float, Field(ge=0, le=10**9)]
_CURRENCY, _SHORT_NAME = r"^[A-Z]{3}$", r"^[A-Za-z0-9_-]{1,60}$"
#: What to say of texts of a fixed spelling: a pattern is for editors, not for people.
SPELLINGS = {
    _CURRENCY: "three capital letters, such as EUR",
    _SHORT_NAME: "up to 60 letters, digits, - and _",
}
Currency = Annotated[str, Field(pattern=_CURRENCY)]
#: Names that stand between the dots of ``card.plan``.
ShortName = Annotated[str, Field(pattern=_SHORT_NAME)]
Name = Annotated[str, Field(min_length=1, max_length=200)]


class Strict(BaseModel):
    """Base of every table of the model and the card: unknown keys are errors, objects do not change."""

    model_config = ConfigDict(
        # Schemas are made when a table is first read: most runs need a few of them, and all take a tenth of a second.
        defer_build=True,
        extra="forbid",
        # Parts of a model are shared by studies that change others of it.
        frozen=True,
        arbitrary_types_allowed=True,
        populate_by_name=False,
        allow_inf_nan=False,
    )
