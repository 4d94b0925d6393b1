"""How often months take each branch of the kernels, counted and told to LLVM, which then lays the usual way straight.

LLVM's text of the kernels is given counters (``counting``), is made into machine code and plays the months of the benchmarks; what
it counts is written down as weights of branches and entries of functions (``weighed``), as the LLVM Language Reference names them
(``branch_weights``, ``function_entry_count``, ``ProfileSummary``). Weights change the order and the copies of code, never an answer.
"""

from __future__ import annotations

import ctypes
import re
import sys
import tempfile
from collections.abc import Iterator
from itertools import accumulate
from pathlib import Path
from typing import Any, NamedTuple

import llvmlite.binding as llvm

from echotally.engine import compiling, finishing, native
from echotally.engine.play import simulate
from echotally.projection.loaded import load, placement_on

sys.path.insert(0, str(Path(__file__).parents[1] / "benchmarks"))
import speed

_BRANCH = re.compile(r"  br i1 (?P<asked>[^,]+), label \S+, label [^,\s]+(?P<weights>.*)")
_FUNCTION = re.compile(r"define .*\{")
_NAME = re.compile(r'"?[\w.$-]+"?:')
#: What functions with counters do not keep to.
_PURE = re.compile(r" memory\([^)]*\)| speculatable| readnone| readonly| writeonly")
_ADDED = """\
  %count.{n}.l = load i64, ptr {place}
  %count.{n}.a = add i64 %count.{n}.l, 1
  store i64 %count.{n}.a, ptr {place}"""
#: How much of all that is counted the hottest counters come to, millionths: LLVM's own steps.
_SHARES = [10_000, *range(100_000, 1_000_000, 100_000), 950_000, 990_000, 999_000, 999_900, 999_990, 999_999]
#: Bits of a count that are kept, and of a weight that LLVM takes.
_COARSE, _WEIGHT = 4, 31


class Counts(NamedTuple):
    """In the order of the text: how often each branch went each way (no, yes), and how often each function was entered."""

    branches: list[tuple[int, int]]
    functions: list[int]


def counted(text: str, entry: str) -> Counts:
    """What the months of the benchmarks count: the small river on each of its plans, and one function with calls."""
    branches, functions = (len(pattern.findall(text)) for pattern in (_BRANCH, _FUNCTION))
    module, machine = llvm.parse_assembly(counting(text)), finishing.any_processor()
    finishing.optimize(module, machine)
    run = native.load(native.MachineCode(entry, finishing.written(module, machine)))
    engine: Any = native._ENGINES[-1]
    compiling._FORM[:] = [compiling._native(run)]
    try:
        for loaded, place in _months():
            simulate(loaded.model, loaded.month.arrivals, place, 1)
    finally:
        compiling._FORM.clear()
    ways = _numbers(engine, "count_ways", 2 * branches)
    return Counts(list(zip(ways[::2], ways[1::2], strict=True)), _numbers(engine, "count_entries", functions))


def _months() -> Iterator[tuple[Any, Any]]:
    loaded = load(speed.HERE / "models" / "river-small.toml")
    for offer in loaded.offers.values():
        yield loaded, placement_on(loaded.model, loaded.offers, offer)
    with tempfile.TemporaryDirectory() as folder:
        loaded = load(speed.estate_of(Path(folder), 1, speed.RATE))
        yield loaded, placement_on(loaded.model, loaded.offers, loaded.offers["c.p"])


def _numbers(engine: Any, name: str, n: int) -> list[int]:
    return list((ctypes.c_int64 * n).from_address(engine.get_global_value_address(name)))


