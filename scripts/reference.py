"""Writes the reference pages of docs/ from the program's own definitions. Run: .venv/bin/python scripts/reference.py"""

from __future__ import annotations

from pathlib import Path

from echotally.docs_made.help_page import commands_page
from echotally.docs_made.man_page import man_page
from echotally.docs_made.reference import PAGES

if __name__ == "__main__":
    for name, page in {**PAGES, "commands.md": commands_page, "echotally.1": man_page}.items():
        (Path(__file__).parents[1] / "docs" / name).write_text(page())
        print(f"wrote docs/{name}")
