"""Traces: measured counts over time, from CSV or Parquet, laid into the month."""

from __future__ import annotations

import csv
import io
from datetime import UTC, datetime
from functools import lru_cache
from itertools import islice
from pathlib import Path
from stat import S_ISREG
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.database import database, named_in_sql, quoted_name
from echotally.demand.clock import MonthClock, to_utc
from echotally.demand.stretches import Stretches
from echotally.errors import Refused
from echotally.files import opened

Whole = NDArray[np.int64]
_FORMS = "a CSV or Parquet file with the columns time (ISO 8601) and count (a whole number, 0 or more)"
_MOST_ROWS = 5_000_000
_LARGEST_BYTES = 1_000_000_000
#: More in one row than any month could play, and few enough for 64 bits.
_MOST_EVENTS = 1e18
#: So far from the month that two such times and what lies between them are whole numbers of 64 bits.
_FARTHEST_NS = 2**62
#: A trace has two; of a file with more the first few tell that it is none.
_MOST_COLUMNS = 10


class BadTrace(Refused):
    """A trace that cannot be used."""


class Trace(Struct, frozen=True):
    """A trace laid into a month: its stretches, and what was left out or looked odd, in words."""

    stretches: Stretches
    notes: tuple[str, ...]


def read_trace(path: Path, clock: MonthClock, factor: float, repeat: bool) -> Trace:
    """Read a trace and lay it into the month; counts are scaled by ``factor``, rounded half up.

    Raises ``BadTrace`` if a row is malformed, times do not rise, or the month is not covered.
    """
    start, count = _rows(path, clock, _stamp(path))
    if (np.diff(start) <= 0).any():
        place = int(np.argmax(np.diff(start) <= 0)) + 3
        raise BadTrace(
            f"row {place} of {path.name} does not come after the row before it", "rising times without duplicates"
        )
    # A row says when its count begins; the last one is taken to be as long as the one before it.
    if len(start) < 2:
        raise BadTrace(
            f"{path.name} has {len(start)} row(s)", "at least two rows, so that the last one's length is known"
        )
    length_ns, notes = clock.length_ns, list[str]()
    end = np.append(start[1:], 2 * start[-1] - start[-2])
    if float(count.max()) * factor > _MOST_EVENTS:
        raise BadTrace(f"{path.name} has counts that, times {factor:g}, are more than can be played", "smaller counts")
    if factor != 1:
        # Rounded half up (rule 2.3).
        count = (count * factor + 0.5).astype(np.int64)
    if repeat:
        start, end, count = _end_to_end(start, end, count, length_ns)
    elif start[0] > 0 or end[-1] < length_ns:
        raise BadTrace(
            f"{path.name} is shorter than the month {clock.month}", "a trace of the whole month, or repeat = true"
        )
    inside = (start >= 0) & (start < length_ns)
    outside = len(start) - int(inside.sum())
    if outside and not repeat:
        notes.append(f"{path.name}: {outside} row(s) outside {clock.month} left out")
    notes += _spacing_notes(path, clock, start if not repeat else _rows(path, clock, _stamp(path))[0])
    kept = start[inside]
    return Trace(Stretches(kept, np.minimum(end[inside], length_ns), np.zeros(len(kept)), count[inside]), tuple(notes))


