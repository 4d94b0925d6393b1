"""Files of the analyst and of other programs: read bounded and only if they are files, written whole or not at all.

Why it exists: a device, a pipe or a folder in place of a file, a name that a reader takes for a pattern, a run that was
killed in the middle of a write: each is met in one place, here, and nowhere else is a file opened.
Reading raises ``OSError`` with a ``strerror`` for people; ``BadInput`` is made of it where it is known what was wanted.
"""

from __future__ import annotations

import contextlib
import errno
import logging
import os
import shutil
import stat
import sys
import tempfile
from collections.abc import Iterable, Iterator
from functools import cache
from pathlib import Path
from typing import BinaryIO

from echotally.errors import BadInput, Problem, safe

#: What is read from a pipe (``-``) at most, and any text file that is held in memory whole.
LARGEST_PIPE = 64_000_000
_MARK = "echotally"
_LOG = logging.getLogger(__name__)


def opened(path: Path, most: int | None = None) -> BinaryIO:
    """An open regular file; raises ``OSError`` for anything else, and for a file of more than ``most`` bytes."""
    # Not blocking, so that a pipe without a writer does not hold us up before we see that it is one.
    handle = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
    try:
        found = os.fstat(handle)
        if not stat.S_ISREG(found.st_mode):
            raise OSError(errno.EINVAL, "is no regular file but " + _kind(found.st_mode))
        if most is not None and found.st_size > most:
            raise OSError(errno.EFBIG, f"is larger than {most // 10**6} MB")
        _LOG.info("read %s (%s bytes)", safe(str(path)), f"{found.st_size:,}")
        return os.fdopen(handle, "rb")
    except BaseException:
        os.close(handle)
        raise


def _kind(mode: int) -> str:
    kinds = {stat.S_IFDIR: "a folder", stat.S_IFIFO: "a pipe", stat.S_IFSOCK: "a socket"}
    return kinds.get(stat.S_IFMT(mode), "a device")


def content_of(path: Path, most: int) -> bytes:
    """All of a regular file, or of standard input for ``-``, at most ``most`` bytes; raises ``OSError``."""
    if str(path) == "-":
        most = LARGEST_PIPE
        found = _piped(most)
    else:
        with opened(path, most) as file:
            # Some files of the system say that they are empty and are not.
            found = file.read(most + 1)
    if len(found) > most:
        raise OSError(errno.EFBIG, f"is larger than {most // 10**6} MB")
    return found


@cache
def _piped(most: int) -> bytes:
    """Standard input, which can be read once only, while a model is read once more for each change that is tried."""
    if sys.stdin is None:
        raise OSError(errno.EBADF, "standard input is closed")
    return sys.stdin.buffer.read(most + 1)


def text_of(path: Path, most: int = LARGEST_PIPE, errors: str = "replace") -> str:
    """All of a text file in UTF-8, with or without a mark at its head; raises ``OSError``, ``UnicodeDecodeError``."""
    return content_of(path, most).decode("utf-8-sig", errors)


def paths_of(paths: Path | str | Iterable[Path | str]) -> list[Path]:
    """One file or several, as a list; a text is the name of one."""
    return [Path(paths)] if isinstance(paths, Path | str) else [Path(path) for path in paths]


def hold_regular(path: Path) -> None:
    """Raise ``BadInput`` unless the path is a regular file that can be read."""
    try:
        opened(path).close()
    except OSError as error:
        raise unreadable(path, error) from error


def unreadable(path: Path, error: OSError, allowed: str = "") -> BadInput:
    """What to tell the analyst about a file that cannot be read."""
    said = error.strerror or str(error)
    said = said if said.startswith("is ") else f"cannot be read: {said}"
    return BadInput(Problem(said, file="standard input" if str(path) == "-" else str(path), allowed=allowed))


