"""Whatever comes in, an answer or a clear refusal: fuzzed files, extreme inputs, full disks, read-only folders.

Fuzzing edits the files of ``tests/corpus`` and of the demo at random (Hypothesis). ``FUZZ_EXAMPLES=20000 pytest -k fuzz
tests/cli/test_hostile.py`` is the long run; an input that once crashed lies in ``tests/corpus`` and is edited further.
"""

from __future__ import annotations

import json
import os
import re
import shlex
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from functools import cache
from itertools import islice
from pathlib import Path

import pytest
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from echotally.demand.cron import BadSchedule, firings_after, parse_cron
from echotally.errors import BadInput
from echotally.evidence.bill.bill_file import read_bill
from echotally.evidence.bill.bill_keys import BillWays
from echotally.evidence.fit.fit import fit
from echotally.evidence.fit.trials import read_trials
from echotally.evidence.telemetry.reading import trace_of_files
from echotally.model.loading import load_model
from echotally.projection.loaded import Loaded, load
from echotally.rates.card_loading import load_card
from echotally.studies.compare import compare
from tests.conftest import CARD, HEAD, PRICES, run_process, run_program
from tests.small_river import small_river_files

CORPUS = Path(__file__).parent / "corpus"
EXAMPLES = int(os.environ.get("FUZZ_EXAMPLES", "40"))
TOKENS = [
    '"', "'", "\\", "\n", ",", ";", "=", "[", "]", "[[", "{", "}", "#", "0", "-1", "1e308", "-0.0", "nan", "inf", "99999999999999999999", "0x7f",
    "true", "\x00", "\x1b[31m", "‮", "\ufeff", "é", "../../etc/passwd", "=1+1", "2027-02-30T25:61", "9999-12-31T23:59:59", "0001-01-01",
    "*/0", "60", "L", "W", "?", "#", "5-1", "null", "{}", "[]", '"inf"', "1 YB", "-5 ms", "1e400 s",
]  # fmt: skip


@cache
def seeds(prefix: str) -> list[bytes]:
    """The files of the corpus for one target, and those of the small river that it reads."""
    demo = small_river_files()
    own = {
        "model": [demo["river.toml"]], "card": [demo["rates/heron.toml"], demo["rates/osier.toml"]],
        "log": [demo["logs/look.csv"][:3_000]], "bill": [demo["logs/bill.csv"][:6_000]],
    }  # fmt: skip
    return own.get(prefix, []) + [path.read_bytes() for path in sorted(CORPUS.glob(f"{prefix}-*"))]


@st.composite
def edited(draw: st.DrawFn, prefix: str) -> bytes:
    """A file of the corpus with some places cut, doubled, swapped for a token or for anything."""
    found = draw(st.sampled_from(seeds(prefix)))
    for _ in range(draw(st.integers(0, 6))):
        at = draw(st.integers(0, len(found)))
        end = min(len(found), at + draw(st.sampled_from([0, 1, 2, 5, 20, 200])))
        new = draw(
            st.one_of(
                st.sampled_from(TOKENS).map(str.encode), st.binary(max_size=8), st.just(found[at:end] * 2), st.just(b"")
            )
        )
        found = found[:at] + new + found[end:]
    return found


def _cron(content: bytes, folder: Path) -> None:
    text = content.decode("utf-8", "replace").strip()
    for seconds in (False, True):
        try:
            cron = parse_cron(text, seconds)
        except BadSchedule:
            continue
        list(islice(firings_after(cron, _zone(), datetime(2027, 3, 1, tzinfo=UTC)), 5))


def _zone():  # type: ignore[no-untyped-def]
    from zoneinfo import ZoneInfo

    return ZoneInfo("Europe/Dublin")


def _file(name: str, use: Callable[[Path], object]) -> Callable[[bytes, Path], None]:
    def target(content: bytes, folder: Path) -> None:
        (folder / name).write_bytes(content)
        use(folder / name)

    return target


