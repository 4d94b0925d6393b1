"""Arrivals: what each kind of source does with an event."""

from __future__ import annotations

from echotally.engine.kernel import endings, instances, lists, measures, queues, rooms, runs, streams
from echotally.engine.kernel.access import ca, cg, clock, ed, ev, fn, hp, series, so, tp, tr
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.chance import uniform
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import (
    BACKOFF,
    CARRIED,
    DUE,
    ENDPOINT,
    FRESH,
    K_REFUSE,
    K_RETRY,
    L_FRESH,
    L_LINE,
    NEVER,
    NONE,
    PER_CALL,
    QUEUE,
    REFUSE,
    SAME,
    SCHEDULE,
    STREAM,
    THROTTLED,
    TOPIC,
    UP,
    WAITING,
)  # fmt: skip


@hot
def arrive(w, s, payload, tap):
    """One event arrives at source ``s`` now. ``tap`` is where it came from, -1 from inside the estate."""
    kind = so(w, s).kind
    if kind == QUEUE:
        queues.message_in(w, s, payload, UP)
    elif kind == STREAM:
        streams.record_in(w, s, payload)
    elif kind == TOPIC:
        _publish(w, s, payload)
    else:
        so(w, s).sends += 1
        for g in range(so(w, s).first_trigger, so(w, s).first_trigger + so(w, s).trigger_n):
            hand_over(w, s, g, payload, tap)


@kernel
def _publish(w, s, payload):
    """A topic copies the event to every feed and function, each with its share, independently."""
    q = so(w, s)
    q.sends += 1
    for x in range(q.first_edge, q.first_edge + q.edge_n):
        if ed(w, x).share_all == 1 or uniform(w, q.rng) < ed(w, x).share:
            ed(w, x).sent += 1
            queues.message_in(w, ed(w, x).target, payload, UP)
    for g in range(q.first_trigger, q.first_trigger + q.trigger_n):
        if tr(w, g).share_all == 1 or uniform(w, tr(w, g).rng) < tr(w, g).share:
            hand_over(w, s, g, payload, NONE)


@hot
def hand_over(w, s, g, payload, tap):
    """A single event becomes a call of trigger ``g``: pushed, or a request."""
    t, ck = tr(w, g), clock(w)
    u = t.unit
    f = fn(w, u)
    e = rooms.new_event(w, s, payload)
    v = ev(w, e)
    v.tap = tap
    v.trigger = g
    v.items = t.items
    v.state = CARRIED
    series(w, (u * clock(w).hours + ck.hour) * 6 + 0).v += v.items
    if so(w, s).kind == SCHEDULE and t.skip == 1 and t.active > 0:
        endings.ends(w, e, u, endings.SKIPPED)
        return
    if f.payload_limit >= 0 and payload > f.payload_limit:
        endings.client_pauses(w, e, UP)
        endings.ends(w, e, u, endings.LARGE)
        return
    c = rooms.new_call(w, g, v.number)
    rooms.load_event(w, c, e)
    t.active += 1
    f.waiting += v.items
    asks(w, c)


@hot
def asks(w, c):
    """A call asks for room: it waits in line, or it starts at this instant or is throttled."""
    call = ca(w, c)
    u = call.unit
    f = fn(w, u)
    endpoint = so(w, tr(w, call.trigger).source).kind == ENDPOINT
    if endpoint:
        f.requests += 1
    if (endpoint and f.wait_limit > 0) or (not endpoint and f.plan_kind != PER_CALL):
        call.state = WAITING
        call.list = L_LINE
        if endpoint:
            put(w, clock(w).now + f.wait_limit, REFUSE, call.number, K_REFUSE, c)
            call.wait += 1
    elif _alone(w, c):
        _starts_at_once(w, c)
        return
    else:
        call.state = FRESH
        call.list = L_FRESH
    lists.insert(w, ca, f.lists + call.list, c)
    rooms.mark(w, u)


@hot
def _alone(w, c):
    """Whether nothing else happens at this instant and nothing else of the unit waits: the usual case of a call."""
    ck, call = clock(w), ca(w, c)
    f = fn(w, call.unit)
    return (
        ck.dirty_n == 0
        and ck.pend_n == 0
        and f.plan_kind == PER_CALL
        and f.waiting == call.items
        and hp(w, 0).at > ck.now
        and so(w, tr(w, call.trigger).source).trigger_n == 1
    )


@hot
def _starts_at_once(w, c):
    """What ``dispatch`` would do with a call that is alone, without lists: start it, or throttle it."""
    u = ca(w, c).unit
    measures.backlog_seen(w, u)
    i = instances.room_for(w, u)
    if i == instances.NO_ROOM:
        throttle(w, c)
    else:
        fn(w, u).waiting = SAME
        runs.start(w, c, i)


@kernel
def asks_again(w, c):
    """A pause is over: a failed run's, a throttled call's or a refused client's."""
    kind = so(w, tr(w, ca(w, c).trigger).source).kind
    if kind == STREAM:
        runs.waits_in_line(w, c)
        return
    if kind == ENDPOINT:
        fn(w, ca(w, c).unit).waiting += ca(w, c).items
    asks(w, c)


@kernel
def throttle(w, c):
    """There is no room and the call may not wait: refused, or sent away to try again. It is in no list."""
    ck, call = clock(w), ca(w, c)
    u, g = call.unit, call.trigger
    f = fn(w, u)
    f.attempts += 1
    f.throttled += 1
    measures.noted(w, c, call.items, NEVER, THROTTLED)
    f.refused_since += call.items
    series(w, (u * clock(w).hours + ck.hour) * 6 + 1).v += 1
    e = cg(w, call.head).event
    if so(w, tr(w, g).source).kind == ENDPOINT:
        _refuse(w, c, e)
        return
    call.wait = min(max(f.first_wait, 2 * call.wait), f.longest_wait)
    if ck.now + call.wait > ev(w, e).at + f.give_up:
        f.waiting -= call.items
        tr(w, g).active -= 1
        endings.given_up(w, e, u, g)
        rooms.free_call(w, c)
        return
    call.state = BACKOFF
    put(w, ck.now + call.wait, DUE, call.number, K_RETRY, c)


@kernel
def _refuse(w, c, e):
    """A refused request: its client may ask again, else it is rejected."""
    call, v = ca(w, c), ev(w, e)
    f = fn(w, call.unit)
    v.tries += 1
    # Between its tries a request waits at its client, not here (fine print 31).
    f.waiting -= call.items
    if v.tap >= 0 and v.tries < tp(w, v.tap).client_tries:
        call.state = BACKOFF
        put(w, clock(w).now + tp(w, v.tap).client_pause, DUE, call.number, K_RETRY, c)
        return
    tr(w, call.trigger).active -= 1
    endings.client_pauses(w, e, UP)
    endings.ends(w, e, call.unit, endings.REJECTED)
    rooms.free_call(w, c)


@kernel
def waited_enough(w, c, number):
    """The wait limit of a request is over; if it still waits, it is refused."""
    call = ca(w, c)
    if call.number != number or call.state != WAITING:
        return
    call.wait -= 1
    if call.wait > 0:
        # An earlier ask of the same call: a later one has its own limit.
        return
    lists.remove(w, ca, fn(w, call.unit).lists + L_LINE, c)
    throttle(w, c)
