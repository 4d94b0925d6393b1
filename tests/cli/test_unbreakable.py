"""What once brought the program down, each as a case on the installed program under limits of memory and time."""

from __future__ import annotations

import json
import os
import re
import resource
import shlex
import signal
import stat
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from xml.etree.ElementTree import fromstring

import pytest

from echotally import files
from echotally.demand.clock import month_clock
from echotally.demand.recurring import month_recurrences_ns, recurring
from echotally.engine.compiling import cache_folder, code_path
from echotally.engine.native import MachineCode
from echotally.errors import BadInput, safe_lines
from echotally.findings.changes import nice_duration
from echotally.model.estate import Schedule
from echotally.output.projection.projection_charts import projection_chart
from echotally.projection.project import project
from tests.conftest import run_process, run_program

FUNCTION = '[functions.f]\nmemory = "256 MB"\nrun = {run}\n{more}\n'
ENDPOINT = '[endpoints.e]\n[demand.d]\ninto = "endpoints.e"\n{demand}\n[[triggers]]\nfrom = "endpoints.e"\nto = "f"\n'
QUEUE = '[queues.q]\n{keys}\n[demand.d]\ninto = "queues.q"\nrate = "60 /h"\n[[triggers]]\nfrom = "queues.q"\nto = "f"\n{trigger}\n'
RATE = 'rate = "60 /h"'
PLAIN = FUNCTION.format(run='"1 ms"', more="") + ENDPOINT.format(demand=RATE)
AT_ONCE = 'cold_start = "0 s"\n'


def limited(*arguments: str, cwd: Path) -> subprocess.CompletedProcess[str]:
    """The program where no more than a few GB can be had beside what this process has."""
    had = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    before = resource.getrlimit(resource.RLIMIT_AS)
    resource.setrlimit(resource.RLIMIT_AS, (had + 5 * 2**30, before[1]))
    try:
        return run_program(*arguments, cwd=cwd)
    finally:
        resource.setrlimit(resource.RLIMIT_AS, before)


def emitting() -> str:
    """Five functions in a row, each putting out a thousand events for each it handles."""
    parts = [
        f'[functions.f{n}]\nmemory = "256 MB"\nrun = "10 ms"\nemits = [{{ into = "queues.q{n}", each = 1000 }}]\n[queues.q{n}]\n'
        f'[[triggers]]\nfrom = "{"endpoints.e" if n == 0 else f"queues.q{n - 1}"}"\nto = "f{n}"\n'
        for n in range(5)
    ]
    return "".join(parts) + '[endpoints.e]\n[demand.d]\ninto = "endpoints.e"\nmonthly = 1\n'


#: Valid models that ended in a segmentation fault: drawn or multiplied times beyond whole nanoseconds.
LONG_TIMES = {
    "run": FUNCTION.format(run='{ median = "1 ms", p95 = "1 d" }', more="") + ENDPOINT.format(demand=RATE),
    "cold start": FUNCTION.format(run='"1 ms"', more='cold_start = { median = "1 ms", p95 = "1 d" }') + ENDPOINT.format(demand=RATE),
    "exponential": FUNCTION.format(run='{ mean = "36525 d", shape = "exponential" }', more="") + ENDPOINT.format(demand=RATE),
    "payload": FUNCTION.format(run='"1 ms"', more='per_mb = "1 h"') + ENDPOINT.format(demand=RATE + '\npayload = { median = "1 MB", p95 = "1 GB" }'),
    "batch": FUNCTION.format(run='"1 ms"', more='per_item = "36525 d"')
    + QUEUE.format(keys="tries = 2\ndead_letter = 'queues.p'\n[queues.p]", trigger='batch = 100\nbatch_wait = "2 h"'),
}  # fmt: skip
#: Valid models whose month does not end, or not in years.
ENDLESS = {
    "emits": (emitting(), "1,001,001,001,001,001 events"),
    "closed loop": (FUNCTION.format(run='"0 s"', more=AT_ONCE) + ENDPOINT.format(demand='clients = 5\nthink = "0 s"'), "at one instant"),
    "stream": (FUNCTION.format(run='"0 s"', more=AT_ONCE + "error_rate = 1.0") + QUEUE.format(keys="", trigger="").replace("queues.q", "streams.s"), "at one instant"),
    "visibility": (FUNCTION.format(run='"0 s"', more=AT_ONCE + "poison_rate = 1.0") + QUEUE.format(keys='visibility = "0.000001 ms"', trigger=""), "tried so often"),
}  # fmt: skip


