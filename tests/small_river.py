"""A small river watch, frozen: the estate most tests ask, which the demo's story cannot move."""

from __future__ import annotations

import shutil
from pathlib import Path

SMALL_RIVER = Path(__file__).parent / "river"


def write_small_river(folder: Path) -> None:
    """Its model, cards, trace, program and evidence, in ``folder``."""
    shutil.copytree(SMALL_RIVER, folder, dirs_exist_ok=True)


def small_river_files() -> dict[str, bytes]:
    """Its files by relative path."""
    paths = sorted(path for path in SMALL_RIVER.rglob("*") if path.is_file() and path.suffix != ".pyc")
    return {path.relative_to(SMALL_RIVER).as_posix(): path.read_bytes() for path in paths}
