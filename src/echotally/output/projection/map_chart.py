"""The map of an estate as a picture: left to right what comes in, where it waits, what runs, what that puts out.

Lines are as wide as the logarithm of their events, functions carry their money, trouble has a colour, a mark and words. igraph lays
it out in layers with few crossings (Sugiyama, Tagawa and Toda, "Methods for visual understanding of hierarchical system
structures", IEEE Transactions on Systems, Man and Cybernetics 11, 1981).
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

from echotally.output.base.charts import SMALL, picture, short, source_of, titled, wide_figure
from echotally.output.base.terminal import count, money
from echotally.output.projection.verdict_text import headline
from echotally.parts import need
from echotally.projection.answer import PlayedPlan, Projection
from echotally.projection.estate_map import EstateMap, Line, Node, Trouble, estate_map

#: Colour of each kind of trouble (dark enough on white), and its mark; words stand beside both.
TROUBLES = {"lost": ("#b3261e", "✖"), "throttled": ("#b45309", "▲"), "waiting": ("#6d28d9", "◆")}
_MEANS = {"lost": "left behind", "throttled": "throttled", "waiting": "long waits (p95)"}
_QUIET, _INK, _LINE = "#6b6b6b", "#1a1a1a", "#7d9bb5"
#: Height of a place with one line of text, and of what is between places, in points.
_ROW = 30.0
#: So many times that where there are few.
_LOOSEST = 1.8


def map_chart(projection: Projection, plan: PlayedPlan, form: str) -> bytes:
    """The month on ``plan`` as a map, PNG or SVG."""
    return picture(map_figure(projection, plan), form, source_of(projection.model, projection.seed))


def map_figure(projection: Projection, plan: PlayedPlan, title: bool = True) -> Any:
    """The map as a figure; without ``title`` for pages that say it themselves."""
    drawn = estate_map(projection, plan)
    if not title:
        return drawn_map(drawn)
    money_said = f"money is {projection.currency} in {projection.model.estate.month}"
    return drawn_map(drawn, map_finding(projection, plan, drawn), money_said)


def drawn_map(drawn: EstateMap, finding: str = "", money_said: str = "") -> Any:
    """Any map as a figure, with what it shows above it; ``money_said``: whose money it is, "" where there is none."""
    need("igraph")
    places = laid_out(drawn)
    layers = max(_FEWEST, 1 + max((x for x, _ in places.values()), default=0))
    rows = max((y for _, y in places.values()), default=0.0) + 1
    head = 1.6 if finding else 0.4
    figure, panel = wide_figure(rows * _ROW / 72 + head, rows * _ROW * _LOOSEST / 72 + head)
    if finding:
        titled(panel, finding, _subtitle(drawn, money_said))
    panel.set_axis_off()
    panel.set_xlim(-0.45, layers - 0.42)
    panel.set_ylim(rows - 0.4, -0.6)
    widest = max((line.events for line in drawn.lines), default=1.0)
    # The thinnest first, so that none is hidden below a wide one.
    for line in sorted(drawn.lines, key=lambda line: line.events):
        _line(panel, places, line, widest)
    for node in drawn.nodes.values():
        _place(panel, node, *places[node.key], int(figure.get_figwidth() * 72 / layers * 2 * _HALF / _SIGN))
    return figure


def map_finding(projection: Projection, plan: PlayedPlan, drawn: EstateMap) -> str:
    """Where the money goes and where the trouble is."""
    paid = [node for node in drawn.nodes.values() if node.cost]
    if not paid:
        return headline(projection)
    top = max(paid, key=lambda node: node.cost or 0)
    share = float(top.cost or 0) / float(plan.bill.unrounded or 1)
    what = f"{share:.0%} of {money(plan.bill.shown)} {projection.currency} on {plan.offer.name} go to {top.label}"
    troubled = [(node, t) for node in drawn.nodes.values() for t in node.troubles]
    if not troubled:
        return f"{what}; nothing is throttled, waits or is lost"
    places = len({node.key for node, _ in troubled})
    # What is lost is worse than what is late, however much of it.
    order = {"lost": 0, "throttled": 1, "waiting": 2}
    node, worst = min(troubled, key=lambda each: (order[each[1].kind], -each[1].figure))
    rest = f"; trouble at {places} places" if places > 1 else ""
    return f"{what}; {node.label}: {trouble_text(worst)}{rest}"


def trouble_text(trouble: Trouble) -> str:
    """A trouble in words with its figure."""
    if trouble.kind == "lost":
        return f"{count(trouble.figure)} left behind"
    if trouble.kind == "throttled":
        return f"{trouble.figure * 100:.3g} % throttled"
    return f"p95 waits {_duration(trouble.figure)}"


def _duration(seconds: float) -> str:
    if seconds < 100:
        return f"{seconds:.3g} s"
    return f"{seconds / 60:.0f} min" if seconds < 6_000 else f"{seconds / 3_600:.1f} h"


def _subtitle(drawn: EstateMap, money_said: str) -> str:
    said = ["Lines are as wide as the logarithm of their events", *([money_said] if money_said else [])]
    if any(line.kind == "asks" for line in drawn.lines):
        said.append("dashed: asks and waits")
    if drawn.grouped:
        said.append(f"functions grouped by {drawn.grouped}")
    there = {trouble.kind for node in drawn.nodes.values() for trouble in node.troubles}
    # A mark and its words stay on one line.
    marks = "  ".join(
        f"{mark} {_MEANS[kind]}".replace(" ", "\u00a0") for kind, (_, mark) in TROUBLES.items() if kind in there
    )
    return f"{'; '.join(said)}." + (f" {marks}" if marks else "")


# -- layout -------------------------------------------------------------------------------------------------------
def laid_out(drawn: EstateMap) -> dict[str, tuple[int, float]]:
    """Layer and row of each place; rows are whole numbers from 0, no two places of a layer in one."""
    layers = drawn.layers()
    order = _few_crossings(drawn, layers)
    columns: dict[int, list[str]] = defaultdict(list)
    for key in order:
        columns[layers[key]].append(key)
    tall = max((len(keys) for keys in columns.values()), default=1)
    rows: dict[str, float] = {}
    near = _neighbours(drawn)
    # From left to right, each as near to where its events come from as the ones above it allow.
    for layer in sorted(columns):
        wanted = {key: _mean([rows[k] for k in near[key] if k in rows]) for key in columns[layer]}
        # What nothing leads to stands in the middle of its layer.
        fallback = (tall - len(columns[layer])) / 2
        known = {key: fallback + n if (at := wanted[key]) is None else at for n, key in enumerate(columns[layer])}
        ordered = sorted(columns[layer], key=lambda key: (known[key], columns[layer].index(key)))
        rows |= _spread([known[key] for key in ordered], ordered, tall)
    return {key: (layers[key], rows[key]) for key in drawn.nodes}


def _few_crossings(drawn: EstateMap, layers: Mapping[str, int]) -> list[str]:
    """Places in the order in which they stand in their layers."""
    import igraph

    keys = list(drawn.nodes)
    number = {key: n for n, key in enumerate(keys)}
    depths, edges = [layers[key] for key in keys], list[tuple[int, int]]()
    for line in drawn.lines:
        before = number[line.start]
        # A stand-in in each layer that a line passes: igraph 1.0 reads memory it never wrote where it makes them itself, and dies
        # of it now and then.
        for depth in range(layers[line.start] + 1, layers[line.end]):
            edges.append((before, len(depths)))
            before = len(depths)
            depths.append(depth)
        if layers[line.start] < layers[line.end]:
            edges.append((before, number[line.end]))
    graph = igraph.Graph(n=len(depths), edges=edges, directed=True)
    laid = graph.layout_sugiyama(layers=depths, maxiter=200)
    return sorted(keys, key=lambda key: (laid.coords[number[key]][0], number[key]))


def _neighbours(drawn: EstateMap) -> dict[str, list[str]]:
    found: dict[str, list[str]] = defaultdict(list)
    for line in drawn.lines:
        found[line.end].append(line.start)
        found[line.start].append(line.end)
    return found


def _mean(values: Sequence[float]) -> float | None:
    return sum(values) / len(values) if values else None


def _spread(wanted: Sequence[float], keys: Sequence[str], tall: int) -> dict[str, float]:
    """Rows near those wanted, a row apart, within the picture: blocks that would overlap are moved together."""
    blocks: list[tuple[float, list[str]]] = []
    for at, key in zip(wanted, keys, strict=True):
        blocks.append((at, [key]))
        while len(blocks) > 1 and blocks[-1][0] < blocks[-2][0] + len(blocks[-2][1]):
            (high, above), (low, below) = blocks[-2:]
            joined = [*above, *below]
            # The mean of where each would begin the block.
            first = (high * len(above) + (low - len(above)) * len(below)) / len(joined)
            blocks[-2:] = [(first, joined)]
    found: dict[str, float] = {}
    floor = 0.0
    for at, members in blocks:
        # Within the picture, and below the block before.
        first = max(floor, min(at, tall - len(members)))
        found |= {key: first + n for n, key in enumerate(members)}
        floor = first + len(members)
    return _inside(found, tall)


def _inside(rows: dict[str, float], tall: int) -> dict[str, float]:
    """Moved up where a later block was pushed below the foot."""
    over = max(rows.values(), default=0.0) - (tall - 1)
    if over <= 0:
        return rows
    keys = sorted(rows, key=lambda key: rows[key])
    found, ceiling = dict(rows), float(tall - 1)
    for key in reversed(keys):
        found[key] = min(found[key], ceiling)
        ceiling = found[key] - 1
    return found


# -- drawing ------------------------------------------------------------------------------------------------------
#: Width of a sign of the smallest text, points; the fewest layers that a picture is wide; and how far a place reaches to each side of its middle, as a share of a layer's width.
_SIGN, _FEWEST, _HALF = 5.6, 5, 0.37


#: Points drawn and left out of a line, however wide it is.
_DASHES = {"asks": (9.0, 4.0), "letters": (3.0, 3.0)}


def _line(panel: Any, places: Mapping[str, tuple[int, float]], line: Line, widest: float) -> None:
    from matplotlib.patches import PathPatch
    from matplotlib.path import Path as Curve

    (x1, y1), (x2, y2) = places[line.start], places[line.end]
    a, b = x1 + _HALF, x2 - _HALF
    # Level at both ends, so that lines leave and reach their places across.
    bend = max(0.12, (b - a) / 2)
    curve = Curve([(a, y1), (a + bend, y1), (b - bend, y2), (b, y2)], [1, 4, 4, 4])
    # By the logarithm: a job of thirty firings is seen beside a million readings.
    share = math.log1p(line.events) / math.log1p(widest) if widest > 0 else 0.0
    width = 1 + 7 * share
    panel.add_patch(
        PathPatch(
            curve,
            facecolor="none",
            edgecolor=TROUBLES["lost"][0] if line.kind == "letters" else _LINE,
            linewidth=width,
            alpha=0.55,
            linestyle=(0, tuple(points / width for points in _DASHES[line.kind])) if line.kind in _DASHES else "-",
            capstyle="butt",
            zorder=1,
        )
    )


def _place(panel: Any, node: Node, x: int, y: float, most: int) -> None:
    """A place with name and figure; ``most`` signs of text fit across it."""
    lines = [(node.label, _INK, "bold" if node.kind in ("function", "group") else "normal")]
    if node.kind in ("function", "group", "outside") and node.cost is not None:
        said = money_text(node.cost) + (f" for {count(node.events)}" if node.kind == "outside" else "")
        lines.append((said, _INK, "normal"))
    else:
        said = f"{count(node.events)} {_WORDS.get(node.kind, '')}".strip()
        lines.append((said if len(said) <= most else count(node.events), _QUIET, "normal"))
    # What costs money is a box; what only holds events is a field.
    box = node.kind in ("function", "group", "outside")
    from matplotlib.patches import FancyBboxPatch

    colour = TROUBLES[node.troubles[0].kind][0] if node.troubles else "#8a8a8a"
    panel.add_patch(
        FancyBboxPatch(
            (x - _HALF, y - 0.4),
            2 * _HALF,
            0.8,
            boxstyle="round,pad=0,rounding_size=0.06" if box else "square,pad=0",
            mutation_aspect=6,
            facecolor="white" if box else "#f2f2ef",
            edgecolor=colour if box else "none",
            linewidth=2.2 if node.troubles else 1.0,
            zorder=2,
        )
    )
    _written(panel, node, x, y, lines, most)


_WORDS = {
    "demand": "events",
    "function": "events",
    "group": "events",
    "schedules": "items",
    "queues": "messages",
    "streams": "records",
    "topics": "events",
    "endpoints": "requests",
    "folders": "files",
}


def _written(panel: Any, node: Node, x: int, y: float, lines: Sequence[tuple[str, str, str]], most: int) -> None:
    """Name and figure on the left of a place, troubles at its right end."""
    left = x - _HALF + 0.025
    (label, ink, weight), (figure, quiet, _) = lines
    # Bold signs are a fifth wider.
    named = int(most * 0.84) if weight == "bold" else most
    panel.text(left, y - 0.17, short(label, named), va="center", ha="left", fontsize=SMALL, color=ink, weight=weight)
    panel.text(left, y + 0.2, short(figure, most), va="center", ha="left", fontsize=SMALL, color=quiet)
    # The worst beside the money; a second one beside the name, where that leaves room.
    for trouble, at, beside in zip(node.troubles, (y + 0.2, y - 0.17), (figure, label), strict=False):
        colour, mark = TROUBLES[trouble.kind]
        said = f"{mark} {_brief(trouble)}"
        if len(said) + len(beside) < most - 1:
            panel.text(x + _HALF - 0.02, at, said, va="center", ha="right", fontsize=SMALL, color=colour, weight="bold")


def money_text(amount: Decimal | None) -> str:
    """Money of a place, to the cent, and what is less said to be so."""
    return "< 0.01" if amount and abs(amount) < Decimal("0.005") else f"{amount or 0:,.2f}"


def _brief(trouble: Trouble) -> str:
    if trouble.kind == "lost":
        return count(trouble.figure)
    return f"{trouble.figure * 100:.2g} %" if trouble.kind == "throttled" else _duration(trouble.figure)
