"""Cells of a sheet: a text that would be taken for a formula is marked, and the mark is taken off again.

The signs are those of OWASP, "CSV Injection".
"""

from __future__ import annotations

import re
from typing import Any

FORMULA = ("=", "+", "-", "@", "\t", "\r")
_NUMBER = re.compile(r"[-+]?\d+(\.\d+)?([eE][-+]?\d+)?")


def harmless(value: Any) -> Any:
    """A text cell that a spreadsheet would take for a formula gets an apostrophe in front; all else, a number too, stays."""
    if not isinstance(value, str) or not value.startswith(FORMULA) or _NUMBER.fullmatch(value):
        return value
    return f"'{value}"


def unmarked(cell: str) -> str:
    """A cell without the apostrophe of ``harmless``."""
    return cell[1:] if cell.startswith("'") and cell[1:].startswith(FORMULA) else cell
