"""Records of what stands all month: units, accounts, sources, lines, conditions, and the numbers kept beside them."""

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
    near_until: int  # entries from here on are put aside, BEYOND: none are
    aside_n: int  # entries put aside
    free_aside: int  # first of the free places for them
    stretch: int  # the stretch of time, of those in which entries are put aside, that comes next
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
    steps: int  # calendar entries played
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


class Unit:
    """One function in one environment, on its plan."""

    account: int  # the account it shares room with
    plan_kind: int  # PER_CALL, POLLED or RESERVED
    bills: int  # RUNS, ACTIVE, ALLOCATED, BY_THE_MONTH or NODES
    limit: int  # most instances
    shown_limit: int  # the same for ``at_limit_ns``, -1: none
    floor: int  # fewest instances, now
    slots: int  # calls one instance serves at once
    memory: int  # MB of an instance, as the plan sells it
    timeout: int  # longest run, ns
    keep_alive: int  # how long an idle instance stays, ns
    cold_billed: int  # YES: cold starts are billed
    round_ns: int  # billed time is rounded up to this, ns
    least_ns: int  # and is at least this, ns
    payload_limit: int  # largest event and batch, bytes, -1: none
    eager: int  # YES: readers take batches whether or not there is room
    wait_limit: int  # how long a request waits for room, ns
    first_wait: int  # first wait of a throttled pushed call, ns
    longest_wait: int  # it doubles up to this, ns
    give_up: int  # until this long after the event, ns
    retry_from: int  # first of its waits after failed runs in ``World.pauses``
    retry_n: int  # how many there are
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
    run_kind: int  # spread of the run time (``model.spread``): its kind,
    run_from: int  # its first sample,
    run_n: int  # and how many it has; of a mixture its portions
    cold_kind: int  # the same of the cold start
    cold_from: int  # its first sample,
    cold_n: int  # and how many it has
    random: int  # first of its random streams (RUN_STREAM ...)
    per_item: int  # run time for each event, ns
    burst_units: int  # a full bucket of start tokens, in units of which a token costs ``token_cost``
    token_cost: int  # 0: starts need no token
    ramp_units: int  # units refilled each ns
    token_level: int  # units in the bucket
    token_at: int  # when that was
    token_scope: int  # YES: the account's bucket is used
    first_trigger: int  # its triggers, linked by ``Trigger.after``
    first_emit: int  # its emits among the edges, and how many
    emit_n: int  # how many emits it has
    first_ask: int  # what its calls ask, among the edges
    ask_n: int  # how many of them
    condition: int  # what incidents make of its runs now (``World.conditions``), -1: nothing
    same_run: int  # YES: the run time belongs to the oldest event, and not to the attempt
    covers_cold: int  # YES: the timeout clock starts with the cold start
    count: int  # instances there are, starting and drained ones included
    drained: int  # instances of an old release, which take no further calls
    fill: int  # polled: instances there were as a release came, which it is to come back to
    filling: int  # YES: an entry to start what is missing stands in the calendar
    lists: int  # first of its lists (L_LINE ...)
    idle_timer: int  # when idle instances are looked at, NEVER: not
    busy_count: int  # instances with a call
    waiting: int  # events waiting, over all its triggers
    refused_since: int  # calls refused since the last look
    marked: int  # YES: it stands among the marked ones
    crowd: int  # those it waits with where what they share is full (``World.crowds``)
    crowd_at: int  # its place there, -1: it does not wait for that
    in_flight: int  # calls in flight
    in_flight_events: int  # events in them
    attempts: int  # attempts, and what they came to
    succeeded: int  # attempts that succeeded
    failed: int  # that ran and failed
    timed_out: int  # that the timeout ended
    throttled: int  # that found no room
    calls: int  # calls started at least once
    started: int  # attempts that started
    cold_starts: int  # instances started cold
    cold_calls: int  # attempts that waited for an instance to start
    started_items: int  # events of the attempts that started
    served: int  # events that its runs handled, each time
    handled: int  # events by how they ended
    errored: int  # requests answered by an error
    rejected: int  # requests given up by their client
    lost: int  # given up without a dead letter
    dead_lettered: int  # given up to a dead letter
    expired: int  # that outlived the retention
    too_large: int  # above the payload limit
    skipped: int  # of firings skipped
    unfinished: int  # still there at the month's end
    flying: int  # unfinished ones of which a run was in flight at the month's end
    cut_requests: int  # errored ones whose run was ended by the timeout
    duplicates: int  # events handled again
    level_since: int  # since when this number of calls is in flight
    level_peak: int  # most calls in flight
    count_since: int  # since when there are so many instances
    count_peak: int  # most instances
    at_limit_ns: int  # time with as many instances as the limit allows
    billed_ns: int  # billed time after rounding; this and its like are wide sums, see WIDE
    busy_ns: int  # time with runs
    life_ns: int  # lives of instances, rounded where they are billed
    idle_floor_ns: int  # time of floor instances without a call
    warming_ns: int  # billed cold-start time of attempts, not rounded
    failed_ns: int  # time of attempts by what they came to: billed time less its cold start, or time with runs (see ``charge``)
    cut_ns: int  # of those that the timeout ended
    again_ns: int  # of those whose every event had been handled before
    running_ns: int  # of those that still ran at the month's end; the rest of all is the time of those that went well
    again: int  # attempts whose every event had been handled before, whatever they came to,
    again_failed: int  # and those among them that failed,
    again_cut: int  # or were ended by the timeout
    billed_hi: int  # the upper words of the sums above, in 2^26 ns
    busy_hi: int  # upper word
    life_hi: int  # upper word
    idle_floor_hi: int  # upper word
    warming_hi: int  # upper word
    failed_hi: int  # upper word
    cut_hi: int  # upper word
    again_hi: int  # upper word
    running_hi: int  # upper word
    floor_since: int  # since when ``busy_count`` holds
    backlog_peak: int  # most events waiting
    wait_max: int  # longest wait and latency, ns
    latency_max: int  # longest latency, ns
    requests: int  # requests asked, each try counted
    replies: int  # requests answered
    memory_cost: int  # reserved: memory of a call, in millionths of a MB
    token_timer: int  # when a token is looked for next
    longest_run: int  # longest run drawn, ns
    stream_n: int  # triggers on streams
    lag_since: int  # since when ``lag_oldest`` holds
    lag_oldest: int  # arrival of the oldest unhandled record, NEVER: none
    lag_max: int  # longest lag, ns
    lag_zero: int  # time without an unhandled record
    run_scale: float  # spreads: scale (ns) and sigma
    run_sigma: float  # standard deviation of the logarithm
    cold_scale: float  # the same of the cold start, ns
    cold_sigma: float  # its sigma
    cold_factor: float  # the plan's factor on cold starts
    per_mb: float  # run time for each MB of payload, ns
    cpu_factor: float  # how much longer a run is on this memory (rule 3.1)
    cpu_load: float  # vCPUs a call keeps busy, s(m) x v(m) of rule 3.2
    cpu_cap: float  # vCPUs of an instance
    error_rate: float  # share of runs that fail
    poison_rate: float  # share of events that fail every time
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


