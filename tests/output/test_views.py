"""What the later commands print: the verdict first, inside the width, the same rows in every form, the same bytes twice."""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import Any

import pytest

from echotally.cli.failing import exit_code
from echotally.cli.main import cli
from tests.conftest import CARD, HEAD

#: Command -> (first words of its verdict, the list of its JSON that CSV and Markdown show).
COMMANDS = {
    "forecast": ("forecast river.toml --months 2 --draws 50 --plan heron.shared --plan osier.elastic", r"heron\.shared is the cheapest over 2 months", "rows"),
    "reconcile": ("reconcile river.toml logs/bill.csv --plan heron.shared", r"100 % of the bill \(25\.\d\d of 25\.\d\d EUR\) matched\. Billed 25\.\d\d, projected 26\.\d\d", "rows"),
    "compare": ("compare before.json after.json", r"The pick stays heron\.shared", "rows"),
    "fit": ("fit logs/look.csv --model river.toml --plan heron.shared", r"look: [\d,]+ ms at the median", "figures"),
    "trials": ("fit trials.csv --model river.toml --function map --plan heron.shared", r"map: [\d.]+ ms at the median", "rows"),
    "load": ("load river.toml --function map --clients 1,5 --calls 200 --plan heron.shared", r"map on heron\.shared answers at most", "rows"),
    "drain": ("drain river.toml --queue sms --backlog 200 --plan heron.shared", r"sms: 200 messages are gone soonest on heron\.shared", "rows"),
    "crossover": ("crossover small/model.toml --scale 0.1..10 --workers 1", r"Cheapest that meets every target: test\.(plan|other)", "rows"),
    "choose": ("choose small/model.toml", r"\d+\.\d+ EUR a month on 1 plan\(s\), meets every target; today ", None),
    "sweep": ("sweep small/model.toml --workers 1 --vary functions.f.memory=128,256 --vary functions.f.instance_limit=1,2".replace("128,256", "128MB,256MB"), r"Best \(cheapest that meets every target\): ", "rows"),
    "demand": ("demand small/model.toml", r"test, 2027-03", None),
    "firings": ("firings river.toml --log logs/look.csv --column time=time", r"nightly-charts: ", "rows"),
    "check": ("check river.toml", r"Fenwater river watch: no errors\.", "findings"),
    "values": ("check river.toml --defaults", r"schema = echotally-model/1", "values"),
    "card": ("rates show rates/heron.toml", r"Card heron: Heron Cloud \(made up\)", "prices"),
    "card-check": ("rates check small/card.toml", r"warning: small/card\.toml: ", "findings"),
}  # fmt: skip


