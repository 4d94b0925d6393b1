"""When incidents hold, releases come and floors change: the month's windows and moments, ns from its start (rule 8)."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterator
from datetime import UTC, timedelta
from functools import lru_cache
from itertools import takewhile

from msgspec import Struct, field

from echotally.demand.clock import MonthClock
from echotally.demand.cron import firings_after, last_firing, parse_cron
from echotally.model.estate import Model
from echotally.model.happenings import FloorChange, Incident, Release

#: A stretch of time, half-open.
Window = tuple[int, int]
Address = tuple[str, ...]
#: Makes what is asked for, or reports what cannot be used at an address and gives what is put in its place.
Trying = Callable[[Address, object, Callable[[], list[int]]], list[int]]


class Happenings(Struct, frozen=True):
    """What the clock brings in a month, ns from its start.

    ``incidents`` are the windows of each incident of the model, in the file's order, clipped to the month and joined where they
    touch; ``releases`` and ``floors`` (moment, floor) are by function, in the order of time.
    """

    incidents: tuple[tuple[Window, ...], ...] = ()
    releases: dict[str, tuple[int, ...]] = field(default_factory=dict)
    floors: dict[str, tuple[tuple[int, int], ...]] = field(default_factory=dict)

    def moments(self) -> list[int]:
        """Every moment at which something is otherwise from then on, in order."""
        found = {at for windows in self.incidents for window in windows for at in window}
        found |= {at for times in self.releases.values() for at in times}
        found |= {at for changes in self.floors.values() for at, _ in changes}
        return sorted(found)

    def floors_at(self, at: int) -> tuple[tuple[str, int], ...]:
        """The floors that firings have set by a moment, by function; a floor that none has set is left out."""
        # The last change at or before the moment is the one in force.
        places = {
            name: bisect_right(changes, at, key=lambda change: change[0]) for name, changes in self.floors.items()
        }
        return tuple((name, self.floors[name][n - 1][1]) for name, n in places.items() if n)

    def since(self, start: int) -> Happenings:
        """The same as seen from a later moment, with the floors that hold there set at once."""
        windows = tuple(
            tuple((max(0, begin - start), end - start) for begin, end in each if end > start) for each in self.incidents
        )
        releases = {name: tuple(at - start for at in times if at >= start) for name, times in self.releases.items()}
        floors: dict[str, tuple[tuple[int, int], ...]] = {n: ((0, floor),) for n, floor in self.floors_at(start)}
        for name, changes in self.floors.items():
            floors[name] = floors.get(name, ()) + tuple((at - start, floor) for at, floor in changes if at > start)
        return Happenings(windows, releases, floors)


#: A month in which nothing happens.
QUIET = Happenings()


def happenings_of(model: Model, clock: MonthClock, trying: Trying) -> Happenings:
    """The month's happenings; ``trying`` reports expressions that cannot be used."""
    incidents = tuple(
        tuple(_joined(_windows(incident, clock, ("incidents", str(n)), trying), clock.length_ns))
        for n, incident in enumerate(model.incidents)
    )
    releases, floors = {}, {}
    for name, function in model.functions.items():
        if function.releases:
            releases[name] = _release_times(function.releases, clock, ("functions", name, "releases"), trying)
        if function.instance_floors:
            floors[name] = _floor_changes(
                function.instance_floors, clock, ("functions", name, "instance_floors"), trying
            )
    return Happenings(incidents, releases, floors)


def cron_times(expression: str, clock: MonthClock) -> list[int]:
    """Firings of a cron expression within the month, ns from its start; raises ``BadSchedule``."""
    return list(_cron_times(expression, clock))


@lru_cache(maxsize=256)
def _cron_times(expression: str, clock: MonthClock) -> tuple[int, ...]:
    # The floors of a thousand functions change by a few expressions.
    found = firings_after(parse_cron(expression), clock.zone, clock.start - timedelta(microseconds=1))
    return tuple(clock.ns(at.astimezone(UTC)) for at in takewhile(lambda at: at < clock.end, found))


def _windows(incident: Incident, clock: MonthClock, address: Address, trying: Trying) -> list[Window]:
    def starts() -> list[int]:
        cron = incident.cron or ""
        # One that began before the month holds for its rest; of several the last one holds longest.
        before = last_firing(parse_cron(cron), clock.zone, clock.start - timedelta(microseconds=1))
        return [*([clock.ns(before.astimezone(UTC))] if before else []), *cron_times(cron, clock)]

    if incident.at is not None:
        found = [clock.local_ns(incident.at)]
    else:
        found = trying((*address, "cron"), incident.cron, starts)
    return [(start, start + incident.lasts) for start in found]


def _joined(windows: list[Window], length_ns: int) -> Iterator[Window]:
    """The windows within the month, those that overlap or touch as one: an incident holds once (rule 7.47)."""
    # A sweep over the starts: what touches the window in hand makes it longer, else it is given out.
    begin, end = 0, 0
    for start, until in sorted(windows):
        low, high = max(0, start), min(until, length_ns)
        if low >= high:
            continue
        if low > end or end == begin:
            if end > begin:
                yield begin, end
            begin, end = low, high
        else:
            end = max(end, high)
    if end > begin:
        yield begin, end


def _release_times(
    releases: tuple[Release, ...], clock: MonthClock, address: Address, trying: Trying
) -> tuple[int, ...]:
    found: set[int] = set()
    for n, release in enumerate(releases):
        if release.at is not None:
            found.add(clock.local_ns(release.at))
        else:
            found |= set(_tried(release.cron or "", clock, (*address, str(n), "cron"), trying))
    return tuple(sorted(at for at in found if 0 <= at < clock.length_ns))


def _tried(expression: str, clock: MonthClock, address: Address, trying: Trying) -> list[int]:
    return trying(address, expression, lambda: cron_times(expression, clock))


def _floor_changes(
    changes: tuple[FloorChange, ...], clock: MonthClock, address: Address, trying: Trying
) -> tuple[tuple[int, int], ...]:
    found: dict[int, int] = {}
    for n, change in enumerate(changes):
        # Of two firings at one instant the last written wins (rule 7.56).
        found |= dict.fromkeys(_tried(change.cron, clock, (*address, str(n), "cron"), trying), change.floor)
    return tuple(sorted(found.items()))
