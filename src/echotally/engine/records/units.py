"""Records of who runs: units, the accounts that pay for them, and crowds of units that wait for the same."""

from __future__ import annotations

from echotally.engine.records.numbers import Small


class Unit:
    """One function in one environment, on its plan.

    Fields stand by who touches them, since memory comes near in lines of 64 bytes: the end of a run of one function among a thousand
    touches six of them here, and fourteen where they stand by what they mean.
    """

    # What nearly every attempt touches, as it starts and as it ends.
    account: Small  # the account it shares room with
    plan_kind: Small  # PER_CALL, POLLED or RESERVED
    bills: Small  # RUNS, ACTIVE, ALLOCATED, BY_THE_MONTH or NODES
    lists: Small  # first of its lists (L_LINE ...)
    random: Small  # first of its random streams (RUN_STREAM ...)
    condition: Small  # what incidents make of its runs now (``World.conditions``), -1: nothing
    marked: Small  # YES: it stands among the marked ones
    full: Small  # YES: a sampled month keeps its line of calls full
    waiting: int  # events waiting, over all its triggers
    in_flight: int  # calls in flight
    in_flight_events: int  # events in them
    level_since: int  # since when this number of calls is in flight
    busy_count: int  # instances with a call
    floor: int  # fewest instances, now
    floor_since: int  # since when ``busy_count`` holds
    at_once: int  # events that did not wait, and are not yet in the sketch of waits
    count: int  # instances there are, starting and drained ones included
    idle_timer: int  # when idle instances are looked at, NEVER: not
    # What it touches as it starts.
    first_trigger: Small  # its triggers, linked by ``Trigger.after``
    same_run: Small  # YES: the run time belongs to the oldest event, and not to the attempt
    covers_cold: Small  # YES: the timeout clock starts with the cold start
    cold_billed: Small  # YES: cold starts are billed
    run_kind: Small  # spread of the run time (``model.spread``): its kind
    run_from: Small  # its first sample
    run_n: Small  # how many samples it has; of a mixture its portions
    eager: Small  # YES: readers take batches whether or not there is room
    slots: int  # calls one instance serves at once
    timeout: int  # longest run, ns
    run_scale: float  # scale of the run time, ns
    run_sigma: float  # standard deviation of its logarithm
    per_item: int  # run time for each event, ns
    per_mb: float  # run time for each MB of payload, ns
    cpu_factor: float  # how much longer a run is on this memory (rule 3.1)
    cpu_load: float  # vCPUs a call keeps busy, s(m) x v(m) of rule 3.2
    cpu_cap: float  # vCPUs of an instance
    attempts: int  # attempts: those that started, and those that found no room
    calls: int  # calls started at least once
    started: int  # attempts that started
    started_items: int  # events of the attempts that started
    level_peak: int  # most calls in flight
    backlog_peak: int  # most events waiting
    longest_run: int  # longest run drawn, ns
    payload_limit: int  # largest event and batch, bytes, -1: none
    # What it touches as it ends. A wide sum (see ``layout.WIDE``) has two words, the upper one in 2^26 ns.
    first_emit: Small  # its emits among the edges
    emit_n: Small  # how many of them
    first_ask: Small  # what its calls ask, among the edges
    ask_n: Small  # how many of them
    round_ns: int  # billed time is rounded up to this, ns
    least_ns: int  # billed time is at least this, ns
    busy_ns: int  # time with runs
    busy_hi: int  # its upper word
    billed_ns: int  # billed time after rounding
    billed_hi: int  # its upper word
    warming_ns: int  # billed cold-start time of attempts, not rounded
    warming_hi: int  # its upper word
    error_rate: float  # share of runs that fail
    poison_rate: float  # share of events that fail every time
    succeeded: int  # attempts that succeeded
    served: int  # events that its runs handled, each time
    handled: int  # events that were handled for good
    latency_max: int  # longest latency, ns
    wait_max: int  # longest wait, ns
    # Of requests.
    requests: int  # requests asked, each try counted
    replies: int  # requests answered
    wait_limit: int  # how long a request waits for room, ns
    errored: int  # requests answered by an error
    rejected: int  # requests given up by their client
    cut_requests: int  # errored ones whose run was ended by the timeout
    # What changes as instances come and go.
    drained: int  # instances of an old release, which take no further calls
    keep_alive: int  # how long an idle instance stays, ns
    limit: int  # most instances
    shown_limit: int  # the limit as it is told, for ``at_limit_ns``, -1: none
    count_since: int  # since when there are so many instances
    count_peak: int  # most instances
    at_limit_ns: int  # time with as many instances as the limit allows
    cold_kind: Small  # spread of the cold start: its kind
    cold_from: Small  # its first sample
    cold_n: Small  # how many samples it has
    token_scope: Small  # YES: the account's bucket is used
    cold_scale: float  # scale of the cold start, ns
    cold_sigma: float  # standard deviation of its logarithm
    cold_factor: float  # the plan's factor on cold starts
    cold_starts: int  # instances started cold
    cold_calls: int  # attempts that waited for an instance to start
    token_cost: int  # 0: starts need no token
    burst_units: int  # a full bucket of start tokens, in units of which a token costs ``token_cost``
    ramp_units: int  # units refilled each ns
    token_level: int  # units in the bucket
    token_at: int  # when that was
    life_ns: int  # lives of instances, rounded where they are billed
    life_hi: int  # its upper word
    # Attempts that came to nothing new, and their times: wide sums as well.
    failed: int  # attempts that ran and failed
    timed_out: int  # attempts that the timeout ended
    throttled: int  # attempts that found no room
    again: int  # attempts whose every event had been handled before, whatever they came to
    again_failed: int  # those among them that failed
    again_cut: int  # those among them that the timeout ended
    failed_ns: int  # time of those that failed: billed time less its cold start, or time with runs (see ``charge``)
    failed_hi: int  # its upper word
    cut_ns: int  # time of those that the timeout ended
    cut_hi: int  # its upper word
    again_ns: int  # time of all of these
    again_hi: int  # its upper word
    running_ns: (
        int  # time of those that still ran at the month's end; the rest of all is the time of those that went well
    )
    running_hi: int  # its upper word
    # Where its events were lost or left.
    lost: int  # events given up without a dead letter
    dead_lettered: int  # events given up to a dead letter
    expired: int  # events that outlived the retention
    too_large: int  # events above the payload limit
    skipped: int  # events of firings skipped
    unfinished: int  # events still there at the month's end
    flying: int  # unfinished ones of which a run was in flight then
    duplicates: int  # events handled again
    # Floor instances, another wide sum.
    idle_floor_ns: int  # time of floor instances without a call
    idle_floor_hi: int  # its upper word
    # Looks of polled scaling.
    look_every: int  # polled scaling: ns between two looks
    look_step: int  # most instances a look adds
    look_first: int  # the same of a look that finds none
    look_per: int  # events an instance is wanted for
    window_at: int  # first of its places in ``World.window``: what looks of the keep-alive wanted
    window_n: int  # looks so far
    window_size: int  # looks the window holds
    window_top: int  # the most that a look of the window wanted
    window_top_at: int  # and which look that was
    look_armed: int  # YES: the next look stands in the calendar
    next_look: int  # when it is
    look_rests: int  # YES: looks see nothing and change nothing before the window's highest leaves it
    look_timer: int  # when that is looked at, NEVER: not yet
    last_look: int  # when the last look was
    target: int  # instances polled scaling shrinks to
    refused_since: int  # calls refused since the last look
    fill: int  # polled: instances there were as a release came, which it is to come back to
    filling: int  # YES: an entry to start what is missing stands in the calendar
    # Lag of its streams.
    stream_n: int  # triggers on streams
    lag_since: int  # since when ``lag_oldest`` holds
    lag_oldest: int  # arrival of the oldest unhandled record, NEVER: none
    lag_max: int  # longest lag, ns
    lag_zero: int  # time without an unhandled record
    # The rest.
    memory: int  # MB of an instance, as the plan sells it
    first_wait: int  # first wait of a throttled pushed call, ns
    longest_wait: int  # it doubles up to this, ns
    give_up: int  # until this long after the event, ns
    waits: int  # first of the lists of calls that were sent away, one for each length of wait (``kernel.again``), -1: it has none
    retry_from: int  # first of its waits after failed runs in ``World.pauses``
    retry_n: int  # how many there are
    crowd: int  # those it waits with where what they share is full (``World.crowds``)
    crowd_at: int  # its place there, -1: it does not wait for that
    memory_cost: int  # reserved: memory of a call, in millionths of a MB
    token_timer: int  # when a token is looked for next
    vcpu: float  # vCPUs an instance asks of a node


