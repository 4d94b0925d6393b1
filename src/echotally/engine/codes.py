"""The small whole numbers that kernels and Python hand each other: steps of an instant, kinds, states, answers.

Each is an ``np.int64`` and not a literal, so that Numba compiles one version of a kernel and not one a value.
"""

from __future__ import annotations

import numpy as np


def _code(number: int) -> int:
    """A 64-bit number, which to the type checker is an ``int`` like every field of a record."""
    return np.int64(number)  # type: ignore[return-value]


#: Later than any month, and no time at all: 2^62 ns are 146 years.
NEVER = _code(2**62)
#: Later than any entry of the calendar: where none is.
BEYOND = _code(2**63 - 1)
#: Truth, nothing, no record; a level that rises or falls by one.
NO, YES, ZERO, NONE = map(_code, (0, 1, 0, -1))
UP, DOWN = map(_code, (1, -1))

# Order of what happens at one instant (rule 1.3). Starting what can start stands between ARRIVE and REFUSE.
TICK, END, DUE, EXPIRE, ARRIVE, WAKE, REFUSE, LOOK, IDLE = map(_code, range(9))
#: After all of an instant.
LATER = _code(9)

# What a calendar entry is about: K_RUN_END is a run that ends, K_READY an instance that has started, and so on.
(
    K_TICK,
    K_RUN_END,
    K_READY,
    K_DELAY_OVER,
    K_VISIBLE,
    K_RETRY,
    K_AGAIN,
    K_READER,
    K_EXPIRE_QUEUE,
    K_EXPIRE_PARTITION,
    K_TAP,
    K_CLIENT,
    K_WAKE,
    K_WAKE_PART,
    K_REFUSE,
    K_LOOK,
    K_IDLE,
    K_NODE_IDLE,
    K_EXPIRE_BATCH,
    K_TURN,
    K_FILL,
    K_ANSWERED,
    K_ASKED_LONG,
    K_COLD_LONG,
    K_SHORT_END,
) = map(_code, range(25))
# What the clock brings (``records.Turn``): another condition of runs, floor, release, account's limit, whether instances may start.
T_RUNS, T_FLOOR, T_RELEASE, T_LIMIT, T_GROWTH = map(_code, range(5))

# Kinds of source, in the order of ``model.sources.KINDS``.
SCHEDULE, QUEUE, TOPIC, STREAM, ENDPOINT, FOLDER = map(_code, range(6))
# How a plan gives room: an instance a call, looks now and then, instances by the month.
PER_CALL, POLLED, RESERVED = map(_code, range(3))
# What a plan bills of time, in the order of ``rates.card.BILLS``.
RUNS, ACTIVE, ALLOCATED, BY_THE_MONTH, NODES = map(_code, range(5))

# States of a call, those in flight from COLD on.
FREE, WAITING, FRESH, BACKOFF, COLD, RUNNING, ASKING, ANSWERED = map(_code, range(8))
#: In place of an instance: none of the unit's can take the call; what it shares is full; a new one is to be started.
NO_ROOM, ALL_TAKEN, NEW_INSTANCE = map(_code, (-1, -2, -3))
# States of an instance.
ABSENT, STARTING, READY = map(_code, range(3))
# How an attempt ended, in the diary.
SUCCEEDED, FAILED, TIMED_OUT, THROTTLED, STILL_RUNNING = map(_code, range(5))
# States of an event.
GONE, DELAYED, VISIBLE, INVISIBLE, CARRIED = map(_code, range(5))
# How an event ends (rule 4.9: the sums that must hold).
HANDLED, ERRORED, REJECTED, LOST, DEAD_LETTERED, EXPIRED, TOO_LARGE, SKIPPED, UNFINISHED = map(_code, range(9))
#: In place of YES: a diary keeps attempts that were throttled or waited for a cold start, and what the throttled held.
TROUBLED = _code(2)
#: What else the diary tells of an event: it will be tried again, readers see it again.
COMES_BACK, SEEN_AGAIN = map(_code, (9, 10))
#: Why a call found no room: calls of the account, instances of the function, scaling that has not looked yet, an incident, nodes,
#: start tokens, memory of reserved instances.
AT_ACCOUNT, AT_INSTANCES, UNTIL_A_LOOK, NO_GROWTH, NO_NODE, NO_TOKEN, NO_MEMORY = map(_code, range(7))
#: In place of an event's ``hold`` at the month's end: a run of it is in flight.
IN_FLIGHT = _code(2)

