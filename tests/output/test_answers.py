"""How the program answers: exit codes for whatever goes wrong, progress on terminals only, what it writes and prints beside results."""

from __future__ import annotations

import io
import json
import re
import tomllib
from pathlib import Path

import click
import pytest
from click.testing import CliRunner

from echotally.cli.failing import exit_code
from echotally.cli.main import COMMANDS, cli
from echotally.cli.progress import progress_line
from echotally.errors import BadInput, OurFault, Problem
from echotally.files import write_whole
from echotally.model.loading import load_model as load


def ask(*arguments: str):
    """The program's answer, in this process."""
    return CliRunner().invoke(cli, arguments, standalone_mode=False, catch_exceptions=True)


def failing(error: BaseException) -> click.Command:
    @click.command()
    def command() -> None:
        raise error

    return command


# -- exit codes -----------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("error", "code", "said"),
    [
        (BadInput("the file is no model"), 2, "error: the file is no model"),
        (OurFault("sums do not hold"), 1, "our own fault, please report it: sums do not hold"),
        (KeyboardInterrupt(), 130, "Interrupted; nothing half done was kept."),
        (click.Abort(), 130, "Interrupted"),
        (click.UsageError("no such option"), 2, "no such option"),
        (click.exceptions.Exit(3), 3, ""),
        (MemoryError(), 2, "needs more memory than there is"),
        (ZeroDivisionError("x"), 1, "our own fault, please report it: ZeroDivisionError: x"),
    ],
    ids=lambda value: type(value).__name__ if isinstance(value, BaseException) else "",
)
def test_each_way_to_fail_has_its_code_and_one_message(error, code, said, capsys, monkeypatch):
    monkeypatch.delenv("ECHOTALLY_DEBUG", raising=False)
    assert exit_code(failing(error), []) == code
    out = capsys.readouterr()
    assert said in out.err and out.out == "" and "Traceback" not in out.err


def test_debugging_shows_where_our_fault_is(monkeypatch):
    monkeypatch.setenv("ECHOTALLY_DEBUG", "1")
    with pytest.raises(ZeroDivisionError):
        exit_code(failing(ZeroDivisionError("x")), [])


def test_many_problems_are_cut_and_all_are_counted(capsys):
    problems = [Problem(f"mistake {n}", file="m.toml", line=n) for n in range(1, 71)]
    assert exit_code(failing(BadInput(problems)), []) == 2
    lines = capsys.readouterr().err.splitlines()
    assert len(lines) == 52 and lines[-2:] == ["... and 20 more", "70 errors"]
    assert lines[0] == "error: m.toml:1: mistake 1"


def test_the_overview_lists_every_command_in_the_order_of_work():
    text = ask("--help").output
    places = [text.index(f"\n  {name} ") for name in COMMANDS]
    assert places == sorted(places)


@pytest.mark.parametrize(
    ("typed", "meant"),
    [("projekt", "project"), ("forcast", "forecast"), ("reconsile", "reconcile"), ("swep", "sweep"), ("xyzzy", None)],
)
def test_a_mistyped_command_is_told_the_nearest(typed, meant):
    error = ask(typed).exception
    assert isinstance(error, click.UsageError) and f"there is no command '{typed}'" in str(error)
    assert (f"did you mean '{meant}'?" in str(error)) == (meant is not None)


def test_the_version_is_that_of_the_package():
    from importlib.metadata import version

    assert ask("--version").output == f"echotally {version('echotally')}\n"


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("project river.toml --chart hours", "--chart has no effect without --plot"),
        ("project river.toml --workers 2", "--workers has no effect without --replications"),
        ("project river.toml --explain map --format json", "--explain has no effect but in the table"),
        (
            "project river.toml --by function --format focus",
            "--by splits FOCUS rows by day only: they name function, environment and tags anyway",
        ),
        ("forecast river.toml --chart tornado", "--chart has no effect without --plot"),
        ("check river.toml --defaults --strict", "--strict has no effect with --defaults"),
        ("fit logs/look.csv --metric requests", "--metric has no effect without --trace"),
        ("fit m.prom --trace t.csv --step 5min", "--step has no effect without --url"),
        ("fit m.prom --trace t.csv --write", "--write has no effect with --trace"),
        ("firings river.toml --timezone UTC", "--timezone has no effect on a model, which says its own"),
        ("firings river.toml --late 5min", "--late has no effect without --log"),
        ("firings river.toml --log logs/look.csv --ics f.ics", "--ics has no effect with --log"),
        ("firings @daily --set functions.map.memory=1GB", "--set has no effect on an expression"),
    ],
)
def test_an_option_that_would_have_no_effect_is_refused(river, monkeypatch, line, said):
    monkeypatch.chdir(river.parent)
    error = ask(*line.split()).exception
    assert isinstance(error, click.UsageError) and str(error) == said


