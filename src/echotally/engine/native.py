"""Machine code of the kernels, loaded without the compiler: a run that only plays imports no Numba.

What is kept is one object file with one function. LLVM's loader links it into this process; what it was compiled for (sources,
compiler, processor) is its name, and a digest beside it says that it is whole. Nothing else is believed: a file that does
not fit is not loaded, and code is first loaded in a process of its own, where what it lacks can do no harm.
"""

from __future__ import annotations

import contextlib
import ctypes
import functools
import hashlib
import json
import os
import platform
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from echotally.errors import OurFault

#: What Python calls: the address of a door, a step, and two numbers that mean what the step says.
Entry = Callable[[int, int, int, int], int]
#: Long enough to load a file on a busy machine.
_TRIAL_S = 60.0


class MachineCode(Struct, frozen=True):
    """An object file, the name of its function, and whether it needs what only the compiler brings along."""

    symbol: str
    code: bytes
    needs_compiler: bool = False

    def content(self) -> bytes:
        """The file: a line that says what it is, then the object."""
        head = {"symbol": self.symbol, "needs_compiler": self.needs_compiler, "digest": _digest(self.code)}
        return json.dumps(head).encode() + b"\n" + self.code

    @classmethod
    def read(cls, path: Path) -> MachineCode | None:
        """What was saved; None where there is nothing, or something else."""
        try:
            first, _, code = path.read_bytes().partition(b"\n")
            head = json.loads(first)
            found = cls(str(head["symbol"]), code, bool(head["needs_compiler"]))
            return found if head["digest"] == _digest(code) else None
        except (OSError, ValueError, KeyError, TypeError):
            return None


def _digest(code: bytes) -> str:
    return hashlib.blake2b(code, digest_size=16).hexdigest()


@functools.cache
def processor() -> str:
    """The processor of this machine and what it can do, as LLVM names them."""
    import llvmlite.binding as llvm

    features = llvm.get_host_cpu_features().flatten()
    return f"{llvm.get_process_triple()} {llvm.get_host_cpu_name()} {features}"


def stands_together() -> bool:
    """Whether machine code and its constants are laid side by side here, so that it calls and reads by distances of 32 bits.

    Addresses of 64 bits for each call and constant are what a loader needs that lays sections anywhere. They cost an instruction
    each, and a month's attempts 3 % of their time.
    """
    return sys.platform == "linux" and platform.machine() == "x86_64"


#: Loaded code lives as long as its engine.
_ENGINES: list[Any] = []


def load(machine_code: MachineCode) -> Entry:
    """Link machine code into this process; raises ``RuntimeError`` where that cannot be."""
    import llvmlite.binding as llvm

    if machine_code.needs_compiler:
        # Importing it makes its helpers known to the loader.
        import numba  # noqa: F401
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    machine = llvm.Target.from_default_triple().create_target_machine(jit=True)
    # Its own memory manager lays all sections into one piece; the usual one does not promise it.
    side_by_side = stands_together() or None
    engine = llvm.create_mcjit_compiler(llvm.parse_assembly(""), machine, use_lmm=side_by_side)
    engine.add_object_file(llvm.ObjectFileRef.from_data(machine_code.code))
    engine.finalize_object()
    address = engine.get_function_address(machine_code.symbol)
    if not address:
        raise RuntimeError(f"the machine code has no function {machine_code.symbol}")
    _ENGINES.append(engine)
    # As Numba's functions are called: where to put the answer and an error, then the arguments. The interpreter is released.
    function = ctypes.CFUNCTYPE(ctypes.c_int32, ctypes.c_void_p, ctypes.c_void_p, *[ctypes.c_int64] * 4)(address)

    def run(door: int, step: int, a: int, b: int) -> int:
        answer, error = ctypes.c_int64(), ctypes.c_void_p()
        if function(ctypes.addressof(answer), ctypes.addressof(error), door, step, a, b):
            raise OurFault("a kernel stopped with an error")
        return answer.value

    return run


def tried(machine_code: MachineCode) -> MachineCode:
    """Machine code that a process of its own has loaded, with the compiler's help if need be.

    Where no such process can be started (this one is no Python interpreter), it is taken with the compiler's help, as the
    compiler itself would load it. Raises ``OurFault`` where it cannot be loaded: a loader that lacks a symbol ends its
    process without a word.
    """
    helped = replace(machine_code, needs_compiler=True)
    if not _runs("native.processor()"):
        return helped
    for candidate in (machine_code, helped):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "tried.code"
            path.write_bytes(candidate.content())
            if _runs("native.load(native.MachineCode.read(Path(sys.argv[1])))", str(path)):
                return candidate
    raise OurFault("compiled kernels cannot be loaded here; ECHOTALLY_KERNELS=checked plays without the compiler")


def keep(machine_code: MachineCode, path: Path) -> None:
    """Write it whole or not at all; where nothing can be written it is compiled again next time."""
    beside = path.with_suffix(f".{os.getpid()}")
    with contextlib.suppress(OSError):
        path.parent.mkdir(parents=True, exist_ok=True)
        try:
            beside.write_bytes(machine_code.content())
            os.replace(beside, path)
        finally:
            beside.unlink(missing_ok=True)


def _runs(what: str, *arguments: str) -> bool:
    """Whether a process of its own comes to an end of this well."""
    program = f"import sys; from pathlib import Path; from echotally.engine import native; {what}"
    command = [sys.executable or "python3", "-c", program, *arguments]
    environment = {**os.environ, "PYTHONPATH": os.pathsep.join(path for path in sys.path if path)}
    try:
        done = subprocess.run(
            command, stdin=subprocess.DEVNULL, capture_output=True, timeout=_TRIAL_S, check=False, env=environment
        )
    except (OSError, subprocess.SubprocessError):
        return False
    return done.returncode == 0