# Random streams of a unit, from its ``random`` on: one for each purpose, so that no draw moves another's.
RUN_STREAM, COLD_STREAM, ERROR_STREAM, EMIT_STREAM, POISON_STREAM, EMITTED_STREAM = map(_code, range(6))
# ... its lots of requests, their sizes; where runs belong to events, what kind of run and how long.
ASK_STREAM, ASKED_STREAM, KIND_STREAM, SAME_STREAM = map(_code, range(6, 10))
# Random streams of a condition: runs drawn anew; where they belong to events, what kind and how long.
OTHER_STREAM, OTHER_KIND_STREAM, OTHER_SAME_STREAM = map(_code, range(3))
# Random streams of a tap: its arrivals, their sizes, the pauses of its clients.
ARRIVAL_STREAM, PAYLOAD_STREAM, THINK_STREAM = map(_code, range(3))

#: In place of a tap: an event laid into a lane that a sampled month keeps full (``engine.sampling``).
LAID = _code(-2)
# What ``lay`` fills: a queue, a partition, the line of a trigger whose calls wait.
LAY_QUEUE, LAY_PARTITION, LAY_LINE = map(_code, range(3))

# What Python asks of the kernels (``kernel.loop.simulation``), and what playing comes back with.
BEGIN, BACKLOG, PLAY, FLUSH, FINISH, LAY, COUNT = map(_code, range(7))
DONE, PAUSED, MORE_ROOM, REACHED = map(_code, range(4))

# Kinds of tap: a rate, exact counts in stretches (firings too), closed-loop clients; how events spread.
TAP_RATE, TAP_COUNTED, TAP_CLIENTS = map(_code, range(3))
POISSON, EVEN, BURSTY = map(_code, range(3))

# Lists of a source, and lists of a unit: offsets from their ``lists``.
L_DELAYED, L_VISIBLE, L_INVISIBLE = map(_code, range(3))
L_LINE, L_FRESH, L_PARTS, L_FREE, L_STARTING = map(_code, range(5))
#: How many lists each of them has.
SOURCE_LISTS, UNIT_LISTS = 3, 5

# Columns of the hourly series (``layout.SERIES``).
ARRIVALS, THROTTLES, IN_FLIGHT_PEAK, COUNT_PEAK, BACKLOG_PEAK, OLDEST_AGE = map(_code, range(6))
#: Entries of one instant and step go by number: first timers, by what they belong to, then calls, by the number of their oldest
#: event. Events are numbered from here on, so that no timer of a source, unit or partition (from ``OTHERS`` on) comes later,
#: wherever in the estate it stands: an estate in parts gives the same order.
FIRST_NUMBER, OTHERS = map(_code, (2**32, 2**31))
#: What a line of the log tells: a call less in flight, one more, a start token taken. Falls come first at one instant.
FELL, ROSE, TOKEN = map(_code, range(3))
#: What a world's log keeps: nothing, start tokens, everything.
NO_LOG, STARTS_ONLY, WHOLE_LOG = map(_code, range(3))
#: A line of the log is one number: the time, ns, above ``LOG_TIME_SHIFT`` bits; what, above ``LOG_WHAT_SHIFT``; the account.
LOG_TIME_SHIFT, LOG_WHAT_SHIFT = map(_code, (11, 9))
