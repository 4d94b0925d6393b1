"""What ``compare`` prints and draws: the difference and its causes, then plans, inputs and functions that changed."""

from __future__ import annotations

import json
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from msgspec.structs import asdict
from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.output.base.exports import escaped
from echotally.output.base.terminal import Column, money, rendered, shown_in, signed, table
from echotally.output.base.waterfall import Walk, waterfall
from echotally.output.projection.projection_json import amount_text
from echotally.studies.compare import Comparison

#: Amounts of a meter: before, after, and what parts the two.
_PARTS_OF_METER = ("before", "after", "volume", "run_time", "price")
_NAMES = {
    "plan": "another plan",
    "volume": "volume",
    "run_time": "run time and mix",
    "price": "price",
    "other": "other",
}


def compare_verdict(found: Comparison) -> str:
    """The difference of the two picks, and mostly why."""
    a, b = found.picks
    change = found.after - found.before
    move = f"stays {b}" if a == b else f"moves from {a} to {b}"
    # No cause is named of a difference that is none.
    if not change:
        return f"The pick {move}; the cost stays {money(found.after)} {found.currency}."
    share = f" ({found.share:+.1%})" if found.share is not None else ""
    # By size and not by sign: what lowers a bill is as much a cause.
    cause, amount = max(found.causes.items(), key=lambda each: abs(each[1]))
    return (
        f"The pick {move}: {money(found.before)} to {money(found.after)} {found.currency}, {signed(change)}{share}, "
        f"most of it {_NAMES[cause]} ({signed(amount)})."
    )


def _signed(amount: Decimal) -> str:
    # What would be shown as +0.0000 has no sign worth showing.
    return f"{amount:+,.4f}" if abs(amount) >= Decimal("0.00005") else "0"


def _money(amount: Decimal | None) -> str:
    return "–" if amount is None else money(amount)


def _sections(found: Comparison) -> list[tuple[str, list[Column], list[list[str]]]]:
    """Title, columns and rows of each table, for text and Markdown alike."""
    # What is left over is shown only where there is something left.
    causes = [[_NAMES[cause], _signed(amount)] for cause, amount in found.causes.items() if amount or cause != "other"]
    inputs = [[c.address, _short(c.before), _short(c.after)] for c in found.inputs]
    plans = [
        [
            p.plan,
            _money(p.before),
            _money(p.after),
            _difference(p.before, p.after),
            f"{p.misses_before} → {p.misses_after}",
        ]
        for p in found.plans
        if p.before is not None or p.after is not None
    ]
    meters = [
        [m.meter, f"{m.before:,.4f}", f"{m.after:,.4f}", *(_signed(x) for x in (m.volume, m.run_time, m.price))]
        for m in found.meters
        if m.before != m.after
    ]
    functions = [[f.function, f.environment, f.figure, _figure(f.before), _figure(f.after)] for f in found.functions]
    parts = [
        [*p.labels, _money(p.before), _money(p.after), signed(p.after - p.before)]
        for p in found.parts
        if p.before or p.after
    ]
    # In the order of the headings; a part with nothing in it is left out with its heading.
    rows = (causes, parts, inputs, plans, meters, functions)
    return [(title, columns, each) for (title, columns), each in zip(_headed(found), rows, strict=True) if each]


def _headed(found: Comparison) -> list[tuple[str, list[Column]]]:
    a, b = found.names
    return [
        (f"Causes ({found.currency})", [Column("cause", False), Column("amount")]),
        (
            f"By {(found.by or '').replace(',', ' and ')} ({found.currency})",
            [
                *(Column(name, False) for name in (found.by or "").split(",")),
                Column(a),
                Column(b),
                Column("difference"),
            ],
        ),
        (
            "Inputs that changed",
            [Column("address", False, wrap=True), Column(a, False, wrap=True), Column(b, False, wrap=True)],
        ),
        (
            f"Plans ({found.currency})",
            [Column("plan", False), Column(a), Column(b), Column("difference"), Column("targets missed", False)],
        ),
        (
            f"Meters of the pick ({found.currency})",
            [
                Column("meter", False),
                Column(a),
                Column(b),
                Column("volume"),
                Column("run time", rank=1),
                Column("price", rank=1),
            ],
        ),
        (
            "Functions that moved",
            [Column("function", False), Column("environment", False), Column("figure", False), Column(a), Column(b)],
        ),
    ]


