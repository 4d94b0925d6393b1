"""A schedule guessed from the times at which a function started: a cron expression that explains them, or a constant gap.

Each candidate is not trusted because of how it was made: the tool's own calendar says when it would have fired, in its zone and
over every clock change, and that is laid beside the starts.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Sequence
from datetime import UTC, date, datetime, timedelta
from functools import cache, lru_cache
from zoneinfo import ZoneInfo, available_timezones

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.demand.cron import firings_after, parse_cron
from echotally.errors import Refused

#: Fewer firings make no expression.
_LEAST = 3
#: A start belongs to a firing up to so long after it.
_LATE_S = 90.0
_EARLY_S = 1.0
#: Share of firings that must have been seen, and of starts that must belong to one.
_SURE = 0.95
#: Starts so soon after a firing's own are its repetitions.
_AGAIN_S = 1_800.0
_MOST = 200_000
_HALF_DAY_S = 43_200


class Guess(Struct, frozen=True):
    """A guessed schedule: ``cron`` in ``zone``, or ``every`` so many seconds from ``anchor`` on (s since 1970).

    ``expected`` firings lay in the log's span, ``met`` of them were seen; ``zones`` explain the starts as well.
    """

    cron: str | None
    every_s: float | None
    anchor: float
    zone: str
    expected: int
    met: int
    starts: int
    zones: tuple[str, ...] = ()
    also: tuple[str, ...] = ()

    @property
    def evidence(self) -> str:
        """What it rests on, in words."""
        text = f"explains {self.met:,} of {self.expected:,} firings it would have had, {self.starts:,} starts seen"
        if self.also:
            text += f"; as well as {' or '.join(self.also)}"
        if self.zones:
            text += f"; zones that explain as much: {', '.join(self.zones[:6])}" + (
                " ..." if len(self.zones) > 6 else ""
            )
        return text


def guess_schedule(starts: NDArray[np.float64], prefer: Sequence[str] = ("UTC",)) -> Guess | None:
    """The schedule that explains these starts (s since 1970), or None; zones of ``prefer`` are taken first where several do."""
    starts = np.unique(starts)
    if not _LEAST <= len(starts) <= _MOST:
        return None
    firsts = _first_starts(starts)
    if len(firsts) < _LEAST:
        return None
    found = _in_zones(firsts, starts, prefer)
    if found is not None:
        return found
    return _constant(firsts, len(starts), prefer)


def _first_starts(starts: NDArray[np.float64]) -> NDArray[np.float64]:
    """Starts without those that repeat one before them: so close behind that they are rarer than the usual gap."""
    if len(starts) < 3:
        return starts
    gaps = np.diff(starts)
    usual = float(np.median(gaps))
    return np.asarray(starts[np.concatenate([[True], gaps > min(usual / 4, _AGAIN_S)])])


def _constant(firsts: NDArray[np.float64], starts: int, prefer: Sequence[str]) -> Guess | None:
    gaps = np.diff(firsts)
    step = float(np.median(gaps))
    rounded = float(round(step)) if step >= 10 else round(step, 1)
    if rounded <= 0 or np.mean(np.abs(gaps - rounded) <= max(1.0, 0.02 * rounded)) < _SURE:
        return None
    anchor = float(np.floor(np.quantile(firsts - rounded * np.round((firsts - firsts[0]) / rounded), 0.05)))
    expected = int((firsts[-1] - firsts[0]) / rounded + 1.5)
    return Guess(None, rounded, anchor, prefer[0], expected, min(expected, len(firsts)), starts)


def _in_zones(firsts: NDArray[np.float64], starts: NDArray[np.float64], prefer: Sequence[str]) -> Guess | None:
    plain = _best_in(firsts, starts, "UTC")
    if plain is not None and plain.met == plain.expected and not _strays(plain, starts):
        hinted = next((zone for zone in prefer if zone != "UTC"), None)
        # A zone that is asked for, and explains as much, is the better name of the same.
        named = _best_in(firsts, starts, hinted) if hinted else None
        if named is not None and named.met == named.expected and not _strays(named, starts) and hinted in prefer[:1]:
            return named
        return plain
    scored = [plain] if plain is not None else []
    for members in _zones_apart(float(firsts[0]), float(firsts[-1]), tuple(prefer)):
        guess = _best_in(firsts, starts, members[0])
        if guess is not None:
            scored.append(replace(guess, zones=tuple(members[1:])))
    if not scored:
        return None
    # The first of those that explain as much; the zone that was asked for stands first among its like.
    order = {
        id(g): (round(g.met / g.expected - _strays(g, starts), 6), g.zone in prefer, -len(str(g.cron))) for g in scored
    }
    best = max(scored, key=lambda g: order[id(g)])
    others = [g for g in scored if g is not best and order[id(g)][0] == order[id(best)][0]]
    also = tuple(f"{g.cron} in {g.zone}" for g in others if g.cron != best.cron)
    zones = (*best.zones, *(zone for g in others if g.cron == best.cron for zone in (g.zone, *g.zones)))
    return replace(best, zones=zones, also=(*best.also, *also))


@lru_cache(maxsize=32)
def _zones_apart(first: float, last: float, prefer: tuple[str, ...]) -> list[list[str]]:
    """Zones whose clocks change within the span, those together that show the same time all along."""
    moments = np.linspace(first, last, max(2, int((last - first) / _HALF_DAY_S) + 1))
    groups: dict[tuple[timedelta, ...], list[str]] = {}
    for name in sorted(
        _changing(math.floor(first / _HALF_DAY_S), math.ceil(last / _HALF_DAY_S)),
        key=lambda name: (name not in prefer, "/" not in name, name.startswith("Etc"), name),
    ):
        offsets = _offsets(name, moments)
        if len(set(offsets)) > 1:
            groups.setdefault(offsets, []).append(name)
    return [
        _by_continent(group, prefer) for group in sorted(groups.values(), key=lambda g: (g[0] not in prefer, -len(g)))
    ]


@lru_cache(maxsize=32)
def _changing(first: int, last: int) -> list[str]:
    """Zones whose clocks change between two half days since 1970: few spans are asked for, of many schedules each."""
    moments = _HALF_DAY_S * np.arange(first, last + 1, dtype=float)
    return [name for name in available_timezones() if len(set(_offsets(name, moments))) > 1]


def _offsets(name: str, moments: NDArray[np.float64]) -> tuple[timedelta, ...]:
    zone = _zone(name)
    return tuple(datetime.fromtimestamp(at, zone).utcoffset() or timedelta() for at in moments.tolist())


@cache
def _zone(name: str) -> ZoneInfo:
    """A zone that is kept: of those nobody holds the library keeps eight, and reads the others again."""
    return ZoneInfo(name)


def _by_continent(names: list[str], prefer: tuple[str, ...]) -> list[str]:
    """Zones that show the same time, those of the continent that has the most of them first, but what was asked for before all."""
    of = Counter(name.split("/")[0] for name in names)
    return sorted(names, key=lambda name: (name not in prefer, -of[name.split("/")[0]], name))


def _best_in(firsts: NDArray[np.float64], starts: NDArray[np.float64], zone: str) -> Guess | None:
    """The simplest expression that explains the starts in a zone; others as simple that do as well stand beside it."""
    good: list[Guess] = []
    for cron in _candidates(firsts, zone):
        guess = _tried(cron, firsts, starts, zone)
        if guess is not None:
            good.append(guess)
    if not good:
        return None
    best = max(good, key=lambda g: (round(g.met / g.expected - _strays(g, starts), 6), -len(str(g.cron))))
    as_good = [
        str(g.cron)
        for g in good
        if g is not best
        and g.met / g.expected >= best.met / best.expected
        and _strays(g, starts) <= _strays(best, starts)
    ]
    return replace(best, also=tuple(as_good))


def _candidates(firsts: NDArray[np.float64], zone: str) -> list[str]:
    """Expressions whose times of day and days are those of the starts."""
    tz = ZoneInfo(zone)
    local = [datetime.fromtimestamp(int(at + _EARLY_S), UTC).astimezone(tz) for at in firsts]
    times = Counter((at.hour, at.minute) for at in local)
    most = max(times.values())
    # A start moved by a clock change stands alone.
    usual = [time for time, n in times.items() if n > 1 or most < 3 or n >= 0.2 * most] or list(times)
    minutes, hours = sorted({m for _, m in usual}), sorted({h for h, _ in usual})
    if len(minutes) * len(hours) > 1.1 * len(usual) + 1:
        return []
    days = sorted({at.date() for at in local if (at.hour, at.minute) in usual})
    time = f"{_field(minutes, 0, 59)} {_field(hours, 0, 23)}"
    return [f"{time} {day}" for day in _day_fields(days)]


def _day_fields(days: list[date]) -> list[str]:
    """What the day fields of an expression may be, the simplest first: day of month, month, day of week."""
    span = [days[0] + timedelta(days=n) for n in range((days[-1] - days[0]).days + 1)]
    there = set(days)
    found = []
    if len(days) >= 0.95 * len(span) and (len(days) > 1 or len(span) == 1):
        found.append("* * *")
    week = sorted({day.isoweekday() % 7 for day in days})
    if len(week) < 7 and _explains(lambda d: d.isoweekday() % 7 in week, span, there):
        found.append(f"* * {_field(week, 0, 6, whole=False)}")
    month = sorted({day.day for day in days})
    # Days of the month that a weekday explains in two characters are no better explanation.
    weekly = len(week) < 7 and len(month) > 5
    # A list of days is a rule only where it came again: within one month any days make one.
    weekly = weekly or (len(month) > 3 and len(span) < 59)
    if len(month) < 28 and not weekly and len(days) >= _LEAST and _explains(lambda d: d.day in month, span, there):
        found.append(f"{_field(month, 1, 31, whole=False)} * *")
    if len(days) >= _LEAST and all((day + timedelta(days=1)).day == 1 for day in days):
        found.append("L * *")
    nth = {(day.isoweekday() % 7, (day.day - 1) // 7 + 1) for day in days}
    if len(days) >= _LEAST and len(nth) == 1:
        weekday, number = nth.pop()
        found.append(f"* * {weekday}#{number}")
    return found


def _explains(rule: object, span: list[date], there: set[date]) -> bool:
    wanted = [day for day in span if rule(day)]  # type: ignore[operator]
    return bool(wanted) and sum(day in there for day in wanted) >= _SURE * len(wanted)


def _field(values: Sequence[int], low: int, high: int, whole: bool = True) -> str:
    """Values of a field as it is usually written: ``*``, ``*/5``, ``8-18``, ``5-59/10`` or a list."""
    if whole and list(values) == list(range(low, high + 1)):
        return "*"
    if len(values) > 2:
        step = values[1] - values[0]
        if list(values) == list(range(values[0], values[-1] + 1, step)):
            ends = values[-1] + step > high
            if whole and values[0] == low and ends and step > 1 and (high + 1) % step == 0:
                return f"*/{step}"
            if step == 1:
                return f"{values[0]}-{values[-1]}"
            if len(values) > 3 and whole:
                return f"{values[0]}-{values[-1]}/{step}"
    if whole and list(values) == [low, (low + high + 1) // 2] and high == 59:
        return "*/30"
    return ",".join(_runs(values))


def _runs(values: Iterable[int]) -> Iterable[str]:
    """A list with three or more in a row written as a range."""
    group: list[int] = []
    for value in [*values, None]:
        if group and value is not None and value == group[-1] + 1:
            group.append(value)
            continue
        if len(group) > 2:
            yield f"{group[0]}-{group[-1]}"
        else:
            yield from (str(each) for each in group)
        group = [value] if value is not None else []


def _tried(cron: str, firsts: NDArray[np.float64], starts: NDArray[np.float64], zone: str) -> Guess | None:
    expected = _expected(cron, zone, float(firsts[0]), float(firsts[-1]))
    if len(expected) < _LEAST:
        return None
    # The start that belongs to each firing: the first not before it.
    place = np.searchsorted(starts, expected - _EARLY_S)
    late = np.append(starts, np.inf)[place] - expected
    met = int(np.sum(late <= _LATE_S))
    guess = Guess(cron, None, float(firsts[0]), zone, len(expected), met, len(starts))
    return guess if met >= _SURE * len(expected) and _strays(guess, starts) <= 1 - _SURE else None


@lru_cache(maxsize=256)
def _expected_cached(cron: str, zone: str, first: float, last: float) -> tuple[float, ...]:
    found: list[float] = []
    try:
        after = datetime.fromtimestamp(first - _LATE_S, UTC)
        for at in firings_after(parse_cron(cron), ZoneInfo(zone), after):
            moment = at.timestamp()
            if moment > last + _EARLY_S or len(found) > _MOST:
                break
            found.append(moment)
    except Refused:
        return ()
    # A firing just before the first start belongs to it only if nothing lies between.
    return tuple(found)


def _expected(cron: str, zone: str, first: float, last: float) -> NDArray[np.float64]:
    found = np.array(_expected_cached(cron, zone, first, last))
    return found[found >= first - _LATE_S] if len(found) else found


def _strays(guess: Guess, starts: NDArray[np.float64]) -> float:
    """The share of starts that belong to no firing and repeat none."""
    expected = _expected(str(guess.cron), guess.zone, guess.anchor, float(starts[-1])) if guess.cron else starts
    if not len(expected):
        return 1.0
    before = np.searchsorted(expected, starts + _EARLY_S) - 1
    late = starts - expected[np.maximum(before, 0)]
    gap = float(np.median(np.diff(expected))) if len(expected) > 1 else np.inf
    return float(np.mean((before < 0) | (late > min(_AGAIN_S, max(_LATE_S, gap / 2)))))
