"""A log of many functions, cut down to what a survey looks at: sums, counts by stretch, and a sample of attempts of each function.

Why it exists: ten million rows are read once; all else is worked out from tables that fit in memory.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping
from datetime import datetime, timedelta
from itertools import pairwise
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.database import quoted
from echotally.evidence.fit.rhythm import STRETCH_S
from echotally.evidence.logs.normalize import IN_ORDER
from echotally.evidence.logs.reading import RunLog

#: Attempts of a function in an environment that are looked at one by one: about so many, drawn by a digest of the row.
SAMPLE = 20_000
#: And of all of them together, as long as that leaves each a quarter.
SAMPLES = 500_000
#: Rows that a query for several units gives, unless one has more.
_BUNCH = 400_000
#: What a sample holds of each attempt.
_SAMPLED = (
    "t, own_ms AS run, cold_ms, cold, events, payload, memory_mb AS memory, used_mb AS used, billed_ms AS billed,"
    " outcome = 'ok' AS good, outcome <> 'throttled' AS ran"
)
_MESSAGES = "SELECT (SELECT count(*) FROM links), (SELECT count(message) FROM entries)"
_FORBIDDEN = re.compile(r"[^A-Za-z0-9_-]+")
Unit = tuple[str, str]
OTHERWISE = "live"


def model_name(text: str) -> str:
    """A name as the model's addresses take it: letters, digits, dashes."""
    return _FORBIDDEN.sub("-", text).strip("-")[:100] or "function"


def month_span(month: str, zone: ZoneInfo) -> tuple[float, float]:
    """A month's first and last instant, s since 1970."""
    start = datetime.strptime(month, "%Y-%m").replace(tzinfo=zone)
    after = (start.replace(day=1) + timedelta(days=32)).replace(day=1)
    return start.timestamp(), after.timestamp()


class Sums(Struct, frozen=True):
    """What all attempts of a function in an environment come to. Times in ms, instants in s since 1970, memory in MB."""

    attempts: dict[str, int]
    events: float
    cold: int
    cold_told: bool
    flagged: bool
    first: float
    last: float
    mean_run: float
    longest: float
    memory: float | None
    used_most: float | None
    gb_s: float
    billed: float | None
    timeout: float | None
    started: int

    @property
    def logged(self) -> int:
        """Attempts of any outcome."""
        return self.started + self.attempts["throttled"]


class Counts(Struct, frozen=True):
    """What fell into each stretch of a quarter of an hour: its number since 1970, attempts, events, those that went well, failures."""

    stretch: NDArray[np.int64]
    attempts: NDArray[np.float64]
    events: NDArray[np.float64]
    good: NDArray[np.float64]
    errors: NDArray[np.float64]
    timeouts: NDArray[np.float64]
    run_ms: NDArray[np.float64]
    throttled: NDArray[np.float64]

    def window(self, low: float, high: float) -> Counts:
        """The stretches that begin at ``low`` or later and end by ``high``, s since 1970."""
        kept = (self.stretch * STRETCH_S >= low) & (self.stretch * STRETCH_S < high)
        return Counts(*(getattr(self, name)[kept] for name in self.__struct_fields__))

    def plus(self, other: Counts) -> Counts:
        """Both together."""
        stretch = np.union1d(self.stretch, other.stretch)
        found: dict[str, NDArray[np.float64]] = {}
        for name in list(self.__struct_fields__)[1:]:
            both = np.zeros(len(stretch))
            both[np.searchsorted(stretch, self.stretch)] += getattr(self, name)
            both[np.searchsorted(stretch, other.stretch)] += getattr(other, name)
            found[name] = both
        return Counts(stretch, **found)


