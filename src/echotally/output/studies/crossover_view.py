"""Costs against volume and their crossings, as text, data and chart."""

from __future__ import annotations

import json
import math
from typing import Any

import numpy as np
from msgspec.structs import asdict
from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.output.base.charts import ended, new_figure, picture, plain_numbers, source_of, style, titled
from echotally.output.base.terminal import Column, count, money, rendered, shown_in, table
from echotally.output.studies.estimates import LEGEND, cost_cell, estimated, least_sure
from echotally.studies.crossings import Change, Crossing
from echotally.studies.crossover import Crossover
from echotally.studies.jobs import Row, cost_bounds, split_columns

#: What is wider, highest by lowest, than 1 % to either side is told with its ends.
_KNOWN = 1.025
#: Names of crossings nearer to each other than that lie on each other.
_A_NAME = 1.35


def crossover_verdict(found: Crossover) -> str:
    """Which plan is the cheapest that meets every target, stretch by stretch, with the volumes at which that changes."""
    # Stretches with no plan that meets every target are named as well: the cheapest is no answer there.
    picks = found.picks()
    known: dict[float, Crossing | Change] = {c.scale: c for c in found.changes} | {c.scale: c for c in found.crossings}
    ends = [*(scale for scale, _ in picks[1:]), math.inf]
    said = []
    for n, ((scale, plan), end) in enumerate(zip(picks, ends, strict=True)):
        name = plan or _none(found, scale, end)
        said.append(f"{name} from {_told(scale, known.get(scale))}" if n else name)
    return "Cheapest that meets every target: " + ", then ".join(said) + "."


def _times(scale: float, digits: int = 4) -> str:
    """A multiple of today's volume with the digits that are known."""
    # Crossings are known to 1 %, or to an interval; more digits would be invented.
    scale = float(f"{scale:.{digits}g}")
    return f"{scale:,.0f}" if scale >= 1_000 else f"{scale:,.4g}"


def _none(found: Crossover, low: float, high: float) -> str:
    """No plan surely meets every target from one volume to another: whether one perhaps does."""
    undecided = any(low <= row["scale"] < high and row["meets_targets"] is None for row in found.rows)
    return "none for certain" if undecided else "none"


def _told(scale: float, at: Crossing | Change | None) -> str:
    """Where something changes, with where it may be where that is not known to 1 %."""
    if at is None or not _is_wide(at):
        return f"{_times(scale)} x"
    return f"{_times(scale, 2)} x ({_times(at.low, 2)} to {_times(at.high, 2)})"


def _is_wide(at: Crossing | Change) -> bool:
    return at.high / at.low > _KNOWN


def _between(at: Crossing | Change) -> str:
    return f"{_times(at.low, 3)} to {_times(at.high, 3)}"


def _currency(found: Crossover) -> str:
    return next(iter(found.loaded.offers.values())).card.currency


def crossover_text(found: Crossover, width: int | None = None, colour: bool | None = None) -> str:
    """The verdict, the crossings, then costs by volume."""
    shown_in(_currency(found))
    parts: list[RenderableType] = [Text(safe(crossover_verdict(found)), style="bold")]
    parts += [Text(line) for line in (*_narrowed(found), *_left_out(found), *_sampled(found))]
    parts.append(Text(""))
    if found.crossings:
        parts.append(_crossings(found, width))
    if found.changes:
        parts.append(_changes(found, width))
    parts.append(_costs(found, width))
    if found.by:
        parts.append(_parts(found, found.by, width))
    parts.append(Text("Demand is multiplied in every environment; schedules fire as they do.", style="dim"))
    if any(demand.clients for demand in found.loaded.model.demand.values()):
        parts.append(
            Text("Events a month are without the requests of clients, which depend on the answers.", style="dim")
        )
    return rendered(parts, width, colour)


def _narrowed(found: Crossover) -> list[str]:
    """Between which volumes it was looked, where nobody said."""
    if not found.narrowed:
        return []
    low, high = map(_times, (found.scales[0], found.scales[-1]))
    return [
        f"From {low} to {high} times today's demand, which is soon played; --scale 0.01..100 looks further, for longer."
    ]