def _spacing_notes(path: Path, clock: MonthClock, start: Whole) -> list[str]:
    """Uneven rows and gaps, in words: a gap is more than one and a half times the usual step."""
    found = np.diff(start)
    if found.min() == found.max():
        return []
    starts, steps = start.tolist(), found.tolist()
    # The median: a few gaps do not move it.
    usual = sorted(steps)[len(steps) // 2]
    gaps = [(step, start) for step, start in zip(steps, starts, strict=False) if step > 1.5 * usual]
    spread = f"{path.name}: rows are {min(steps) / 1e9:g} s to {max(steps) / 1e9:g} s apart; a count covers the time to the next row"
    if not gaps:
        return [spread]
    longest, at = max(gaps)
    when = clock.instant(at).astimezone(clock.zone)
    return [spread, f"{path.name}: {len(gaps)} gap(s), the longest {longest / 3.6e12:g} h after {when:%Y-%m-%d %H:%M}"]


def _end_to_end(start: Whole, end: Whole, count: Whole, length_ns: int) -> tuple[Whole, Whole, Whole]:
    """The trace laid from the month's start, again and again, in elapsed time."""
    first, period = int(start[0]), int(end[-1] - start[0])
    times = -(-length_ns // period)
    last = int((start - first + (times - 1) * period < length_ns).sum())
    if (times - 1) * len(start) + last > _MOST_ROWS:
        raise BadTrace(f"is so short that it would be laid more than {_MOST_ROWS} rows long", "a longer trace")
    offsets = np.repeat(np.arange(times, dtype=np.int64) * period - first, len(start))
    start, end, count = (np.tile(each, times) for each in (start, end, count))
    within = start + offsets < length_ns
    return (start + offsets)[within], (end + offsets)[within], count[within]


def _stamp(path: Path) -> tuple[int, int] | None:
    """What tells a file from the same one changed since; None of what is none, or is not there."""
    try:
        found = path.stat()
    except OSError:
        return None
    return (found.st_mtime_ns, found.st_size) if S_ISREG(found.st_mode) else None


@lru_cache(maxsize=16)
def _rows(path: Path, clock: MonthClock, stamp: tuple[int, int] | None) -> tuple[Whole, Whole]:
    """Columns: when each row's count begins, ns from the month's start, and the count.

    Read once for all environments, and for all points of a study, as long as the file is what it was (``stamp``).
    """
    try:
        # Looked at before it is parsed: size, kind of file, whether it can be read at all.
        opened(path, _LARGEST_BYTES).close()
    except OSError as error:
        raise BadTrace(f"cannot be read: {path.name}: {error.strerror}", _FORMS) from error
    names, found = _parquet(path) if path.suffix == ".parquet" else _csv(path)
    if sorted(names) != ["count", "time"]:
        known = {"count", "time"} & set(names)
        # Until a heading is known the file may be anything, and is not quoted.
        seen = f"has the columns {', '.join(names)[:80]}" if known else "has neither of the columns time and count"
        raise BadTrace(f"{path.name} {seen}", _FORMS)
    if not 0 < len(found) <= _MOST_ROWS:
        raise BadTrace(f"{path.name} has {len(found)} rows", f"1 to {_MOST_ROWS} rows")
    time_at, count_at = names.index("time"), names.index("count")
    if any(len(row) != 2 for row in found):
        place = next(n for n, row in enumerate(found, 2) if len(row) != 2)
        raise BadTrace(f"row {place} of {path.name} has not two cells", _FORMS)
    start = np.array([_time_ns(row[time_at], clock, path, n) for n, row in enumerate(found, 2)], np.int64)
    count = np.array([_count(row[count_at], path, n) for n, row in enumerate(found, 2)], np.int64)
    return start, count


def _csv(path: Path) -> tuple[list[str], list[Any]]:
    try:
        with io.TextIOWrapper(opened(path), newline="", encoding="utf-8-sig") as file:
            rows = csv.reader(file)
            names = [name.strip().lower() for name in next(rows, [])]
            return names, [row for row in islice(rows, _MOST_ROWS + 1) if row]
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise BadTrace(f"{path.name} cannot be read ({error})", _FORMS) from error


def _parquet(path: Path) -> tuple[list[str], list[Any]]:
    import duckdb

    try:
        with database() as (connection, folder):
            source = f"read_parquet({named_in_sql(path, folder)}, hive_partitioning=false)"
            found = connection.execute(f"DESCRIBE SELECT * FROM {source}").fetchall()
            # Texts are cut, so that a few cells cannot fill the memory; no time and no count is longer.
            cells = [
                f"left({quoted_name(row[0])}, 100) AS {quoted_name(row[0])}"
                if row[1] in ("VARCHAR", "BLOB")
                else quoted_name(row[0])
                for row in found[:_MOST_COLUMNS]
            ]
            cursor = connection.execute(f"SELECT {', '.join(cells)} FROM {source} LIMIT {_MOST_ROWS + 1}")
            return [column[0].strip().lower() for column in cursor.description], cursor.fetchall()
    except duckdb.Error as error:
        raise BadTrace(f"{path.name} cannot be read ({str(error).splitlines()[0]})", _FORMS) from error


def _time_ns(found: Any, clock: MonthClock, path: Path, row: int) -> int:
    try:
        moment = found if isinstance(found, datetime) else datetime.fromisoformat(str(found).strip())
    except ValueError as error:
        raise BadTrace(
            f'row {row} of {path.name} has the time "{found}"', "ISO 8601, such as 2027-03-01T00:00"
        ) from error
    ns = clock.ns(moment.astimezone(UTC) if moment.tzinfo else to_utc(moment, clock.zone))
    if abs(ns) > _FARTHEST_NS:
        raise BadTrace(f'row {row} of {path.name} has the time "{found}"', f"times within 140 years of {clock.month}")
    return ns


def _count(found: Any, path: Path, row: int) -> int:
    try:
        count = int(str(found).strip())
    except ValueError:
        count = -1
    if not 0 <= count <= 10**12:
        raise BadTrace(f'row {row} of {path.name} has the count "{found}"', "a whole number, 0 or more")
    return count
