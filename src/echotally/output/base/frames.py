"""Tables of numbers as CSV or Parquet, by the ending of the file's name; Parquet is written by DuckDB."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from echotally.database import database, quoted
from echotally.errors import BadInput, Problem
from echotally.files import write_whole
from echotally.output.base.exports import csv_text

if TYPE_CHECKING:
    import pandas as pd

ENDINGS = (".csv", ".parquet")
#: So many rows, and so many bytes, are written at a time.
_ROWS, _PIECE = 20_000, 1 << 20


def check_frame_path(path: Path, option: str) -> None:
    """Refuse an ending that is no table format, before anything is computed."""
    if path.suffix not in ENDINGS:
        raise BadInput(Problem("is not a kind of table", option, value=str(path), allowed=" or ".join(ENDINGS)))


def write_frame(frame: pd.DataFrame, path: Path) -> None:
    """Write a table so that it appears whole or not at all."""
    write_whole(path, csv_text(frame).encode() if path.suffix == ".csv" else parquet(frame))


def write_frames(frames: Iterable[pd.DataFrame], path: Path) -> None:
    """As ``write_frame``, a table that comes in parts of the same columns, of which no more than one is in memory."""
    write_whole(path, _csv_pieces(frames) if path.suffix == ".csv" else _parquet_pieces(frames))


def _csv_pieces(frames: Iterable[pd.DataFrame]) -> Iterator[bytes]:
    for number, frame in enumerate(frames):
        # The cells of a piece stand in memory as objects.
        for first in range(0, len(frame) or 1, _ROWS):
            yield csv_text(frame[first : first + _ROWS], heading=number == first == 0).encode()


def _parquet_pieces(frames: Iterable[pd.DataFrame]) -> Iterator[bytes]:
    with database("parts.db") as (connection, folder):
        place = folder / "table.parquet"
        for number, frame in enumerate(frames):
            connection.register("frame", frame)
            connection.execute(f"{'INSERT INTO parts' if number else 'CREATE TABLE parts AS'} SELECT * FROM frame")
            connection.unregister("frame")
        connection.execute(f"COPY parts TO {quoted(place)} (FORMAT parquet)")
        with place.open("rb") as file:
            yield from iter(partial(file.read, _PIECE), b"")


def parquet(frame: pd.DataFrame) -> bytes:
    """A table as the bytes of a Parquet file."""
    with database() as (connection, folder):
        place = folder / "table.parquet"
        connection.register("frame", frame)
        connection.execute(f"COPY frame TO {quoted(place)} (FORMAT parquet)")
        return place.read_bytes()
