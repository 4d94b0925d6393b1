"""How tables are written where somebody asks for it: line by line for a screen reader, numbers as a locale has them.

Only tables: data stays as it is in every form, with points and ISO dates, whoever reads it.
"""

from __future__ import annotations

import locale
import re
from collections.abc import Iterator
from contextlib import contextmanager

from msgspec import Struct

from echotally.errors import BadInput, Problem


class Manner(Struct, frozen=True):
    """``plain``: a line a row, every cell with its heading, no rules; else columns. What stands before and among decimals."""

    plain: bool = False
    decimal: str = "."
    thousands: str = ","


_NOW = [Manner()]
_NUMBER = re.compile(r"\d[\d,]*(?:\.\d+)?")


def manner() -> Manner:
    """The manner in force."""
    return _NOW[-1]


@contextmanager
def written(found: Manner) -> Iterator[None]:
    """Tables are written in a manner while this lasts."""
    _NOW.append(found)
    try:
        yield
    finally:
        _NOW.remove(found)


def of_locale(name: str) -> tuple[str, str]:
    """The signs before and among decimals of a locale, ``system`` for this machine's own. Raises ``BadInput``."""
    before = locale.setlocale(locale.LC_NUMERIC)
    try:
        for known in [""] if name == "system" else [name, f"{name}.UTF-8", f"{name}.utf8"]:
            try:
                locale.setlocale(locale.LC_NUMERIC, known)
            except locale.Error:
                continue
            found = locale.localeconv()
            return str(found["decimal_point"]), str(found["thousands_sep"])
    finally:
        locale.setlocale(locale.LC_NUMERIC, before)
    allowed = "system, or a locale that this machine has (`locale -a` lists them)"
    raise BadInput(Problem("is no locale of this machine", "--locale", value=name, allowed=allowed))


def local(cell: str) -> str:
    """A cell of a column of numbers as the locale in force has it."""
    now = manner()
    if (now.decimal, now.thousands) == (".", ","):
        return cell
    signs = {".": now.decimal, ",": now.thousands}
    return _NUMBER.sub(lambda found: "".join(signs.get(sign, sign) for sign in found[0]), cell)
