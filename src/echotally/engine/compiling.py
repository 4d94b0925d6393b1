"""How a step is asked of the kernels: machine code kept from an earlier run, made now, or plain Python.

Importing this module imports no compiler, so that asking is cheap; with machine code at hand none is imported at all.
"""

from __future__ import annotations

import functools
import hashlib
import logging
import os
import sys
from collections.abc import Callable
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path
from threading import Lock
from typing import Any

import numpy as np
from msgspec import Struct

from echotally.engine import carried, native
from echotally.errors import OurFault

_KERNELS = Path(__file__).parent / "kernel"
_COMPILERS = ("numba", "llvmlite", "numpy")


class Form(Struct, frozen=True):
    """A form of the kernels: ``door`` makes of a world what its entry is handed, ``run`` takes a step."""

    door: Callable[[Any], Any]
    run: Callable[[Any, int, int, int], int]


@functools.cache
def kernels_name() -> str:
    """A digest of all kernel sources: whatever was kept under another name is of other kernels."""
    sources = [
        *sorted(_KERNELS.glob("*.py")),
        *sorted((_KERNELS.parent / "records").glob("*.py")),
        *(_KERNELS.parent / f"{name}.py" for name in ("codes", "layout", "ziggurat")),
    ]
    return "kernels-" + hashlib.blake2b(b"".join(path.read_bytes() for path in sources), digest_size=8).hexdigest()


def cache_folder() -> Path:
    """The user's folder for machine code of these kernels."""
    base = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    return Path(os.environ.get("ECHOTALLY_CACHE") or Path(base) / "echotally") / kernels_name()


@functools.cache
def _code_name() -> str:
    versions = [f"{name} {_version(name)}" for name in _COMPILERS]
    made_by = "\n".join([*versions, sys.version, native.processor()])
    return hashlib.blake2b(made_by.encode(), digest_size=8).hexdigest() + ".code"


def _version(name: str) -> str:
    try:
        return version(name)
    except PackageNotFoundError:
        return "none"


def code_path() -> Path:
    """Where machine code for this processor, made by this compiler, is kept."""
    return cache_folder() / _code_name()


def first_time() -> bool:
    """Whether no machine code of these kernels is kept yet."""
    return not _plain_wanted() and not code_path().is_file()


def takes_about_s() -> int:
    """About how long a first time takes, s: five times as long where the package brings no kernels along that fit."""
    return 6 if not _own_wanted() and carried.fits(kernels_name()) else 30


def _plain_wanted() -> bool:
    return os.environ.get("ECHOTALLY_KERNELS") == "checked"


def _own_wanted() -> bool:
    """Whether machine code is to be made of these very sources, whatever the package brings along."""
    return os.environ.get("ECHOTALLY_KERNELS") == "compiled"


_LOCK = Lock()
_LOG = logging.getLogger(__name__)
_FORM: list[Form] = []


def form() -> Form:
    """The form of the kernels in this process; makes machine code of them where nobody has."""
    if not _FORM:
        with _LOCK:
            if not _FORM:
                _FORM.append(_plain() if _plain_wanted() else _kept() or _carried() or _compiled() or _plain())
    return _FORM[0]


def _kept() -> Form | None:
    """Machine code of an earlier run; None where there is none that fits."""
    try:
        code = native.MachineCode.read(code_path())
        if code:
            _LOG.info("the compiled simulation was kept in %s", code_path())
        return _native(native.load(code)) if code else None
    except (RuntimeError, ImportError, OSError):
        return None


def _carried() -> Form | None:
    """Machine code of what the package brings along, made and kept now; None where that does not fit."""
    if _own_wanted():
        return None
    try:
        code = carried.machine_code(kernels_name())
        return _made(code) if code else None
    except (RuntimeError, ImportError, OurFault):
        # Compiling takes longer, and needs nothing of this.
        return None


def _compiled() -> Form | None:
    """The kernels compiled now, and their machine code kept; None where the compiler cannot be used."""
    load_numba_lightly()
    from echotally.engine.kernel.compiled import COMPILED
    from echotally.engine.kernel.loop import simulation

    if not COMPILED:
        return None
    compiled: Any = simulation
    return _made(native.MachineCode(*compiled.machine_code()))


def _made(code: native.MachineCode) -> Form:
    code = native.tried(code)
    native.keep(code, code_path())
    _LOG.info("compiled the simulation, and kept it in %s", code_path())
    return _native(native.load(code))


def _native(run: native.Entry) -> Form:
    return Form(_addresses, lambda door, step, a, b: run(door.ctypes.data, step, a, b))


def _addresses(world: Any) -> np.ndarray[Any, np.dtype[Any]]:
    """One record of addresses and lengths, ``layout.ADDRESSES``. ``world`` must be kept alive while it is used."""
    # As plain numbers: filling in a record field by field takes longer than a short play.
    return np.array([*(array.ctypes.data for array in world), *map(len, world)], np.int64)


def _plain() -> Form:
    from echotally.engine.kernel.checked import CheckedWorld
    from echotally.engine.kernel.loop import simulation

    run: Any = simulation
    return Form(CheckedWorld, lambda world, step, a, b: int(run(world, np.int64(step), np.int64(a), np.int64(b))))


def load_numba_lightly() -> None:
    """Import Numba without SciPy, for a process whose kernels multiply no matrices.

    Numba imports ``scipy.linalg`` only to learn whether ``numpy.dot`` can be compiled; that is a seventh
    of the start of a short command. Programs that use our API keep the whole of Numba.
    """
    blas = "scipy.linalg.cython_blas"
    if blas in sys.modules or "numba.np.arraymath" in sys.modules:
        return
    # An entry of None makes that one import fail, as on a machine without SciPy; it goes again at once.
    sys.modules[blas] = None  # type: ignore[assignment]
    try:
        import numba.np.arraymath  # noqa: F401
    except ImportError:
        # Without a compiler the plain form plays.
        return
    finally:
        del sys.modules[blas]