@pytest.fixture(scope="module")
def known(tmp_path_factory: pytest.TempPathFactory):  # type: ignore[no-untyped-def]
    """The demo's model, which the bill reader maps to."""
    from tests.small_river import write_small_river

    folder = tmp_path_factory.mktemp("known")
    write_small_river(folder)
    return load(folder / "river.toml")


def _bill(path: Path, known: Loaded) -> object:
    return read_bill(path, known.model, BillWays(), "EUR", known.month.clock)


#: Readers that open a database for each file.
SLOW = ("log", "jsonl", "otlp", "bill")
TARGETS: dict[str, Callable[[bytes, Path], None]] = {
    "model": _file("model.toml", load_model),
    "card": _file("card.toml", load_card),
    "cron": _cron,
    "log": _file("log.csv", lambda path: fit([path])),
    "jsonl": _file("log.jsonl", lambda path: fit([path])),
    "otlp": _file("log.json", lambda path: fit([path])),
    "metrics": _file("metrics.txt", lambda path: trace_of_files([path])),
    "trials": _file("trials.csv", read_trials),
    "projection": _file("projection.json", lambda path: compare(path, path)),
}


@pytest.mark.parametrize("path", sorted(CORPUS.iterdir()), ids=lambda path: path.name)
def test_every_file_of_the_corpus_is_read_or_refused(path: Path, known, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    target = TARGETS.get(path.name.split("-")[0]) or _file("bill.csv", lambda bill: _bill(bill, known))
    refusal: BadInput | None = None
    try:
        target(path.read_bytes(), tmp_path)
    except BadInput as found:
        refusal = found
    assert refusal is None or len(str(refusal).splitlines()) == len(refusal.problems)


@pytest.mark.parametrize("name", [*TARGETS, "bill"])
def test_fuzzed_files_are_read_or_refused(name: str, known) -> None:  # type: ignore[no-untyped-def]
    target = TARGETS.get(name) or _file("bill.csv", lambda path: _bill(path, known))

    @settings(
        max_examples=max(1, EXAMPLES // (3 if name in SLOW else 1)), deadline=None, derandomize=EXAMPLES < 1_000, database=None,
        phases=[Phase.generate], suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    @given(edited(name))
    def fuzz(content: bytes) -> None:
        with tempfile.TemporaryDirectory() as folder:
            began = time.monotonic()
            try:
                target(content, Path(folder))
            except (BadInput, BadSchedule):
                pass
            except Exception:
                CORPUS.joinpath(f"{name}-crash-{abs(hash(content)) % 10**8}").write_bytes(content)
                raise
            assert time.monotonic() - began < 60

    fuzz()


SMALL = """
[functions.f]
memory = "256 MB"
run = "100 ms"
[endpoints.e]
[demand.d]
into = "endpoints.e"
rate = "60 /h"
[[triggers]]
from = "endpoints.e"
to = "f"
"""


@pytest.mark.parametrize(
    ("sets", "month", "zone", "refused"),
    [
        ([], "1970-01", "UTC", False),
        ([], "9999-12", "UTC", None),
        ([], "0000-01", "UTC", True),
        ([], "2027-13", "UTC", True),
        ([], "2027-03", "Australia/Eucla", False),
        ([], "2027-04", "Pacific/Chatham", False),
        ([], "2027-03", "../../etc/passwd", True),
        (["functions.f.instance_limit=1000000000"], "2027-03", "UTC", None),
        (["functions.f.instance_limit=0"], "2027-03", "UTC", True),
        (["functions.f.slots=1000000000"], "2027-03", "UTC", True),
        (["demand.d.rate=0 /s"], "2027-03", "UTC", None),
        (["demand.d.rate=1e99 /s"], "2027-03", "UTC", True),
        (["functions.f.run=36525 d"], "2027-03", "UTC", None),
        (["functions.f.run=0 ms"], "2027-03", "UTC", None),
        (["=1"], "2027-03", "UTC", True),
        (["a.b.c.d.e.f.g=1"], "2027-03", "UTC", True),
        (["functions.f.emits.999999999.into=queues.x"], "2027-03", "UTC", True),
        (["estate.rate_cards=[\"/etc/passwd\"]"], "2027-03", "UTC", True),
        (["functions=7"], "2027-03", "UTC", True),
        (["estate.seed=99999999999999999999999"], "2027-03", "UTC", True),
    ],
)  # fmt: skip
def test_extreme_values_get_an_answer_or_a_refusal(
    write: Callable[..., Path], tmp_path: Path, sets: list[str], month: str, zone: str, refused: bool | None
) -> None:
    path = write(SMALL, month=month, zone=zone)
    arguments = [part for each in sets for part in ("--set", each)]
    done = run_program("project", path.name, *arguments, cwd=tmp_path)
    assert "Traceback" not in done.stderr and "our own fault" not in done.stderr
    assert done.returncode in ((0, 2) if refused is None else (2,) if refused else (0,)), done.stderr


def test_a_schedule_every_second_is_played(write: Callable[..., Path], tmp_path: Path) -> None:
    model = '[functions.f]\nmemory = "256 MB"\nrun = "10 ms"\n[schedules.s]\nevery = "1 s"\n[[triggers]]\nfrom = "schedules.s"\nto = "f"\n'
    done = run_program("project", write(model).name, "--format", "json", cwd=tmp_path)
    assert done.returncode == 0 and '"total": 2678400' in done.stdout


def test_a_trace_of_a_hundred_million_events_is_sampled(write: Callable[..., Path], tmp_path: Path) -> None:
    rows = ["time,count", *(f"2027-03-{d:02d}T00:00:00,3333334" for d in range(1, 32))]
    (tmp_path / "many.csv").write_text("\n".join(rows) + "\n")
    model = SMALL.replace('rate = "60 /h"', 'trace = "many.csv"')
    began = time.monotonic()
    done = run_program("project", write(model).name, "--format", "json", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert '"method": "sampled"' in done.stdout and time.monotonic() - began < 120


def test_a_model_of_very_many_functions_is_answered_or_refused(tmp_path: Path) -> None:
    many = "".join(f'[functions.f{n}]\nmemory = "256 MB"\nrun = "1 ms"\n' for n in range(20_000))
    (tmp_path / "model.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + many)
    done = run_program("check", "model.toml", cwd=tmp_path)
    assert done.returncode == 2 and "Traceback" not in done.stderr
    (tmp_path / "huge.toml").write_bytes(b"[functions.f]\n" * 3_000_000)
    done = run_program("check", "huge.toml", cwd=tmp_path)
    assert done.returncode == 2 and "larger than 32 MB" in done.stderr


@pytest.mark.parametrize("line", ["report model.toml -o r.html", "project model.toml --log l.csv --plot p.png"])
def test_names_never_become_paths(tmp_path: Path, line: str) -> None:
    names = ["../../escape", "/etc/x", "nul\\u0000"]
    model = HEAD.format(month="2027-02", zone="UTC")
    for n, name in enumerate(names):
        part = SMALL.replace("functions.f]", f'functions."{name}"]').replace('to = "f"', f'to = "{name}"')
        model += part.replace("endpoints.e", f"endpoints.e{n}").replace("demand.d", f"demand.d{n}")
    (tmp_path / "inner").mkdir()
    (tmp_path / "inner/model.toml").write_text(model)
    (tmp_path / "inner/card.toml").write_text(CARD.format(keys="", prices=PRICES))
    before = set(tmp_path.rglob("*"))
    done = run_program(*line.split(), cwd=tmp_path / "inner")
    assert "Traceback" not in done.stderr and done.returncode in (0, 2)
    assert {path.parent for path in set(tmp_path.rglob("*")) - before} <= {tmp_path / "inner"}


@pytest.mark.parametrize("name", ["[/b] :wave:", "it's [red]hot[/red]", "$x$ & co", "--limit", '"quoted"', "v1.2=3@x"])
def test_what_names_mean_to_a_terminal_or_a_shell_is_left_out(tmp_path: Path, name: str) -> None:
    part = SMALL.replace("functions.f]", f"functions.{json.dumps(name)}]").replace(
        'to = "f"', f"to = {json.dumps(name)}"
    )
    part = part.replace('"256 MB"', '"2 GB"\nmemory_used = "100 MB"')
    (tmp_path / "model.toml").write_text(HEAD.format(month="2027-02", zone="UTC") + part)
    (tmp_path / "card.toml").write_text(CARD.format(keys="", prices=PRICES))

    def said(*words: str) -> str:
        done = run_program(*words, cwd=tmp_path)
        assert done.returncode == 0, (words, done.stderr)
        return done.stdout

    walk = said("project", "model.toml", "--explain", name, "--plan", "test.plan", "--width", "200")
    assert walk.count(name) > 1
    # Lines to type are typed as they stand.
    (follow,) = re.findall(r"echotally (follow MODEL .*--function .*?)(?:  |$)", walk, re.M)
    assert name in said(*("model.toml" if word == "MODEL" else word for word in shlex.split(follow)))
    tries = re.findall(r"Try: +(--set .*?)(?:    #|$)", said("check", "model.toml", "--plan", "test.plan"), re.M)
    chosen = re.findall(r"^ +(--set .*)", said("choose", "model.toml"), re.M)
    assert any(".memory=" in line for line in tries) and any(".memory=" in line for line in chosen)
    for line in (*tries, " ".join(chosen)):
        assert said("project", "model.toml", *shlex.split(line))


@contextmanager
def _small_disk(tmp_path: Path) -> Iterator[Path]:
    """A file system of 64 kB, where this machine lets us mount one."""
    place = tmp_path / "disk"
    place.mkdir()
    done = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", str(place)], capture_output=True)
    if done.returncode:
        pytest.skip("no file system of our own can be mounted here")
    try:
        yield place
    finally:
        subprocess.run(["umount", str(place)], check=True)


def test_a_full_disk_leaves_the_old_file(river: Path, tmp_path: Path) -> None:
    with _small_disk(tmp_path) as disk:
        (disk / "month.json").write_text("old")
        done = run_process("project", str(river), "--format", "json", "-o", str(disk / "month.json"), cwd=tmp_path)
        assert done.returncode == 2 and "No space left" in done.stderr
        assert (disk / "month.json").read_text() == "old" and len(list(disk.iterdir())) == 1


def test_a_killed_process_leaves_the_old_file_or_the_new_one(river: Path, tmp_path: Path) -> None:
    out = tmp_path / "month.json"
    out.write_text("old")
    command = [sys.executable, "-m", "echotally", "project", str(river), "--format", "json", "-o", str(out)]
    for after in (0.3, 1.2, 1.8):
        with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
            time.sleep(after)
            process.kill()
        text = out.read_text()
        assert text == "old" or text.rstrip().endswith("}")


@pytest.mark.nightly
def test_kernels_compile_into_a_fresh_cache_by_two_processes_at_once(river: Path, tmp_path: Path) -> None:
    """Machine code is written beside and renamed; the folder is the user's, not the installation's."""
    environment = {**os.environ, "ECHOTALLY_CACHE": str(tmp_path / "cache")}
    command = [sys.executable, "-m", "echotally", "project", str(river), "--plan", "heron.shared", "--format", "json"]
    both = [
        subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL) for _ in range(2)
    ]
    answers = [process.communicate(timeout=240)[0] for process in both]
    assert answers[0] == answers[1] and [process.returncode for process in both] == [0, 0]
    assert any((tmp_path / "cache").rglob("*.code"))
