"""Log times against a schedule: which firings were missed, late or extra, and whether the zone is wrong.

A firing is looked for from just before its time until the next one's. Whole-hour shifts of the schedule that fit much
better than none point at a zone that was read wrongly.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import NamedTuple, TypedDict, Unpack
from zoneinfo import ZoneInfo

from msgspec import Struct

from echotally.demand.clock import to_utc
from echotally.demand.schedules import firings, last_before, zone_of
from echotally.errors import BadInput, Problem
from echotally.evidence.logs.reading import Trouble, open_log
from echotally.model.loading import ModelSource
from echotally.naming import known_name
from echotally.projection.loaded import Loaded, load
from echotally.showing import Answer

_MOST_FIRINGS = 1_000_000
_SHIFTS_H = [h for h in range(-14, 15) if h]
#: A clock may be this much ahead of the schedule's.
_EARLY_S = 2.0
#: A first start so long after a firing is no longer taken for that firing's.
_LONGEST_LATE_S = 3_600.0


class FiringCheck(Answer, frozen=True):
    """Times are UTC; ``late`` pairs a firing with the seconds it came late. ``shift_h`` is the whole-hour shift that
    fits better than none (0: none does), ``shifted_share`` the share of firings it explains.
    """

    schedule: str
    function: str
    expected: int
    seen: int
    on_time: int
    late: tuple[tuple[datetime, float], ...]
    missed: tuple[datetime, ...]
    extra: tuple[datetime, ...]
    shift_h: int
    shifted_share: float
    troubles: tuple[Trouble, ...]
    notes: tuple[str, ...]


class Sought(Struct, frozen=True):
    """The firings that are looked for: of one ``environment``, from ``after`` until before ``until`` (in the schedule's zone unless
    they have an offset); left out, from the first firing that could belong to the log, the one its first start came after, to
    the log's last row.
    """

    environment: str | None = None
    after: datetime | None = None
    until: datetime | None = None


class SoughtWords(TypedDict, total=False):
    """The same, as keywords of ``check_firings``."""

    environment: str | None
    after: datetime | None
    until: datetime | None


def check_firings(
    loaded: ModelSource | Loaded,
    schedule: str,
    paths: Path | str | Iterable[Path | str],
    columns: Sequence[tuple[str, str]] = (),
    *,
    tolerance_s: float = 60.0,
    **words: Unpack[SoughtWords],
) -> FiringCheck:
    """Lay the starts of the schedule's function in a log beside its firings; late means by more than ``tolerance_s``.

    ``words``: which firings (``Sought``).

    Attempts on end that retry a failed run count as extra. Raises ``BadInput``.
    """
    sought, loaded = Sought(**words), load(loaded)
    model = loaded.model
    schedule = known_name("schedule", "--schedule", schedule, model.schedules, "schedules")
    functions = [t.to for t in model.triggers if t.from_ == f"schedules.{schedule}"]
    if not functions:
        raise BadInput(Problem("triggers no function", f"schedules.{schedule}"))
    # A start logged twice with one id is looked at here as what it may be, a start too many.
    with open_log(paths, columns, str(model.estate.timezone), keep_repeated=True) as log:
        named = any(log.functions)
        wanted = "usable AND outcome <> 'throttled'" + (" AND function = $name" if named else " AND $name <> ''")
        wanted += " AND environment = $env" if sought.environment else ""
        values = {"name": functions[0]} | ({"env": sought.environment} if sought.environment else {})
        rows = log.connection.execute(f"SELECT t FROM runs WHERE {wanted} ORDER BY t", values).fetchall()
        troubles, notes = log.troubles, log.notes
        span = log.query("SELECT min(t), max(t) FROM runs WHERE usable")[0]
    if span[0] is None:
        raise BadInput(Problem("the log has no usable row"))
    seen = [float(row[0]) for row in rows]
    zone = zone_of(model.schedules[schedule], str(model.estate.timezone))
    low, high = (None if at is None else _instant(at, zone) for at in (sought.after, sought.until))
    first = _first(loaded, schedule, float(span[0]), seen, tolerance_s) if low is None else low
    # Half-open: a firing at the very end is not looked for.
    last = float(span[1]) if high is None else high - 1e-6
    seen = [at for at in seen if (low is None or at >= low) and (high is None or at < high)]
    expected = _expected(loaded, schedule, first, last)
    return _compared(_Pair(schedule, functions[0], expected, seen), tolerance_s, troubles, notes)


def _instant(at: datetime, zone: ZoneInfo) -> float:
    return (to_utc(at, zone) if at.tzinfo is None else at).timestamp()


def _first(loaded: Loaded, name: str, span: float, seen: list[float], tolerance_s: float) -> float:
    """From when firings are looked for: the log's first row, or the firing shortly before it that its first start belongs to."""
    schedule = loaded.model.schedules[name]
    if not seen:
        return span
    zone = zone_of(schedule, str(loaded.model.estate.timezone))
    before = last_before(schedule, zone, datetime.fromtimestamp(seen[0] + _EARLY_S, UTC))
    if before is None or seen[0] - before.timestamp() > max(_LONGEST_LATE_S, tolerance_s):
        return span
    return min(span, before.timestamp())


