"""Charts in one style: the finding above, what is shown with its units quietly below it, the source at the foot; readable in grey (marks and lines differ, not only colours), units on every axis."""

from __future__ import annotations

import io
import math
import textwrap
import warnings
from collections.abc import Sequence
from contextvars import ContextVar
from pathlib import Path
from typing import TYPE_CHECKING, Any

from echotally.errors import BadInput, Problem, safe_lines
from echotally.parts import need

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from echotally.model.estate import Model

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


#: Width of pictures in pixels, unless ``--plot-width`` says another; their height is five eighths of it.
PIXELS = 1_280
_PIXELS: ContextVar[int] = ContextVar("pixels", default=PIXELS)
#: Width of the page that is laid out, inches: text of a narrow picture is smaller, but no smaller than two thirds.
_PAGE, _NARROW_PAGE, _NARROW = 12.8, 9.6, 960
_TALLEST = 30.0
#: Sizes of text, points: the finding, what it is made of, axes and labels, the smallest.
FINDING, SUBTITLE, TEXT, SMALL = 14.0, 11.0, 10.0, 9.0
INK, QUIET, GRID = "#1a1a1a", "#5f5f5f", "#e4e4e0"
_STYLE: Any = {
    "font.size": TEXT,
    "axes.edgecolor": "#8a8a8a",
    "axes.labelcolor": QUIET,
    "axes.labelsize": TEXT,
    "xtick.color": QUIET,
    "ytick.color": QUIET,
    "xtick.labelsize": TEXT,
    "ytick.labelsize": TEXT,
    "legend.fontsize": TEXT,
    "text.color": INK,
    "hatch.linewidth": 0.6,
}


def pixels_wide(pixels: int) -> None:
    """Make the pictures of this context so wide, 480 to 3,840 pixels."""
    _PIXELS.set(pixels)


def _sheet(height: float | None = None, enough: float = math.inf) -> Figure:
    """An empty figure of the width that is wanted, five eighths of it high; higher where ``height`` (inches) asks for it, lower
    where ``enough`` does.
    """
    import matplotlib
    from matplotlib.figure import Figure

    pixels = _PIXELS.get()
    page = _PAGE if pixels >= _NARROW else _NARROW_PAGE
    tall = max(min(page * 5 / 8, enough), min(_TALLEST, height or 0.0))
    with matplotlib.rc_context(_STYLE):
        return Figure(figsize=(page, tall), dpi=pixels / page, layout=_steady_layout(), facecolor="white")


def _steady_layout() -> Any:
    """Constrained layout with places rounded to a thousandth of a millionth of the page.

    Its solver goes by addresses in memory, so that last bits differ now and then, and with them the names of clips in an SVG.
    """
    from matplotlib.layout_engine import ConstrainedLayoutEngine

    class Steady(ConstrainedLayoutEngine):
        def execute(self, fig: Figure) -> Any:
            found = super().execute(fig)
            for axes in fig.axes:
                place = axes.get_position(original=True)
                # What the layout itself calls; the public one would take the axes out of the layout.
                axes._set_position([round(float(each), 9) for each in place.bounds])  # type: ignore[attr-defined]
            return found

    return Steady()


def new_figure(rows: int = 1, heights: tuple[float, ...] = (1,), share_x: bool = True) -> tuple[Figure, list[Any]]:
    """An empty figure with ``rows`` panels that share their x axis, unless told otherwise."""
    import matplotlib

    figure = _sheet()
    with matplotlib.rc_context(_STYLE):
        panels = figure.subplots(
            rows, 1, sharex=rows > 1 and share_x, squeeze=False, gridspec_kw={"height_ratios": heights}
        )
    for panel in panels[:, 0]:
        panel.grid(True, color=GRID, linewidth=0.7)
        panel.set_axisbelow(True)
        panel.spines[["top", "right"]].set_visible(False)
    return figure, list(panels[:, 0])


