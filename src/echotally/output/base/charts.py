"""Charts, 1280x800: readable in grey (marks and lines differ, not only colours), units on every axis."""

from __future__ import annotations

import io
import textwrap
from pathlib import Path
from typing import TYPE_CHECKING, Any

from echotally.errors import BadInput, Problem
from echotally.parts import need

if TYPE_CHECKING:
    from matplotlib.figure import Figure

#: Okabe and Ito's palette, apart for colour-blind readers ("Color Universal Design", 2008), with marks and dashes.
COLOURS = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#000000", "#8A6D00")
MARKS = ("o", "s", "^", "D", "v", "P", "X", "*")
DASHES: tuple[Any, ...] = ("-", "--", "-.", ":", (0, (5, 1)), (0, (3, 1, 1, 1)), (0, (1, 1)), (0, (8, 2)))


def check_plot_path(path: Path | None) -> None:
    """Refuse an ending that is no picture, before anything is computed."""
    if path is not None and path.suffix not in (".png", ".svg"):
        raise BadInput(Problem("is not a kind of picture", "--plot", value=str(path), allowed=".png or .svg"))
    if path is not None:
        need("matplotlib")


def new_figure(rows: int = 1, heights: tuple[float, ...] = (1,), share_x: bool = True) -> tuple[Figure, list[Any]]:
    """An empty figure of 1280x800 with ``rows`` panels that share their x axis, unless told otherwise."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained", facecolor="white")
    panels = figure.subplots(
        rows, 1, sharex=rows > 1 and share_x, squeeze=False, gridspec_kw={"height_ratios": heights}
    )
    for panel in panels[:, 0]:
        panel.grid(True, color="#dddddd", linewidth=0.6)
        panel.spines[["top", "right"]].set_visible(False)
    return figure, list(panels[:, 0])


def style(n: int) -> dict[str, Any]:
    """Colour, mark and dash of the n-th line."""
    k = n % len(COLOURS)
    return {"color": COLOURS[k], "marker": MARKS[k], "linestyle": DASHES[k], "markersize": 6, "linewidth": 1.8}


def plain_numbers(panel: Any) -> None:
    """Numbers as people write them on two logarithmic axes, at 1, 2 and 5 of each decade; denser where the axis is short."""
    _plain(panel.xaxis, panel.yaxis)


def plain_x(panel: Any) -> None:
    """As ``plain_numbers``, of the x axis alone."""
    _plain(panel.xaxis)


def _plain(*axes: Any) -> None:
    from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

    for axis in axes:
        low, high = axis.get_view_interval()
        steps = (1.0, 1.5, 2.0, 3.0, 5.0, 7.0) if high / low < 20 else (1.0, 2.0, 5.0)
        axis.set_major_locator(LogLocator(base=10, subs=steps))
        axis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.10g}"))
        axis.set_minor_formatter(NullFormatter())


#: Characters of twelve points that fit beside each other above a panel.
_ACROSS = 132


def titled(panel: Any, text: str, size: int = 12) -> None:
    """The finding above a panel, on as many lines as it needs."""
    lines = [part for line in text.split("\n") for part in textwrap.wrap(line, _ACROSS * 12 // size) or [""]]
    panel.set_title("\n".join(lines), loc="left", fontsize=size)


#: Names of a model may hold dollar signs, which are no formulas; text stays text in SVG, for readers and searches.
SETTINGS: Any = {"svg.hashsalt": "echotally", "text.parse_math": False, "svg.fonttype": "none"}


def picture(figure: Figure, form: str, plain: bool = False) -> bytes:
    """The figure as PNG or SVG; the same figure gives the same bytes. ``plain``: it was made under ``SETTINGS``."""
    import matplotlib
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.text import Text

    paper = io.BytesIO()
    # Neither in what is there nor in what drawing adds.
    for text in () if plain else figure.findobj(Text):
        text.set_parse_math(False)
    with matplotlib.rc_context(SETTINGS):
        if form == "png":
            # ``savefig`` would draw it twice.
            canvas: Any = FigureCanvasAgg(figure)
            canvas.print_png(paper, metadata={"Software": None})
        else:
            figure.savefig(paper, format=form, metadata={"Date": None})
    return paper.getvalue()
