"""A cron expression that was refused, mended to what was probably meant, so that an error has a line to paste.

A guess, and shown as one: numbers beyond the field's end become what follows the end (60 minutes: 0), names in full their three
letters, a range that runs backwards its two parts, a field that says nothing ``*``. What can still not be read is not shown.
"""

from __future__ import annotations

import re
from collections.abc import Callable

#: Lowest and highest number of each of five fields; where counting goes on after the last (24 h is 0 h), what it is counted by.
_LIMITS = ((0, 59), (0, 23), (1, 31), (1, 12), (0, 7))
_ROUND = {0: 60, 1: 24, 4: 7}
_NAMES = {
    3: ("JAN", "FEB", "MAR", "APR", "MAY", "JUN", "JUL", "AUG", "SEP", "OCT", "NOV", "DEC"),
    4: ("SUN", "MON", "TUE", "WED", "THU", "FRI", "SAT"),
}
_SPOKEN = {"EVERY": "*", "DAILY": "*", "": "*", "ANY": "*", "ALL": "*"}


def mended(expression: str, reads: Callable[[str], object]) -> str:
    """A near expression that ``reads`` takes (it raises ``ValueError`` for others); empty if none was found."""
    parts = expression.upper().split()
    # The last field is the one most often forgotten.
    if len(parts) == 4:
        parts.append("*")
    seconds = parts[:1] if len(parts) == 6 and "?" not in parts else []
    if seconds:
        parts = parts[1:]
    year = parts[5:]
    if len(parts) not in (5, 6) or (len(parts) == 6 and not year):
        return ""
    found = " ".join([*seconds, *(_field(part, number) for number, part in enumerate(parts[:5])), *year])
    # Six fields may be five behind seconds that are not switched on.
    for candidate in (found, " ".join(found.split()[1:]) if seconds else ""):
        try:
            if candidate and candidate != expression.strip():
                reads(candidate)
                return candidate
        except ValueError:
            continue
    return ""


def _field(part: str, number: int) -> str:
    items = [_item(item, number) for item in part.split(",")]
    return "*" if "*" in items else ",".join(items)


def _item(item: str, number: int) -> str:
    if item in _SPOKEN:
        return _SPOKEN[item]
    item = re.sub(r"[A-Z]{4,}", lambda found: _short(found[0], number), item)
    if re.fullmatch(r"\?|L|LW|L-\d+|\d+W|\d+L|[0-7]#[1-5]", item):
        return item
    body, slash, step = item.partition("/")
    body = body or "*"
    if slash and (not step.isdecimal() or int(step) == 0):
        slash = step = ""
    ends = [_number(end, number) for end in body.split("-")]
    # What cannot be guessed at is left open rather than made up.
    if body == "*" or not 1 <= len(ends) <= 2 or None in ends:
        return "*" + slash + step
    numbers = [end for end in ends if end is not None]
    if len(numbers) == 2 and numbers[0] > numbers[1]:
        low, high = _LIMITS[number]
        high = 6 if number == 4 else high
        return ",".join(str(a) if a == b else f"{a}-{b}" for a, b in ((numbers[0], high), (low, numbers[1])))
    return "-".join(str(each) for each in numbers) + slash + step


def _short(name: str, number: int) -> str:
    return next((known for known in _NAMES.get(number, ()) if name.startswith(known)), name)


def _number(text: str, number: int) -> int | None:
    low, high = _LIMITS[number]
    names = _NAMES.get(number, ())
    if text in names:
        return names.index(text) + (1 if number == 3 else 0)
    if not text.isdecimal():
        return None
    value = int(text)
    if value > high and value == _ROUND.get(number):
        value %= _ROUND[number]
    return min(max(value, low), high)
