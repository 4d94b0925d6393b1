"""Reference pages made from the program's own definitions, so that they cannot drift from it."""

from __future__ import annotations

import textwrap

from msgspec.structs import replace
from pydantic import BaseModel

from echotally.docs_made.key_rows import Row, Rows
from echotally.evidence.logs.columns import KNOWN
from echotally.findings import RULES
from echotally.model import estate
from echotally.model.json_schema import model_schema, spread_text
from echotally.model.key_texts import MODEL_KEYS
from echotally.model.spread import Spread
from echotally.rates import card
from echotally.rates.json_schema import rates_schema
from echotally.rates.key_texts import CARD_KEYS
from echotally.rates.meters import METERS

_MADE = "<!-- Made by scripts/reference.py; edit the definitions, not this page. -->\n"


def findings_page() -> str:
    """Every finding: code, level, what it notices, why it matters, what its rule looks at."""
    lines = [_MADE, "# Findings of `echotally check`\n", "A finding is silenced in the model, with a reason:\n"]
    lines.append('```toml\n[[accepted]]\nfinding = "C02"\nat = "environments.rehearsal"     # left out: everywhere')
    lines.append('reason = "needed until the spring flood is over"\n```\n')
    lines.append(
        "A mistake in the files, which nothing is played with, stands in JSON, SARIF, CSV and Markdown as `E00`; it cannot\n"
        "be accepted.\n"
    )
    for rule in RULES.values():
        said = f"{rule.why} Looks for: {_first(rule.look.__doc__)} Looks after [rule {rule.cites}](rules.md)."
        lines.append(f"## {rule.code} ({rule.level}): {rule.title}\n\n{_wrapped(said)}\n")
    return "\n".join(lines)


def keys_page() -> str:
    """Every key of the model file and the rate card with its full row, the columns of CSV files, and every meter."""
    lines = [_MADE, "# Keys and meters\n", _wrapped(_KEYS_HEAD) + "\n", "## The model file\n"]
    lines += _tables(estate, MODEL_KEYS, Rows(model_schema(), MODEL_KEYS, "Model"))
    lines.append("### [defaults]\n\n" + _wrapped(_DEFAULTS) + "\n")
    lines.append("## The rate card\n")
    lines += _tables(card, CARD_KEYS, Rows(rates_schema(), CARD_KEYS, "RateCard"))
    lines.append("## Columns of CSV files\n\n| file | columns | where it is named |\n|---|---|---|")
    lines += [f"| {file} | {columns} | {where} |" for file, columns, where in _CSV]
    lines.append("\n## Meters\n\n| meter | unit | counts | plans that bill |\n|---|---|---|---|")
    lines += [f"| `{m.name}` | {m.unit} | {m.meaning} | {', '.join(m.bills)} |" for m in METERS.values()]
    return "\n".join(lines) + "\n"


_KEYS_HEAD = (
    "A row a key: what its value is and how it is written ([units](units.md)), what it may be, what it is where it is left out, "
    "and a line that may be pasted. A key that is not required and has no default does nothing where it is left out."
)
_DEFAULTS = (
    "Any key of a function, which holds for every function that does not give it itself: `memory`, `timeout` and `tags` are the usual "
    "ones. A function's own table replaces a table of the defaults whole."
)
#: Files beside a model, and files of evidence: their columns.
_CSV = (
    ("trace", "`time` (ISO 8601), `count` (whole, from 0)", "`demand.NAME.trace`"),
    ("samples", "one column of times in `ms`, or of sizes in `bytes`", "`run = { samples = ... }` and its like"),
    (
        "load trials",
        "`clients`, `limit`, `calls`, `seconds`, `refused`, `p50_ms`, `p95_ms`, `mean_ms`, `p99_ms`",
        "`fit FILE`",
    ),
    (
        "run log",
        ", ".join(f"`{name}`" for name in KNOWN) + " (by the words of their headings)",
        "`fit`, `survey`, `firings --log`",
    ),
    (
        "bill",
        "the FOCUS columns `BilledCost` or `EffectiveCost`, `ServiceName`, `ChargeDescription` and their like",
        "`reconcile`, `survey --bill`",
    ),
)


