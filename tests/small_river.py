"""A small river watch, frozen: the estate most tests ask, which the demo's story cannot move."""

from __future__ import annotations

from pathlib import Path

from echotally.demo import packaged_files

SMALL_RIVER = Path(__file__).parent / "river"
#: What the demo ships of it, as the evidence of a county: not kept twice.
_SHIPPED = {"county/": "logs/", "programs/": "programs/"}


def write_small_river(folder: Path) -> None:
    """Its model, cards, trace, program and evidence, in ``folder``."""
    for name, content in small_river_files().items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(content)


def small_river_files() -> dict[str, bytes]:
    """Its files by relative path."""
    paths = sorted(path for path in SMALL_RIVER.rglob("*") if path.is_file())
    own = {path.relative_to(SMALL_RIVER).as_posix(): path.read_bytes() for path in paths}
    shipped = {
        name.replace(theirs, ours, 1): content
        for name, content in packaged_files("river-watch").items()
        for theirs, ours in _SHIPPED.items()
        if name.startswith(theirs) and not name.endswith(".pyc")
    }
    return shipped | own
