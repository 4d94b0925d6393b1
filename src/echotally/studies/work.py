"""What playing a month takes, so that a study knows how many of them are soon played."""

from __future__ import annotations

from echotally.engine.sampling import OF_EACH_FUNCTION

#: So many functions make an event take twice as long, as their records no longer stay near the processor.
_TWICE_AS_LONG = 400
#: Building and reading a function take as long as so many events.
_FOR_EACH = 2_500


def month_work(events: float, units: int) -> float:
    """Of a month of so many events, or attempts, of so many functions in all environments; in events of an estate of few functions, of
    which about a million take a second.
    """
    return events * longer(units) + _FOR_EACH * units


def longer(units: int) -> float:
    """How many times as long an event takes among so many functions."""
    return 1 + units / _TWICE_AS_LONG


def sample_work(events: float, units: int) -> float:
    """As ``month_work``, of a sample of about so many events."""
    return month_work(events, units) + OF_EACH_FUNCTION * units
