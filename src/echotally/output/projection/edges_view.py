"""How far a plan is from its allowances, limits and targets, the nearest first."""

from __future__ import annotations

from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.output.base.terminal import Column, table
from echotally.projection.answer import Edge, PlayedPlan

#: Edges named in a sentence.
_NEAREST = 3
_WHAT = {
    "allowance": "allowance of {}",
    "concurrency": "calls at once",
    "instances": "instance limit",
    "payload": "payload limit ({})",
    "timeout": "timeout ({})",
    "target": "target {}",
}


def edge_name(edge: Edge) -> str:
    """What an edge is, in words, with its function."""
    name = _WHAT[edge.kind].format(edge.what.replace("_", " ") if edge.kind == "target" else edge.what)
    return f"{edge.function}: {name}" if edge.function else name


def edge_lines(plan: PlayedPlan) -> list[str]:
    """The nearest edges in a sentence each: at so many times today's demand."""
    near = [edge for edge in plan.edges or () if edge.reached_at_times is not None]
    ahead = [edge for edge in near if (edge.reached_at_times or 0) > 1]
    passed = [edge for edge in near if (edge.reached_at_times or 0) <= 1]
    lines = []
    if passed:
        lines.append(
            f"On {plan.offer.name}, reached at today's demand: {'; '.join(safe(edge_name(e)) for e in passed)}."
        )
    lines += [
        f"At {times_text(edge.reached_at_times)} times today's demand {plan.offer.name} reaches {safe(edge_name(edge))}."
        for edge in ahead[:_NEAREST]
    ]
    return lines


def times_text(times: float | None) -> str:
    """A demand multiple in three digits; a dash for none up to 1,000."""
    if times is None:
        return "–"
    return f"{times:,.0f}" if times >= 100 else f"{times:.3g}"


def edge_parts(plan: PlayedPlan, width: int | None = None) -> list[RenderableType]:
    """The sentences and a row an edge; nothing where edges were not looked for."""
    if plan.edges is None:
        return []
    rows = [
        [
            safe(edge_name(edge)),
            f"{edge.used_share * 100:,.3g}",
            times_text(edge.reached_at_times),
            str(edge.reached_on) if edge.reached_on else "–",
        ]
        for edge in plan.edges
    ]
    columns = [
        Column("edge", False, True),
        Column("used %"),
        Column("reached at x demand"),
        Column("on this month", rank=1),
    ]
    return [
        *(Text(line) for line in edge_lines(plan)),
        table(
            f"How far {plan.offer.name} is from its edges (–: at no demand that was tried)",
            columns,
            rows,
            width=width,
        ),
    ]
