"""Polled scaling: looks at what waits every so often, adds by steps, shrinks to what was wanted lately."""

from __future__ import annotations

import numpy as np

from echotally.engine.kernel import instances, lists, nodes, rooms
from echotally.engine.kernel.access import clock, fn, ins, window
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.compiled import kernel
from echotally.engine.records import K_LOOK, L_FREE, LOOK, SAME, UP


@kernel
def look_again(w, u):
    """Arm the next look, a whole number of intervals after the month's start.

    Looks stop while nothing waits or runs and only the floor is there; what they would have seen is
    written into the window when they begin again.
    """
    f, now = fn(w, u), clock(w).now
    coming = (now + f.look_every - 1) // f.look_every * f.look_every
    if coming <= f.last_look:
        coming = f.last_look + f.look_every
    for _ in range(min((coming - f.last_look) // f.look_every - 1, f.window_size)):
        _remember(w, f, f.floor)
    f.look_armed = 1
    put(w, coming, LOOK, u, K_LOOK, u)


@kernel
def look(w, u):
    """Polled scaling looks: add at most ``look_step``, or shrink to the highest wanted of the keep-alive."""
    f = fn(w, u)
    seen = f.waiting + f.in_flight_events + f.refused_since
    f.refused_since = 0
    f.last_look = clock(w).now
    f.look_armed = 0
    wanted = min(max((seen + f.look_per - 1) // f.look_per, f.floor), f.limit)
    _remember(w, f, wanted)
    if wanted > f.count:
        for _ in range(min(wanted - f.count, f.look_step)):
            if not nodes.fits(w, u):
                break
            instances.new_instance(w, u, SAME, UP)
        f.target = f.count
        rooms.mark(w, u)
    elif wanted < f.count:
        _shrink(w, u)
    else:
        f.target = max(f.target, wanted)
    if seen > 0 or f.count > f.floor:
        look_again(w, u)


@kernel
def _remember(w, f, wanted):
    """Write down what a look wanted, and whether it is the most of the window."""
    window(w, f.window_at + f.window_n % f.window_size).v = wanted
    if f.window_n == 0 or wanted >= f.window_top:
        f.window_top = wanted
        f.window_top_at = f.window_n
    f.window_n += 1


@kernel
def _highest_wanted(w, f):
    """The most that a look of the keep-alive wanted. Looked for anew only when the last one has left the window,
    from the newest look back, so that of equals the one is found that stays longest: a window may hold a million looks."""
    if f.window_n - f.window_top_at > f.window_size:
        f.window_top = np.int64(-1)
        for k in range(1, f.window_size + 1):
            seen = window(w, f.window_at + (f.window_n - k) % f.window_size).v
            if seen > f.window_top:
                f.window_top = seen
                f.window_top_at = f.window_n - k
    return f.window_top


@kernel
def _shrink(w, u):
    f = fn(w, u)
    f.target = max(_highest_wanted(w, f), f.floor)
    i = instances.oldest_idle(w, u)
    while i >= 0 and f.count > f.target:
        lists.remove(w, ins, f.lists + L_FREE, i)
        instances.gone(w, i)
        i = instances.oldest_idle(w, u)