def _difference(before: Decimal | None, after: Decimal | None) -> str:
    return "–" if before is None or after is None else signed(after - before)


def _figure(value: float | None) -> str:
    return "–" if value is None else f"{value:,.4g}"


def _short(value: str | None) -> str:
    return "–" if value is None else value if len(value) <= 60 else value[:57] + "..."


def compare_text(found: Comparison, width: int | None = None, colour: bool | None = None) -> str:
    """The verdict, the causes, what changed in the inputs, plans, meters and functions."""
    shown_in(found.currency)
    parts: list[RenderableType] = [Text(safe(compare_verdict(found)), style="bold"), Text("")]
    for title, columns, rows in _sections(found):
        shown = [[safe(cell) for cell in row] for row in rows]
        # A changed card can move hundreds of lines; a review shows the first and says how many there are.
        parts.append(table(title, columns, shown[:40], (), width))
        if len(shown) > 40:
            parts.append(Text(f"... and {len(shown) - 40:,} more; --format json has all."))
    parts += [Text(f"Note: {safe(note)}", style="dim") for note in found.notes]
    return rendered(parts, width, colour)


def compare_markdown(found: Comparison) -> str:
    """The same for a code review: a heading, the verdict, tables."""
    shown_in(found.currency)
    lines = [f"### {escaped(compare_verdict(found))}", ""]
    for title, columns, rows in _sections(found):
        lines += [f"**{escaped(title)}**", "", _line([escaped(c.heading) for c in columns])]
        # Numbers to the right, so that they can be compared down the column.
        lines += [_line(["---:" if c.number else "---" for c in columns])]
        lines += [_line([escaped(safe(cell)) for cell in row]) for row in rows] + [""]
    lines += [f"- {escaped(safe(note))}" for note in found.notes]
    return "\n".join(lines).rstrip() + "\n"


def _line(cells: Sequence[str]) -> str:
    return "| " + " | ".join(cells) + " |"


def compare_json(found: Comparison) -> str:
    """The comparison as data (schema ``echotally-comparison/1``)."""
    data: dict[str, Any] = {
        "schema": "echotally-comparison/1",
        "files": list(found.names),
        "currency": found.currency,
        "picks": list(found.picks),
        "before": _amount(found.before),
        "after": _amount(found.after),
        "difference": _amount(found.after - found.before),
        "causes": {cause: _amount(amount) for cause, amount in found.causes.items()},
        "rows": [
            {"meter": m.meter, **{part: _amount(getattr(m, part)) for part in _PARTS_OF_METER}} for m in found.meters
        ],
        "plans": [
            {
                "plan": p.plan,
                "before": _amount(p.before),
                "after": _amount(p.after),
                "misses_before": p.misses_before,
                "misses_after": p.misses_after,
            }
            for p in found.plans
        ],
        "inputs": [{"address": c.address, "before": c.before, "after": c.after} for c in found.inputs],
        "functions": [asdict(f) for f in found.functions],
        "notes": list(found.notes),
    }
    if found.by:
        data["by"] = [
            {"labels": list(p.labels), "before": _amount(p.before), "after": _amount(p.after)} for p in found.parts
        ]
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def _amount(amount: Decimal | None) -> str | None:
    return None if amount is None else amount_text(amount)


def compare_chart(found: Comparison, form: str) -> bytes:
    """A waterfall from the first pick's cost to the second's."""
    steps = [(_NAMES[cause], float(amount)) for cause, amount in found.causes.items() if amount or cause != "other"]
    first, last = (
        (f"{name}\n{pick}", float(cost))
        for name, pick, cost in zip(found.names, found.picks, (found.before, found.after), strict=True)
    )
    return waterfall(
        compare_verdict(found),
        Walk(first, steps, last),
        f"cost of the month ({found.currency})",
        form,
        " and ".join(found.names) + " · Echo Tally",
    )
