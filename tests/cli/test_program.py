"""The program as a stranger meets it: help, examples, README, pipes, files, odd terminals."""

from __future__ import annotations

import json
import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import click
import pandas as pd
import pytest

import echotally
from echotally.cli.main import COMMANDS, cli
from echotally.errors import safe
from echotally.output.base.terminal import Column, rendered, seconds, share, table
from tests.conftest import run_process, run_program

ROOT = Path(__file__).parents[2]


def commands() -> list[tuple[str, click.Command]]:
    """Every command and subcommand, by what is typed."""
    context = click.Context(cli)
    found = []
    for name in COMMANDS:
        command = cli.get_command(context, name)
        assert command is not None
        found.append((name, command))
        if isinstance(command, click.Group):
            found += [(f"{name} {sub}", command.commands[sub]) for sub in command.commands]
    return found


@pytest.mark.parametrize(("name", "command"), commands(), ids=[name for name, _ in commands()])
def test_every_command_has_help_an_example_and_help_for_every_option(name, command):
    assert command.help and command.epilog and command.epilog.startswith("Example")
    for option in command.params:
        if isinstance(option, click.Option):
            assert option.help, option.name
    docs = "".join(path.read_text() for path in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")))
    assert f"echotally {name.split()[0]}" in docs


@pytest.fixture(scope="module")
def folder(tmp_path_factory) -> Path:
    """A folder with the demo in it, as the README's first command leaves it, and the files that examples make and use."""
    from echotally.demo import write_example
    from echotally.evidence.run_log import run_log
    from echotally.output.base.exports import csv_text
    from echotally.output.projection.projection_json import projection_json
    from echotally.projection.loaded import load

    place = tmp_path_factory.mktemp("stranger")
    river = place / "river-watch/river.toml"
    write_example("river-watch", place / "river-watch")
    # A small part of the demo by day, so that every line runs; `scripts/nightly` runs them on the whole of it.
    if not os.environ.get("WHOLE_DEMO"):
        whole = river.read_text()
        river.write_text(
            whole.replace("[environments.live]\n", "[environments.live]\ndemand = 0.05\n").replace(
                "items = 60", "items = 3"
            )
        )
    for name, sets in (("before.json", ()), ("after.json", (("demand.cameras.rate", "48 /h"),))):
        (place / name).write_text(projection_json(echotally.project(river, sets, plans=["heron.shared"])))
    run_program(*SO_FAR.split(), cwd=place)
    card = (place / "river-watch/rates/heron.toml").read_text().replace("0.0042", "0.0062")
    card = card.replace("effective = 2027-01-01", "effective = 2027-05-01")
    for name in ("river-watch/rates/heron-new.toml", "heron-april.toml"):
        (place / name).write_text(card)
    log = pd.concat(run_log(load(river), "heron.shared"))
    (place / "runs.csv").write_text(csv_text(log))
    (place / "requests.prom").write_text(
        "".join(f"requests_total {k * 90} {1_803_859_200_000 + k * 3_600_000}\n" for k in range(40))
    )
    return place


#: The bill so far of an example.
SO_FAR = "project river-watch/river.toml --plan heron.shared --format focus --by day --until 2027-03-12 -o so-far.csv"


def examples() -> list[str]:
    """Every distinct example line of the README, the docs and the helps, comments cut off."""
    pages = (ROOT / "README.md", *(ROOT / "docs").glob("*.md"))
    text = "".join(path.read_text() for path in pages if path.name not in ("commands.md", "from-logs-to-a-model.md"))
    lines = [line.split("   #")[0].strip() for line in re.findall(r"^echotally .*$", text, re.M)]
    for _, command in commands():
        lines += [part.strip() for part in (command.epilog or "").split(":", 1)[1].split("   |   ")]
    slow = (
        "demo",
        "choose",
        "crossover",
        "start",
        "check my-estate",
        "project my-estate",
        "forecast river-watch/river.toml --months 12 --plot",
    )
    kept = {line for line in lines if "--commitment" in line or not line.removeprefix("echotally ").startswith(slow)}
    return sorted(kept)


#: Lines that take long, and of which another with the same command runs by day, or a test of its own.
BY_NIGHT = re.compile(
    r"--commitment|--edges|month\.xlsx|--slots 1,2,4|check .* --chart map|check .*--format sarif|forecast .*--months (6|12|3 --plan)|report \S+ -o|--metrics .* -o surveyed|--replications 8"
    r"|rates compare .* heron-april|--within|memory=3584 MB|check .*--plot worth|firings .*--plot calendar"
    r"|survey .* -o surveyed|measure --serve|live\.demand=0\.1 --log|forecast .*--months 3|--chart landing|--chart dashboard|^echotally firings river-watch/river\.toml$"
)


@pytest.mark.parametrize(
    "line", [pytest.param(line, marks=pytest.mark.nightly if BY_NIGHT.search(line) else ()) for line in examples()]
)
def test_every_example_of_the_docs_and_helps_runs_on_the_demo(line, folder, monkeypatch, capsys):
    from echotally.cli.failing import exit_code

    monkeypatch.chdir(folder)
    code = exit_code(cli, shlex.split(line)[1:])
    # A budget that a change breaks closes the gate.
    assert code == (3 if "--gate" in line else 0), capsys.readouterr().err


@pytest.mark.parametrize("page", ["README.md", "docs/api.md"])
def test_the_python_of_the_docs_runs(page, folder, monkeypatch, capsys):
    monkeypatch.chdir(folder)
    code = "\n".join(re.findall(r"```python\n(.*?)```", (ROOT / page).read_text(), re.S))
    exec(code, {})
    assert "heron.shared" in capsys.readouterr().out


def test_the_readmes_own_estate_begins_with_start(folder):
    for line in ("start my-estate", "check my-estate/model.toml", "project my-estate/model.toml"):
        assert run_program(*line.split(), cwd=folder).returncode == 0


def test_every_name_of_the_python_interface_is_there_and_documented():
    for name in echotally.__all__:
        assert getattr(echotally, name).__doc__, name
    with pytest.raises(AttributeError):
        _ = echotally.nothing


@pytest.mark.parametrize("unbuffered", [{"PYTHONUNBUFFERED": ""}, {"PYTHONUNBUFFERED": "1"}], ids=["whole", "at once"])
def test_a_reader_that_leaves_early_is_no_error(folder, unbuffered):
    command = (
        f"{sys.executable} -m echotally project river-watch/river.toml --plan osier.fixed --format json | head -c 10"
    )
    done = subprocess.run(
        ["bash", "-o", "pipefail", "-c", command],
        cwd=folder, capture_output=True, text=True, timeout=120, check=False, env=os.environ | unbuffered,
    )  # fmt: skip
    assert (done.returncode, done.stderr) == (0, "")


@pytest.mark.parametrize("option", ["-o", "--series", "--plot"])
def test_a_file_that_cannot_be_written_is_named_and_nothing_is_left(option, folder):
    command = "demand" if option == "--plot" else "project"
    name = {"-o": "no/such/x.json", "--series": "no/such/x.csv", "--plot": "no/such/x.png"}[option]
    done = run_program(command, "river-watch/river.toml", option, name, cwd=folder)
    assert done.returncode == 2
    assert f"{name}: cannot be written" in done.stderr
    assert not (folder / "no").exists()


def test_an_old_file_stays_whole_where_the_new_one_fails(folder):
    (folder / "keep.json").write_text("old")
    done = run_program(
        "project", "river-watch/river.toml", "--set", "functions.map.memory=0 MB", "-o", "keep.json", cwd=folder
    )
    assert done.returncode == 2
    assert (folder / "keep.json").read_text() == "old"


def test_colour_only_where_it_is_wanted(folder):
    done = run_process("rates", "show", "river-watch/rates/heron.toml", cwd=folder)
    assert "\x1b[" not in done.stdout


HOSTILE = '[functions."<b>x\\u202e"]\nmemory = "128 MB"\nrun = "1 ms"\n[endpoints."../../e"]\n[demand.d]\ninto = "endpoints.../../e"\nrate = "1 /h"\n[[triggers]]\nfrom = "endpoints.../../e"\nto = "<b>x\\u202e"\n'


def test_hostile_names_are_shown_inert(write, tmp_path):
    write(HOSTILE)
    done = run_program("project", "model.toml", "--by", "function", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "\u202e" not in done.stdout
    assert "\\u202e" in done.stdout
    assert sorted(p.name for p in tmp_path.iterdir()) == ["card.toml", "model.toml"]


@pytest.mark.parametrize("text", ["x\x1b[31m", "a\u202eb", "\x07"])
def test_control_and_direction_marks_become_visible(text):
    assert all(c.isprintable() for c in safe(text))


@pytest.mark.parametrize(
    ("shown", "text"),
    [
        (seconds(None), "–"), (seconds(1.23456), "1.235"), (seconds(123.456), "123.5"), (share(0), "0"), (share(0.00123), "0.123"),
        (share(0.5), "50.0"), (share(None), "–"),
    ],
)  # fmt: skip
def test_numbers_are_short_and_keep_their_meaning(shown, text):
    assert shown == text


def test_numbers_stand_on_their_points_and_columns_leave_by_rank():
    columns = [Column("name", False), Column("amount"), Column("less needed", rank=2), Column("least needed", rank=3)]
    rows = [["a", "1.5", "1", "2"], ["b", "10.25", "1", "2"], ["c", "–", "1", "2"]]
    text = rendered([table("t", columns, rows, width=80)], 80, False)
    points = {line.index(".") for line in text.splitlines() if "." in line}
    assert len(points) == 1
    narrow = rendered([table("t", columns, rows, width=26)], 26, False)
    assert "Left out at this width" in narrow
    assert "amount" in narrow
    assert all(len(line) <= 26 for line in narrow.splitlines() if "Left out" not in line)


def test_a_long_list_of_mistakes_is_cut_and_counted(write, tmp_path):
    text = "".join(f'[functions.f{n}]\nmemory = "1 XB"\nrun = "1 ms"\n' for n in range(80))
    write(text + '[queues.q]\n[[triggers]]\nfrom = "queues.q"\nto = "f0"\n')
    done = run_program("check", "model.toml", cwd=tmp_path)
    assert done.returncode == 2
    assert done.stderr.splitlines()[-1] == "80 errors"
    assert "... and 30 more" in done.stderr


def test_json_is_json_whatever_the_names(write, tmp_path):
    write(HOSTILE)
    done = run_program("project", "model.toml", "--format", "json", cwd=tmp_path)
    assert json.loads(done.stdout)["plans"][0]["functions"][0]["function"] == "<b>x\u202e"


@pytest.mark.parametrize(
    ("words", "begins"),
    [
        ("-o out.json", "{"),
        ("-o out.csv", "code,"),
        ("-o out.md", "| code |"),
        ("-o out.txt", "Fenwater"),
        ("-o out.report", "Fenwater"),
        ("-o out.sarif", "{"),
        ("--format sarif -o out.json", "{"),
        ("--format csv -o out.data", "code,"),
    ],
)
def test_the_ending_of_a_file_decides_its_form(words, begins, river, tmp_path, monkeypatch):
    from echotally.cli.failing import exit_code

    monkeypatch.chdir(tmp_path)
    out = Path(words.split()[-1])
    assert exit_code(cli, ["check", str(river), "--plan", "heron.shared", *words.split()]) == 0
    text = out.read_text()
    out.unlink()
    assert text.startswith(begins)
    if begins == "{":
        assert ("runs" if "sarif" in words else "findings") in json.loads(text)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ("check river-watch/river.toml -o out.parquet", "does not write .parquet files; it writes .csv, .json, .md, .sarif, .txt"),
        ("rates show river-watch/rates/heron.toml -o out.html", "does not write .html files"),
        ("rates show river-watch/rates/heron.toml --format table -o out.json", "say different forms"),
        ("sweep river-watch/river.toml --vary estate.seed=1,2 --format json -o out.csv", "say different forms"),
    ],
)  # fmt: skip
def test_a_form_that_a_command_does_not_write_is_refused_before_anything_is_done(
    words, said, folder, monkeypatch, capsys
):
    from echotally.cli.failing import exit_code

    monkeypatch.chdir(folder)
    assert exit_code(cli, words.split()) == 2
    assert said in capsys.readouterr().err and not list(folder.glob("out.*"))
