"""How the C library hands memory to this process: what is let go is given back to the system."""

from __future__ import annotations

import os
import sys

# Numbers of glibc's ``mallopt`` (malloc.h).
_TRIM_THRESHOLD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -3, -8
#: What is at least as large is a mapping of its own, which is gone as soon as it is let go.
_LARGE_BYTES = 128 * 1024


def set_up() -> None:
    """One heap for all threads, and large arrays outside it; before any thread is started. Nothing where there is no glibc.

    A month of a thousand functions takes and leaves some hundred MB, on several threads. Left to itself the library grows the size
    from which on it maps memory, and gives each thread a heap of its own: a third of a long command's memory was such holes.
    """
    if not sys.platform.startswith("linux") or any(name.startswith("MALLOC_") for name in os.environ):
        return
    import ctypes

    tune = getattr(ctypes.CDLL(None), "mallopt", None)
    if tune is not None:
        for what, value in ((_ARENA_MAX, 1), (_MMAP_THRESHOLD, _LARGE_BYTES), (_TRIM_THRESHOLD, _LARGE_BYTES)):
            tune(what, value)
