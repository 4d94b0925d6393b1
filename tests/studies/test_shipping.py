"""A model sent along with work: all that it reads, laid out as at home, and errors that name the files as at home."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from echotally.errors import BadInput
from echotally.projection.loaded import load
from echotally.projection.project import project_plan
from echotally.studies.shipping import Shipment
from tests.conftest import CARD, PRICES

MODEL = """
schema = "echotally-model/1"
[estate]
name = "sent"
month = "2027-03"
rate_cards = ["../rates/card.toml"]
[functions.f]
memory = "512 MB"
run = { samples = "data/runs.csv" }
[queues.q]
[demand.d]
into = "queues.q"
trace = "data/trace.csv"
repeat = true
[[triggers]]
from = "queues.q"
to = "f"
"""


@pytest.fixture
def home(tmp_path: Path) -> Path:
    for name, text in {
        "estate/model.toml": MODEL,
        "estate/data/runs.csv": "ms\n" + "\n".join(str(n * 37 % 900 + 20) for n in range(60)),
        "estate/data/trace.csv": "time,count\n2027-03-01T00:00,40\n2027-03-02T00:00,70\n",
        "estate/other.txt": "not the model's",
        "rates/card.toml": CARD.format(keys="", prices=PRICES),
    }.items():
        (tmp_path / "home" / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "home" / name).write_text(text)
    return tmp_path / "home"


def test_a_shipment_holds_what_the_model_reads_and_nothing_else(home):
    sent = Shipment.of(load(home / "estate" / "model.toml"))
    assert sent.model == "estate/model.toml"
    assert {name for name, _ in sent.files} == {
        "estate/model.toml", "estate/data/runs.csv", "estate/data/trace.csv", "rates/card.toml",
    }  # fmt: skip


def test_what_is_unpacked_plays_as_at_home_without_the_home(home):
    loaded = load(home / "estate" / "model.toml")
    here = project_plan(loaded, loaded.offers["test.plan"], 1)
    sent = Shipment.of(loaded)
    shutil.rmtree(home)
    with sent.unpacked() as path:
        there = load(path)
    assert project_plan(there, there.offers["test.plan"], 1).bill == here.bill


def test_an_error_there_names_the_file_as_it_is_at_home(home):
    sent = Shipment.of(load(home / "estate" / "model.toml"))
    with pytest.raises(BadInput) as told, sent.unpacked() as path:
        load(path, [("demand.d.trace", "data/none.csv")]).changed([("functions.f.memory", "-1 MB")])
    with pytest.raises(BadInput) as at_home:
        load(home / "estate" / "model.toml", [("demand.d.trace", "data/none.csv")])
    assert [p.file for p in told.value.problems] == [p.file for p in at_home.value.problems]


def test_two_shipments_are_told_apart_by_what_is_in_them(home):
    first = Shipment.of(load(home / "estate" / "model.toml"))
    again = Shipment.of(load(home / "estate" / "model.toml"))
    (home / "estate" / "data" / "runs.csv").write_text("ms\n5\n")
    other = Shipment.of(load(home / "estate" / "model.toml"))
    assert first.digest == again.digest != other.digest
