"""The terminal: one console made to measure, thin tables, numbers aligned on the decimal point."""

from __future__ import annotations

import io
import math
import os
import sys
from collections.abc import Sequence
from contextvars import ContextVar
from decimal import Decimal
from typing import Any

from msgspec import Struct
from rich import box
from rich.cells import cell_len
from rich.console import Console, JustifyMethod, RenderableType
from rich.table import Table
from rich.text import Text

from echotally.output.base.manner import local, manner
from echotally.rates.billing import minor_digits

_PIPE_WIDTH = 100


class Column(Struct, frozen=True):
    """A column: its heading (with the unit) and whether it holds numbers."""

    heading: str
    number: bool = True
    wrap: bool = False
    #: In a narrow terminal the columns of the highest rank are left out first; 0 always stays.
    rank: int = 0


#: Texts hold names that people gave: nothing in them stands for a colour or a picture.
_AS_IT_IS: dict[str, Any] = {"markup": False, "emoji": False, "highlight": False}


def console(width: int | None = None) -> Console:
    """A console for standard output: terminal width, or 100 columns into a pipe; honours NO_COLOR."""
    piped = not sys.stdout.isatty()
    columns = width or (int(os.environ.get("COLUMNS", "0") or 0) or _PIPE_WIDTH if piped else None)
    return Console(width=columns, soft_wrap=False, **_AS_IT_IS)


def rendered(parts: Sequence[RenderableType], width: int | None = None, colour: bool | None = None) -> str:
    """The parts as text; colour codes only on a terminal (or as told)."""
    screen = console(width)
    wanted = screen.is_terminal and not os.environ.get("NO_COLOR") if colour is None else colour
    out = io.StringIO()
    paper = Console(
        file=out,
        width=screen.width,
        **_AS_IT_IS,
        force_terminal=wanted,
        no_color=not wanted,
        color_system="standard" if wanted else None,
    )
    for part in parts:
        paper.print(part, soft_wrap=manner().plain)
    lines = [line.rstrip() for line in out.getvalue().split("\n")]
    return "\n".join(lines).rstrip("\n") + "\n"


def table(
    title: str,
    columns: Sequence[Column],
    rows: Sequence[Sequence[str]],
    marks: Sequence[str] = (),
    width: int | None = None,
) -> RenderableType:
    """A thin table. ``marks`` gives each row a style ("" for none); a column of numbers is aligned on the point.

    Columns that ``width`` (default: the terminal's) cannot hold are left out by rank, and named below.
    """
    if manner().plain:
        return _line_by_line(title, columns, rows)
    cells = [
        _aligned([row[n] for row in rows]) if column.number else [row[n] for row in rows]
        for n, column in enumerate(columns)
    ]
    widths = [_least_width(column, cells[n]) for n, column in enumerate(columns)]
    room = width or console().width
    kept = _fitting(columns, widths, room)
    _widen(columns, cells, widths, kept, room)
    left_out = [column.heading for n, column in enumerate(columns) if n not in kept]
    found = Table(
        title=title,
        title_justify="left",
        title_style="bold",
        box=box.SIMPLE_HEAD,
        pad_edge=False,
        padding=(0, 1, 0, 0),
        caption=f"Left out at this width: {', '.join(left_out)}." if left_out else None,
        caption_justify="left",
    )
    for n in kept:
        column = columns[n]
        justify: JustifyMethod = "right" if column.number else "left"
        # Headings may break between words; cells keep their width unless they hold prose.
        found.add_column(Text(column.heading), justify=justify, overflow="fold", width=widths[n], vertical="top")
    for n, row in enumerate(zip(*(cells[k] for k in kept), strict=True)):
        found.add_row(
            *(_cell(columns[k], cell, widths[k]) for k, cell in zip(kept, row, strict=True)),
            style=marks[n] if n < len(marks) and marks[n] else None,
        )
    return found


def _line_by_line(title: str, columns: Sequence[Column], rows: Sequence[Sequence[str]]) -> Text:
    """A line a row, each cell after its heading: what a screen reader reads in the order in which it is meant."""
    lines = [
        ", ".join(
            f"{column.heading or 'note'}: {_spoken(column, cell)}"
            for column, cell in zip(columns, row, strict=False)
            if cell.strip()
        )
        for row in rows
    ]
    return Text("\n".join([f"{title}:", *lines, ""]), no_wrap=True, overflow="ignore")


def _spoken(column: Column, cell: str) -> str:
    # The arrow marks the pick.
    return (local(cell) if column.number else cell).replace("→ ", "picked, ").strip()


