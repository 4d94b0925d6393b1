"""Reference pages made from the program's own definitions, so that they cannot drift from it."""

from __future__ import annotations

import textwrap

from pydantic import BaseModel

from echotally.findings import RULES
from echotally.model import estate
from echotally.model.key_texts import MODEL_KEYS
from echotally.rates import card
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
    """Every key of the model file and the rate card, and every meter."""
    lines = [_MADE, "# Keys and meters\n", "## The model file\n"]
    lines += _tables(estate, MODEL_KEYS)
    lines.append("## The rate card\n")
    lines += _tables(card, CARD_KEYS)
    lines.append("## Meters\n\n| meter | unit | counts | plans that bill |\n|---|---|---|---|")
    lines += [f"| `{m.name}` | {m.unit} | {m.meaning} | {', '.join(m.bills)} |" for m in METERS.values()]
    return "\n".join(lines) + "\n"


def _wrapped(text: str) -> str:
    """A paragraph in lines a terminal can show."""
    return textwrap.fill(" ".join(text.split()), 118, break_long_words=False, break_on_hyphens=False)


def _tables(module: object, described: dict[str, dict[str, str]]) -> list[str]:
    lines = []
    for name, keys in described.items():
        kind: type[BaseModel] = getattr(module, name)
        lines.append(f"### {name}\n\n{_first(kind.__doc__)}\n")
        if keys:
            lines.append("| key | meaning |\n|---|---|")
            lines += [f"| `{key}` | {meaning} |" for key, meaning in keys.items()]
            lines.append("")
    return lines


def _first(doc: str | None) -> str:
    return (doc or "").strip().split("\n\n")[0]


PAGES = {"findings.md": findings_page, "keys.md": keys_page}
