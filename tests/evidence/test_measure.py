"""``measure`` on programs whose behaviour is known, and what happens to those that fail, hang or leave children behind."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import pytest

from echotally.errors import BadInput
from echotally.evidence.fit.estimates import Estimate
from echotally.evidence.fit.proposal import pasted
from echotally.evidence.measure import requesting, trying
from echotally.evidence.measure.keys import Keys, keys_of
from echotally.evidence.measure.pasting import propose
from echotally.evidence.measure.plans import billed
from echotally.evidence.measure.rows import Level, Run, Tried
from echotally.projection.loaded import load
from echotally.rates.card_loading import load_card, offers_of
from echotally.studies.load_trial import load_trial
from tests.conftest import HEAD, run_program
from tests.evidence import programs
from tests.evidence.programs import PYTHON

pytestmark = pytest.mark.skipif(
    sys.platform != "linux", reason="memory and CPU of a running program are read from /proc"
)
#: They measure time, so they run when nothing else does: ``./test`` runs them last.
ALONE = pytest.mark.alone


def holds(found: Estimate | None, truth: float, more: float = 0.0) -> bool:
    """Whether the truth lies in the interval; ``more`` is what the interpreter may take itself on a slow machine."""
    return found is not None and found.low <= truth + more and truth <= found.high


def holds_once(ask: Callable[[], bool]) -> None:
    """One try holds before three have missed while nobody else was at work: the machine is shared, and others go on for a while."""
    missed = 0
    for _ in range(20):
        before = others_at_work()
        if ask():
            return
        missed += not (before or others_at_work())
        assert missed < 3, "three tries missed"
        time.sleep(1)
    pytest.skip("others kept this machine busy all the time")


def others_at_work() -> bool:
    """Whether a loop that never waits gets less than all of a processor."""
    began, used = time.perf_counter(), time.process_time()
    while time.process_time() - used < 0.2:
        continue
    return (time.process_time() - used) / (time.perf_counter() - began) < 0.97


def serving(code: str, batches: tuple[int, ...] = (1,), runs: int = 8, at_once: tuple[int, ...] = ()) -> Keys:
    asked = trying.Asked(batches=batches, whole=len(batches) > 1)
    return keys_of(trying.try_serving([*PYTHON, code], asked, runs, 10, at_once))


def fresh(command: list[str], runs: int = 12) -> Keys:
    return keys_of(trying.try_fresh(command, trying.Asked(), runs, 10))


@ALONE
def test_a_program_that_sleeps_by_the_item() -> None:
    def ask() -> bool:
        keys = serving(programs.SLEEPS, (1, 10))
        parts = holds(keys.run.median, 10, 0.5) and holds(keys.per_item, 2, 0.05) and holds(keys.cpu_share, 0, 0.03)
        return parts and holds(keys.reply_bytes, 50) and holds(keys.log_bytes, 20)

    holds_once(ask)


@ALONE
def test_a_program_that_burns_cpu_time_and_waits() -> None:
    def ask() -> bool:
        keys = serving(programs.BURNS)
        # 20 ms of CPU time in 30 ms, and what the interpreter takes itself beside them.
        share = holds(keys.cpu_share, 20 / 30.5, 20 / 30 - 20 / 30.5)
        return holds(keys.run.median, 30, 0.5) and share and keys.threads == 1

    holds_once(ask)


@ALONE
def test_a_slow_starter_is_told_from_its_runs() -> None:
    def ask() -> bool:
        keys = serving(programs.STARTS_SLOWLY, runs=5)
        return keys.cold_start is not None and holds(keys.cold_start.median, 300) and holds(keys.run.median, 20)

    holds_once(ask)


@ALONE
def test_a_fresh_process_a_run() -> None:
    holds_once(lambda: holds(fresh(["sleep", "0.05"]).run.median, 50))
    grown = fresh([*PYTHON, programs.GROWS], 4).memory_used
    # A hundred MB and what the interpreter takes itself.
    assert grown is not None and 100 <= grown.value <= 125


@ALONE
def test_threads_and_children_are_counted() -> None:
    keys = fresh([*PYTHON, programs.FORKS], 6)
    assert keys.cpu_share is not None and keys.cpu_share.value > 0.7 and keys.run.median.value >= 100
    if len(os.sched_getaffinity(0)) > 1:
        holds_once(lambda: fresh([*PYTHON, programs.TWO_THREADS], 4).threads == 2)


@ALONE
def test_what_a_megabyte_adds(tmp_path) -> None:
    events = [{"level": "x" * size} for size in (10, 500_000, 1_000_000, 2_000_000)]
    (tmp_path / "events.json").write_text(json.dumps(events))
    asked = trying.Asked(trying.read_events(tmp_path / "events.json"))

    def ask() -> bool:
        keys = keys_of(trying.try_serving([*PYTHON, programs.PAYLOADS], asked, 8, 10))
        # Reading a megabyte costs something of its own.
        return keys.per_mb is not None and 20 <= keys.per_mb.value <= 40 and keys.run.median.low <= 10 + 2

    holds_once(ask)


@ALONE
@pytest.mark.parametrize(("code", "slots"), [(programs.AT_ONCE, 4), (programs.SLEEPS, 1)])
def test_several_at_once_show_whether_the_stretch_rule_holds(code, slots) -> None:
    holds_once(lambda: serving(code, runs=5, at_once=(1, 4)).slots == slots)


@contextmanager
def a_server(kind: str) -> Iterator[tuple[str, int]]:
    process = subprocess.Popen([*PYTHON, programs.SERVER, kind], stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None
        yield f"http://127.0.0.1:{process.stdout.readline().strip()}/levels?x=1", process.pid
    finally:
        process.kill()
        process.communicate()


CARD = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "runs"
memory = { choices = ["256 MB", "512 MB"] }
vcpu_per_gb = 4
wait_limit = "30 s"
[plans.plan.rounding]
time = "100 ms"
[plans.plan.price]
calls = { unit = "0.000001" }
gb_seconds = { unit = "0.00001" }
[plans.month]
bills = "reserved"
memory = { choices = ["256 MB"] }
instance_memory = "1 GB"
instance_vcpu = 1
instances = 1
[plans.month.price]
reserved_hours = { unit = "1" }
"""
MODEL = '[functions.map]\nmemory = "256 MB"\nrun = "1 ms"\n[endpoints.web]\n[[triggers]]\nfrom = "endpoints.web"\nto = "map"\n'


