"""The waterfall: from one amount to another over the parts of the difference, readable in grey."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from echotally.output.base.charts import new_figure, picture, titled
from echotally.output.base.terminal import money, signed

#: Light and dark, and hatched where it falls: told apart in grey and without colours.
_TOTAL, _UP, _DOWN = "#4d4d4d", "#D55E00", "#56B4E9"
#: What is smaller is nothing, as in the tables beside the chart.
_SHOWN = 0.00005


class Walk(NamedTuple):
    """From one amount to another: ``first`` + steps = ``last``, each a (label, amount)."""

    first: tuple[str, float]
    steps: Sequence[tuple[str, float]]
    last: tuple[str, float]


def waterfall(title: str, walk: Walk, unit: str, form: str, source: str) -> bytes:
    """A chart of a walk; ``unit`` names the y axis."""
    first, steps, last = walk
    figure, panels = new_figure(1)
    panel = panels[0]
    names = [first[0], *(name for name, _ in steps), last[0]]
    level = first[1]
    panel.bar(0, first[1], color=_TOTAL, width=0.6)
    _label(panel, 0, first[1], money(first[1]))
    for place, (_, amount) in enumerate(steps, 1):
        falls = amount < 0
        panel.bar(
            place,
            amount,
            bottom=level,
            color=_DOWN if falls else _UP,
            width=0.6,
            hatch="//" if falls else None,
            edgecolor="white",
        )
        panel.plot([place - 0.7, place + 0.3], [level, level], color="#888888", linewidth=0.8)
        level += amount
        _label(panel, place, max(level, level - amount), signed(amount) if abs(amount) >= _SHOWN else "0")
    panel.bar(len(names) - 1, last[1], color=_TOTAL, width=0.6)
    panel.plot([len(names) - 1.7, len(names) - 0.7], [level, level], color="#888888", linewidth=0.8)
    _label(panel, len(names) - 1, last[1], money(last[1]))
    panel.axhline(0, color="#333333", linewidth=0.8)
    panel.set_xticks(range(len(names)), names)
    panel.tick_params(axis="x", length=0)
    panel.grid(False, axis="x")
    low, high = _ends(first[1], [amount for _, amount in steps], last[1])
    panel.set_ylim(low, high)
    panel.set_ylabel(unit if low <= 0 else f"{unit}; the axis begins at {money(low)}")
    titled(panel, title)
    return picture(figure, form, source)


def _label(panel: object, x: float, y: float, text: str) -> None:
    panel.annotate(text, (x, y), (0, 5), textcoords="offset points", ha="center", fontsize=10)  # type: ignore[attr-defined]


def _ends(first: float, steps: Sequence[float], last: float) -> tuple[float, float]:
    """Ends of the axis: from zero, unless the steps are too small beside the amounts to be seen."""
    levels, level = [first, last], first
    for amount in steps:
        level += amount
        levels.append(level)
    low, high = min(levels), max(levels)
    spread = high - low
    if low > 0 and 0 < spread < 0.1 * high:
        return low - spread, high + 0.25 * spread
    return min(0.0, low - 0.1 * abs(low)), high + 0.12 * (abs(high) or 1.0)
