"""Memory that nobody uses any more goes back to the machine."""

from __future__ import annotations

import ctypes
from contextlib import suppress


def give_back_memory() -> None:
    """Let go of what a large month has left free: the C library keeps it for each thread, so that the next month takes its own.

    Where that library is another (``malloc_trim`` is glibc's) nothing is done.
    """
    with suppress(AttributeError, OSError, TypeError):
        ctypes.CDLL(None).malloc_trim(0)
