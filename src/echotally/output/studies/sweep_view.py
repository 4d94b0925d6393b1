"""A sweep as text, table, data and chart."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.model import units
from echotally.model.addresses import parts_in
from echotally.model.units import memory_text
from echotally.output.base.charts import ended, new_figure, picture, source_of, style, titled
from echotally.output.base.terminal import Column, count, money, rendered, seconds, share, shown_in, table
from echotally.output.studies.estimates import LEGEND, cost_cell, estimated, least_sure
from echotally.studies.jobs import Row, cost_bounds, split_columns
from echotally.studies.sweep import Sweep

_MOST_SHOWN = 60
_SAYS = {"cost": "cheapest", "wait": "shortest wait", "throttled": "least throttled"}


def sweep_verdict(found: Sweep) -> str:
    """The best point in a sentence, as ``--set`` and plan."""
    if found.demand_varied and any(row["feasible"] for row in found.rows):
        return _by_demand(found)
    # Feasible is not enough to be the best: where nothing meets its targets that is said, and what comes nearest.
    row = found.best or found.closest
    if row is None:
        return "No plan can take any of these points."
    sets = " ".join(f"{axis.address}={row[axis.address]}" for axis in found.axes)
    currency = _currency(found)
    figures = f"{money(row['cost_total'])} {currency}, throttled {share(row['throttled_share'])} %, wait p95 {seconds(row['wait_p95_s'])} s"
    those = " of those played" if found.unplayed else ""
    if found.best:
        return f"Best{those} ({_SAYS[found.objective]} that meets every target): {sets} on {row['plan']}: {figures}."
    return f"No point{those} meets every target. Closest: {sets} on {row['plan']}: {figures}; {row['misses']} target(s) missed."


def _by_demand(found: Sweep) -> str:
    """Where demand is varied no point is better than another: which plan is the cheapest that meets every target at each."""
    picks: list[tuple[str, str]] = []
    for point in dict.fromkeys(tuple(row[axis.address] for axis in found.axes) for row in found.rows):
        here = [r for r in found.rows if tuple(r[a.address] for a in found.axes) == point and r["meets_targets"]]
        plan = min(here, key=lambda r: (r["cost_total"], r["plan"]))["plan"] if here else "none"
        # A point that says the same as the one before adds nothing.
        if not picks or picks[-1][1] != plan:
            picks.append((", ".join(map(str, point)), plan))
    said = [f"{plan} from {at}" if n else plan for n, (at, plan) in enumerate(picks)]
    those = " of those played" if found.unplayed else ""
    return (
        f"Demand is varied, so no point is the best. Cheapest{those} that meets every target: {', then '.join(said)}."
    )


def _currency(found: Sweep) -> str:
    return next(iter(found.loaded.offers.values())).card.currency


def sweep_text(found: Sweep, width: int | None = None, colour: bool | None = None) -> str:
    """The verdict, then the points: all of a small sweep, the front of a large one."""
    shown_in(_currency(found))
    feasible = [row for row in found.rows if row["feasible"]]
    # Whatever is not on the front is beaten in everything by something that is.
    shown = feasible if len(feasible) <= _MOST_SHOWN else [row for row in feasible if row["front"]][:_MOST_SHOWN]
    runs = _run_columns(found)
    columns = [Column(axis.address, False) for axis in found.axes]
    columns += [
        Column("plan", False),
        Column("month"),
        Column("throttled %"),
        Column("lost", rank=3),
        Column("wait p95 s"),
    ]
    # A column that is empty in every row would only push others out of a narrow terminal.
    answered = any(row.get("latency_p95_ms") is not None for row in feasible)
    columns += [Column("latency p95 ms", rank=2)] if answered else []
    columns += [Column(f"run of {name} s", rank=1) for name in runs]
    parts_of = split_columns(found.rows)
    columns += [Column(name.removeprefix("cost_by:"), rank=1) for name in parts_of]
    columns += [Column("peak calls", rank=3), Column("misses", rank=2), Column("front", False, rank=1)]
    rows = [_cells(found, row, runs, answered, parts_of) for row in shown]
    marks = ["bold" if row is found.best else "dim" if not row["meets_targets"] else "" for row in shown]
    parts: list[RenderableType] = [Text(safe(sweep_verdict(found)), style="bold")]
    parts += [Text(safe(line)) for line in (*_left_out(found), *_sampled(found), *_unsure_of(found))]
    parts.append(Text(""))
    parts.append(table(f"Points ({_currency(found)} a month; {LEGEND})", columns, rows, marks, width))
    said = "" if len(shown) == len(feasible) else f"; {len(shown)} on the front shown (-o for all)"
    infeasible = len(found.rows) - len(feasible)
    parts.append(Text(f"{len(found.rows)} points{said}; {infeasible} infeasible.", style="dim"))
    parts.append(
        Text("front: no other point is as good in cost, wait and throttling and better in one of them.", style="dim")
    )
    return rendered(parts, width, colour)


def _left_out(found: Sweep) -> list[str]:
    """Plans that have no row at some points."""
    points = math.prod(len(axis.values) for axis in found.axes)
    return [
        f"{plan} was not played at {missing} of {points} points, and may cost less there: even a sample of the month is too large."
        for plan, missing in found.unplayed
    ]


def _sampled(found: Sweep) -> list[str]:
    """Which costs are estimates, and with how many others the best point may change places."""
    rows = estimated(found.rows)
    if not rows:
        return []
    sure = least_sure(rows, lambda row: " ".join(f"{axis.address}={row[axis.address]}" for axis in found.axes))
    lines = [f"Costs with ~ are estimates from samples; {sure}."]
    best = found.best
    if best and found.objective == "cost" and not found.demand_varied:
        others = [row for row in found.rows if row is not best and row["meets_targets"]]
        near = sum(cost_bounds(row)[0] <= cost_bounds(best)[1] for row in others)
        if near:
            lines.append(f"{near} other point(s) may cost as little as the best: their intervals overlap with its own.")
    return lines


def _unsure_of(found: Sweep) -> list[str]:
    """Points with less memory than today's, where the model does not say what a run needs: they may not run at all."""
    lines = []
    for axis in found.axes:
        parts = parts_in(found.loaded.document.data, axis.address)
        function = found.loaded.model.functions.get(parts[1]) if len(parts) == 3 else None
        if parts[0] != "functions" or parts[-1] != "memory" or function is None or function.memory_used is not None:
            continue
        if any((as_number(value) or 0) < function.memory for value in axis.values):
            lines.append(
                f"The model does not say what memory a run of {parts[1]} needs (memory_used): below the "
                f"{memory_text(function.memory)} it is given now it may not run."
            )
    return lines