@ALONE
@pytest.mark.parametrize("kind", ["threads", "one"])
def test_measured_written_and_played_is_what_was_measured(kind, tmp_path) -> None:
    """The chain: measure a server, write its keys into a model, try that under load."""
    (tmp_path / "model.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + MODEL)
    (tmp_path / "card.toml").write_text(CARD)
    model = str(tmp_path / "model.toml")

    def ask() -> bool:
        with a_server(kind) as (url, pid):
            done = run_program(
                "measure", "--url", url, "--pid", str(pid), "--clients", "1,6", "--runs", "24", "--model", model,
                "--function", "map", "--write", "--format", "json", cwd=tmp_path,
            )  # fmt: skip
        assert done.returncode == 0, done.stderr
        found = json.loads(done.stdout)
        rows = {row["clients"]: row for row in found["rows"]}
        played = load_trial(tmp_path / "model.toml", "map", (1, 6), (1,), calls=1_000, warm_up_s=1, plan="test.plan")
        slots = f"slots = {6 if kind == 'threads' else 1}" in (tmp_path / "model.toml").read_text()
        return slots and all(
            abs(row.calls_per_s / rows[row.clients]["calls_per_s"] - 1) < 0.1
            and abs((row.latency.p50 or 0) * 1e3 / rows[row.clients]["p50_ms"] - 1) < 0.12
            for row in played.rows
        )

    holds_once(ask)


FLOODS = """
import sys
sys.stdout.write("x" * 3_000_000)
sys.stderr.write("y" * 2_000_000 + "the end")
"""
READS_NOTHING = "import time\ntime.sleep(0.05)\n"
COUNTS = "import sys\nprint(len(sys.stdin.read()))\n"
ANSWERS_TWICE = """
import sys
for line in sys.stdin:
    print("a" * 10 + "\\n" + "b" * 20)
"""


def test_the_bench_takes_whatever_comes(tmp_path) -> None:
    from echotally.evidence.measure.bench_client import Bench

    with Bench([*PYTHON, FLOODS], 20) as bench:
        told = bench.run("{}")
        assert (told["out"], told["err"], told["exit"], told["hung"]) == (3_000_000, 2_000_007, 0, False)
        assert told["last_err"].endswith("the end") and len(told["last_out"]) <= 2_000
    with Bench([*PYTHON, COUNTS], 20) as bench:
        assert bench.run("z" * 2_000_000)["last_out"].strip() == "2000000"
    with Bench([*PYTHON, READS_NOTHING], 20) as bench:
        # More than a pipe holds, to one that reads none of it.
        assert bench.run("z" * 2_000_000)["exit"] == 0
    with Bench([*PYTHON, ANSWERS_TWICE], 20) as bench:
        # A line is an answer, whoever it is for: the second of the first event answers the second event.
        assert bench.open("{}")["sizes"] == [10]
        assert bench.ask(["{}", "{}"])["failed"] is None
        assert bench.close()["exit"] == 0


def test_one_bench_starts_one_program_after_the_other(tmp_path) -> None:
    from echotally.evidence.measure.bench_client import Bench

    with Bench(["sleep", "0.01"], 5) as bench:
        runs = [bench.run("") for _ in range(5)]
    assert all(each["exit"] == 0 and each["took"] >= 0.01 and each["memory"] < 20 << 20 for each in runs)
    with Bench(["sleep", "30"], 0.1) as bench:
        hung = bench.run("")
    assert hung["hung"] and hung["exit"] is None and 0.1 <= hung["took"] < 5


def test_a_table_names_plans_and_the_toml_comes_last(tmp_path) -> None:
    (tmp_path / "card.toml").write_text(CARD)
    done = run_program(
        "measure", "--runs", "3", "--card", "card.toml", "--width", "140", "--", "sleep", "0.01", cwd=tmp_path
    )
    assert done.returncode == 0, done.stderr
    lines = done.stdout.splitlines()
    assert "sleep 0.01: a warm run takes" in lines[0]
    assert "files may not have been cached" in done.stdout and "billed ms on test.plan" in done.stdout
    assert "bills instances or hours, not runs" in done.stdout
    start = lines.index("[functions.NAME]")
    assert lines[start - 1] == "To paste into the model:" and all(" = " in line for line in lines[start + 1 :])


def test_options_that_do_not_go_together_are_refused(tmp_path) -> None:
    cases = {
        (): "give a program",
        ("--url", "http://127.0.0.1:1/", "--", "true"): "give a program",
        ("--slots", "2", "--", "true"): "--slots has no effect without --serve",
        ("--clients", "2", "--", "true"): "--clients has no effect without --url",
        ("--write", "--", "true"): "--write needs to know where",
        ("--time-limit", "soon", "--", "true"): "soon",
        ("--memory", "lots", "--", "true"): "lots",
        ("--plot", "x.gif", "--", "true"): "is not a kind of picture",
    }
    for words, text in cases.items():
        done = run_program("measure", *words, cwd=tmp_path)
        assert done.returncode == 2 and text in done.stderr, (words, done.stderr)
    assert not list(tmp_path.iterdir())


def test_programs_that_fail_say_so_in_one_line(tmp_path) -> None:
    cases = {
        ("no-such-program",): "cannot be started: No such file",
        (sys.executable, "-c", "import sys; sys.stderr.write('\\x1b[31mboom'); sys.exit(3)"): "ended with exit code 3",
        (sys.executable, "-c", "import os, signal; os.kill(os.getpid(), signal.SIGKILL)"): "was ended by signal 9",
    }
    for command, text in cases.items():
        done = run_program("measure", "--runs", "3", "--", *command, cwd=tmp_path)
        assert done.returncode == 2 and text in done.stderr and done.stderr.count("\n") == 1, done.stderr
        assert "\x1b" not in done.stderr and not done.stdout
    hung = run_program("measure", "--time-limit", "200 ms", "--", "sleep", "9", cwd=tmp_path)
    assert hung.returncode == 2 and "did not end within 0.2 s and was ended" in hung.stderr
    silent = run_program("measure", "--serve", "--time-limit", "200 ms", "--", "sleep", "9", cwd=tmp_path)
    assert silent.returncode == 2 and "gave no answer within 0.2 s" in silent.stderr
    gone = run_program("measure", "--serve", "--", *PYTHON, "print('only this')", cwd=tmp_path)
    assert gone.returncode == 2 and "where an answer a line was awaited" in gone.stderr
    for options in (
        ("--url", "http://127.0.0.1:9/"),
        ("--url", "http://198.51.100.7/"),
        ("--serve",),
        ("--events", str(tmp_path / "none"), "--", "true"),
    ):
        refused = run_program("measure", *options, cwd=tmp_path)
        assert refused.returncode == 2 and "Traceback" not in refused.stderr, refused.stderr
    assert "--elsewhere" in run_program("measure", "--url", "http://198.51.100.7/", cwd=tmp_path).stderr


def running(name: str) -> bool:
    """Whether a process with this argument runs."""
    return subprocess.run(["pgrep", "-f", f"^{name}"], capture_output=True, check=False).returncode == 0


def gone(name: str) -> bool:
    """Whether it ends within a moment."""
    until = time.monotonic() + 5
    while running(name) and time.monotonic() < until:
        time.sleep(0.05)
    return not running(name)


def test_nothing_that_was_started_is_left(tmp_path) -> None:
    done = run_program(
        "measure",
        "--runs",
        "2",
        "--",
        sys.executable,
        "-c",
        programs.LEAVES_A_CHILD.format(seconds=98.76),
        cwd=tmp_path,
    )
    assert done.returncode == 0 and gone("sleep 98.76")


@pytest.mark.parametrize(("how", "code"), [(signal.SIGINT, 130), (signal.SIGKILL, -9)])
def test_who_interrupts_takes_the_program_and_its_children_along(how, code) -> None:
    number = f"77.{int(how)}{os.getpid()}"
    command = [sys.executable, "-m", "echotally", "measure", "--", "sh", "-c", f"sleep {number}; true"]
    # Where the tests run in the background interruptions are ignored, which a child would inherit.
    with subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # noqa: PLW1509 - no thread of ours runs here
    ) as started:  # fmt: skip
        until = time.monotonic() + 20
        while not running(f"sleep {number}") and time.monotonic() < until:
            time.sleep(0.05)
        started.send_signal(how)
        out, _ = started.communicate(timeout=20)
    assert started.returncode == code and not out and gone(f"sleep {number}")


