"""What the report is made of: cells, tables and pictures, with what comes from a model made visible."""

from __future__ import annotations

import base64
import gc
from collections.abc import Sequence

from msgspec import Struct, field

from echotally.errors import safe
from echotally.studies.otherwise import Otherwise


class Cell(Struct, frozen=True):
    """A cell: its text, and the value it sorts by ("" sorts last)."""

    text: str
    value: str


class Heading(Struct, frozen=True):
    """A column's heading (with its unit) and whether it holds numbers."""

    heading: str
    number: bool = True


class Grid(Struct, frozen=True):
    """A table of the page; ``pick`` is the row that is marked, -1 for none."""

    title: str
    columns: tuple[Heading, ...]
    rows: tuple[tuple[Cell, ...], ...]
    sortable: bool = False
    pick: int = -1


class Picture(Struct, frozen=True):
    """A picture inside the page (base64), its kind, and the text that stands for it."""

    data: str
    alt: str
    kind: str


class PlayedBeside(Struct, frozen=True):
    """What a page tells that is played beside its month: what else might come, and the month's worst day, drawn."""

    other: Otherwise = field(default_factory=Otherwise)
    day: Picture | None = None


def cell(text: str, value: object = None) -> Cell:
    """A cell of the page; left out, ``value`` sorts last."""
    return Cell(safe(text), "" if value is None else f"{value:.15g}" if isinstance(value, float) else safe(str(value)))


def grid(title: str, headings: Sequence[str], rows: Sequence[Sequence[str]]) -> Grid:
    """A table of words."""
    cells = tuple(tuple(cell(text, text) for text in row) for row in rows)
    return Grid(title, tuple(Heading(h, number=False) for h in headings), cells)


def picture(drawn: bytes, alt: str) -> Picture:
    """A PNG or SVG inside the page, with the text that stands for it. What it was drawn from is let go of: a figure is made of parts
    that know each other, and a dozen of them would be there at once.
    """
    gc.collect()
    kind = "image/png" if drawn.startswith(b"\x89PNG") else "image/svg+xml"
    return Picture(base64.b64encode(drawn).decode(), safe(alt), kind)
