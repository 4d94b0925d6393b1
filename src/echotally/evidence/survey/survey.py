"""``survey``: from logs, spans, metrics and bills to a model that can be played, with its doubt stated."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import TypedDict, Unpack
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from msgspec import Struct
from msgspec.structs import replace

from echotally.errors import BadInput, Problem
from echotally.evidence.fit.fit import LogRead
from echotally.evidence.fit.rhythm import STRETCH_S
from echotally.evidence.logs.otlp import begins_with
from echotally.evidence.logs.reading import RunLog, open_log
from echotally.evidence.survey.assembling import Assembler, changes_in
from echotally.evidence.survey.assembly import Span
from echotally.evidence.survey.backtest import (
    FEW,
    SEEDS,
    Backtest,
    Sums,
    happened_days,
    laid_beside,
    played_days,
    together,
)
from echotally.evidence.survey.batches import plain_near
from echotally.evidence.survey.bills import read_bills
from echotally.evidence.survey.card import Card, Seen, card_of
from echotally.evidence.survey.draft import Draft, text_of
from echotally.evidence.survey.environments import Worlds, worlds_of
from echotally.evidence.survey.facts import Change, Value
from echotally.evidence.survey.levels import keep_alive_counted, keep_alive_of, limit_met, limits_met
from echotally.evidence.survey.lines import Wiring
from echotally.evidence.survey.made import HEAD, Survey, loaded_from
from echotally.evidence.survey.metrics import is_metrics, read_metrics
from echotally.evidence.survey.tables import Tables, Unit, month_span
from echotally.evidence.survey.wiring import prepare_spans, wiring_of
from echotally.evidence.survey.zones import zone_of
from echotally.files import paths_of
from echotally.model.sources import SourceKind
from echotally.parts import need

_DAY_S = 86_400.0
_ENDINGS = (
    ".csv",
    ".csv.gz",
    ".parquet",
    ".pq",
    ".parquet.gz",
    ".pq.gz",
    ".json",
    ".jsonl",
    ".ndjson",
    ".json.gz",
    ".jsonl.gz",
    ".ndjson.gz",
)
#: Attempts of a month above which the held-back days are not played.
_TOO_MANY = 30_000_000
Told = Callable[[str], None]


class Reading(Struct, frozen=True):
    """How logs are read: ``timezone`` is that of times without an offset, and the first choice of the schedules'; ``columns`` are
    (what it holds, its name in the log); on so many threads. ``told`` hears what is done.
    """

    timezone: str | None = None
    columns: Iterable[tuple[str, str]] = ()
    workers: int | None = None
    told: Told | None = None


class ReadingWords(TypedDict, total=False):
    """The same, as keywords of ``survey``."""

    timezone: str | None
    columns: Iterable[tuple[str, str]]
    workers: int | None
    told: Told | None


def survey(
    sources: Path | str | Sequence[Path | str],
    *,
    bills: Path | str | Sequence[Path | str] = (),
    metrics: Sequence[Path | str] = (),
    month: str | None = None,
    hold_back_s: float | None = None,
    **words: Unpack[ReadingWords],
) -> Survey:
    """A model of what logs, spans, metrics and bills show. ``sources`` are files or folders.

    ``month`` ("2027-03") is the model's, left out that of the bill, else the one most of the log lies in; ``hold_back_s`` days
    at the log's end are kept back and laid beside what a model made without them says (0: none; left out: 7 days, or a quarter
    of a short log). ``words``: how the logs are read (``Reading``). Raises ``BadInput``.
    """
    reading = Reading(**words)
    say = reading.told or (lambda _: None)
    zone = _zone(reading.timezone or "UTC")
    need("duckdb", "orjson", "networkx", "jinja2", "matplotlib")
    sources, bills = paths_of(sources), paths_of(bills)
    logs, extra, more_bills = _sorted(sources, {Path(each).resolve() for each in (*bills, *metrics)})
    say("reading the log")
    with open_log(logs, reading.columns, str(zone), reading.workers) as log:
        return _Surveyor(log, logs, zone, reading.timezone, say).survey(
            [*map(Path, bills), *more_bills], [*extra, *metrics], month, hold_back_s
        )


def _zone(name: str) -> ZoneInfo:
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError) as error:
        raise BadInput(Problem("is not an IANA zone", "timezone", value=name)) from error


def _sorted(sources: Sequence[Path], known: set[Path]) -> tuple[list[Path], list[Path], list[Path]]:
    """The logs, metrics and bills among files and folders, in the order of their names within a folder; without those ``known``."""
    paths: list[Path] = []
    for each in map(Path, sources):
        if each.is_dir():
            inside = sorted(p for p in each.rglob("*") if p.is_file() and p.name.lower().endswith(_ENDINGS))
            if not inside:
                raise BadInput(Problem("holds no log", file=str(each), allowed=", ".join(_ENDINGS)))
            paths += [path for path in inside if path.resolve() not in known]
        else:
            paths.append(each)
    if not paths:
        raise BadInput(Problem("no log is given", allowed="one or more files or folders"))
    of_metrics, bills = [], []
    for path in paths:
        with suppress(OSError):
            if path.name.lower().endswith((".json", ".jsonl", ".json.gz", ".jsonl.gz")) and is_metrics(path):
                of_metrics.append(path)
            elif path.suffix.lower() in (".csv", ".parquet") and begins_with(path, b"BilledCost"):
                bills.append(path)
    logs = [path for path in paths if path not in of_metrics and path not in bills]
    if not logs:
        what = "metrics" if of_metrics else "bills"
        allowed = f"spans or a run log beside them; {what} alone tell no run time of one attempt"
        raise BadInput(Problem(f"holds {what} only", file=[*of_metrics, *bills][0].name, allowed=allowed))
    return logs, of_metrics, bills


class _Surveyor:
    def __init__(self, log: RunLog, paths: list[Path], zone: ZoneInfo, asked: str | None, say: Told) -> None:
        self.log, self.paths, self.zone, self.say = log, paths, zone, say
        self.asked = asked
        self.prefer = (asked, "UTC") if asked and asked != "UTC" else ("UTC",)
        self.notes: list[str] = []

    def survey(
        self, bills: list[Path], metrics: list[Path | str], month: str | None, hold_back_s: float | None
    ) -> Survey:
        if not self.log.query("SELECT count(*) FROM runs WHERE usable AND outcome <> 'throttled'")[0][0]:
            raise BadInput(Problem("the log has no usable attempt", file=self.paths[0].name))
        prepare_spans(self.log)
        tables = Tables(self.log, math.inf)
        first, last = (float(x) for x in tables.query("SELECT min(t), max(t) FROM {seen}")[0])
        self.metrics = read_metrics(metrics, (first, last)) if metrics else None
        self.billed = read_bills(bills, {f for f, _ in tables.sums}) if bills else None
        self.month = month or (self.billed.month if self.billed else None) or self._most(tables)
        self.tags = self._tags()
        self._lives_by(tables, first, last)
        self.say("looking for changes")
        made = self._made(tables, first, last, self.month, True)
        backtests = self._backtests(tables, first, last, hold_back_s, made)
        self._unread(made)
        return replace(made, backtests=backtests, notes=tuple(self.notes))

    def _lives_by(self, tables: Tables, first: float, last: float) -> None:
        """Take the zone that the rhythm keeps to where clocks change within the log, unless one was asked for."""
        if self.asked is not None:
            return
        found = zone_of(tables, first, last, self.prefer, self.metrics)
        for function, zone in found.apart:
            self.notes.append(
                f"the rhythm of {function} keeps to the clock of {zone}, not to the estate's, which has one zone"
            )
        if found.zone is None:
            self.notes.append(
                "no zone explains the rhythm better than UTC: hours and days are UTC's, unless --timezone says others"
            )
            return
        self.zone = ZoneInfo(found.zone)
        self.prefer = (found.zone, "UTC")
        more = ", ".join(found.others[:5]) + (" ..." if len(found.others) > 5 else "")
        also = f"; {more} would do as well (--timezone)" if found.others else ""
        self.notes.append(f"the rhythm keeps to the clock of {found.zone}{also}")

    def _most(self, tables: Tables) -> str:
        """The month in which most attempts lie."""
        rows = tables.query(
            "SELECT strftime(make_timestamp(CAST(t * 1000000 AS BIGINT)), '%Y-%m') AS m, count(*) FROM {seen} GROUP BY m ORDER BY 2 DESC, m LIMIT 1"
        )
        return str(rows[0][0])

    def _tags(self) -> dict[str, dict[str, str]]:
        found: dict[str, dict[str, str]] = {}
        names = {str(row[0]) for row in self.log.query("SELECT table_name FROM information_schema.tables")}
        if "tags" in names:
            for function, key, value in self.log.query(
                "SELECT DISTINCT function, key, value FROM tags ORDER BY 1, 2, 3"
            ):
                found.setdefault(str(function), {}).setdefault(str(key), str(value))
        return found

    # -- one model ------------------------------------------------------------------------------------------------
    def _made(self, tables: Tables, first: float, last: float, month: str, changes: bool) -> Survey:
        """The model of the log up to ``last``; ``changes``: what holds since the last change counts, else all of it."""
        names = {f: [unit for unit in tables.sums if unit[0] == f] for f, _ in tables.sums}
        for units in names.values():
            units.sort(key=lambda unit: -tables.sums[unit].started)
        found = changes_in(tables, names, self.zone) if changes else {}
        since = {f: max(c.at.timestamp() for c in group if isinstance(c, Change)) for f, group in found.items()}
        if since:
            tables = tables.within(tables.until, since)
        scales = self._scaled(tables, first, last)
        wiring = wiring_of(tables, self.billed)
        bill_month = (self.billed.month if self.billed else None) or month
        worlds = worlds_of(tables, wiring, self.tags, month_span(bill_month, self.zone))
        worlds.limits = limits_met(tables)
        worlds.concurrency = self._concurrency(tables, worlds.limits)
        span = Span(first, last, self.zone, self.prefer, month, since)
        self.say("fitting functions")
        assembler = Assembler(tables, wiring, worlds, span, self.billed, self.metrics)
        draft = assembler.made()
        draft.changes = [c for group in found.values() for c in group if isinstance(c, Change)]
        card = self._card(tables, worlds, self._poll_wait(worlds, wiring, tables, assembler.waits))
        self._estate(draft, card, month, self.zone)
        text = draft.text(self._head(draft, month))
        return Survey(
            month,
            str(self.zone),
            self._read(),
            (first, last),
            draft,
            card,
            assembler.functions,
            worlds,
            wiring,
            self.billed,
            tuple(draft.changes),
            (),
            (),
            text,
            scales,
        )

    def _read(self) -> LogRead:
        log = self.log
        names = tuple(path.name for path in self.paths)
        return LogRead(names, log.rows, tuple(str(m) for m in log.mapped), log.notes, log.troubles, log.functions)

    def _scaled(self, tables: Tables, first: float, last: float) -> dict[Unit, float]:
        """Where metrics count more attempts than there are spans, spans are a sample: each stands for so many (``Tables.by``)."""
        found: dict[Unit, float] = {}
        if self.metrics is None:
            return found
        for unit, sums in tables.sums.items():
            since = max(first, sums.first - 3_600)
            counted = self.metrics.total("invocations", unit, since, min(last, tables.until) + 3_600)
            if counted and sums.started and counted > 1.02 * sums.started:
                found[unit] = counted / sums.started
        tables.by = found
        if found and tables.until == math.inf:
            share = sum(1 / f for f in found.values()) / len(found)
            self.notes.append(
                f"spans are a sample, about {share:.2%} of attempts: rates come from metrics, shapes and wiring from spans"
            )
        return found

    def _concurrency(self, tables: Tables, limits: Mapping[Unit, int]) -> int | None:
        """The account's limit: a level of all functions together at which attempts were throttled where no function has its own."""
        throttled = any(sums.attempts["throttled"] for sums in tables.sums.values())
        return limit_met(tables, list(tables.sums)) if throttled and not limits else None

    def _card(self, tables: Tables, worlds: Worlds, poll_wait_s: float | None) -> Card:
        means = {unit: self.metrics.mean("cold", unit) for unit in tables.samples} if self.metrics else {}
        cold = {unit: found[0] * 1_000 for unit, found in means.items() if found}
        samples = dict(tables.samples)
        kept = keep_alive_counted(tables, self.metrics) if tables.by else keep_alive_of(list(samples.values()))
        seen = Seen(tables.scaled_sums, samples, kept, bool(tables.by), worlds.concurrency, cold)
        return card_of(self.billed, seen, poll_wait_s)

    def _poll_wait(self, worlds: Worlds, wiring: Wiring, tables: Tables, waits: Mapping[str, float]) -> float | None:
        """Seconds between polls of an empty queue, from operations billed beyond sends, receives and deletes; inf for none.

        A queue is not empty while a batch waits to fill (``waits``, s by function), and what failed is not deleted.
        """
        if self.billed is None or "queue_operations" not in self.billed.prices:
            return None
        extra, idle = 0.0, 0.0
        for name, units in worlds.functions.items():
            for unit in units:
                ways = wiring.arrivals.get(unit[0], [])
                billed = float(self.billed.of("queue_operations", *unit))
                if not billed or not any(a.source.kind is SourceKind.QUEUES for a in ways):
                    continue
                counts, by = tables.counts[unit].window(*worlds.bill_span), tables.by.get(unit, 1.0)
                batches = float(counts.attempts.sum()) * by
                deleted = batches - float(counts.errors.sum() + counts.timeouts.sum()) * by
                extra += billed - (float(counts.good.sum()) * by + batches + deleted)
                each = worlds.bill_seconds * sum(a.source.kind is SourceKind.QUEUES for a in ways)
                idle += max(0.0, each - batches * waits.get(name, 0.0))
        if not idle:
            return None
        return plain_near(idle / extra) if extra > 0.01 * idle / 60 else math.inf

    def _estate(self, draft: Draft, card: Card, month: str, zone: ZoneInfo) -> None:
        name = "surveyed estate"
        draft.values[:0] = [
            Value("estate.name", text_of(name)),
            Value(
                "estate.month", text_of(month), "that of the bill" if self.billed and self.billed.month == month else ""
            ),
            Value("estate.timezone", text_of(str(zone))),
            Value("estate.rate_cards", f'["rates/{card.name}.toml"]'),
            Value("estate.plans", f'["{card.full}"]'),
        ]

    def _head(self, draft: Draft, month: str) -> str:
        files = ", ".join(path.name for path in self.paths[:6]) + (" ..." if len(self.paths) > 6 else "")
        return (
            f"{HEAD} from {files}: {self.log.rows:,} rows.\nBehind each value stands what it rests on; unknown.md says what"
            " could not be told, survey.html shows the fits."
        )

    def _unread(self, made: Survey) -> None:
        """What was read and belongs to no function, said."""
        if self.billed is not None:
            self.notes += self.billed.notes
            logged = {f for f, _ in self.log_units()}
            missing = sorted({f for _, f, _ in self.billed.quantity if f} - logged)
            if missing:
                self.notes.append(f"on the bill but not in the log: {', '.join(missing[:20])}")
        if self.metrics is not None:
            logged = {f for f, _ in self.log_units()}
            more = sorted({f for f, _ in self.metrics.units} - logged)
            if more:
                self.notes.append(
                    f"counted by metrics but not in the log, and so not in the model: {', '.join(more[:20])}"
                )
        self.notes += [*made.worlds.notes, *made.wiring.circles]
        few = [name for name, found in made.functions.items() if found.sums.started < 10]
        if few:
            self.notes.append(
                f"of {', '.join(few[:20])} fewer than ten attempts were seen: in the model, but hardly known"
            )

    def log_units(self) -> list[tuple[str, str]]:
        """The functions and environments of the log."""
        return [(str(f), str(e)) for f, e in self.log.query("SELECT DISTINCT f, e FROM named ORDER BY 1, 2")]

    # -- held-back days -------------------------------------------------------------------------------------------
    def _backtests(
        self, whole: Tables, first: float, last: float, hold_back_s: float | None, made: Survey
    ) -> tuple[Backtest, ...]:
        if hold_back_s == 0:
            return ()
        length = last - first
        hold = hold_back_s if hold_back_s is not None else 7 * _DAY_S if length >= 14 * _DAY_S else length / 4
        if length < 2 * _DAY_S or hold > 0.6 * length:
            self.notes.append("the log is too short to hold days back: nothing was tried against what happened")
            return ()
        monthly = sum(s.started for s in whole.sums.values()) / length * 31 * _DAY_S
        if monthly > _TOO_MANY:
            self.notes.append(f"about {monthly:,.0f} attempts a month are too many to play the held-back days")
            return ()
        self.say("playing the held-back days")
        # Counts are by the quarter of an hour.
        cut = (last - hold) // STRETCH_S * STRETCH_S
        tables = whole.within(cut)
        found = self._tested(tables, first, cut, last, "fitted to what holds since the last change", True)
        if found is None:
            return ()
        tests = [found[0]]
        if found[1]:
            again = self._tested(whole.within(cut), first, cut, last, "fitted to the whole log before", False)
            tests += [again[0]] if again else []
        else:
            tests = [replace(found[0], how="fitted to the days before")]
        return tuple(tests)

    def _tested(
        self, tables: Tables, first: float, cut: float, last: float, how: str, changes: bool
    ) -> tuple[Backtest, bool] | None:
        months = sorted({datetime.fromtimestamp(at, self.zone).strftime("%Y-%m") for at in (cut, last - 1)})
        plays: list[dict[Unit, Sums]] = []
        made = None
        for month in months:
            made = self._made(tables, first, cut, month, changes)
            low, high = month_span(month, self.zone)
            try:
                loaded = loaded_from(made)
            except BadInput as error:
                self.notes.append(f"the held-back days could not be played: {error.problems[0].message}")
                return None
            few = sum(found.sums.started for found in made.functions.values()) < FEW
            some = [
                played_days(loaded, made.card.full, max(cut, low), min(last, high), seed)
                for seed in range(1, (SEEDS if few else 1) + 1)
            ]
            plays = [_joined(a, b) for a, b in zip(plays, some, strict=False)] if plays else some
        assert made is not None
        happened = happened_days(tables, cut, last, made.scales, self.metrics)
        names = {name: found.units for name, found in made.functions.items()}
        prices = {} if made.card.placeholder else made.card.prices
        rows, total = laid_beside(plays, happened, names, made.values, prices)
        return Backtest(cut, last, rows, total, how), bool(made.changes)


def _joined(one: Mapping[Unit, Sums], other: Mapping[Unit, Sums]) -> dict[Unit, Sums]:
    found: dict[Unit, Sums] = {}
    for unit in {*one, *other}:
        parts = [p for p in (one.get(unit), other.get(unit)) if p is not None]
        found[unit] = together(parts)
    return found