def _left_out(found: Crossover) -> list[str]:
    """Plans with volumes of which no month was played."""
    by_plan: dict[str, list[float]] = {}
    for scale, plan in found.too_large:
        by_plan.setdefault(plan, []).append(scale)
    alike: dict[tuple[float, ...], list[str]] = {}
    for plan, scales in by_plan.items():
        alike.setdefault(tuple(scales), []).append(safe(plan))
    return [
        f"{', '.join(plans)} {'is' if len(plans) == 1 else 'are'} left out {_at(list(scales), found.scales)}: what finds no room "
        "there is tried too often to be played, or even a sample of the month would be too large."
        for scales, plans in alike.items()
    ]


def _sampled(found: Crossover) -> list[str]:
    """From which volume on costs are estimates, and how good they are at the worst."""
    rows = estimated(found.rows)
    if not rows:
        return []
    sure = least_sure(rows, lambda row: f"{_times(row['scale'])} x")
    return [
        f"Costs with ~ are estimates from samples, from {_times(min(row['scale'] for row in rows))} x on; {sure}. Plans that "
        "differ by less than that leaves in doubt are not told apart."
    ]


def _at(scales: list[float], of: tuple[float, ...]) -> str:
    """Some of the volumes looked at, in words."""
    if tuple(scales) == of[-len(scales) :]:
        return f"from {_times(scales[0])} x on"
    return f"at {', '.join(map(_times, scales))} x"


def _crossings(found: Crossover, width: int | None) -> RenderableType:
    wide = any(map(_is_wide, found.crossings))
    columns = [
        Column("times today"),
        *([Column("between")] if wide else []),
        Column("events a month"),
        Column("cost of both"),
        Column("cheaper below", False),
        Column("cheaper above", False),
        Column("", False),
    ]
    rows = [
        [
            f"{c.scale:,.3f}",
            *([_between(c)] if wide else []),
            count(c.events),
            money(c.cost),
            c.below,
            c.above,
            "cheapest changes" if c.cheapest else "",
        ]
        for c in found.crossings
    ]
    # Where the order of two dearer plans changes nothing is decided.
    marks = ["bold" if c.cheapest else "dim" for c in found.crossings]
    known = "95 % interval" if wide else "to 1 %"
    return table(f"Crossings, {known} ({_currency(found)})", columns, rows, marks, width)


def _changes(found: Crossover, width: int | None) -> RenderableType:
    wide = any(map(_is_wide, found.changes))
    columns = [
        Column("times today"),
        *([Column("between")] if wide else []),
        Column("events a month"),
        Column("plan", False),
        Column("from there on", False),
    ]
    rows = [
        [
            f"{c.scale:,.3f}",
            *([_between(c)] if wide else []),
            count(c.scale * found.events),
            c.plan,
            "meets its targets" if c.meets else "misses a target",
        ]
        for c in found.changes
    ]
    return table("Targets, as far as it is decided" if wide else "Targets, to 1 %", columns, rows, (), width)