def test_firings_of_a_model_are_listed_after_the_time_asked_for(river, monkeypatch):
    monkeypatch.chdir(river.parent)
    # The clock in Dublin goes from 01:00 to 02:00 on 28 March; a firing at the very time asked for is not listed.
    listed = ask("firings", "river.toml", "--from", "2027-03-27T01:30", "--count", "3", "--format", "csv").output
    local = [row.split(",")[-2] for row in listed.splitlines()[1:]]
    assert local == ["2027-03-28T02:00:00+01:00", "2027-03-29T01:30:00+01:00", "2027-03-30T01:30:00+01:00"]


CLIENTS = """
[functions.f]
memory = "512 MB"
run = "100 ms"
cold_start = "2 s"
instance_limit = 1
[endpoints.e]
[demand.d]
into = "endpoints.e"
clients = 30
think = "10 min"
[[triggers]]
from = "endpoints.e"
to = "f"
"""


def test_counts_of_events_say_that_clients_are_not_among_them(write, monkeypatch, tmp_path):
    write(CLIENTS)
    monkeypatch.chdir(tmp_path)
    assert "besides the requests of 30 clients." in ask("check", "model.toml").output
    assert (
        "without the requests of clients"
        in ask("crossover", "model.toml", "--scale", "0.5..2", "--workers", "1").output
    )


def test_a_trial_that_refusals_used_up_says_so_and_a_longer_one_does_not(write, monkeypatch, tmp_path):
    # Nineteen of twenty clients are refused and ask again after 1 ms: 1,000 calls are gone within the 2 s of cold start.
    write(CLIENTS)
    monkeypatch.chdir(tmp_path)
    trial = ("load", "model.toml", "--function", "f", "--clients", "20", "--calls")
    first, used_up = ask(*trial, "1000").output, "refusals used up --calls within"
    assert "answered nothing: " in first and used_up in first and "at most 0.0 calls" not in first
    assert used_up not in ask(*trial, "60000").output
    both = ask(*trial[:-1], "--limit", "1,20", "--calls", "1000").output
    assert "answers at most" in both and f"Where nothing was answered, {used_up}" in both


def test_a_forecast_without_ranges_says_so_instead_of_a_spread_of_nothing(write, monkeypatch, tmp_path):
    write(CLIENTS.replace('clients = 30\nthink = "10 min"', 'rate = "1 /min"'))
    monkeypatch.chdir(tmp_path)
    first = ask("forecast", "model.toml", "--months", "2", "--draws", "20").output.splitlines()[0]
    assert first.endswith("(no input has a range).") and "eight of ten" not in first


def test_replications_play_every_event_where_that_is_asked_for(write, monkeypatch):
    from echotally import load, replicate

    loaded = load(write(CLIENTS.replace('clients = 30\nthink = "10 min"', 'rate = "1 /min"')))
    monkeypatch.setattr("echotally.projection.project.wants_sampling", lambda *_: True)
    assert [replicate(loaded, 2, exact=exact).first.plans[0].method for exact in (False, True)] == ["sampled", "exact"]


# -- progress -------------------------------------------------------------------------------------------------------
class Terminal(io.StringIO):
    def isatty(self) -> bool:
        return True


def times(monkeypatch, *moments: float) -> None:
    """Let the clock show these moments, one a look."""
    left = iter(moments)
    monkeypatch.setattr("echotally.cli.progress.time.monotonic", lambda: next(left))


def test_progress_says_how_much_is_done_and_how_long_is_left(monkeypatch):
    screen = Terminal()
    monkeypatch.setattr("sys.stderr", screen)
    # A quarter in ten seconds leaves thirty; a look half a second later is too soon to be shown.
    times(monkeypatch, 100.0, 110.0, 110.2, 120.0)
    with progress_line() as tell:
        for done in (0.01, 0.25, 0.26, 0.5):
            tell("Playing", done)
    shown = [part for part in screen.getvalue().split("\r\x1b[2K") if part]
    assert shown == ["Playing:  25%, about 30 s left", "Playing:  50%, about 20 s left"]
    assert screen.getvalue().endswith("\r\x1b[2K")


