"""The record of which a world has one: where its month stands, its pools, and what goes on at this instant."""

from __future__ import annotations


class Clock:
    """The one clock, and the heads of every pool of free records."""

    now: int  # this instant
    horizon: int  # the month's end
    until: int  # where playing pauses; NEVER: at the month's end
    lay_kind: int  # what ``lay`` fills: LAY_QUEUE, LAY_PARTITION, LAY_LINE
    lay_ref: int  # which queue, partition or trigger
    lay_tap: int  # the tap whose sizes laid events have, -1: none
    lay_edge: int  # the edge whose sizes they have, -1: none
    lay_payload: int  # their size where neither is given, bytes
    lay_stream: int  # the random stream an edge's sizes come from
    number: int  # the next event's number; ties within a step go by it
    looked_n: int  # instances that looks of polled scaling have made
    made_n: int  # instances that were made, whoever made them
    marked_n: int  # units and crowds that may have something to start at this instant
    lined_n: int  # of these, those that were looked at: they stand in a heap, in front of the others
    line_up: int  # YES: one of those in the heap may start something sooner than it says, so all are looked at anew
    entries_n: int  # entries of the calendar
    row: int  # how many of them may stand in a row, 0: they are a heap (``kernel.calendar``)
    beside: int  # the tap whose next event stands beside the calendar (``kernel.beside``), -1: none
    beside_at: int  # when that comes, NEVER: none does
    behind: int  # another one, whose next event comes no sooner
    behind_at: int  # when that comes
    near_until: int  # entries from here on are put aside, BEYOND: none are
    aside_n: int  # entries put aside
    free_aside: int  # first of the free places for them
    bits: int  # stretches of time in which entries are put aside are 2^so many ns long
    stretch: int  # the one of them that comes next
    walked: int  # how many of them have begun since their length was looked at
    came_near: int  # and how many entries they held
    free_event: int  # first of the free events, and how many
    events_left: int  # how many are left
    free_call: int  # the same of calls
    calls_left: int  # how many are left
    free_cargo: int  # the same of cargo links
    cargo_left: int  # how many are left
    free_instance: int  # the same of instances
    instances_left: int  # how many are left
    expected_first: int  # ring of events put out at this instant: its first place, and how many
    expected_n: int  # how many stand in it
    in_flight: int  # calls in flight over the whole estate
    level_peak: int  # most of them so far
    level_since: int  # since when this level holds
    hour: int  # the hour of the series
    hours: int  # how many there are
    hour_ns: int  # how long one is
    units: int  # how many units there are
    margin: int  # most records of a kind one step can take: a pool with fewer is grown first
    sure: int  # steps for which no pool can have fewer: it need not be looked at before them
    lean: int  # YES: only quantities are asked for: no sketches of waits, latencies, charges and levels are kept
    seen_n: int  # what is still to be put into the sketches of waits (``kernel.waits``)
    steps: int  # calendar entries played
    last: int  # how many there may be before playing pauses
    arrived: int  # events that came, and that ended
    ended: int  # events that ended: at the end as many as arrived
    trail_n: int  # lines of the trail
    diary_n: int  # lines of the diary
    noted: int  # attempts noted in the diary so far, those of earlier chunks too
    carried_n: int  # lines of what attempts carried
    born_n: int  # lines of where events came from
    keeps_diary: (
        int  # YES: the diary and its like must not run over (``diary.full``); TROUBLED: nor hold what went well
    )
    moments_n: int  # lines of what became of events
    refusals_n: int  # lines of calls that found no room
    rounds_n: int  # lines of whose requests were asked
    outside: int  # events that came from outside so far, a topic's once
    tap: int  # the tap of the one that arrives now, where that is kept
    emitter: int  # the noted attempt whose output is put out now, -1: none
    origin: int  # the one that put out what arrives now, -1: it comes from outside
    put_out: int  # events put out so far
    sent: int  # which of them arrives now: the copies a topic makes of one are told by it
    whose: int  # the event it is put out for, by its place among those its attempt handled
    keeps_log: int  # what is written into the log: NO_LOG, STARTS_ONLY or WHOLE_LOG
    log_n: int  # lines of the log
    short: int  # YES: a start token was missing once
    instant: int  # YES: a run took no time once
    turn: int  # the next of what the clock brings (``World.turns``)
    askings: int  # rounds of requests that calls have sent so far
    asker: int  # the call that asks for what arrives now, -1: nobody
    asking: int  # and the round of its requests
