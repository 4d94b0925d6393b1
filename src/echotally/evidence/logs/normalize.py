"""From a log's own columns to ours, as one SQL statement: units, times of any form, outcomes by their many names."""

from __future__ import annotations

from echotally.cells import FORMULA
from echotally.database import quoted_name
from echotally.evidence.logs.columns import UNITS, Mapped

TABLE = """CREATE TABLE runs (t DOUBLE, function VARCHAR, environment VARCHAR, run_ms DOUBLE, cold_ms DOUBLE,
    cold BOOLEAN, billed_ms DOUBLE, memory_mb DOUBLE, used_mb DOUBLE, outcome VARCHAR, events DOUBLE, id UBIGINT,
    raw VARCHAR, usable BOOLEAN, trigger_word VARCHAR, source VARCHAR, host VARCHAR, version VARCHAR, payload DOUBLE,
    span UBIGINT)"""
#: In which rows stand, however they came.
IN_ORDER = "t, function, environment, id, run_ms, outcome, events, memory_mb"
#: Columns of a log that are carried along as they are; a span's own id is that of its links.
_ALONG = ("trigger", "source", "host", "version")
OUTCOMES = {
    "ok": ("ok", "success", "succeeded", "done", "completed", "true", "0", "200", ""),
    "error": ("error", "failed", "failure", "fail", "exception", "false", "1", "500"),
    "timeout": ("timeout", "timed_out", "timed out", "timed-out", "504"),
    "throttled": ("throttled", "refused", "rejected", "429"),
}
#: Bare numbers as times: seconds since 1970 below 1e11 (the year 5138), then ms, us, ns.
_EPOCH_STEPS = ((1e11, 1.0), (1e14, 1e3), (1e17, 1e6))
#: Beyond these a number, infinity too, is no measurement but a slip: years 1970 to 2200, times up to 30 years, a billion
#: events or MB.
_BOUNDS = {
    "t": (0.0, 7_258_118_400.0),
    "run_ms": (-1e12, 1e12),
    "cold_ms": (-1e12, 1e12),
    "billed_ms": (0.0, 1e12),
    "memory_mb": (1e-6, 1e9),
    "used_mb": (0.0, 1e9),
    "events": (-1e9, 1e9),
    "payload": (0.0, 1e15),
}
_NUMBERS = (
    "TINYINT",
    "SMALLINT",
    "INTEGER",
    "BIGINT",
    "HUGEINT",
    "UTINYINT",
    "USMALLINT",
    "UINTEGER",
    "UBIGINT",
    "FLOAT",
    "DOUBLE",
    "DECIMAL",
)


#: What makes a row unusable.
_BAD = (
    "our_t IS NULL OR our_outcome IS NULL OR our_events IS NULL OR our_events < 1 OR coalesce(our_cold_ms, 0) < 0"
    " OR ((our_run_ms IS NULL OR our_run_ms < 0) AND our_outcome <> 'throttled')"
)


def _raw(mapped: dict[str, Mapped]) -> str:
    """The text of a row, as an expression."""
    return " || ' ' || ".join(
        f"coalesce(CAST({quoted_name(mapped[name].theirs)} AS VARCHAR), '')"
        for name in ("time", "run", "events", "outcome")
        if name in mapped
    )


def insert_statement(mapped: dict[str, Mapped], types: dict[str, str], source: str, utc: bool) -> str:
    """Fills the table ``runs`` from ``source``; a row that cannot be used keeps its text in ``raw``.

    ``utc``: times without an offset are UTC, which spares a look into the zone's rules for every row.
    """

    def of(ours: str, otherwise: str) -> str:
        return _expression(mapped[ours], types[mapped[ours].theirs], utc) if ours in mapped else otherwise

    flagged = types.get("cold") == "BOOLEAN"
    ours = {
        "t": of("time", "NULL"),
        "function": of("function", "NULL"),
        "environment": of("environment", "NULL"),
        "run_ms": of("run", "NULL"),
        "cold_ms": "CAST(NULL AS DOUBLE)" if flagged else of("cold_start", "0"),
        "cold": "cold" if flagged else "NULL",
        "billed_ms": of("billed", "NULL"),
        "memory_mb": of("memory", "NULL"),
        "used_mb": of("memory_used", "NULL"),
        "outcome": of("outcome", "'ok'"),
        "events": of("events", "1"),
        "id": f"hash({of('id', 'NULL')})" if "id" in mapped else "NULL",
    }
    along = {
        **{name: of(name, "NULL") for name in _ALONG},
        "payload": of("payload", "NULL"),
        "span": "span" if types.get("span") == "UBIGINT" else "NULL",
    }
    ours |= along
    heading = mapped["time"].theirs
    if _is_text(types[heading]):
        source = _with_time_told(quoted_name(heading), source, utc)
    # Read first and bounded a level above: an expression that stands twice in a CASE is worked out twice.
    read = ", ".join(f"{expression} AS read_{name}" for name, expression in ours.items())
    bounded = {name: f"read_{name}" for name in ours}
    for name, (low, high) in _BOUNDS.items():
        bounded[name] = f"CASE WHEN read_{name} BETWEEN {low!r} AND {high!r} THEN read_{name} END"
    if not flagged:
        bounded["cold_ms"] = f"coalesce({bounded['cold_ms']}, 0)"
        bounded["cold"] = f"{bounded['cold_ms']} > 0"
    named = ", ".join(f"{expression} AS our_{name}" for name, expression in bounded.items())
    raw = _raw(mapped)
    # A row's text is put together only inside the CASE, that is for rows that cannot be used.
    return (
        f"INSERT INTO runs SELECT {', '.join(f'our_{name}' for name in ours if name not in along)},"
        f" CASE WHEN bad THEN {raw} END, NOT bad, {', '.join(f'our_{name}' for name in along)}"
        f" FROM (SELECT *, coalesce({_BAD}, true) AS bad FROM (SELECT *, {named} FROM (SELECT *, {read} FROM {source})))"
    )


