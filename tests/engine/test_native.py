"""Machine code by itself: kept, tried in a process of its own, loaded without the compiler."""

from __future__ import annotations

import gzip
import os
import subprocess
import sys
from pathlib import Path

import pytest

from echotally.engine import carried, compiling, native
from echotally.engine.native import MachineCode
from echotally.errors import OurFault

ROOT = Path(__file__).parents[2]
RIVER = ROOT / "benchmarks" / "models" / "river-small.toml"


@pytest.fixture
def kept() -> MachineCode:
    found = MachineCode.read(compiling.code_path())
    if found is None:
        compiling.form()
        found = MachineCode.read(compiling.code_path())
    if found is None:
        pytest.skip("nothing can be kept here")
    return found


def test_what_is_kept_is_read_as_it_was(kept, tmp_path):
    path = tmp_path / "folder" / "some.code"
    native.keep(kept, path)
    assert MachineCode.read(path) == kept
    assert [each.name for each in path.parent.iterdir()] == ["some.code"]


def test_where_nothing_can_be_written_nothing_is_kept(kept, tmp_path):
    (tmp_path / "file").write_text("in the way")
    native.keep(kept, tmp_path / "file" / "some.code")
    assert (tmp_path / "file").read_text() == "in the way"


def test_a_warm_start_imports_no_compiler(kept):
    program = "import sys; from echotally.engine import compiling; compiling.form(); print('numba' in sys.modules)"
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "False"


def test_code_that_does_not_load_is_refused_and_not_run(kept):
    with pytest.raises(OurFault, match="cannot be loaded"):
        native.tried(MachineCode("no_such_function", kept.code))


def test_without_an_interpreter_to_try_it_the_compiler_helps(kept, monkeypatch):
    monkeypatch.setattr(sys, "executable", str(Path("/no/such/python")))
    assert native.tried(kept) == MachineCode(kept.symbol, kept.code, needs_compiler=True)


def test_another_processor_or_compiler_has_a_file_of_its_own(monkeypatch):
    names = {compiling.code_path().name}
    for change in (
        lambda: monkeypatch.setattr(native, "processor", lambda: "another"),
        lambda: monkeypatch.setattr(compiling, "_version", lambda name: "0.1"),
    ):
        compiling._code_name.cache_clear()
        change()
        names.add(compiling.code_path().name)
    monkeypatch.undo()
    compiling._code_name.cache_clear()
    assert len(names) == 3 and compiling.code_path().name in names


def _brought_along_here() -> None:
    if not carried.fits(compiling.kernels_name()) or _carried_marks()["by"] != carried.lowered_by():
        pytest.skip("the package's kernels are for another machine or LLVM, or another compiler lowered them")


def test_the_kernels_brought_along_are_what_the_sources_come_to():
    """Lowered, counted and optimized anew: the same text, letter by letter."""
    _brought_along_here()
    done = subprocess.run([sys.executable, ROOT / "scripts" / "lower", "--check"], capture_output=True, text=True)
    assert done.stdout.strip() == "what these kernels come to", done.stdout + done.stderr


def test_the_sources_compiled_here_answer_as_what_is_brought_along(tmp_path):
    _brought_along_here()
    answers = []
    for kernels in ("carried", "compiled"):
        environment = {**os.environ, "ECHOTALLY_KERNELS": kernels, "ECHOTALLY_CACHE": str(tmp_path / kernels)}
        command = [sys.executable, "-m", "echotally", "project", RIVER, "--format", "json"]
        answers.append(subprocess.run(command, capture_output=True, check=True, env=environment).stdout)
    codes = [next((tmp_path / kernels).rglob("*.code")).read_bytes() for kernels in ("carried", "compiled")]
    assert codes[0] != codes[1], "both were made of the same text"
    assert answers[0] == answers[1]


def _carried_marks() -> dict[str, str]:
    return carried.marks(gzip.decompress(carried.CARRIED.read_bytes()).decode())


def test_the_package_was_not_made_with_older_kernels():
    assert _carried_marks()["kernels"] == compiling.kernels_name(), "kernels have changed: scripts/lower"


_HEAD = {"kernels": "kernels-1", "llvm": carried.llvm_version(), "entry": "simulation", "by": "a test"}


@pytest.mark.parametrize(
    ("content", "why"),
    [
        (None, "none was brought along"),
        (b"", "an empty file"),
        (b"\x1f\x8b\x08 and then nothing", "no packed file"),
        (gzip.compress(carried.heading(**_HEAD).encode())[:-8], "cut off"),
        (gzip.compress(b"\xff\xfe"), "no text"),
        (gzip.compress(b"define void @simulation() { ret void }"), "no heading"),
        (gzip.compress(carried.heading(**{**_HEAD, "kernels": "kernels-2"}).encode()), "other kernels"),
        (gzip.compress(carried.heading(**{**_HEAD, "llvm": "7"}).encode()), "another LLVM"),
    ],
)
def test_what_does_not_fit_is_not_taken(content, why, tmp_path, monkeypatch):
    path = tmp_path / "lowered.ll.gz"
    if content is not None:
        path.write_bytes(content)
    monkeypatch.setattr(carried, "CARRIED", path)
    assert carried.machine_code("kernels-1") is None and not carried.fits("kernels-1"), why


@pytest.mark.parametrize("body", ["no text of LLVM", "declare void @simulation()", "define i32 @other() { ret i32 0 }"])
def test_what_cannot_be_made_or_loaded_is_compiled_instead(body, tmp_path, monkeypatch):
    path = tmp_path / "lowered.ll.gz"
    path.write_bytes(gzip.compress((carried.heading(**_HEAD) + body).encode()))
    monkeypatch.setattr(carried, "CARRIED", path)
    monkeypatch.setattr(compiling, "kernels_name", lambda: "kernels-1")
    assert compiling._carried() is None
