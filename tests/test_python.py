"""The Python interface as a notebook meets it: models from anywhere, results that show themselves, keep and travel."""

from __future__ import annotations

import json
import pickle
import re
import subprocess
import sys
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import echotally
from echotally.errors import BadInput
from tests.conftest import rest_by_night

ROOT = Path(__file__).parents[1]
PLANS = ["heron.shared", "osier.fixed"]


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    from echotally.output.projection.projection_json import projection_json
    from tests.small_river import write_small_river

    place = tmp_path_factory.mktemp("python")
    write_small_river(place)
    for name in ("one.json", "two.json"):
        (place / name).write_text(projection_json(echotally.project(place / "river.toml", plans=PLANS[:1])))
    return place


@pytest.fixture(autouse=True)
def _here(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(folder)


#: The demo's model in every form it may be handed over in.
FORMS: dict[str, Callable[[], Any]] = {
    "path": lambda: Path("river.toml"),
    "text of a path": lambda: "river.toml",
    "text": lambda: Path("river.toml").read_text(),
    "data": lambda: tomllib.loads(Path("river.toml").read_text()),
    "loaded": lambda: echotally.load("river.toml"),
    "built": lambda: echotally.load("river.toml").model,
}


@pytest.mark.parametrize("form", FORMS)
def test_a_model_may_come_as_file_text_data_or_built(form: str) -> None:
    wanted = echotally.project("river.toml", plans=PLANS)
    found = echotally.project(FORMS[form](), plans=PLANS)
    assert [p.bill.total for p in found.played] == [p.bill.total for p in wanted.played]
    assert found.to_frame().equals(wanted.to_frame())


@pytest.mark.parametrize("form", rest_by_night([form for form in FORMS if form != "built"], 2))
def test_studies_take_the_same_forms_also_in_processes_of_their_own(form: str) -> None:
    vary = ["functions.map.instance_limit=5,6,7,8"]
    wanted = echotally.sweep("river.toml", vary, plans=PLANS[:1], workers=1)
    assert echotally.sweep(FORMS[form](), vary, plans=PLANS[:1], workers=2).rows == wanted.rows


def test_what_was_loaded_with_changes_keeps_them_and_takes_more() -> None:
    first = echotally.load("river.toml", [("functions.map.instance_limit", "5")])
    both = echotally.load(first, [("functions.map.memory", "1 GB")])
    assert (both.model.functions["map"].instance_limit, both.model.functions["map"].memory) == (5, 1_024)
    rows = echotally.sweep(first, ["functions.map.memory=512 MB,1 GB"], plans=PLANS[:1], workers=1).rows
    again = echotally.sweep("river.toml", ["functions.map.memory=512 MB,1 GB"], [("functions.map.instance_limit", "5")],
                            PLANS[:1], workers=1).rows  # fmt: skip
    assert rows == again
    assert {f.rule.code for f in echotally.check_model(first).findings} == {
        f.rule.code for f in echotally.check_model("river.toml", [("functions.map.instance_limit", "5")]).findings
    }


@pytest.mark.parametrize(
    ("given", "told"),
    [
        (
            {"schema": "echotally-model/1", "functions": {"f": {"memory": object()}}},
            "functions.f.memory: is no value of a model",
        ),
        ("[estate\n", "the text given: is not TOML"),
        ({"schema": "echotally-model/1", "estate": {}}, "estate.name: is required and missing"),
    ],
)
def test_data_and_text_with_mistakes_are_refused_as_files_are(given: Any, told: str) -> None:
    with pytest.raises(BadInput, match=re.escape(told)):
        echotally.load(given)


def test_a_built_model_cannot_be_changed_by_address() -> None:
    model = echotally.load("river.toml").model
    with pytest.raises(BadInput, match="model_copy"):
        echotally.load(model, [("estate.seed", "3")])
    other = model.model_copy(update={"estate": model.estate.model_copy(update={"seed": 3})})
    assert echotally.project(other, plans=PLANS[:1]).seed == 3


RESULTS: dict[str, Callable[[], Any]] = {
    "load": lambda: echotally.load("river.toml"),
    "project": lambda: echotally.project("river.toml", plans=PLANS),
    "plan": lambda: echotally.project("river.toml", plans=PLANS).plans[0],
    "refused": lambda: echotally.project("river.toml", [("functions.map.memory", "100 GB")], PLANS[:1]).plans[0],
    "check": lambda: echotally.check_model("river.toml"),
    "replicate": lambda: echotally.replicate("river.toml", 2, PLANS[:1]),
    "sweep": lambda: echotally.sweep("river.toml", ["functions.map.instance_limit=5,6"], plans=PLANS, workers=1),
    "drain": lambda: echotally.drain("river.toml", "sms", 50, plans=PLANS[:1]),
    "load trial": lambda: echotally.load_trial("river.toml", "map", [1], calls=50, plan=PLANS[0]),
    "crossover": lambda: echotally.crossover("river.toml", 0.9, 1.1, plans=PLANS, workers=1),
    "forecast": lambda: echotally.forecast("river.toml", months=1, draws=10, plans=PLANS[:1]),
    "follow": lambda: echotally.follow("river.toml", echotally.Which(happened="dead-letter"), "heron.per-run"),
    "fit": lambda: echotally.fit("logs/look.csv", loaded=echotally.load("river.toml"), plan=PLANS[0]),
    "reconcile": lambda: echotally.reconcile(echotally.project("river.toml", plans=PLANS), "logs/bill.csv", plan=PLANS[0]),
    "survey": lambda: echotally.survey("logs/look.csv"),
    "compare": lambda: echotally.compare("one.json", "two.json"),
    "cards": lambda: echotally.compare_cards("rates/heron.toml", Path("rates/heron.toml"), "river.toml"),
    "firings": lambda: echotally.check_firings("river.toml", "nightly-charts", ["logs/look.csv"], [("time", "time")]),
}  # fmt: skip


@pytest.mark.parametrize("name", RESULTS)
def test_a_result_shows_itself_in_a_few_lines_and_comes_back_from_a_pickle(name: str) -> None:
    answer = RESULTS[name]()
    shown = repr(answer)
    assert shown.startswith(type(answer).__name__) and 1 < len(shown.splitlines()) <= 9 and len(shown) < 1_500
    assert repr(pickle.loads(pickle.dumps(answer))) == shown
    markdown, html = answer._repr_markdown_(), answer._repr_html_()
    assert markdown.startswith("**") and html.startswith("<div><p><strong>") and html.count("<table") <= 1


def test_names_of_a_model_act_neither_on_a_terminal_nor_on_a_page() -> None:
    bad = "<script>x</script>\x1b[31m|*"
    found = echotally.project("river.toml", [("estate.name", f'"{bad}"'.replace("\x1b", "\\u001b"))], PLANS[:1])
    assert "\x1b" not in repr(found) and "\\u001b" in repr(found)
    plan = found.plans[0]
    assert "<script>" not in echotally.load("river.toml")._repr_html_() + plan._repr_html_() + found._repr_html_()


@pytest.mark.parametrize("level", ["plans", "functions", "bill", "series", "attempts"])
def test_each_level_has_its_frame(level: str) -> None:
    month = echotally.project("river.toml", plans=PLANS)
    frame = month.to_frame(level)
    assert len(frame) > 0
    if level == "attempts":
        assert month.best is not None and len(frame) == month.best.totals.attempts["total"]
    if level == "plans":
        assert frame["plan"].tolist() == PLANS


def test_an_exception_has_facts() -> None:
    with pytest.raises(echotally.BadInput) as caught:
        echotally.load("river.toml", [("functions.map.memory", "lots"), ("functions.map.timeout", "0 s")])
    facts = [(p.file, p.address, p.value) for p in caught.value.problems]
    assert ("--set", "functions.map.memory", '"lots"') in facts and len(facts) == 2
    assert pickle.loads(pickle.dumps(caught.value)).problems == caught.value.problems


def test_type_checkers_see_it_all(tmp_path: Path) -> None:
    """The examples of the docs as a user's file: their checker finds every name, every type, and no mistake."""
    blocks = "\n".join(re.findall(r"```python\n(.*?)```", (ROOT / "docs/api.md").read_text(), re.S))
    (tmp_path / "examples.py").write_text(blocks + "\nreveal_type(month.pick)\nreveal_type(month.best)\n")
    command = [
        sys.executable,
        "-m",
        "mypy",
        "--strict",
        "--no-error-summary",
        "--cache-dir",
        str(tmp_path / "cache"),
        "examples.py",
    ]
    done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=False)
    assert (done.returncode, [line for line in done.stdout.splitlines() if "error" in line]) == (0, []), done.stdout
    # A newer checker writes "str | None", an older one "Union[str, None]".
    assert re.search(r"str.*None", done.stdout) and "PlayedPlan" in done.stdout


def test_the_notebook_is_what_its_cells_show_now(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.syspath_prepend(str(ROOT / "scripts"))
    import notebook

    kept = json.loads((ROOT / "docs/notebook.ipynb").read_text())
    assert json.loads(notebook.made()) == kept, "run scripts/notebook.py"
    # Every cell of code shows something, but the first.
    assert all(cell["outputs"] for cell in kept["cells"][2:] if cell["cell_type"] == "code")
