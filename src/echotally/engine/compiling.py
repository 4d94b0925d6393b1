"""What comes before the first simulation: are the kernels compiled, and is Numba loaded lightly?

Importing this module does not import Numba, so that asking is cheap.
"""

from __future__ import annotations

import hashlib
import os
import sys
from pathlib import Path

_KERNELS = Path(__file__).parent / "kernel"


def cache_folder() -> Path:
    """The user's cache folder for machine code, by a digest of all kernel sources.

    Numba notices a change only in the file of the function it compiles; the digest covers them all.
    """
    sources = [
        *sorted(_KERNELS.glob("*.py")),
        *(_KERNELS.parent / f"{name}.py" for name in ("codes", "layout", "ziggurat")),
    ]
    digest = hashlib.blake2b(b"".join(path.read_bytes() for path in sources), digest_size=8).hexdigest()
    base = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    return Path(os.environ.get("ECHOTALLY_CACHE") or Path(base) / "echotally") / f"kernels-{digest}"


def first_time() -> bool:
    """Whether no machine code of these kernels is kept yet."""
    folder = cache_folder()
    return not (folder.is_dir() and any(folder.rglob("*.nbi")))


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
    finally:
        del sys.modules[blas]