def a_try(times_s: list[float], levels: tuple[Level, ...] = (), **more) -> Tried:
    """Rows as if measured, on a machine of two vCPUs."""
    from echotally.evidence.measure.machine import Machine

    runs = tuple(Run(n, "warm", each, each / 2, 50 << 20, 10, 5.0, 1, 100) for n, each in enumerate(times_s, 1))
    return Tried("made up", "serve", Machine(2.0, "made up", "made up", 0.1, 0.001, 0.0001), runs, levels, **more)


def test_a_faster_processor_shortens_the_part_that_is_work() -> None:
    same, twice = (keys_of(a_try([0.1] * 12), factor) for factor in (1.0, 2.0))
    # Half of 100 ms is work: twice as fast, 75 ms are left, a third of them work.
    assert same.run.median.value == pytest.approx(100) and twice.run.median.value == pytest.approx(75)
    assert twice.cpu_share is not None and twice.cpu_share.value == pytest.approx(1 / 3)


@pytest.mark.parametrize(
    ("seconds", "is_like", "slots"),
    [(0.1, "stretched", 4), (0.4, "one after the other", 1), (0.2, "neither", None)],
)  # fmt: skip
def test_levels_are_laid_beside_the_rule_and_a_queue(seconds, is_like, slots) -> None:
    # Four at once for so long each: half of a run is work, four of them keep the two vCPUs just busy.
    levels = (Level(1, 10, 1.0, 0.1, 0.1, 0.1), Level(4, 40, 10 * seconds, seconds, seconds, seconds))
    keys = keys_of(a_try([0.1] * 12, levels))
    assert [each.is_like for each in keys.stretch] == ["stretched", is_like] and keys.slots == slots


