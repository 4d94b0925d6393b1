"""The database that reads and writes tables of any size: bounded, alone, and never taking a name for a pattern."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from echotally.files import scratch
from echotally.parts import need

if TYPE_CHECKING:
    from duckdb import DuckDBPyConnection

#: What it holds in memory at most; more goes to the scratch folder, or is refused where it cannot.
MEMORY_LIMIT = "400MB"
#: Signs that its readers take for patterns of file names.
_PATTERN = "*?["


@contextlib.contextmanager
def database(file: str = "", timezone: str = "UTC") -> Iterator[tuple[DuckDBPyConnection, Path]]:
    """A connection of its own and the scratch folder it lives in; ``file``: kept there under this name, else in memory.

    Nothing is fetched from anywhere; ``timezone`` is that of times without an offset.
    """
    need("duckdb")
    import duckdb

    with scratch() as folder:
        connection = duckdb.connect(str(folder / file) if file else ":memory:")
        try:
            connection.execute("SET autoinstall_known_extensions=false; SET autoload_known_extensions=false")
            connection.execute(f"SET memory_limit='{MEMORY_LIMIT}'; SET temp_directory={quoted(folder)}")
            connection.execute(f"SET TimeZone={quoted(timezone)}")
            yield connection, folder
        finally:
            connection.close()


def quoted(text: object) -> str:
    """A text as a literal of SQL."""
    return "'" + str(text).replace("'", "''") + "'"


def quoted_name(name: str) -> str:
    """A column's name in SQL, whatever characters it holds."""
    return '"' + name.replace('"', '""') + '"'


def named_in_sql(path: Path, folder: Path) -> str:
    """A file's name as a literal that a database reads as this file, never as a pattern of names.

    A name with a backslash has no such spelling: the file is read through a link in ``folder``.
    """
    if "\\" in str(path) and os.sep != "\\":
        link = folder / f"input-{os.urandom(4).hex()}{''.join(path.suffixes[-2:])}".replace("\\", "_")
        link.symlink_to(path.absolute())
        path = link
    return quoted("".join(f"[{sign}]" if sign in _PATTERN else sign for sign in str(path)))
