"""Records of what is written down where somebody asks for it: attempts, events, moments, refusals."""

from __future__ import annotations


class Change:
    """A line of the trail: an instance came, went or became ready."""

    at: int  # when it was
    unit: int  # whose instance
    count: int  # instances then
    ready: int  # YES: one became ready


class Attempt:
    """A line of the diary: an attempt that is over."""

    unit: int  # whose attempt
    index: int  # its number in the month's log of attempts
    trigger: int  # the trigger its events came by
    partition: int  # of a stream, the partition, -1: none
    number: int  # its oldest event's
    items: int  # events it holds
    at: int  # when it started, or was throttled
    run_at: int  # when its run began, NEVER: not at all
    ended: int  # when it ended
    cold_ns: int  # cold start it waited out
    charged: int  # time it is charged for: billed, or where attempts are not billed one by one, of its run and billed cold start
    outcome: int  # SUCCEEDED, FAILED, TIMED_OUT, THROTTLED, STILL_RUNNING


class Carried:
    """An event that an attempt held, a line each, where a diary is kept with its cargo."""

    attempt: int  # the attempt, by its place in the whole diary
    number: int  # the event's number
    good: int  # YES: it was handled


class Born:
    """Where an event came from, where a diary is kept with its cargo."""

    number: int  # the event's number, -1: what was put out, of which a topic makes any number of events
    source: int  # where it arrived
    at: int  # when
    origin: int  # the noted attempt that put it out, -1: it comes from outside, or was asked
    asker: int  # the number of the call that asks and waits, -1: nobody
    sent: int  # its number among what was put out: copies of one event share it
    whose: int  # the event it was put out or asked for, by its place among those that were handled or asked
    asking: int  # the round of requests it belongs to, 0: none
    outside: int  # its number among what came from outside, copies share it; -1: put out inside
    tap: int  # the demand or firings it came from, -1: none


class Moment:
    """What became of an event, where that is kept: how it ended, or that it comes back."""

    number: int  # the event's number
    at: int  # when
    what: int  # how it ended (HANDLED ...), COMES_BACK or SEEN_AGAIN
    unit: int  # for whom, -1: nobody reads its source
    source: int  # the source it was at
    came: int  # when it came there
    ref: int  # DEAD_LETTERED: its number among what was put out; COMES_BACK: when


class Refusal:
    """A call that found no room, where that is kept."""

    at: int  # when
    unit: int  # whose call
    why: int  # AT_ACCOUNT, AT_INSTANCES, UNTIL_A_LOOK, NO_GROWTH, NO_NODE, NO_TOKEN, NO_MEMORY
    used: int  # calls in flight, or instances there are
    most: int  # and how many there may be, -1: no limit


class Asked:
    """An event for which a call asked, in the order of their requests."""

    asking: int  # the round of requests
    number: int  # the event's number
