"""How events end: one counter each, so that the sums of rules.md section 4 can be checked."""

from __future__ import annotations

import numpy as np

from echotally.engine.kernel import measures, rooms
from echotally.engine.kernel.access import clock, ev, fn, so, tp, tr
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.chance import draw, whole
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import ARRIVE, GONE, K_CLIENT, LAID

OK, ERRORED, REJECTED, LOST, DEAD, EXPIRED, LARGE, SKIPPED, LEFT = map(np.int64, range(9))


@hot
def ends(w, e, u, how):
    """Event ``e`` ends for unit ``u`` (-1: for a source nobody reads); free it unless a call carries it."""
    v = ev(w, e)
    n = v.items
    v.state = GONE
    clock(w).ended += 1
    so(w, v.source).ended += 1
    so(w, v.source).ended_at = clock(w).now
    if u >= 0:
        f = fn(w, u)
        if how == OK:
            f.ev_ok += n
        elif how == ERRORED:
            f.ev_errored += n
        elif how == REJECTED:
            f.ev_rejected += n
        elif how == LOST:
            f.ev_lost += n
        elif how == DEAD:
            f.ev_dead += n
        elif how == EXPIRED:
            f.ev_expired += n
        elif how == LARGE:
            f.ev_large += n
        elif how == SKIPPED:
            f.ev_skipped += n
        else:
            f.ev_left += n
    elif how == EXPIRED:
        so(w, v.source).ev_expired += 1
    elif how == DEAD:
        so(w, v.source).ev_dead += 1
    if v.refs == 0:
        rooms.free_event(w, e)


@hot
def handled(w, e, u, wait_ns):
    """Event ``e`` was handled successfully for the first time, after ``wait_ns``."""
    ev(w, e).handled = 1
    if ev(w, e).tap != LAID:
        measures.wait_seen(w, u, wait_ns, ev(w, e).items)
        measures.latency_seen(w, u, clock(w).now - ev(w, e).at, ev(w, e).items)
    ends(w, e, u, OK)


@hot
def client_pauses(w, e, refused):
    """If a closed-loop client asked, it pauses and asks again (a refused one pauses at least what its demand says, else 1 ms)."""
    tap = ev(w, e).tap
    if tap < 0 or tp(w, tap).clients == 0:
        return
    t = tp(w, tap)
    think = draw(w, t.rng + 2, t.think_kind, t.think_scale, t.think_sigma, t.think_from, t.think_n)
    pause = whole(think)
    if refused:
        pause = max(pause, t.refused_pause)
    put(w, clock(w).now + pause, ARRIVE, tap, K_CLIENT, tap)


@kernel
def given_up(w, e, u, g):
    """A pushed or stream event is given up: to the trigger's dead letter, else lost."""
    if tr(w, g).dead_letter >= 0:
        rooms.expect(w, tr(w, g).dead_letter, ev(w, e).payload)
        tr(w, g).letters += 1
        ends(w, e, u, DEAD)
    else:
        ends(w, e, u, LOST)
