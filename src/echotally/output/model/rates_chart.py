"""A rate card as a picture: what a million calls cost by memory and run time, and what the next unit costs as quantities grow."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import numpy as np

from echotally.output.base.charts import DASHES, ended, new_figure, picture, plain_numbers, style, titled
from echotally.rates.card import Plan, RateCard
from echotally.rates.price_walk import about

#: Memory sizes looked at, MB, and run times, s, told apart by their dashes.
_SIZES = (128, 256, 512, 1_024, 2_048, 4_096, 8_192)
_RUNS = (0.1, 1.0, 10.0)


def rates_chart(card: RateCard, form: str) -> bytes:
    """Plans that bill runs or active time above; below the price of a compute unit against its quantity, allowance included."""
    figure, panels = new_figure(2, (3, 2), share_x=False)
    plans = {name: plan for name, plan in card.plans.items() if plan.bills in ("runs", "active")}
    ends: list[tuple[float, str, str]] = []
    for n, (name, plan) in enumerate(plans.items()):
        sizes = [size for size in _SIZES if plan.memory.round_up(size) == size]
        for k, run in enumerate(_RUNS):
            costs = [million(plan, size, run) for size in sizes]
            panels[0].plot(
                sizes, costs, **{**style(n), "linestyle": DASHES[k], "marker": style(n)["marker"] if k == 1 else ""}
            )
            if k == 1 and costs:
                ends.append((costs[-1], name, str(style(n)["color"])))
    panels[0].set_xscale("log", base=2)
    panels[0].set_yscale("log")
    if plans:
        plain_numbers(panels[0])
        panels[0].set_xticks(_SIZES, [f"{s} MB" if s < 1_024 else f"{s // 1_024} GB" for s in _SIZES])
        panels[0].minorticks_off()
        ended(panels[0], ends)
    panels[0].set_ylabel(f"a million calls ({card.card.currency})")
    _by_quantity(panels[1], card)
    cheapest = min(plans, key=lambda name: million(plans[name], 1_024, 1.0), default=None)
    said = (
        f"{card.card.name}: a million runs of a second with 1 GB cost least on {cheapest}, "
        f"{million(plans[cheapest], 1_024, 1.0):,.2f} {card.card.currency}"
        if cheapest
        else f"{card.card.name}: no plan bills runs"
    )
    runs = "runs of 0.1 s (solid), 1 s (dashed, marked) and 10 s (dash-dotted)"
    titled(panels[0], said, f"Above: calls and their time before allowances, {runs}; below: what the next unit costs")
    where = f" · {card.card.provider}" if card.card.provider else ""
    return picture(figure, form, f"card {card.card.name}{where} · {card.card.effective or 'no date'} · Echo Tally")


def million(plan: Plan, memory_mb: int, run_s: float) -> float:
    """A million runs of this length on this memory, at the first prices and without allowances, in the card's currency."""
    prices = plan.prices()
    step, least = plan.rounding.time / 1e9, plan.rounding.at_least / 1e9
    billed = max(least, -(-run_s // step) * step)
    quantities = {
        "calls": 1.0,
        "gb_seconds": billed * memory_mb / 1_024,
        "vcpu_seconds": billed * plan.vcpu(memory_mb),
    }
    return 1e6 * sum(_first(prices[meter]) * amount for meter, amount in quantities.items() if meter in prices)


def _first(price: Any) -> float:
    return float(Decimal(price.steps()[0].unit) / price.per)


def _by_quantity(panel: Any, card: RateCard) -> None:
    """What the next compute unit costs on each plan, against how many were used."""
    meters = ("gb_seconds", "vcpu_seconds", "allocated_gb_seconds")
    lines = [(name, plan, next((m for m in meters if m in plan.prices()), None)) for name, plan in card.plans.items()]
    x = np.geomspace(1e3, 1e9, 400)
    ends = []
    for n, (name, plan, meter) in enumerate(lines):
        if meter is not None:
            price, free = plan.prices()[meter], float(plan.allowance.get(meter, 0))
            y = [(about(price, max(0.0, q * 1.01 - free)) - about(price, max(0.0, q - free))) / (q * 0.01) for q in x]
            panel.plot(x, y, color=style(n)["color"], linestyle=style(n)["linestyle"], linewidth=1.8)
            ends.append((y[-1], f"{name}, {meter.replace('_', ' ')}", str(style(n)["color"])))
    panel.set_xscale("log")
    panel.set_xlim(x[0], x[-1])
    panel.set_ylim(bottom=0)
    panel.set_xticks([1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9], ["1k", "10k", "100k", "1M", "10M", "100M", "1,000M"])
    panel.minorticks_off()
    panel.set_xlabel("units used in the month")
    panel.set_ylabel(f"next unit ({card.card.currency})")
    panel.ticklabel_format(axis="y", style="plain")
    if ends:
        ended(panel, ends)
