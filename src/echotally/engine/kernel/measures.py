"""Running statistics: time-weighted levels, quantile sketches, hourly series. Never a list of events."""

from __future__ import annotations

import numpy as np

from echotally.engine.kernel.access import (
    ac,
    ca,
    clock,
    diary,
    ev,
    fn,
    h_conc,
    h_inst,
    h_lag,
    h_late,
    h_wait,
    highest_bit,
    ls,
    pa,
    series,
    so,
    tr,
    trail,
)
from echotally.engine.kernel.compiled import hot, kernel
from echotally.engine.records import (
    LEVEL_BINS,
    NEVER,
    OFFSET_BITS,
    QUEUE,
    STREAM,
    THROTTLED,
    WAIT_BINS,
    WIDE_BITS,
    WIDE_LOW,
)

_EXACT_LEVELS = 2_048


@hot
def sketch_bin(value):
    """The bin of a value >= 0: exact below 128, then 128 bins an octave (middle within 0.4 %)."""
    if value < 128:
        return value
    octave = highest_bit(value) - 7
    return min((octave + 1) * 128 + (value >> octave) - 128, WAIT_BINS - 1)


@hot
def level_bin(level):
    """The bin of a level: exact below 2,048, then as ``sketch_bin``."""
    if level < _EXACT_LEVELS:
        return level
    return min(_EXACT_LEVELS + sketch_bin(level) - sketch_bin(np.int64(_EXACT_LEVELS)), LEVEL_BINS - 1)


@hot
def in_flight_changes(w, u, by):
    """A call starts (+1) or ends (-1): weigh the level that was, for the unit and the whole estate."""
    ck, f, a = clock(w), fn(w, u), ac(w, fn(w, u).account)
    now = ck.now
    if now > f.conc_since:
        h_conc(w, u * LEVEL_BINS + level_bin(f.in_flight)).v += now - f.conc_since
        f.conc_since = now
    if now > ck.since:
        h_conc(w, ck.units * LEVEL_BINS + level_bin(ck.in_flight)).v += now - ck.since
        ck.since = now
    f.in_flight += by
    ck.in_flight += by
    a.in_flight += by
    if by > 0:
        f.conc_peak = max(f.conc_peak, f.in_flight)
        ck.peak = max(ck.peak, ck.in_flight)
        series(w, (u * clock(w).hours + ck.hour) * 6 + 2).v = max(
            series(w, (u * clock(w).hours + ck.hour) * 6 + 2).v, np.float64(f.in_flight)
        )


@kernel
def instances_change(w, u, by):
    """An instance comes (+1) or goes (-1)."""
    ck, f = clock(w), fn(w, u)
    now = ck.now
    if now > f.inst_since:
        h_inst(w, u * LEVEL_BINS + level_bin(f.count)).v += now - f.inst_since
        if f.shown_limit >= 0 and f.count >= f.shown_limit:
            f.at_limit_ns += now - f.inst_since
        f.inst_since = now
    f.count += by
    if by != 0 and ck.trail_n < w.n_trail:
        step = trail(w, ck.trail_n)
        step.at = now
        step.unit = u
        step.count = f.count
        step.ready = 0
        ck.trail_n += 1
    if by > 0:
        f.inst_peak = max(f.inst_peak, f.count)
        series(w, (u * clock(w).hours + ck.hour) * 6 + 3).v = max(
            series(w, (u * clock(w).hours + ck.hour) * 6 + 3).v, np.float64(f.count)
        )


@kernel
def became_ready(w, u):
    """An instance has started: noted in the trail, where one is kept."""
    ck = clock(w)
    if ck.trail_n < w.n_trail:
        step = trail(w, ck.trail_n)
        step.at = ck.now
        step.unit = u
        step.count = fn(w, u).count
        step.ready = 1
        ck.trail_n += 1


@hot
def busy_changes(w, u, by):
    """An instance gets its first call (+1) or ends its last (-1): floor time without a call is integrated."""
    f = fn(w, u)
    now = clock(w).now
    idle, lasted = max(0, f.floor - f.busy_n), now - f.floor_since
    low = idle * (lasted & WIDE_LOW)
    f.idle_floor_ns += low & WIDE_LOW
    f.idle_floor_hi += idle * (lasted >> WIDE_BITS) + (low >> WIDE_BITS)
    f.floor_since = now
    f.busy_n += by


@hot
def wait_seen(w, u, wait_ns, n):
    """The wait of ``n`` events of one firing or of one event, arrival to the start of its successful run."""
    _sketched(w, h_wait, u, wait_ns, n)
    fn(w, u).wait_max = max(fn(w, u).wait_max, wait_ns)


@kernel
def latency_seen(w, u, late_ns, n):
    """The latency of ``n`` events, arrival to the end of the run: of what was handled, and of requests answered by an error."""
    _sketched(w, h_late, u, late_ns, n)
    fn(w, u).late_max = max(fn(w, u).late_max, late_ns)


