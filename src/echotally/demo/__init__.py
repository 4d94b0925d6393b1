"""The packaged example, a river watch that is entirely made up, and the starter files."""

from __future__ import annotations

from importlib.resources import as_file, files
from pathlib import Path

from echotally.errors import BadInput, Problem
from echotally.files import write_whole


def packaged_files(name: str) -> dict[str, bytes]:
    """The files of a packaged folder, by relative path."""
    with as_file(files("echotally.demo") / "files" / name) as folder:
        return {
            path.relative_to(folder).as_posix(): path.read_bytes()
            for path in sorted(folder.rglob("*"))
            if path.is_file()
        }


def write_example(name: str, folder: Path) -> list[Path]:
    """Copy a packaged folder to ``folder``; an existing file that differs is an error, and nothing is written."""
    wanted = packaged_files(name)
    clashes = [folder / path for path, content in wanted.items() if _differs(folder / path, content)]
    if clashes:
        raise BadInput(
            [Problem("is already there and differs; nothing was written", file=str(path)) for path in clashes]
        )
    written = []
    try:
        for relative, content in wanted.items():
            path = folder / relative
            path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(path, content)
            written.append(path)
    except OSError as error:
        raise BadInput(Problem(f"cannot be written: {error.strerror}", file=str(folder))) from error
    return written


def _differs(path: Path, content: bytes) -> bool:
    try:
        return path.exists() and path.read_bytes() != content
    except OSError:
        return True
