"""Makes docs/notebook.ipynb: runs its cells on the demo and keeps what they show. Run: .venv/bin/python scripts/notebook.py

The cells stand here, and not in the notebook, so that a change of them can be read; the notebook is made anew and the tests see
whether it is what it would be now.
"""

from __future__ import annotations

import ast
import contextlib
import hashlib
import io
import json
import os
import tempfile
from pathlib import Path
from typing import Any

PLACE = Path(__file__).parents[1] / "docs" / "notebook.ipynb"
#: Words and code in turns; what the last line of code is, is shown.
CELLS = (
    "# A river watch in a notebook\n\nThe example writes itself; all providers, prices and data are made up.",
    "import echotally\nfrom pathlib import Path\nfrom echotally.demo import write_example\n\nwritten = write_example('river-watch', Path('river-watch'))\nriver = 'river-watch/river.toml'",
    "## What does a month cost, and what speaks for the pick?",
    "month = echotally.project(river)\nmonth",
    "## Who pays?",
    "table = month.to_frame()\ntable[table['plan'] == month.pick].nlargest(5, 'cost')[['function', 'environment', 'cost', 'attempts']]",
    "## Would another memory be cheaper?",
    "sizes = echotally.sweep(river, ['functions.look.memory=1280 MB,2 GB,3 GB'], plans=['heron.shared'], workers=1)\nsizes",
    "## A model may be data\n\nOne change, tried on a copy.",
    "import tomllib\nfrom pathlib import Path\n\nos_folder = Path('river-watch')\ndata = tomllib.loads((os_folder / 'river.toml').read_text())\n"
    "data['estate']['rate_cards'] = [str(os_folder / card) for card in data['estate']['rate_cards']]\n"
    "for demand in data['demand'].values():\n    if 'trace' in demand:\n        demand['trace'] = str(os_folder / demand['trace'])\n"
    "data['functions']['map']['instance_limit'] = 40\nechotally.project(data, plans=['heron.shared', 'heron.per-run'])",
    "## What went wrong, as data",
    "try:\n    echotally.load(river, [('functions.map.memory', 'lots')])\nexcept echotally.BadInput as error:\n    problem = error.problems[0]\n"
    "    print(problem.address, '|', problem.value, '|', problem.allowed)",
)  # fmt: skip


def made() -> str:
    """The notebook as text, its cells run in a folder that is gone afterwards."""
    space: dict[str, Any] = {}
    cells = []
    before = Path.cwd()
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        try:
            for number, text in enumerate(CELLS):
                own: dict[str, Any] = {"id": hashlib.blake2b(text.encode(), digest_size=4).hexdigest(), "metadata": {}}
                source = text.splitlines(keepends=True)
                if number % 2 == 0:
                    cells.append({"cell_type": "markdown", **own, "source": source})
                    continue
                count = number // 2 + 1
                outputs = _run(text, space, count)
                cells.append(
                    {"cell_type": "code", "execution_count": count, **own, "outputs": outputs, "source": source}
                )
        finally:
            os.chdir(before)
    kernel = {"display_name": "Python 3", "language": "python", "name": "python3"}
    document = {
        "cells": cells,
        "metadata": {"kernelspec": kernel, "language_info": {"name": "python"}},
        "nbformat": 4,
        "nbformat_minor": 5,
    }
    return json.dumps(document, indent=1, ensure_ascii=False) + "\n"


def _run(text: str, space: dict[str, Any], count: int) -> list[dict[str, Any]]:
    *before, last = ast.parse(text).body
    said, value = io.StringIO(), None
    with contextlib.redirect_stdout(said):
        if isinstance(last, ast.Expr):
            exec(compile(ast.Module(before, []), "cell", "exec"), space)
            value = eval(compile(ast.Expression(last.value), "cell", "eval"), space)
        else:
            exec(compile(text, "cell", "exec"), space)
    outputs: list[dict[str, Any]] = []
    if said.getvalue():
        outputs.append({"name": "stdout", "output_type": "stream", "text": said.getvalue().splitlines(keepends=True)})
    if value is not None:
        shown = {"text/plain": repr(value).splitlines(keepends=True)}
        for kind, method in (("text/html", "_repr_html_"), ("text/markdown", "_repr_markdown_")):
            if hasattr(value, method):
                shown[kind] = getattr(value, method)().splitlines(keepends=True)
        outputs.append({"data": shown, "execution_count": count, "metadata": {}, "output_type": "execute_result"})
    return outputs


if __name__ == "__main__":
    PLACE.write_text(made(), encoding="utf-8")
    print(f"wrote {PLACE}")
