"""Traces: measured counts over time, from CSV or Parquet, laid into the month."""

from __future__ import annotations

import csv
import io
import itertools
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache
from itertools import islice
from pathlib import Path
from typing import Any

from echotally.database import database, named_in_sql, quoted_name
from echotally.demand.clock import MonthClock, to_utc
from echotally.demand.stretches import Stretch, Stretches
from echotally.errors import Refused
from echotally.files import opened

_FORMS = "a CSV or Parquet file with the columns time (ISO 8601) and count (a whole number, 0 or more)"
_MOST_ROWS = 5_000_000
_LARGEST_BYTES = 1_000_000_000
#: A trace has two; of a file with more the first few tell that it is none.
_MOST_COLUMNS = 10


class BadTrace(Refused):
    """A trace that cannot be used."""


@dataclass(frozen=True)
class Trace:
    """A trace laid into a month: its stretches, and what was left out or looked odd, in words."""

    stretches: Stretches
    notes: tuple[str, ...]


def read_trace(path: Path, clock: MonthClock, factor: float, repeat: bool) -> Trace:
    """Read a trace and lay it into the month; counts are scaled by ``factor``, rounded half up.

    Raises ``BadTrace`` if a row is malformed, times do not rise, or the month is not covered.
    """
    rows = _rows(path, clock)
    starts = [start for start, _ in rows]
    if any(b <= a for a, b in itertools.pairwise(starts)):
        place = next(n for n, (a, b) in enumerate(itertools.pairwise(starts)) if b <= a) + 3
        raise BadTrace(
            f"row {place} of {path.name} does not come after the row before it", "rising times without duplicates"
        )
    # A row says when its count begins; the last one is taken to be as long as the one before it.
    last = starts[-1] - starts[-2] if len(starts) > 1 else 0
    if last <= 0:
        raise BadTrace(
            f"{path.name} has {len(rows)} row(s)", "at least two rows, so that the last one's length is known"
        )
    spans = [(s, e, _scaled_count(c, factor)) for (s, c), e in zip(rows, [*starts[1:], starts[-1] + last], strict=True)]
    notes: list[str] = []
    if repeat:
        spans = _end_to_end(spans, clock.length_ns)
    elif spans[0][0] > 0 or spans[-1][1] < clock.length_ns:
        raise BadTrace(
            f"{path.name} is shorter than the month {clock.month}", "a trace of the whole month, or repeat = true"
        )
    inside = [(s, e, c) for s, e, c in spans if 0 <= s < clock.length_ns]
    outside = len(spans) - len(inside)
    if outside and not repeat:
        notes.append(f"{path.name}: {outside} row(s) outside {clock.month} left out")
    notes += _spacing_notes(path, clock, starts)
    stretches = Stretches.of(Stretch(s, min(e, clock.length_ns), count=c) for s, e, c in inside)
    return Trace(stretches, tuple(notes))


def _spacing_notes(path: Path, clock: MonthClock, starts: list[int]) -> list[str]:
    """Uneven rows and gaps, in words: a gap is more than one and a half times the usual step."""
    steps = [b - a for a, b in itertools.pairwise(starts)]
    if min(steps) == max(steps):
        return []
    # The median: a few gaps do not move it.
    usual = sorted(steps)[len(steps) // 2]
    gaps = [(step, start) for step, start in zip(steps, starts, strict=False) if step > 1.5 * usual]
    spread = f"{path.name}: rows are {min(steps) / 1e9:g} s to {max(steps) / 1e9:g} s apart; a count covers the time to the next row"
    if not gaps:
        return [spread]
    longest, at = max(gaps)
    when = clock.instant(at).astimezone(clock.zone)
    return [spread, f"{path.name}: {len(gaps)} gap(s), the longest {longest / 3.6e12:g} h after {when:%Y-%m-%d %H:%M}"]


def _scaled_count(count: int, factor: float) -> int:
    return count if factor == 1 else int(count * factor + 0.5)


def _end_to_end(spans: list[tuple[int, int, int]], length_ns: int) -> list[tuple[int, int, int]]:
    """The trace laid from the month's start, again and again, in elapsed time."""
    first, period = spans[0][0], spans[-1][1] - spans[0][0]
    found, offset = [], -first
    while offset + first < length_ns:
        found += [(s + offset, e + offset, c) for s, e, c in spans if s + offset < length_ns]
        offset += period
        if len(found) > _MOST_ROWS:
            raise BadTrace(f"is so short that it would be laid more than {_MOST_ROWS} rows long", "a longer trace")
    return found


@lru_cache(maxsize=16)
def _rows(path: Path, clock: MonthClock) -> tuple[tuple[int, int], ...]:
    """(ns from the month's start, count) of every row; read once for all environments."""
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
    return tuple(
        (_time_ns(row[time_at], clock, path, n), _count(row[count_at], path, n)) for n, row in enumerate(found, 2)
    )


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
    return clock.ns(moment.astimezone(UTC) if moment.tzinfo else to_utc(moment, clock.zone))


def _count(found: Any, path: Path, row: int) -> int:
    try:
        count = int(str(found).strip())
    except ValueError:
        count = -1
    if not 0 <= count <= 10**12:
        raise BadTrace(f'row {row} of {path.name} has the count "{found}"', "a whole number, 0 or more")
    return count
