"""A month's quantities up to instants within it: what meters had counted by then, and what that comes to (rules 10.6 and 7.53)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime, timedelta
from decimal import Decimal, localcontext

from msgspec import Struct

from echotally.demand.clock import MonthClock
from echotally.errors import BadInput, Problem
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded
from echotally.projection.metering import Account, UnitKey, hours_by_arrivals, up_to
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from echotally.rates.billing import exact
from echotally.rates.commitments import Hour

_HOUR_NS = 3_600 * 10**9
#: Quantities by account, meter and unit.
Quantities = Mapping[Account, Mapping[str, Mapping[UnitKey | None, Decimal]]]


class Stretch(Struct, frozen=True):
    """Quantities of a part of the month, from one instant to another, ns since its start."""

    from_ns: int
    until_ns: int
    quantities: dict[Account, dict[str, dict[UnitKey | None, Decimal]]]


def days_of(clock: MonthClock) -> list[int]:
    """Local midnights after the month's start, ns; the last one is its end."""
    first = datetime.fromisoformat(f"{clock.month}-01")
    ends = (clock.local_ns(first + timedelta(days=day)) for day in range(1, 32))
    return [end for end in ends if end <= clock.length_ns]


def midnight(clock: MonthClock, day: date) -> int:
    """Local midnight of a day of the month, ns since its start; the first of the next month is its end. Raises ``BadInput``."""
    at = clock.local_ns(datetime(day.year, day.month, day.day))
    if not 0 < at <= clock.length_ns:
        allowed = f"a day after the first of {clock.month}, at most the first of the next month"
        raise BadInput(Problem("lies outside the month", "--until", value=str(day), allowed=allowed))
    return at


def stretches(loaded: Loaded, plan: PlayedPlan, seed: int, ends_ns: Sequence[int]) -> list[Stretch]:
    """The month's quantities between the instants, the last one its end (added where it is not among them).

    The month is played once more with a look at each instant; attempts count where they end, time where it passes. They sum to the
    month's quantities exactly. Of a sampled month, of which not every day was played, a function's part of each hour is estimated
    by what came to it.
    """
    length = plan.measured.month_ns
    # The month's end always, so that the stretches sum to the month.
    ends = [*(end for end in ends_ns if end < length), length]
    if plan.confidence is not None:
        hours = {
            account: list(hours_by_arrivals(loaded.model, plan.measured, plan.offer, account))
            for account in plan.metered.quantities
        }
        looked = [_estimated(hours, end) for end in ends[:-1]]
    else:
        # The same seed plays the same month, now with a look at each instant.
        again = project_plan(loaded, plan.offer, seed, how=Playing(exact=True, passing_ns=tuple(ends[:-1])))
        assert isinstance(again, PlayedPlan)
        looked = [up_to(loaded.model, mark, plan.offer, length).quantities for mark in again.measured.passed]
    found: list[Stretch] = []
    before: Quantities = {}
    began = 0
    for end, now in zip(ends, [*looked, plan.metered.quantities], strict=True):
        found.append(Stretch(began, end, less(now, before)))
        began, before = end, now
    return found


def less(now: Quantities, before: Quantities) -> dict[Account, dict[str, dict[UnitKey | None, Decimal]]]:
    """What came between two instants, from what had come until each."""
    with localcontext(exact()):
        return {
            account: {
                meter: {
                    key: quantity - before.get(account, {}).get(meter, {}).get(key, Decimal(0))
                    for key, quantity in owners.items()
                }
                for meter, owners in meters.items()
            }
            for account, meters in now.items()
        }


def _estimated(
    hours: Mapping[Account, Sequence[Hour[UnitKey | None]]], end_ns: int
) -> dict[Account, dict[str, dict[UnitKey | None, Decimal]]]:
    """The quantities of the hours until an instant, of the one it lies in as much of them as has gone."""
    found: dict[Account, dict[str, dict[UnitKey | None, Decimal]]] = {}
    end_h = Decimal(end_ns) / _HOUR_NS
    with localcontext(exact()):
        for account, each in hours.items():
            own = found.setdefault(account, {})
            at = Decimal(0)
            for length, quantities in each:
                part = min(Decimal(1), max(Decimal(0), (end_h - at) / length))
                at += length
                for meter, owners in quantities.items():
                    mine = own.setdefault(meter, {})
                    for key, quantity in owners.items():
                        mine[key] = mine.get(key, Decimal(0)) + quantity * part
    return found


def summed(parts: Sequence[Stretch]) -> dict[Account, dict[str, dict[UnitKey | None, Decimal]]]:
    """The quantities of several stretches together."""
    found: dict[Account, dict[str, dict[UnitKey | None, Decimal]]] = {}
    with localcontext(exact()):
        for part in parts:
            for account, meters in part.quantities.items():
                for meter, owners in meters.items():
                    mine = found.setdefault(account, {}).setdefault(meter, {})
                    for key, quantity in owners.items():
                        mine[key] = mine.get(key, Decimal(0)) + quantity
    return found


def hours_until(hours: Sequence[Hour[UnitKey | None]], end_ns: int) -> list[Hour[UnitKey | None]]:
    """The hours that end by an instant, ns since the month's start."""
    found, at = [], Decimal(0)
    for hour in hours:
        at += hour[0] * _HOUR_NS
        if at > end_ns:
            break
        found.append(hour)
    return found
