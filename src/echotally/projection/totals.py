"""What the units of a month come to together: each total is summed here, and every table, page and export reads it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypedDict

from msgspec import Struct

from echotally.engine.reading import ENDINGS, UnitMeasured, lost_events, throttled_share

_EVENTS = ("in", *ENDINGS)
_ATTEMPTS = ("total", "succeeded", "failed", "timed_out", "throttled", "running")


class Totals(Struct, frozen=True):
    """Sums over units. ``events`` and ``attempts`` by name as in ``UnitMeasured``; ``left_behind`` as in rule 7.38.

    ``wait_p95_s`` is the longest of the units' p95 waits, s, None where nothing succeeded; ``peak_instances`` the sum of the
    functions' peaks (reserved instances are shared, so they count once an account).
    """

    events: dict[str, int]
    attempts: dict[str, int]
    started: int
    cold_starts: int
    cold_calls: int
    duplicates: int
    left_behind: int
    wait_p95_s: float | None
    longest_run_ns: int
    backlog_peak: int
    peak_instances: int

    def plus(self, other: Totals) -> Totals:
        """The totals of these units and of others, none of which they have in common, nor reserved instances."""
        waits = [wait for wait in (self.wait_p95_s, other.wait_p95_s) if wait is not None]
        return Totals(
            events=_summed([self.events, other.events], _EVENTS),
            attempts=_summed([self.attempts, other.attempts], _ATTEMPTS),
            started=self.started + other.started,
            cold_starts=self.cold_starts + other.cold_starts,
            cold_calls=self.cold_calls + other.cold_calls,
            duplicates=self.duplicates + other.duplicates,
            left_behind=self.left_behind + other.left_behind,
            wait_p95_s=max(waits, default=None),
            longest_run_ns=max(self.longest_run_ns, other.longest_run_ns),
            backlog_peak=max(self.backlog_peak, other.backlog_peak),
            peak_instances=self.peak_instances + other.peak_instances,
        )

    def less(self, some: Totals, others: Sequence[UnitMeasured]) -> Totals:
        """The totals of ``others``: of all these units but ``some``, with which they have no reserved instances in common."""
        return Totals(
            events={name: n - some.events[name] for name, n in self.events.items()},
            attempts={name: n - some.attempts[name] for name, n in self.attempts.items()},
            started=self.started - some.started,
            cold_starts=self.cold_starts - some.cold_starts,
            cold_calls=self.cold_calls - some.cold_calls,
            duplicates=self.duplicates - some.duplicates,
            left_behind=self.left_behind - some.left_behind,
            peak_instances=self.peak_instances - some.peak_instances,
            **_highest(others),
        )

    @property
    def throttled_share(self) -> float:
        """Throttled attempts / attempts (rule 5.3); 0 without attempts."""
        return throttled_share(self.attempts)

    @property
    def left_behind_share(self) -> float:
        """Events not served / events in (rule 7.38); 0 without events."""
        return self.left_behind / self.events["in"] if self.events["in"] else 0.0

    @property
    def lost(self) -> int:
        """Events lost, dead-lettered, expired or too large."""
        return lost_events(self.events)


def totals_of(units: Sequence[UnitMeasured]) -> Totals:
    """The totals of some units, or of one."""
    return Totals(
        events=_summed([u.events for u in units], _EVENTS),
        attempts=_summed([u.attempts for u in units], _ATTEMPTS),
        started=sum(u.started for u in units),
        cold_starts=sum(u.cold_starts for u in units),
        cold_calls=sum(u.cold_calls for u in units),
        duplicates=sum(u.duplicates for u in units),
        left_behind=sum(u.left_behind_events for u in units),
        peak_instances=_peak_instances(units),
        **_highest(units),
    )


class _Highest(TypedDict):
    """What of totals is no sum."""

    wait_p95_s: float | None
    longest_run_ns: int
    backlog_peak: int


def _highest(units: Sequence[UnitMeasured]) -> _Highest:
    return {
        "wait_p95_s": max((u.waits.p95 for u in units if u.waits.p95 is not None), default=None),
        "longest_run_ns": max((u.longest_run_ns for u in units), default=0),
        "backlog_peak": max((u.backlog_peak for u in units), default=0),
    }


def _peak_instances(units: Sequence[UnitMeasured]) -> int:
    own = sum(u.instances.peak for u in units if u.unit.offer.plan.bills != "reserved")
    shared = {u.unit.billed_to: u.instances.peak for u in units if u.unit.offer.plan.bills == "reserved"}
    return own + sum(shared.values())


def _summed(counts: Sequence[dict[str, int]], names: Sequence[str]) -> dict[str, int]:
    return {name: sum(each[name] for each in counts) for name in names}