class Trigger:
    """The line from a source to a function, in one environment."""

    source: int  # where its events come from
    unit: int  # the unit they go to
    batch: int  # most events of a call
    batch_wait: int  # longest wait for a batch to fill, ns
    readers: int  # most batches in flight; of a stream, a partition
    in_flight: int  # batches in flight, pausing readers included
    tries: int  # runs until it is given up, 0: without end
    dead_letter: int  # the source given-up events go to, -1: none
    random: int  # its random stream: a topic's share
    active: int  # single-event calls not yet over
    first_partition: int  # a stream's: its partitions, and how many
    partition_n: int  # how many partitions
    fail_each: int  # YES: only the failed events of a batch come back
    wake_timer: int  # when a filling batch is looked at
    share_all: int  # YES: it gets every event of a topic
    skip: int  # YES: a firing is skipped while the last one's call is active
    items: int  # events of a firing
    kind: int  # its source's kind
    visible_list: int  # its source's list of visible messages
    after: int  # the unit's next trigger
    letters: int  # events sent to the dead letter
    share: float  # share of a topic's events


class Source:
    """A schedule, queue, topic, stream, endpoint or folder in one environment."""

    kind: int  # SCHEDULE, QUEUE, TOPIC, STREAM, ENDPOINT, FOLDER
    visibility: int  # how long a received message is hidden, ns
    retention: int  # how long one stays, ns
    tries: int  # receipts before the dead letter
    delay: int  # how long a new one is hidden, ns
    dead_letter: int  # the source it goes to, -1: none
    fifo: int  # YES: batches in order, at most ``groups`` in flight
    groups: int  # most batches in flight in strict order
    held: int  # batches in flight or held in strict order
    partitions: int  # partitions of a stream
    random: int  # its random stream: feeds' shares, partitions by lot
    turn: int  # the next partition
    first_trigger: int  # its triggers, and how many
    trigger_n: int  # how many triggers
    first_edge: int  # a topic's feeds, and how many
    edge_n: int  # how many feeds
    lists: int  # first of its lists (L_DELAYED ...)
    delay_timer: int  # when the oldest of each list is looked at, NEVER: not
    visibility_timer: int  # when the oldest hidden message comes back, NEVER: none
    expire_timer: int  # when the oldest visible one expires, NEVER: none
    idle_ns: int  # time in which nothing waits
    idle_since: int  # since when nothing waits
    sends: int  # events put in
    receives: int  # batches received
    deletes: int  # batches of which something was deleted
    arrived: int  # events that came (a stream's: for each trigger), and that ended
    ended: int  # events that ended
    ended_at: int  # when the last one ended
    payload_limit: int  # largest message and batch, bytes, -1: none
    home: int  # the unit of its first trigger, -1: nobody reads it
    full: int  # YES: a lane a sampled month keeps full
    skew: float  # share of the first partition, below 0: in turn


