"""Records of what comes and goes: instances, calls, events, what they hold, and what is due."""

from __future__ import annotations

from echotally.engine.records.numbers import Small


class Instance:
    """One running copy of a function, or a reserved instance of all."""

    # What every call touches stands together, in one cache line.
    calls: int  # calls in it
    quiet: int  # of these, calls that do no CPU work: they hang, or wait for answers
    drained: int  # YES: of an old release; it takes no further calls
    active_since: int  # since when it has a call, -1: none
    listed: int  # the list it stands in, 0: none
    released: int  # when a call last ended
    prev: int  # neighbours in its list, or the next free one
    next: int  # the one behind
    unit: int  # -1: reserved, for all units of its account
    account: int  # the account that pays for it
    node: int  # the node it is on, -1: none
    key: int  # starting: the number of its entry in the calendar
    ready: int  # when it is or was ready
    created: int  # when it was started
    first_waiting: int  # the first call that waits out its cold start, -1: none
    state: int  # ABSENT, STARTING, READY
    memory_free: int  # reserved: memory left, in millionths of a MB
    cold_ns: int  # its cold start, without the node's
    number: int  # starting: when ready, by which they stand in line
    made: int  # its place among all that were made, which decides between those ready at one instant
    load: float  # reserved: vCPUs its calls keep busy


class Node:
    """A machine that holds instances."""

    memory: int  # MB left
    ready: int  # when it is up
    up: int  # YES: there
    since: int  # since when its time is not yet counted
    idle_since: int  # since when nothing is on it
    instances: int  # instances on it
    account: int  # the account that pays for it
    vcpu: float  # vCPUs left


class Call:
    """One event or batch handed to a function, over all its attempts."""

    # What every call needs stands together: a call's first two cache lines.
    state: Small  # FREE, WAITING, FRESH, BACKOFF, COLD, RUNNING, ASKING, ANSWERED
    trigger: Small  # the trigger it came by
    number: int  # its oldest event's number
    instance: Small  # the instance it runs in, -1: none
    timed_out: Small  # YES: by the timeout
    started: int  # when this attempt started
    payload: int  # bytes
    next: Small  # the one behind
    tap: Small  # where the event of a call without one came from (``kernel.short_way``), -1: it has events
    unit: Small  # the unit that handles it
    events: Small  # events in it
    items: int  # the same, a firing counted by its items
    run_at: int  # when its run began, NEVER: not yet
    ends: int  # when its run ends; asking: when its timeout ends it; sent away: when it comes again
    head: Small  # its cargo, first and last link
    tail: Small  # last link
    condition: Small  # what incidents made of its run as it began, -1: nothing
    quiet: Small  # YES: it does no CPU work
    decided: Small  # YES: what failed is known already, since its own run is over
    failed: Small  # and YES: all of it
    asking: int  # the round of requests it waits for, 0: none
    asks: Small  # which of its unit's asks that is
    open: Small  # answers that are still to come
    cold_ns: int  # cold start this attempt waited out
    charged: int  # time this attempt is charged for, ns (``starting.charge``)
    tries: Small  # failed runs so far
    prev: Small  # neighbours in its line, or the next free one
    wait: int  # pushed: the last wait, ns; requests: asks whose wait limit is to come
    list: Small  # the line it stands in
    counted: Small  # YES: counted in ``Unit.calls``
    arrived: int  # arrival of its oldest event; of a batch, when it was taken
    timer: int  # when its oldest record expires
    partition: Small  # -1: not of a stream


class Event:
    """One event at one source (a stream's: a copy for each trigger)."""

    number: int  # the order in which events came
    at: int  # when it came
    seen: int  # when it became visible
    due: int  # when a delay or its visibility is over
    payload: int  # bytes
    items: int  # events it stands for
    prev: Small  # neighbours in its list, or the next free one
    next: Small  # the one behind
    state: Small  # GONE, DELAYED, VISIBLE, INVISIBLE, CARRIED
    refs: Small  # cargo links to it: a gone event is freed with the last
    trigger: Small  # the one that has it or had it last, -1: none
    tap: Small  # where it came from, -1: inside, LAID: a sampled month
    at_source: Small  # the source it waits at
    receipts: Small  # how often it was received
    handled: Small  # YES: handled successfully
    hold: Small  # YES: its batch keeps its place in strict order; IN_FLIGHT at the month's end
    tries: Small  # requests: refused tries
    asker: Small  # the call that asked, -1: none
    asking: int  # and the round of its requests


class Cargo:
    """A link of a call's list of events."""

    event: Small  # the event it holds
    failed: Small  # YES: it is decided that the event failed
    next: Small  # the next link, or the next free one


class Entry:
    """A coming happening in the calendar."""

    at: int  # when it happens
    key: int  # step and number, see ``kernel.calendar``
    what: int  # reference and kind


class Aside:
    """An entry of the calendar that is due so late that it stands in no heap yet."""

    at: int  # when it happens
    key: int  # step and number, see ``kernel.calendar``
    what: int  # reference and kind
    next: int  # the next of its stretch, or of the free ones


class Lined:
    """Somebody who has something to start: a unit, or a crowd with its first member; ordered by what comes first (``kernel.heaps``)."""

    who: int  # the unit; -1 - its place: a crowd
    number: int  # the oldest event's number
    tie: int  # batches in flight, where others have the same event before them
    which: int  # the call, the trigger or the partition it would start
    line: int  # and which of these it is (``kernel.candidates``)


class Expected:
    """An event put out at this instant, on its way to a source."""

    source: int  # the source it arrives at
    payload: int  # bytes
    asker: int  # the call that asks, -1: nobody
    asking: int  # and the round of its requests
    origin: int  # the noted attempt that put it out, -1: none
    sent: int  # its number among all that were put out
    whose: int  # the event it is for, by its place among those its attempt handled
