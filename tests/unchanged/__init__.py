"""A guard against changes nobody meant: estates over all sources, plan kinds and findings, and what each came to.

It proves nothing: the answers are our own output. Proof is the slow engine (``tests/slow_engine``) and the arithmetic
of the hand-worked cases. A commit that means to change an answer changes only files under ``answers/`` and names rule
and field; ``python -m tests.unchanged`` writes them anew.
"""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

HERE = Path(__file__).parent
ESTATES = sorted((HERE / "estates").glob("*.toml"))
#: Estates of this name are sampled, however few their events are.
_SAMPLED, _FROM = "sampled-", 1_000
#: Texts for people, and what was read in, are not the month.
_PLAN_TEXTS = ("reasons", "hints")
_HEAD = ("schema", "hours", "seed", "currency", "pick", "closest")


def unpack(estate: Path, folder: Path) -> Path:
    """Write the files of an estate (parts headed ``#--- NAME``) into a folder; returns the model's path."""
    parts = re.split(r"^#--- (\S+)\n", estate.read_text(encoding="utf-8"), flags=re.M)
    for name, text in zip(parts[1::2], parts[2::2], strict=True):
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    return folder / "model.toml"


def answer(estate: Path, folder: Path) -> dict[str, Any]:
    """The canonical projection of an estate: the head, and of every plan all that is no text for people."""
    from echotally.output.projection.projection_json import projection_dict
    from echotally.projection.project import project

    sampled = _FROM if estate.name.startswith(_SAMPLED) else None
    found = projection_dict(project(unpack(estate, folder), sampled_from=sampled))
    plans = [{k: v for k, v in plan.items() if k not in _PLAN_TEXTS} for plan in found["plans"]]
    return {**{key: found[key] for key in _HEAD}, "plans": plans}


def written(found: dict[str, Any]) -> str:
    """An answer as text: one line for each figure of the head, each field of a plan, and each function."""
    lines = [json.dumps({key: found[key]}) for key in found if key != "plans"]
    for plan in found["plans"]:
        lines.append(json.dumps({"plan": plan["plan"]}))
        for key, value in plan.items():
            rows = value if key == "functions" and value else [value]
            lines += [json.dumps({key: row}) for row in rows if key != "plan"]
    return "\n".join(lines) + "\n"


def without_added(found: Any, wanted: Any) -> Any:
    """``found`` without fields that ``wanted`` has not: a field may be added."""
    if isinstance(found, dict) and isinstance(wanted, dict):
        return {key: without_added(found[key], wanted[key]) for key in wanted if key in found}
    if isinstance(found, list) and isinstance(wanted, list) and len(found) == len(wanted):
        return [without_added(one, other) for one, other in zip(found, wanted, strict=True)]
    return found


def compared(found: dict[str, Any], text: str) -> str:
    """``found`` as text, less the fields that were added since ``text`` was written."""
    mine, wanted = written(found).splitlines(), text.splitlines()
    if len(mine) > len(wanted):  # a field added to a plan is a line of its own
        known = {key for line in wanted for key in json.loads(line)}
        mine = [line for line in mine if not json.loads(line).keys().isdisjoint(known)]
    if len(mine) != len(wanted):
        return "\n".join(mine)
    rows = [json.dumps(without_added(json.loads(a), json.loads(b))) for a, b in zip(mine, wanted, strict=True)]
    return "\n".join(rows) + "\n"
