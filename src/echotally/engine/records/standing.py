"""Records of what stands all month: sources and what leads to and from them, lists, what the clock brings."""

from __future__ import annotations

from echotally.engine.records.numbers import Small


class Trigger:
    """The line from a source to a function, in one environment."""

    # What every event touches stands together (see ``units.Unit``).
    kind: Small  # its source's kind
    unit: Small  # the unit they go to
    source: Small  # where its events come from
    skip: Small  # YES: a firing is skipped while the last one's call is active
    fail_each: Small  # YES: only the failed events of a batch come back
    after: Small  # the unit's next trigger
    items: int  # events of a firing
    active: int  # single-event calls not yet over
    # What comes of queues and streams.
    visible_list: Small  # its source's list of visible messages
    share_all: Small  # YES: it gets every event of a topic
    batch: int  # most events of a call
    batch_wait: int  # longest wait for a batch to fill, ns
    readers: int  # most batches in flight; of a stream, a partition
    in_flight: int  # batches in flight, pausing readers included
    wake_timer: int  # when a filling batch is looked at
    # The rest.
    tries: int  # runs until it is given up, 0: without end
    dead_letter: int  # the source given-up events go to, -1: none
    random: int  # its random stream: a topic's share
    first_partition: int  # a stream's: its partitions, and how many
    partition_n: int  # how many partitions
    letters: int  # events sent to the dead letter
    share: float  # share of a topic's events


class Source:
    """A schedule, queue, topic, stream, endpoint or folder in one environment."""

    # What every event touches stands together (see ``units.Unit``).
    kind: Small  # SCHEDULE, QUEUE, TOPIC, STREAM, ENDPOINT, FOLDER
    home: Small  # the unit of its first trigger, -1: nobody reads it
    first_trigger: Small  # its triggers
    trigger_n: Small  # how many triggers
    first_edge: Small  # a topic's feeds
    edge_n: Small  # how many feeds
    lists: Small  # first of its lists (L_DELAYED ...)
    random: Small  # its random stream: feeds' shares, partitions by lot
    fifo: Small  # YES: batches in order, at most ``groups`` in flight
    full: Small  # YES: a lane a sampled month keeps full
    sends: int  # events put in
    arrived: int  # events that came (a stream's: for each trigger)
    ended: int  # events that ended
    ended_at: int  # when the last one ended
    # Of queues.
    idle_since: int  # since when nothing waits
    idle_ns: int  # time in which nothing waits
    visibility: int  # how long a received message is hidden, ns
    delay: int  # how long a new one is hidden, ns
    retention: int  # how long one stays, ns
    delay_timer: int  # when the oldest of the hidden ones is looked at, NEVER: not
    visibility_timer: int  # when the oldest hidden message comes back, NEVER: none
    expire_timer: int  # when the oldest visible one expires, NEVER: none
    payload_limit: int  # largest message and batch, bytes, -1: none
    receives: int  # batches received
    deletes: int  # batches of which something was deleted
    # The rest.
    tries: int  # receipts before the dead letter
    dead_letter: int  # the source it goes to, -1: none
    groups: int  # most batches in flight in strict order
    held: int  # batches in flight or held in strict order
    partitions: int  # partitions of a stream
    turn: int  # the next partition
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

    # What every event touches stands together (see ``units.Unit``).
    source: Small  # the source its events arrive at
    kind: Small  # TAP_RATE, TAP_COUNTED, TAP_CLIENTS
    spread: Small  # POISSON, EVEN, BURSTY
    short: Small  # the trigger whose calls may go the short way, -1: none
    random: Small  # first of its random streams (ARRIVAL_STREAM ...)
    payload_kind: Small  # spread of sizes
    payload_from: Small  # first of the samples of sizes
    payload_n: Small  # how many there are
    think_kind: Small  # spread of its clients' pauses
    think_from: Small  # first of the samples of pauses
    think_n: Small  # how many there are
    first_stretch: Small  # its stretches
    stretch_n: Small  # how many stretches
    stretch: Small  # the stretch it is in
    burst_left: int  # events left of a burst
    at: int  # its last event
    left: int  # counted: events left of the stretch
    came: int  # events that have come
    payload_scale: float  # scale of sizes, bytes
    payload_sigma: float  # sigma of sizes
    # The rest.
    placed: int  # events placed evenly so far
    clients: int  # clients that ask in a circle
    client_tries: int  # how often a refused request is asked
    client_pause: int  # ns between them
    refused_pause: int  # least pause of a refused client, ns
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