@hot
def _sketched(w, sketch, u, ns, n):
    b = sketch_bin(ns)
    place = u * 2 * WAIT_BINS + b
    # The second row sums how far into their bin the waits are, in 2^24ths of a wide bin, so that the sums of
    # billions of long waits stay inside an int64.
    into = ns - _bin_start(b)
    coarse = b // 128 - 1 - OFFSET_BITS
    if coarse > 0:
        into >>= coarse
    sketch(w, place).v += n
    sketch(w, place + WAIT_BINS).v += into * n


@hot
def backlog_seen(w, u):
    """Events waiting, looked at after the arrivals of an instant."""
    f, ck = fn(w, u), clock(w)
    if f.waiting > 0:
        f.backlog_peak = max(f.backlog_peak, f.waiting)
        series(w, (u * clock(w).hours + ck.hour) * 6 + 4).v = max(
            series(w, (u * clock(w).hours + ck.hour) * 6 + 4).v, np.float64(f.waiting)
        )


@kernel
def oldest_waiting(w, u):
    """Arrival time of the oldest event waiting for a unit; NEVER if none."""
    f = fn(w, u)
    oldest = NEVER
    for lst in (f.lists, f.lists + 1):
        if ls(w, lst).head >= 0:
            oldest = min(oldest, ca(w, ls(w, lst).head).arrived)
    g = f.first_trigger
    while g >= 0:
        s = so(w, tr(w, g).source)
        if s.kind == QUEUE and ls(w, s.lists + 1).head >= 0:
            oldest = min(oldest, ev(w, ls(w, s.lists + 1).head).at)
        elif s.kind == STREAM:
            # Partitions whose batch is still filling are in no list.
            for p in range(tr(w, g).first_part, tr(w, g).first_part + tr(w, g).part_n):
                if pa(w, p).waiting > 0:
                    oldest = min(oldest, ev(w, pa(w, p).first).at)
        g = tr(w, g).after
    return oldest


@kernel
def hour_turns(w):
    """Carry the levels into the next hour of the series and note the age of the oldest event waiting."""
    ck = clock(w)
    last = ck.hour
    ck.hour = min(last + 1, clock(w).hours - 1)
    for u in range(ck.units):
        f = fn(w, u)
        oldest = oldest_waiting(w, u)
        series(w, (u * clock(w).hours + last) * 6 + 5).v = (ck.now - oldest) * 1e-9 if oldest < NEVER else 0.0
        series(w, (u * clock(w).hours + ck.hour) * 6 + 2).v = f.in_flight
        series(w, (u * clock(w).hours + ck.hour) * 6 + 3).v = f.count
        series(w, (u * clock(w).hours + ck.hour) * 6 + 4).v = f.waiting


@kernel
def _rising(w, u, low, high):
    """Lag rose from ``low`` to ``high`` at one ns a ns: spread that time over the bins it passed."""
    first, last = sketch_bin(low), sketch_bin(high)
    if first == last:
        h_lag(w, (2 * u + 0) * WAIT_BINS + first).v += high - low
        return
    h_lag(w, (2 * u + 0) * WAIT_BINS + first).v += _bin_start(first + 1) - low
    h_lag(w, (2 * u + 0) * WAIT_BINS + last).v += high - _bin_start(last)
    h_lag(w, (2 * u + 1) * WAIT_BINS + first + 1).v += 1
    h_lag(w, (2 * u + 1) * WAIT_BINS + last).v -= 1


@kernel
def _bin_start(b):
    if b < 256:
        return b
    octave = b // 128 - 1
    return (np.int64(128) + b % 128) << octave


@kernel
def lag_changes(w, u, oldest):
    """The oldest unhandled record of a unit's streams is now one that arrived at ``oldest`` (NEVER: none)."""
    f, now = fn(w, u), clock(w).now
    if f.lag_oldest >= NEVER:
        f.lag_zero += now - f.lag_since
    elif now > f.lag_since:
        _rising(w, u, f.lag_since - f.lag_oldest, now - f.lag_oldest)
    if f.lag_oldest < NEVER:
        f.lag_max = max(f.lag_max, now - f.lag_oldest)
    f.lag_since = now
    f.lag_oldest = oldest


@kernel
def lag_looked_at(w, u):
    """Find the oldest unhandled record over the unit's partitions and note the change, if any."""
    f = fn(w, u)
    oldest = NEVER
    g = f.first_trigger
    while g >= 0:
        if so(w, tr(w, g).source).kind == STREAM:
            for p in range(tr(w, g).first_part, tr(w, g).first_part + tr(w, g).part_n):
                head = ls(w, pa(w, p).list).head
                if head >= 0:
                    oldest = min(oldest, ev(w, head).at)
        g = tr(w, g).after
    if oldest != f.lag_oldest:
        lag_changes(w, u, oldest)


@kernel
def noted(w, c, items, run_at, outcome):
    """Write an attempt that is over into the diary, while there is room; most runs keep none."""
    ck, call = clock(w), ca(w, c)
    if ck.diary_n >= w.n_diary:
        return
    line = diary(w, ck.diary_n)
    line.unit = call.unit
    line.number = call.number
    line.items = items
    line.at = ck.now if outcome == THROTTLED else call.started
    line.run_at = run_at
    line.ended = ck.now
    line.cold_ns = call.cold_ns if outcome != THROTTLED else 0
    line.outcome = outcome
    ck.diary_n += 1