def counting(text: str) -> str:
    """The same kernels, each branch and entry of which counts itself."""
    lines: list[str] = []
    branches = functions = 0
    entered = False
    for line in text.split("\n"):
        if entered and line.startswith("  "):
            # The first line of a function's first block, behind the block's name.
            lines.append(_counter(f"f{functions}", "count_entries", str(functions)))
            functions, entered = functions + 1, False
        if branch := _BRANCH.fullmatch(line):
            lines.append(f"  %count.b{branches}.z = zext i1 {branch['asked']} to i64")
            lines.append(f"  %count.b{branches}.i = add i64 %count.b{branches}.z, {2 * branches}")
            lines.append(_counter(f"b{branches}", "count_ways", f"%count.b{branches}.i"))
            branches += 1
        entered = entered or bool(_FUNCTION.fullmatch(line))
        lines.append(_PURE.sub("", line) if line.startswith(("define", "attributes")) else line)
    tables = [
        f"@{name} = global [{n} x i64] zeroinitializer"
        for name, n in (("count_ways", 2 * branches), ("count_entries", functions))
    ]
    return "\n".join([*lines, *tables, ""])


def _counter(name: str, table: str, place: str) -> str:
    at = f"%count.{name}.p"
    return f"  {at} = getelementptr i64, ptr @{table}, i64 {place}\n" + _ADDED.format(n=name, place=at)


def weighed(text: str, counts: Counts) -> str:
    """The same kernels with what was counted of them.

    Counts are made coarse: where a machine's own arithmetic draws one call otherwise, the text stays the same.
    """
    counts = Counts([(_coarse(no), _coarse(yes)) for no, yes in counts.branches], list(map(_coarse, counts.functions)))
    notes = _Notes(text)
    branches, functions = iter(counts.branches), iter(counts.functions)
    lines = []
    for line in text.split("\n"):
        if branch := _BRANCH.fullmatch(line):
            no, yes = next(branches)
            # A branch that was never met keeps what the compiler guesses.
            if no or yes:
                down = max(0, max(no, yes).bit_length() - _WEIGHT)
                weights = notes.add(f'!{{!"branch_weights", i32 {yes >> down}, i32 {no >> down}}}')
                line = f"{line[: branch.start('weights')]}, !prof {weights}"
        elif _FUNCTION.fullmatch(line):
            entries = notes.add(f'!{{!"function_entry_count", i64 {next(functions)}}}')
            line = f"{line.removesuffix(' {')} !prof {entries} {{"
        lines.append(line)
    _sum_up(notes, counts)
    return "\n".join([*lines, *notes.lines, ""])


def _coarse(count: int) -> int:
    down = max(0, count.bit_length() - _COARSE)
    return count >> down << down


class _Notes:
    """What is noted behind a text, under numbers that it does not use."""

    def __init__(self, text: str) -> None:
        self.lines: list[str] = []
        self._next = 1 + max((int(n) for n in re.findall(r"^!(\d+) =", text, re.MULTILINE)), default=-1)

    def add(self, what: str) -> str:
        self.lines.append(f"!{self._next} = {what}")
        self._next += 1
        return f"!{self._next - 1}"

    def all_of(self, notes: list[str]) -> str:
        return self.add(f"!{{{', '.join(notes)}}}")


def _sum_up(notes: _Notes, counts: Counts) -> None:
    """Which counts are many and which few: the least counter among the hottest that come to each share of all."""
    ways = [n for branch in counts.branches for n in branch]
    hottest = sorted([*ways, *counts.functions], reverse=True)
    so_far, steps, reached = list(accumulate(hottest)), [], 0
    for share in _SHARES:
        while so_far[reached] < so_far[-1] * share // 1_000_000:
            reached += 1
        steps.append(notes.add(f"!{{i32 {share}, i64 {hottest[reached]}, i32 {reached + 1}}}"))
    figures = {
        "TotalCount": so_far[-1],
        "MaxCount": hottest[0],
        "MaxInternalCount": max(ways),
        "MaxFunctionCount": max(counts.functions),
        "NumCounts": len(hottest),
        "NumFunctions": len(counts.functions),
    }
    told = [notes.add('!{!"ProfileFormat", !"InstrProf"}')]
    told += [notes.add(f'!{{!"{name}", i64 {figure}}}') for name, figure in figures.items()]
    told.append(notes.add(f'!{{!"DetailedSummary", {notes.all_of(steps)}}}'))
    flag = notes.add(f'!{{i32 1, !"ProfileSummary", {notes.all_of(told)}}}')
    notes.lines.append(f"!llvm.module.flags = !{{{flag}}}")
