"""Run logs of any size, read by DuckDB into one table with our columns, and what was odd about them, counted.

Everything in a log is untrusted: a row that cannot be used is counted and named, never silently dropped.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from echotally.database import MEMORY_LIMIT, database, named_in_sql, quoted_name
from echotally.errors import BadInput, Problem
from echotally.evidence.logs.columns import Mapped, map_columns, nearly_known
from echotally.evidence.logs.normalize import IN_ORDER, TABLE, insert_statement
from echotally.evidence.logs.otlp import TABLES, is_otlp, read_otlp
from echotally.evidence.logs.text_files import hold_against, unpacked, utf8
from echotally.files import hold_regular, paths_of
from echotally.recognising import mistaken

if TYPE_CHECKING:
    from duckdb import DuckDBPyConnection

FORMS = "CSV, JSON lines, Parquet or OTLP/JSON"
_JSON = (".json", ".jsonl", ".ndjson", ".json.gz", ".jsonl.gz")
#: A time that lies so far before the row above it is no reordering of runs that overlap.
_JUMP_S = 3_600
#: From so many bytes on a file is read by all cores.
_LARGE = 64 << 20


class Trouble(Struct, frozen=True):
    """Rows that are odd: how many, in what way, one example, and what was done with them."""

    rows: int
    what: str
    done: str
    example: str = ""

    def __str__(self) -> str:
        example = f" (such as {self.example})" if self.example else ""
        return f"{self.rows:,} row(s) {self.what}{example}: {self.done}"


class RunLog(Struct, frozen=True):
    """A log in the table ``runs`` (``normalize.TABLE``), how its columns were read, and what was odd."""

    connection: DuckDBPyConnection
    rows: int
    mapped: tuple[Mapped, ...]
    notes: tuple[str, ...]
    troubles: tuple[Trouble, ...]
    functions: dict[str, int]

    def query(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Rows of a query over ``runs``."""
        return self.connection.execute(sql, values).fetchall()


@contextmanager
def open_log(
    paths: Path | str | Iterable[Path | str],
    told: Iterable[tuple[str, str]] = (),
    timezone: str = "UTC",
    workers: int | None = None,
    keep_repeated: bool = False,
) -> Iterator[RunLog]:
    """Read log files into a database in a temporary folder, which goes when the context ends.

    ``told`` are (ours, theirs) column names; ``timezone`` is that of times without an offset. At most 1 GB of
    memory is used, more goes to disk. ``keep_repeated``: attempts with an id that was there before stay. Raises ``BadInput`` for a file that cannot be read as a log.
    """
    paths = paths_of(paths)
    with database("log.duckdb", timezone) as (connection, folder):
        if workers:
            connection.execute(f"SET threads={workers}")
        reader = _Reader(connection, list(told), folder, timezone, keep_repeated)
        try:
            found = reader.read(paths)
        except BadInput as error:
            # A file of another kind has its own name and command.
            other = next(filter(None, (mistaken(path, "log") for path in paths)), None)
            if other is None or other.file.endswith((".json", ".gz")):
                raise
            raise BadInput(other) from error
        # Fractions that several threads add up end in other digits each time.
        connection.execute("SET threads=1")
        yield found