SMALL = """
[functions.f]
memory = "256 MB"
run = "400 ms"
cpu_share = 0.8
[queues.q]
[demand.d]
into = "queues.q"
rate = "2 /min"
[[triggers]]
from = "queues.q"
to = "f"
[targets]
throttled = 0.01
"""
#: Cheap in the small, dear in the large, and the other way round.
CHEAPER, DEARER = (
    'calls = { unit = "0.00001" }\n[plans.plan.allowance]\ngb_seconds = 10\n',
    'flat_months = { unit = "2" }\ncalls = { unit = "0.000001" }',
)


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    from echotally import project
    from echotally.output.projection.projection_json import projection_json
    from tests.small_river import write_small_river

    place = tmp_path_factory.mktemp("views")
    write_small_river(place)
    for name, sets in (("before.json", ()), ("after.json", (("demand.cameras.rate", "48 /h"),))):
        (place / name).write_text(projection_json(project(place / "river.toml", sets, plans=["heron.shared"])))
    (place / "trials.csv").write_text(
        "clients,limit,calls,seconds,refused,p50_ms,p95_ms\n1,4,500,60,0,95,340\n8,4,500,16,2,180,700\n"
    )
    (place / "small").mkdir()
    (place / "small" / "model.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + SMALL)
    second = CARD.format(keys="", prices=DEARER).split("[plans.plan]")[1].replace("plans.plan", "plans.other")
    (place / "small" / "card.toml").write_text(CARD.format(keys="", prices=CHEAPER) + "[plans.other]" + second)
    return place


#: Studies that take long: answered once, and shown in every form (that one seed gives one answer is tested with each).
LONG = {
    "forecast": "echotally.studies.forecast.forecast",
    "crossover": "echotally.studies.crossover.crossover",
    "choose": "echotally.studies.choose.choose",
    "check": "echotally.findings.check_model",
}


@pytest.fixture(autouse=True)
def _answered_once(monkeypatch: pytest.MonkeyPatch, answered: dict[str, Any]) -> None:
    for name, place in LONG.items():
        module, _, function = place.rpartition(".")
        monkeypatch.setattr(place, _once(name, getattr(import_module(module), function), answered))


@pytest.fixture(scope="module")
def answered() -> dict[str, Any]:
    return {}


def _once(name: str, ask: Callable[..., Any], answered: dict[str, Any]) -> Callable[..., Any]:
    def asked(*arguments: Any, **more: Any) -> Any:
        key = f"{name} {Path.cwd()} {arguments} { {k: v for k, v in more.items() if k != 'progress'} }"
        if key not in answered:
            answered[key] = ask(*arguments, **more)
        return answered[key]

    return asked


@pytest.fixture
def say(folder: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> Callable[..., str]:
    """What the program prints for a line of arguments."""

    def run(line: str, *more: str) -> str:
        monkeypatch.chdir(folder)
        code = exit_code(cli, [*line.split(), *more])
        out = capsys.readouterr()
        assert code == 0, out.err
        return out.out

    return run


@pytest.mark.parametrize("name", COMMANDS)
def test_the_verdict_comes_first(say: Callable[..., str], name: str) -> None:
    line, verdict, _ = COMMANDS[name]
    assert re.match(verdict, say(line).splitlines()[0]), say(line)[:200]


@pytest.mark.parametrize("width", [60, 100, 160])
@pytest.mark.parametrize("name", [n for n in COMMANDS if n not in ("fit", "check", "values", "card-check")])
def test_tables_stay_inside_the_width(say: Callable[..., str], name: str, width: int) -> None:
    too_long = [line for line in say(COMMANDS[name][0], "--width", str(width)).splitlines() if len(line) > width]
    assert too_long == []


@pytest.mark.parametrize("name", [n for n in COMMANDS if n != "firings"])
def test_json_names_its_schema_and_is_the_same_twice(say: Callable[..., str], name: str) -> None:
    first, again = (say(COMMANDS[name][0], "--format", "json") for _ in range(2))
    assert json.loads(first)["schema"].startswith("echotally-") and first == again


@pytest.mark.parametrize("name", [n for n, (_, _, rows) in COMMANDS.items() if rows])
def test_csv_has_the_rows_of_the_json(say: Callable[..., str], name: str) -> None:
    line, _, rows = COMMANDS[name]
    data = json.loads(say(line, "--format", "json"))[rows]
    found = list(csv.DictReader(io.StringIO(say(line, "--format", "csv"))))
    assert len(found) == len(data) > 0
    # Whole numbers are whole in every form.
    for name in (key for key, value in data[0].items() if isinstance(value, int) and not isinstance(value, bool)):
        assert all(row[name] == "" or "." not in row[name] for row in found), name
    # Names may hold points themselves: a swept address is one column.
    assert set(data[0]) <= {key.split(".")[0] for key in found[0]} | set(found[0])


@pytest.mark.parametrize("name", [n for n, (_, _, rows) in COMMANDS.items() if rows])
def test_markdown_rows_have_as_many_cells_as_their_heading(say: Callable[..., str], name: str) -> None:
    lines = [line for line in say(COMMANDS[name][0], "--format", "markdown").splitlines() if line.startswith("|")]
    tables = re.split(r"^\| (?:---)", "\n".join(lines), flags=re.M)
    assert len(tables) >= 2 and all(line.endswith("|") for line in lines)


@pytest.mark.parametrize(
    ("name", "more"),
    [
        ("forecast", ["--chart", "fan"]),
        ("forecast", ["--chart", "tornado"]),
        ("reconcile", []),
        ("compare", []),
        ("fit", []),
        ("load", []),
        ("drain", []),
        ("crossover", []),
        ("choose", []),
        ("sweep", []),
        ("demand", []),
    ],
    ids=lambda value: value if isinstance(value, str) else "-".join(value[1:]) or "chart",
)
def test_charts_are_pictures_of_1280_by_800(say: Callable[..., str], folder: Path, name: str, more: list[str]) -> None:
    say(COMMANDS[name][0], *more, "--plot", "chart.png")
    picture = (folder / "chart.png").read_bytes()
    assert picture[:4] == b"\x89PNG" and (int.from_bytes(picture[16:20]), int.from_bytes(picture[20:24])) == (1280, 800)
    say(COMMANDS[name][0], *more, "--plot", "chart.svg")
    text = (folder / "chart.svg").read_text()
    assert "<script" not in text and text.count("<text") > 5


def test_an_infeasible_estate_has_a_report_with_its_reasons(
    write: Callable[..., Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    write('[functions.f]\nmemory = "16 GB"\nrun = "1 s"\n[queues.q]\n[[triggers]]\nfrom = "queues.q"\nto = "f"\n')
    monkeypatch.chdir(tmp_path)
    assert exit_code(cli, ["report", "model.toml", "-o", "r.html"]) == 0
    page = (tmp_path / "r.html").read_text()
    assert "Cannot be used" in page and "16 GB" in page and "The bill on" not in page