class Sampled(Struct, frozen=True):
    """Some attempts of a unit, sorted by time: all of them where they are few. ``every``: one in so many was drawn.

    ``good`` went well, ``ran`` were not throttled.
    """

    t: NDArray[np.float64]
    run: NDArray[np.float64]
    cold_ms: NDArray[np.float64]
    cold: NDArray[np.bool_]
    events: NDArray[np.float64]
    payload: NDArray[np.float64]
    memory: NDArray[np.float64]
    used: NDArray[np.float64]
    billed: NDArray[np.float64]
    good: NDArray[np.bool_]
    ran: NDArray[np.bool_]
    every: int

    def within(self, low: float, high: float) -> Sampled:
        """Those from ``low`` on and before ``high``, s since 1970: views of the same numbers."""
        begin, end = np.searchsorted(self.t, [low, high])
        return self.where(slice(int(begin), int(end)))

    def where(self, kept: NDArray[np.bool_] | slice) -> Sampled:
        """Those for which ``kept`` holds."""
        columns = {name: getattr(self, name)[kept] for name in self.__struct_fields__ if name != "every"}
        return Sampled(**columns, every=self.every)


class Tables:
    """The tables of a log, up to an instant (s since 1970): what a survey without the held-back days sees.

    ``since``: of these functions what came before is left out. ``whole``: tables of the whole log, of which counts and samples
    are taken instead of the log's rows.
    """

    def __init__(
        self, log: RunLog, until: float, since: Mapping[str, float] | None = None, whole: Tables | None = None
    ) -> None:
        self.log, self.until, self.since = log, until, dict(since or {})
        self.whole = whole or self
        if whole is None:
            _name_columns(log)
        limits = ", ".join(f"({quoted(name)}, {at!r})" for name, at in self.since.items())
        self.after = (
            f" AND NOT EXISTS (SELECT 1 FROM (VALUES {limits}) w(n, since_s) WHERE n = f AND t < since_s)"
            if limits
            else ""
        )
        self.where = f"t < {min(until, 1e18)!r}{self.after}"
        #: How many attempts each one logged stands for, where that is more than one.
        self.by: dict[Unit, float] = {}
        #: Whether the log says which message an attempt held.
        self.followed: bool = whole.followed if whole else any(log.query(_MESSAGES)[0])
        self.hosted: bool = whole.hosted if whole else bool(log.query("SELECT count(host) FROM runs")[0][0])
        last: float = whole.log_end if whole else float(log.query("SELECT max(t) FROM runs WHERE usable")[0][0] or 0.0)
        self.log_end: float = min(until, last)
        self.sums = self._sums()
        if whole is None:
            self.counts, self.samples = self._counts(), self._samples()
        else:
            self._cut(whole)

    def within(self, until: float, since: Mapping[str, float] | None = None) -> Tables:
        """The tables of a part of the log: up to an instant, and of some functions from one on."""
        return Tables(self.log, until, since, self.whole)

    def _cut(self, whole: Tables) -> None:
        self.counts, self.samples = {}, {}
        for unit in self.sums:
            since = self.since.get(unit[0])
            low = -math.inf if since is None else math.ceil(since / STRETCH_S) * STRETCH_S
            self.counts[unit] = whole.counts[unit].window(low, self.until)
            self.samples[unit] = whole.samples[unit].within(low, self.until)

    def in_a_row(self, unit: Unit) -> Sampled:
        """The latest attempts of a unit, one after another, where its sample was drawn; else its sample."""
        sample = self.samples[unit]
        if sample.every == 1:
            return sample
        rows = self.log.connection.execute(
            f"SELECT {_SAMPLED} FROM named WHERE {self.where} AND f = ? AND e = ? ORDER BY t DESC, own_ms DESC LIMIT ?",
            [*unit, len(sample.t)],
        ).fetchnumpy()
        columns = {name: values[::-1] for name, values in _columns(rows).items()}
        return Sampled(**columns, every=1)

    def shares_of(self, unit: Unit, sample: Sampled) -> NDArray[np.float64]:
        """Of each of a unit's attempts the share of events that its partition gets, 1 where spans name none."""
        rows = self.log.connection.execute(
            "SELECT t, sum(events) OVER (PARTITION BY partition) / sum(events) OVER () AS share"
            f" FROM named JOIN entries USING (span) WHERE {self.where} AND f = ? AND e = ? AND partition IS NOT NULL"
            " AND outcome <> 'throttled' ORDER BY t",
            list(unit),
        ).fetchnumpy()
        t, share = _numbers(rows["t"]), _numbers(rows["share"])
        if not len(t):
            return np.ones(len(sample.t))
        place = np.minimum(np.searchsorted(t, sample.t), len(t) - 1)
        return np.where(t[place] == sample.t, share[place], 1.0)

    def query(self, sql: str) -> list[tuple[Any, ...]]:
        """Rows of a query; ``{seen}`` stands for the attempts looked at."""
        return self.log.query(sql.replace("{seen}", f"(SELECT * FROM named WHERE {self.where})"))

    @property
    def scaled_sums(self) -> dict[Unit, Sums]:
        """The sums of all that happened, where what was logged was a sample (``by``)."""
        return {unit: _times(sums, self.by.get(unit, 1.0)) for unit, sums in self.sums.items()}

    def _sums(self) -> dict[Unit, Sums]:
        rows = self.query(
            "SELECT f, e, count(*) FILTER (outcome = 'ok'), count(*) FILTER (outcome = 'error'),"
            " count(*) FILTER (outcome = 'timeout'), count(*) FILTER (outcome = 'throttled'),"
            " sum(events) FILTER (outcome = 'ok'), count(*) FILTER (cold AND outcome <> 'throttled'),"
            " count(*) FILTER (cold_ms > 0), count(*) FILTER (cold AND cold_ms IS NULL), min(t), max(t),"
            " avg(own_ms) FILTER (outcome = 'ok'), max(run_ms), mode(memory_mb), max(used_mb) FILTER (outcome <> 'throttled'),"
            " sum(run_ms / 1000 * memory_mb / 1024) FILTER (outcome <> 'throttled'), sum(billed_ms),"
            " quantile_disc(run_ms + CASE WHEN cold_ms > 0 THEN 0 ELSE 0 END, 0.5) FILTER (outcome = 'timeout')"
            " FROM {seen} GROUP BY f, e ORDER BY f, e"
        )
        found = {}
        for f, e, ok, error, timeout, throttled, events, cold, told, flagged, *rest in rows:
            first, last, mean, longest, memory, used, gb_s, billed, cut = rest
            attempts = {"ok": int(ok), "error": int(error), "timeout": int(timeout), "throttled": int(throttled)}
            found[f, e] = Sums(
                attempts,
                float(events or 0),
                int(cold),
                told > 0,
                flagged > 0,
                float(first),
                float(last),
                float(mean or 0),
                float(longest or 0),
                float(memory) if memory else None,
                float(used) if used else None,
                float(gb_s or 0),
                float(billed) if billed else None,
                float(cut) if cut else None,
                int(ok + error + timeout),
            )
        return found

    def _counts(self) -> dict[Unit, Counts]:
        rows = self.log.connection.execute(
            f"SELECT f, e, CAST(floor(t / {STRETCH_S}) AS BIGINT) AS s, count(*) FILTER (outcome <> 'throttled') AS n,"
            " sum(events) FILTER (outcome <> 'throttled') AS ev, sum(events) FILTER (outcome = 'ok') AS good,"
            " count(*) FILTER (outcome = 'error') AS er, count(*) FILTER (outcome = 'timeout') AS ti,"
            " sum(run_ms) FILTER (outcome = 'ok') AS ms, count(*) FILTER (outcome = 'throttled') AS th"
            f" FROM named WHERE {self.where} GROUP BY f, e, s ORDER BY f, e, s"
        ).fetchnumpy()
        return {
            unit: Counts(
                rows["s"][at].astype(np.int64),
                *(_numbers(rows[k][at]) for k in ("n", "ev", "good", "er", "ti", "ms", "th")),
            )
            for unit, at in _groups(rows)
        }

    def _samples(self) -> dict[Unit, Sampled]:
        most = max(SAMPLE // 4, min(SAMPLE, SAMPLES // max(1, len(self.sums))))
        every = {unit: max(1, sums.logged // most) for unit, sums in self.sums.items()}
        drawn = {unit: sums.logged // every[unit] for unit, sums in self.sums.items()}
        found: dict[Unit, Sampled] = {}
        for some in bunches(drawn):
            wanted = ", ".join(f"({quoted(f)}, {quoted(e)}, {every[f, e]}, {i})" for i, (f, e) in enumerate(some))
            rows = self.log.connection.execute(
                f"SELECT i, {_SAMPLED} FROM named JOIN (VALUES {wanted}) w(n, m, every, i) ON f = n AND e = m"
                f" WHERE {self.where} AND (every = 1 OR hash(t, run_ms, id) % every = 0) ORDER BY i, t, own_ms"
            ).fetchnumpy()
            columns = _columns(rows)
            whose = columns.pop("i")
            for at in stretches(whose):
                unit = some[int(whose[at.start])]
                found[unit] = Sampled(**{name: values[at] for name, values in columns.items()}, every=every[unit])
        return found


def _columns(rows: dict[str, Any]) -> dict[str, Any]:
    """The columns of a sample; where the log says nothing of one it is 0."""
    columns: dict[str, Any] = {name: _numbers(values) for name, values in rows.items()}
    return columns | {name: columns[name] > 0 for name in ("cold", "good", "ran")}


def bunches(rows: Mapping[Unit, int]) -> Iterator[list[Unit]]:
    """Units that are asked for together, so that little of what a query gives stands in memory at once; ``rows``: of each so many."""
    bunch: list[Unit] = []
    size = 0
    for unit, n in rows.items():
        if bunch and size + n > _BUNCH:
            yield bunch
            bunch, size = [], 0
        bunch.append(unit)
        size += n
    if bunch:
        yield bunch


def _name_columns(log: RunLog) -> None:
    """The table ``named``: usable attempts with the names and the run times a survey goes by.

    Those of one function stand together: a thousand functions are asked for one by one, and each looks into its own rows only.
    """
    # What an attempt waited for answers is no run time of its own.
    waiting = bool(log.query("SELECT count(*) FROM waits")[0][0])
    own = "greatest(run_ms - coalesce(waits.ms, 0), 0)" if waiting else "run_ms"
    waits = " LEFT JOIN waits USING (span)" if waiting else ""
    log.connection.execute(
        "CREATE TABLE IF NOT EXISTS named AS SELECT runs.*, coalesce(function, 'function') AS f,"
        f" coalesce(nullif(environment, ''), '{OTHERWISE}') AS e, {own} AS own_ms FROM runs{waits} WHERE usable"
        f" ORDER BY f, e, {IN_ORDER}"
    )


def _times(sums: Sums, by: float) -> Sums:
    attempts = {how: round(n * by) for how, n in sums.attempts.items()}
    return replace(
        sums,
        attempts=attempts,
        events=sums.events * by,
        cold=round(sums.cold * by),
        gb_s=sums.gb_s * by,
        billed=None if sums.billed is None else sums.billed * by,
        started=round(sums.started * by),
    )


def _groups(rows: dict[str, Any]) -> list[tuple[Unit, slice]]:
    """The stretches of rows that belong to one unit, of rows that are sorted by it."""
    f, e = np.asarray(rows["f"]).astype(str), np.asarray(rows["e"]).astype(str)
    return [((str(f[at.start]), str(e[at.start])), at) for at in stretches(f, e)]


def stretches(*columns: NDArray[Any]) -> list[slice]:
    """The stretches of rows that are alike in all of these columns, by which they are sorted."""
    if not len(columns[0]):
        return []
    other = np.logical_or.reduce([column[1:] != column[:-1] for column in columns])
    edges = [0, *(np.flatnonzero(other) + 1).tolist(), len(columns[0])]
    return [slice(a, b) for a, b in pairwise(edges)]


def _numbers(values: Any) -> NDArray[np.float64]:
    """A column of the database as numbers, 0 where it holds nothing."""
    plain: Any = np.ma.filled(np.ma.asarray(values).astype(float), 0.0)
    return np.asarray(np.nan_to_num(plain, nan=0.0), dtype=float)
