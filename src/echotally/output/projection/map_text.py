"""The map of an estate as text: each demand's way from source to function, with events, money and trouble."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import RenderableType
from rich.text import Text
from rich.tree import Tree

from echotally.errors import BadInput, Problem, safe
from echotally.output.base.terminal import count, rendered, shown_in
from echotally.output.projection.map_chart import TROUBLES, map_finding, money_text, trouble_text
from echotally.projection.answer import Projection
from echotally.projection.estate_map import EstateMap, Line, estate_map

#: More functions than these make more lines than a screen has; the picture shows them.
_SMALL = 40


def map_text(projection: Projection, width: int | None = None, colour: bool | None = None) -> str:
    """The picked (else closest) plan's map; above forty functions in groups. Raises ``BadInput`` where no plan can run it."""
    plan = projection.best
    if plan is None:
        raise BadInput(Problem("no plan can run this estate, so there is no map", "--chart map"))
    shown_in(projection.currency)
    drawn = estate_map(projection, plan, _SMALL)
    parts: list[RenderableType] = [Text(safe(map_finding(projection, plan, drawn)) + ".", style="bold"), Text("")]
    told: set[str] = set()
    ends = {line.end for line in drawn.lines}
    for key in drawn.nodes:
        if key not in ends:
            tree = Tree(_place(drawn, key), guide_style="dim")
            _grow(drawn, tree, key, told)
            parts.append(tree)
    said = f"events in {projection.model.estate.month}, {projection.currency} a month"
    parts += [Text(""), Text(f"{said}; dashes: asks and waits for the answer; ✖ to the dead letter.", style="dim")]
    return rendered(parts, width, colour)


def _grow(drawn: EstateMap, tree: Tree, key: str, told: set[str]) -> None:
    """What comes after a place; what was told already, in whichever branch, is only named: ways that part and meet again are many."""
    told.add(key)
    for line in _onward(drawn, key):
        label = _line(drawn, line)
        if line.end in told:
            label.append("  (above)", style="dim")
            tree.add(label)
            continue
        # A function that a source alone leads to stands on the source's own line.
        told.add(line.end)
        _grow(drawn, tree.add(label), _last(drawn, line), told)


def _onward(drawn: EstateMap, key: str) -> Iterator[Line]:
    yield from drawn.after(key)


def _only_next(drawn: EstateMap, key: str) -> Line | None:
    """The one line that leaves a source, where there is one alone."""
    node, after = drawn.nodes[key], drawn.after(key)
    return after[0] if node.kind not in ("function", "group") and len(after) == 1 else None


def _last(drawn: EstateMap, line: Line) -> str:
    following = _only_next(drawn, line.end)
    return following.end if following is not None else line.end


def _line(drawn: EstateMap, line: Line) -> Text:
    mark = {"flow": "→ ", "asks": "⇢ ", "letters": "✖ "}[line.kind]
    text = Text(f"{count(line.events)} {mark}", style="")
    text.append_text(_place(drawn, line.end, figure=False))
    following = _only_next(drawn, line.end)
    if following is not None:
        text.append(" → ")
        text.append_text(_place(drawn, following.end))
    return text


def _place(drawn: EstateMap, key: str, figure: bool = True) -> Text:
    node = drawn.nodes[key]
    function = node.kind in ("function", "group")
    name = node.label if function or node.kind == "outside" else key if "." in key else node.label
    text = Text(safe(name), style="bold" if function else "")
    if node.cost is not None:
        text.append(f" {money_text(node.cost)}")
    elif figure and node.kind == "demand":
        text.append(f" {count(node.events)}", style="dim")
    for trouble in node.troubles:
        text.append(
            f"  {TROUBLES[trouble.kind][1]} {trouble_text(trouble)}",
            style="bold red" if trouble.kind == "lost" else "yellow",
        )
    return text
