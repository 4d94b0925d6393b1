"""Levels over time, weighed by how long they held: calls in flight, instances, floor instances without a call."""

from __future__ import annotations

from echotally.engine.codes import COUNT_PEAK, FELL, IN_FLIGHT_PEAK, NO, ROSE, WHOLE_LOG, YES
from echotally.engine.kernel import diary, series
from echotally.engine.kernel.access import (
    World,
    account_at,
    clock_of,
    count_bin_at,
    estate_level_at,
    level_bin_at,
    unit_at,
)
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.kernel.sketch import level_bin
from echotally.engine.layout import WIDE_BITS, WIDE_LOW


@hot
def in_flight_changes(w: World, u: int, by: int) -> None:
    """A call starts (+1) or ends (-1): weigh the level that was, for the unit and the whole estate."""
    clock, unit, account = clock_of(w), unit_at(w, u), account_at(w, unit_at(w, u).account)
    now = clock.now
    # The level that was held until now; what happens at one instant weighs nothing, nor, where none is asked for, does anything:
    # there levels begin at NEVER.
    if now > unit.level_since:
        level_bin_at(w, level_bin(unit.in_flight) * clock.units + u).v += now - unit.level_since
        unit.level_since = now
    if now > clock.level_since:
        estate_level_at(w, level_bin(clock.in_flight)).v += now - clock.level_since
        clock.level_since = now
    unit.in_flight += by
    clock.in_flight += by
    account.in_flight += by
    if by < 0:
        diary.logged(w, unit.account, FELL, WHOLE_LOG)
    if by > 0:
        diary.logged(w, unit.account, ROSE, WHOLE_LOG)
        unit.level_peak = max(unit.level_peak, unit.in_flight)
        clock.level_peak = max(clock.level_peak, clock.in_flight)
        series.peak(w, u, IN_FLIGHT_PEAK, unit.in_flight)


@kernel
def instances_change(w: World, u: int, by: int) -> None:
    """An instance comes (+1) or goes (-1)."""
    unit, clock = unit_at(w, u), clock_of(w)
    now = clock.now
    if now > unit.count_since:
        if clock.lean != YES:
            count_bin_at(w, level_bin(unit.count) * clock.units + u).v += now - unit.count_since
        # While as many exist as the limit allows, starting ones included (rule 5.1).
        if unit.shown_limit >= 0 and unit.count >= unit.shown_limit:
            unit.at_limit_ns += now - unit.count_since
        unit.count_since = now
    unit.count += by
    if by != 0:
        diary.count_changed(w, u, NO)
    if by > 0:
        unit.count_peak = max(unit.count_peak, unit.count)
        series.peak(w, u, COUNT_PEAK, unit.count)


@hot
def busy_changes(w: World, u: int, by: int) -> None:
    """An instance gets its first call (+1) or ends its last (-1): floor time without a call is integrated."""
    unit = unit_at(w, u)
    now = clock_of(w).now
    if unit.floor > 0:
        # Two words (see ``layout.WIDE``): the product of a floor of thousands and a month leaves 64 bits.
        idle, lasted = max(0, unit.floor - unit.busy_count), now - unit.floor_since
        low = idle * (lasted & WIDE_LOW)
        unit.idle_floor_ns += low & WIDE_LOW
        unit.idle_floor_hi += idle * (lasted >> WIDE_BITS) + (low >> WIDE_BITS)
    unit.floor_since = now
    unit.busy_count += by
