"""What ``reconcile`` prints and draws: the verdict, the parts, functions, meters, and rows that map to nothing."""

from __future__ import annotations

import json
import math
from decimal import Decimal
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.evidence.bill.reconcile import PARTS, Difference, Reconciliation, by_function, by_labels, splits_of_bill
from echotally.output.base.charts import source_of
from echotally.output.base.terminal import Column, money, rendered, signed, table
from echotally.output.base.waterfall import Walk, waterfall
from echotally.output.projection.projection_json import amount_text

_NAMES = {
    "volume": "volume",
    "run_time": "run time and mix",
    "price": "price",
    "not_on_bill": "not on this bill",
    "unexplained": "unexplained",
}
_CLOSE = Decimal("0.005")


def reconcile_verdict(found: Reconciliation) -> str:
    """How far the bill is from the projection, and mostly why."""
    difference = found.billed - found.projected
    whole = found.bill.total
    matched = (
        f"{_percent(found.bill.matched / whole)} % of the bill ({money(found.bill.matched)} of {money(whole)} {found.currency}) matched. "
        if whole
        else ""
    )
    if abs(difference) < _CLOSE and all(abs(part) < _CLOSE for part in found.parts.values()):
        return f"{matched}The bill agrees with the projection on {found.plan}: {money(found.billed)} {found.currency}."
    share = f" ({difference / found.projected:+.1%})" if found.projected else ""
    name, amount = max(found.parts.items(), key=lambda part: abs(part[1]))
    return (
        f"{matched}Billed {money(found.billed)}, projected {money(found.projected)} {found.currency} on {found.plan}: "
        f"{signed(difference)}{share}, most of it {_NAMES[name]} ({signed(amount)})."
    )


def _percent(part: Decimal) -> str:
    """Rounded down, so that 100 % is all of it."""
    return f"{math.floor(part * 100)}"


def _money(amount: Decimal) -> str:
    return f"{amount:,.4f}" if amount else "0"


def _signed(amount: Decimal) -> str:
    return f"{amount:+,.4f}" if abs(amount) >= Decimal("0.00005") else "0"


def _columns(*names: str) -> list[Column]:
    return [
        *(Column(name, False) for name in names),
        Column("projected"),
        Column("billed"),
        Column("volume"),
        Column("run time", rank=1),
        Column("price", rank=1),
        Column("not on bill", rank=1),
        Column("unexplained", rank=1),
        Column("difference"),
    ]


def _cells(row: Difference) -> list[str]:
    parts = [_signed(getattr(row, part)) for part in PARTS]
    return [_money(row.projected), _money(row.billed), *parts, _signed(row.difference)]


def reconcile_text(
    found: Reconciliation, width: int | None = None, colour: bool | None = None, by: str | None = None
) -> str:
    """The verdict, then differences by function (or as ``by`` splits them) and by meter, then what maps to nothing and what was odd."""
    parts: list[RenderableType] = [Text(safe(reconcile_verdict(found)), style="bold"), Text("")]
    parts.append(_by_owner(found, by, width))
    meters: dict[str, list[Decimal]] = {}
    for row in found.rows:
        sums = meters.setdefault(row.meter, [Decimal(0)] * (3 + len(PARTS)))
        values = [row.projected, row.billed, *(getattr(row, part) for part in PARTS), row.difference]
        meters[row.meter] = [a + b for a, b in zip(sums, values, strict=True)]
    cells = [[m, _money(v[0]), _money(v[1]), *(_signed(x) for x in v[2:])] for m, v in meters.items()]
    parts.append(table(f"By meter ({found.currency})", _columns("meter"), cells, (), width))
    # Never dropped: what maps to nothing is money that somebody paid.
    if found.bill.unmapped:
        rows = [
            [safe(name), f"{n:,}", f"{cost:,.4f}"]
            for name, (n, cost) in sorted(found.bill.unmapped.items(), key=lambda e: -abs(e[1][1]))
        ]
        columns = [Column("row of the bill", False, wrap=True), Column("rows"), Column(found.currency)]
        parts.append(
            table("Maps to no function or meter of the model (counted as unexplained)", columns, rows[:30], (), width)
        )
        # The dearest thirty; a bill of another estate would fill the terminal with its rows.
        if len(rows) > 30:
            parts.append(Text(f"... and {len(rows) - 30:,} more; --format json has all."))
        parts.append(Text("A mapping file (--mapping) can say whose they are.", style="dim"))
    parts += [Text(f"Odd: {safe(str(trouble))}", style="yellow") for trouble in found.bill.troubles]
    text = (
        "Volume: the billed number of calls on our card. Run time and mix: the billed quantities. Price: the billed unit "
        "prices. Not on this bill: meters it has no row of. The five parts add up to the difference exactly. Allowances are shared, so a change of one function moves what others pay."
    )
    parts.append(Text(text, style="dim"))
    return rendered(parts, width, colour)


def _by_owner(found: Reconciliation, by: str | None, width: int | None) -> RenderableType:
    """Differences by function and environment, or as ``by`` splits them."""
    if by is None:
        rows = [[safe(r.function or "(no function)"), safe(r.environment), *_cells(r)] for r in by_function(found.rows)]
        return table(f"By function ({found.currency})", _columns("function", "environment"), rows, (), width)
    split = by_labels(found.rows, found.model, by)
    rows = [[*map(safe, labels), *_cells(row)] for labels, row in sorted(split.items())]
    title = f"By {by.replace(',', ' and ')} ({found.currency})"
    return table(title, _columns(*splits_of_bill(by)), rows, (), width)


def reconcile_json(found: Reconciliation, by: str | None = None) -> str:
    """The comparison as data (schema ``echotally-reconciliation/1``); money as text."""
    rows = [
        {
            "account": r.account,
            "meter": r.meter,
            "function": r.function or None,
            "environment": r.environment or None,
            **_amounts(r),
            "projected_quantity": float(r.projected_quantity),
            "billed_quantity": None if r.billed_quantity is None else float(r.billed_quantity),
        }
        for r in found.rows
    ]
    data: dict[str, Any] = {
        "schema": "echotally-reconciliation/1",
        "plan": found.plan,
        "currency": found.currency,
        "projected": amount_text(found.projected),
        "billed": amount_text(found.billed),
        "matched": amount_text(found.bill.matched),
        "difference": amount_text(found.billed - found.projected),
        "parts": {part: amount_text(amount) for part, amount in found.parts.items()},
        "rows": rows,
        "unmapped": [
            {"row": name, "rows": n, "cost": amount_text(cost)} for name, (n, cost) in found.bill.unmapped.items()
        ],
        "troubles": [{"rows": t.rows, "what": t.what, "done": t.done} for t in found.bill.troubles],
    }
    if by:
        data["by"] = [
            {"labels": list(labels), **_amounts(row)} for labels, row in by_labels(found.rows, found.model, by).items()
        ]
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def _amounts(row: Difference) -> dict[str, str]:
    """What was projected, what was billed, and what parts the two: money as text."""
    amounts = ("projected", "billed", "difference", *PARTS)
    return {name: amount_text(getattr(row, name)) for name in amounts}


def reconcile_chart(found: Reconciliation, form: str) -> bytes:
    """A waterfall from the projection to the bill."""
    steps = [(_NAMES[part], float(amount)) for part, amount in found.parts.items()]
    first, last = ("projected", float(found.projected)), ("billed", float(found.billed))
    return waterfall(
        reconcile_verdict(found),
        Walk(first, steps, last),
        f"cost of the month ({found.currency})",
        form,
        source_of(found.model),
    )
