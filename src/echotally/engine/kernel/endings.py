"""How events end: one counter each, so that the sums of rule 4.9 can be checked."""

from __future__ import annotations

from echotally.engine.codes import (
    DEAD_LETTERED,
    ERRORED,
    EXPIRED,
    GONE,
    HANDLED,
    LAID,
    LOST,
    REJECTED,
    SKIPPED,
    TOO_LARGE,
    YES,
)
from echotally.engine.kernel import diary, pools, waits
from echotally.engine.kernel.access import World, clock_of, event_at, source_at, trigger_at, unit_at
from echotally.engine.kernel.compiled import hot, kernel


@kernel
def ends(w: World, e: int, u: int, how: int) -> None:
    """Event ``e`` ends for unit ``u`` (-1: for a source nobody reads); free it unless a call carries it."""
    event = event_at(w, e)
    n = event.items
    event.state = GONE
    clock, source = clock_of(w), source_at(w, event.at_source)
    clock.ended += 1
    source.ended += 1
    # When the last one ended: a drain is over at that instant.
    source.ended_at = clock.now
    if u >= 0:
        _counted(w, u, how, n)
    diary.ended(w, e, u, how)
    # Two calls may carry one message, where it came back while the first still ran.
    if event.refs == 0:
        pools.free_event(w, e)


@hot
def _counted(w: World, u: int, how: int, n: int) -> None:
    unit = unit_at(w, u)
    if how == HANDLED:
        unit.handled += n
    elif how == ERRORED:
        unit.errored += n
    elif how == REJECTED:
        unit.rejected += n
    elif how == LOST:
        unit.lost += n
    elif how == DEAD_LETTERED:
        unit.dead_lettered += n
    elif how == EXPIRED:
        unit.expired += n
    elif how == TOO_LARGE:
        unit.too_large += n
    elif how == SKIPPED:
        unit.skipped += n
    else:
        unit.unfinished += n


@hot
def handled(w: World, e: int, u: int, wait_ns: int) -> None:
    """Event ``e`` was handled successfully for the first time, after ``wait_ns``."""
    event_at(w, e).handled = YES
    waited(w, e, u, wait_ns)
    ends(w, e, u, HANDLED)


@hot
def waited(w: World, e: int, u: int, wait_ns: int) -> None:
    """Event ``e`` is handled: how long it waited and how long all took."""
    event = event_at(w, e)
    # What a sampled month laid never arrived, so how long it waited means nothing.
    if event.tap != LAID:
        waits.wait_seen(w, u, wait_ns, event.items)
        waits.latency_seen(w, u, clock_of(w).now - event.at, event.items)


@hot
def answered(w: World, e: int, u: int, wait_ns: int) -> None:
    """As ``handled``, of a request: what its caller saw is kept apart."""
    event = event_at(w, e)
    event.handled = YES
    if event.tap != LAID:
        waits.wait_seen(w, u, wait_ns, event.items)
        waits.answer_seen(w, u, clock_of(w).now - event.at)
    ends(w, e, u, HANDLED)


@kernel
def given_up(w: World, e: int, u: int, g: int) -> None:
    """A pushed or stream event is given up: to the trigger's dead letter, else lost."""
    if trigger_at(w, g).dead_letter >= 0:
        # It arrives there at this instant, with what else is put out (rule 1.3).
        pools.expect(w, trigger_at(w, g).dead_letter, event_at(w, e).payload)
        trigger_at(w, g).letters += 1
        ends(w, e, u, DEAD_LETTERED)
    else:
        ends(w, e, u, LOST)