def small_panels(rows: int, columns: int, share_x: bool = True) -> tuple[Figure, list[Any]]:
    """A figure of small panels, row by row, that share their x axis unless told otherwise."""
    import matplotlib

    figure = _sheet()
    with matplotlib.rc_context({**_STYLE, "xtick.labelsize": SMALL, "ytick.labelsize": SMALL}):
        panels = figure.subplots(rows, columns, sharex=share_x, squeeze=False)
    for panel in panels.flat:
        panel.grid(True, color=GRID, linewidth=0.7)
        panel.set_axisbelow(True)
        panel.spines[["top", "right"]].set_visible(False)
    return figure, list(panels.flat)


def wide_figure(height: float, enough: float = math.inf) -> tuple[Figure, Any]:
    """A figure with one bare panel; taller than usual where ``height`` (inches) asks for it, and no taller than is ``enough``."""
    import matplotlib

    figure = _sheet(height, enough)
    with matplotlib.rc_context(_STYLE):
        return figure, figure.subplots()


def ended(panel: Any, labels: Sequence[tuple[float, str, str]]) -> None:
    """Direct labels at the right ends of lines, (y, text, colour), moved apart so that none lies on another.

    In place of a legend: the axes' limits must be set before.
    """
    low, high = panel.get_ylim()
    scale = panel.yaxis.get_transform()
    a, b = (float(scale.transform(value)) for value in (low, high))
    # A line of text as a share of the panel's height, as far as it is known before it is laid out.
    apart = 1.45 * TEXT / 72 / (panel.figure.get_figheight() * panel.get_position().height * 0.86)
    wanted = [(float(scale.transform(max(y, low))) - a) / (b - a) for y, _, _ in labels]
    order = sorted(range(len(labels)), key=lambda n: wanted[n])
    places = dict(zip(order, spread([wanted[n] for n in order], apart, 1.0), strict=True))
    for n, (_, text, colour) in enumerate(labels):
        panel.annotate(
            f" {text}",
            (1.0, places[n]),
            xycoords="axes fraction",
            va="center",
            ha="left",
            color=colour,
            fontsize=TEXT,
            weight="bold",
            annotation_clip=False,
        )


def spread(wanted: Sequence[float], apart: float, most: float) -> list[float]:
    """Places in rising order near those ``wanted`` (rising), ``apart`` from each other, from 0 to ``most``."""
    places = list(wanted)
    for n in range(1, len(places)):
        places[n] = max(places[n], places[n - 1] + apart)
    ceiling = most
    for n in reversed(range(len(places))):
        places[n] = min(places[n], ceiling)
        ceiling = places[n] - apart
    return places