class Partition:
    """A partition of a stream, for one trigger."""

    trigger: int  # whose partition it is
    list: int  # its records
    first: int  # the first that waits
    waiting: int  # how many wait
    in_flight: int  # batches in flight
    failing: int  # of which failed and are repeated
    number: int  # number of ``first``, by which partitions stand in line
    prev: int  # neighbours in the line of partitions
    next: int  # the one behind
    listed: int  # YES: it stands in its unit's line of partitions
    wake_timer: int  # when a filling batch is looked at
    timer: int  # when its oldest record expires
    arrived: int  # records that came
    full: int  # YES: a lane a sampled month keeps full
    dropped: int  # records that came while it was


class Chain:
    """A doubly linked list over records."""

    head: int  # its first record, -1: empty
    tail: int  # its last
    hint: int  # where the last one was inserted
    length: int  # how many there are


class Tap:
    """Where the outside world's events come from."""

    source: int  # the source its events arrive at
    kind: int  # TAP_RATE, TAP_COUNTED, TAP_CLIENTS
    spread: int  # POISSON, EVEN, BURSTY
    first_stretch: int  # its stretches, and how many
    stretch_n: int  # how many stretches
    stretch: int  # the stretch it is in
    at: int  # its last event
    left: int  # counted: events left of the stretch
    random: int  # first of its random streams (ARRIVAL_STREAM ...)
    payload_kind: int  # spread of sizes: kind, first sample, samples
    payload_from: int  # first of the samples of sizes
    payload_n: int  # how many there are
    think_kind: int  # the same of its clients' pauses
    think_from: int  # first of the samples of pauses
    think_n: int  # how many there are
    came: int  # events that have come
    short: int  # the trigger whose calls may go the short way, -1: none
    placed: int  # events placed evenly so far
    clients: int  # clients that ask in a circle
    burst_left: int  # events left of a burst
    client_tries: int  # how often a refused request is asked
    client_pause: int  # ns between them
    refused_pause: int  # least pause of a refused client, ns
    payload_scale: float  # spreads: scale (bytes, ns) and sigma
    payload_sigma: float  # sigma of sizes
    think_scale: float  # scale of pauses, ns
    think_sigma: float  # sigma of pauses
    burst: float  # mean events of a burst
    integral: float  # the rate integrated up to the stretch


class Stretch:
    """A part of a tap's month: until ``end`` events come at ``rate``, or exactly ``count`` of them."""

    start: int  # when it begins
    end: int  # when it ends
    count: int  # events in it, where they are counted
    step: int  # ns from one of them to the next, where they stand at even steps from ``start``, 0: spread over it
    rate: float  # events per ns
    gap: float  # 1 / rate


class Edge:
    """A feed of a topic, or what a function emits or asks."""

    target: int  # the source it leads to
    share_all: int  # YES: every event goes there
    payload_kind: int  # spread of sizes
    payload_from: int  # first of the samples of sizes
    payload_n: int  # how many there are
    whole: int  # emits and requests: how many for each event for certain
    needs: int  # requests: YES: the attempt fails where the answer is bad
    sent: int  # events sent along it
    share: float  # feeds: share of the events
    fraction: float  # emits and requests: chance of one more
    payload_scale: float  # scale of sizes, bytes
    payload_sigma: float  # their sigma


class Turn:
    """What the clock brings: from then on something is otherwise (rule 8)."""

    at: int  # when it comes
    kind: int  # T_RUNS, T_FLOOR, T_RELEASE, T_LIMIT, T_GROWTH
    ref: int  # the unit, of T_LIMIT and T_GROWTH the account
    value: int  # the condition, the floor, the limit (-1: none), whether no instance may start


class Condition:
    """What incidents make of a unit's runs while they hold."""

    run_kind: int  # a spread in place of the whole run, -1: none
    run_from: int  # its first sample
    run_n: int  # how many it has
    random: int  # its random streams
    times: float  # factor on the run
    error_rate: float  # in place of the unit's, below 0: as it is
    run_scale: float  # scale of the spread, ns
    run_sigma: float  # its sigma


class Portion:
    """A part of a mixture of spreads."""

    kind: int  # its spread
    first: int  # its first sample
    n: int  # how many it has
    upto: float  # the shares of the mixture up to this one, together
    scale: float  # its scale
    sigma: float  # its sigma
