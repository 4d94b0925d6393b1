"""Starting what can start at an instant: among waiting calls the oldest event goes first."""

from __future__ import annotations

import numpy as np

from echotally.engine.kernel import instances, lists, measures, polled, queues, runs, sources, streams
from echotally.engine.kernel.access import ca, clock, dirty, ev, fn, ls, pa, tr
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import L_FRESH, L_LINE, L_PARTS, NEVER, POLLED, QUEUE

_NOTHING, _CALL, _QUEUE, _PART = range(4)


@hot
def low(w):
    """Whether a pool is too low for one more step: Python then makes it larger and goes on."""
    ck = clock(w)
    m = ck.margin
    return (
        ck.ev_left < m
        or ck.ca_left < m
        or ck.cg_left < m
        or ck.in_left < m
        or w.n_hp - ck.heap_n < 4 * m
        or w.n_pend - ck.pend_n < m
    )


@hot
def _candidate(w, u):
    """What unit ``u`` would start next: (kind, which, oldest event's number, batches in flight)."""
    f = fn(w, u)
    kind, which, number, tie = _NOTHING, np.int64(-1), NEVER, np.int64(0)
    if f.waiting == 0:
        return kind, which, number, tie
    for lst in (f.lists + L_LINE, f.lists + L_FRESH):
        c = ls(w, lst).head
        if c >= 0 and ca(w, c).number < number:
            kind, which, number = _CALL, c, ca(w, c).number
    p = ls(w, f.lists + L_PARTS).head
    if p >= 0 and pa(w, p).number < number:
        kind, which, number = _PART, p, pa(w, p).number
    g = f.first_trigger
    while g >= 0:
        t = tr(w, g)
        head = ls(w, t.list_q).head if t.kind == QUEUE else np.int64(-1)
        if head >= 0 and ev(w, head).number < number and queues.can_leave(w, g):
            kind, which, number, tie = _QUEUE, g, ev(w, head).number, t.in_flight
        g = t.after
    return kind, which, number, tie


@hot
def _start(w, u, kind, which, i):
    f = fn(w, u)
    if kind == _CALL:
        lists.remove(w, ca, f.lists + ca(w, which).list, which)
        f.waiting -= ca(w, which).items
        runs.start(w, which, i)
    elif kind == _QUEUE:
        runs.start(w, queues.take_batch(w, which), i)
    else:
        runs.start(w, streams.take_batch(w, which), i)


@kernel
def _no_room(w, u):
    """What may not wait is throttled; returns False when a pool ran low before all were."""
    f = fn(w, u)
    while ls(w, f.lists + L_FRESH).head >= 0:
        if low(w):
            return False
        c = ls(w, f.lists + L_FRESH).head
        lists.remove(w, ca, f.lists + L_FRESH, c)
        sources.throttle(w, c)
    if f.eager == 1:
        g = f.first_trigger
        while g >= 0:
            while tr(w, g).kind == QUEUE and queues.can_leave(w, g):
                if low(w):
                    return False
                queues.refused_batch(w, queues.take_batch(w, g))
            g = tr(w, g).after
    return True


@hot
def _forget(w, k):
    ck = clock(w)
    fn(w, dirty(w, k).v).dirty = 0
    ck.dirty_n -= 1
    dirty(w, k).v = dirty(w, ck.dirty_n).v


@hot
def dispatch(w):
    """Start everything that can start now. Returns False when a pool ran low; call again after growing."""
    ck = clock(w)
    for k in range(ck.dirty_n):
        u = dirty(w, k).v
        measures.backlog_seen(w, u)
        if fn(w, u).plan_kind == POLLED and fn(w, u).look_armed == 0:
            polled.look_again(w, u)
    while ck.dirty_n > 0:
        if low(w):
            return False
        best, best_kind, best_which = np.int64(-1), np.int64(0), np.int64(-1)
        best_number, best_tie = NEVER, np.int64(0)
        k = np.int64(0)
        while k < ck.dirty_n:
            kind, which, number, tie = _candidate(w, dirty(w, k).v)
            if kind == _NOTHING:
                _forget(w, k)
                continue
            if number < best_number or (number == best_number and tie < best_tie):
                best, best_kind, best_which, best_number, best_tie = k, kind, which, number, tie
            k += 1
        if best < 0:
            return True
        u = dirty(w, best).v
        i = instances.room_for(w, u)
        if i != instances.NO_ROOM:
            _start(w, u, best_kind, best_which, i)
        elif _no_room(w, u):
            # Throttling may have freed nothing, so the unit has nothing more to do at this instant.
            _forget_unit(w, u)
        else:
            return False
    return True


@hot
def _forget_unit(w, u):
    for k in range(clock(w).dirty_n):
        if dirty(w, k).v == u:
            _forget(w, k)
            return