def _costs(found: Crossover, width: int | None) -> RenderableType:
    plans = list(dict.fromkeys(row["plan"] for row in found.rows))
    cells = {(row["scale"], row["plan"]): row for row in found.rows}
    columns = [
        Column("times today"),
        Column("events a month"),
        *(Column(plan, rank=1 + n // 3) for n, plan in enumerate(plans)),
    ]
    rows = [
        [_times(scale, 3), count(scale * found.events), *(_cell(cells.get((scale, plan))) for plan in plans)]
        for scale in found.scales
    ]
    return table(f"Cost of the month ({_currency(found)}; {LEGEND})", columns, rows, width=width)


def _parts(found: Crossover, by: str, width: int | None) -> RenderableType:
    """The cheapest plan's cost at each volume, part by part; where none meets the targets, the cheapest of all."""
    chosen = [
        # What cannot be had for its targets is no plan to split the cost of, unless nothing else can be either.
        found.cheapest(scale)
        or min((row for row in found.rows if row["scale"] == scale), key=lambda row: row["cost_total"])
        for scale in found.scales
        if any(row["scale"] == scale for row in found.rows)
    ]
    names = split_columns(chosen)
    columns = [Column("times today"), Column("plan", False), Column("cost")]
    columns += [Column(name.removeprefix("cost_by:"), rank=1 + n // 4) for n, name in enumerate(names)]
    rows = [
        [_times(row["scale"], 3), row["plan"], _cell(row), *(money(row.get(name) or 0.0) for name in names)]
        for row in chosen
    ]
    return table(f"By {by.replace(',', ' and ')} on the cheapest plan ({_currency(found)})", columns, rows, width=width)


def _cell(row: Row | None) -> str:
    return "-" if row is None else cost_cell(row)


def crossover_json(found: Crossover) -> str:
    """The crossover as data (schema ``echotally-crossover/1``)."""
    data = {
        "schema": "echotally-crossover/1",
        "currency": _currency(found),
        "events": found.events,
        "narrowed": found.narrowed,
        "crossings": [asdict(c) for c in found.crossings],
        "changes": [asdict(c) for c in found.changes],
        "picks": [{"scale": scale, "plan": plan} for scale, plan in found.picks()],
        "rows": list(found.rows),
        "too_large": [{"scale": scale, "plan": plan} for scale, plan in found.too_large],
    }
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def crossover_chart(found: Crossover, form: str) -> bytes:
    """Cost against volume, both logarithmic; hollow marks miss a target; crossings of the cheapest are named."""
    figure, (panel,) = new_figure()
    for n, plan in enumerate(dict.fromkeys(row["plan"] for row in found.rows)):
        rows = [row for row in found.rows if row["plan"] == plan]
        looks = style(n)
        known = estimated(rows)
        # As free ones are below.
        ends = np.maximum([cost_bounds(r) for r in known], 1e-3).reshape(-1, 2)
        panel.vlines([r["scale"] for r in known], ends[:, 0], ends[:, 1], color=looks["color"], linewidth=1)
        panel.plot(
            [r["scale"] for r in rows],
            # A logarithmic axis has no zero: free is drawn as a tenth of a cent.
            [max(r["cost_total"], 1e-3) for r in rows],
            # The line has none: marks are drawn apart, full or hollow.
            markevery=[],
            **{**looks, "marker": ""},
        )
        for met in (True, False):
            some = [r for r in rows if bool(r["meets_targets"]) == met]
            panel.plot(
                [r["scale"] for r in some],
                [max(r["cost_total"], 1e-3) for r in some],
                linestyle="",
                marker=looks["marker"],
                color=looks["color"],
                fillstyle="full" if met else "none",
                markersize=7,
            )
    _name_crossings(panel, found)
    panel.set_xscale("log")
    panel.set_yscale("log")
    plain_numbers(panel)
    panel.set_xlabel(f"demand as a multiple of today's ({found.events:,.0f} events a month)")
    panel.set_ylabel(f"cost of the month ({_currency(found)})")
    ended(panel, _ends(found))
    titled(
        panel,
        crossover_verdict(found),
        f"Cost of the month ({_currency(found)}) against demand, both logarithmic; hollow marks miss a target"
        + ("; upright lines are 95 % intervals of samples" if estimated(found.rows) else ""),
    )
    return picture(figure, form, source_of(found.loaded.model))


def _ends(found: Crossover) -> list[tuple[float, str, str]]:
    """Where each plan's line ends, with its name and colour."""
    ends = []
    for n, plan in enumerate(dict.fromkeys(row["plan"] for row in found.rows)):
        rows = [row for row in found.rows if row["plan"] == plan]
        ends.append((max(float(rows[-1]["cost_total"]), 1e-3), plan, str(style(n)["color"])))
    return ends


def _name_crossings(panel: Any, found: Crossover) -> None:
    named: list[float] = []
    # Those that decide are named whatever is beside them, others where there is room.
    for c in sorted(found.crossings, key=lambda c: not c.cheapest):
        if not c.cheapest and any(max(c.scale, at) / min(c.scale, at) < _A_NAME for at in named):
            continue
        named.append(c.scale)
        weight = "bold" if c.cheapest else "normal"
        panel.annotate(
            f"{c.scale:,.2f} x",
            (c.scale, c.cost),
            (0, 26),
            textcoords="offset points",
            ha="center",
            weight=weight,
            arrowprops={"arrowstyle": "->", "color": "black"},
        )
