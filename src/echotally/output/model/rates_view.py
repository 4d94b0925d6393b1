"""A rate card as people read it: its plans side by side, their prices, and what is odd about it."""

from __future__ import annotations

import json
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.model.units import duration_text, memory_text
from echotally.output.base.terminal import Column, rendered, table
from echotally.projection.explain import price_text
from echotally.rates.card import Commitment, Plan, RateCard
from echotally.rates.meters import METERS
from echotally.rates.review import Oddity


def card_text(card: RateCard, width: int | None = None, colour: bool | None = None) -> str:
    """The card's head, its plans' limits, every price with its allowance."""
    head = card.card
    place = ", ".join(part for part in (head.provider, head.region) if part)
    since = f", from {head.effective}" if head.effective else ""
    parts: list[RenderableType] = [
        Text(safe(f"Card {head.name}: {place or 'no provider named'}; {head.currency}{since}"), style="bold"),
        Text(f"{len(card.plans)} plans. A gigabyte of transfer, logs and storage is {_gigabyte(head.gigabyte)}."),
        Text(""),
        _limits(card, width),
    ]
    for name, plan in card.plans.items():
        parts.append(_prices(name, plan, width))
        if plan.commitment is not None:
            parts.append(Text(_commitment_line(name, plan.commitment)))
    return rendered(parts, width, colour)


def _commitment_line(plan: str, terms: Commitment) -> str:
    """What is prepaid on a plan, and what that takes off."""
    return f"{plan}: {terms.per_hour:f} an hour prepaid, {terms.discount * 100:f} % off {', '.join(terms.covers)} that it pays."


def card_json(card: RateCard) -> str:
    """The card's plans and prices as data (schema ``echotally-card/1``): durations in seconds, memory in MB, money as text."""
    head = card.card
    data = {
        "schema": "echotally-card/1",
        "card": head.name,
        "provider": head.provider,
        "region": head.region,
        "currency": head.currency,
        "effective": str(head.effective) if head.effective else None,
        "gigabyte": head.gigabyte,
        "plans": [_plan_data(name, plan) for name, plan in card.plans.items()],
        "prices": [row for name, plan in card.plans.items() for row in _price_data(name, plan)],
    }
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def _plan_data(name: str, plan: Plan) -> dict[str, Any]:
    memory = plan.memory
    return {
        "plan": name,
        "title": plan.title,
        "bills": plan.bills,
        "available": plan.available,
        "memory_mb": list(memory.choices)
        if memory.choices is not None
        else {"from": memory.from_, "to": memory.to, "step": memory.step},
        "vcpu_per_gb": plan.vcpu_per_gb,
        "timeout_limit_s": _seconds(plan.timeout_limit),
        "slots_limit": plan.slots_limit,
        "instance_limit": plan.instances if plan.bills == "reserved" else plan.instance_limit,
        "concurrency_limit": plan.concurrency_limit,
        "scaling": _scaling(plan),
        "keep_alive_s": _seconds(plan.keep_alive),
        "commitment": None
        if plan.commitment is None
        else {
            "per_hour": f"{plan.commitment.per_hour:f}",
            "discount": float(plan.commitment.discount),
            "covers": list(plan.commitment.covers),
        },
    }


def _price_data(name: str, plan: Plan) -> list[dict[str, Any]]:
    """One row a tier; a meter with one price has one without ``up_to``."""
    return [
        {
            "plan": name,
            "meter": meter,
            "counted_in": METERS[meter].unit,
            "up_to": tier.up_to,
            "unit": f"{tier.unit:f}",
            "per": price.per,
            "volume": price.volume,
            "free_a_month": plan.allowance.get(meter, 0),
        }
        for meter, price in plan.prices().items()
        for tier in price.steps()
    ]


def _seconds(ns: int | None) -> float | None:
    return None if ns is None else ns / 1e9


def _gigabyte(kind: str) -> str:
    return "2^30 bytes" if kind == "binary" else "10^9 bytes"


def _limits(card: RateCard, width: int | None) -> RenderableType:
    columns = [
        Column("plan", False),
        Column("bills", False),
        Column("memory", False),
        Column("longest run", False, rank=1),
        Column("slots", rank=2),
        Column("instances", rank=2),
        Column("account calls", rank=3),
        Column("scaling", False, rank=4),
        Column("available", False, True),
    ]
    rows = [
        [
            name,
            plan.bills,
            _sizes(plan),
            _or_none(plan.timeout_limit, duration_text),
            _or_none(plan.slots_limit),
            _or_none(plan.instances if plan.bills == "reserved" else plan.instance_limit),
            _or_none(plan.concurrency_limit),
            _scaling(plan),
            "yes" if plan.available is True else safe(str(plan.available or "no")),
        ]
        for name, plan in card.plans.items()
    ]
    return table("Limits (– is none)", columns, rows, width=width)


def _sizes(plan: Plan) -> str:
    memory = plan.memory
    if memory.choices is not None:
        return ", ".join(memory_text(size) for size in memory.choices)
    return f"{memory_text(memory.from_ or 0)} to {memory_text(memory.to or 0)} by {memory_text(memory.step or 0)}"


def _scaling(plan: Plan) -> str:
    if plan.bills == "reserved":
        return "none"
    if plan.scaling.kind == "polled":
        return f"looks every {duration_text(plan.scaling.every or 0)}"
    return "per call" + (f", {plan.scaling.burst} at once" if plan.scaling.burst else "")


def _or_none(value: int | None, text: object = None) -> str:
    if value is None:
        return "–"
    return text(value) if callable(text) else f"{value:,}"


def _prices(name: str, plan: Plan, width: int | None) -> RenderableType:
    columns = [
        Column("meter", False),
        Column("counts", False, True, rank=1),
        Column("price", False, True),
        Column("free a month"),
    ]
    rows = [
        [
            meter,
            f"{METERS[meter].meaning} ({METERS[meter].unit})",
            price_text(plan, meter),
            f"{plan.allowance[meter]:,}" if meter in plan.allowance else "–",
        ]
        for meter in plan.prices()
    ]
    return table(f"{name}: {safe(plan.title) or plan.bills}", columns, rows, width=width)


def oddities_text(path: str, found: list[Oddity]) -> str:
    """What is odd about a card, one line each; or that nothing is."""
    if not found:
        return f"{path}: no errors, nothing odd.\n"
    return "".join(f"warning: {path}: {o.address}: {o.text}\n" for o in found) + f"{len(found)} to look at\n"


def oddities_json(path: str, found: list[Oddity]) -> str:
    """The same as data."""
    rows = [{"file": path, "address": o.address, "level": "warning", "text": o.text} for o in found]
    return json.dumps({"schema": "echotally-card-review/1", "findings": rows}, indent=2) + "\n"
