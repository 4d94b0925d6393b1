"""Kernels that the package brings along, lowered and optimized where it was made, so that a first run need not.

Five sixths of a compilation are the same on every machine: Numba's half, and LLVM's optimizing, which is told there how often months
take each branch. What is left knows the processor: writing machine code for it (``engine/finishing.py``). ``scripts/lower`` makes
them; a test makes them anew and compares, and plays a month with the sources compiled. Whatever does not fit is compiled instead.
"""

from __future__ import annotations

import gzip
import sys
import zlib
from pathlib import Path

from echotally.engine import native

#: LLVM's text of all kernels, packed. Its first lines say what it is: kernels, LLVM's version, entry, and who lowered them.
CARRIED = Path(__file__).parent / "kernel" / "lowered.ll.gz"
_MARKS = ("kernels", "llvm", "entry", "by")


def heading(**marks: str) -> str:
    """The first lines of the text; ``kernels``, ``llvm``, ``entry`` and ``by`` are what it says of itself."""
    return "".join(f"; {mark} {marks[mark]}\n" for mark in _MARKS)


def marks(text: str) -> dict[str, str]:
    """What the first lines say."""
    lines = text.split("\n", len(_MARKS))[: len(_MARKS)]
    found = [line.removeprefix("; ").partition(" ") for line in lines]
    return {mark: what for mark, _, what in found}


def fits(kernels: str) -> bool:
    """Whether kernels of this name are brought along, in a form that LLVM reads here."""
    return _text(kernels) is not None


def machine_code(kernels: str) -> native.MachineCode | None:
    """Machine code for this processor of the kernels of this name; None where others are brought along, or none that fit here.

    Raises ``RuntimeError`` where LLVM cannot make anything of them.
    """
    text = _text(kernels)
    if text is None:
        return None
    import llvmlite.binding as llvm

    from echotally.engine import finishing

    code = finishing.written(llvm.parse_assembly(text), finishing.this_processor())
    return native.MachineCode(marks(text)["entry"], code)


def _text(kernels: str) -> str | None:
    """LLVM's text is read by the version that wrote it, and was tried where code ``stands_together`` only."""
    if not native.stands_together():
        return None
    try:
        text = gzip.decompress(CARRIED.read_bytes()).decode()
    except (OSError, EOFError, zlib.error, ValueError):
        return None
    its = marks(text)
    fit = its.get("kernels") == kernels and its.get("llvm") == llvm_version() and "entry" in its
    return text if fit else None


def llvm_version() -> str:
    """The version of LLVM in this process, as far as its text depends on it."""
    import llvmlite.binding as llvm

    return str(llvm.llvm_version_info[0])


def lowered_by() -> str:
    """Who would lower kernels here: another compiler or Python may write another text of the same meaning."""
    from importlib.metadata import version

    return f"Numba {version('numba')}, Python {sys.version_info.major}.{sys.version_info.minor}"