@pytest.mark.parametrize("case", LONG_TIMES)
def test_times_beyond_all_bounds_end_at_the_timeout(case: str, write: Callable[..., Path], tmp_path: Path) -> None:
    done = limited("project", write(LONG_TIMES[case]).name, "--format", "json", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    attempts = json.loads(done.stdout)["plans"][0]["attempts"]
    assert attempts["total"] > 0 and min(attempts.values()) >= 0


@pytest.mark.parametrize("case", ENDLESS)
def test_work_without_end_is_refused_with_its_count(case: str, write: Callable[..., Path], tmp_path: Path) -> None:
    model, said = ENDLESS[case]
    # In a process of its own: where it had no end, the test would have none.
    done = run_process("project", write(model).name, cwd=tmp_path)
    assert done.returncode == 2 and said in done.stderr and "Allowed: " in done.stderr


def test_sums_of_time_leave_an_int64_and_stay_exact(write: Callable[..., Path]) -> None:
    """Evenly spaced calls that never end: each is billed from its start to the month's end, half the month on average."""
    model = FUNCTION.format(
        run='"36525 d"', more=AT_ONCE + 'timeout = "36525 d"\ninstance_limit = 1000000\ninstance_floor = 500'
    )
    path = write(model + ENDPOINT.format(demand='rate = "60 /h"\nspread = "even"'))
    found = project(path).played[0].measured
    unit, month = found.units[0], 744 * 3_600 * 10**9
    calls = 744 * 60
    assert unit.billed_ns == calls * month // 2 > 2**63
    assert unit.idle_floor_ns == sum((2 * k - 1) * month // (2 * calls) for k in range(1, 501))


def test_ctrl_c_ends_a_long_month_within_two_seconds(write: Callable[..., Path], tmp_path: Path) -> None:
    path = write(PLAIN.replace(RATE, 'rate = "60 /s"'))
    command = [sys.executable, "-m", "echotally", "project", path.name, "--exact"]
    with subprocess.Popen(
        command,
        cwd=tmp_path,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        # A suite that was begun in the background of a script was told to hear no Ctrl-C, and its children inherit that.
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # noqa: PLW1509 - no thread of ours runs here
    ) as process:
        time.sleep(4)
        if process.poll() is not None:
            pytest.skip("this machine plays it faster than it can be interrupted")
        began = time.monotonic()
        process.send_signal(signal.SIGINT)
        assert process.wait(timeout=30) == 130
        # Two seconds of a machine that does nothing else; tests share it.
        assert time.monotonic() - began < 6


# -- what is read -----------------------------------------------------------------------------------------------------
@pytest.fixture
def plain(write: Callable[..., Path]) -> Path:
    """A small valid model."""
    return write(PLAIN)


#: What is no file, each with every line by night; by day each line has one of them.
PLACES = ["/dev/zero", "pipe", "."]


@pytest.mark.parametrize("place", [0, *(pytest.param(place, marks=pytest.mark.nightly) for place in (1, 2))])
@pytest.mark.parametrize(
    ("n", "line"),
    list(enumerate(["check {}", "rates show {}", "fit {}", "compare {0} {0}", "reconcile model.toml {}", "reconcile model.toml bill.csv --mapping {}",
     "check model.toml --set \"functions.f.run={{samples='{}'}}\"", "check model.toml --set demand.d.rate= --set demand.d.trace='{}'"])),
)  # fmt: skip
def test_only_regular_files_are_read(n: int, line: str, place: int, plain: Path, tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "bill.csv").write_text("BilledCost,ResourceName\n1,f\n")
    done = limited(*shlex.split(line.format(PLACES[(n + place) % 3])), cwd=tmp_path)
    assert done.returncode == 2 and ("no regular file" in done.stderr or "is a directory" in done.stderr)


def test_a_dash_alone_is_standard_input_and_bounded(plain: Path, tmp_path: Path) -> None:
    done = run_program("project", "-", "--width", "90", cwd=tmp_path, input=plain.read_text())
    assert (
        done.returncode == 0 and done.stdout == run_program("project", plain.name, "--width", "90", cwd=tmp_path).stdout
    )
    # What is read more than once is read from the pipe once.
    again = run_program("report", "-", "-o", "r.html", cwd=tmp_path, input=plain.read_text())
    assert again.returncode == 0, again.stderr
    swept = run_program("sweep", "-", "--vary", "functions.f.memory=256MB,512MB", cwd=tmp_path, input=plain.read_text())
    assert swept.returncode == 2 and "standard input" in swept.stderr and "Allowed: the name of a file" in swept.stderr
    with pytest.raises(BadInput, match="cannot be written back"):
        files.write_whole(Path("-"), b"")
    endless = subprocess.run(
        f"yes '# a comment' | {sys.executable} -m echotally check -",
        shell=True,
        cwd=tmp_path,
        capture_output=True,
        text=True,
    )
    assert endless.returncode == 2 and "standard input: is larger than" in endless.stderr


@pytest.mark.parametrize(
    "name", ["look[1].csv", "look*.csv", "lo?k.csv", "a'b.csv", "back\\slash.csv", "function=zzz/x.csv"]
)
def test_a_name_is_a_name_and_never_a_pattern(name: str, tmp_path: Path) -> None:
    (tmp_path / name).parent.mkdir(exist_ok=True)
    rows = "".join(f"2027-03-01T00:00:{n:02},{n + 10}\n" for n in range(40))
    (tmp_path / name).write_text("time,run_ms\n" + rows)
    for other in ("look1.csv", "look2.csv", "look.csv"):
        (tmp_path / other).write_text("time,run_ms\n" + rows * 3)
    done = run_program("fit", name, "--format", "json", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)
    assert found["runs"] == 40 and "zzz" not in json.dumps(found)


def test_nothing_of_a_file_is_repeated_before_its_kind_is_known(plain: Path, tmp_path: Path) -> None:
    (tmp_path / "secret").write_text("PASSWORD=hunter2\nTOKEN=abc'def\n")
    (tmp_path / "secret.toml").write_text('password = "hunter2"\n[vault]\ntoken = "hunter2"\n')
    lines = ["check secret", "check secret.toml", "rates show secret.toml", "fit secret", "compare secret secret", "reconcile model.toml secret",
             "check model.toml --set \"functions.f.run={samples='secret'}\"", "check model.toml --set demand.d.rate= --set demand.d.trace='secret'",
             "check model.toml --set estate.rate_cards=['secret.toml']"]  # fmt: skip
    for line in lines:
        done = run_program(*shlex.split(line), cwd=tmp_path)
        assert done.returncode == 2 and "hunter2" not in done.stderr and "PASSWORD" not in done.stderr, line


def test_cells_longer_than_a_csv_reader_takes_are_refused(plain: Path, tmp_path: Path) -> None:
    cell = "x" * 140_000
    (tmp_path / "samples.csv").write_text(f"ms\n{cell}\n")
    (tmp_path / "trials.csv").write_text(f'clients,calls,seconds\n5,5,"{cell}"\n')
    (tmp_path / "trace.csv").write_text(f'time,count\n"{cell}",1\n')
    (tmp_path / "bill.csv").write_text("BilledCost,ResourceName\n1,f\n")
    (tmp_path / "map.csv").write_text(f'resource,sku,function,environment,meter\n"{cell}",,,,\n')
    for line in (
        ["check", "model.toml", "--set", "functions.f.run={samples='samples.csv'}"],
        ["check", "model.toml", "--set", "demand.d.rate=", "--set", "demand.d.trace='trace.csv'"],
        ["fit", "trials.csv", "--model", "model.toml", "--function", "f"],
        ["reconcile", "model.toml", "bill.csv", "--mapping", "map.csv"],
    ):
        done = run_program(*line, cwd=tmp_path)
        assert done.returncode == 2 and "field larger than field limit" in done.stderr, done.stderr


# -- what is written --------------------------------------------------------------------------------------------------
@pytest.fixture
def umask() -> Iterator[None]:
    """The usual mask, whatever the tests run under."""
    old = os.umask(0o027)
    yield
    os.umask(old)


@pytest.mark.usefixtures("umask")
def test_a_new_file_obeys_the_umask_and_an_old_one_keeps_its_mode(tmp_path: Path) -> None:
    files.write_whole(tmp_path / "new", b"1")
    (tmp_path / "old").write_text("0")
    (tmp_path / "old").chmod(0o604)
    files.write_whole(tmp_path / "old", b"1")
    assert stat.S_IMODE((tmp_path / "new").stat().st_mode) == 0o640
    assert stat.S_IMODE((tmp_path / "old").stat().st_mode) == 0o604


def test_links_are_followed_and_devices_stay_what_they_are(tmp_path: Path) -> None:
    (tmp_path / "target").write_text("old")
    (tmp_path / "link").symlink_to("target")
    files.write_whole(tmp_path / "link", b"new")
    assert (tmp_path / "link").is_symlink() and (tmp_path / "target").read_text() == "new"
    files.write_whole(Path("/dev/null"), b"nothing")
    assert stat.S_ISCHR(Path("/dev/null").stat().st_mode)
    os.mkfifo(tmp_path / "pipe")
    with pytest.raises(BadInput, match="cannot be written"):
        files.write_whole(tmp_path / "pipe", b"nobody reads")
    with pytest.raises(BadInput, match="is a folder"):
        files.write_whole(tmp_path, b"")


def test_what_a_killed_run_left_goes_with_the_next(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    gone = subprocess.Popen(["true"])
    gone.wait()
    monkeypatch.setattr("tempfile.gettempdir", lambda: str(tmp_path))
    for name in (f"echotally-{gone.pid}-aa", f"echotally-{os.getpid()}-bb", "echotally-notes", "other-1-1"):
        (tmp_path / name).mkdir()
    (tmp_path / f".echotally-{gone.pid}-cc").write_text("half")
    with files.scratch() as folder:
        assert folder.is_dir()
    files.write_whole(tmp_path / "x", b"1")
    assert {p.name for p in tmp_path.iterdir()} == {f"echotally-{os.getpid()}-bb", "echotally-notes", "other-1-1", "x"}


@pytest.mark.parametrize(
    ("shell", "code", "said"),
    [
        ("{} project model.toml > /dev/full", 2, "standard output cannot be written: No space left"),
        ("{} schema model >&-", 2, "standard output cannot be written: it is closed"),
        ("{} --help > /dev/full", 2, "No space left"),
        ("{} schema model -o schema.json >&- && test -s schema.json", 0, ""),
        ("{} project model.toml 2>&- > out.txt && test -s out.txt", 0, ""),
        ("{} schema model | head -1 > /dev/null", 0, ""),
        ("PYTHONIOENCODING=ascii {} demand model.toml", 0, ""),
        ("PYTHONIOENCODING=cp1252 {} demand model.toml", 0, ""),
        ('mkdir "q\'t" && TMPDIR=$PWD/"q\'t" {} project model.toml --log log.parquet', 0, ""),
    ],
)
def test_odd_outputs_and_folders(shell: str, code: int, said: str, plain: Path, tmp_path: Path) -> None:
    command = shell.format(f"{sys.executable} -m echotally")
    done = subprocess.run(["bash", "-c", command], cwd=tmp_path, capture_output=True, timeout=120)
    error = done.stderr.decode("utf-8", "replace")
    assert done.returncode == code and said in error and "Traceback" not in error and "our own fault" not in error


def test_json_stays_json_in_an_encoding_without_its_signs(write: Callable[..., Path], tmp_path: Path) -> None:
    path = write(PLAIN.replace("functions.f]", 'functions."grün ≥ 𝄞"]').replace('to = "f"', 'to = "grün ≥ 𝄞"'))
    done = run_program(
        "project", path.name, "--format", "json", cwd=tmp_path, env={**os.environ, "PYTHONIOENCODING": "ascii"}
    )
    assert done.stdout.isascii()
    assert json.loads(done.stdout)["plans"][0]["functions"][0]["function"][:4] == "grün"


NASTY = "\\u001b[31mX\\u0007\\u202eY"


@pytest.mark.parametrize("line", ["project {}", "project {} --format csv", "project {} --format json", "check {}", "check {} --format markdown",
                                  "demand {}", "project {} --explain", "check {} --defaults", "project {} --plan \x1b[31mno",
                                  "check {} --set functions.\x1b[31m.memory=1", "fit \x1b[31m\x07", "\x1b[2J"])  # fmt: skip
def test_no_name_acts_on_a_terminal_or_forges_a_line(line: str, write: Callable[..., Path], tmp_path: Path) -> None:
    model = PLAIN.replace("functions.f]", f'functions."f{NASTY}"]').replace('to = "f"', f'to = "f{NASTY}"')
    path = write(
        model.replace("endpoints.e", f"endpoints.e{NASTY}").replace(
            "[endpoints.e" + NASTY + "]", f'[endpoints."e{NASTY}"]'
        )
    )
    done = run_program(*line.format(path.name).split(" "), cwd=tmp_path)
    assert done.returncode in (0, 2) and "our own fault" not in done.stderr
    assert all(sign.isprintable() or sign == "\n" for sign in done.stdout + done.stderr)


def test_colours_that_were_asked_for_stay_and_nothing_else_does(plain: Path, tmp_path: Path) -> None:
    environment = {**os.environ, "FORCE_COLOR": "1"}
    text = run_program(
        "project", plain.name, "--set", 'estate.name="a\\u001b]0;x"', cwd=tmp_path, env=environment
    ).stdout
    assert "\x1b[1m" in text and "\\u001b[" not in text
    assert all(sign.isprintable() or sign == "\n" for sign in re.sub(r"\x1b\[[0-9;]*m", "", text))


def test_signs_made_visible_are_the_same_string_to_a_json_reader() -> None:
    text = json.dumps({"a": "x\u202ey\U000e0001z\u2028"}, ensure_ascii=False)
    assert safe_lines(text).isprintable() and json.loads(safe_lines(text)) == json.loads(text)


# -- the rest ---------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("form", ["json", "sarif", "csv", "markdown"])
def test_a_model_with_mistakes_still_gives_a_document(form: str, plain: Path, tmp_path: Path) -> None:
    done = run_program("check", plain.name, "--set", "functions.f.memory=5", "--format", form, cwd=tmp_path)
    assert done.returncode == 2 and "needs a unit" in done.stderr and "functions.f.memory" in done.stdout
    if form == "sarif":
        result = json.loads(done.stdout)["runs"][0]["results"][0]
        assert (result["ruleId"], result["level"]) == ("E00", "error")


@pytest.mark.parametrize("line", ["firings|*/5 * * * *|--from|0001-01-01", "firings|*/5 * * * *|--from|9999-12-31", "firings|every 0 s",
                                  "firings|every 0.0001 ms", "sweep|model.toml|--vary|functions.f.memory=1 MB..2 MB:99999999999",
                                  "check|model.toml|--set|demand.d.payload=\"9999999999 GB\"", "check|model.toml|--set|functions.f.memory=\"99999999 GB\"",
                                  "check|model.toml|--set|demand.d.rate=\"" + "9" * 400 + " /s\""])  # fmt: skip
def test_values_beyond_all_bounds_are_refused_at_once(line: str, plain: Path, tmp_path: Path) -> None:
    done = limited(*line.split("|"), cwd=tmp_path)
    assert done.returncode == 2 and "Allowed: " in done.stderr


def test_names_are_no_formulas_of_a_chart(write: Callable[..., Path], tmp_path: Path) -> None:
    model = PLAIN.replace("functions.f]", 'functions."$\\\\frac$"]').replace('to = "f"', 'to = "$\\\\frac$"')
    done = run_program("report", write(model).name, "-o", "r.html", cwd=tmp_path)
    assert done.returncode == 0, done.stderr


def test_names_are_made_visible_in_charts(write: Callable[..., Path], tmp_path: Path) -> None:
    """A raw control sign is no XML, and a sign that the font lacks is nobody's business on standard error."""
    path = write(
        PLAIN.replace("functions.f]", 'functions."a\\u0001\u6c34"]').replace('to = "f"', 'to = "a\\u0001\u6c34"')
    )
    month = project(path)
    for chart in ("cost", "map", "levels"):
        drawn = projection_chart(month, chart, "svg").decode()
        fromstring(drawn)
        assert "\x01" not in drawn and ("\\u0001" in drawn or chart == "cost")
        # Our own spaces that keep words together are no signs to show.
        assert "\\u00a0" not in drawn


def test_the_next_round_duration_has_an_end() -> None:
    assert (
        nice_duration(36_525 * 86_400e9) == "36525 d"
        and nice_duration(1e30) == "36525 d"
        and nice_duration(501 * 86_400e9) == "1000 d"
    )


@pytest.mark.parametrize("rule", ["FREQ=SECONDLY;INTERVAL=7", "FREQ=MINUTELY;BYSECOND=0,30;BYHOUR=1,2", "FREQ=HOURLY;INTERVAL=5;BYDAY=MO,SU", "FREQ=MINUTELY;INTERVAL=7;BYMONTH=3"])  # fmt: skip
@pytest.mark.parametrize("zone", ["Europe/Dublin", "Australia/Lord_Howe"])
def test_dense_rules_fire_when_the_library_says(rule: str, zone: str) -> None:
    """The two ways to one answer, over a month in which the clock changes."""
    clock = month_clock("2027-03" if zone == "Europe/Dublin" else "2027-04", zone)
    schedule = Schedule(rrule=rule, timezone=zone)
    walked: list[int] = []
    for at in recurring(schedule, clock.zone, clock.instant(-1_000)):
        if at >= clock.end or len(walked) == 40_000:
            break
        walked.append(clock.ns(at))
    assert month_recurrences_ns(schedule, clock, clock.zone)[: len(walked)].tolist() == walked


@pytest.mark.parametrize("harm", ["turned over", "cut", "other head", "no file"])
def test_damaged_machine_code_is_never_loaded(harm: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    kept = code_path()
    if not kept.is_file():
        pytest.skip("nothing is kept yet")
    content = kept.read_bytes()
    if harm == "turned over":
        middle = len(content) // 2
        content = (
            content[:middle] + bytes(b ^ 0xFF for b in content[middle : middle + 4_000]) + content[middle + 4_000 :]
        )
    elif harm == "cut":
        content = content[:-100]
    elif harm == "other head":
        content = b"[]" + content[content.index(b"\n") :]
    path = tmp_path / "some.code"
    if harm != "no file":
        path.write_bytes(content)
    assert MachineCode.read(path) is None
    assert MachineCode.read(kept) is not None


@pytest.mark.nightly
def test_with_damaged_machine_code_the_kernels_are_compiled_again(plain: Path, tmp_path: Path) -> None:
    folder = tmp_path / "cache" / cache_folder().name
    folder.mkdir(parents=True)
    (folder / code_path().name).write_bytes(b"{}\n" + bytes(4_000))
    environment = {**os.environ, "ECHOTALLY_CACHE": str(tmp_path / "cache")}
    done = run_program("project", plain.name, "--format", "json", cwd=tmp_path, env=environment)
    assert (
        done.returncode == 0
        and done.stdout == run_program("project", plain.name, "--format", "json", cwd=tmp_path).stdout
    )
    assert MachineCode.read(folder / code_path().name) is not None