class Account:
    """One account on one plan: what its units share."""

    limit: int  # most calls in flight, -1: no limit
    in_flight: int  # calls in flight
    blocked: int  # YES: somebody found no room for lack of what is shared
    no_new: int  # YES: no instance may start
    first_unit: int  # its units, and how many
    unit_n: int  # how many units
    first_crowd: int  # its crowds, and how many
    crowd_n: int  # how many crowds
    token_level: int  # the shared bucket of start tokens
    token_at: int  # when that was
    rivals: int  # calls that come again at one instant and surely ask for a token each
    rivals_at: int  # that instant
    first_instance: int  # reserved: its instances, and how many
    instance_n: int  # how many instances
    first_node: int  # nodes: its nodes, and how many
    node_n: int  # how many nodes
    nodes_floor: int  # fewest nodes
    node_start: int  # how long one takes to start, ns
    node_keep_alive: int  # how long an empty one stays, ns
    node_memory: int  # MB of a node
    nodes_up: int  # nodes there are
    node_hours_ns: int  # time they were up, a wide sum
    node_hours_hi: int  # its upper word
    cpu_cap: float  # reserved: vCPUs of an instance that others leave
    node_vcpu: float  # vCPUs of a node


class Crowd:
    """Units of an account that need the same of what they share: where it is full for one of them, it is for all."""

    first: int  # where its members stand in ``World.crowded``, a heap
    n: int  # how many wait now
    marked: int  # YES: it stands among the marked ones
    warm: int  # YES: one of them may have an instance, and wait for the account alone