def _run_columns(found: Sweep) -> list[str]:
    """Functions an axis is about: their run time is shown beside the cost."""
    parts = [parts_in(found.loaded.document.data, axis.address) for axis in found.axes]
    return list(dict.fromkeys(part[1] for part in parts if part[0] == "functions" and len(part) > 1))


def _cells(found: Sweep, row: Row, runs: list[str], answered: bool, parts_of: list[str]) -> list[str]:
    return [
        *(safe(str(row[axis.address])) for axis in found.axes),
        row["plan"],
        cost_cell(row),
        share(row["throttled_share"]),
        count(row["lost_events"]),
        seconds(row["wait_p95_s"]),
        *([count(row["latency_p95_ms"])] if answered else []),
        *(seconds(row.get(f"run_s:{name}")) for name in runs),
        *(money(row.get(name)) for name in parts_of),
        count(row["concurrency_peak"]),
        count(row["misses"]),
        "yes" if row["front"] else "",
    ]


def sweep_json(found: Sweep) -> str:
    """The sweep as data (schema ``echotally-sweep/1``)."""
    data: dict[str, Any] = {
        "schema": "echotally-sweep/1",
        "axes": [{"address": axis.address, "values": list(axis.values)} for axis in found.axes],
        "objective": found.objective,
        "currency": _currency(found),
        "demand_varied": found.demand_varied,
        "best": found.best,
        "closest": found.closest,
        "unplayed": [{"plan": plan, "points": points} for plan, points in found.unplayed],
        "rows": list(found.rows),
    }
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def as_number(text: str) -> float | None:
    """The number behind a value of an axis, in its own unit's base; None for words."""
    # Units first: a plain number is none of them, while some texts with a unit are numbers too.
    for read in (units.memory_mb, units.duration_ns, units.rate_per_s, units.size_bytes, float):
        try:
            value = float(read(text))
        except (ValueError, TypeError):
            continue
        return value / 1e9 if read is units.duration_ns else value
    return None


def _label(address: str, value: str) -> str:
    for read, unit in (
        (units.memory_mb, "MB"),
        (units.duration_ns, "s"),
        (units.rate_per_s, "events/s"),
        (units.size_bytes, "bytes"),
    ):
        try:
            read(value)
        except ValueError:
            continue
        return f"{address} ({unit})"
    return address


def sweep_chart(found: Sweep, form: str) -> bytes:
    """Lines for one axis (cost, and run time where it is about a function), a heat map of cost for two."""
    if len(found.axes) == 1:
        return picture(_lines(found), form, source_of(found.loaded.model))
    return picture(_heat(found), form, source_of(found.loaded.model))


