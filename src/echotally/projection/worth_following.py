"""Which event of a month is worth following: the worst thing that happens to a function, as a line to type."""

from __future__ import annotations

from collections.abc import Iterator
from shlex import quote

from echotally.engine.reading import UnitMeasured
from echotally.projection.answer import PlayedPlan

#: Waits above this, s, and shares of throttled attempts above this, are worth a look.
_LONG_S, _OFTEN = 1.0, 0.001


def worth_following(plan: PlayedPlan, function: str | None = None) -> str | None:
    """The command that shows the worst of a month, or of one function; None where nothing waits, fails or is lost.

    Of a sampled month too: one event is followed only where all are played.
    """
    if plan.confidence is not None:
        return None
    units = plan.units if function is None else plan.units_of(function)
    found = sorted(worst for unit in units for worst in _troubles(unit))
    if not found:
        return None
    _, _, what, name = found[0]
    return following(plan, what, name)


def following(plan: PlayedPlan, what: str, function: str) -> str:
    """The command that shows the event that ``what`` asks for, with names as a shell takes them."""
    return f"echotally follow MODEL --plan {quote(plan.offer.name)} --{what} --function {quote(function)}"


def _troubles(unit: UnitMeasured) -> Iterator[tuple[int, float, str, str]]:
    """What happens to a unit's events: how bad its kind is, how much of it there is (most first), the question, the function."""
    name, events = unit.unit.function, unit.events
    lost = events["lost"] + events["expired"] + events["too_large"]
    if lost:
        yield 0, -lost, "lost", name
    if events["dead_lettered"]:
        yield 1, -events["dead_lettered"], "dead-letter", name
    if unit.throttled_share > _OFTEN:
        yield 2, -unit.throttled_share, "throttled", name
    if (unit.waits.p95 or 0.0) > _LONG_S and events["succeeded"]:
        yield 3, -(unit.waits.p95 or 0.0), "slowest", name
