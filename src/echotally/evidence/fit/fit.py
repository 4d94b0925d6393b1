"""``fit``: what a run log says about one function, each figure with its interval, ready to go into the model."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any, TypedDict, Unpack
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from echotally.database import quoted
from echotally.errors import BadInput, Problem
from echotally.evidence.fit.estimates import Estimate, RunParts, Spread, log_normal, rank_shares, run_parts, share
from echotally.evidence.fit.rhythm import STRETCH_S, Rhythm, rhythm
from echotally.evidence.logs.reading import RunLog, Trouble, open_log
from echotally.files import paths_of
from echotally.naming import known_name
from echotally.projection.loaded import Loaded
from echotally.rates.card import Plan
from echotally.showing import Answer

#: Runs whose shape is looked at, and kept where no log-normal fits: evenly drawn by a digest of the row.
_SAMPLE = 10_000
#: Bins a standard deviation in which all runs are counted: a bin holds at most 0.4 / 2,000 of them.
_FINE = 2_000
_MOST_GROUPS = 20_000


class MemoryUse(Struct, frozen=True):
    """Memory used, MB: p50 and p95 (with intervals from the ranks around them), the largest, and what was given."""

    p50: Estimate
    p95: Estimate
    largest: float
    given: float | None


class Fit(Answer, frozen=True):
    """What a log says about one function. Times in ms, rates in events per second.

    ``run`` is the spread of the base run, at the memory it was measured at (``measured_mb``), without the part per
    event. ``warm`` and ``fitted`` are quantiles (1 % to 99 %) of base runs as measured and as fitted.
    """

    function: str
    log: LogRead
    runs: int
    run: Spread
    parts: RunParts
    measured_mb: float | None
    measured_vcpu: float | None
    memories: tuple[float, ...]
    cold: Spread | None
    cold_share: Estimate
    errors: Estimate
    timeouts: Estimate
    throttled: Estimate
    memory: MemoryUse | None
    rhythm: Rhythm | None
    warm: tuple[float, ...]
    notes: tuple[str, ...]


class LogRead(Struct, frozen=True):
    """How a log was read: files, rows, columns in words, notes, troubles, rows by function."""

    files: tuple[str, ...]
    rows: int
    columns: tuple[str, ...]
    notes: tuple[str, ...]
    troubles: tuple[Trouble, ...]
    functions: dict[str, int] = field(default_factory=dict)


class Reading(Struct, frozen=True):
    """How logs are read: times without an offset in ``timezone`` where no model says it, attempts of one ``environment`` (left
    out: of all), on so many threads.
    """

    timezone: str = "UTC"
    environment: str | None = None
    workers: int | None = None


class ReadingWords(TypedDict, total=False):
    """The same, as keywords of ``fit``."""

    timezone: str
    environment: str | None
    workers: int | None


def fit(
    paths: Path | str | Iterable[Path | str],
    function: str | None = None,
    columns: Iterable[tuple[str, str]] = (),
    loaded: Loaded | None = None,
    *,
    plan: str | None = None,
    **words: Unpack[ReadingWords],
) -> Fit:
    """Fit one function's run time, cold start, memory, failures and rhythm to run logs.

    ``loaded`` gives the zone, the function's threads and the ``plan`` whose vCPU a memory has (for the CPU share);
    ``words``: how the logs are read (``Reading``). Raises ``BadInput`` for a log without usable runs of the function.
    """
    reading = Reading(**words)
    try:
        zone = ZoneInfo(str(loaded.model.estate.timezone if loaded else reading.timezone))
    except (ZoneInfoNotFoundError, ValueError) as error:
        raise BadInput(Problem("is not an IANA zone", "timezone", value=reading.timezone)) from error
    files = paths_of(paths)
    with open_log(files, columns, str(zone), reading.workers) as log:
        name = _one_function(log, function)
        return _Fitter(log, name, reading.environment, loaded, plan, zone).fit([path.name for path in files])


def _one_function(log: RunLog, asked: str | None) -> str:
    """The function asked for, or the only one in the log."""
    names = [name for name in log.functions if name]
    if asked is not None:
        return known_name("function in the log", "--function", asked, names, "functions") if names else asked
    if len(names) > 1:
        raise BadInput(Problem("the log is of several functions", "--function", allowed=", ".join(names[:20])))
    return names[0] if names else "function"


class _Fitter:
    def __init__(
        self, log: RunLog, name: str, environment: str | None, loaded: Loaded | None, plan: str | None, zone: ZoneInfo
    ) -> None:
        self.log, self.name, self.loaded, self.zone = log, name, loaded, zone
        self.plan = self._plan(plan)
        self.notes: list[str] = []
        wanted = "usable" + (f" AND function = {quoted(name)}" if any(log.functions) else "")
        wanted += f" AND environment = {quoted(environment)}" if environment else ""
        log.connection.execute(f"CREATE TEMP VIEW mine AS SELECT * FROM runs WHERE {wanted}")
        self.function = loaded.model.functions.get(name) if loaded else None

    def _plan(self, asked: str | None) -> Plan | None:
        if self.loaded is None:
            return None
        own = self.loaded.model.functions.get(self.name)
        chosen = asked or (own.plan if own else None)
        return self.loaded.offer(chosen).plan if chosen else None

    def _row(self, sql: str) -> tuple[Any, ...]:
        return self.log.query(sql)[0]

    def fit(self, files: list[str]) -> Fit:
        ok, errors, timeouts, throttled, cold = (
            int(n or 0)
            for n in self._row(
                "SELECT count(*) FILTER (outcome = 'ok'), count(*) FILTER (outcome = 'error'),"
                " count(*) FILTER (outcome = 'timeout'), count(*) FILTER (outcome = 'throttled'),"
                " count(*) FILTER (cold AND outcome <> 'throttled') FROM mine"
            )
        )
        if ok == 0:
            raise BadInput(Problem("has no successful run in the log", self.name, allowed="at least one usable run"))
        ran = ok + errors + timeouts
        self._timed()
        parts, measured_mb, memories = self._parts()
        run, warm = self._base_runs(parts, measured_mb)
        return Fit(
            self.name,
            self._read(files),
            ok,
            run,
            parts,
            measured_mb,
            self._vcpu(measured_mb),
            memories,
            self._cold(),
            share(cold, ran),
            share(errors, ran),
            share(timeouts, ran),
            share(throttled, ran + throttled),
            self._memory(),
            self._rhythm(),
            warm,
            tuple(self.notes),
        )

    def _read(self, files: list[str]) -> LogRead:
        log = self.log
        columns = tuple(str(each) for each in log.mapped)
        return LogRead(tuple(files), log.rows, columns, log.notes, log.troubles, log.functions)

    # -- run time -------------------------------------------------------------------------------------------------
    def _timed(self) -> None:
        """The runs whose time is looked at: all that succeeded, but for cold ones whose start is part of it."""
        # Where cold starts are flagged but not timed, a cold run's time holds an unknown start.
        only_warm = self._row("SELECT count(*) FROM mine WHERE cold AND cold_ms IS NULL")[0] > 0
        warm = self._row("SELECT count(*) FROM mine WHERE outcome = 'ok' AND NOT cold")[0]
        if only_warm and not warm:
            self.notes.append("every run was a cold one; run times hold the cold start")
        condition = " AND NOT cold" if only_warm and warm else ""
        self.log.connection.execute(f"CREATE TEMP VIEW timed AS SELECT * FROM mine WHERE outcome = 'ok'{condition}")

    def _slowdown(self, memory_mb: float, measured_mb: float) -> float:
        """v(measured) / v(memory) (rule 3.1); 1 where no plan says what a memory has."""
        if self.plan is None or not memory_mb or self.plan.vcpu_per_gb is None:
            return 1.0
        threads = self.function.threads if self.function else 1
        used = [min(threads, self.plan.vcpu(round(mb))) for mb in (measured_mb, memory_mb)]
        return used[0] / used[1]

    def _vcpu(self, measured_mb: float | None) -> float | None:
        """What the plan gives at the memory the runs were measured at, where a plan is known."""
        if self.plan is None or self.plan.vcpu_per_gb is None or measured_mb is None:
            return None
        return self.plan.vcpu(round(measured_mb))

    def _parts(self) -> tuple[RunParts, float | None, tuple[float, ...]]:
        """Base run, part per event and CPU share, from run times grouped by memory and batch."""
        rows = self.log.query(
            "SELECT coalesce(memory_mb, 0), events, count(*), avg(run_ms), avg(run_ms * run_ms) FROM timed"
            f" GROUP BY 1, 2 ORDER BY 1, 2 LIMIT {_MOST_GROUPS}"
        )
        memory, events, n, mean, square = (np.array(column, dtype=float) for column in zip(*rows, strict=True))
        sizes = tuple(float(mb) for mb in sorted(set(memory)) if mb > 0)
        measured = self._measured_at(sizes, memory, n)
        if len(sizes) > 1 and self.plan is None:
            self.notes.append("several memory sizes, but no --plan to say what CPU each has: no CPU share fitted")
        slow = np.array([self._slowdown(mb, measured or mb) for mb in memory])
        if len(sizes) > 1 and self.plan is not None and len(set(slow.round(9))) == 1:
            self.notes.append("the memory sizes of the log have the same CPU on this plan: no CPU share fitted")
        batches = len(set(events)) > 1
        if not batches and events[0] > 1:
            self.notes.append(f"every batch held {events[0]:,.0f} events: run and per_item cannot be told apart")
        parts = run_parts(events, slow, n.astype(np.int64), mean, square)
        if parts.per_item is not None and (parts.per_item.low <= 0 or parts.base.value <= 0):
            text = f"{parts.per_item.low:.3g} to {parts.per_item.high:.3g} ms"
            why = "no part per event stands out" if parts.per_item.low <= 0 else "a part per event would leave no run"
            self.notes.append(f"{why} ({text}): left out")
            parts = run_parts(np.zeros(len(events)), slow, n.astype(np.int64), mean, square)
        return parts, measured, sizes

    def _measured_at(
        self, sizes: tuple[float, ...], memory: NDArray[np.float64], n: NDArray[np.float64]
    ) -> float | None:
        """The memory that base runs are given at: the model's if the log has it, else the commonest."""
        if not sizes:
            return None
        # The model's own size first, so that its keys can be laid beside the log's.
        own = self.function and (self.function.measured_at or self.function.memory)
        if own in sizes:
            return float(own or 0)
        return max(sizes, key=lambda mb: (float(n[memory == mb].sum()), -mb))

    def _base_runs(self, parts: RunParts, measured: float | None) -> tuple[Spread, tuple[float, ...]]:
        """The spread of base runs: each run set back to the measured memory, without its part per event."""
        cpu = parts.cpu_share.value if parts.cpu_share else 0.0
        each = parts.per_item.value if parts.per_item else 0.0
        factors = {mb: 1 - cpu + cpu * self._slowdown(mb, measured or mb) for mb in self._memories()}
        cases = " ".join(f"WHEN {mb!r} THEN {factor!r}" for mb, factor in factors.items())
        # Every run as it would have been at one memory and without its events: then one spread holds for all.
        base = f"run_ms / CASE coalesce(memory_mb, 0) {cases} ELSE 1 END - {each!r} * events"
        self.log.connection.execute(
            f"CREATE TEMP TABLE base AS SELECT {base} AS ms, hash(t, run_ms, id) AS digest FROM timed"
        )
        below = int(self._row("SELECT count(*) FROM base WHERE ms <= 0")[0])
        n, mean, sd = self._row("SELECT count(*), avg(ln(ms)), stddev_samp(ln(ms)) FROM base WHERE ms > 0")
        if not n:
            raise BadInput(Problem("has no run of more than 0 ms in the log", self.name))
        if below:
            self.notes.append(f"{below:,} run(s) shorter than their events would take left out of the spread")
        sample = self._sample("base", int(n))
        shares = [k / 100 for k in range(1, 100)]
        quantiles = tuple(float(x) for x in self._row(f"SELECT quantile_cont(ms, {shares}) FROM base WHERE ms > 0")[0])
        shift = 0.0
        if parts.per_item:
            half = (parts.per_item.high - parts.per_item.low) / 2
            shift = half * float(self._row("SELECT avg(events) FROM timed")[0])
        bins = self._bins("base", float(mean), float(sd)) if sd and n > _SAMPLE else None
        return log_normal(int(n), float(mean), float(sd or 0.0), sample, shift, bins), quantiles

    def _memories(self) -> list[float]:
        return [float(row[0]) for row in self.log.query("SELECT DISTINCT coalesce(memory_mb, 0) FROM mine ORDER BY 1")]

    def _bins(self, table: str, mean: float, sd: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """All times of a table counted in bins of 1/2,000 of a standard deviation of their logarithms."""
        rows = self.log.query(
            f"SELECT CAST(floor((ln(ms) - {mean!r}) / {sd!r} * {_FINE}) AS BIGINT) AS b, count(*) FROM {table} WHERE ms > 0 GROUP BY 1 ORDER BY 1"
        )
        places, counts = (np.array(column, float) for column in zip(*rows, strict=True))
        return (places + 1) / _FINE, np.cumsum(counts)

    def _sample(self, table: str, n: int) -> NDArray[np.float64]:
        """At most ``_SAMPLE`` positive times, drawn by a digest of their row: the same log gives the same ones."""
        # By a digest of the row and not by its place: the same log in other files gives the same runs.
        every = max(1, n // _SAMPLE)
        rows = self.log.query(f"SELECT ms FROM {table} WHERE ms > 0 AND digest % {every} = 0 LIMIT {2 * _SAMPLE}")
        if not rows:
            rows = self.log.query(f"SELECT ms FROM {table} WHERE ms > 0 LIMIT {_SAMPLE}")
        return np.array([row[0] for row in rows])

    def _cold(self) -> Spread | None:
        """Cold starts: their own column, or how much longer flagged runs take than warm ones."""
        self.log.connection.execute(
            "CREATE TEMP TABLE starts AS SELECT cold_ms AS ms, hash(t, run_ms, id) AS digest FROM mine WHERE cold AND cold_ms > 0"
        )
        n, mean, sd = self._row("SELECT count(*), avg(ln(ms)), stddev_samp(ln(ms)) FROM starts")
        if n:
            return log_normal(int(n), float(mean), float(sd or 0.0), self._sample("starts", int(n)))
        flagged, longer, half = self._row(
            "SELECT count(*) FILTER (cold), avg(run_ms) FILTER (cold) - avg(run_ms) FILTER (NOT cold),"
            " 1.959963984540054 * sqrt(var_samp(run_ms) FILTER (cold) / count(*) FILTER (cold)"
            " + var_samp(run_ms) FILTER (NOT cold) / count(*) FILTER (NOT cold)) FROM mine WHERE outcome = 'ok'"
        )
        if not flagged or longer is None or longer <= 0:
            return None
        self.notes.append("cold starts are only flagged: taken as how much longer such runs take on average")
        half = float(half or 0.0)
        middle = Estimate(float(longer), max(0.0, float(longer) - half), float(longer) + half)
        return Spread("constant", middle, middle, int(flagged))

    # -- memory, rhythm -------------------------------------------------------------------------------------------
    def _memory(self) -> MemoryUse | None:
        seen = "FROM mine WHERE used_mb > 0 AND outcome <> 'throttled'"
        n, largest, given = self._row(f"SELECT count(used_mb), max(used_mb), max(memory_mb) {seen}")
        if not n:
            return None
        shares = [min(1.0, max(0.0, q)) for q in (*rank_shares(0.5, int(n)), *rank_shares(0.95, int(n)))]
        values = [float(x) for x in self._row(f"SELECT quantile_disc(used_mb, {shares}) {seen}")[0]]
        p50, p95 = Estimate(*values[:3]), Estimate(*values[3:])
        return MemoryUse(p50, p95, float(largest), float(given) if given else None)

    def _rhythm(self) -> Rhythm | None:
        """Events as they come in; where a failed run comes back, only those that succeed are counted."""
        if self._sources() == {"schedules"}:
            return None
        again = "outcome = 'ok'" if "endpoints" not in self._sources() else "outcome <> 'throttled'"
        first, last = self._row("SELECT min(t), max(t) FROM mine")
        rows = self.log.query(
            f"SELECT CAST(floor(t / {STRETCH_S}) AS BIGINT), sum(events) FROM mine WHERE {again} GROUP BY 1"
        )
        counts = {int(at): float(events) for at, events in rows}
        most = 400 * 86_400
        if last - first > most:
            middle = float(self._row("SELECT median(t) FROM mine")[0])
            first, last = max(first, middle - most / 2), min(last, middle + most / 2)
            self.notes.append("the log spans more than 400 days; the rate is of the 400 days around its middle")
        return rhythm(counts, float(first), float(max(last, first + 1.0)), self.zone)

    def _sources(self) -> set[str]:
        """Kinds of the sources that set the function off; none without a model."""
        triggers = self.loaded.model.triggers if self.loaded else []
        return {t.from_.kind for t in triggers if t.to == self.name}
