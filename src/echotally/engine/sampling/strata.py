"""How a month is cut for sampling: steady hours in groups of like demand, all other hours as they are.

A *segment* is a stretch of the month, at most a local hour, with one rate of every tap. Segments of like rates are a
group, of which one stretch is played and weighed (stratified sampling: Cochran, "Sampling Techniques", 3rd ed. 1977,
chapter 5). Hours that hold more than rates (a lump, a firing that shares room, counts that change within the hour)
are played as they are, beginning to end; where many are alike, some of them (cluster sampling, chapter 9A).
"""

from __future__ import annotations

import math
from bisect import bisect_left
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from hashlib import blake2b
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from echotally.demand.clock import LocalHour
from echotally.demand.month import MonthPlan, Tap
from echotally.demand.stretches import NONE, Stretch, Stretches
from echotally.model.estate import Model
from echotally.model.sources import SourceKind
from echotally.rates.card_loading import Offer
from echotally.rates.unit_settings import run_ns

#: How many estimates a month is cut for, each from a part of what is played: between them lies how sure it is.
PARTS = 4
#: Events to play in the groups in all, their share of the month at the most, and the most groups: enough that a
#: group's rates differ by a few per cent.
BUDGET, SHARE, _MOST_GROUPS = 6_000_000, 1 / 6, 48
#: The most kinds of hours that are played as they are; more are put together by how much they hold.
_MOST_KINDS = 24
#: A count of a trace that stands this far above its hour's mean makes the hour one of its own.
_UNEVEN, _FEW = 1.5, 20
_HOUR, _S = 3_600 * 10**9, 10**9


@dataclass(frozen=True)
class Segment:
    """From ``start_ns`` to ``end_ns`` of local hour number ``hour``; ``group`` is of steady segments, ``kind`` of the others."""

    start_ns: int
    end_ns: int
    hour: int
    group: int | None = None
    kind: int | None = None


@dataclass(frozen=True)
class Group:
    """Segments of like demand: each tap's mean rate per ns, the time they last, how long to play for each part, and the floors
    that the clock has set.
    """

    rates: NDArray[np.float64]
    whole_ns: float
    part_ns: int
    floors: tuple[tuple[str, int], ...] = ()


@dataclass
class Cut:
    """The month in segments, in the order of time; ``kinds`` lists the segments of each kind played as it is.

    ``more`` is how many events there are in all for one from outside.
    """

    taps: list[Tap]
    segments: list[Segment]
    groups: list[Group]
    kinds: list[list[int]] = field(default_factory=list)
    warm_ns: int = 0
    more: float = 1.0


