"""Demand in the terminal (table and day-by-hour map), as JSON, CSV and a chart."""

from __future__ import annotations

import csv
import io
import json
from datetime import date
from typing import Any

import numpy as np
from numpy.typing import NDArray
from rich.console import RenderableType
from rich.text import Text

from echotally.cells import harmless
from echotally.demand.summary import SourceDemand
from echotally.errors import safe
from echotally.output.base.charts import SMALL, TEXT, headed, picture, short, small_panels, source_of
from echotally.output.base.terminal import Column, count, rendered, table
from echotally.projection.demand import DemandView

_SHADES = " ·░▒▓█"


def _row(s: SourceDemand) -> list[str]:
    return [
        safe(s.source),
        safe(s.environment),
        count(s.total),
        count(round(s.expected)),
        f"{s.per_hour:,.1f}",
        count(s.busiest_hour),
        count(s.busiest_minute),
    ]


def demand_dict(view: DemandView) -> dict[str, Any]:
    """The demand as plain data (schema ``echotally-demand/1``); ``heat`` is events by local day and hour."""
    return {
        "schema": "echotally-demand/1",
        "month": view.loaded.model.estate.month,
        "seed": view.seed,
        "closed_loop": list(view.closed_loop),
        "sources": [
            {
                "source": s.source,
                "environment": s.environment,
                "events": s.total,
                "expected": s.expected,
                "per_hour": s.per_hour,
                "busiest_hour": s.busiest_hour,
                "busiest_minute": s.busiest_minute,
                "heat": s.heat.tolist(),
            }
            for s in view.sources
        ],
        "notes": list(view.loaded.month.notes),
    }


def demand_json(view: DemandView) -> str:
    """The demand as JSON text."""
    return json.dumps(demand_dict(view), indent=2, ensure_ascii=False) + "\n"


def demand_csv(view: DemandView) -> str:
    """Events of every source by local day and hour, tidy."""
    paper = io.StringIO()
    rows = csv.writer(paper, lineterminator="\n")
    rows.writerow(["environment", "source", "day", "hour", "events"])
    for s in view.sources:
        for day, hours in enumerate(s.heat.tolist(), 1):
            rows.writerows(
                # Names are made harmless: a spreadsheet would run what begins with an equals sign.
                [harmless(s.environment), harmless(s.source), day, hour, events]
                for hour, events in enumerate(hours)
            )
    return paper.getvalue()


def demand_text(view: DemandView, width: int | None = None, colour: bool | None = None) -> str:
    """Table and maps in the terminal; the map is of the first environment's sources."""
    model = view.loaded.model
    columns = [
        Column("source", False),
        Column("environment", False),
        Column("events"),
        Column("expected", rank=2),
        Column("per hour"),
        Column("busiest hour"),
        Column("busiest minute", rank=1),
    ]
    busiest = max(view.sources, key=lambda s: s.busiest_minute, default=None)
    parts: list[RenderableType] = [Text(safe(f"{model.estate.name}, {model.estate.month}"), style="bold")]
    if busiest:
        total = sum(s.total for s in view.sources)
        parts.append(
            Text(
                f"{total:,} events come in from outside; the busiest minute is {busiest.busiest_minute:,} events at {safe(busiest.source)}."
            )
        )
    parts.append(Text(""))
    parts.append(table("What comes in", columns, [_row(s) for s in view.sources], width=width))
    # Other environments mostly have the same shape, a factor apart; the table above has them all.
    first = next(iter(model.environments))
    shown = [s for s in view.sources if s.environment == first and s.total]
    if shown:
        # One map, of the source with the busiest hour: that is what everything else is sized by.
        parts += _maps(view, max(shown, key=lambda s: s.busiest_hour))
    parts += [
        Text(f"{name}: clients in a closed loop; how often they ask depends on the answers.")
        for name in view.closed_loop
    ]
    parts += [Text(line) for line in _outlook(view)]
    parts += [
        Text("Assumed: " + note, style="dim")
        for note in (f"drawn with seed {view.seed}, before any function runs.", *view.loaded.month.notes)
    ]
    return rendered(parts, width, colour)


