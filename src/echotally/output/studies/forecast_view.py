"""What ``forecast`` prints and draws: the months to come, when something is crossed, what moves the cost most."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from msgspec.structs import asdict
from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.output.base.charts import (
    COLOURS,
    PIXELS,
    SMALL,
    ended,
    new_figure,
    picture,
    pixels,
    source_of,
    style,
    titled,
)
from echotally.output.base.terminal import Column, money, rendered, share, shown_in, table
from echotally.output.projection.verdict_text import not_played
from echotally.studies.forecast_answer import Forecast, PlanForecast, Swing

_BAR = 24


def forecast_verdict(found: Forecast) -> list[str]:
    """The cheapest plan over all months, its spread, and when another becomes the cheaper one."""
    best = min(found.plans, key=lambda p: p.rank)
    low, middle, high = best.total
    spread = f"in eight of ten cases {money(low)} to {money(high)}" if high > low else "no input has a range"
    those = " of those played" if found.unplayed else ""
    lines = [
        f"{best.plan} is the cheapest{those} over {len(found.months)} months: {money(middle)} {found.currency} ({spread})."
    ]
    cheaper = [p.plan for p in found.plans if p.behind and p.total[1] < best.total[1]]
    if best.behind:
        lines[0] = f"Every plan{those} leaves more work undone than it may in some month; {lines[0]}"
    elif cheaper:
        lines.append(f"Cheaper, but leaving work undone in some month: {', '.join(cheaper)}.")
    lines += not_played(found.unplayed)
    for month, plan in found.switches:
        lines.append(f"From {month} on {plan} is the cheaper one.")
    if not found.switches and len(found.plans) > 1:
        lines.append(f"No other plan{those} becomes cheaper in these months.")
    first = [f"{crossed.month}: {safe(crossed.what)}" for crossed in best.crossed]
    if first:
        lines.append(f"First crossed on it: {'; '.join(first)}.")
    return lines


def _money(values: Sequence[float]) -> list[str]:
    return [money(value) for value in values]


def forecast_text(found: Forecast, width: int | None = None, colour: bool | None = None) -> str:
    """Verdict, the cheapest plan month by month, all plans in total, the tornado, assumptions."""
    shown_in(found.currency)
    best = min(found.plans, key=lambda p: p.rank)
    parts: list[RenderableType] = [Text(forecast_verdict(found)[0], style="bold")]
    parts += [Text(line) for line in forecast_verdict(found)[1:]]
    parts.append(Text(""))
    columns = [
        Column("month", False),
        Column("P10"),
        Column("P50"),
        Column("P90"),
        Column("throttled % P50", rank=1),
        Column("P90", rank=2),
        Column("cheapest in % of draws", rank=1),
        Column("over the cost target in %", rank=2),
    ]
    rows = [
        [
            m.month + ("*" if m.behind else ""),
            *_money(m.cost),
            share(m.throttled[1]),
            share(m.throttled[2]),
            f"{m.cheapest_chance * 100:.0f}",
            f"{m.over_budget_chance * 100:.0f}",
        ]
        for m in best.months
    ]
    parts.append(table(f"{best.plan}, month by month ({found.currency})", columns, rows, (), width))
    parts += _budgets(best, found.currency, width)
    parts += _split(best, found, width)
    parts.append(_plans(found, width))
    parts.append(_tornado(found, width))
    parts += [Text(f"Assumed: {safe(line)}", style="dim") for line in forecast_assumptions(found)]
    return rendered(parts, width, colour)


def _budgets(plan: PlanForecast, currency: str, width: int | None) -> list[RenderableType]:
    """Budgets by tag, a row a month and value; nothing where the model sets none."""
    if not plan.budgets:
        return []
    columns = [
        Column("month", False),
        Column("of", False),
        Column("budget"),
        Column("expected"),
        Column("over it in % of draws"),
    ]
    rows = [
        [b.month, safe(f"{b.tag} {b.value}"), money(b.budget), money(b.expected_cost), f"{b.over_chance * 100:.0f}"]
        for b in plan.budgets
    ]
    return [table(f"Budgets by tag on {plan.plan} ({currency})", columns, rows, (), width)]


def _split(plan: PlanForecast, found: Forecast, width: int | None) -> list[RenderableType]:
    """The cost as ``--by`` splits it, the dearest part first; nothing where no split was asked for."""
    if not found.by:
        return []
    first, last = found.months[0], found.months[-1]
    columns = [*(Column(name, False) for name in found.by.split(",")), Column(f"{first} expected")]
    columns += [Column(f"{last} expected")] if last != first else []
    columns += [Column("all months P10", rank=1), Column("P50"), Column("P90", rank=1)]
    rows = [
        [*map(safe, part.labels), *_money(part.expected[:1]), *_money(part.expected[1:][-1:]), *_money(part.total)]
        for part in sorted(plan.parts, key=lambda part: (-part.total[1], part.labels))
        if any(part.expected)
    ]
    return [table(f"By {found.by.replace(',', ' and ')} on {plan.plan} ({found.currency})", columns, rows, (), width)]


def _plans(found: Forecast, width: int | None) -> RenderableType:
    columns = [
        Column("plan", False),
        Column("P10"),
        Column("P50"),
        Column("P90"),
        Column("first crossed", False, wrap=True, rank=1),
    ]
    ranked = sorted(found.plans, key=lambda p: p.rank)
    rows = [[p.plan + ("*" if p.behind else ""), *_money(p.total), _crossed(p)] for p in ranked]
    return table(
        f"All plans, {len(found.months)} months together ({found.currency}; * leaves work undone)",
        columns,
        rows,
        (),
        width,
    )


def _crossed(plan: PlanForecast) -> str:
    return "; ".join(f"{c.month} {safe(c.what)}" for c in plan.crossed[:2]) or "–"


def _tornado(found: Forecast, width: int | None) -> RenderableType:
    columns = [
        Column("input", False),
        Column("from"),
        Column("to"),
        Column("cost at low"),
        Column("at high"),
        Column("moves the cost", False),
    ]
    widest = max((abs(s.high_cost - s.low_cost) for s in found.tornado), default=0.0) or 1.0
    rows = [
        [
            safe(s.input.address) + ("" if s.input.declared else " *"),
            f"{s.input.low:g}",
            f"{s.input.high:g}",
            *_money((s.low_cost, s.high_cost)),
            "█" * max(1, round(abs(s.high_cost - s.low_cost) / widest * _BAR)),
        ]
        for s in found.tornado[:12]
    ]
    title = (
        f"What moves the cost of {found.plan} most (factors; expected {money(found.expected_total)} {found.currency})"
    )
    return table(title, columns, rows, (), width)


def forecast_assumptions(found: Forecast) -> list[str]:
    """The method, its error, and what was left out."""
    model = found.loaded.model
    growth = [f"{name} {d.growth:+.1%}" for name, d in model.demand.items() if d.growth]
    checked = "How far off that is was not checked: even samples of its draws are too large."
    if found.error is not None:
        checked = f"In draws played in full that was off by at most {found.error:.2%}."
    lines = [
        f"{found.draws:,} draws, seed {found.seed}; ranges: {', '.join(i.address for i in found.inputs) or 'none'}; "
        f"growth a month: {', '.join(growth) or 'none'}.",
        "Every month is played in full at the expected demand; between the ends of a range quantities are laid piecewise "
        f"linearly, then billed. {checked}",
        "* has no range in the model: shown at a tenth less and more, from the middle month.",
    ]
    return [*lines, *found.notes]


def forecast_json(found: Forecast) -> str:
    """The forecast as data (schema ``echotally-forecast/1``); ``rows`` has a row a plan and month."""
    data = {
        "schema": "echotally-forecast/1",
        "currency": found.currency,
        "months": list(found.months),
        "draws": found.draws,
        "seed": found.seed,
        "totals": [{"plan": p.plan, "p10": p.total[0], "p50": p.total[1], "p90": p.total[2]} for p in found.plans],
        "switches": [{"month": month, "plan": plan} for month, plan in found.switches],
        "crossed": [{"plan": p.plan, "month": c.month, "what": c.what} for p in found.plans for c in p.crossed],
        "tornado": [_swing_json(swing) for swing in found.tornado],
        "budgets": [{"plan": p.plan, **asdict(b)} for p in found.plans for b in p.budgets],
        "tornado_plan": found.plan,
        "error": found.error,
        "rows": found.rows,
        "unplayed": list(found.unplayed),
        "notes": list(found.notes),
    }
    if found.by:
        data["by"] = [
            {"plan": p.plan, "labels": part.labels, "month": month, "expected_cost": cost}
            for p in found.plans
            for part in p.parts
            for month, cost in zip(found.months, part.expected, strict=True)
        ]
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def _swing_json(swing: Swing) -> dict[str, Any]:
    return {
        "input": swing.input.address,
        "low": swing.input.low,
        "high": swing.input.high,
        "declared": swing.input.declared,
        "cost_low": swing.low_cost,
        "cost_high": swing.high_cost,
    }


def forecast_chart(found: Forecast, kind: str, form: str) -> bytes:
    """``fan``: cost of each plan month by month with its P10 to P90; ``tornado``: what moves the cost."""
    return _tornado_chart(found, form) if kind == "tornado" else _fan_chart(found, form)


def _fan_chart(found: Forecast, form: str) -> bytes:
    budget = any(month.over_budget_chance for plan in found.plans for month in plan.months)
    figure, panels = new_figure(2, (3, 1)) if budget else new_figure()
    panel = panels[0]
    places = range(len(found.months))
    for n, plan in enumerate(sorted(found.plans, key=lambda p: p.rank)):
        low, middle, high = ([m.cost[k] for m in plan.months] for k in range(3))
        panel.fill_between(places, low, high, color=COLOURS[n % len(COLOURS)], alpha=0.25, linewidth=0)
        panel.plot(places, middle, **style(n))
    panel.set_ylim(bottom=0)
    panel.set_ylabel(f"cost of the month ({found.currency})")
    ranked = sorted(found.plans, key=lambda p: p.rank)
    ended(panel, [(plan.months[-1].cost[1], plan.plan, str(style(n)["color"])) for n, plan in enumerate(ranked)])
    if budget:
        for n, plan in enumerate(ranked):
            panels[1].plot(places, [month.over_budget_chance * 100 for month in plan.months], **style(n))
        panels[1].set_ylim(0, 104)
        panels[1].set_ylabel("% of draws over\nthe budget")
    panels[-1].set_xticks(list(places), found.months, rotation=45 if len(found.months) > 12 else 0)
    switched = [f"from {month} on {plan} is the cheaper one" for month, plan in found.switches[:2]]
    titled(
        panel,
        "; ".join([forecast_verdict(found)[0].rstrip("."), *switched]),
        "P50 of each plan, shaded from P10 to P90",
    )
    return picture(figure, form, source_of(found.loaded.model, found.seed))


def _tornado_chart(found: Forecast, form: str) -> bytes:
    figure, (panel,) = new_figure()
    shown: list[Swing] = list(reversed(found.tornado[: 15 if pixels() >= PIXELS else 9]))
    for n, swing in enumerate(shown):
        for cost, colour, hatch, name in (
            (swing.low_cost, COLOURS[5], "//", "at the low end"),
            (swing.high_cost, COLOURS[1], "", "at the high end"),
        ):
            panel.barh(
                n,
                cost - found.expected_total,
                color=colour,
                hatch=hatch,
                edgecolor="white",
                height=0.6,
                label=name if n == 0 else None,
            )
    panel.axvline(0, color="black", linewidth=1)
    names = [f"{s.input.address}{'' if s.input.declared else ' *'}\n{s.input.low:g} to {s.input.high:g}" for s in shown]
    panel.set_yticks(range(len(shown)), names, fontsize=SMALL)
    panel.grid(False, axis="y")
    panel.set_xlabel(f"change of the cost of {len(found.months)} months ({found.currency})")
    figure.legend(frameon=False, loc="outside lower center", ncols=2)
    most = found.tornado[0].input.address if found.tornado else "nothing"
    titled(
        panel,
        f"{found.plan}: {most} moves the cost most (expected {money(found.expected_total)} {found.currency})",
        "One input at its ends, the others as expected; * no range in the model: a tenth less and more",
    )
    return picture(figure, form, source_of(found.loaded.model, found.seed))
