"""What the program stands on: interpreter, libraries, zones, and the one folder it keeps files in."""

from __future__ import annotations

import platform
import sys
from importlib.metadata import PackageNotFoundError, version

from echotally.demand.preview import zone_data_version
from echotally.engine.compiling import cache_folder, first_time

#: Libraries that a figure or a picture depends on.
_LIBRARIES = (
    "numpy",
    "numba",
    "llvmlite",
    "pydantic",
    "msgspec",
    "duckdb",
    "pandas",
    "rich",
    "click",
    "tzdata",
    "matplotlib",
)


def surroundings() -> str:
    """Lines for people: what a report of a fault should name, and what is left when the program is uninstalled."""
    folder = cache_folder().parent
    lines = [
        f"Python {platform.python_version()} ({sys.executable})",
        f"{platform.system()} {platform.release()}, {platform.machine()}",
        f"time zones {zone_data_version()}",
        *(f"{name} {_of(name)}" for name in _LIBRARIES),
        f"compiled simulation: {folder}{' (none yet)' if first_time() else ''}",
        "That folder is all that is kept outside the files you name; it can be removed at any time, and is what uninstalling leaves:",
        f"  pip uninstall echotally && rm -r {folder}",
    ]
    return "\n".join(lines) + "\n"


def _of(name: str) -> str:
    try:
        return version(name)
    except PackageNotFoundError:
        return "(not installed)"
