"""What calls that go the short way add up to, written back when somebody else may look (``kernel.short_way``).

Until then it is kept in local numbers, which a compiler holds in registers.
"""

from __future__ import annotations

from typing import NamedTuple

from echotally.engine.codes import ARRIVALS, BACKLOG_PEAK, IN_FLIGHT_PEAK, RUNS
from echotally.engine.kernel import alone, kinds, series
from echotally.engine.kernel.access import (
    World,
    account_at,
    clock_of,
    estate_level_at,
    level_bin_at,
    source_at,
    tap_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.compiled import hot
from echotally.engine.kernel.sketch import level_bin
from echotally.engine.layout import WIDE_BITS, WIDE_LOW


class Tally(NamedTuple):
    """Of a tap's short calls, since the last time it was written back."""

    came: int  # events that arrived, those that did not start among them
    starts: int
    ends: int
    peak: int  # most calls in flight
    since: int  # since when the levels hold
    last_end: int  # when the last one ended
    busy: int  # time with runs, ns
    billed: int  # billed time of runs, ns


@hot
def level_since(w: World, u: int) -> int:
    """Since when there have been so many calls in flight in all, NEVER where nobody asks; the unit's are weighed until then."""
    clock, unit = clock_of(w), unit_at(w, u)
    since = clock.level_since
    if since > unit.level_since:
        level_bin_at(w, level_bin(unit.in_flight) * clock.units + u).v += since - unit.level_since
    return since


@hot
def weighed(w: World, u: int, level: int, others: int, since: int, now: int) -> int:
    """Until now so many calls were in flight, in the unit and, with ``others``, in all (as ``levels.in_flight_changes``).

    Returns since when the next levels hold.
    """
    # What happens at one instant weighs nothing.
    if now <= since:
        return since
    level_bin_at(w, level_bin(level) * clock_of(w).units + u).v += now - since
    estate_level_at(w, level_bin(level + others)).v += now - since
    return now


@hot
def written_back(w: World, p: int, tally: Tally) -> None:
    """Add what tap ``p``'s short calls came to."""
    clock, tap = clock_of(w), tap_at(w, p)
    trigger = trigger_at(w, tap.short)
    unit, more = unit_at(w, trigger.unit), tally.starts - tally.ends
    unit.level_since, clock.level_since = tally.since, tally.since
    clock.outside += tally.came
    tap.came += tally.came
    clock.in_flight += more
    account_at(w, unit.account).in_flight += more
    trigger.active += more
    unit.in_flight += more
    unit.in_flight_events += more * trigger.items
    if alone.is_alone(unit):
        alone.gave_back(w, trigger.unit, more)
    if tally.starts > 0:
        _started(w, p, tally.starts, tally.peak)
    if tally.ends > 0:
        _ended(w, p, tally.ends, tally.last_end)
        _spent(w, trigger.unit, tally.busy, tally.billed)


@hot
def _started(w: World, p: int, starts: int, peak: int) -> None:
    """Write back what starts add up to, and the highest levels: of calls, and of events as each arrived, before it started (rule 7.15)."""
    clock, trigger = clock_of(w), trigger_at(w, tap_at(w, p).short)
    u, items, source = trigger.unit, trigger.items, source_at(w, trigger.source)
    unit = unit_at(w, u)
    clock.arrived += starts
    source.sends += starts
    source.arrived += starts
    unit.attempts += starts
    unit.started += starts
    unit.calls += starts
    unit.started_items += starts * items
    if kinds.is_answered(trigger.kind):
        unit.requests += starts
    series.add(w, u, ARRIVALS, starts * items)
    unit.level_peak = max(unit.level_peak, peak)
    clock.level_peak = max(clock.level_peak, peak + clock.in_flight - unit.in_flight)
    series.peak(w, u, IN_FLIGHT_PEAK, peak)
    unit.backlog_peak = max(unit.backlog_peak, items)
    series.peak(w, u, BACKLOG_PEAK, items)


@hot
def _ended(w: World, p: int, ends: int, last: int) -> None:
    """Write back what ends add up to, and when the last one was."""
    clock, trigger = clock_of(w), trigger_at(w, tap_at(w, p).short)
    unit, source, events = unit_at(w, trigger.unit), source_at(w, trigger.source), ends * trigger.items
    unit.succeeded += ends
    unit.served += events
    unit.handled += events
    clock.ended += ends
    source.ended += ends
    source.ended_at = max(source.ended_at, last)
    # None of them waited.
    unit.at_once += events
    if kinds.is_answered(trigger.kind):
        unit.replies += ends


@hot
def _spent(w: World, u: int, busy: int, billed: int) -> None:
    """Write back how long runs took, and what of it is billed run by run (wide sums)."""
    unit = unit_at(w, u)
    unit.busy_ns += busy & WIDE_LOW
    unit.busy_hi += busy >> WIDE_BITS
    if unit.bills == RUNS:
        unit.billed_ns += billed & WIDE_LOW
        unit.billed_hi += billed >> WIDE_BITS
