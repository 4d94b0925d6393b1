"""Tables for those who do not see them, in their own numbers, and in plain characters."""

from __future__ import annotations

import io
import locale
import re
import shlex
import sys
from pathlib import Path

import pytest

from echotally.cli import streams
from echotally.cli.failing import exit_code
from echotally.cli.main import cli
from echotally.errors import BadInput
from echotally.output.base.manner import Manner, local, manner, of_locale, written
from echotally.output.base.terminal import Column, rendered, table


@pytest.fixture
def say(river: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]):  # type: ignore[no-untyped-def]
    monkeypatch.chdir(river.parent)

    def run(line: str) -> str:
        code = exit_code(cli, shlex.split(line))
        told = capsys.readouterr()
        assert code == 0, told.err
        return told.out

    return run


COLUMNS = [Column("plan", False), Column("cost"), Column("", False)]


def test_each_row_is_a_line_and_each_cell_has_its_heading() -> None:
    rows = [["→ a.b", "1,234.50", ""], ["c", "0", "knee"]]
    with written(Manner(plain=True)):
        text = rendered([table("Costs", COLUMNS, rows, width=40)], 40)
    assert text.splitlines() == ["Costs:", "plan: picked, a.b, cost: 1,234.50", "plan: c, cost: 0, note: knee"]
    assert manner() == Manner()


@pytest.mark.parametrize(
    "line",
    [
        "project river.toml --plan heron.shared",
        "demand river.toml",
        "rates rates/heron.toml",
        "firings river.toml",
        "drain river.toml --queue sms --backlog 200 --plan heron.shared",
    ],
)
def test_a_screen_reader_gets_every_cell_of_the_table_and_no_rules(line: str, say) -> None:  # type: ignore[no-untyped-def]
    wide, plain = say(f"{line} --width 400"), say(f"{line} --format plain")
    assert not re.search("[─│┼╵→]", plain)
    # What stands in the wide table is told, number by number.
    numbers = set(re.findall(r"\d[\d,]*\.\d+", wide))
    assert numbers and numbers <= set(re.findall(r"\d[\d,]*\.\d+", plain))


@pytest.mark.parametrize(
    ("signs", "cell", "wanted"),
    [
        ((",", "."), "1,234.50", "1.234,50"),
        ((",", "\u202f"), "12,345,678", "12\u202f345\u202f678"),
        ((",", ""), "1,234.5", "1234,5"),
        ((".", ","), "1,234.5", "1,234.5"),
        ((",", "."), "20,000 (343% used)", "20.000 (343% used)"),
        ((",", "."), "–", "–"),
    ],
)
def test_numbers_are_written_as_a_locale_has_them(signs: tuple[str, str], cell: str, wanted: str) -> None:
    with written(Manner(decimal=signs[0], thousands=signs[1])):
        assert local(cell) == wanted


def test_only_tables_follow_a_locale_that_is_asked_for(say, monkeypatch: pytest.MonkeyPatch) -> None:  # type: ignore[no-untyped-def]
    line = "project river.toml --plan heron.shared"
    data = say(f"{line} --format csv")
    monkeypatch.setattr(locale, "localeconv", lambda: {"decimal_point": ",", "thousands_sep": "."})
    table_of, csv_of = say(f"{line} --locale system"), say(f"{line} --format csv --locale system")
    assert csv_of == data
    # The verdict is prose of ours, and stays English; the columns are theirs.
    assert re.search(r"heron\.shared +\d+,\d\d", table_of) and re.search(r"\d+\.\d\d EUR a month", table_of)
    assert say(line) == say(f"{line} --locale C") or "," in say(line)


def test_a_locale_that_is_not_there_is_refused_and_leaves_nothing_changed() -> None:
    before = locale.setlocale(locale.LC_NUMERIC)
    with pytest.raises(BadInput, match="is no locale of this machine"):
        of_locale("xx_YY")
    assert locale.setlocale(locale.LC_NUMERIC) == before
    assert of_locale("C") == (".", "")


def test_plain_characters_where_the_terminal_has_no_others(say, monkeypatch: pytest.MonkeyPatch) -> None:  # type: ignore[no-untyped-def]
    text = say("project river.toml")
    assert not text.isascii()
    raw = io.BytesIO()
    monkeypatch.setattr(sys, "stdout", io.TextIOWrapper(raw, encoding="ascii"))
    monkeypatch.setattr(sys, "stderr", io.StringIO())
    streams.set_up()
    sys.stdout.write(text)
    sys.stdout.flush()
    assert raw.getvalue().decode("ascii").count("\n") == text.count("\n")
