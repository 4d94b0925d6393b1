"""Text files of unknown origin: refuses what is no text, and brings odd encodings to UTF-8."""

from __future__ import annotations

import gzip
import zlib
from pathlib import Path

from echotally.errors import BadInput, Problem
from echotally.files import opened, unreadable

_PIECE = 1_048_576
_UTF16 = (b"\xff\xfe", b"\xfe\xff")


def hold_against(path: Path, forms: str) -> None:
    """Raise ``BadInput`` for a file that is empty or plainly binary."""
    try:
        with opened(path) as file:
            start = file.read(4_096)
    except OSError as error:
        raise unreadable(path, error, forms) from error
    if not start.strip():
        raise BadInput(Problem("is empty", file=path.name, allowed=forms))
    if path.suffix != ".gz" and b"\0" in start and not start.startswith(_UTF16):
        raise BadInput(Problem("is not text", file=path.name, allowed=forms))


def unpacked(path: Path, folder: Path) -> Path:
    """A gzipped file, unpacked in ``folder``; raises ``BadInput`` for one that is damaged."""
    copy = folder / path.name.removesuffix(".gz")
    try:
        with opened(path) as packed, gzip.open(packed) as old, copy.open("wb") as new:
            while piece := old.read(_PIECE):
                new.write(piece)
    except (OSError, EOFError, zlib.error) as error:
        raise BadInput(Problem(f"cannot be unpacked: {error}", file=path.name)) from error
    return copy


def unpacked_text(path: Path, most: int) -> str:
    """The text of a gzipped file of at most so many bytes; raises ``BadInput`` for one that is larger or damaged."""
    try:
        with opened(path) as packed, gzip.open(packed) as old:
            data = old.read(most + 1)
    except (OSError, EOFError, zlib.error) as error:
        raise BadInput(Problem(f"cannot be unpacked: {error}", file=path.name)) from error
    if len(data) > most:
        raise BadInput(Problem(f"unpacks to more than {most >> 20} MB", file=path.name))
    return data.decode("utf-8", "replace")


def utf8(path: Path, folder: Path) -> tuple[Path, str]:
    """The file itself, or a copy of it in UTF-8 in ``folder``, and what was assumed about it, in words."""
    encoding = _encoding(path)
    if encoding is None:
        return path, ""
    copy = folder / f"utf8{''.join(path.suffixes[-2:])}"
    with path.open(encoding=encoding, errors="replace", newline="") as old, copy.open("w", encoding="utf-8") as new:
        while piece := old.read(_PIECE):
            new.write(piece)
    return copy, f"{path.name} is not UTF-8; read as {encoding}"


def _encoding(path: Path) -> str | None:
    """None for UTF-8 and for what is packed; only the first megabyte is looked at."""
    if path.suffix == ".gz":
        return None
    with opened(path) as file:
        start = file.read(_PIECE)
    if start.startswith(_UTF16):
        return "utf-16"
    try:
        start.decode("utf-8")
    except UnicodeDecodeError as error:
        # A character cut in two at the end of the piece is no mistake.
        return None if len(start) == _PIECE and error.start > _PIECE - 4 else "cp1252"
    return None