def short(text: str, most: int) -> str:
    """A name of at most so many signs, cut in the middle, since long names of one estate often begin alike and end apart."""
    if len(text) <= most:
        return text
    tail = max(1, most // 2 - 1)
    return f"{text[: max(1, most - tail - 1)]}…{text[-tail:]}"


def pixels() -> int:
    """How wide pictures of this context are."""
    return _PIXELS.get()


def source_of(model: Model, seed: int | None = None) -> str:
    """The quiet line at the foot: which estate, cards, month and seed."""
    estate = model.estate
    cards = ", ".join(Path(card).stem for card in estate.rate_cards)
    return f"{estate.name} · {estate.month} · rate cards: {cards} · seed {estate.seed if seed is None else seed} · Echo Tally"


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


def titled(panel: Any, finding: str, subtitle: str = "") -> None:
    """The finding above a figure, on as many lines as it needs, and quietly below it what is shown, with units."""
    headed(panel.figure, finding)
    if subtitle:
        wide = panel.figure.get_figwidth() * 72
        # It begins where the panel does, right of the names at its side.
        beside = max((len(line) for name in _names_beside(panel) for line in name.split("\n")), default=0)
        across = min(wide * 0.8, wide * 0.97 - beside * SMALL * 0.55)
        lines = textwrap.wrap(subtitle, int(across / (SUBTITLE * 0.53)))
        panel.figure.get_axes()[0].set_title("\n".join(lines), loc="left", fontsize=SUBTITLE, color=QUIET)


def _names_beside(panel: Any) -> list[str]:
    """What stands at the left of a panel: names, or numbers, which are short."""
    return [label.get_text() for label in panel.get_yticklabels()]


def headed(figure: Figure, finding: str) -> None:
    """The finding alone."""
    across = figure.get_figwidth() * 72 * 0.97
    wrapped = [part for line in finding.split("\n") for part in textwrap.wrap(line, int(across / (FINDING * 0.61)))]
    # A long finding is said smaller, so that the picture keeps its room.
    size = FINDING if len(wrapped) <= _FEW else FINDING - 2
    if size < FINDING:
        wrapped = [part for line in finding.split("\n") for part in textwrap.wrap(line, int(across / (size * 0.61)))]
    figure.suptitle("\n".join(wrapped), x=0.012, ha="left", fontsize=size, weight="bold", color=INK)


#: So many lines of a finding are set in full size.
_FEW = 2


def _foot(figure: Figure, source: str) -> None:
    """The source at the foot, below everything else: legends and panels keep above it."""
    high = 1.9 * SMALL / 72 / figure.get_figheight()
    engine: Any = figure.get_layout_engine()
    engine.set(rect=(0, high, 1, 1 - high))
    if figure.legends:
        # Legends beside the panels are laid out at the very edge: they are lifted once room is made for them.
        figure.draw_without_rendering()
        figure.set_layout_engine("none")
        for legend in figure.legends:
            legend.set_bbox_to_anchor((0, high, 1, 1 - high), transform=figure.transFigure)
    most = int(figure.get_figwidth() * 72 * 0.97 / (SMALL * 0.55))
    text = figure.text(0.012, high * 0.3, textwrap.shorten(source, most, placeholder=" …"), fontsize=SMALL, color=QUIET)
    text.set_in_layout(False)


def get_ready() -> None:
    """Load what every picture needs, before a process is begun that draws as well: it takes as long as a picture."""
    import matplotlib.backends.backend_agg
    import matplotlib.figure  # noqa: F401


#: Names of a model may hold dollar signs, which are no formulas; text stays text in SVG, for readers and searches.
SETTINGS: Any = {"svg.hashsalt": "echotally", "text.parse_math": False, "svg.fonttype": "none"}


def picture(figure: Figure, form: str, source: str = "", *, plain: bool = False) -> bytes:
    """The figure as PNG or SVG; the same figure gives the same bytes. ``source`` stands at its foot; ``plain``: it was made under
    ``SETTINGS``.
    """
    import matplotlib
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    paper = io.BytesIO()
    if source:
        _foot(figure, source)
    _harmless(figure, plain)
    with matplotlib.rc_context(SETTINGS), warnings.catch_warnings():
        # Signs that the font lacks are drawn as boxes; their names are in the tables.
        warnings.filterwarnings("ignore", "Glyph .* missing from", UserWarning)
        if form == "png":
            # ``savefig`` would draw it twice.
            canvas: Any = FigureCanvasAgg(figure)
            canvas.print_png(paper, metadata={"Software": None})
        else:
            figure.savefig(paper, format=form, metadata={"Date": None})
    return paper.getvalue()


def _harmless(figure: Figure, plain: bool) -> None:
    """No text is a formula, and what cannot be printed is made visible, as in tables: an SVG with a raw sign is none."""
    from matplotlib.text import Text
    from matplotlib.ticker import FixedFormatter

    for text in figure.findobj(Text):
        # Neither in what is there nor in what drawing adds.
        if not plain:
            text.set_parse_math(False)
        text.set_text(_visible(text.get_text()))
    # Labels of ticks are set anew as they are drawn.
    for axis in (axis for axes in figure.axes for axis in (axes.xaxis, axes.yaxis)):
        for ticks in (axis.major, axis.minor):
            if isinstance(ticks.formatter, FixedFormatter):
                ticks.formatter.seq = [_visible(str(label)) for label in ticks.formatter.seq]


def _visible(text: str) -> str:
    # Spaces that do not break are our own and harm nothing.
    return "\u00a0".join(map(safe_lines, text.split("\u00a0")))