def units_page() -> str:
    """How quantities are written, on one page."""
    lines = [_MADE, "# Units\n", _wrapped(_UNITS_HEAD) + "\n"]
    lines.append("| what | written | units | examples | notes |\n|---|---|---|---|---|")
    lines += [f"| {' | '.join(row)} |" for row in _UNITS]
    return "\n".join(lines) + "\n"


_UNITS_HEAD = (
    "Every quantity that has a unit says it; a bare number where one is needed is refused, but 0, which is "
    "nothing in every unit. Numbers may have a point and underscores "
    "(`1_000`), and a space before the unit or none."
)
_UNITS = (
    ("duration", "text", "ms, s, min, h, d", '`"120 ms"`, `"2 min"`', "kept to the nanosecond, at most 100 years"),
    ("memory", "text", "MB, GB", '`"512 MB"`, `"1.5 GB"`', "binary: 1 GB is 1024 MB; whole MB"),
    ("size", "text", "B, kB, MB, GB", '`"1.2 kB"`, `"8 MB"`', "decimal: 1 kB is 1000 B"),
    ("rate", "text", "/s, /min, /h, /d", '`"55 /s"`, `"160 /h"`', "events in that time"),
    (
        "money",
        "text",
        "the card's currency",
        '`"0.19"`',
        "in quotes, since a float cannot hold a cent exactly; a whole number may go without",
    ),
    ("share", "number", "none", "`0.02`", "0 to 1"),
    ("factor", "number", "none", "`1.5`", "times as much"),
    ("day, local time", "text", "ISO 8601", '`"2027-03-14T04:00"`', "in the estate's zone, without an offset"),
    ("month", "text", "YYYY-MM", '`"2027-03"`', "the calendar month in the estate's zone"),
    ("zone", "text", "IANA", '`"Europe/Dublin"`', "names, no offsets"),
    ("source", "text", "KIND.NAME", '`"queues.alerts"`', "queues, topics, streams, endpoints, folders, schedules"),
    (
        "spread of times or sizes",
        "text or table",
        "as the quantity",
        '`"180 ms"`, `{ median = "120 ms", p95 = "400 ms" }`',
        'also `{ mean, shape = "exponential" }`, `{ samples = "FILE" }`, `{ mix = [...] }`',
    ),
)


def _wrapped(text: str) -> str:
    """A paragraph in lines a terminal can show."""
    return textwrap.fill(" ".join(text.split()), 118, break_long_words=False, break_on_hyphens=False)


def _tables(module: object, described: dict[str, dict[str, str]], rows: Rows) -> list[str]:
    lines = []
    for name, keys in described.items():
        kind: type[BaseModel] = getattr(module, name)
        lines.append(f"### {name}\n\n{_first(kind.__doc__)}\n")
        if keys:
            lines.append("| key | value | written | range | default | required | example | meaning |")
            lines.append("|---|---|---|---|---|---|---|---|")
            lines += [_line(_with_spread(row, kind)) for row in rows.of(name)]
            lines.append("")
    return lines


def _with_spread(row: Row, kind: type[BaseModel]) -> Row:
    """The row with the spread that holds where the key is left out, which a schema cannot say."""
    default = next((f.default for name, f in kind.model_fields.items() if row.key in (name, f.alias)), None)
    return replace(row, default=f"`{spread_text(row.key, default)}`") if isinstance(default, Spread) else row


def _line(row: Row) -> str:
    cells = (f"`{row.key}`", row.kind, row.forms, row.limits, row.default, row.required, row.example, row.meaning)
    return "| " + " | ".join(cell.replace("|", "\\|") for cell in cells) + " |"


def _first(doc: str | None) -> str:
    return (doc or "").strip().split("\n\n")[0]


PAGES = {"findings.md": findings_page, "keys.md": keys_page, "units.md": units_page}