def _expected(loaded: Loaded, name: str, first: float, last: float) -> list[float]:
    """Firings between the first and the last row of the log, s since 1970."""
    schedule = loaded.model.schedules[name]
    zone = zone_of(schedule, str(loaded.model.estate.timezone))
    after = datetime.fromtimestamp(first, UTC) - timedelta(microseconds=1)
    found: list[float] = []
    for at in firings(schedule, zone, after, loaded.month.clock.start):
        moment = at.timestamp()
        if moment > last:
            break
        found.append(moment)
        if len(found) > _MOST_FIRINGS:
            raise BadInput(Problem(f"fires more than {_MOST_FIRINGS:,} times in the log's span", f"schedules.{name}"))
    return found


class _Pair(NamedTuple):
    """Firings and starts, s since 1970."""

    schedule: str
    function: str
    expected: list[float]
    seen: list[float]


def _compared(pair: _Pair, tolerance_s: float, troubles: tuple[Trouble, ...], notes: tuple[str, ...]) -> FiringCheck:
    schedule, function, expected, seen = pair
    matches = _matches(expected, seen)
    late = [(e, s - e) for e, s in matches.items() if s - e > tolerance_s]
    used = set(matches.values())
    shift, part = _shift(expected, seen, tolerance_s)
    return FiringCheck(
        schedule,
        function,
        len(expected),
        len(seen),
        len(matches) - len(late),
        tuple((_moment(e), by) for e, by in late),
        tuple(_moment(e) for e in expected if e not in matches),
        tuple(_moment(s) for s in seen if s not in used),
        shift,
        part,
        troubles,
        notes,
    )


def _matches(expected: list[float], seen: list[float]) -> dict[float, float]:
    """Each firing's first start between it and the next firing."""
    found: dict[float, float] = {}
    for n, at in enumerate(expected):
        until = expected[n + 1] if n + 1 < len(expected) else float("inf")
        place = bisect_left(seen, at - _EARLY_S)
        # From its time on and before the next one's: a start belongs to one firing.
        if place < len(seen) and seen[place] < until - _EARLY_S:
            found[at] = seen[place]
    return found


def _on_time(expected: list[float], seen: list[float], tolerance_s: float) -> int:
    return sum(
        1
        for at in expected
        if (place := bisect_left(seen, at - _EARLY_S)) < len(seen) and seen[place] - at <= tolerance_s
    )


def _shift(expected: list[float], seen: list[float], tolerance_s: float) -> tuple[int, float]:
    """The whole-hour shift under which twice as many firings are met as without, and at least half of all."""
    if not expected:
        return 0, 0.0
    plain = _on_time(expected, seen, tolerance_s)
    best, met = 0, plain
    for hours in _SHIFTS_H:
        found = _on_time([at + hours * 3_600 for at in expected], seen, tolerance_s)
        # Of shifts that fit as well the smaller one is the likelier slip.
        if found > met or (found == met and best and abs(hours) < abs(best)):
            best, met = hours, found
    if met < 2 * max(plain, 1) or met < len(expected) / 2:
        best, met = 0, plain
    return best, met / len(expected)


def _moment(at: float) -> datetime:
    return datetime.fromtimestamp(at, UTC)