def _outlook(view: DemandView) -> list[str]:
    """What the model says of each demand's uncertainty and growth, in events a month."""
    taps = view.loaded.month.taps
    lines = []
    for name, demand in view.loaded.model.demand.items():
        expected = sum(tap.expected for tap in taps if tap.demand == name)
        said = []
        if demand.range:
            said.append(f"likely {expected * demand.range.low:,.0f} to {expected * demand.range.high:,.0f} events")
        if demand.growth:
            # Compound, as ``forecast`` plays it.
            year = expected * (1 + demand.growth) ** 12
            said.append(f"at {demand.growth:+.1%} a month {year:,.0f} in a year")
        if said:
            lines.append(f"{safe(name)}: {expected:,.0f} events expected in the month; {'; '.join(said)}.")
    return lines


def _maps(view: DemandView, s: SourceDemand) -> list[RenderableType]:
    bounds = _quarters(s.heat)
    year, month = (int(part) for part in view.loaded.model.estate.month.split("-"))
    lines = [f"     {''.join(f'{hour:<4}' for hour in range(0, 24, 2))}"]
    for day, hours in enumerate(s.heat.tolist(), 1):
        cells = "".join(_shade(n, bounds) * 2 for n in hours)
        lines.append(f"{date(year, month, day):%a} {day:2} {cells} {sum(hours):>9,}")
    title = f"{safe(s.source)} ({s.environment}): local day by hour; events of the day"
    legend = f"{' '.join(_SHADES[1:5])} quarters of the hours with events, {_SHADES[5]} above {2 * bounds[2]:,.0f} an hour, twice the third quarter; busiest {int(s.heat.max()):,}"
    return [Text(""), Text(title, style="bold"), Text(legend), Text("\n".join(lines)), Text("")]


def _quarters(heat: NDArray[np.int64]) -> list[float]:
    """The quartiles of the hours that have events: ordinary hours stay apart beside a surge of any size."""
    busy = heat[heat > 0]
    return [float(q) for q in np.quantile(busy, (0.25, 0.5, 0.75))] if busy.size else [0.0, 0.0, 0.0]


def _shade(n: int, bounds: list[float]) -> str:
    if n == 0:
        return _SHADES[0]
    # Twice the third quarter is no ordinary hour any more, and gets a shade of its own.
    return _SHADES[5] if n > 2 * bounds[2] else _SHADES[1 + sum(n > bound for bound in bounds)]


def demand_chart(view: DemandView, form: str) -> bytes:
    """A day-by-hour map of every source that is fed, 1280x800, as PNG or SVG."""
    from matplotlib.colors import PowerNorm

    first = next(iter(view.loaded.model.environments))
    # Six panels are as many as can be read on one page.
    shown = [s for s in view.sources if s.environment == first and s.total][:6]
    columns = 1 if len(shown) < 2 else 2 if len(shown) < 5 else 3
    rows = max(1, -(-len(shown) // columns))
    figure, panels = small_panels(rows, columns, share_x=False)
    headed(figure, _chart_title(shown, view.loaded.model.estate.month))
    for axes, s in zip(panels, shown, strict=False):
        axes.grid(False)
        # Shaded by the root: a surge a hundred times as high would leave every other hour white.
        image = axes.imshow(s.heat, aspect="auto", cmap="Greys", interpolation="nearest", norm=PowerNorm(0.5, vmin=0))
        figure.colorbar(image, ax=axes).set_label("events an hour (shade by root)", fontsize=SMALL)
        axes.set_title(f"{short(s.source, 24)}: {s.total:,}", loc="left", fontsize=TEXT)
        axes.set_xlabel(f"hour of day ({view.loaded.model.estate.timezone})")
        axes.set_ylabel("day of month")
        axes.set_xticks(range(0, 24, 3))
        axes.set_yticks(range(0, len(s.heat), 5), [str(day + 1) for day in range(0, len(s.heat), 5)])
    # A grid has room for as many panels as it has; empty frames would look like missing data.
    for axes in panels[len(shown) :]:
        axes.remove()
    return picture(figure, form, source_of(view.loaded.model, view.seed))


def _chart_title(shown: list[SourceDemand], month: str) -> str:
    if not shown:
        return f"No events come in during {month}"
    busiest = max(shown, key=lambda s: s.busiest_hour)
    return f"Busiest hour of {month}: {busiest.busiest_hour:,} events at {busiest.source}"
