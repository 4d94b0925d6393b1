"""Tables of numbers as CSV or Parquet, by the ending of the file's name; Parquet is written by DuckDB."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from echotally.database import database, quoted
from echotally.errors import BadInput, Problem
from echotally.files import write_whole
from echotally.output.base.exports import csv_text

if TYPE_CHECKING:
    import pandas as pd

ENDINGS = (".csv", ".parquet")


def check_frame_path(path: Path, option: str) -> None:
    """Refuse an ending that is no table format, before anything is computed."""
    if path.suffix not in ENDINGS:
        raise BadInput(Problem("is not a kind of table", option, value=str(path), allowed=" or ".join(ENDINGS)))


def write_frame(frame: pd.DataFrame, path: Path) -> None:
    """Write a table so that it appears whole or not at all."""
    write_whole(path, csv_text(frame).encode() if path.suffix == ".csv" else parquet(frame))


def parquet(frame: pd.DataFrame) -> bytes:
    """A table as the bytes of a Parquet file."""
    with database() as (connection, folder):
        place = folder / "table.parquet"
        connection.register("frame", frame)
        connection.execute(f"COPY frame TO {quoted(place)} (FORMAT parquet)")
        return place.read_bytes()
