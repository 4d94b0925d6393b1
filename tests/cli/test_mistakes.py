"""Mistakes that people make, and the answer each wants: what is wrong, where, and what says it."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import pytest

from echotally.cli.failing import exit_code
from echotally.cli.main import cli

M, CARD, BILL, LOG = "river.toml", "rates/heron.toml", "logs/bill.csv", "logs/look.csv"
#: What is typed, and what its one line of error must say.
MISTAKES = [
    # One kind of file for another.
    (f"project {CARD}", rf"{CARD}: is a rate card, and a model is wanted; 'echotally rates show {CARD}' takes it"),
    (f"check {CARD}", "is a rate card, and a model is wanted"),
    (f"rates show {M}", rf"{M}: is a model, and a rate card is wanted; 'echotally project {M}' takes it"),
    (f"rates check {BILL}", "is a bill with FOCUS columns, and"),
    (f"project {BILL}", rf"is a bill with FOCUS columns, and a model is wanted; 'echotally reconcile MODEL {BILL}'"),
    (f"project {LOG}", rf"is a log of runs, and a model is wanted; 'echotally fit {LOG}' takes it"),
    ("project month.json", "is a saved projection, and a model is wanted; 'echotally compare month.json LATER.json'"),
    ("report findings.json", "is the saved answer of a command, and a model is wanted"),
    ("sweep spans.json --vary a.b=1,2", "is spans in OTLP form, and a model is wanted; 'echotally survey spans.json"),
    ("demand requests.prom", "is metrics, and a model is wanted"),
    ("project page.html", "is a page, and a model is wanted"),
    ("project chart.png", "is a picture, and a model is wanted|is not a text file"),
    (f"fit {M}", rf"is a model, and a log of runs is wanted; 'echotally project {M}' takes it"),
    (f"fit {BILL}", "is a bill with FOCUS columns, and a log of runs is wanted"),
    (f"survey {CARD} -o made", "is a rate card, and a log of runs is wanted"),
    (f"reconcile {M} {CARD}", "is a rate card, and a bill with FOCUS columns is wanted"),
    (f"reconcile {M} {LOG}", "is a log of runs, and a bill with FOCUS columns is wanted"),
    (f"compare {M} month.json", "is a model, and a saved projection is wanted"),
    ("compare month.json findings.json", "is the saved answer of a command, and a saved projection is wanted"),
    ("project nowhere.toml", "nowhere.toml: cannot be read: No such file"),
    ("project rates", "rates: is no regular file but a folder"),
    # Options of other habits.
    (f"project {M} --json", "--json: there is no such option; --format json says it"),
    (f"sweep {M} --vary a=1 --csv", "--csv: there is no such option; --format csv says it"),
    (f"project {M} --output x.json", "--output: there is no such option; -o FILE says it"),
    (f"project {M} --month 2027-04", "--month: there is no such option; --set estate.month=2027-04 says it"),
    (f"project {M} --memory='1 GB'", "--memory: there is no such option; --set functions.NAME.memory=1 GB says it"),
    (f"check {M} --budget 40", "--budget: there is no such option; --set targets.monthly_cost=40 says it"),
    (f"project {M} --plans heron.shared", "--plans: there is no such option; --plan CARD.PLAN, once for each says it"),
    (f"sweep {M} --vary a=1 --jobs 4", "--jobs: there is no such option; --workers 4 says it"),
    (f"project {M} --no-color", "--no-color: there is no such option; --color never says it"),
    (f"project {M} --dry-run", "--dry-run: there is no such option; 'echotally check MODEL' says it"),
    (f"project {M} --explian intake", "--explian: there is no such option; did you mean --explain"),
    (f"follow {M} --slow", "--slow: there is no such option; did you mean --slowest"),
    (f"project {M} --zzz", "--zzz: there is no such option; 'echotally project --help' lists those there are"),
    (f"projct {M}", "there is no command 'projct'; did you mean 'project'"),
    # Names.
    (f"project {M} --plan heron.shard", r"no such plan on any rate card; did you mean heron\.shared\? \(found heron.shard"),
    (f"project {M} --plan shared", r"did you mean heron\.shared\?"),
    (f"project {M} --explain intak", r"--explain: there is no such function; did you mean intake\?"),
    (f"project {M} --explain intake@liv", r"--explain: there is no such environment"),
    (f"load {M} --function mapp --clients 1", r"--function: there is no such function; did you mean map\?"),
    (f"drain {M} --queue smms --backlog 9", r"--queue: there is no such queue; did you mean sms\?"),
    (f"project {M} --chart levels --function lok --plot x.png", r"--function: there is no such function; did you mean look\?"),
    (f"project {M} --set functions.map.memroy='1 GB'", r"functions\.map\.memroy: unknown key; did you mean memory\?"),
    (f"project {M} --set function.map.memory='1 GB'", r"function.*not in the file|unknown key"),
    (f"sweep {M} --vary functions.lok.memory='512 MB,1 GB'", "functions.lok is not in the file"),
    (f"project {M} --by teams", "--by: is not a way to split"),
    (f"firings {M} --log {LOG} --schedule nightly", "--schedule"),
    ("help unit", r"there is no such page of the manual; did you mean units\?"),
    ("schema modl", "'modl' is not one of 'model', 'rates'"),
    # Numbers and quantities.
    (f"project {M} --set functions.map.timeout=30", r"functions\.map\.timeout: needs a unit \(found 30\).*such as \"30 s\""),
    (f"project {M} --set functions.map.memory=100", r"needs a unit \(found 100\).*such as \"512 MB\""),
    (f"project {M} --set functions.map.timeout=0", "timeout: must be longer than nothing"),
    (f"drain {M} --queue sms --backlog many", "--backlog: is no whole number from 1 to 20,000,000, such as 10000, 10k or 1e4"),
    (f"drain {M} --queue sms --backlog 0", "--backlog: is no whole number from 1 to 20,000,000"),
    (f"project {M} --seed -1", "--seed: is no whole number from 0"),
    (f"project {M} --width 10", r"--width: is no whole number from 40 to 400 \(found 10\)"),
    (f"forecast {M} --months 2.5", r"--months: is no whole number from 1 to 120 \(found 2\.5\)"),
    (f"crossover {M} --scale 10", r"--scale: '10' is not LOW\.\.HIGH"),
    (f"project {M} --set functions.map.memory", "--set: 'functions.map.memory' is not ADDRESS=VALUE"),
    # Schedules: said once, with a line to paste.
    (f"project {M} --set 'schedules.nightly-charts.cron=61 * * * *'", r'bad minute field, 61 .*such as "59 \* \* \* \*"'),
    ("firings '0 24 * * *'", r'bad hour field, 24 .*such as "0 0 \* \* \*"'),
    ("firings '0 8 * * MONDAY'", r'bad day of week field, MONDAY .*such as "0 8 \* \* 1"'),
    ("firings '0 22-2 * * *'", r'reversed range .*such as "0 22-23,0-2 \* \* \*"'),
    ("firings '0 8 * *'", r'has 4 fields .*such as "0 8 \* \* \*"'),
    # Files out, options together, things left out.
    (f"project {M} -o month.docx", r"-o month\.docx: this command does not write \.docx files; it writes \.csv, \.json"),
    (f"report {M} -o report.pdf", r"a report is a page, and its name ends in \.html"),
    (f"project {M} --plot cost.pdf", r"--plot: is not a kind of picture \(found cost\.pdf\)\. Allowed: \.png or \.svg"),
    (f"project {M} --format csv -o x.json", "--format csv and -o x.json say different forms"),
    (f"project {M} --until 2027-03-10", "--until has no effect without --so-far"),
    (f"project {M} --so-far {BILL}", "--so-far needs --until"),
    ("project", "MODEL is missing; 'echotally project --help' tells how"),
    (f"sweep {M}", "--vary is missing; 'echotally sweep --help' tells how"),
    ("compare month.json", "SECOND is missing"),
    ("measure", "give a program, as in: echotally measure -- python answer.py, or --url"),
]  # fmt: skip


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    from echotally import project
    from echotally.output.projection.projection_json import projection_json
    from tests.small_river import write_small_river

    place = tmp_path_factory.mktemp("mistakes")
    write_small_river(place)
    (place / "month.json").write_text(projection_json(project(place / M, plans=["heron.shared"])))
    (place / "findings.json").write_text('{\n  "schema": "echotally-findings/1",\n  "findings": []\n}\n')
    (place / "spans.json").write_text('{"resourceSpans": []}')
    (place / "requests.prom").write_text("# TYPE requests counter\nrequests_total 5 1803859200000\n")
    (place / "page.html").write_text("<!DOCTYPE html><html></html>")
    (place / "chart.png").write_bytes(b"\x89PNG\r\n\x1a\n\xff\xfe")
    return place


def test_there_are_sixty_and_none_is_told_twice() -> None:
    assert len(MISTAKES) >= 60 and len({typed for typed, _ in MISTAKES}) == len(MISTAKES)


@pytest.mark.parametrize(("typed", "wanted"), MISTAKES, ids=[typed for typed, _ in MISTAKES])
def test_a_mistake_is_answered_in_one_line_that_says_what_to_do(
    typed: str, wanted: str, folder: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(folder)
    before = sorted(folder.rglob("*"))
    code = exit_code(cli, shlex.split(typed))
    told = capsys.readouterr()
    assert code == 2 and told.out == "", told.out[:200]
    (line,) = told.err.splitlines()
    assert line.startswith("error: ") and re.search(wanted, line), line
    assert sorted(folder.rglob("*")) == before


EQUAL = [
    # Several ways to type the same.
    (f"drain {M} --queue sms --backlog 2000 --plan heron.shared", f"drain {M} --queue queues.sms --backlog 2k --plan heron.shared"),
    (f"drain {M} --queue sms --backlog 1000 --plan heron.shared", f"drain {M} --queue sms --backlog 1e3 --plan heron.shared"),
    (f"drain {M} --queue sms --backlog 500 --limit 2,8 --plan heron.shared", f"drain {M} --queue sms --backlog 500 --limit 2 --limit 8 --plan heron.shared"),
    (f"load {M} --function map --clients 1,10 --calls 200 --plan heron.shared",
     f"load {M} --function functions.map --clients 1,1e1 --calls 200 --plan heron.shared"),
    (f"check {M} --defaults --set demand.cameras.rate='12 /h'", f"check {M} --defaults --set demand.cameras.rate='every 5 minutes'"),
    (f"check {M} --defaults --set functions.map.timeout='30 s'", f"check {M} --defaults --set functions.map.timeout='30 seconds'"),
    (f"check {M} --defaults --set functions.map.instance_limit=40", f"check {M} --defaults --set functions.map.instance_limit=4e1"),
    (f"rates show {CARD}", f"rates {CARD}"),
    (f"demand {M}", f"demand {M} -o -"),
]  # fmt: skip


@pytest.mark.parametrize(("one", "other"), EQUAL, ids=[other for _, other in EQUAL])
def test_the_same_said_otherwise_is_the_same(
    one: str, other: str, folder: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(folder)
    said = []
    for typed in (one, other):
        assert exit_code(cli, shlex.split(typed)) == 0
        said.append(capsys.readouterr().out)
    assert said[0] == said[1] != ""