class _Reader:
    def __init__(
        self,
        connection: DuckDBPyConnection,
        told: list[tuple[str, str]],
        folder: Path,
        timezone: str,
        keep_repeated: bool,
    ) -> None:
        self.keep_repeated = keep_repeated
        self.connection, self.told, self.folder = connection, told, folder
        self.utc = timezone == "UTC"
        self.notes: list[str] = []
        self.troubles: list[Trouble] = []
        self.mapped: dict[str, Mapped] = {}
        self.ordered = True

    def read(self, paths: Sequence[Path]) -> RunLog:
        if not paths:
            raise BadInput(Problem("no log is given", allowed="one or more files"))
        self.connection.execute(TABLE)
        for path in paths:
            self._add(path)
        rows = int(self._number("SELECT count(*) FROM runs"))
        if rows == 0:
            raise BadInput(Problem("holds no rows", file=", ".join(path.name for path in paths)))
        if not self.ordered:
            self._sort()
        self._repeated()
        self._odd_rows()
        counted = self.connection.execute(
            "SELECT coalesce(function, ''), count(*) FROM runs GROUP BY 1 ORDER BY 2 DESC, 1"
        )
        mapped, notes, troubles = tuple(self.mapped.values()), tuple(self.notes), tuple(self.troubles)
        return RunLog(self.connection, rows, mapped, notes, troubles, dict(counted.fetchall()))

    # -- one file -------------------------------------------------------------------------------------------------
    def _add(self, path: Path) -> None:
        import duckdb

        hold_regular(path)
        try:
            source = self._source(path)
            types = {
                str(row[0]): str(row[1])
                for row in self.connection.execute(f"DESCRIBE SELECT * FROM {source}").fetchall()
            }
            mapped = map_columns(list(types), self.told, path.name)
            self.mapped |= mapped
            self.notes += [
                f"column '{_short(heading)[1:-1]}' of {path.name} is not read; it is close to {ours}: --column {ours}={_short(heading)[1:-1]} reads it"
                for heading, ours in nearly_known(list(types), mapped)
            ]
            self.connection.execute(insert_statement(mapped, types, source, self.utc))
        except duckdb.OutOfMemoryException as error:
            raise BadInput(Problem(f"needs more than {MEMORY_LIMIT} of memory", file=path.name)) from error
        except duckdb.Error as error:
            first = str(error).strip().splitlines()[0]
            raise BadInput(Problem(f"cannot be read as a log: {first}", file=path.name, allowed=FORMS)) from error
        self._rejected(path)
        self._mixed_units(path, mapped["run"], types, source)

    def _source(self, path: Path) -> str:
        """What to select the file's rows from."""
        ending = "".join(path.suffixes[-2:]) if path.suffix == ".gz" else path.suffix
        if ending in (".parquet", ".pq"):
            self.ordered &= path.stat().st_size < _LARGE // 10
            return f"read_parquet({named_in_sql(path, self.folder)}, hive_partitioning=false)"
        if ending in (".parquet.gz", ".pq.gz"):
            return f"read_parquet({named_in_sql(unpacked(path, self.folder), self.folder)}, hive_partitioning=false)"
        hold_against(path, FORMS)
        if ending in _JSON and is_otlp(path):
            return self._otlp(path)
        text, note = utf8(path, self.folder)
        self.notes += [note] if note else []
        if ending in _JSON:
            lines = ending not in (".json", ".json.gz")
            form = "'newline_delimited', ignore_errors=true" if lines else "'auto'"
            return f"read_json({named_in_sql(text, self.folder)}, format={form}, hive_partitioning=false, maximum_object_size=16777216)"
        # Read by all cores a file's rows come in any order, which only a large one is worth.
        parallel = text.stat().st_size >= _LARGE
        self.ordered &= not parallel
        return f"read_csv({named_in_sql(text, self.folder)}, hive_partitioning=false, header=true, all_varchar=true, ignore_errors=true, store_rejects=true, parallel={parallel})"

    def _otlp(self, path: Path) -> str:
        # Attempts of this file alone; what links them is kept for all files together.
        for name, columns in TABLES.items():
            form = "CREATE OR REPLACE TABLE" if name == "otlp" else "CREATE TABLE IF NOT EXISTS"
            self.connection.execute(f"{form} {name} ({', '.join(f'{column} {kind}' for column, kind in columns)})")
        attempts, notes = read_otlp(path, self.connection, self.folder)
        self.notes += notes
        if attempts == 0:
            raise BadInput(Problem("holds no span with faas attributes", file=path.name))
        return "otlp"

    def _mixed_units(self, path: Path, run: Mapped, types: dict[str, str], source: str) -> None:
        """Cells with a unit of their own beside cells without, or with another."""
        if types[run.theirs] != "VARCHAR":
            return
        cell = quoted_name(run.theirs)
        # A look at each cell's letters takes longer than to see that it is a number.
        unit = f"regexp_extract(lower(trim({cell})), '[0-9.]\\s*([a-zµ]+)$', 1)"
        units = f"SELECT CASE WHEN try_cast({cell} AS DOUBLE) IS NULL THEN {unit} ELSE '' END AS unit FROM {source}"
        rows = self.connection.execute(f"SELECT unit, count(*) FROM ({units}) GROUP BY 1 ORDER BY 2 DESC").fetchall()
        self._forget_rejects()
        if len(rows) > 1:
            others = ", ".join(str(unit) or "no unit" for unit, _ in rows[1:5])
            what = f"of {path.name} with another unit of run time than most"
            self.troubles.append(Trouble(sum(int(n) for _, n in rows[1:]), what, "read by their own", others))

    def _forget_rejects(self) -> None:
        """A second look at a file has found its bad lines again."""
        self.connection.execute("DROP TABLE IF EXISTS reject_errors; DROP TABLE IF EXISTS reject_scans")

    def _rejected(self, path: Path) -> None:
        """Lines the CSV reader could not split into the columns; it keeps them in tables of its own."""
        import duckdb

        try:
            found = self.connection.execute("SELECT count(DISTINCT line), min(line) FROM reject_errors").fetchone()
            self.connection.execute("DROP TABLE reject_errors; DROP TABLE reject_scans")
        except duckdb.CatalogException:
            return
        if found and found[0]:
            what = f"of {path.name} that do not fit its columns or are not UTF-8"
            self.troubles.append(Trouble(int(found[0]), what, "left out", f"line {found[1]}"))

    # -- what is odd ----------------------------------------------------------------------------------------------
    def _number(self, sql: str) -> float:
        found = self.connection.execute(sql).fetchone()
        return float(found[0] or 0) if found else 0.0

    def _repeated(self) -> None:
        """Attempts logged more than once are counted once; rows alike without an id stay."""
        if "id" in self.mapped:
            known = "id IS NOT NULL AND usable"
            again = self._number(f"SELECT count(*) - count(DISTINCT hash(id, function)) FROM runs WHERE {known}")
            if again and self.keep_repeated:
                self.troubles.append(
                    Trouble(int(again), "with an id that was there before", "kept, as starts too many")
                )
            elif again:
                self.connection.execute(
                    f"DELETE FROM runs WHERE {known} AND rowid NOT IN (SELECT rowid FROM runs WHERE {known} QUALIFY"
                    " row_number() OVER (PARTITION BY id, function ORDER BY t, run_ms, outcome, events, rowid) = 1)"
                )
                self.troubles.append(Trouble(int(again), "with an id that was there before", "counted once"))
            return
        again = self._number("SELECT count(*) - count(DISTINCT hash(t, function, run_ms, events, outcome)) FROM runs")
        if again:
            self.troubles.append(Trouble(int(again), "like another in time, run and outcome", "kept; there is no id"))

    def _sort(self) -> None:
        """Put rows that came in any order into one: fractions added up in another end in other digits."""
        self.connection.execute(f"CREATE TABLE sorted AS SELECT * FROM runs ORDER BY {IN_ORDER}")
        self.connection.execute("DROP TABLE runs")
        self.connection.execute("ALTER TABLE sorted RENAME TO runs")

    def _odd_rows(self) -> None:
        for condition, what in (
            ("t IS NULL", "without a readable time"),
            ("run_ms IS NULL AND coalesce(outcome, '') <> 'throttled'", "without a readable run time"),
            ("run_ms < 0 AND coalesce(outcome, '') <> 'throttled'", "with a negative run time"),
            ("cold_ms < 0", "with a negative cold start"),
            ("outcome IS NULL", "with an outcome we do not know"),
            ("events IS NULL OR events < 1", "with no events"),
        ):
            self._odd(f"NOT usable AND ({condition})", "raw", what, "left out")
        more = "CAST(used_mb AS VARCHAR) || ' of ' || CAST(memory_mb AS VARCHAR) || ' MB'"
        self._odd("usable AND used_mb > memory_mb", more, "that use more memory than is given", "kept")
        if not self.ordered:
            return
        jumps = f"(SELECT t - lag(t) OVER (ORDER BY rowid) AS step, t FROM runs WHERE usable) WHERE step < -{_JUMP_S}"
        back = int(self._number(f"SELECT count(*) FROM {jumps}"))
        if back:
            self.troubles.append(Trouble(back, "more than an hour before the row above", "kept; times are sorted"))

    def _odd(self, condition: str, example: str, what: str, done: str) -> None:
        found = self.connection.execute(f"SELECT count(*), min({example}) FROM runs WHERE {condition}").fetchone()
        if found and found[0]:
            self.troubles.append(Trouble(int(found[0]), what, done, _short(str(found[1] or ""))))


def _short(text: str) -> str:
    plain = "".join(c if c.isprintable() else "?" for c in text).strip()
    return f"'{plain[:60]}'" if plain else ""
