"""How much is said beside the answer, what need not be typed, what a shell completes, what the manual shows."""

from __future__ import annotations

import os
import pty
import re
import shlex
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest
from click.shell_completion import ShellComplete

from echotally.cli.failing import exit_code
from echotally.cli.main import COMMANDS, cli
from echotally.output.base.manual import PAGES

BIN = Path(sys.executable).parent


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    from tests.small_river import write_small_river

    place = tmp_path_factory.mktemp("sayings")
    write_small_river(place / "river")
    return place


@pytest.fixture
def say(folder: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]):  # type: ignore[no-untyped-def]
    monkeypatch.chdir(folder)

    def run(line: str) -> tuple[int, str, str]:
        code = exit_code(cli, shlex.split(line))
        told = capsys.readouterr()
        return code, told.out, told.err

    yield run
    (folder / "river/echotally.toml").unlink(missing_ok=True)


ONE = "project river/river.toml --plan heron.shared"
ONE_FUNCTION = (
    'schema = "echotally-model/1"\n[estate]\nname = "one"\nmonth = "2027-03"\nrate_cards = ["river/rates/heron.toml"]\n'
    '[functions.f]\nmemory = "256 MB"\nrun = "1 s"\n'
)


def test_verbose_says_what_is_read_and_played_and_quiet_nothing(say, folder) -> None:  # type: ignore[no-untyped-def]
    plain, loud = say(ONE), say(f"{ONE} --verbose")
    assert plain[:2] == loud[:2] and plain[2] == ""
    assert "read river/river.toml (" in loud[2] and re.search(
        r"played heron\.shared: every event of [\d,]+ events", loud[2]
    )
    assert len(loud[2].splitlines()) == len(set(loud[2].splitlines()))
    assert say(f"{ONE} --verbose --quiet")[2] == ""
    (folder / "one.toml").write_text(ONE_FUNCTION)
    report = "report one.toml -o r.html"
    assert say(report)[2] == "Written: r.html\n"
    assert say(f"{report} -q")[2] == ""


