"""Machine code by itself: kept, tried in a process of its own, loaded without the compiler."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from echotally.engine import compiling, native
from echotally.engine.native import MachineCode
from echotally.errors import OurFault


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
