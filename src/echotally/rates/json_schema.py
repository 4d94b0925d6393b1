"""JSON Schema of the rate card."""

from __future__ import annotations

from echotally.model.json_schema import Schema, file_schema
from echotally.rates.card import RateCard
from echotally.rates.key_texts import CARD_KEYS
from echotally.rates.meters import METERS


def rates_schema() -> Schema:
    """JSON Schema of the rate card, from the loader's own definitions."""
    schema = file_schema(RateCard, CARD_KEYS)
    for key in ("price", "allowance"):
        schema["$defs"]["Plan"]["properties"][key]["propertyNames"] = {"enum": list(METERS)}
    return {**schema, "title": "Echo Tally rate card"}