def cut_month(
    model: Model,
    month: MonthPlan,
    placement: Mapping[str, Offer],
    expected: float,
    whole: Sequence[Tap] = (),
    effort: int = BUDGET,
) -> Cut:
    """Cut the month. ``whole`` are schedules' taps that share room with the rest: their hours are played as they are."""
    taps = [tap for tap in month.taps if tap.source.kind is not SourceKind.SCHEDULES]
    warm = warm_up_ns(model, placement)
    hours = month.clock.local_hours()
    busy = _patterns(taps, whole, hours, _reach_ns(model, placement, whole))
    for n, what in _troubled(month, hours, _aftermath_ns(model, placement)):
        busy[n] = (*busy.get(n, ()), what)
    segments: list[Segment] = []
    surges = _surges(taps)
    for n, hour in enumerate(hours):
        # An hour played as it is needs no cut: whatever happens in it happens.
        for start, end in [(hour.start_ns, hour.end_ns)] if n in busy else _pieces(surges, hour):
            segments.append(Segment(start, end, n, kind=0 if n in busy else None))
    steady = [n for n, s in enumerate(segments) if s.kind is None]
    rates = _rates(taps, segments)
    outside = math.fsum(tap.expected for tap in taps)
    more = max(1.0, expected / outside) if outside else 1.0
    # Counted in events from outside, since those are what a stretch can be cut by.
    budget = min(effort, expected * SHARE) / more
    groups: list[Group] = []
    alike: dict[tuple[tuple[str, int], ...], list[int]] = {}
    for n in steady:
        alike.setdefault(month.happenings.floors_at(segments[n].start_ns), []).append(n)
    for floors, members in _groups_of(alike, rates, warm, budget):
        lengths = np.array([segments[n].end_ns - segments[n].start_ns for n in members], float)
        # Weighed by time, so that a group expects what its segments expect together.
        mean = (rates[members] * lengths[:, None]).sum(axis=0) / lengths.sum()
        for n in members:
            segments[n] = replace(segments[n], group=len(groups))
        groups.append(Group(mean, float(lengths.sum()), 0, floors))
    groups = [
        replace(g, part_ns=max(1, _stretch_ns(float(g.rates.sum()), len(groups), warm, g.whole_ns, budget) // PARTS))
        for g in groups
    ]
    kinds = _kinds(segments, busy, rates, taps)
    for number, members in enumerate(kinds):
        for n in members:
            segments[n] = replace(segments[n], kind=number)
    return Cut(taps, segments, groups, kinds, warm, more)


def _groups_of(
    alike: Mapping[tuple[tuple[str, int], ...], list[int]], rates: NDArray[np.float64], warm: int, budget: float
) -> Iterator[tuple[tuple[tuple[str, int], ...], list[int]]]:
    """Groups of segments, those of other floors apart."""
    if not alike:
        # No steady hour: nothing to group.
        alike = {(): []}
    for floors, members in alike.items():
        for group in _grouped(rates, members, warm, budget / len(alike)):
            yield floors, group


def _troubled(month: MonthPlan, hours: Sequence[LocalHour], after_ns: int) -> Iterator[Happening]:
    """Hours in which an incident holds or the clock brings something, and those that it reaches into."""
    happenings, length = month.happenings, month.length_ns
    stretches: list[tuple[tuple[object, ...], tuple[int, int]]] = [
        (("incident", n), window) for n, each in enumerate(happenings.incidents) for window in each
    ]
    stretches += [(("release", name), (at, at)) for name, times in happenings.releases.items() for at in times]
    stretches += [
        (("floor", name, floor), (at, at)) for name, changes in happenings.floors.items() for at, floor in changes
    ]
    for what, (start, end) in stretches:
        for n in _hours_of(hours, start, min(length, end + after_ns)):
            yield n, (*what, start - hours[n].start_ns, end - hours[n].start_ns)


def _aftermath_ns(model: Model, placement: Mapping[str, Offer]) -> int:
    """How long trouble is felt: what it started runs out, what failed has come back, what was started goes idle."""
    longest, hidden = 60 * _S, dict.fromkeys(model.functions, 0)
    for trigger in model.triggers:
        if trigger.from_.kind is SourceKind.QUEUES:
            hidden[trigger.to] = max(hidden[trigger.to], model.queues[trigger.from_.name].visibility)
    for name, function in model.functions.items():
        plan = placement[name].plan
        again = sum(plan.push.retry_waits) + hidden[name]
        longest = max(longest, plan.keep_alive + function.timeout + again)
    return min(longest, 6 * _HOUR)


def expected_in(taps: Sequence[Tap], start: int, end: int) -> float:
    """Events the taps expect between two instants."""
    return math.fsum(_expected(tap, start, end) for tap in taps)


def _expected(tap: Tap, start: int, end: int) -> float:
    total = 0.0
    for s in tap.stretches.between(start, end):
        if s.start_ns == s.end_ns:
            total += s.count if start <= s.start_ns < end else 0
        elif s.end_ns > start:
            share = min(s.end_ns, end) - max(s.start_ns, start)
            total += s.rate * share + s.count * share / (s.end_ns - s.start_ns)
    return total


def _rates(taps: Sequence[Tap], segments: Sequence[Segment]) -> NDArray[np.float64]:
    """What each tap expects in each segment, events a ns."""
    start, end = (np.array([getattr(s, key) for s in segments], np.int64) for key in ("start_ns", "end_ns"))
    found = np.empty((len(segments), len(taps)))
    for column, tap in enumerate(taps):
        # Counts are placed within their stretch, one after the other; rates are integrated as arrays.
        if tap.stretches.count.any():
            expected = [_expected(tap, *window) for window in zip(start.tolist(), end.tolist(), strict=True)]
            found[:, column] = expected
        else:
            found[:, column] = tap.stretches.by_rate(start, end)
    return found / (end - start)[:, None]


def _surges(taps: Sequence[Tap]) -> NDArray[np.int64]:
    """Instants at which a rate changes, in order."""
    changes = [at for tap in taps if tap.kind == "rate" for at in (tap.stretches.start_ns, tap.stretches.end_ns)]
    return np.unique(np.concatenate(changes)) if changes else np.zeros(0, np.int64)


def _pieces(surges: NDArray[np.int64], hour: LocalHour) -> list[tuple[int, int]]:
    """The hour cut where a surge begins or ends."""
    first, last = np.searchsorted(surges, [hour.start_ns, hour.end_ns])
    # A change at the hour's own beginning cuts nothing.
    inside = [at for at in surges[first:last].tolist() if at > hour.start_ns]
    return list(pairwise([hour.start_ns, *inside, hour.end_ns]))


def _patterns(
    taps: Sequence[Tap], whole: Sequence[Tap], hours: Sequence[LocalHour], reach: Mapping[str, int]
) -> dict[int, tuple[object, ...]]:
    """Hours to be played as they are, with what makes two of them alike: what happens in them, and when in the hour."""
    found: dict[int, list[object]] = {}
    counted = [(number, tap) for number, tap in enumerate(taps) if tap.kind == "counted"]
    for n, what in (*_lumps_of(counted, hours), *_uneven_hours(counted, hours), *_firings_of(whole, hours, reach)):
        found.setdefault(n, []).append(what)
    return {n: tuple(sorted(what, key=repr)) for n, what in found.items()}


Happening = tuple[int, tuple[object, ...]]


def _lumps_of(counted: Sequence[tuple[int, Tap]], hours: Sequence[LocalHour]) -> Iterator[Happening]:
    """Hours with a lump, or with events of a trace that all come at one instant."""
    for number, tap in counted:
        its = tap.stretches
        # What comes at one instant is a lump, however it was written.
        lumps = np.flatnonzero((its.end_ns == its.start_ns) | tap.lump)
        start, end, count = its.start_ns[lumps], its.end_ns[lumps], its.count[lumps]
        for n, which in _by_hour(hours, start, np.maximum(end, start + 1)):
            yield n, (number, (start[which] - hours[n].start_ns).tobytes(), count[which].tobytes())


def _uneven_hours(counted: Sequence[tuple[int, Tap]], hours: Sequence[LocalHour]) -> Iterator[Happening]:
    """Hours in which a trace changes so much that a rate would not show it."""
    for number, tap in counted:
        for n, hour in enumerate(hours):
            # Lumps have made their hours busy already.
            if not tap.lump and _uneven(tap, hour):
                yield n, (number, "counts")


def _firings_of(whole: Sequence[Tap], hours: Sequence[LocalHour], reach: Mapping[str, int]) -> Iterator[Happening]:
    """Hours that a firing which shares room with the rest reaches into."""
    begins = np.array([hour.start_ns for hour in hours], np.int64)
    for number, tap in enumerate(whole):
        # Each reaches as far as the others, so that those of an hour stand next to each other.
        start = tap.stretches.start_ns
        firsts = np.searchsorted(start, begins - reach[tap.label], "right").tolist()
        lasts = [*np.searchsorted(start, begins[1:]).tolist(), len(start)]
        for n, (first, last) in enumerate(zip(firsts, lasts, strict=True)):
            if first < last:
                # Of a firing a second an hour has thousands: a digest tells as well which are alike.
                when = blake2b((start[first:last] - hours[n].start_ns).tobytes(), digest_size=16)
                yield n, (-1 - number, when.digest())


def _by_hour(
    hours: Sequence[LocalHour], start: NDArray[np.int64], end: NDArray[np.int64]
) -> Iterator[tuple[int, NDArray[np.int64]]]:
    """Numbers of the hours that any of the stretches of time touch, with which ones, in their order."""
    # Each stretch as many times as it touches hours, then sorted by hour: no firing is looked at by itself.
    begins = np.array([hour.start_ns for hour in hours], np.int64)
    first = np.maximum(0, np.searchsorted(begins, start + 1) - 1)
    many = np.maximum(0, np.searchsorted(begins, end) - first)
    which = np.repeat(np.arange(len(start)), many)
    hour = np.arange(len(which)) - np.repeat(np.cumsum(many) - many - first, many)
    order = np.argsort(hour, kind="stable")
    touched, at = np.unique(hour[order], return_index=True)
    yield from zip(touched.tolist(), np.split(which[order], at[1:]), strict=False)


def _hours_of(hours: Sequence[LocalHour], start: int, end: int) -> range:
    """Numbers of the hours that a stretch of time touches."""
    first = max(0, bisect_left(hours, start + 1, key=lambda h: h.start_ns) - 1)
    last = bisect_left(hours, end, key=lambda h: h.start_ns)
    return range(first, last)


def _uneven(tap: Tap, hour: LocalHour) -> bool:
    """Whether a trace's counts change so much within the hour that a rate would not show it."""
    inside = [s for s in tap.stretches.between(hour.start_ns, hour.end_ns) if s.end_ns > hour.start_ns]
    if len(inside) < 2:
        return False
    # A few events above the mean are chance, whatever share of it they are.
    mean = sum(s.count for s in inside) / sum(s.end_ns - s.start_ns for s in inside)
    return any(s.count > _FEW and s.count > _UNEVEN * mean * (s.end_ns - s.start_ns) for s in inside)


def _reach_ns(model: Model, placement: Mapping[str, Offer], whole: Sequence[Tap]) -> dict[str, int]:
    """How long a firing of each schedule may hold room: its longest likely run and cold start."""
    found: dict[str, int] = {}
    for tap in whole:
        name = tap.source.name
        items = model.schedules[name].items
        longest = 1
        for trigger in model.triggers:
            if trigger.from_ == tap.source:
                function, plan = model.functions[trigger.to], placement[trigger.to].plan
                run = run_ns(function, plan, function.run.quantile(0.999), items, tap.payload.mean * items)
                # All but one run in a thousand, so that an odd one does not make every hour after a firing one of its own.
                longest = max(longest, int(min(run, function.timeout) + function.cold_start.quantile(0.999)))
        found[tap.label] = longest
    return found


def _kinds(
    segments: Sequence[Segment], busy: Mapping[int, tuple[object, ...]], rates: NDArray[np.float64], taps: Sequence[Tap]
) -> list[list[int]]:
    """Hours played as they are, like with like; where there are too many kinds, by how much they expect."""
    same: dict[object, list[int]] = {}
    for n, s in enumerate(segments):
        if s.kind is not None:
            same.setdefault((busy[s.hour], np.round(rates[n], 18).tobytes(), s.end_ns - s.start_ns), []).append(n)
    kinds = list(same.values())
    if len(kinds) <= _MOST_KINDS:
        return kinds
    # Kinds of one or two hours with more than usual in them stay alone; the many others go together by their size.
    total = {n: rates[n].sum() for members in kinds for n in members}
    # By size, then by time, so that equal hours always fall into the same kind.
    ordered = sorted(total, key=lambda n: (total[n], n))
    size = -(-len(ordered) // _MOST_KINDS)
    return [sorted(ordered[at : at + size]) for at in range(0, len(ordered), size)]


def warm_up_ns(model: Model, placement: Mapping[str, Offer]) -> int:
    """Long enough to forget the empty start: idle instances come and go, the slowest run, a batch's wait."""
    longest = 60 * _S
    for name, function in model.functions.items():
        plan = placement[name].plan
        run = run_ns(function, plan, function.run.quantile(0.99)) + function.cold_start.quantile(0.99)
        longest = max(longest, plan.keep_alive, int(2 * min(run, function.timeout)))
    longest = max([longest, *(2 * t.batch_wait for t in model.triggers)])
    return min(longest, _HOUR)


def clipped(tap: Tap, start: int, end: int) -> Stretches:
    """A tap's stretches between two instants, counted from the first; counts are shared out by time."""
    its = tap.stretches
    if its.are_instants:
        first, last = np.searchsorted(its.start_ns, (start, end)).tolist()
        return Stretches.at(its.start_ns[first:last] - start)
    its = its.between(start, end)
    low, high = np.maximum(its.start_ns, start), np.minimum(its.end_ns, end)
    instant, count = its.start_ns == its.end_ns, its.count.copy()
    # Only the first and the last are cut, so that few are shared out.
    for n in np.flatnonzero((count > 0) & ~instant & ((low > its.start_ns) | (high < its.end_ns))).tolist():
        count[n] = round(int(its.count[n]) * int(high[n] - low[n]) / int(its.end_ns[n] - its.start_ns[n]))
    kept = np.where(instant, its.start_ns >= start, low < high)
    rate = np.where(instant, 0.0, its.rate)
    return Stretches(low[kept] - start, high[kept] - start, rate[kept], count[kept])


def steady(taps: Sequence[Tap], mean: NDArray[np.float64], length: int) -> tuple[Tap, ...]:
    """Every tap at a constant rate; closed-loop clients as they are."""
    return tuple(
        tap
        if tap.kind == "clients"
        else replace(tap, kind="rate", stretches=Stretches.of([Stretch(0, length, float(rate))]) if rate else NONE)
        for tap, rate in zip(taps, mean, strict=True)
    )


def _grouped(rates: NDArray[np.float64], plain: list[int], warm: int, budget: float) -> list[list[int]]:
    """Segments of the same rates together; where those groups are too many, neighbours by total rate."""
    same: dict[bytes, list[int]] = {}
    for n in plain:
        same.setdefault(np.round(rates[n], 18).tobytes(), []).append(n)
    total = rates.sum(axis=1)
    ordered = sorted(same.values(), key=lambda group: total[group[0]])
    busiest = float(total[plain].max(initial=0.0)) if plain else 0.0
    # Warming up should cost no more than half of what is played.
    most = max(4, min(_MOST_GROUPS, int(budget / 2 / max(1.0, busiest * warm))))
    if len(ordered) <= most:
        return ordered
    edges = np.linspace(total[ordered[0][0]], total[ordered[-1][0]] * (1 + 1e-12), most + 1)
    bins: list[list[int]] = [[] for _ in range(most)]
    for group in ordered:
        place = int(np.searchsorted(edges, total[group[0]], side="right")) - 1
        bins[min(max(place, 0), most - 1)] += group
    return [sorted(group) for group in bins if group]


def _stretch_ns(rate: float, groups: int, warm: int, whole: float, budget: float) -> int:
    """How long a group is played: its part of the events to play, at least as long as it warms up, at most all of it."""
    share = budget / 2 / groups / rate if rate else math.inf
    return int(min(whole, max(share, min(warm, _HOUR / 4))))
