"""Endpoints: requests wait up to the plan's limit, are refused, asked again by their client, answered (rule 4.2)."""

from __future__ import annotations

from echotally.engine.codes import (
    BACKOFF,
    COMES_BACK,
    DUE,
    ERRORED,
    FRESH,
    K_REFUSE,
    K_RETRY,
    L_FRESH,
    L_LINE,
    NO,
    REFUSE,
    REJECTED,
    WAITING,
    YES,
)
from echotally.engine.kernel import asking, clients, diary, endings, lists, pools, singles, waits
from echotally.engine.kernel.access import (
    World,
    call_at,
    cargo_at,
    clock_of,
    event_at,
    source_at,
    tap_at,
    trigger_at,
    unit_at,
)
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.compiled import hot, kernel


@hot
def arrive(w: World, s: int, payload: int, tap: int) -> None:
    """A request comes to an endpoint, which has one function to answer it, or none."""
    source = source_at(w, s)
    source.sends += 1
    for g in range(source.first_trigger, source.first_trigger + source.trigger_n):
        c = singles.taken_in(w, s, g, payload, tap)
        if c >= 0:
            ask(w, c)


@hot
def ask(w: World, c: int) -> None:
    """A request asks for room: it waits as long as the plan lets it, or it starts at this instant or is refused."""
    call = call_at(w, c)
    unit = unit_at(w, call.unit)
    unit.requests += 1
    if unit.wait_limit > 0:
        # Even if it starts at once: the entry then finds it no longer waiting.
        put(w, clock_of(w).now + unit.wait_limit, REFUSE, call.number, K_REFUSE, c)
        call.wait += 1
        singles.lines_up(w, c, WAITING, L_LINE)
    elif not singles.alone(w, c):
        singles.lines_up(w, c, FRESH, L_FRESH)
    elif not singles.starts_at_once(w, c):
        throttle(w, c)


@kernel
def try_again(w: World, c: int) -> None:
    """A refused client has paused and asks again: a new try of the same request (rule 7.12)."""
    call = call_at(w, c)
    unit_at(w, call.unit).waiting += call.items
    ask(w, c)


@kernel
def waited_enough(w: World, c: int, number: int) -> None:
    """The wait limit of a request is over; if it still waits, it is refused."""
    call = call_at(w, c)
    if call.number != number or call.state != WAITING:
        return
    call.wait -= 1
    if call.wait > 0:
        # An earlier ask of the same call: a later one has its own limit.
        return
    lists.remove(w, call_at, unit_at(w, call.unit).lists + L_LINE, c)
    throttle(w, c)


@kernel
def throttle(w: World, c: int) -> None:
    """There is no room: refused. Its client may ask again, else it is rejected. It is in no list."""
    singles.counted_as_throttled(w, c)
    call = call_at(w, c)
    unit, e = unit_at(w, call.unit), cargo_at(w, call.head).event
    event = event_at(w, e)
    event.tries += 1
    # Between its tries a request waits at its client, not here (rule 7.31).
    unit.waiting -= call.items
    # Requests from inside have no client that would ask again.
    if event.tap >= 0 and event.tries < tap_at(w, event.tap).client_tries:
        call.state = BACKOFF
        back = clock_of(w).now + tap_at(w, event.tap).client_pause
        put(w, back, DUE, call.number, K_RETRY, c)
        diary.comes_back(w, e, call.unit, COMES_BACK, back)
        return
    trigger_at(w, call.trigger).active -= 1
    clients.pauses(w, e, YES)
    asking.answers(w, e, NO)
    endings.ends(w, e, call.unit, REJECTED)
    pools.free_call(w, c)


@hot
def handled(w: World, c: int, e: int) -> None:
    """A run answered the request."""
    call = call_at(w, c)
    unit_at(w, call.unit).replies += 1
    clients.pauses(w, e, NO)
    asking.answers(w, e, YES)
    endings.answered(w, e, call.unit, call.run_at - event_at(w, e).at)


@hot
def over(w: World, c: int, bad: int) -> None:
    """The request is settled: answered, or answered by an error, which is not repeated."""
    if bad > 0:
        _errored(w, c)
    else:
        singles.over(w, c)


@kernel
def _errored(w: World, c: int) -> None:
    call = call_at(w, c)
    e = cargo_at(w, call.head).event
    clients.pauses(w, e, NO)
    asking.answers(w, e, NO)
    waits.latency_seen(w, call.unit, clock_of(w).now - event_at(w, e).at, 1)
    # Nobody was served, though an answer came: left behind (rule 7.38).
    if call.timed_out == YES:
        unit_at(w, call.unit).cut_requests += 1
    endings.ends(w, e, call.unit, ERRORED)
    pools.free_call(w, c)
