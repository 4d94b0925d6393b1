"""What the slow engine moves about: events, calls, instances, nodes, places, units, triggers, partitions."""

from __future__ import annotations

from collections import Counter
from fractions import Fraction

from echotally.engine.build import stream_seed
from tests.slow_engine.chance import Stream

NS = 10**9
#: Order of what happens at one instant (rule 1.3).
END, DUE, EXPIRE, ARRIVE, WAKE, REFUSE, LOOK, IDLE = range(8)


class Event:
    def __init__(self, number, at, source, payload, items=1, tries=0):
        self.number, self.at, self.source, self.items, self.payload = number, at, source, items, payload
        self.seen, self.receipts, self.state, self.unit, self.asked = at, 0, "new", None, 0
        self.handled, self.client_tries, self.client_pause = False, tries, 0
        self.asker = None


class Call:
    def __init__(self, unit, trigger, events):
        self.unit, self.trigger, self.events = unit, trigger, events
        self.number = events[0].number
        self.instance = self.run_at = None
        self.started, self.counted, self.tries, self.wait, self.cold, self.ask = 0, False, 0, 0, 0, 0
        self.timed_out, self.quiet, self.bad, self.round, self.error_rate = False, False, None, None, 0.0

    @property
    def items(self):
        return sum(e.items for e in self.events)

    @property
    def payload(self):
        return sum(e.payload * e.items for e in self.events)


class Instance:
    def __init__(self, number, born, ready):
        self.number, self.born, self.ready = number, born, ready
        self.calls, self.released, self.starting, self.memory, self.cold = [], born, False, 0, 0
        self.node, self.active_since, self.load, self.drained = None, None, 0.0, False


class Node:
    def __init__(self, up):
        self.up, self.holds, self.ready, self.since, self.idle_since = up, [], 0, 0, 0


class Place:
    """A batch's place in a queue of strict order: kept until the batch is over and what failed has come back."""

    def __init__(self):
        self.running, self.failed = True, []

    @property
    def free(self):
        return not self.running and not self.failed


class Bucket:
    """Start tokens, of a function or of all of its account."""

    def __init__(self, burst):
        self.tokens, self.at = Fraction(burst or 0), 0


class Unit:
    def __init__(self, name, function, plan, month_ns, seed):
        self.name, self.function, self.plan, self.month_ns = name, function, plan, month_ns
        self.kind = "reserved" if plan.bills == "reserved" else plan.scaling.kind
        limits = [n for n in (function.instance_limit, plan.instance_limit) if n is not None]
        self.limit = min(limits, default=10**9)
        self.floor = 0 if self.kind == "reserved" else min(function.instance_floor, self.limit)
        self.line, self.fresh, self.backoff = [], [], []
        self.instances, self.ready_order = [], []
        self.events, self.attempts = Counter(), Counter()
        self.spent, self.came_to = Counter(), Counter()
        self.calls = self.started = self.cold_starts = self.billed = self.lives = self.duplicates = 0
        self.in_flight, self.peak, self.inst_peak, self.area, self.since = [], 0, 0, 0, 0
        self.wait_sum = self.wait_max = self.backlog_peak = self.refused = 0
        self.bucket = Bucket(plan.scaling.burst)
        self.floor_idle = self.floor_since = self.busy = self.lag_max = 0
        self.target, self.looks, self.looking = self.floor, [], True
        self.fill, self.filling, self.served, self.started_items, self.cold_calls = 0, False, 0, 0, 0
        self.errors, self.emitted, self.poison, self.runs, self.kinds, self.asked = (
            Stream(stream_seed(seed, f"{part}:{name}:live"))
            for part in ("error", "emit", "poison", "run", "kind", "ask")
        )

    @property
    def current(self):
        """Instances that are not of an old release."""
        return [i for i in self.instances if not i.drained]


class Trigger:
    def __init__(self, unit, trigger, source, model, seed):
        self.unit, self.rule, self.source = unit, trigger, source
        kind, name = source.split(".")
        self.kind, self.in_flight, self.active = kind, 0, 0
        self.readers = trigger.readers or (100 if kind == "queues" else 1)
        self.tries = trigger.tries if trigger.tries is not None else (None if kind == "streams" else 3)
        self.lot = Stream(stream_seed(seed, f"share:{source}:{trigger.to}:live"))
        self.lanes = []
        if kind == "streams":
            self.lanes = [Lane(self) for _ in range(model.streams[name].partitions)]


class Lane:
    def __init__(self, trigger):
        self.trigger, self.waiting, self.open, self.in_flight, self.failing = trigger, [], [], 0, 0