def test_a_run_is_billed_as_each_plan_rounds_and_prices(tmp_path) -> None:
    (tmp_path / "card.toml").write_text(CARD)
    keys = keys_of(a_try([0.13] * 12))
    run = a_try([0.13] * 12).runs[0]
    plan, month = billed(run, offers_of(load_card(tmp_path / "card.toml")), keys)
    # 256 MB have one vCPU there: 130 ms are billed as 200 ms of a quarter of a GB.
    assert (plan.memory_mb, plan.billed_ms) == (256, 200.0)
    assert plan.cost is not None and float(plan.cost) == pytest.approx(0.000001 + 0.2 * 0.25 * 0.00001)
    assert month.cost is None and "not runs" in month.why_not
    (small, _) = billed(run, offers_of(load_card(tmp_path / "card.toml")), keys, 20)
    assert small.memory_mb == 256
    large = Run(1, "warm", 0.1, 0.1, 600 << 20, 1, 1.0, 1, 1)
    assert "it needs 600 MB" in billed(large, offers_of(load_card(tmp_path / "card.toml")), keys)[0].why_not


def test_what_is_proposed_can_be_pasted(tmp_path) -> None:
    found = pasted(propose(keys_of(a_try([0.1, 0.12, 0.11, 0.13, 0.1, 0.12])), "map", 256))
    (tmp_path / "model.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + found)
    (tmp_path / "card.toml").write_text(CARD)
    function = load(tmp_path / "model.toml").model.functions["map"]
    assert (function.cpu_share, function.threads, function.reply_bytes, function.log_bytes) == (0.5, 1, 10, 5)
    assert function.run.quantile(0.5) == pytest.approx(0.113e9, rel=0.02)


@pytest.mark.parametrize(("text", "found"), [('[1, {"a": 2}]', [1, {"a": 2}]), ('{"a": 1}\n\n"x"\n', [{"a": 1}, "x"])])
def test_events_are_a_list_or_a_line_each(text, found, tmp_path) -> None:
    (tmp_path / "events").write_text(text)
    assert trying.read_events(tmp_path / "events") == found


@pytest.mark.parametrize(
    ("text", "said"), [("", "has no events"), ("[]", "has no events"), ("1\n{", "line 2"), ("[1,", "is no JSON")]
)
def test_events_that_are_none_are_refused(text, said, tmp_path) -> None:
    (tmp_path / "events").write_text(text)
    with pytest.raises(BadInput, match=said):
        trying.read_events(tmp_path / "events")


@pytest.mark.parametrize(
    ("url", "fine"),
    [
        ("http://127.0.0.1:1/", True),
        ("http://localhost/", True),
        ("http://[::1]:80/", True),
        ("http://203.0.113.9/", False),
        ("ftp://127.0.0.1/", False),
        ("nonsense", False),
    ],
)
def test_only_this_machine_is_asked(url, fine) -> None:
    if fine:
        requesting.check_here(url, False)
    else:
        with pytest.raises(BadInput):
            requesting.check_here(url, False)
