"""Units of the model file and the rate card: text such as "30 s" or "512 MB" to numbers.

Why it exists: a bare number where a unit is needed is the commonest mistake in a model, so every
quantity is read in one place, exactly (``Decimal``), and a refusal shows the forms allowed.
"""

from __future__ import annotations

import re
from decimal import Decimal
from fractions import Fraction

from echotally.errors import Refused

NS_PER_S = 1_000_000_000
_DURATION_NS = {
    "ms": 1_000_000,
    "s": NS_PER_S,
    "min": 60 * NS_PER_S,
    "h": 3_600 * NS_PER_S,
    "d": 86_400 * NS_PER_S,
}
_SIZE_BYTES = {"B": 1, "kB": 10**3, "MB": 10**6, "GB": 10**9}
_MEMORY_MB = {"MB": 1, "GB": 1024}
_RATE_S = {"/s": 1, "/min": 60, "/h": 3_600, "/d": 86_400}
_QUANTITY = re.compile(r"(\d+(?:_\d+)*(?:\.\d+)?)\s*(/?\s*[A-Za-z]+)")
# Longest duration taken: 100 years, far beyond any timer and far below the 292 years an int64 of ns holds.
_LONGEST_NS = 36_525 * _DURATION_NS["d"]
#: Bounds far beyond anything sold or sent, so that every sum of a month stays inside an int64.
_LARGEST_BYTES, _LARGEST_MB, _FASTEST_PER_S = 10**15, 2**30, 10**12

DURATION_FORMS = 'a number and one of ms, s, min, h, d, such as "30 s"'
SIZE_FORMS = 'a number and one of B, kB, MB, GB, such as "1.2 kB"'
MEMORY_FORMS = 'a number and MB or GB, such as "512 MB"'
RATE_FORMS = 'a number and one of /s, /min, /h, /d, such as "55 /s"'
MONEY_FORMS = 'a decimal number in quotes, such as "0.19"'


def _split(text: object, units: dict[str, int], forms: str) -> tuple[Decimal, int]:
    if (text == 0 and isinstance(text, int) and not isinstance(text, bool)) or text == "0":
        # Nothing is nothing in every unit.
        return Decimal(0), next(iter(units.values()))
    if isinstance(text, bool) or not isinstance(text, str):
        raise Refused("needs a unit", forms)
    match = _QUANTITY.fullmatch(text.strip())
    unit = match.group(2).replace(" ", "") if match else ""
    if match is None or unit not in units:
        raise Refused("is not a quantity with a known unit", forms)
    return Decimal(match.group(1).replace("_", "")), units[unit]


def duration_ns(text: object) -> int:
    """Nanoseconds of a duration such as ``"2 min"``; ``ValueError`` with the forms allowed otherwise."""
    number, unit_ns = _split(text, _DURATION_NS, DURATION_FORMS)
    if number * unit_ns > _LONGEST_NS:
        raise Refused("is longer than 100 years", "at most 36525 d")
    return int((number * unit_ns).to_integral_value())


def size_bytes(text: object) -> int:
    """Bytes (decimal units) of a payload, log or package size such as ``"1.2 kB"``."""
    number, unit = _split(text, _SIZE_BYTES, SIZE_FORMS)
    if number * unit > _LARGEST_BYTES:
        raise Refused("is larger than a million GB", "at most 1000000 GB")
    return int((number * unit).to_integral_value())


def memory_mb(text: object) -> int:
    """Binary megabytes of a memory size such as ``"1.5 GB"`` (1 GB = 1024 MB); whole megabytes only."""
    number, unit = _split(text, _MEMORY_MB, MEMORY_FORMS)
    mb = number * unit
    if mb != mb.to_integral_value() or mb <= 0:
        raise Refused("is not a whole, positive number of MB", MEMORY_FORMS)
    if mb > _LARGEST_MB:
        raise Refused("is larger than a million GB", f"at most {_LARGEST_MB // 1024} GB")
    return int(mb)


