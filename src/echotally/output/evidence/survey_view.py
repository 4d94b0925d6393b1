"""What ``survey`` says: how well the model it made holds, then functions, what is not known, and how the log was read."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.evidence.survey.backtest import Backtest, Laid, Row
from echotally.evidence.survey.facts import Change, Trouble, Unknown, Value, short
from echotally.evidence.survey.made import Survey
from echotally.evidence.survey.updating import Updated
from echotally.output.base.terminal import Column, count, rendered, table


def survey_verdict(made: Survey) -> str:
    """What was made, and how it did on the days held back."""
    n = len(made.functions)
    read = f"{n:,} function{'' if n == 1 else 's'} from {made.log.rows:,} rows"
    if not made.backtests:
        return f"A model of {read}; nothing was held back to try it on."
    # The first is the one that counts: the days the model was not made from.
    test = made.backtests[0]
    if test.total is None:
        return f"A model of {read}; nothing happened in the days held back."
    days = (test.last - test.first) / 86_400
    total = test.total
    # A function holds where both do: calls alone would flatter one whose runs have grown.
    held = [row for row in test.rows if row.calls.holds and row.gb_seconds.holds]
    said = f"calls {_percent(total.calls)}, GB-seconds {_percent(total.gb_seconds)}"
    if total.money is not None:
        said += f", money {_percent(total.money)}"
    return (
        f"A model of {read}. Made without the last {days:.1f} days and played through them, it says {said} of what happened;"
        f" {len(held)} of {len(test.rows)} functions lie where it expected them."
    )


def _percent(laid: Laid) -> str:
    # Of nothing expected there is no percentage.
    return "as much" if laid.off is None else f"{laid.off * 100:+.1f} %"


def survey_text(
    made: Survey,
    files: Sequence[str],
    changed: Updated | None = None,
    width: int | None = None,
    colour: bool | None = None,
) -> str:
    """The verdict, the caveats that matter, a row a function, what is not known, and how the log was read."""
    parts: list[RenderableType] = [Text(safe(survey_verdict(made)), style="bold")]
    # Above all figures: a table of costs would be believed whatever stood under it.
    if made.card.placeholder:
        parts.append(
            Text("No bill was given: prices are placeholders, and cost is among what cannot be told.", style="yellow")
        )
    parts += [Text(f"Changed for good: {safe(str(change))}.", style="yellow") for change in made.changes]
    parts += [Text(f"Trouble: {safe(line)}", style="yellow") for line in trouble_lines(made)]
    parts.append(Text(""))
    if changed is not None:
        parts += _update_parts(changed, width)
    parts.append(_functions(made, width))
    if len(made.backtests) > 1:
        parts += [Text(f"Held back, {test.how}: {_both_ways(test)}") for test in made.backtests]
    parts.append(_unknowns(made, width))
    parts += [Text(f"Note: {safe(note)}.") for note in made.notes]
    if made.billed is not None and made.billed.aside:
        rows = ", ".join(f"{name} ({n} row(s), {cost:,.2f})" for name, (n, cost) in made.billed.aside.items())
        parts.append(Text(f"Set aside from the bill: {safe(rows)}."))
    parts += [Text(f"Odd: {safe(str(trouble))}", style="yellow") for trouble in made.log.troubles]
    parts += [Text(f"Note: {safe(note)}") for note in made.log.notes]
    parts.append(Text(f"Columns: {safe('; '.join(made.log.columns))}.", style="dim"))
    parts.append(Text(f"Written: {safe(', '.join(files))}."))
    return rendered(parts, width, colour)


def _both_ways(test: Backtest) -> str:
    if test.total is None:
        return "nothing happened"
    return f"calls {_percent(test.total.calls)}, GB-seconds {_percent(test.total.gb_seconds)}"


def trouble_lines(made: Survey) -> list[str]:
    """Each stretch of trouble in a line."""
    return [
        f"{t.function} ({t.environment}): {t.share:.0%} {t.kind} from {t.at:%Y-%m-%d %H:%M} UTC for {t.lasts_s / 60:,.0f} min,"
        f" {t.usual:.2%} otherwise."
        for t in made.draft.troubles
    ]


def _functions(made: Survey, width: int | None) -> RenderableType:
    columns = [
        Column("function", False),
        Column("set off by", False, wrap=True),
        Column("attempts"),
        Column("run p50 ms"),
        Column("errors %", rank=1),
        Column("cold %", rank=1),
        Column("held back: calls"),
        Column("GB-s"),
        Column("p95 run", rank=1),
    ]
    tests = {row.function: row for row in made.backtests[0].rows} if made.backtests else {}
    rows = [_row(made, name, tests.get(name)) for name in made.functions]
    return table("Functions as logged, and what the model says of the held-back days", columns, rows, (), width)


def _row(made: Survey, name: str, test: Row | None) -> list[str]:
    found = made.functions[name]
    sums, started = found.sums, max(1, found.sums.started)
    # A function that was only ever throttled has no run.
    middle = found.runs.base.median.value if found.runs is not None else 0.0
    return [
        safe(name),
        safe(", ".join(made.sources.get(name, ()))),
        count(sums.started),
        plain_number(middle),
        f"{sums.attempts['error'] / started * 100:.2f}",
        f"{sums.cold / started * 100:.1f}",
        *[_off(getattr(test, part)) if test else "–" for part in ("calls", "gb_seconds", "p95_ms")],
    ]


def plain_number(value: float) -> str:
    """Four significant digits or all before the point, in groups of three."""
    return f"{value:,.0f}" if abs(value) >= 1_000 else short(value)


def _off(laid: Laid) -> str:
    if laid.off is None:
        return "–"
    # Marked by a sign and not by colour: the table is read in logs as well.
    return f"{laid.off * 100:+.1f} %" + ("" if laid.holds else " !")


def _unknowns(made: Survey, width: int | None) -> RenderableType:
    columns = [
        Column("of", False),
        Column("what the data cannot tell", False, wrap=True),
        Column("taken", False, wrap=True),
        Column("could move"),
    ]
    rows = [
        [safe(of_functions(names, 1)), safe(u.what), safe(u.assumed), _moves(made, m)]
        for u, names, m in made.unknown_groups[:6]
    ]
    left = len(made.unknown_groups) - len(rows)
    title = "What is not known, the most first" + (f" ({left:,} more in unknown.md)" if left > 0 else "")
    return table(title, columns, rows, (), width)


def of_functions(names: Sequence[str], most: int) -> str:
    """The functions something is true of, the first few by name."""
    if not names:
        return "the estate"
    left = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + left


def _moves(made: Survey, moves: float | None) -> str:
    return "–" if moves is None else f"{moves:,.2f} {made.card.currency}"


def _update_parts(changed: Updated, width: int | None) -> list[RenderableType]:
    parts: list[RenderableType] = []
    if changed.moved:
        columns = [
            Column("value", False),
            Column("before", False, wrap=True),
            Column("now", False, wrap=True),
            Column("rests on", False, wrap=True, rank=1),
        ]
        rows = [[safe(m.address), safe(m.before), safe(m.after), safe(m.why)] for m in changed.moved]
        parts.append(table("Values that have drifted, and were brought up to date", columns, rows, (), width))
    else:
        parts.append(Text("No value of the model has drifted from what the log shows."))
    if changed.added:
        parts.append(Text(f"New in the log, and put at the model's end: {safe(', '.join(changed.added))}."))
    parts += [Text(f"Left as it is: {safe(note)}.") for note in changed.notes]
    return [*parts, Text("")]


def unknown_page(made: Survey) -> str:
    """``unknown.md``: what the data cannot tell, what was assumed, how to find out, ordered by what it could move."""
    lines = ["# What the data cannot tell", ""]
    if made.card.placeholder:
        lines += [
            "No bill was given, so **cost cannot be told**: the card's prices are placeholders. `--bill` takes one.",
            "",
        ]
        order = "Ordered by the share of a function's cost that it could move."
    else:
        order = f"Ordered by what it could move in a month's bill ({made.card.currency}), roughly and at the most."
    # The last column is the use of the page: what to ask, log or measure.
    lines += [order, "", "| of | what | taken instead | could move | how to find out |", "|---|---|---|---:|---|"]
    for unknown, names, moves in made.unknown_groups:
        moved = f"{moves:,.2f}" if moves is not None else f"{unknown.moves:.0%}"
        cells = [of_functions(names, 8), unknown.what, unknown.assumed, moved, unknown.how]
        lines.append("| " + " | ".join(_cell(cell) for cell in cells) + " |")
    guesses = [value for value in made.draft.values if value.guess]
    if guesses:
        lines += ["", "## Values that are guesses", "", "| value | taken | why |", "|---|---|---|"]
        lines += [f"| `{_cell(v.address)}` | `{_cell(v.toml)}` | {_cell(v.evidence)} |" for v in guesses]
    said = [*made.notes, *made.log.notes, *(str(t) for t in made.log.troubles)]
    if said:
        lines += ["", "## How the data was read", "", *(f"- {_cell(note)}" for note in said)]
    if made.billed is not None and made.billed.aside:
        lines += ["", "## Set aside from the bill", ""]
        lines += [f"- {_cell(name)}: {n} row(s), {cost:,.2f}" for name, (n, cost) in made.billed.aside.items()]
    return "\n".join(lines) + "\n"


def _cell(text: str) -> str:
    # Names come out of logs, and must not end a cell or a table.
    return safe(text).replace("|", "\\|").replace("\n", " ")


def survey_json(made: Survey, changed: Updated | None = None) -> str:
    """The survey as data (schema ``echotally-survey/1``)."""
    data: dict[str, Any] = {
        "schema": "echotally-survey/1",
        "month": made.month,
        "timezone": made.zone,
        "plan": made.card.full,
        "cost_known": not made.card.placeholder,
        "log": {
            "files": list(made.log.files),
            "rows": made.log.rows,
            "columns": list(made.log.columns),
            "from": _moment(made.span[0]),
            "until": _moment(made.span[1]),
            "notes": list(made.log.notes),
            "troubles": [
                {"rows": t.rows, "what": t.what, "done": t.done, "example": t.example} for t in made.log.troubles
            ],
        },
        "functions": [_function_json(made, name, values) for name, values in _values_of(made).items()],
        "values": [_value_json(value) for value in made.draft.values if not value.address.endswith(".")],
        "changes": [_change_json(change) for change in made.changes],
        "incidents": [_trouble_json(trouble) for trouble in made.draft.troubles],
        "backtest": [_test_json(test) for test in made.backtests],
        "unknown": [_unknown_json(u, m) for u, m in made.unknowns],
        "set_aside": [
            {"row": name, "rows": n, "cost": str(cost)}
            for name, (n, cost) in (made.billed.aside if made.billed else {}).items()
        ],
        "notes": list(made.notes),
    }
    if changed is not None:
        data["drifted"] = [
            {"address": m.address, "before": m.before, "after": m.after, "why": m.why} for m in changed.moved
        ]
        data["added"] = list(changed.added)
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def _change_json(change: Change) -> dict[str, Any]:
    return {
        "function": change.function,
        "what": change.what,
        "on": change.at.date().isoformat(),
        "before": change.before,
        "after": change.after,
        "unit": change.unit,
        "cause": change.cause or None,
    }


def _trouble_json(trouble: Trouble) -> dict[str, Any]:
    return {
        "function": trouble.function,
        "environment": trouble.environment,
        "kind": trouble.kind,
        "at": trouble.at.isoformat(),
        "lasts_s": trouble.lasts_s,
        "share": trouble.share,
        "usual": trouble.usual,
        "attempts": trouble.n,
    }


def _moment(at: float) -> str:
    return datetime.fromtimestamp(at, UTC).isoformat(timespec="milliseconds")


def _values_of(made: Survey) -> dict[str, dict[str, Any]]:
    """What was found of each function, by key."""
    found: dict[str, dict[str, Any]] = {name: {} for name in made.functions}
    for value in made.draft.values:
        table, _, rest = value.address.partition(".")
        for place, sign in enumerate(rest):
            if table == "functions" and sign == "." and rest[:place] in found:
                found[rest[:place]][value.address.rpartition(".")[2]] = _value_json(value)
    return found


def _function_json(made: Survey, name: str, values: dict[str, Any]) -> dict[str, Any]:
    found = made.functions[name]
    arrivals = made.wiring.arrivals.get(found.units[0][0], [])
    return {
        "function": name,
        "logged_as": [{"function": f, "environment": e} for f, e in found.units],
        "attempts": found.sums.attempts,
        "events": found.sums.events,
        "gb_seconds": found.sums.gb_s,
        "set_off_by": [
            {"source": str(a.source), "topic": a.topic, "attempts": a.n, "evidence": a.evidence, "guess": a.guess}
            for a in arrivals
        ],
        "values": values,
    }


def _value_json(value: Value) -> dict[str, Any]:
    return {
        "address": value.address,
        "toml": value.toml,
        "value": value.number,
        "low": value.low,
        "high": value.high,
        "unit": value.unit or None,
        "n": value.n,
        "evidence": value.evidence or None,
        "guess": value.guess,
    }


def _laid_json(laid: Laid | None) -> dict[str, Any] | None:
    if laid is None:
        return None
    return {"played": laid.played, "low": laid.low, "high": laid.high, "happened": laid.happened, "holds": laid.holds}


def _test_json(test: Backtest) -> dict[str, Any]:
    def row(found: Row) -> dict[str, Any]:
        parts = ("calls", "run_ms", "gb_seconds", "p95_ms", "money")
        return {"function": found.function, **{part: _laid_json(getattr(found, part)) for part in parts}}

    return {
        "from": _moment(test.first),
        "until": _moment(test.last),
        "how": test.how,
        "rows": [row(each) for each in test.rows],
        "total": row(test.total) if test.total else None,
    }


def _unknown_json(unknown: Unknown, moves: float | None) -> dict[str, Any]:
    return {
        "function": unknown.function or None,
        "what": unknown.what,
        "assumed": unknown.assumed,
        "how": unknown.how,
        "could_move": moves,
        "share": unknown.moves,
    }
