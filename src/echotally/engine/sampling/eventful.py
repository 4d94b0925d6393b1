"""Hours of a month that hold more than rates: a lump, a firing that shares room, uneven counts, an incident.

Each comes with what makes two such hours alike: what happens in them, and when in the hour.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Mapping, Sequence
from hashlib import blake2b

import numpy as np
from numpy.typing import NDArray

from echotally.demand.clock import LocalHour
from echotally.demand.month import MonthPlan, Tap
from echotally.demand.stretches import EvenSteps
from echotally.model.estate import Model
from echotally.model.sources import SourceKind
from echotally.rates.card_loading import Offer
from echotally.rates.unit_settings import run_ns

#: A count of a trace that stands this far above its hour's mean makes the hour one of its own.
_UNEVEN, _FEW = 1.5, 20
_HOUR, _S = 3_600 * 10**9, 10**9

_FIRING = "firing"

#: The number of an hour, and what happens in it.
Happening = tuple[int, tuple[object, ...]]
#: Numbers of firings, or instants.
Places = NDArray[np.int64]


def patterns_of(
    taps: Sequence[Tap], whole: Sequence[Tap], hours: Sequence[LocalHour], reach: Mapping[str, int]
) -> dict[int, tuple[object, ...]]:
    """Hours to be played as they are, with what makes two of them alike: what happens in them, and when in the hour."""
    found: dict[int, list[object]] = {}
    counted = [(number, tap) for number, tap in enumerate(taps) if tap.kind == "counted"]
    for n, what in (*_lumps_of(counted, hours), *_uneven_hours(counted, hours), *_firings_of(whole, hours, reach)):
        found.setdefault(n, []).append(what)
    # Of each hour in the same order.
    return {n: tuple(what) for n, what in found.items()}


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


def _uneven(tap: Tap, hour: LocalHour) -> bool:
    """Whether a trace's counts change so much within the hour that a rate would not show it."""
    inside = [s for s in tap.stretches.between(hour.start_ns, hour.end_ns) if s.end_ns > hour.start_ns]
    if len(inside) < 2:
        return False
    # A few events above the mean are chance, whatever share of it they are.
    mean = sum(s.count for s in inside) / sum(s.end_ns - s.start_ns for s in inside)
    return any(s.count > _FEW and s.count > _UNEVEN * mean * (s.end_ns - s.start_ns) for s in inside)


def _firings_of(whole: Sequence[Tap], hours: Sequence[LocalHour], reach: Mapping[str, int]) -> Iterator[Happening]:
    """Hours that a firing which shares room with the rest reaches into."""
    begins = np.array([hour.start_ns for hour in hours], np.int64)
    for tap in whole:
        # Each reaches as far as the others, so that those of an hour stand next to each other.
        first = tap.stretches.places(begins - reach[tap.label] + 1)
        last = np.append(tap.stretches.places(begins[1:]), len(tap.stretches))
        some = np.flatnonzero(first < last)
        known = dict[object, tuple[object, ...]]()
        for n, what in zip(some.tolist(), firings_in(tap, first[some], last[some], begins[some]), strict=True):
            # Most hours of a schedule are alike: kept once for all of them.
            yield n, known.setdefault(what, what)


def firings_in(tap: Tap, first: Places, last: Places, begins: Places) -> Iterator[tuple[object, ...]]:
    """What a schedule's firings make of hours that begin at ``begins``, ns: those from its ``first`` place to before its ``last``."""
    its = tap.stretches
    if isinstance(its, EvenSteps):
        offsets = its.first_ns + first * its.step_ns - begins
        for offset, count in zip(offsets.tolist(), (last - first).tolist(), strict=True):
            yield _FIRING, tap.label, offset, count
        return
    for one, end, begin in zip(first.tolist(), last.tolist(), begins.tolist(), strict=True):
        when = (its.start_ns[one:end] - begin).tobytes()
        # Of a firing a second an hour has thousands: a digest tells as well which are alike.
        yield _FIRING, tap.label, blake2b(when, digest_size=16).digest()


def is_a_firing(what: object) -> bool:
    """Whether that is a happening of ``firings_in``."""
    return isinstance(what, tuple) and what[0] == _FIRING


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


def troubled(month: MonthPlan, hours: Sequence[LocalHour], after_ns: int) -> Iterator[Happening]:
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


def _hours_of(hours: Sequence[LocalHour], start: int, end: int) -> range:
    """Numbers of the hours that a stretch of time touches."""
    first = max(0, bisect_left(hours, start + 1, key=lambda h: h.start_ns) - 1)
    last = bisect_left(hours, end, key=lambda h: h.start_ns)
    return range(first, last)


def aftermath_ns(model: Model, placement: Mapping[str, Offer]) -> int:
    """How long trouble is felt: what it started runs out, what failed has come back, what was started goes idle."""
    longest, hidden = 60 * _S, dict.fromkeys(model.functions, 0)
    for trigger in model.triggers:
        if trigger.from_.kind is SourceKind.QUEUES:
            hidden[trigger.to] = max(hidden[trigger.to], model.queues[trigger.from_.name].visibility)
    for name, function in model.functions.items():
        plan = placement[name].plan
        again = sum(plan.push.retry_waits) + hidden[name]
        longest = max(longest, plan.node_start + plan.idle_ns + function.timeout + again)
    return min(longest, 6 * _HOUR)


def reach_ns(model: Model, placement: Mapping[str, Offer], whole: Sequence[Tap]) -> dict[str, int]:
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