# -- writing ----------------------------------------------------------------------------------------------------------
def write_whole(path: Path, content: bytes | Iterable[bytes]) -> None:
    """Write a file so that it appears whole or not at all: beside it, then renamed into place. What is large comes piece by piece.

    A symbolic link is followed, the mode of a file that is there is kept, and what is no regular file (a device, a
    pipe) is written to directly. Raises ``BadInput``.
    """
    if str(path) == "-":
        raise BadInput(Problem("standard input cannot be written back to", allowed="the name of a file"))
    pieces = (content,) if isinstance(content, bytes) else content
    try:
        target = Path(os.path.realpath(path)) if path.is_symlink() else path
        mode = _mode_of(target)
        if mode is not None and not stat.S_ISREG(mode):
            _write_into(target, mode, pieces)
            return
        if mode is not None and not os.access(target, os.W_OK):
            raise PermissionError(errno.EACCES, "Permission denied: the file is read-only")
        size = _write_beside(target, None if mode is None else stat.S_IMODE(mode), pieces)
        _LOG.info("wrote %s (%s bytes)", safe(str(target)), f"{size:,}")
    except OSError as error:
        raise BadInput(Problem(f"cannot be written: {error.strerror or error}", file=str(path))) from error


def hold_place(path: Path) -> None:
    """Raise ``BadInput`` where a file could not be written for want of its folder, before the work for it is done."""
    folder = path.parent
    if str(path) != "-" and not folder.is_dir():
        said = os.strerror(errno.ENOTDIR if folder.exists() else errno.ENOENT)
        raise BadInput(Problem(f"cannot be written: {said}", file=str(path)))


def _mode_of(path: Path) -> int | None:
    try:
        return path.stat().st_mode
    except FileNotFoundError:
        return None


def _write_into(path: Path, mode: int, pieces: Iterable[bytes]) -> None:
    if stat.S_ISDIR(mode):
        raise IsADirectoryError(errno.EISDIR, "is a folder")
    # A pipe that nobody reads would hold us up for ever.
    handle = os.open(path, os.O_WRONLY | getattr(os, "O_NONBLOCK", 0))
    if hasattr(os, "set_blocking"):
        os.set_blocking(handle, True)
    with os.fdopen(handle, "wb") as file:
        file.writelines(pieces)


def _write_beside(path: Path, mode: int | None, pieces: Iterable[bytes]) -> int:
    folder = path.parent
    _clear(folder, f".{_MARK}-")
    beside = folder / f".{_MARK}-{os.getpid()}-{os.urandom(4).hex()}"
    # Made by hand, so that a new file gets what the umask leaves of 0666.
    handle = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0), 0o666)
    try:
        with os.fdopen(handle, "wb") as file:
            file.writelines(pieces)
            file.flush()
            size = file.tell()
            os.fsync(file.fileno())
        if mode is not None:
            os.chmod(beside, mode)
        os.replace(beside, path)
    except BaseException:
        with contextlib.suppress(OSError):
            beside.unlink()
        raise
    return size


# -- scratch ----------------------------------------------------------------------------------------------------------
@contextlib.contextmanager
def scratch() -> Iterator[Path]:
    """A folder for a while; those that killed runs of ours left behind go with it."""
    base = Path(tempfile.gettempdir())
    _clear(base, f"{_MARK}-")
    folder = base / f"{_MARK}-{os.getpid()}-{os.urandom(4).hex()}"
    try:
        folder.mkdir(mode=0o700)
    except OSError as error:
        raise BadInput(Problem(f"cannot be written: {error.strerror}", file=str(base))) from error
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _clear(folder: Path, prefix: str) -> None:
    """Remove what runs of ours left that are no longer there; what cannot be removed stays."""
    with contextlib.suppress(OSError):
        for entry in os.scandir(folder):
            process, dash, _ = entry.name.removeprefix(prefix).partition("-")
            if not entry.name.startswith(prefix) or not dash or not process.isdecimal() or _runs(int(process)):
                continue
            if entry.is_dir(follow_symlinks=False):
                shutil.rmtree(entry.path, ignore_errors=True)
            else:
                with contextlib.suppress(OSError):
                    os.unlink(entry.path)


def _runs(process: int) -> bool:
    if os.name == "nt":
        return True
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):
        return True
    return True