def test_short_work_and_pipes_show_no_progress(monkeypatch):
    screen = Terminal()
    monkeypatch.setattr("sys.stderr", screen)
    times(monkeypatch, 100.0, 100.4, 100.9)
    with progress_line() as tell:
        for done in (0.1, 0.5, 0.9):
            tell("Playing", done)
    assert screen.getvalue() == ""
    monkeypatch.setattr("sys.stderr", io.StringIO())
    with progress_line() as tell:
        assert tell is None


# -- what is written ------------------------------------------------------------------------------------------------
def test_start_writes_a_model_that_checks_and_never_replaces_what_was_changed(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    assert ask("start", "mine").exit_code == 0
    files = {path: path.read_bytes() for path in sorted(Path("mine").rglob("*")) if path.is_file()}
    models = [path for path in files if path.suffix == ".toml"]
    assert len(models) == 2 and all(
        tomllib.loads(files[path].decode())["schema"].startswith("echotally-") for path in models
    )
    assert ask("check", "mine/model.toml").exception is None
    assert ask("start", "mine").exception is None
    mine = files[Path("mine/model.toml")].replace(b'"256 MB"', b'"512 MB"')
    Path("mine/model.toml").write_bytes(mine)
    again = ask("start", "mine")
    assert isinstance(again.exception, BadInput) and "mine/model.toml: is already there and differs" in str(
        again.exception
    )
    assert {path: path.read_bytes() for path in files} == {**files, Path("mine/model.toml"): mine}


def test_every_setting_the_starter_offers_in_a_comment_can_be_taken_up(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    ask("start", "mine")
    model, lines = Path("mine/model.toml"), Path("mine/model.toml").read_text().splitlines()
    offered = [n for n, line in enumerate(lines) if re.match(r"# [a-z_]+ = ", line)]
    assert len(offered) >= 5
    for n in offered:
        taken = [line.removeprefix("# ") if k == n else line for k, line in enumerate(lines)]
        more = ["[queues.parked]"] if "queues.parked" in lines[n] else []
        model.write_text("\n".join([*taken, *more]))
        load(model)
    # The last of them through the program as well.
    assert ask("check", "mine/model.toml").exception is None


@pytest.mark.parametrize("what", ["model", "rates"])
def test_schemas_can_be_printed_and_written(what, tmp_path):
    printed = ask("schema", what).output
    assert ask("schema", what, "-o", str(tmp_path / "s.json")).exit_code == 0
    assert (tmp_path / "s.json").read_text() == printed
    assert json.loads(printed)["$schema"].startswith("https://json-schema.org/")


def test_a_file_appears_whole_or_not_at_all(tmp_path):
    target = tmp_path / "out.csv"
    write_whole(target, b"first")
    with pytest.raises(BadInput, match="cannot be written"):
        write_whole(tmp_path / "missing" / "out.csv", b"second")
    assert target.read_bytes() == b"first" and [path.name for path in tmp_path.iterdir()] == ["out.csv"]


# -- findings -------------------------------------------------------------------------------------------------------
def test_findings_say_the_same_in_text_json_and_sarif(river, monkeypatch):
    monkeypatch.chdir(river.parent)
    data = json.loads(ask("check", "river.toml", "--format", "json").output)
    log = json.loads(ask("check", "river.toml", "--format", "sarif").output)
    text = ask("check", "river.toml").output
    found = [(f["code"], f["address"]) for f in data["findings"]]
    results = log["runs"][0]["results"]
    assert [(r["ruleId"], r["locations"][0]["logicalLocations"][0]["fullyQualifiedName"]) for r in results] == found
    assert all(code in text and address in text for code, address in found)
    rules = {rule["id"] for rule in log["runs"][0]["tool"]["driver"]["rules"]}
    assert {code for code, _ in found} <= rules
    # A change to try is typed as it is shown.
    for finding in data["findings"]:
        for change in finding["set"]:
            assert change.partition("=")[0] in text


def test_defaults_in_force_name_every_key_left_out(river, monkeypatch):
    monkeypatch.chdir(river.parent)
    text = ask("check", "river.toml", "--defaults").output
    for key in ("timeout", "slots", "cpu_share", "retention", "visibility", "batch_wait", "log_bytes", "on_failure"):
        assert key in text, key
