"""What the house promises: no circle of imports, no record field that nobody reads or explains, kernels that change nothing."""

from __future__ import annotations

import ast
import os
import re
import subprocess
import sys
from importlib import import_module
from pathlib import Path
from typing import get_type_hints

import grimp
import pytest

from echotally.engine import layout
from echotally.model.sources import SourceKind, SourceRef

ROOT = Path(__file__).parents[1]
SRC = ROOT / "src" / "echotally"
ENGINE = SRC / "engine"


def test_no_modules_import_each_other_in_a_circle() -> None:
    graph = grimp.build_graph("echotally", exclude_type_checking_imports=True)
    modules = graph.modules
    # A module is in a circle if something it imports leads back to it.
    circles = [
        (module, imported)
        for module in sorted(modules)
        for imported in graph.find_modules_directly_imported_by(module)
        if imported in modules and graph.chain_exists(imported, module)
    ]
    assert circles == []


def test_every_field_of_a_record_is_read() -> None:
    read: set[str] = set()
    for path in [*ENGINE.rglob("*.py"), *(SRC / "studies").rglob("*.py"), *(ROOT / "tests" / "engine").glob("*.py")]:
        if path.name == "layout.py" or path.parent.name == "records":
            continue
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            # In a kernel a field is an attribute that is loaded; elsewhere it is named by a text. ``x.f += 1`` is only written.
            if isinstance(node, ast.Attribute) and isinstance(node.ctx, ast.Load):
                read.add(node.attr)
            elif isinstance(node, ast.Constant) and isinstance(node.value, str):
                read.add(node.value)
    # Kept for the reader of a sum in two words, whose name is made of the first's.
    read |= set(layout.WIDE.values())
    records = set(layout.HOLDS.values())
    dead = [f"{r.__name__}.{name}" for r in records for name in layout.fields_of(r) if name not in read]
    assert dead == []


def test_every_kind_of_record_and_every_field_of_it_is_explained() -> None:
    text = "".join(path.read_text(encoding="utf-8") for path in (ENGINE / "records").glob("*.py"))
    fields = re.findall(r"^    (\w+): (?:int|float|Bits)(  # .+)?$", text, re.M)
    assert all(record.__doc__ for record in layout.HOLDS.values())
    assert len(fields) > 300 and [name for name, comment in fields if not comment] == []


def test_values_are_structs() -> None:
    # Each data class takes as long at every start as forty structs. What has an ``__init__`` of its own can be no struct.
    made = [
        path.relative_to(SRC).as_posix()
        for path in SRC.rglob("*.py")
        if "dataclasses" in path.read_text(encoding="utf-8")
    ]
    assert made == ["demand/stretches.py"]


def test_kinds_of_source_are_compared_in_one_kernel_only() -> None:
    kinds = {"SCHEDULE", "QUEUE", "TOPIC", "STREAM", "ENDPOINT", "FOLDER"}
    comparing = {
        path.name
        for path in (ENGINE / "kernel").glob("*.py")
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(node, ast.Compare) and {n.id for n in ast.walk(node) if isinstance(n, ast.Name)} & kinds
    }
    assert comparing == {"kinds.py"}


def test_every_kind_of_source_is_a_table_of_the_model_and_names_itself() -> None:
    from echotally.engine import codes
    from echotally.model.estate import Model

    numbered = [codes.SCHEDULE, codes.QUEUE, codes.TOPIC, codes.STREAM, codes.ENDPOINT, codes.FOLDER]
    assert [int(code) for code in numbered] == list(range(len(SourceKind)))
    for kind in SourceKind:
        ref = SourceRef.of(kind, "a.b")
        assert kind.value in Model.model_fields and (ref.kind, ref.name, str(ref)) == (kind, "a.b", f"{kind.value}.a.b")


def test_importing_the_kernels_changes_nothing_for_the_caller(tmp_path: Path) -> None:
    program = (
        "import os, sys, numba\n"
        "before = {k: getattr(numba.config, k) for k in dir(numba.config) if k.isupper()}, dict(os.environ)\n"
        "import echotally.engine.kernel.loop\n"
        "after = {k: getattr(numba.config, k) for k in dir(numba.config) if k.isupper()}, dict(os.environ)\n"
        "assert before == after, [k for k in before[0] if before[0][k] != after[0][k]]\n"
    )
    environment = {**os.environ, "ECHOTALLY_CACHE": str(tmp_path)}
    done = subprocess.run(
        [sys.executable, "-c", program], env=environment, capture_output=True, text=True, check=False, timeout=240
    )
    assert done.returncode == 0, done.stderr


def test_the_map_of_the_layers_knows_every_layer(tmp_path: Path) -> None:
    picture = tmp_path / "map.png"
    subprocess.run([sys.executable, ROOT / "scripts" / "draw_map", picture], check=True, timeout=120)
    assert picture.read_bytes().startswith(b"\x89PNG")


#: Keywords of public calls, typed for readers and type checkers, and what takes them.
WORDS = {
    "projection.playing:PlayingWords": "projection.playing:Playing",
    "projection.replicate:ReplicatingWords": "projection.replicate:_Replicating",
    "studies.running:RunningWords": "studies.running:Running",
    "studies.forecast:ForecastWords": "studies.forecast:_Asked",
    "studies.load_trial:AskingWords": "studies.load_trial:Asking",
    "studies.drain:ModelWords": "studies.drain:_with_plans",
    "studies.follow.follow:FollowWords": "studies.follow.follow:follow_loaded",
    "evidence.fit.fit:ReadingWords": "evidence.fit.fit:Reading",
    "evidence.survey.survey:ReadingWords": "evidence.survey.survey:Reading",
    "evidence.measure.measure:TryingWords": "evidence.measure.trying:Trying",
    "evidence.bill.reconcile:WaysWords": "evidence.bill.bill_file:BillWays",
    "evidence.telemetry.firing_check:SoughtWords": "evidence.telemetry.firing_check:Sought",
}


@pytest.mark.parametrize(("words", "taken_by"), WORDS.items())
def test_the_keywords_of_a_call_are_those_that_are_taken(words: str, taken_by: str) -> None:
    """A keyword's type stands where it is offered and where it is taken; neither may be changed without the other."""
    offered, taken = (
        get_type_hints(getattr(import_module(f"echotally.{module}"), name))
        for module, name in (each.split(":") for each in (words, taken_by))
    )
    assert offered and offered == {name: taken[name] for name in offered}


def test_every_set_of_keywords_is_held() -> None:
    written = {
        f"{'.'.join(path.relative_to(SRC).with_suffix('').parts)}:{node.name}"
        for path in SRC.rglob("*.py")
        for node in ast.parse(path.read_text(encoding="utf-8")).body
        if isinstance(node, ast.ClassDef) and node.name.endswith("Words")
    }
    assert written == WORDS.keys()
