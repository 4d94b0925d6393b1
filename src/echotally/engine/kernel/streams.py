"""Streams: ordered partitions, one copy of the record per trigger, batches repeated in place."""

from __future__ import annotations

from echotally.engine.kernel import endings, lists, measures, rooms
from echotally.engine.kernel.access import ca, cg, clock, ev, fn, pa, series, so, tr
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.chance import uniform
from echotally.engine.kernel.compiled import kernel
from echotally.engine.records import (
    CARRIED,
    EXPIRE,
    K_EXPIRE_BATCH,
    K_EXPIRE_PARTITION,
    K_WAKE_PART,
    L_LINE,
    L_PARTS,
    NEVER,
    POLLED,
    SAME,
    VISIBLE,
    WAITING,
    WAKE,
)  # fmt: skip


@kernel
def record_in(w, s, payload):
    """A record arrives: each trigger of the stream gets a copy in the same partition."""
    q = so(w, s)
    q.sends += 1
    place = _partition(w, s)
    for g in range(q.first_trigger, q.first_trigger + q.trigger_n):
        copy_in(w, s, g, tr(w, g).first_part + place, payload)


@kernel
def _partition(w, s):
    """In turn, or by lot where the first partition gets ``skew`` and the others share the rest."""
    q = so(w, s)
    if q.skew < 0.0 or q.partitions == 1:
        place = q.turn
        q.turn = (q.turn + 1) % q.partitions
        return place
    u = uniform(w, q.rng)
    if u < q.skew:
        return 0
    return 1 + min(q.partitions - 2, int((u - q.skew) / (1.0 - q.skew) * (q.partitions - 1)))


@kernel
def copy_in(w, s, g, p, payload):
    """A copy of a record for trigger ``g``, at the end of its partition ``p``."""
    u = tr(w, g).unit
    if pa(w, p).full == 1:
        # Kept full by a sampled month, as a queue may be.
        pa(w, p).arrived += 1
        pa(w, p).dropped += 1
        so(w, s).arrived += 1
        clock(w).number += 1
        series(w, (u * clock(w).hours + clock(w).hour) * 6 + 0).v += 1
        return
    e = rooms.new_event(w, s, payload)
    series(w, (u * clock(w).hours + clock(w).hour) * 6 + 0).v += 1
    ev(w, e).trigger = g
    limit = fn(w, u).payload_limit
    if limit >= 0 and payload > limit:
        endings.ends(w, e, u, endings.LARGE)
        return
    part = pa(w, p)
    part.arrived += 1
    ev(w, e).state = VISIBLE
    lists.append(w, ev, part.list, e)
    if part.first < 0:
        part.first = e
    part.waiting += 1
    fn(w, u).waiting += 1
    if fn(w, u).lag_oldest >= NEVER:
        measures.lag_changes(w, u, clock(w).now)
    if part.timer >= NEVER:
        part.timer = ev(w, e).at + so(w, s).retention
        put(w, part.timer, EXPIRE, p, K_EXPIRE_PARTITION, p)
    refresh(w, p)
    if fn(w, u).dirty == 0:
        # Nothing can leave, so nobody will look at the unit at this instant.
        measures.backlog_seen(w, u)
    if fn(w, u).plan_kind == POLLED and fn(w, u).look_armed == 0:
        # Nothing can leave yet, but scaling must look at what waits.
        rooms.mark(w, u)


@kernel
def refresh(w, p):
    """Put the partition into, or take it out of, the unit's list of partitions with a batch to go."""
    part = pa(w, p)
    t = tr(w, part.trigger)
    now = clock(w).now
    chain = fn(w, t.unit).lists + L_PARTS
    willing = part.waiting > 0 and part.failing == 0 and part.in_flight < t.readers
    if willing and part.waiting < t.batch:
        due = ev(w, part.first).at + t.batch_wait
        if due > now:
            willing = False
            if part.wake_at != due:
                part.wake_at = due
                put(w, due, WAKE, SAME, K_WAKE_PART, p)
    if part.listed == 1 and not (willing and part.number == ev(w, part.first).number):
        lists.remove(w, pa, chain, p)
        part.listed = 0
    if willing and part.listed == 0:
        part.listed = 1
        part.number = ev(w, part.first).number
        lists.insert(w, pa, chain, p)
    if willing:
        rooms.mark(w, t.unit)


