"""The report as a reader meets it: inert with hostile names, self-contained, sortable, legible without a mouse."""

from __future__ import annotations

import re
import shutil
from html.parser import HTMLParser
from pathlib import Path

import pytest

from tests.conftest import run_program

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


def test_a_browser_opens_it_without_errors_or_requests_and_sorts(page: Path) -> None:
    webdriver = pytest.importorskip("selenium.webdriver")
    driver_path, browser = shutil.which("chromedriver"), shutil.which("chromium") or shutil.which("chromium-browser")
    if driver_path is None or browser is None:
        pytest.skip("no browser with a driver on this machine")
    options = webdriver.ChromeOptions()
    options.binary_location = browser
    for argument in ("--headless=new", "--no-sandbox", "--disable-gpu"):
        options.add_argument(argument)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    driver = webdriver.Chrome(options=options, service=webdriver.ChromeService(driver_path))
    try:
        driver.get(page.as_uri())
        heading = driver.find_elements("css selector", "table.sortable")[0].find_elements("css selector", "th button")[
            1
        ]
        cells = "table.sortable tbody tr td:nth-child(2)"
        orders = []
        for _ in range(2):
            heading.click()
            orders.append([float(c.text.replace(",", "")) for c in driver.find_elements("css selector", cells)[:2]])
        errors = [entry for entry in driver.get_log("browser") if entry["level"] == "SEVERE"]
        network = "".join(str(entry["message"]) for entry in driver.get_log("performance"))
    finally:
        driver.quit()
    assert orders[0] == sorted(orders[0]) and orders[1] == sorted(orders[0], reverse=True)
    assert errors == []
    asked = set(re.findall(r'"url":"((?:https?|ftp|wss?):[^"]*)"', network))
    assert asked == set()
