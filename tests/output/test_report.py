"""The report as a reader meets it: inert with hostile names, self-contained, sortable, legible without a mouse."""

from __future__ import annotations

import re
from functools import partial
from html.parser import HTMLParser
from pathlib import Path

import pytest

import echotally
from echotally.findings import check_model
from echotally.output.projection.report import report_page
from echotally.output.projection.report_parts import PlayedBeside
from echotally.projection.loaded import load
from echotally.studies.demand_points import SCALES, demand_points
from echotally.studies.otherwise import otherwise
from tests.conftest import run_program
from tests.output.browser import browser

HOSTILE = ["<script>alert(1)</script>", '"><img src=x onerror=alert(2)>', "‮evil‬", "{{ 7 * 7 }}", "n" * 200]

CARD = """
schema = "echotally-rates/1"
[card]
name = "reed"
currency = "EUR"
[plans.a]
bills = "runs"
memory = { from = "128 MB", to = "4 GB", step = "64 MB" }
vcpu_per_gb = 0.5
instance_limit = 3
price = { calls = { per = 1_000_000, unit = "0.2" } }
[plans.b]
bills = "reserved"
memory = { from = "128 MB", to = "4 GB", step = "64 MB" }
instances = 1
instance_memory = "4 GB"
instance_vcpu = 2
price = { reserved_hours = { unit = "0.01" } }
"""


def _model(names: list[str]) -> str:
    lines = ['schema = "echotally-model/1"', "[estate]", f"name = {_toml(names[0])}", 'month = "2027-02"']
    lines += ['timezone = "UTC"', 'rate_cards = ["card.toml"]']
    for n, name in enumerate(names):
        lines += [f"[functions.{_toml(name)}]", 'memory = "256 MB"', 'run = "100 ms"']
        lines += [f"[endpoints.e{n}]", f"[demand.d{n}]", f'into = "endpoints.e{n}"', 'rate = "20 /h"']
        lines += ["[[triggers]]", f'from = "endpoints.e{n}"', f"to = {_toml(name)}"]
    return "\n".join(lines)