@kernel
def take_batch(w, p):
    """The oldest waiting records of a partition, up to a batch and the payload limit, as a call."""
    part = pa(w, p)
    t = tr(w, part.trigger)
    f = fn(w, t.unit)
    c = rooms.new_call(w, part.trigger, ev(w, part.first).number)
    ca(w, c).part = p
    e = part.first
    while e >= 0 and ca(w, c).n < t.batch:
        if ca(w, c).n > 0 and f.payload_limit >= 0 and ca(w, c).payload + ev(w, e).payload > f.payload_limit:
            break
        ev(w, e).state = CARRIED
        rooms.load_event(w, c, e)
        e = ev(w, e).next
    part.first = e
    part.waiting -= ca(w, c).n
    f.waiting -= ca(w, c).n
    part.in_flight += 1
    refresh(w, p)
    return c


@kernel
def _taken_out(w, p, e):
    """Record ``e`` needs no more handling: out of the partition, and look at the lag."""
    u = tr(w, pa(w, p).trigger).unit
    lists.remove(w, ev, pa(w, p).list, e)
    if ev(w, e).at <= fn(w, u).lag_oldest:
        measures.lag_looked_at(w, u)


@kernel
def handled(w, p, e, run_at):
    """A run handled record ``e``."""
    _taken_out(w, p, e)
    endings.handled(w, e, tr(w, pa(w, p).trigger).unit, run_at - ev(w, e).at)


@kernel
def batch_over(w, c):
    """All of a batch is settled: the partition goes on."""
    call = ca(w, c)
    p = call.part
    part = pa(w, p)
    part.in_flight -= 1
    if call.tries > 0:
        part.failing -= 1
    rooms.free_call(w, c)
    refresh(w, p)


@kernel
def failed(w, c):
    """A batch failed: too old records expire, tries may run out, else it is repeated at once."""
    call = ca(w, c)
    p = call.part
    part = pa(w, p)
    t = tr(w, call.trigger)
    u = t.unit
    call.tries += 1
    if call.tries == 1:
        part.failing += 1
    out_of_tries = t.tries > 0 and call.tries >= t.tries
    _sort_out(w, c, out_of_tries)
    if call.n == 0:
        batch_over(w, c)
        return
    refresh(w, p)
    fn(w, u).waiting += call.items
    call.state = WAITING
    call.list = L_LINE
    lists.insert(w, ca, fn(w, u).lists + L_LINE, c)
    rooms.mark(w, u)
    _expires_later(w, c)


@kernel
def _sort_out(w, c, out_of_tries):
    """Take out of a failed batch the records that are too old, or all of them where its tries are used up."""
    call = ca(w, c)
    t, u = tr(w, call.trigger), call.unit
    over = clock(w).now - so(w, t.source).retention
    before, node = -1, call.head
    while node >= 0:
        after, e = cg(w, node).next, cg(w, node).event
        if out_of_tries or ev(w, e).at <= over:
            _taken_out(w, call.part, e)
            call.items -= 1
            call.n -= 1
            call.payload -= ev(w, e).payload
            if out_of_tries:
                endings.given_up(w, e, u, call.trigger)
            else:
                endings.ends(w, e, u, endings.EXPIRED)
            if before >= 0:
                cg(w, before).next = after
            else:
                call.head = after
            if call.tail == node:
                call.tail = before
            rooms.drop_cargo(w, node)
        else:
            before = node
        node = after


@kernel
def _expires_later(w, c):
    """A failed batch waits for room: look again when its oldest record outlives the retention."""
    call = ca(w, c)
    due = ev(w, cg(w, call.head).event).at + so(w, tr(w, call.trigger).source).retention
    # One entry a record: a batch that fails many times a second must not fill the calendar.
    if call.timer != due:
        call.timer = due
        put(w, due, EXPIRE, call.number, K_EXPIRE_BATCH, c)


@kernel
def expire_batch(w, c, number):
    """Records of a failed batch that still waits for room outlived the retention (fine print 30)."""
    call = ca(w, c)
    if call.number != number or call.state != WAITING or call.part < 0:
        return
    f = fn(w, call.unit)
    f.waiting -= call.items
    _sort_out(w, c, False)
    if call.n == 0:
        lists.remove(w, ca, f.lists + L_LINE, c)
        batch_over(w, c)
        return
    f.waiting += call.items
    _expires_later(w, c)


@kernel
def expire(w, p):
    """Waiting records that outlived the retention go."""
    part, now = pa(w, p), clock(w).now
    t = tr(w, part.trigger)
    retention = so(w, t.source).retention
    while part.first >= 0 and ev(w, part.first).at + retention <= now:
        e = part.first
        part.first = ev(w, e).next
        part.waiting -= 1
        fn(w, t.unit).waiting -= 1
        _taken_out(w, p, e)
        endings.ends(w, e, t.unit, endings.EXPIRED)
    part.timer = NEVER
    if part.first >= 0:
        part.timer = ev(w, part.first).at + retention
        put(w, part.timer, EXPIRE, p, K_EXPIRE_PARTITION, p)
    refresh(w, p)