def _cell(column: Column, cell: str, width: int) -> Text:
    """A number is put to the right by hand: the library would drop the spaces that hold its decimal point in place."""
    cell = local(cell) if column.number else cell
    return Text(" " * (width - cell_len(cell)) + cell, justify="left") if column.number else Text(cell)


def _least_width(column: Column, cells: Sequence[str]) -> int:
    word = max(cell_len(part) for part in column.heading.split(" "))
    return max(word, 24 if column.wrap else max((cell_len(cell) for cell in cells), default=0))


def _widen(
    columns: Sequence[Column], cells: Sequence[Sequence[str]], widths: list[int], kept: Sequence[int], room: int
) -> None:
    """Give the room that is left to columns that would like more, those of prose last."""
    left = room - sum(widths[n] + 2 for n in kept) - 2
    for n in sorted(kept, key=lambda n: columns[n].wrap):
        wish = max([cell_len(columns[n].heading), *(cell_len(cell) for cell in cells[n])])
        more = min(max(0, left), max(0, wish - widths[n]))
        widths[n] += more
        left -= more


def _fitting(columns: Sequence[Column], widths: Sequence[int], room: int) -> list[int]:
    """Indices of the columns that fit: the highest ranks go first, from the right."""
    kept = list(range(len(columns)))
    while sum(widths[n] + 2 for n in kept) + 2 > room and any(columns[n].rank for n in kept):
        kept.remove(max(kept, key=lambda n: (columns[n].rank, n)))
    return kept


def _aligned(cells: Sequence[str]) -> list[str]:
    """Pad fractions so that right-aligned numbers stand on their decimal points; words pass as they are."""
    tails = [cell.partition(".")[2] if _numeric(cell) and "." in cell else None for cell in cells]
    longest = max((len(tail) + 1 for tail in tails if tail is not None), default=0)
    return [
        cell if not _numeric(cell) else cell + " " * (longest - (len(tail) + 1 if tail is not None else 0))
        for cell, tail in zip(cells, tails, strict=True)
    ]


def _numeric(cell: str) -> bool:
    return bool(cell) and cell.replace(",", "").replace(".", "").replace("-", "").isdigit()


def count(number: float | None) -> str:
    """A count with thousands separated."""
    return "–" if number is None else f"{number:,.0f}"


#: Less is what dividing left over, not money.
_NO_MONEY = 5e-13


#: Digits of the smallest unit of the currency that is being shown.
_DIGITS = ContextVar("digits", default=2)


def shown_in(currency: str) -> int:
    """Show money in this currency from now on, in its own digits (ISO 4217); returns how many there are."""
    digits = minor_digits(currency)
    _DIGITS.set(digits)
    return digits


def money(amount: Decimal | float | None) -> str:
    """Money in the currency's smallest unit; below one with four significant digits, so that small amounts differ."""
    if amount is None:
        return "–"
    size = abs(float(amount))
    if size < _NO_MONEY or size >= 0.99995:
        return f"{0 if size < _NO_MONEY else amount:,.{_DIGITS.get()}f}"
    places = max(2, 3 - math.floor(math.log10(size)))
    return f"{amount:,.{places}f}"


def signed(amount: Decimal | float) -> str:
    """A change of money, with its sign."""
    return f"+{money(amount)}" if amount >= 0 else f"-{money(-amount)}"


def percent_more(amount: Decimal | float, than: Decimal | float) -> str:
    """How much more one unrounded amount is than another: ``83.8 % more``."""
    more = (float(amount) / float(than) - 1) * 100
    return f"{more:,.1f} % more" if more < 100 else f"{more:,.0f} % more"


def percent_difference(amount: Decimal | float, than: Decimal | float) -> str:
    """How one amount compares with another: ``9.1 % above``, ``2.0 % below``, or ``just``."""
    more = (float(amount) / float(than) - 1) * 100
    return "just" if abs(more) < 0.05 else f"{abs(more):,.1f} % {'above' if more > 0 else 'below'}"


def seconds(value: float | None) -> str:
    """Seconds to the millisecond below ten, shorter above; a dash for none."""
    if value is None:
        return "–"
    return f"{value:,.3f}" if value < 10 else f"{value:,.1f}"


def share(value: float | None) -> str:
    """A share as a percentage."""
    if value is None:
        return "–"
    return "0" if value == 0 else f"{value * 100:.3f}" if value < 0.1 else f"{value * 100:.1f}"
