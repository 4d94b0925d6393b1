"""Values of the command line as people write them, in the words of the model file: ``10k``, ``1e6``, ``every 5 minutes``.

The file itself stays strict, since it is read by others; what is typed is turned into what the file would say, or left as it is.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from decimal import Decimal
from fractions import Fraction

_NUMBER = re.compile(r"([+-]?\d[\d_]*(?:\.\d+)?(?:[eE][+-]?\d{1,2})?)\s*([kKM]?)")
_TIMES = {"": 1, "k": 1_000, "K": 1_000, "M": 1_000_000}
#: First letters of each unit of time, and how the file writes it.
_UNITS = (
    ("milliseconds?|millis|msecs?", "ms"),
    ("seconds?|secs?", "s"),
    ("minutes?|mins?", "min"),
    ("hours?|hrs?", "h"),
    ("days?", "d"),
)
_SECONDS = {"s": 1, "min": 60, "h": 3_600, "d": 86_400}
_AMOUNT = re.compile(r"(\d[\d_]*(?:\.\d+)?)?\s*([a-z]+)")
#: Keys whose values are words, whatever they look like.
_WORDS = {
    "tags",
    "name",
    "cron",
    "rrule",
    "timezone",
    "month",
    "plan",
    "plans",
    "currency",
    "reason",
    "finding",
    "region",
}


def number_in(text: str) -> Decimal | None:
    """The number that a text says, None if it says none. ``M`` is a million, thousands may be set off with ``_``."""
    found = _NUMBER.fullmatch(text.strip())
    return Decimal(found[1].replace("_", "")) * _TIMES[found[2]] if found else None


def as_the_file_says(text: str, parts: Sequence[str]) -> str:
    """A value typed for the key at the address ``parts``, as the file would say it; what is none of these forms, as it is."""
    if _WORDS & set(parts):
        return text
    number = number_in(text)
    if number is not None and re.search(r"[eEkKM]", text):
        return f"{number:f}" if number != number.to_integral_value() else str(int(number))
    return quantity(text, as_rate=parts[-1:] == ["rate"] or parts[-1:] == ("rate",)) or text


def quantity(text: str, as_rate: bool = False) -> str:
    """``5 minutes`` as ``5 min``, ``12 per hour`` as ``12 /h``, ``every 5 minutes`` as a time, or as a rate; empty for others."""
    said = text.strip().strip('"').lower()
    every = said.startswith("every ")
    if not every and (per := re.fullmatch(r"(\d[\d_.]*)\s*(?:/|per |a |an )\s*([a-z]+)", said)):
        unit = _unit(per[2])
        return f"{per[1]} /{unit}" if unit in _SECONDS else ""
    found = _AMOUNT.fullmatch(said.removeprefix("every ").strip())
    unit = _unit(found[2]) if found else ""
    if found is None or not unit or not (found[1] or every):
        return ""
    if every and as_rate:
        return _rate(Fraction(found[1] or "1") * _SECONDS[unit]) if unit in _SECONDS else ""
    return f"{found[1] or 1} {unit}"


def _unit(word: str) -> str:
    short = {unit for _, unit in _UNITS}
    return word if word in short else next((unit for words, unit in _UNITS if re.fullmatch(words, word)), "")


def _rate(every_s: Fraction) -> str:
    """One in so many seconds, in the first unit in which it is a short number, else to fifteen digits."""
    if every_s <= 0:
        return ""
    for unit, seconds in _SECONDS.items():
        number = Decimal((seconds / every_s).numerator) / Decimal((seconds / every_s).denominator)
        if number >= 1 and number == round(number, 6):
            return f"{number.normalize():f} /{unit}"
    return f"{float(86_400 / every_s):.15f}".rstrip("0").rstrip(".") + " /d"