#: No name of a model is longer, whatever a cell holds.
_LONGEST_NAME = 200
#: A date and a time of day without an offset, or with that of UTC.
_COMMON = r"\d{4}-\d\d-\d\d([T ][0-9:.]+Z?)?"
#: In a set of signs of a pattern, the dash first.
_SIGNS = "".join(sorted(FORMULA, key=lambda sign: sign != "-"))


def _expression(column: Mapped, kind: str, utc: bool) -> str:
    name = quoted_name(column.theirs)
    if column.ours == "time":
        return _time(name, kind, utc)
    if column.ours == "outcome":
        return _outcome(name)
    if column.ours in ("function", "environment", "id", *_ALONG):
        text = f"left(CAST({name} AS VARCHAR), {_LONGEST_NAME})"
        # The mark of our own files is no part of the name (``cells.unmarked``).
        marked = f"CASE WHEN regexp_matches({text}, '^''[{_SIGNS}]') THEN substr({text}, 2) ELSE {text} END"
        return f"CASE WHEN starts_with({text}, '''') THEN {marked} ELSE {text} END"
    plain = kind.split("(", maxsplit=1)[0] in _NUMBERS
    return f"CAST({name} AS DOUBLE) * {column.factor!r}" if plain else _quantity(name, column)


def _time(name: str, kind: str, utc: bool) -> str:
    if kind.split("(", maxsplit=1)[0] in _NUMBERS:
        return _epoch(f"CAST({name} AS DOUBLE)")
    if kind == "TIMESTAMP WITH TIME ZONE" or (utc and kind.startswith("TIMESTAMP")):
        return f"epoch({name})"
    if kind.startswith("TIMESTAMP") or kind == "DATE":
        return f"epoch(CAST({name} AS TIMESTAMPTZ))"
    common = f"epoch(try_cast(CAST({name} AS VARCHAR) AS TIMESTAMP))"
    other = f"coalesce({_epoch('our_time_number')}, epoch(try_cast(trim(CAST({name} AS VARCHAR)) AS TIMESTAMPTZ)))"
    return f"CASE WHEN our_time_common THEN {common} ELSE {other} END"


def _is_text(kind: str) -> bool:
    """Whether a time of this type has to be read as text."""
    return kind.split("(", maxsplit=1)[0] not in _NUMBERS and not kind.startswith("TIMESTAMP") and kind != "DATE"


def _with_time_told(name: str, source: str, utc: bool) -> str:
    """The source with two columns more: whether a time has the common form, in UTC, else the number it may be.

    Told apart a level below its reading: what an expression holds twice is worked out for every row, however it is
    guarded. The common form is read three times as fast as one that may have an offset or a zone.
    """
    written = f"CAST({name} AS VARCHAR)"
    told = f"coalesce(regexp_full_match({written}, '{_COMMON}'), false)" if utc else "false"
    number = f"CASE WHEN NOT our_time_common THEN try_cast(trim({written}) AS DOUBLE) END"
    return f"(SELECT *, {number} AS our_time_number FROM (SELECT *, {told} AS our_time_common FROM {source}))"


def _epoch(number: str) -> str:
    steps = " ".join(f"WHEN abs({number}) < {limit!r} THEN {number} / {step!r}" for limit, step in _EPOCH_STEPS)
    return f"CASE {steps} ELSE {number} / 1e9 END"


def _outcome(name: str) -> str:
    text = f"lower(trim(coalesce(CAST({name} AS VARCHAR), '')))"
    cases = " ".join(
        f"WHEN {text} IN ({', '.join(repr(name) for name in names)}) THEN '{ours}'" for ours, names in OUTCOMES.items()
    )
    return f"CASE {cases} END"


def _quantity(name: str, column: Mapped) -> str:
    """A number as text, with or without its own unit: a unit in the cell beats that of the heading."""
    text = f"lower(trim(CAST({name} AS VARCHAR)))"
    # As it stands first: few cells need more.
    plain = f"try_cast(CAST({name} AS VARCHAR) AS DOUBLE) * {column.factor!r}"
    units = UNITS.get(column.ours)
    if not units:
        return plain
    number = f"try_cast(regexp_extract({text}, '^([-+]?[0-9.]+(?:e[-+]?[0-9]+)?)\\s*[a-zµ]+$', 1) AS DOUBLE)"
    unit = f"replace(regexp_extract({text}, '([a-zµ]+)$', 1), 'µ', 'u')"
    cases = " ".join(f"WHEN '{known}' THEN {factor!r}" for known, factor in units.items())
    return f"coalesce({plain}, {number} * CASE {unit} {cases} END)"