def rate_per_s(text: object) -> Fraction:
    """Events per second of a rate such as ``"55 /s"``."""
    number, unit_s = _split(text, _RATE_S, RATE_FORMS)
    if number > _FASTEST_PER_S * unit_s:
        raise Refused("is faster than a million million a second", f"at most {_FASTEST_PER_S} /s")
    return Fraction(number) / unit_s


def rate_text(per_s: Fraction) -> str:
    """A rate as the model file writes it: in the first unit in which it is at least one, exactly where that can be."""
    units = [(unit, seconds) for unit, seconds in _RATE_S.items() if per_s * seconds >= 1] or [("/d", 86_400)]
    whole = next(((unit, seconds) for unit, seconds in units if (per_s * seconds).denominator == 1), units[0])
    return f"{float(per_s * whole[1]):.12g} {whole[0]}"


def count_per_ns(text: object) -> tuple[int, int]:
    """(count, nanoseconds) of a rate above 0 in lowest terms, so that integer arithmetic on it is exact."""
    ratio = rate_per_s(text) / NS_PER_S
    if not ratio:
        raise Refused("never gives anything", "a rate above 0 /s")
    return ratio.numerator, ratio.denominator


class WrittenFloat(float):
    """A number of the command line, which still knows how it was written: money is read from that, exactly."""

    text: str

    def __new__(cls, text: str) -> WrittenFloat:
        """The number that ``text`` says."""
        found = super().__new__(cls, text)
        found.text = str(text)
        return found


def money(text: object) -> Decimal:
    """``Decimal`` of a price written as a string; a float of a file is refused because it is not exact."""
    if isinstance(text, WrittenFloat):
        text = text.text
    if isinstance(text, float):
        raise Refused("is a float, and floats cannot hold cents exactly: put it in quotes", MONEY_FORMS)
    if isinstance(text, bool) or not isinstance(text, str | int):
        raise Refused("is not money", MONEY_FORMS)
    if not re.fullmatch(r"\d{1,15}(\.\d{1,15})?", str(text).replace("_", "")):
        raise Refused("is not money", MONEY_FORMS)
    return Decimal(str(text).replace("_", ""))


def duration_text(ns: int) -> str:
    """A duration as a person would write it: the largest unit that gives a short number."""
    for unit in ("d", "h", "min", "s"):
        if ns >= _DURATION_NS[unit] and ns % (_DURATION_NS[unit] // 100 or 1) == 0:
            return (
                f"{Decimal(ns) / _DURATION_NS[unit]:f}".rstrip("0").rstrip(".") + f" {unit}"
                if (ns % _DURATION_NS[unit])
                else f"{ns // _DURATION_NS[unit]} {unit}"
            )
    text = f"{Decimal(ns) / 1_000_000:f}"
    return (text.rstrip("0").rstrip(".") if "." in text else text) + " ms"


def size_text(size: int) -> str:
    """A size in bytes as a person would write it: the largest unit in which it is whole."""
    unit = next(unit for unit in ("GB", "MB", "kB", "B") if size % _SIZE_BYTES[unit] == 0 and (size or unit == "B"))
    return f"{size // _SIZE_BYTES[unit]} {unit}"


def about_size(size: float) -> str:
    """A measured or computed size in bytes in the unit a person would use, to three digits: ``165 MB``, ``1.2 kB``."""
    unit = next((unit for unit in ("GB", "MB", "kB") if size >= 0.9995 * _SIZE_BYTES[unit]), "B")
    number = size / _SIZE_BYTES[unit]
    return f"{number:,.0f} {unit}" if number >= 100 else f"{number:.3g} {unit}"


def memory_text(mb: int) -> str:
    """A memory size as a person would write it: GB where whole, else MB."""
    return f"{mb // 1024} GB" if mb % 1024 == 0 else f"{mb} MB"
