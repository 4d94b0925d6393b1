"""How a month is cut for sampling: steady hours in groups of like demand, all other hours as they are.

A *segment* is a stretch of the month, at most a local hour, with one rate of every tap. Segments of like rates are a
group, of which one stretch is played and weighed (stratified sampling: Cochran, "Sampling Techniques", 3rd ed. 1977,
chapter 5). Hours that hold more than rates (a lump, a firing that shares room, counts that change within the hour)
are played as they are, beginning to end; where many are alike, some of them (cluster sampling, chapter 9A).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import pairwise

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.demand.clock import LocalHour
from echotally.demand.month import MonthPlan, Tap
from echotally.demand.stretches import NONE, Stretch, Stretches
from echotally.engine.sampling.eventful import aftermath_ns, is_a_firing, patterns_of, reach_ns, troubled
from echotally.engine.sampling.ticking import Pattern, Ticks, lasting
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
_HOUR, _S = 3_600 * 10**9, 10**9


class Segment(Struct, frozen=True):
    """From ``start_ns`` to ``end_ns`` of local hour number ``hour``; ``group`` is of steady segments, ``kind`` of the others."""

    start_ns: int
    end_ns: int
    hour: int
    group: int | None = None
    kind: int | None = None


class Group(Struct, frozen=True):
    """Segments of like demand: each tap's mean rate per ns, the time they last, how long to play for each part, the floors that the
    clock has set, and when in a minute those schedules fire that tick, by the number of their tap.
    """

    rates: NDArray[np.float64]
    whole_ns: float
    part_ns: int
    floors: tuple[tuple[str, int], ...] = ()
    ticks: tuple[tuple[int, Pattern], ...] = ()

    def is_like(self, other: Group) -> bool:
        """Whether a stretch of one is a stretch of the other, however often it counts."""
        same = (self.part_ns, self.floors, self.ticks) == (other.part_ns, other.floors, other.ticks)
        return same and np.allclose(self.rates, other.rates, rtol=1e-9, atol=0.0)


class Cut(Struct):
    """The month in segments, in the order of time; ``kinds`` lists the segments of each kind played as it is.

    The last ``ticking`` of its taps are schedules. ``more`` is how many events there are in all for one from outside. Before an hour
    that is played as it is its world goes on for ``warm_ns``, before a stretch for ``settles_ns``.
    """

    taps: list[Tap]
    segments: list[Segment]
    groups: list[Group]
    kinds: list[list[int]] = field(default_factory=list)
    warm_ns: int = 0
    settles_ns: int = 0
    more: float = 1.0
    ticking: int = 0

    def events_a_ns(self, group: Group) -> float:
        """Events a ns expected in a group, those from inside with them."""
        return float(group.rates.sum()) * self.more

    @property
    def apart_from_ticks(self) -> list[Tap]:
        """Taps of demand."""
        return self.taps[: len(self.taps) - self.ticking]

    @property
    def ticks(self) -> list[Tap]:
        """Taps of schedules that tick."""
        return self.taps[len(self.taps) - self.ticking :]


def cut_month(
    model: Model,
    month: MonthPlan,
    placement: Mapping[str, Offer],
    expected: float,
    whole: Sequence[Tap] = (),
    effort: int = BUDGET,
) -> Cut:
    """Cut the month. ``whole`` are schedules' taps that share room with the rest: their hours are played as they are."""
    demanded = [tap for tap in month.taps if tap.source.kind is not SourceKind.SCHEDULES]
    hours = month.clock.local_hours()
    ticks = Ticks(month, len(demanded))
    taps = [*demanded, *ticks.taps]
    # What ticks begins with a minute, after the warm-up as before it.
    warm = ticks.length_ns(warm_up_ns(model, placement))
    busy = patterns_of(demanded, whole, hours, reach_ns(model, placement, whole))
    for n, what in ticks.unlike():
        busy[n] = (*busy.get(n, ()), what)
    for n, what in troubled(month, hours, aftermath_ns(model, placement)):
        busy[n] = (*busy.get(n, ()), what)
    segments = _segments(hours, busy, _surges(demanded))
    rates = _rates(taps, segments)
    # As many in every minute, wherever a surge cuts the hour.
    rates[:, len(demanded) :] = [
        ticks.rates(s.hour, now) for s, now in zip(segments, rates[:, len(demanded) :], strict=True)
    ]
    outside = math.fsum(tap.expected for tap in taps)
    more = max(1.0, expected / outside) if outside else 1.0
    # Counted in events from outside, since those are what a stretch can be cut by.
    budget = min(effort, expected * SHARE) / more
    # Each stretch may go on for long before it is read: there are few of them then.
    busiest = float(rates.sum(axis=1).max(initial=0.0))
    settles = ticks.length_ns(
        max(warm, int(min(returns_ns(model, placement), budget / _SETTLING / max(busiest, 1e-18))))
    )
    alike: dict[Alike, list[int]] = {}
    for n, s in enumerate(segments):
        if s.kind is None:
            alike.setdefault((month.happenings.floors_at(s.start_ns), ticks.at(s.hour)), []).append(n)
    groups = _groups(segments, rates, alike, settles, budget)
    for n, g in enumerate(groups):
        part = max(1, _stretch_ns(float(g.rates.sum()), len(groups), warm, g.whole_ns, budget) // PARTS)
        groups[n] = replace(g, part_ns=ticks.length_ns(part))
    kinds = _kinds(segments, busy, rates)
    for number, members in enumerate(kinds):
        for n in members:
            segments[n] = replace(segments[n], kind=number)
    return Cut(taps, segments, groups, kinds, warm, settles, more, len(ticks.taps))


#: What segments of one group share: the floors that the clock has set, and when in a minute what ticks does.
Alike = tuple[tuple[tuple[str, int], ...], tuple[tuple[int, Pattern], ...]]


def _segments(
    hours: Sequence[LocalHour], busy: Mapping[int, tuple[object, ...]], surges: NDArray[np.int64]
) -> list[Segment]:
    """The hours, in pieces where a surge begins or ends."""
    found: list[Segment] = []
    for n, hour in enumerate(hours):
        # An hour played as it is needs no cut: whatever happens in it happens.
        for start, end in [(hour.start_ns, hour.end_ns)] if n in busy else _pieces(surges, hour):
            found.append(Segment(start, end, n, kind=0 if n in busy else None))
    return found


def _groups(
    segments: list[Segment],
    rates: NDArray[np.float64],
    alike: Mapping[Alike, list[int]],
    warm: int,
    budget: float,
) -> list[Group]:
    """The groups, not yet with how long to play them; each segment gets the number of its own."""
    found: list[Group] = []
    for (floors, ticks), members in _groups_of(alike, rates, warm, budget):
        lengths = np.array([segments[n].end_ns - segments[n].start_ns for n in members], float)
        # Weighed by time, so that a group expects what its segments expect together.
        mean = (rates[members] * lengths[:, None]).sum(axis=0) / lengths.sum()
        for n in members:
            segments[n] = replace(segments[n], group=len(found))
        found.append(Group(mean, float(lengths.sum()), 0, floors, ticks))
    return found


def _groups_of(
    alike: Mapping[Alike, list[int]], rates: NDArray[np.float64], warm: int, budget: float
) -> Iterator[tuple[Alike, list[int]]]:
    """Groups of segments, those of other floors or of other firings apart."""
    if not alike:
        # No steady hour: nothing to group.
        alike = {((), ()): []}
    for same, members in alike.items():
        for group in _grouped(rates, members, warm, budget / len(alike)):
            yield same, group


def expected_in(taps: Sequence[Tap], start: int, end: int) -> float:
    """Events the taps expect between two instants."""
    return math.fsum(_expected(tap, start, end) for tap in taps)


def _expected(tap: Tap, start: int, end: int) -> float:
    if tap.stretches.are_instants:
        first, last = tap.stretches.places((start, end)).tolist()
        return float(last - first)
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
        if tap.stretches.are_instants:
            found[:, column] = tap.stretches.places(end) - tap.stretches.places(start)
        elif tap.stretches.count.any():
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


def _kinds(
    segments: Sequence[Segment], busy: Mapping[int, tuple[object, ...]], rates: NDArray[np.float64]
) -> list[list[int]]:
    """Hours played as they are, like with like: where there are too many kinds, of other rates together, by how much they expect; if
    need be also of other lumps and counts, and of other firings last, so that each firing is counted as often as it comes.
    """
    its = [n for n, s in enumerate(segments) if s.kind is not None]
    total = {n: float(rates[n].sum()) for n in its}
    ways: tuple[Callable[[int], object], ...] = (
        lambda n: (busy[segments[n].hour], np.round(rates[n], 18).tobytes(), segments[n].end_ns - segments[n].start_ns),
        lambda n: (busy[segments[n].hour], segments[n].end_ns - segments[n].start_ns),
        lambda n: tuple(what for what in busy[segments[n].hour] if is_a_firing(what)),
        lambda n: None,
    )
    kinds: dict[object, list[int]] = {}
    for alike in ways:
        kinds = {}
        for n in its:
            kinds.setdefault(alike(n), []).append(n)
        if len(kinds) <= _MOST_KINDS:
            break
    # Those of the first way are alike in all.
    return list(kinds.values()) if alike is ways[0] else _by_size(list(kinds.values()), total)


def _by_size(kinds: Sequence[list[int]], total: Mapping[int, float]) -> list[list[int]]:
    """Kinds cut into as many as there may be, by how much their hours expect, those of more hours into more."""
    spare, hours = _MOST_KINDS - len(kinds), sum(map(len, kinds))
    found: list[list[int]] = []
    for members in kinds:
        # By size, then by time, so that equal hours always fall into the same kind.
        ordered = sorted(members, key=lambda n: (total[n], n))
        size = -(-len(ordered) // (1 + spare * len(ordered) // hours))
        found += [sorted(ordered[at : at + size]) for at in range(0, len(ordered), size)]
    return found


#: A stretch that is not read yet may take one in so many of the events that are played in steady hours.
_SETTLING = 3
#: A plan that looks at what waits has grown to what it needs after so many looks.
_GROWN = 10


def warm_up_ns(model: Model, placement: Mapping[str, Offer]) -> int:
    """Long enough to forget the empty start: nodes and idle instances come and go, a polled plan grows, the slowest run, a batch's wait."""
    longest = 60 * _S
    for name, function in model.functions.items():
        plan = placement[name].plan
        run = run_ns(function, plan, function.run.quantile(0.99)) + function.cold_start.quantile(0.99)
        longest = max(longest, plan.idle_ns, int(2 * (min(run, function.timeout) + plan.node_start)))
        longest = max(longest, _GROWN * (plan.scaling.every or 0))
    longest = max([longest, *(2 * t.batch_wait for t in model.triggers)])
    return min(longest, _HOUR)


def returns_ns(model: Model, placement: Mapping[str, Offer]) -> int:
    """How long after it came what failed twice is tried for the third time: before that fewer are tried than in the month."""
    longest = 0
    for trigger in model.triggers:
        function = model.functions[trigger.to]
        if not function.error_rate and not function.poison_rate:
            continue
        if trigger.from_.kind is SourceKind.QUEUES:
            longest = max(longest, 2 * model.queues[trigger.from_.name].visibility)
        elif trigger.from_.kind.traits.pushed:
            longest = max(longest, sum(placement[trigger.to].plan.push.retry_waits))
    return longest


def clipped(tap: Tap, start: int, end: int) -> Stretches:
    """A tap's stretches between two instants, counted from the first; counts are shared out by time."""
    its = tap.stretches
    if its.are_instants:
        first, last = its.places((start, end)).tolist()
        return Stretches.at(its[first:last].start_ns - start)
    its = its.between(start, end)
    low, high = np.maximum(its.start_ns, start), np.minimum(its.end_ns, end)
    instant, count = its.start_ns == its.end_ns, its.count.copy()
    # Only the first and the last are cut, so that few are shared out.
    for n in np.flatnonzero((count > 0) & ~instant & ((low > its.start_ns) | (high < its.end_ns))).tolist():
        count[n] = round(int(its.count[n]) * int(high[n] - low[n]) / int(its.end_ns[n] - its.start_ns[n]))
    kept = np.where(instant, its.start_ns >= start, low < high)
    rate = np.where(instant, 0.0, its.rate)
    return Stretches(low[kept] - start, high[kept] - start, rate[kept], count[kept])


def steady(taps: Sequence[Tap], group: Group, length: int) -> tuple[Tap, ...]:
    """Every tap at a group's constant rate; closed-loop clients as they are; what ticks at its instants."""
    ticks = dict(group.ticks)
    found = []
    for n, (tap, rate) in enumerate(zip(taps, group.rates.tolist(), strict=True)):
        if n in ticks:
            found.append(replace(tap, stretches=lasting(ticks[n], length)))
        elif tap.kind == "clients":
            found.append(tap)
        else:
            its = Stretches.of([Stretch(0, length, rate)]) if rate else NONE
            found.append(replace(tap, kind="rate", stretches=its))
    return tuple(found)


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
