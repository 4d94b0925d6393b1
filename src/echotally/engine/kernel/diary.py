"""What is written down of single attempts, instances and levels, where a run keeps a diary, a trail or a log; most keep none."""

from __future__ import annotations

from echotally.engine.codes import (
    AT_INSTANCES,
    DEAD_LETTERED,
    LOG_TIME_SHIFT,
    LOG_WHAT_SHIFT,
    NO,
    NO_GROWTH,
    NONE,
    POLLED,
    THROTTLED,
    TROUBLED,
    UNTIL_A_LOOK,
    YES,
    ZERO,
)
from echotally.engine.kernel.access import (
    World,
    asked_at,
    born_at,
    call_at,
    cargo_at,
    carried_at,
    clock_of,
    diary_at,
    event_at,
    log_at,
    moment_at,
    n_born,
    n_carried,
    n_diary,
    n_events,
    n_moments,
    n_refusals,
    n_rounds,
    n_trail,
    refusal_at,
    tap_at,
    trail_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.compiled import hot, kernel


@kernel
def full(w: World) -> bool:
    """Whether a page of what is kept may run over in one more step; what is not kept has one line."""
    clock = clock_of(w)
    m = clock.margin
    # A retention may end every event there is at one instant.
    return (
        (n_diary(w) > 1 and n_diary(w) - clock.diary_n < m)
        or (n_carried(w) > 1 and n_carried(w) - clock.carried_n < m)
        or (n_born(w) > 1 and n_born(w) - clock.born_n < 2 * m)
        or (n_rounds(w) > 1 and n_rounds(w) - clock.rounds_n < m)
        or (n_moments(w) > 1 and n_moments(w) - clock.moments_n < m + n_events(w))
    )


@kernel
def noted(w: World, c: int, items: int, run_at: int, outcome: int) -> None:
    """Write an attempt that is over into the diary, while there is room."""
    clock, call = clock_of(w), call_at(w, c)
    if clock.diary_n >= n_diary(w):
        return
    # Counted all the same: numbers of attempts are those of the whole month, whatever is kept.
    if clock.keeps_diary == TROUBLED and outcome != THROTTLED and call.cold_ns == 0:
        clock.noted += 1
        return
    line = diary_at(w, clock.diary_n)
    line.unit = call.unit
    line.index = clock.noted
    line.trigger = call.trigger
    line.partition = call.partition
    line.number = call.number
    line.items = items
    # What was throttled never started: it stands where it was refused, and took no time.
    line.at = clock.now if outcome == THROTTLED else call.started
    line.run_at = run_at
    line.ended = clock.now
    line.cold_ns = ZERO if outcome == THROTTLED else call.cold_ns
    line.charged = ZERO if outcome == THROTTLED else call.charged
    line.outcome = outcome
    clock.diary_n += 1
    clock.noted += 1


@hot
def carries(w: World, e: int, good: int) -> None:
    """Write down an event of the attempt that will be noted next, ``good`` YES: handled; where that is kept at all."""
    # One line is what every world has that keeps none.
    if n_carried(w) > 1 and clock_of(w).keeps_diary != TROUBLED:
        _carries(w, e, good)


@kernel
def _carries(w: World, e: int, good: int) -> None:
    clock = clock_of(w)
    # A full page is handed to Python between two steps (``full``); what is not kept has one line and is full.
    if clock.carried_n < n_carried(w):
        line = carried_at(w, clock.carried_n)
        line.attempt = clock.noted
        line.number = event_at(w, e).number
        line.good = good
        clock.carried_n += 1


@kernel
def carries_all(w: World, c: int) -> None:
    """As ``carries``, of all that a call holds which handled none of it: it was throttled, or runs on as the month ends."""
    link = call_at(w, c).head if n_carried(w) > 1 else NONE
    while link >= 0:
        _carries(w, cargo_at(w, link).event, NO)
        link = cargo_at(w, link).next


@hot
def tells_of_events(w: World) -> bool:
    """Whether it is kept what attempts carried or what became of events."""
    return n_carried(w) > 1 or n_moments(w) > 1


@hot
def for_whom(w: World, place: int) -> None:
    """What is put out next is for the event in this place among those that were handled or asked."""
    if n_born(w) > 1:
        clock_of(w).whose = place


@hot
def asks(w: World, c: int) -> None:
    """Write down for which events a call asks, where that is kept."""
    if n_rounds(w) > 1:
        _asks(w, c)


@kernel
def _asks(w: World, c: int) -> None:
    clock, call = clock_of(w), call_at(w, c)
    each, link = trigger_at(w, call.trigger).fail_each == YES, call.head
    while link >= 0 and clock.rounds_n < n_rounds(w):
        # An event that failed by itself is asked nothing for.
        if not (each and cargo_at(w, link).failed == YES):
            line = asked_at(w, clock.rounds_n)
            line.asking = call.asking
            line.number = event_at(w, cargo_at(w, link).event).number
            clock.rounds_n += 1
        link = cargo_at(w, link).next


@hot
def ended(w: World, e: int, u: int, how: int) -> None:
    """Write down how an event ended, where that is kept."""
    if n_moments(w) > 1:
        # What takes its place at the dead letter was put out just before.
        _moment(w, e, u, how, clock_of(w).put_out - 1 if how == DEAD_LETTERED else NONE)


@hot
def comes_back(w: World, e: int, u: int, what: int, at: int) -> None:
    """Write down that an event comes back, COMES_BACK: it will, SEEN_AGAIN: it has; where that is kept."""
    if n_moments(w) > 1:
        _moment(w, e, u, what, at)


@hot
def call_comes_back(w: World, c: int, what: int, at: int) -> None:
    """As ``comes_back``, of the first event of a call; where nothing is kept it is not looked for."""
    if n_moments(w) > 1:
        _moment(w, cargo_at(w, call_at(w, c).head).event, call_at(w, c).unit, what, at)


@kernel
def _moment(w: World, e: int, u: int, what: int, ref: int) -> None:
    clock, event = clock_of(w), event_at(w, e)
    if clock.moments_n >= n_moments(w):
        return
    line = moment_at(w, clock.moments_n)
    line.number = event.number
    line.at = clock.now
    line.what = what
    line.unit = u
    line.source = event.at_source
    line.came = event.at
    line.ref = ref
    clock.moments_n += 1


@hot
def no_room(w: World, u: int, why: int, used: int, most: int) -> None:
    """Write down why a unit found no room, where that is kept."""
    if n_refusals(w) > 1:
        _no_room(w, u, why, used, most)


@kernel
def _no_room(w: World, u: int, why: int, used: int, most: int) -> None:
    clock = clock_of(w)
    # The first of a page are enough: they tell what is in the way.
    if clock.refusals_n >= n_refusals(w):
        return
    line = refusal_at(w, clock.refusals_n)
    line.at = clock.now
    line.unit = u
    line.why = why
    line.used = used
    line.most = most
    clock.refusals_n += 1


@hot
def no_instance(w: World, u: int) -> None:
    """As ``no_room``, of a unit that may start none now."""
    if n_refusals(w) > 1:
        unit = unit_at(w, u)
        if unit.count >= unit.limit:
            _no_room(w, u, AT_INSTANCES, unit.count, unit.limit)
        elif unit.plan_kind == POLLED:
            _no_room(w, u, UNTIL_A_LOOK, unit.count, unit.limit)
        else:
            _no_room(w, u, NO_GROWTH, unit.count, unit.limit)


@hot
def comes(w: World, e: int) -> None:
    """Write down where an event came from, where that is kept."""
    if n_born(w) > 1:
        _comes(w, event_at(w, e).number, event_at(w, e).at_source)


@hot
def put_out(w: World, s: int) -> None:
    """Write down what arrives at source ``s`` from inside, whatever becomes of it there."""
    if n_born(w) > 1:
        _comes(w, NONE, s)


@hot
def from_outside(w: World, s: int, tap: int) -> None:
    """One more came from outside: write it down where that is kept."""
    # Counted whether or not it is kept, so that whoever looks later counts on.
    clock_of(w).outside += 1
    tap_at(w, tap).came += 1
    if n_born(w) > 1:
        clock_of(w).tap = tap
        _comes(w, NONE, s)


@kernel
def _comes(w: World, number: int, s: int) -> None:
    clock = clock_of(w)
    if clock.born_n >= n_born(w):
        return
    line = born_at(w, clock.born_n)
    line.number = number
    line.source = s
    line.at = clock.now
    line.origin = clock.origin
    line.asker = call_at(w, clock.asker).number if clock.asker >= 0 else -1
    line.sent = clock.sent
    line.whose = clock.whose
    line.asking = clock.asking if clock.asker >= 0 else ZERO
    line.outside = clock.outside - 1 if clock.sent < 0 else NONE
    line.tap = clock.tap if clock.sent < 0 else NONE
    clock.born_n += 1


@kernel
def count_changed(w: World, u: int, ready: int) -> None:
    """Write a unit's number of instances into the trail; ``ready`` YES: it is the same, and one became ready."""
    clock = clock_of(w)
    if clock.trail_n < n_trail(w):
        change = trail_at(w, clock.trail_n)
        change.at = clock.now
        change.unit = u
        change.count = unit_at(w, u).count
        change.ready = ready
        clock.trail_n += 1


@hot
def logged(w: World, a: int, what: int, least: int) -> None:
    """Write a change into a log that keeps ``least`` or more: what (FELL, ROSE, TOKEN), and of which account.

    ``dispatch.low`` sees to its room.
    """
    clock = clock_of(w)
    if clock.keeps_log >= least:
        log_at(w, clock.log_n).v = (clock.now << LOG_TIME_SHIFT) | (what << LOG_WHAT_SHIFT) | a
        clock.log_n += 1
