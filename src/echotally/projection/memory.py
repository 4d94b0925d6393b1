"""Memory that nobody uses any more goes back to the machine."""

from __future__ import annotations

import ctypes
import functools
from contextlib import suppress

#: What ``mallopt`` calls the size from which on memory is asked of the machine by itself, and that size.
_APART, _FROM_BYTES = -3, 4 << 20


@functools.cache
def keep_large_arrays_apart() -> None:
    """Have large arrays stand in memory of their own, which goes back to the machine with them, and grows in its place.

    The C library finds out for itself from which size on that is done; the larger the arrays that have gone, the larger that is, up
    to 32 MB, and what is kept of a pool that has grown past it stays beside the longer one (``mallopt``, glibc).
    """
    with suppress(AttributeError, OSError, TypeError):
        ctypes.CDLL(None).mallopt(_APART, _FROM_BYTES)


def give_back_memory() -> None:
    """Let go of what a large month has left free: the C library keeps it for each thread, so that the next month takes its own.

    Where that library is another (``malloc_trim`` is glibc's) nothing is done.
    """
    with suppress(AttributeError, OSError, TypeError):
        ctypes.CDLL(None).malloc_trim(0)
