"""Small parts of exports and charts, each by hand."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from echotally.cells import harmless
from echotally.output.base.exports import as_table
from echotally.output.base.waterfall import Walk, _ends, waterfall


@given(st.text())
def test_a_harmless_cell_keeps_its_text_and_begins_no_formula(text: str) -> None:
    shown = harmless(text)
    assert shown.removeprefix("'") == text.removeprefix("'") or shown == text
    # A number is read as a number, whatever its sign.
    assert not shown.startswith(("=", "+", "-", "@")) or float(shown) is not None


def test_rows_of_json_become_a_table_with_dotted_names() -> None:
    data = '{"rows": [{"a": 1, "b": {"c": 2.5, "d": [1, 2]}}, {"a": null, "b": {"c": 3}}]}'
    lines = as_table(data, "csv").splitlines()
    assert lines[0] == "a,b.c,b.d" and lines[1] == '1,2.5,"[1, 2]"'


@pytest.mark.parametrize(
    ("rows", "csv", "markdown"),
    [
        ('[{"n": 1, "x": 0.5}, {"n": null, "x": 2.0}]', "n,x\n1,0.5\n,2.0\n", "| n | x |\n| --- | --- |\n| 1 | 0.5 |\n|  | 2 |\n"),
        ('[{"a": true}, {"a": false}]', "a\nTrue\nFalse\n", "| a |\n| --- |\n| yes |\n| no |\n"),
        ('["functions.f.memory=1 GB"]', "set\nfunctions.f.memory=1 GB\n", "| set |\n| --- |\n| functions.f.memory=1 GB |\n"),
        ("[]", "set\n", "| set |\n| --- |\n"),
        ('[{"a": {"b": {"c": "=1"}}}]', "a.b.c\n'=1\n", "| a.b.c |\n| --- |\n| =1 |\n"),
    ],
    ids=["missing", "yes-no", "words", "none", "nested"],
)  # fmt: skip
def test_a_list_of_json_as_csv_and_markdown(rows: str, csv: str, markdown: str) -> None:
    data = f'{{"set": {rows}}}'
    assert (as_table(data, "csv", "set"), as_table(data, "markdown", "set")) == (csv, markdown)


@pytest.mark.parametrize(
    ("first", "steps", "last", "from_zero"),
    [(10, [5, -2], 13, True), (100, [1, -0.5], 100.5, False), (0, [3], 3, True), (5, [-8], -3, True)],
)
def test_a_waterfall_begins_at_zero_unless_its_steps_could_not_be_seen(
    first: float, steps: list[float], last: float, from_zero: bool
) -> None:
    low, high = _ends(first, steps, last)
    assert (low <= 0) == from_zero and high > max(first, last)
    assert waterfall("t", Walk(("a", first), [("s", x) for x in steps], ("b", last)), "EUR", "png", "").startswith(
        b"\x89PNG"
    )


@pytest.mark.parametrize(
    ("low", "high", "shown"),
    [
        (0.1, 10, ["0.1", "0.2", "0.5", "1", "2", "5", "10"]),
        (600, 4_000, ["700", "1,000", "1,500", "2,000", "3,000"]),
        (12, 200, ["15", "20", "30", "50", "70", "100", "150", "200"]),
    ],
)
def test_a_logarithmic_axis_has_plain_numbers_and_enough_of_them(low: float, high: float, shown: list[str]) -> None:
    from echotally.output.base.charts import new_figure, plain_x

    figure, (panel,) = new_figure()
    panel.set_xscale("log")
    panel.set_xlim(low, high)
    plain_x(panel)
    figure.canvas.draw()
    inside = [label.get_text() for label in panel.get_xticklabels() if low <= label.get_position()[0] <= high]
    assert inside == shown