def test_colours_are_there_when_asked_for_and_gone_afterwards(say, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    monkeypatch.delenv("NO_COLOR", raising=False)
    assert "\x1b[1m" in say(f"{ONE} --color always")[1]
    assert "\x1b" not in say(f"{ONE} --color never")[1] + say(ONE)[1]
    assert "FORCE_COLOR" not in os.environ


@pytest.mark.parametrize(
    ("file", "environment", "typed", "width", "source"),
    [
        ("width = 90\n", {}, "", 90, "echotally.toml"),
        ("width = 60\n[project]\nwidth = 90\n", {}, "", 90, "echotally.toml"),
        ("width = 60\n", {"ECHOTALLY_WIDTH": "90"}, "", 90, "ECHOTALLY_WIDTH"),
        ("", {"ECHOTALLY_WIDTH": "60", "ECHOTALLY_PROJECT_WIDTH": "90"}, "", 90, "ECHOTALLY_PROJECT_WIDTH"),
        ("width = 60\n", {"ECHOTALLY_WIDTH": "70"}, "--width 90", 90, ""),
        ("[sweep]\nwidth = 60\n[project]\n", {}, "--width 90", 90, ""),
    ],
)
def test_the_nearest_word_counts(say, folder, monkeypatch, *, file, environment, typed, width, source) -> None:  # type: ignore[no-untyped-def]
    wanted = say(f"{ONE} --width {width}")[1]
    (folder / "river/echotally.toml").write_text(file)
    for name, value in environment.items():
        monkeypatch.setenv(name, value)
    code, out, told = say(f"{ONE} {typed}")
    assert (code, out) == (0, wanted)
    assert source in told


def test_what_was_set_beforehand_is_said_safely_and_not_to_the_quiet(say, folder, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    # A key of another command is no mistake of this one.
    (folder / "river/echotally.toml").write_text("draws = 50\nwidth = 90\n")
    assert "Set beforehand: width = 90" in say(ONE)[2]
    assert say(f"{ONE} --quiet")[2] == ""
    (folder / "river/echotally.toml").write_text('[project]\nset = ["estate.name=\\u001b[31mx"]\n')
    assert "\x1b" not in say(ONE)[2]


def test_several_and_flags_are_taken_from_a_file(say, folder) -> None:  # type: ignore[no-untyped-def]
    wanted = say("project river/river.toml --plan heron.shared --plan osier.fixed --all-meters --set estate.seed=4")[1]
    (folder / "river/echotally.toml").write_text(
        '[project]\nplan = ["heron.shared", "osier.fixed"]\nall-meters = true\nset = ["estate.seed=4"]\n'
    )
    assert say("project river/river.toml")[1] == wanted


@pytest.mark.parametrize(
    ("file", "told"),
    [
        (
            "[project]\nwidt = 9\n",
            r"river/echotally\.toml: project\.widt: there is no such option; did you mean width\?",
        ),
        ("[projct]\n", r"\[projct\]: there is no such command; did you mean project\?"),
        ("widht = 90\n", r"river/echotally\.toml: widht: there is no such option; did you mean width\?"),
        ("width = 9\n", r"river/echotally\.toml: width: is no whole number from 40 to 400 \(found 9\)"),
        ("width = \n", r"river/echotally\.toml: is not TOML"),
        ('[project]\nby = "nothing"\n', "--by: is not a way to split"),
    ],
)
def test_what_a_file_of_defaults_cannot_say_is_refused_by_its_place(say, folder, file, told) -> None:  # type: ignore[no-untyped-def]
    (folder / "river/echotally.toml").write_text(file)
    code, out, err = say(ONE)
    assert code == 2 and out == "" and re.search(told, err), err


# -- completion ---------------------------------------------------------------------------------------------------
COMPLETED = [
    ("project river/river.toml --plan heron.s", ["heron.shared"]),
    ("project river/river.toml --explain lat", ["latest", "latest@live", "latest@rehearsal"]),
    ("load river/river.toml --function se", ["send-sms", "send-mail"]),
    ("drain river/river.toml --queue ", ["sms", "mail", "parked"]),
    ("project river/river.toml --by tag:", ["tag:team"]),
    ("project river/river.toml --set functions.map.mem", ["functions.map.memory=", "functions.map.memory_used="]),
    ("project river/river.toml --set cards.heron.plans.shared.price.gb_s", ["cards.heron.plans.shared.price.gb_seconds.unit="]),
    ("firings x --timezone Europe/Dub", ["Europe/Dublin"]),
    ("proj", ["project"]),
    ("project river/river.toml --plan heron.shared --replic", ["--replications"]),
]  # fmt: skip


@pytest.mark.parametrize(("line", "wanted"), COMPLETED, ids=[line for line, _ in COMPLETED])
def test_names_of_the_model_are_completed(
    line: str, wanted: list[str], folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(folder)
    *before, last = line.split(" ")
    found = ShellComplete(cli, {}, "echotally", "_ECHOTALLY_COMPLETE").get_completions([w for w in before if w], last)
    assert [item.value for item in found] == wanted


def test_a_model_that_cannot_be_read_completes_nothing_and_says_nothing(tmp_path: Path, monkeypatch, capsys) -> None:  # type: ignore[no-untyped-def]
    monkeypatch.chdir(tmp_path)
    (tmp_path / "bad.toml").write_text("[functions\n")
    for path in ("bad.toml", "nowhere.toml"):
        complete = ShellComplete(cli, {}, "echotally", "_ECHOTALLY_COMPLETE")
        assert complete.get_completions(["project", path, "--plan"], "") == []
    assert capsys.readouterr() == ("", "")


#: How each shell is started bare, and the line that switches completion on.
SHELLS = {
    "bash": (["bash", "--norc", "--noprofile", "-i"], 'eval "$(_ECHOTALLY_COMPLETE=bash_source echotally)"'),
    "zsh": (["zsh", "-f", "-i"], 'autoload -Uz compinit && compinit -u && eval "$(_ECHOTALLY_COMPLETE=zsh_source echotally)"'),
    "fish": (["fish", "--no-config", "-i"], "_ECHOTALLY_COMPLETE=fish_source echotally | source"),
}  # fmt: skip


@pytest.mark.parametrize("shell", SHELLS)
def test_a_tab_completes_in_a_terminal(shell: str, folder: Path, tmp_path: Path) -> None:
    if shutil.which(shell) is None or shutil.which("setsid") is None:
        pytest.skip(f"there is no {shell} here")
    command, switch = SHELLS[shell]
    surroundings = {
        **os.environ,
        "PATH": f"{BIN}:{os.environ['PATH']}",
        "TERM": "dumb",
        "HOME": str(tmp_path),
        "PS1": "$ ",
    }
    mine, theirs = pty.openpty()
    with subprocess.Popen(
        ["setsid", "-c", *command], cwd=folder, env=surroundings, stdin=theirs, stdout=theirs, stderr=theirs
    ) as started:
        os.close(theirs)
        os.set_blocking(mine, False)
        seen = b""

        def wait_for(sign: bytes, patience_s: float) -> bool:
            nonlocal seen
            until = time.monotonic() + patience_s
            while time.monotonic() < until and sign not in seen:
                try:
                    seen += os.read(mine, 65_536)
                except (BlockingIOError, OSError):
                    time.sleep(0.05)
            return sign in seen

        try:
            os.write(mine, f"{switch}\necho rea''dy\n".encode())
            assert wait_for(b"ready\r", 30), seen
            seen = b""
            os.write(mine, b"echotally load river/river.toml --function send-s\t")
            assert wait_for(b"send-sms", 30), seen
        finally:
            started.kill()
            os.close(mine)


# -- the manual ---------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("topic", [*PAGES, *COMMANDS, "Q04", "s01", "units.md"])
def test_every_page_command_and_finding_is_shown(topic: str, say) -> None:  # type: ignore[no-untyped-def]
    code, out, err = say(f"help {topic}")
    assert (code, err) == (0, "") and len(out) > 100
    assert "](" not in out and "<!--" not in out


def test_the_list_of_topics_names_every_page_and_command(say) -> None:  # type: ignore[no-untyped-def]
    code, out, _ = say("help")
    assert code == 0 and all(name in out for name in (*PAGES, *COMMANDS))


@pytest.mark.skipif(shutil.which("groff") is None, reason="there is no groff here")
def test_the_man_page_has_every_command_and_option_and_no_warning() -> None:
    page = Path(__file__).parents[2] / "docs/echotally.1"
    done = subprocess.run(["groff", "-man", "-ww", "-Tascii", str(page)], capture_output=True, text=True, check=True)
    assert done.stderr == ""
    text = re.sub(r".\x08|\x1b\[[0-9;]*m", "", done.stdout)
    assert all(f"echotally {name}" in text for name in COMMANDS) and "--replications" in text


def test_the_version_tells_what_it_stands_on_and_what_stays_when_it_goes() -> None:
    done = subprocess.run([BIN / "echotally", "--version", "--verbose"], capture_output=True, text=True, check=True)
    first, *rest = done.stdout.splitlines()
    assert re.fullmatch(r"echotally \d+\.\d+\.\d+", first)
    assert any(line.startswith("numpy ") for line in rest) and rest[-1].strip().startswith(
        "pip uninstall echotally && rm -r "
    )
