"""What a survey shows: verdict and caveats first, every doubt in the order of what it moves, a page without network."""

from __future__ import annotations

import json
import random
import re
from datetime import UTC, datetime, timedelta

import pandas as pd
import pytest

from echotally.evidence.survey.facts import short
from echotally.evidence.survey.made import Survey
from echotally.evidence.survey.survey import survey
from echotally.output.evidence.survey_page import edges_of, survey_page, wiring_chart, wiring_lines
from echotally.output.evidence.survey_view import (
    of_functions,
    plain_number,
    survey_json,
    survey_text,
    survey_verdict,
    unknown_page,
)

HOSTILE = "$x^2$<script>alert(1)</script>|a"


@pytest.fixture(scope="module")
def found(tmp_path_factory: pytest.TempPathFactory) -> Survey:
    """Three weeks of three functions, one with a name that is no name of a function."""
    chance, start, rows = random.Random(2), datetime(2027, 2, 1, tzinfo=UTC), []
    for n, name in enumerate(("gauge", "ferry", HOSTILE)):
        for k in range(1_500):
            at = start + timedelta(seconds=1_200 * k + chance.uniform(0, 600))
            failed = name == "ferry" and at.day == 9 and at.hour < 9
            rows.append({"time": at.isoformat(), "function": name, "run_ms": 50 * (n + 1) * chance.lognormvariate(0, 0.3),
                         "memory_mb": 256, "trigger": "http", "source": f"/{n}", "outcome": "error" if failed else "ok"})  # fmt: skip
    path = tmp_path_factory.mktemp("log") / "log.csv"
    pd.DataFrame(rows).to_csv(path, index=False)
    return survey([path])


def test_the_verdict_and_what_matters_come_first(found: Survey) -> None:
    lines = survey_text(found, ["surveyed/model.toml"], width=120).splitlines()
    assert lines[0].startswith("A model of 3 functions from 4,500 rows. Made without the last")
    first = " ".join(lines[:6])
    assert "prices are placeholders" in first and "Trouble: ferry" in first


@pytest.mark.parametrize("width", [40, 80, 132, 400])
def test_a_table_is_as_wide_as_it_may_be(found: Survey, width: int) -> None:
    text = survey_text(found, [], width=width, colour=False)
    assert max(map(len, text.splitlines())) <= width
    assert "\x1b" not in text


def test_every_doubt_is_written_down_in_order(found: Survey) -> None:
    page = unknown_page(found)
    rows = [line for line in page.splitlines() if line.startswith("| ")]
    shares = [float(match[1]) for match in (re.search(r"\| (\d+)% \|", line) for line in rows) if match]
    assert shares == sorted(shares, reverse=True) and len(shares) == len(found.unknown_groups)
    for unknown, _ in found.unknowns:
        assert unknown.what in page
    # A cell cannot end a row: bars of names are escaped.
    widths = {len(re.findall(r"(?<!\\)\|", line)) for line in rows}
    assert widths <= {4, 6}


def test_the_document_has_what_the_tables_have(found: Survey) -> None:
    data = json.loads(survey_json(found))
    assert data["schema"] == "echotally-survey/1" and data["cost_known"] is False
    assert [each["function"] for each in data["functions"]] == list(found.functions)
    guesses = [each for each in data["values"] if each["guess"]]
    assert guesses and all(each["evidence"] for each in guesses)
    assert {each["address"] for each in data["values"]} == {
        v.address for v in found.draft.values if not v.address.endswith(".")
    }
    (test,) = data["backtest"]
    assert {row["function"] for row in test["rows"]} == set(found.functions)
    for row in test["rows"]:
        calls = row["calls"]
        assert calls["low"] <= calls["played"] <= calls["high"]
        assert calls["holds"] == (calls["low"] <= calls["happened"] <= calls["high"])
    assert [each["function"] for each in data["incidents"]] == ["ferry"]


def test_the_page_needs_no_network_and_believes_no_name(found: Survey) -> None:
    page = survey_page(found)
    assert "default-src 'none'" in page and "<script" not in page
    assert not re.search(r"(?:src|href)=\"(?!data:|#)", page)
    assert page.count("data:image/png;base64,") == len(found.functions) + 1
    assert page.index('class="verdict"') < page.index("The wiring found") < page.index("What the data cannot tell")


def test_the_wiring_is_told_in_words_as_it_is_drawn(found: Survey) -> None:
    edges = edges_of(found)
    assert len(wiring_lines(found)) == len(edges)
    assert {target for source, target, _ in edges if source.startswith("endpoints.")} <= set(found.functions)
    picture = wiring_chart(found)
    assert picture.startswith(b"\x89PNG") and picture == wiring_chart(found)


def test_a_survey_without_days_held_back_says_so(found: Survey) -> None:
    from msgspec.structs import replace

    assert "nothing was held back" in survey_verdict(replace(found, backtests=()))


@pytest.mark.parametrize(
    ("value", "said", "plainly"),
    [(0.0, "0", "0"), (0.012345, "0.01235", "0.01235"), (1.5, "1.5", "1.5"), (999.96, "1000", "1000"), (195_000.0, "195000", "195,000"),
     (1_234_567.8, "1234568", "1,234,568"), (-2.5, "-2.5", "-2.5")],
)  # fmt: skip
def test_numbers_are_never_in_powers_of_ten(value: float, said: str, plainly: str) -> None:
    assert (short(value), plain_number(value)) == (said, plainly)


@pytest.mark.parametrize(
    ("names", "most", "said"),
    [([], 2, "the estate"), (["a"], 2, "a"), (["a", "b"], 2, "a, b"), (["a", "b", "c", "d"], 2, "a, b and 2 more")],
)
def test_functions_are_named_up_to_a_number(names: list[str], most: int, said: str) -> None:
    assert of_functions(names, most) == said
