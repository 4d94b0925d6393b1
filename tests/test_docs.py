"""Docs that are made from the program's definitions are current."""

from __future__ import annotations

from pathlib import Path

import pytest

from echotally.output.reference import PAGES

DOCS = Path(__file__).parents[1] / "docs"


@pytest.mark.parametrize("name", PAGES)
def test_a_reference_page_is_what_the_program_would_write_now(name):
    assert (DOCS / name).read_text() == PAGES[name](), "run scripts/reference.py"
