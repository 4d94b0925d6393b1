"""Pools too large for memory: records stand in a file, and those that nobody looks at for a while are in no memory.

Why it exists: of millions of messages that wait only the oldest and the newest are looked at, but a world has a record for each. A
spilled pool is an array over the mapping of a file without a name, so that kernels see no difference and nothing is left
behind. While any is there, a thread lets its pages go again and again: the system has them in the file, and brings back what is
touched. A process that forks may read its parent's spilled pools and not write to them.
"""

from __future__ import annotations

import contextlib
import mmap
import os
import tempfile
import time
from pathlib import Path
from threading import Lock, Thread
from typing import IO, Any
from weakref import WeakSet

import numpy as np

from echotally.engine.compiling import cache_folder

#: A pool of so many bytes and more is spilled, and made longer by half as many at a time.
LARGE = 32 * 2**20
#: So much of what is spilled stays in memory, about.
_KEPT = 48 * 2**20
#: How often that is looked at, s: whoever counts what is left at the month's end touches 10 MB in a thousandth of it. More seldom
#: where the system does not tell how much there is.
_LOOK_S, _LOOK_UNTOLD_S = 0.003, 0.2


class _File:
    """A file without a name, closed with the last pool that stands in it."""

    def __init__(self, handle: IO[bytes]) -> None:
        self.handle, self.size = handle, 0

    def reserve(self, size: int) -> None:
        """Make it so long; raises ``OSError`` where the disk has no room: a page that finds none ends the process later."""
        if hasattr(os, "posix_fallocate"):
            os.posix_fallocate(self.handle.fileno(), self.size, size - self.size)
        else:
            self.handle.truncate(size)
        self.size = size

    def __del__(self) -> None:
        self.handle.close()


class _Mapping(mmap.mmap):
    """All of a pool's file."""

    file: _File


class _Spilled:
    """What of this process is spilled, and the thread that lets its pages go."""

    def __init__(self) -> None:
        self.lock = Lock()
        self.mappings: WeakSet[_Mapping] = WeakSet()
        self.trimmer: Thread | None = None

    def add(self, mapping: _Mapping) -> None:
        """Let its pages go from here on."""
        with self.lock:
            self.mappings.add(mapping)
            if self.trimmer is None:
                self.trimmer = Thread(target=self._trims, args=(_mapped() or 0,), daemon=True)
                self.trimmer.start()

    def after_fork(self) -> None:
        """In the child, which took the lock along and no thread."""
        self.mappings, self.trimmer = WeakSet(), None
        self.lock.release()

    def _trims(self, before: int) -> None:
        """Let pages go where there are more than are kept, as long as there are any; ``before``: bytes of other files."""
        while self._let_go(before):
            time.sleep(_LOOK_UNTOLD_S if _mapped() is None else _LOOK_S)

    def _let_go(self, before: int) -> bool:
        # In a function of its own: a mapping that this thread still knew would never end.
        with self.lock:
            mappings, known = list(self.mappings), _mapped()
            if not mappings:
                self.trimmer = None
        if known is None or known > before + _KEPT:
            for mapping in mappings:
                with contextlib.suppress(OSError, ValueError, AttributeError):
                    mapping.madvise(mmap.MADV_DONTNEED)
        return bool(mappings)


_SPILLED = _Spilled()
if hasattr(os, "register_at_fork"):
    os.register_at_fork(
        before=_SPILLED.lock.acquire, after_in_parent=_SPILLED.lock.release, after_in_child=_SPILLED.after_fork
    )


def is_spilled(array: Any) -> bool:
    """Whether an array is one over a file."""
    return _mapping_of(array) is not None


def lengthened(array: Any, n: int) -> Any | None:
    """The pool with so many places, those that are new of zeros, over a file; None where there is no room for one."""
    size, own = n * array.itemsize, _mapping_of(array)
    try:
        file = own.file if own else _File(_nameless())
        file.reserve(size)
        mapping = _Mapping(file.handle.fileno(), size)
    except (OSError, ValueError):
        return None
    mapping.file = file
    longer = np.frombuffer(mapping, array.dtype, n)
    if own is None:
        longer[: len(array)] = array
    _SPILLED.add(mapping)
    return longer


def room_for(size: int) -> bool:
    """Whether so many bytes more have room in memory, as far as the system tells."""
    try:
        lines = Path("/proc/meminfo").read_text().splitlines()
        return size < int(next(line for line in lines if line.startswith("MemAvailable")).split()[1]) * 1024
    except (OSError, StopIteration, ValueError):
        return True


def _mapping_of(array: Any) -> _Mapping | None:
    while isinstance(array, np.ndarray):
        array = array.base
    found = array.obj if isinstance(array, memoryview) else array
    return found if isinstance(found, _Mapping) else None


def _nameless() -> IO[bytes]:
    """Beside kept machine code, which is on a disk, else where temporary files go."""
    with contextlib.suppress(OSError):
        folder = cache_folder().parent
        folder.mkdir(parents=True, exist_ok=True)
        return tempfile.TemporaryFile(dir=folder)
    return tempfile.TemporaryFile()


def _mapped() -> int | None:
    """Bytes of files that this process has in memory; None where the system does not tell."""
    try:
        return int(Path("/proc/self/statm").read_text().split()[2]) * mmap.PAGESIZE
    except (OSError, ValueError, IndexError):
        return None
