"""The pages of the manual in the terminal: found beside the sources or among the installed files."""

from __future__ import annotations

import re
from importlib.metadata import PackageNotFoundError, files
from pathlib import Path

from rich.console import RenderableType
from rich.markdown import Markdown
from rich.text import Text

from echotally.errors import BadInput, Problem
from echotally.output.base.terminal import Column, rendered, table

#: The pages, in the order one reads them, and what each is for.
PAGES = {
    "tutorial": "a first hour, from the demo to a decision",
    "questions": "the questions people ask, each as a command",
    "from-logs-to-a-model": "a model made of logs, step by step",
    "commands": "every command and option",
    "keys": "every key of a model and a rate card",
    "units": "how quantities are written",
    "formats": "the files that are read and written",
    "findings": "what `check` finds, and what to try",
    "rules": "the rules behind every number",
    "method": "what was chosen, and how it is checked",
    "api": "the same from Python",
    "pipeline": "checks, gates and reviews in a pipeline; containers; what to install",
    "architecture": "where what is, for those who change it",
    "contributing": "how to work on it",
}


def contents(commands: list[str], width: int | None) -> str:
    """What there is to read."""
    rows = [[name, said] for name, said in PAGES.items()]
    parts: list[RenderableType] = [
        table(
            "Pages: echotally help TOPIC", [Column("topic", False), Column("about", False, wrap=True)], rows, (), width
        ),
        Text("Also the name of a command (" + ", ".join(commands) + ") or the code of a finding, such as Q04."),
    ]
    return rendered(parts, width)


def page_text(name: str, width: int | None) -> str:
    """A page, set for the terminal."""
    text = re.sub(r"<!--.*?-->\s*", "", _source(name), flags=re.S)
    # A picture is told by what it shows; a link by its words.
    text = re.sub(r"!\[([^\]]*)\]\([^)]*\)", r"*(picture: \1)*", text)
    text = re.sub(r"\[([^\]]+)\]\((?!http)[^)]*\)", r"\1", text)
    return rendered([Markdown(text)], width)


def finding_text(code: str, width: int | None) -> str:
    """The part of the page of findings about one code, empty if there is no such finding."""
    found = re.search(
        rf"^##+ {re.escape(code)}\b.*?(?=^##|\Z)|^\| {re.escape(code)} \|.*$", _source("findings"), re.M | re.S
    )
    if found is None:
        return ""
    text = found[0]
    if text.startswith("|"):
        cells = [cell.strip() for cell in text.split("\n")[0].strip("|").split("|")]
        text = f"## {cells[0]}\n\n" + "\n\n".join(cells[1:])
    return rendered([Markdown(text)], width)


def _source(name: str) -> str:
    beside = Path(__file__).parents[4] / "docs" / f"{name}.md"
    if beside.is_file() and (beside.parent / "rules.md").is_file():
        return beside.read_text(encoding="utf-8")
    try:
        installed = [file for file in files("echotally") or () if file.name == f"{name}.md" and "doc" in file.parts]
    except PackageNotFoundError:
        installed = []
    if not installed:
        raise BadInput(Problem("is not installed with this copy", f"help {name}", allowed="docs/ of the sources"))
    return Path(str(installed[0].locate())).read_text(encoding="utf-8")