def _lines(found: Sweep) -> Any:
    axis = found.axes[0]
    runs = _run_columns(found)
    figure, panels = new_figure(1 + bool(runs), (2, 1) if runs else (1,))
    numbers = [as_number(value) for value in axis.values]
    numeric = None not in numbers
    place = dict(zip(axis.values, numbers if numeric else range(len(axis.values)), strict=True))
    plans = list(dict.fromkeys(row["plan"] for row in found.rows if row["feasible"]))
    for n, plan in enumerate(plans):
        rows = [row for row in found.rows if row["plan"] == plan and row["feasible"]]
        x = [place[row[axis.address]] for row in rows]
        panels[0].plot(x, [row["cost_total"] for row in rows], **style(n))
        for name in runs:
            panels[1].plot(x, [row.get(f"run_s:{name}") for row in rows], **style(n))
    panels[0].set_ylabel(f"cost of the month ({_currency(found)})")
    # From zero, so that a cost twice as high looks it; room above for the word at the best point.
    panels[0].set_ylim(0, 1.18 * max(panels[0].get_ylim()[1], 1e-9))
    if runs:
        panels[1].set_ylabel("mean run (s)")
        panels[1].set_ylim(bottom=0)
    # Three doublings or more: even steps would crowd the small values into a corner.
    if numeric and min(n for n in numbers if n is not None) > 0 and max(numbers) / min(numbers) >= 8:  # type: ignore[operator,type-var]
        panels[-1].set_xscale("log")
    panels[-1].set_xticks(list(place.values()), [str(v) for v in place], rotation=30 if len(place) > 8 else 0)
    panels[-1].minorticks_off()
    panels[-1].set_xlabel(_label(axis.address, axis.values[0]))
    _mark_best(found, panels[0], place[found.best[axis.address]] if found.best else None)
    ended(panels[0], _ends(found, plans, "cost_total"))
    for name in runs[:1]:
        ended(panels[1], _ends(found, plans, f"run_s:{name}"))
    titled(panels[0], sweep_verdict(found), f"Cost of the month ({_currency(found)}) on each plan")
    return figure


def _ends(found: Sweep, plans: Sequence[str], figure: str) -> list[tuple[float, str, str]]:
    """Where each plan's line ends, with its name and colour."""
    ends = []
    for n, plan in enumerate(plans):
        values = [row.get(figure) for row in found.rows if row["plan"] == plan and row["feasible"]]
        if values and values[-1] is not None:
            ends.append((float(values[-1]), plan, str(style(n)["color"])))
    return ends


def _mark_best(found: Sweep, panel: Any, x: float | None) -> None:
    if found.best and x is not None:
        panel.annotate(
            "best",
            (x, found.best["cost_total"]),
            (0, 24),
            textcoords="offset points",
            ha="center",
            arrowprops={"arrowstyle": "->", "color": "black"},
        )


def _heat(found: Sweep) -> Any:
    """Cost over the first two axes, on the plan of the best (or first feasible) point; the cheapest third-axis value."""
    one, two = found.axes[:2]
    # One plan for the whole map: costs of two plans side by side would be no surface.
    row = found.best or found.closest or next((r for r in found.rows if r["feasible"]), None)
    plan = row["plan"] if row else ""
    cells: dict[tuple[str, str], Row] = {}
    for r in found.rows:
        key = (r[one.address], r[two.address])
        if r["plan"] == plan and r["feasible"] and (key not in cells or r["cost_total"] < cells[key]["cost_total"]):
            cells[key] = r
    figure, (panel,) = new_figure()
    grid = [[cells[a, b]["cost_total"] if (a, b) in cells else float("nan") for a in one.values] for b in two.values]
    image = panel.imshow(grid, aspect="auto", cmap="cividis_r", origin="lower")
    panel.grid(False)
    for y, b in enumerate(two.values):
        for x, a in enumerate(one.values):
            # In more cells than that no figure could be read.
            if (a, b) in cells and len(one.values) * len(two.values) <= 200:
                cell = cells[a, b]
                text = money(cell["cost_total"]) + ("" if cell["meets_targets"] else "\nmisses")
                low, high = image.get_clim()
                # Light words on the dark half of the colours.
                dark = cell["cost_total"] > (low + high) / 2
                panel.text(x, y, text, ha="center", va="center", fontsize=9, color="white" if dark else "black")
    panel.set_xticks(range(len(one.values)), one.values, rotation=30 if len(one.values) > 8 else 0)
    panel.set_yticks(range(len(two.values)), two.values)
    panel.set_xlabel(one.address)
    panel.set_ylabel(two.address)
    figure.colorbar(image, label=f"cost of the month on {plan} ({_currency(found)})")
    titled(panel, sweep_verdict(found), f"Cost of the month on {plan} ({_currency(found)})")
    return figure