def _toml(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


class _Tags(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.tags: list[tuple[str, dict[str, str | None]]] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append((tag, dict(attrs)))


@pytest.fixture(scope="module")
def page(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("report")
    (folder / "card.toml").write_text(CARD)
    (folder / "model.toml").write_text(_model(HOSTILE), encoding="utf-8")
    done = run_program("report", "model.toml", "-o", "report.html", cwd=folder)
    assert done.returncode == 0, done.stderr
    return folder / "report.html"


@pytest.fixture(scope="module")
def tags(page: Path) -> list[tuple[str, dict[str, str | None]]]:
    parser = _Tags()
    parser.feed(page.read_text(encoding="utf-8"))
    return parser.tags


def test_names_of_the_model_make_no_tag_and_no_handler(tags: list[tuple[str, dict[str, str | None]]]) -> None:
    assert sum(tag == "script" for tag, _ in tags) == 1
    assert not [name for _, attrs in tags for name in attrs if name.startswith("on")]


def test_the_page_refers_to_nothing_outside_itself(tags: list[tuple[str, dict[str, str | None]]]) -> None:
    links = [value or "" for _, attrs in tags for name, value in attrs.items() if name in ("src", "href")]
    assert links and all(value.startswith(("#", "data:")) for value in links)


def test_direction_marks_are_made_visible(page: Path) -> None:
    text = page.read_text(encoding="utf-8")
    assert "‮" not in text and "\\u202e" in text


def test_every_chart_has_a_text_and_every_table_a_caption_and_headers(
    tags: list[tuple[str, dict[str, str | None]]],
) -> None:
    names = [tag for tag, _ in tags]
    assert all(attrs.get("alt") for tag, attrs in tags if tag == "img")
    assert names.count("caption") == names.count("table") > 3
    assert all(attrs.get("scope") in ("col", "row") for tag, attrs in tags if tag == "th")
    assert {"header", "nav", "main", "footer"} <= set(names)


def test_the_same_files_give_the_same_page(page: Path) -> None:
    again = page.with_name("again.html")
    assert run_program("report", "model.toml", "-o", "again.html", cwd=page.parent).returncode == 0
    assert again.read_bytes() == page.read_bytes()


def test_in_a_browser_it_sorts_slides_and_prints_by_keys_alone_and_asks_nobody(page: Path) -> None:
    with browser() as seen:
        seen.open(page)
        orders = []
        seen.ask('document.querySelectorAll("table.sortable")[0].querySelectorAll("th button")[1].focus()')
        for _ in range(2):
            seen.press("Enter")
            cells = '[...document.querySelectorAll("table.sortable")[0].querySelectorAll("tbody td:nth-child(2)")]'
            orders.append(seen.ask(f"{cells}.map((cell) => Number(cell.dataset.value))"))
        seen.ask('document.getElementById("times").focus()')
        moved = []
        for key in (None, "ArrowRight", "Home", "End"):
            if key:
                seen.press(key)
            moved.append(seen.ask('["now", "pick"].map((id) => document.getElementById(id).textContent)'))
        bars = seen.ask('document.querySelectorAll("#bars .bar").length')
        pages = len(re.findall(rb"/Type\s*/Page[^s]", seen.pdf()))
        errors, requests = seen.errors(), seen.requests()
    assert orders[0] == sorted(orders[0]) and orders[1] == sorted(orders[0], reverse=True)
    assert [demand for demand, _ in moved] == ["1 x", "1.5 x", "0.5 x", "3 x"]
    assert all(pick.startswith(("Pick: reed.", "No plan")) for _, pick in moved)
    assert bars == 2 and 1 <= pages <= 8
    assert errors == [] and requests == []


def test_the_first_screen_has_the_decision_three_figures_and_the_map(page: Path) -> None:
    text = page.read_text(encoding="utf-8")
    first = text[text.index("<main") : text.index('id="plans"')]
    assert first.count('<span class="value">') == 3 and first.count("with other seeds (95 %)") == 3
    assert "What would change the decision" in first and 'alt="Map of the estate' in first
    # Without script the same points stand in a table.
    scales = re.findall(r'data-scale="([\d.]+)"', first)
    assert scales == ["0.5", "0.75", "1", "1.5", "2", "3"]
    assert first.count("data-cost=") == 2 * len(scales) and 'id="slider" class="slider" hidden' in first


def test_demand_points_are_months_that_were_played(tmp_path: Path) -> None:
    (tmp_path / "card.toml").write_text(CARD)
    (tmp_path / "model.toml").write_text(_model(["one", "two"]))
    loaded = load(tmp_path / "model.toml")
    points = demand_points(loaded, echotally.project(loaded))
    assert [point.scale for point in points] == list(SCALES)
    for point in points:
        alone = echotally.project(loaded, [("environments.live.demand", repr(point.scale))])
        assert point.pick == alone.pick
        assert [p.unrounded for p in point.plans] == [p.bill.unrounded for p in alone.played]


def test_the_page_needs_of_plans_that_are_not_shown_no_month(tmp_path: Path) -> None:
    (tmp_path / "card.toml").write_text(CARD)
    (tmp_path / "model.toml").write_text(_model(["one", "two"]))
    loaded = load(tmp_path / "model.toml")
    whole = echotally.project(loaded)
    alone = whole.without_other_months()
    assert [bool(plan.units) for plan in alone.played] == [plan is whole.best for plan in whole.played]
    pages = [
        report_page(
            each,
            check_model(loaded, (), None, each),
            tmp_path / "model.toml",
            beside=partial(PlayedBeside, otherwise(loaded, each)),
        )
        for each in (whole, alone)
    ]
    assert pages[0] == pages[1] and 'id="slider"' in pages[0]


def test_where_all_demands_would_take_minutes_fewer_are_played(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "card.toml").write_text(CARD)
    (tmp_path / "model.toml").write_text(_model(["one"]))
    loaded = load(tmp_path / "model.toml")
    monkeypatch.setattr("echotally.studies.demand_points._MOST", 0)
    points = demand_points(loaded, echotally.project(loaded))
    assert [point.scale for point in points] == [0.5, 1.0, 2.0]
