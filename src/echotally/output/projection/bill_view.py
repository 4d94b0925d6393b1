"""A plan's bill line by line, the walk from events to money, the split by owner, what costs when nothing runs."""

from __future__ import annotations

from decimal import Decimal

from msgspec import Struct
from rich.console import RenderableType

from echotally.errors import safe
from echotally.naming import with_environment
from echotally.output.base.terminal import Column, count, money, table
from echotally.projection.answer import PlayedPlan, Projection
from echotally.projection.bills import merged_lines
from echotally.projection.explain import Step, explain, price_text
from echotally.projection.showback import showback, splits_of
from echotally.rates.billing import Line, minor_digits
from echotally.rates.meters import COMMITMENT, OUTSIDE, meter_of
from echotally.rates.outside import OUTSIDE_ACCOUNT


class MoneyAsked(Struct, frozen=True):
    """What is asked about one plan's money beside its total.

    ``explained``: the walk from events to money of one function. ``by``: the cost split that way. ``all_meters``: the bill with
    every meter the plan can bill; without, it is shown where one plan was asked for, and names what it used.
    """

    explained: str | None = None
    by: str | None = None
    all_meters: bool = False


NOTHING_ASKED = MoneyAsked()


def bill_parts(projection: Projection, plan: PlayedPlan, asked: MoneyAsked, width: int | None) -> list[RenderableType]:
    """The parts of the answer that are about one plan's money, as far as they were asked for."""
    parts: list[RenderableType] = []
    if len(projection.plans) == 1 or asked.all_meters:
        parts.append(bill_table(projection, plan, width, asked.all_meters))
    if asked.by:
        parts.append(showback_table(projection, plan, asked.by, width))
    if asked.explained:
        parts.append(explain_table(projection, plan, asked.explained, width))
    return parts


def quantity_text(quantity: Decimal) -> str:
    """A metered quantity: whole numbers as they are, others with a useful number of places."""
    if quantity == quantity.to_integral_value():
        return f"{quantity:,.0f}"
    return f"{quantity:,.2f}" if quantity >= 100 else f"{quantity:,.6f}"


_BILL_COLUMNS = [
    Column("meter", False),
    Column("unit", False, rank=3),
    Column("quantity"),
    Column("free", rank=1),
    Column("billable"),
    Column("price", False, True, rank=2),
    Column("amount"),
]


def bill_table(
    projection: Projection, plan: PlayedPlan, width: int | None = None, all_meters: bool = False
) -> RenderableType:
    """Every line of a plan's bill: quantity, free, billable, price, amount; the total below.

    Meters of which the month used nothing are one line, unless ``all_meters``.
    """
    pinned = len({name for account, name in plan.metered.plans if (account, name) != OUTSIDE_ACCOUNT}) > 1
    rows = []
    lines = merged_lines(plan.bill)
    unused = [line.meter for line in lines if not line.quantity and not line.amount] if not all_meters else []
    for line in lines:
        if line.meter in unused:
            continue
        # An outside service is named as such, and is on no plan.
        of_plan = pinned and not line.meter.startswith(OUTSIDE)
        name = f"{line.plan}: {line.meter}" if of_plan else safe(line.meter)
        rows.append(
            [
                name,
                meter_of(line.meter).unit,
                quantity_text(line.quantity),
                _free(plan, line),
                quantity_text(line.billable),
                _price(plan, line),
                f"{line.amount:,.6f}",
            ]
        )
    if unused:
        rows.append([f"{len(unused)} more, unused", "", "0", "", "", safe(", ".join(unused)), f"{0:,.6f}"])
    rows.append(["total, rounded", "", "", "", "", "", f"{plan.bill.total:,.{minor_digits(plan.bill.currency)}f}"])
    return table(f"Bill on {plan.offer.name} ({projection.currency})", _BILL_COLUMNS, rows, width=width)


def _free(plan: PlayedPlan, line: Line) -> str:
    """The allowance over all accounts on the plan, and how much of it is used (above 100 % where more was needed)."""
    tariffs = [p for (_, name), p in plan.metered.plans.items() if name == line.plan]
    free = sum(Decimal(p.allowance.get(line.meter, 0)) for p in tariffs)
    return f"{quantity_text(Decimal(free))} ({float(line.quantity / free):.0%} used)" if free else "0"


def _price(plan: PlayedPlan, line: Line) -> str:
    tariff = next(p for (_, name), p in plan.metered.plans.items() if name == line.plan)
    if line.meter == COMMITMENT and tariff.commitment:
        terms = tariff.commitment
        return f"{terms.per_hour:f} an hour, {terms.discount * 100:f} % off, {money(line.lost or 0)} of it lost"
    if line.meter == "flat_months" and tariff.flat:
        return ", ".join(f"{safe(item)} {amount:f}" for item, amount in tariff.items().items()) or "none bought"
    return price_text(tariff, line.meter)


def showback_table(projection: Projection, plan: PlayedPlan, by: str, width: int | None = None) -> RenderableType:
    """Who pays what: the plan's cost split by owner, adding up to the total."""
    splits, whole = splits_of(by), plan.bill.unrounded
    told = [s for s in showback(projection.model, plan, by) if s.cost or s.events]
    rows = [
        [
            *map(safe, s.labels),
            count(s.events) if s.events is not None else "",
            f"{s.cost:,.6f}",
            f"{s.cost / whole * 100:,.1f}" if whole else "–",
        ]
        for s in told
    ]
    rows.append(["total", *[""] * len(splits), f"{whole:,.6f}", "100.0" if whole else "–"])
    events = [Column("events in", rank=2)]
    columns = [*(Column(split, False) for split in splits), *events, Column("cost"), Column("share %", rank=1)]
    if "outcome" in splits:
        # Of an event nobody can say to which outcome it belongs.
        columns.remove(events[0])
        rows = [row[: len(splits)] + row[len(splits) + 1 :] for row in rows]
    return table(f"{plan.offer.name} by {by} ({projection.currency})", columns, rows, width=width)


def explain_table(projection: Projection, plan: PlayedPlan, function: str, width: int | None = None) -> RenderableType:
    """The walk from events to money of one function."""
    name, environment = with_environment(function, projection.model.functions, "functions")
    steps: list[Step] = explain(projection.model, plan, name, environment or None)
    rows = [[safe(step.label), safe(step.formula), step.result, step.rule] for step in steps]
    where = environment or next(iter(projection.model.environments))
    columns = [
        Column("step", False),
        Column("how it comes about", False, True),
        Column("comes to"),
        Column("rule", False, rank=1),
    ]
    return table(
        f"{safe(name)} ({safe(where)}) on {plan.offer.name}: from events to {projection.currency}",
        columns,
        rows,
        width=width,
    )


def standing_line(plan: PlayedPlan) -> list[str]:
    """What the plan still costs when nothing runs, largest first, in a sentence."""
    bill = plan.when_idle
    if bill is None:
        return []
    parts = sorted(((line.amount, line.meter) for line in merged_lines(bill) if line.amount), reverse=True)
    if not parts:
        return [f"When nothing runs, {plan.offer.name} costs nothing."]
    listed = ", ".join(f"{meter} {money(amount)}" for amount, meter in parts)
    return [
        f"When nothing runs, {plan.offer.name} still costs {money(bill.shown)} {bill.currency} a month: {listed}.",
        "",
    ]
