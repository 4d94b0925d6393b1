"""Units of measure on bills, as factors to the unit a meter counts in: "1M Calls", "GB-Hours", "10,000 Requests"."""

from __future__ import annotations

import re
from decimal import Decimal

from echotally.rates.meters import COUNTED, OUTSIDE, meter_of

_TIMES = {
    "": 1,
    "k": 1_000,
    "thousand": 1_000,
    "thousands": 1_000,
    "m": 10**6,
    "million": 10**6,
    "millions": 10**6,
    "mm": 10**6,
    "b": 10**9,
    "bn": 10**9,
    "billion": 10**9,
}
_SIZES = {
    "b": Decimal(1) / 10**9,
    "byte": Decimal(1) / 10**9,
    "kb": Decimal(1) / 10**6,
    "mb": Decimal(1) / 1_000,
    "gb": Decimal(1),
    "tb": Decimal(1_000),
}
_BINARY = {
    "kib": Decimal(2**10) / 10**9,
    "mib": Decimal(2**20) / 10**9,
    "gib": Decimal(2**30) / 10**9,
    "tib": Decimal(2**40) / 10**9,
}
_SECONDS = {
    "ms": Decimal(1) / 1_000,
    "s": Decimal(1),
    "sec": Decimal(1),
    "second": Decimal(1),
    "min": Decimal(60),
    "minute": Decimal(60),
    "h": Decimal(3_600),
    "hr": Decimal(3_600),
    "hour": Decimal(3_600),
    "day": Decimal(86_400),
    "d": Decimal(86_400),
}
#: Words for things that are counted one by one.
_THINGS = {
    "call",
    "use",
    "request",
    "invocation",
    "execution",
    "operation",
    "run",
    "event",
    "message",
    "record",
    "firing",
    "unit",
    "count",
    "each",
    "api call",
    "publish",
    "publishe",
    "notification",
    "write",
    "transaction",
    "put",
    "month",
    "job",
    "item",
}
_COUNTED = {*COUNTED, "flat_months"}


def factor(unit: str, meter: str) -> Decimal | None:
    """How many of the meter's units one of a bill's unit is; None where the two do not measure the same thing.

    Sizes of memory and of data are the bill's own gigabytes; only binary ones written as such are converted for data.
    """
    found = re.fullmatch(r"\s*([\d,.]*)\s*([a-z]*)\b[\s-]*(.*?)\s*", unit.lower().replace("_", " "))
    whole = unit.lower().strip()
    for number, times, rest in [("", "", whole), *([found.groups()] if found else [])]:
        if times not in _TIMES:
            times, rest = "", f"{times} {rest}".strip()
        per = _number(number)
        of = _plain(rest, meter)
        if per is not None and of is not None:
            return per * _TIMES[times] * of
    return None


def _number(text: str) -> Decimal | None:
    plain = text.replace(",", "")
    return Decimal(1) if not plain else Decimal(plain) if re.fullmatch(r"\d+(\.\d+)?", plain) else None


def _singular(word: str) -> str:
    return word[:-1] if word.endswith("s") and word not in ("s", "ms") else word


def _plain(unit: str, meter: str) -> Decimal | None:
    """The factor of a unit without a number in front."""
    words = [_singular(word) for word in re.split(r"[\s\-/·*x]+", unit) if word]
    kind = meter_of(meter).unit
    if meter in _COUNTED or meter.startswith(OUTSIDE):
        plain = all(word.isalpha() and word not in _TIMES for word in words)
        return Decimal(1) if plain and (not words or words[-1] in _THINGS or " ".join(words) in _THINGS) else None
    if kind == "h":
        return _SECONDS[words[-1]] / 3_600 if words and words[-1] in _SECONDS else None
    if kind in ("GB-s", "vCPU-s"):
        size = _SIZES if kind == "GB-s" else {"vcpu": Decimal(1), "cpu": Decimal(1), "core": Decimal(1)}
        memory = (
            {**size, "gib": Decimal(1), "mib": Decimal(1) / 1_024, "mb": Decimal(1) / 1_024} if kind == "GB-s" else size
        )
        return (
            memory[words[0]] * _SECONDS[words[1]]
            if len(words) == 2 and words[0] in memory and words[1] in _SECONDS
            else None
        )
    sizes = {**_SIZES, **_BINARY}
    if kind == "GB-months":
        long = {"month": Decimal(1), "mo": Decimal(1)}
        return sizes[words[0]] * long[words[1]] if len(words) == 2 and words[0] in sizes and words[1] in long else None
    return sizes[words[0]] if len(words) == 1 and words[0] in sizes else None
