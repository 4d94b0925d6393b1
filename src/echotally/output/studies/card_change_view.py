"""What ``rates compare`` prints: the change of the month's bill, plan by plan, and the lines that move."""

from __future__ import annotations

import json

from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.output.base.terminal import Column, money, percent_difference, rendered, shown_in, signed, table
from echotally.studies.card_change import CardChange, PlanOnCards


def card_change_lines(found: CardChange) -> list[str]:
    """The verdict: what the new prices do to the cheapest plan, and whether another becomes the pick."""
    plan = _shown(found)
    if plan is None or plan.before is None or plan.after is None:
        return ["No plan that both cards have can run the estate on both."]
    change = plan.after - plan.before
    how = percent_difference(plan.after, plan.before) if plan.before else "more than"
    lines = [
        f"On {plan.plan}, {found.month} costs {money(plan.after)} {found.currency} with {found.new}, {how} the {money(plan.before)} with {found.old} ({signed(change)})."
    ]
    if found.pick_before != found.pick_after:
        lines.append(f"The pick changes from {found.pick_before or 'none'} to {found.pick_after or 'none'}.")
    else:
        lines.append(f"The pick stays {found.pick_after or 'none'}.")
    for names, what in ((found.only_old, found.old), (found.only_new, found.new)):
        if names:
            lines.append(f"Only in {what}: {', '.join(names)}.")
    return [safe(line) for line in lines]


def _shown(found: CardChange) -> PlanOnCards | None:
    """The old card's picked plan, or the cheapest that both have."""
    able = [plan for plan in found.plans if plan.before is not None and plan.after is not None]
    picked = [plan for plan in able if found.pick_before and found.pick_before.endswith(f".{plan.plan}")]
    return min(picked or able, key=lambda plan: plan.before or 0, default=None)


def card_change_text(found: CardChange, width: int | None = None, colour: bool | None = None) -> str:
    """Verdict, plans, and the lines of the plan shown that move."""
    shown_in(found.currency)
    parts: list[RenderableType] = [*(Text(line) for line in card_change_lines(found)), Text("")]
    rows = [
        [
            safe(plan.plan),
            money(plan.before),
            money(plan.after),
            "–" if plan.before is None or plan.after is None else signed(plan.after - plan.before),
            "–" if not plan.before or plan.after is None else f"{(plan.after / plan.before - 1) * 100:+.1f}",
        ]
        for plan in found.plans
    ]
    columns = [Column("plan", False), Column(found.old), Column(found.new), Column("change"), Column("%")]
    parts.append(table(f"The month on both cards ({found.currency})", columns, rows, width=width))
    plan = _shown(found)
    moved = [line for line in plan.lines if line.before != line.after] if plan else []
    if plan and moved:
        ranked = sorted(moved, key=lambda line: -abs(line.after - line.before))
        rows = [
            [safe(line.meter), f"{line.before:,.6f}", f"{line.after:,.6f}", f"{line.after - line.before:+,.6f}"]
            for line in ranked
        ]
        columns = [Column("meter", False), Column(found.old), Column(found.new), Column("change")]
        parts.append(table(f"What moves on {plan.plan} ({found.currency})", columns, rows, width=width))
    return rendered(parts, width, colour)


def card_change_json(found: CardChange) -> str:
    """As data (schema ``echotally-card-change/1``), money as text of six decimals."""
    from echotally.output.projection.projection_json import amount_text

    def told(amount: object) -> str | None:
        return None if amount is None else amount_text(amount)  # type: ignore[arg-type]

    data = {
        "schema": "echotally-card-change/1",
        "currency": found.currency,
        "month": found.month,
        "cards": [found.old, found.new],
        "pick": {"before": found.pick_before, "after": found.pick_after},
        "plans": [
            {
                "plan": plan.plan,
                "before": told(plan.before),
                "after": told(plan.after),
            }
            for plan in found.plans
        ],
        "rows": [
            {"plan": plan.plan, "meter": line.meter, "before": told(line.before), "after": told(line.after)}
            for plan in found.plans
            for line in plan.lines
        ],
        "only_before": list(found.only_old),
        "only_after": list(found.only_new),
    }
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"
