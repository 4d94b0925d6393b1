"""A slow, plain-Python simulation of rules.md, written from the rules and not from the kernels.

For runs drawn from nothing (constant, but longer with items, payload and company; a full batch may run into its timeout), errors and
poison, whole batches and single events that fail, emits by lot, topics with shares, eager and matched pulling, strict order, payload
limits, arrivals by firings and lumps, even and skewed partitions; per-call, polled and reserved plans and nodes. Chance comes from the same streams (SplitMix64, seeded by purpose), so that every attempt can be
compared, not only sums.
"""

from __future__ import annotations

import heapq
from collections import Counter
from fractions import Fraction
from itertools import count

from echotally.engine.build import stream_seed

NS = 10**9
END, DUE, EXPIRE, ARRIVE, WAKE, REFUSE, LOOK, IDLE = range(8)


_MASK = 2**64 - 1
_GOLDEN = 0x9E3779B97F4A7C15


def _mixed(z):
    z = ((z ^ (z >> 30)) * 0xBF58476D1CE4E5B9) & _MASK
    z = ((z ^ (z >> 27)) * 0x94D049BB133111EB) & _MASK
    return z ^ (z >> 31)


class Stream:
    """SplitMix64 (Steele, Lea and Flood 2014) in plain integers."""

    def __init__(self, seed):
        self.state = seed

    def uniform(self):
        self.state = (self.state + _GOLDEN) & _MASK
        return ((_mixed(self.state) >> 11) + 0.5) * 2.0**-53

    def hashed(self, number):
        z = self.state ^ _mixed((number * _GOLDEN + _GOLDEN) & _MASK)
        return ((_mixed(z) >> 11) + 0.5) * 2.0**-53


class Event:
    def __init__(self, number, at, source, payload, items=1, tries=0):
        self.number, self.at, self.source, self.items, self.payload = number, at, source, items, payload
        self.seen, self.receipts, self.state, self.unit, self.asked = at, 0, "new", None, 0
        self.handled, self.client_tries, self.client_pause = False, tries, 0


class Call:
    def __init__(self, unit, trigger, events):
        self.unit, self.trigger, self.events = unit, trigger, events
        self.number = events[0].number
        self.instance = self.run_at = None
        self.started, self.counted, self.tries, self.wait, self.cold, self.ask = 0, False, 0, 0, 0, 0

    @property
    def items(self):
        return sum(e.items for e in self.events)

    @property
    def payload(self):
        return sum(e.payload for e in self.events)


class Instance:
    def __init__(self, number, born, ready):
        self.number, self.born, self.ready = number, born, ready
        self.calls, self.released, self.starting, self.memory, self.cold = [], born, False, 0, 0
        self.node, self.active_since, self.load = None, None, 0.0


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
        self.calls = self.started = self.cold_starts = self.billed = self.lives = self.duplicates = 0
        self.in_flight, self.peak, self.inst_peak, self.area, self.since = [], 0, 0, 0, 0
        self.wait_sum = self.wait_max = self.backlog_peak = self.refused = 0
        self.tokens, self.tokens_at = Fraction(plan.scaling.burst or 0), 0
        self.floor_idle = self.floor_since = self.busy = self.lag_max = 0
        self.target, self.looks, self.looking = self.floor, [], True
        self.errors, self.emitted, self.poison = (
            Stream(stream_seed(seed, f"{part}:{name}:live")) for part in ("error", "emit", "poison")
        )


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


class Simulation:
    def __init__(self, loaded, placement, seed=1):
        self.diary = []
        self.model, self.month = loaded.model, loaded.month
        self.horizon, self.now = self.month.clock.length_ns, 0
        self.heap, self.order, self.numbers = [], count(), count()
        self.units = {n: Unit(n, f, placement[n].plan, self.horizon, seed) for n, f in self.model.functions.items()}
        self.plan = next(iter(placement.values())).plan
        self.triggers = [
            Trigger(self.units[t.to], t, s, self.model, seed)
            for s in self.model.sources()
            for t in self.model.triggers
            if t.from_ == s
        ]
        self.visible, self.invisible = {}, []
        self.turn, self.sends, self.receives, self.deletes = Counter(), Counter(), Counter(), Counter()
        self.pending, self.flying, self.pool = [], 0, []
        if self.plan.bills == "reserved":
            self.pool = [Instance(n, 0, 0) for n in range(self.plan.instances)]
        for source in self.model.sources():
            self.visible[source] = []
        self.lots = {s: Stream(stream_seed(seed, f"source:{s}:live")) for s in self.model.sources()}
        self.places = {s: [] for s in self.model.sources()}
        self.nodes, self.node_ns = [], 0
        if self.plan.bills == "nodes":
            self.nodes = [Node(up=n < self.plan.nodes_floor) for n in range(self.plan.nodes_limit)]

    # -- time ---------------------------------------------------------------------------------------------------
    def put(self, at, step, number, action):
        heapq.heappush(self.heap, (at, step, number, next(self.order), action))

    def run(self):
        for place, tap in enumerate(self.month.taps):
            for s in tap.stretches:
                for k in range(s.count):
                    at = s.start_ns + int((k + 0.5) / s.count * (s.end_ns - s.start_ns) + 0.5)
                    self.put(
                        at, ARRIVE, place, lambda tap=tap: self.arrive(tap.source, int(tap.payload.scale + 0.5), tap)
                    )
        for name, queue in self.model.queues.items():
            for _ in range(queue.backlog):
                self.message(f"queues.{name}", 1_000, sent=0)
        for unit in self.units.values():
            for _ in range(unit.floor):
                if not self.nodes or self.node_for(unit) is not None:
                    self.new_instance(unit, cold=False)
            if unit.kind == "polled":
                self.put(0, LOOK, 0, lambda unit=unit: self.look(unit))
        self.dirty = True
        while True:
            due = bool(self.heap) and self.heap[0][0] == self.now and self.heap[0][1] <= WAKE
            if self.pending and not (due and self.heap[0][1] < ARRIVE):
                self.arrive(*self.pending.pop(0))
                self.dirty = True
            elif self.dirty and not due:
                self.dirty = False
                self.dispatch()
            elif not self.heap or self.heap[0][0] >= self.horizon:
                break
            else:
                at, _, _, _, action = heapq.heappop(self.heap)
                self.passes(at)
                action()
                self.dirty = True
        self.finish()
        return self

    def passes(self, at):
        """Time goes on to ``at``: the oldest unhandled record of each function grows older."""
        self.now = at
        for t in self.triggers:
            for lane in t.lanes:
                if lane.open:
                    t.unit.lag_max = max(t.unit.lag_max, at - lane.open[0].at)

    # -- arrivals -----------------------------------------------------------------------------------------------
    def arrive(self, source, payload, tap=None):
        kind, name = source.split(".")
        if kind == "queues":
            self.message(source, payload)
            return
        self.sends[source] += 1
        listeners = [t for t in self.triggers if t.source == source]
        if kind == "streams":
            lane = self.partition(source, self.model.streams[name])
            for t in listeners:
                e = Event(next(self.numbers), self.now, source, payload)
                if self.too_large(t.unit, e):
                    continue
                t.lanes[lane].waiting.append(e)
                t.lanes[lane].open.append(e)
                self.put(
                    self.now + self.model.streams[name].retention,
                    EXPIRE,
                    0,
                    lambda t=t, n=lane: self.expire_lane(t, t.lanes[n]),
                )
                self.wake(self.now + t.rule.batch_wait)
        elif kind == "topics":
            for feed in self.model.topics[name].feeds:
                if feed.share >= 1 or self.lots[source].uniform() < feed.share:
                    self.message(feed.into, payload)
            for t in listeners:
                if t.rule.share >= 1 or t.lot.uniform() < t.rule.share:
                    self.hand_over(t, source, payload, tap)
        else:
            for t in listeners:
                self.hand_over(t, source, payload, tap)

    def partition(self, source, stream):
        """In turn; with skew by lot: the first gets ``skew``, the others share the rest."""
        if stream.skew is None or stream.partitions == 1:
            self.turn[source] += 1
            return (self.turn[source] - 1) % stream.partitions
        drawn = self.lots[source].uniform()
        if drawn < stream.skew:
            return 0
        rest = (drawn - stream.skew) / (1 - stream.skew)
        return 1 + min(stream.partitions - 2, int(rest * (stream.partitions - 1)))

    def too_large(self, unit, e):
        """An event above the plan's payload limit is never handed over."""
        if unit.plan.payload_limit is None or e.payload <= unit.plan.payload_limit:
            return False
        unit.events["too_large"] += e.items
        return True

    def hand_over(self, t, source, payload, tap):
        kind, name = source.split(".")
        items = self.model.schedules[name].items if kind == "schedules" else 1
        e = Event(next(self.numbers), self.now, source, payload, items)
        e.client_tries = tap.client_tries if tap else 1
        e.client_pause = tap.client_pause_ns if tap else 0
        if kind == "schedules" and self.model.schedules[name].overlap == "skip" and t.active:
            t.unit.events["skipped"] += items
            return
        if self.too_large(t.unit, e):
            return
        t.active += 1
        self.ask(Call(t.unit, t, [e]))

    def ask(self, call):
        unit, endpoint = call.unit, call.trigger.kind == "endpoints"
        call.ask += 1
        if endpoint and unit.plan.wait_limit:
            unit.line.append(call)
            self.put(self.now + unit.plan.wait_limit, REFUSE, call.number, lambda ask=call.ask: self.waited(call, ask))
        elif not endpoint and unit.kind != "per-call":
            unit.line.append(call)
        else:
            unit.fresh.append(call)

    def waited(self, call, ask):
        if call.ask == ask and call in call.unit.line:
            call.unit.line.remove(call)
            self.throttle(call)

    def throttle(self, call):
        unit, e = call.unit, call.events[0]
        unit.attempts["throttled"] += 1
        self.diary.append((self.now, unit.name, "throttled", call.number, call.items, self.now, None))
        unit.refused += call.items
        if call.trigger.kind == "endpoints":
            e.asked += 1
            if e.asked < e.client_tries:
                self.later(call, e.client_pause)
            else:
                call.trigger.active -= 1
                unit.events["rejected"] += e.items
            return
        push = unit.plan.push
        call.wait = min(max(push.first_wait, 2 * call.wait), push.longest_wait)
        if self.now + call.wait > e.at + push.give_up:
            self.give_up(call)
        else:
            self.later(call, call.wait)

    def later(self, call, pause):
        call.unit.backoff.append(call)

        def again():
            call.unit.backoff.remove(call)
            self.ask(call)

        self.put(self.now + pause, DUE, call.number, again)

    def give_up(self, call):
        call.trigger.active -= 1
        for e in call.events:
            self.lose(call.unit, call.trigger, e)

    def lose(self, unit, trigger, e):
        if trigger.rule.dead_letter:
            self.pending.append((trigger.rule.dead_letter, e.payload))
            unit.events["dead_lettered"] += e.items
        else:
            unit.events["lost"] += e.items

    # -- queues -------------------------------------------------------------------------------------------------
    def readers(self, source):
        return [t for t in self.triggers if t.source == source]

    def message(self, source, payload, sent=1):
        queue = self.model.queues[source[7:]]
        self.sends[source] += sent
        e = Event(next(self.numbers), self.now, source, payload)
        e.unit = next((t.unit for t in self.readers(source)), None)
        if e.unit and self.too_large(e.unit, e):
            return
        if queue.delay and sent:
            self.put(self.now + queue.delay, DUE, 0, lambda: self.show(e))
        else:
            self.show(e)

    def show(self, e):
        queue = self.model.queues[e.source[7:]]
        e.state, e.seen = "visible", self.now
        self.visible[e.source].append(e)
        self.visible[e.source].sort(key=lambda e: e.number)
        self.put(max(e.at + queue.retention, self.now), EXPIRE, 0, lambda: self.expire(e))
        for t in self.readers(e.source):
            self.wake(self.now + t.rule.batch_wait)

    def expire(self, e):
        queue = self.model.queues[e.source[7:]]
        if e.state == "visible" and e.at + queue.retention <= self.now:
            self.gone(e)
            if e.unit:
                e.unit.events["expired"] += 1

    def gone(self, e):
        if e in self.visible[e.source]:
            self.visible[e.source].remove(e)
        e.state = "gone"
        self.leaves_places(e)

    def leaves_places(self, e):
        """A failed message of a strict queue has come back or is gone: its batch's place may be free."""
        for place in self.places[e.source]:
            if e in place.failed:
                place.failed.remove(e)
        self.places[e.source] = [p for p in self.places[e.source] if not p.free]

    def come_back(self, e, receipt):
        queue = self.model.queues[e.source[7:]]
        if e.state != "invisible" or e.receipts != receipt:
            return
        if queue.dead_letter and e.receipts >= queue.tries:
            self.gone(e)
            e.unit.events["dead_lettered"] += 1
            self.pending.append((queue.dead_letter, e.payload))
        else:
            self.leaves_places(e)
            self.show(e)

    def wake(self, at):
        if at > self.now:
            self.put(at, WAKE, 0, lambda: None)

    # -- streams ------------------------------------------------------------------------------------------------
    def expire_lane(self, t, lane):
        retention = self.model.streams[t.source[8:]].retention
        while lane.waiting and lane.waiting[0].at + retention <= self.now:
            e = lane.waiting.pop(0)
            lane.open.remove(e)
            t.unit.events["expired"] += 1
        for call in [c for c in t.unit.line if c.trigger is t and c.lane is lane]:
            for e in [e for e in call.events if e.at + retention <= self.now]:
                call.events.remove(e)
                lane.open.remove(e)
                t.unit.events["expired"] += 1
            if not call.events:
                t.unit.line.remove(call)
                lane.in_flight -= 1
                lane.failing -= 1

    # -- what can start -----------------------------------------------------------------------------------------
    def waiting(self, unit):
        between = [c for c in unit.backoff if c.trigger.kind != "endpoints"]
        n = sum(c.items for c in (*unit.line, *unit.fresh, *between))
        for t in self.triggers:
            if t.unit is unit:
                n += len(self.visible[t.source]) if t.kind == "queues" else sum(len(lane.waiting) for lane in t.lanes)
        return n

    def candidate(self, unit):
        found = [(c.number, 0, c) for c in (*unit.line, *unit.fresh)]
        for t in self.triggers:
            if t.unit is not unit:
                continue
            if t.kind == "queues" and self.can_leave(t):
                found.append((self.visible[t.source][0].number, 1, t))
            for lane in t.lanes:
                full = len(lane.waiting) >= t.rule.batch
                if (
                    lane.waiting
                    and not lane.failing
                    and lane.in_flight < t.readers
                    and (full or lane.waiting[0].at + t.rule.batch_wait <= self.now)
                ):
                    found.append((lane.waiting[0].number, 2, lane))
        return min(found, key=lambda f: f[:2], default=None)

    def dispatch(self):
        for unit in self.units.values():
            unit.backlog_peak = max(unit.backlog_peak, self.waiting(unit))
        open_units = list(self.units.values())
        while True:
            found = [(c, u) for u in open_units if (c := self.candidate(u))]
            if not found:
                return
            (_, kind, what), unit = min(found, key=lambda f: f[0][0])
            room = self.room(unit)
            if room is None:
                open_units.remove(unit)
                while unit.fresh:
                    self.throttle(unit.fresh.pop(0))
                if unit.plan.pull == "eager":
                    self.take_all_the_same(unit)
                continue
            self.start(self.taken(unit, kind, what), room)

    def can_leave(self, t):
        chain, queue = self.visible[t.source], self.model.queues[t.source[7:]]
        if queue.fifo and len(self.places[t.source]) >= queue.groups:
            return False
        ripe = chain and (len(chain) >= t.rule.batch or chain[0].seen + t.rule.batch_wait <= self.now)
        return ripe and t.in_flight < t.readers

    def take_all_the_same(self, unit):
        """Eager readers take batches without room: a throttled attempt each, and the reader pauses a second."""
        for t in self.triggers:
            while t.unit is unit and t.kind == "queues" and self.can_leave(t):
                call = self.taken(unit, 1, t)
                unit.attempts["throttled"] += 1
                unit.refused += call.items
                self.look_again(unit)
                self.diary.append((self.now, unit.name, "throttled", call.number, call.items, self.now, None))
                self.put(self.now + NS, DUE, call.number, lambda t=t: self.reader_back(t))
                self.batch_ends(call)

    def batch_ends(self, call):
        """Its place is free, unless messages it received are still to come back."""
        received = zip(call.events, call.receipts, strict=True)
        call.place.running = False
        call.place.failed = [e for e, receipt in received if e.state == "invisible" and e.receipts == receipt]
        self.places[call.trigger.source] = [p for p in self.places[call.trigger.source] if not p.free]

    def reader_back(self, t):
        t.in_flight -= 1

    def taken(self, unit, kind, what):
        if kind == 0:
            (unit.line if what in unit.line else unit.fresh).remove(what)
            return what
        if kind == 1:
            queue, t = self.model.queues[what.source[7:]], what
            n = self.that_fit(unit, self.visible[t.source][: t.rule.batch])
            batch, self.visible[t.source] = self.visible[t.source][:n], self.visible[t.source][n:]
            for e in batch:
                e.state, e.unit = "invisible", unit
                e.receipts += 1
                self.put(self.now + queue.visibility, DUE, 0, lambda e=e, n=e.receipts: self.come_back(e, n))
            self.receives[t.source] += 1
            t.in_flight += 1
            call = Call(unit, t, batch)
            call.place, call.receipts = Place(), [e.receipts for e in batch]
            if queue.fifo:
                self.places[t.source].append(call.place)
            return call
        lane = what
        n = self.that_fit(unit, lane.waiting[: lane.trigger.rule.batch])
        batch, lane.waiting = lane.waiting[:n], lane.waiting[n:]
        lane.in_flight += 1
        call = Call(unit, lane.trigger, batch)
        call.lane = lane
        return call

    def that_fit(self, unit, events):
        """How many of them one batch holds by the plan's payload limit, at least one."""
        limit, n = unit.plan.payload_limit, 1
        while n < len(events) and (limit is None or sum(e.payload for e in events[: n + 1]) <= limit):
            n += 1
        return n

    # -- instances ----------------------------------------------------------------------------------------------
    def room(self, unit):
        plan = unit.plan
        if plan.concurrency_limit is not None and self.flying >= plan.concurrency_limit:
            return None
        if unit.kind == "reserved":
            free = [(i, plan.instance_memory * (1 - plan.already_used) - i.memory) for i in self.pool]
            fits = [(i, f) for i, f in free if f >= unit.function.memory]
            return min(fits, key=lambda f: (-f[1], f[0].number))[0] if fits else None
        slots = unit.function.slots
        ready = [i for i in unit.ready_order if not i.starting and len(i.calls) < slots]
        if ready:
            return ready[0]
        starting = [i for i in unit.instances if i.starting and len(i.calls) < slots]
        if starting:
            return min(starting, key=lambda i: i.ready)
        if unit.kind == "polled" or len(unit.instances) >= unit.limit:
            return None
        if self.nodes and self.node_for(unit) is None:
            return None
        return "new" if self.token(unit) else None

    def node_for(self, unit):
        """First fit in node order, else the first that is down, else none."""
        plan, memory, vcpu = unit.plan, unit.function.memory, self.vcpu(unit)
        if plan.node_memory < memory or plan.node_vcpu < vcpu - 1e-9:
            return None
        for node in self.nodes:
            taken, busy = sum(u.function.memory for u in node.holds), sum(self.vcpu(u) for u in node.holds)
            if node.up and plan.node_memory - taken >= memory and plan.node_vcpu - busy >= vcpu - 1e-9:
                return node
        return next((node for node in self.nodes if not node.up), None)

    def vcpu(self, unit):
        return unit.plan.vcpu_each or unit.function.memory / 1024 * unit.plan.vcpu_per_gb

    def place_on_node(self, i, unit, cold):
        node = self.node_for(unit)
        if node is None:
            return self.now
        if not node.up:
            node.up, node.since = True, self.now
            node.ready = self.now + unit.plan.node_start
        if not cold:
            node.ready = self.now
        i.node = node
        node.holds.append(unit)
        return max(self.now, node.ready)

    def leaves_node(self, i, unit):
        node = i.node
        if node is None:
            return
        node.holds.remove(unit)
        if not node.holds:
            node.idle_since = self.now
            self.put(self.now + unit.plan.node_keep_alive, IDLE, self.nodes.index(node), lambda: self.node_idle(node))

    def node_idle(self, node):
        empty = node.up and not node.holds and node.idle_since + self.plan.node_keep_alive <= self.now
        if empty and sum(n.up for n in self.nodes) > self.plan.nodes_floor:
            node.up = False
            self.node_ns += self.now - node.since

    def token(self, unit):
        scaling = unit.plan.scaling
        if scaling.burst is None:
            return True
        per_ns = Fraction(*scaling.ramp)
        unit.tokens = min(Fraction(scaling.burst), unit.tokens + (self.now - unit.tokens_at) * per_ns)
        unit.tokens_at = self.now
        if unit.tokens >= 1:
            return True
        self.wake(self.now + -(-(1 - unit.tokens) // per_ns))
        return False

    def new_instance(self, unit, cold):
        i = Instance(len(unit.instances), self.now, self.now)
        unit.instances.append(i)
        unit.inst_peak = max(unit.inst_peak, len(unit.instances))
        node_ready = self.place_on_node(i, unit, cold) if self.nodes else self.now
        if not cold:
            unit.ready_order.append(i)
            return i
        i.cold = int(unit.function.cold_start.scale * unit.plan.cold_start_factor + 0.5)
        i.ready = node_ready + i.cold
        i.starting = i.ready > self.now
        if not i.starting:
            unit.ready_order.insert(0, i)
        unit.cold_starts += 1
        if unit.plan.scaling.burst is not None:
            unit.tokens -= 1
        return i

    def arm(self, i, unit, number):
        if i.starting:
            self.put(i.ready, END, number, lambda: self.is_ready(i, unit))

    def is_ready(self, i, unit):
        i.starting, i.released = False, self.now
        if not i.calls and unit.kind == "polled" and len(unit.instances) > unit.target:
            self.goes(i, unit)
            return
        unit.ready_order.insert(0, i)
        for call in i.calls:
            self.activate(i, unit)
            self.begin(call)
        if not i.calls:
            self.put(self.now + unit.plan.keep_alive, IDLE, 0, lambda: self.idle(unit))

    def goes(self, i, unit):
        unit.instances.remove(i)
        if i in unit.ready_order:
            unit.ready_order.remove(i)
        unit.lives += self.life(unit, self.now - i.born)
        self.leaves_node(i, unit)

    def life(self, unit, ns):
        return self.rounded(unit, ns) if unit.plan.bills == "allocated" else ns

    def rounded(self, unit, ns):
        step, least = unit.plan.rounding.time, unit.plan.rounding.at_least
        return max(-(-ns // step) * step, least)

    def idle(self, unit):
        while unit.kind == "per-call" and len(unit.instances) > unit.floor:
            idle = [
                i for i in reversed(unit.ready_order) if not i.calls and i.released + unit.plan.keep_alive <= self.now
            ]
            if not idle:
                return
            self.goes(idle[0], unit)

    def look(self, unit):
        scaling, plan = unit.plan.scaling, unit.plan
        seen = self.waiting(unit) + sum(c.items for c in unit.in_flight) + unit.refused
        unit.refused = 0
        wanted = min(max(-(-seen // scaling.per_instance), unit.floor), unit.limit)
        unit.looks = [(at, w) for at, w in unit.looks if at >= self.now - plan.keep_alive] + [(self.now, wanted)]
        have = len(unit.instances)
        if wanted > have:
            for _ in range(min(wanted - have, scaling.step)):
                if self.nodes and self.node_for(unit) is None:
                    break
                self.arm(self.new_instance(unit, cold=True), unit, 0)
            unit.target = len(unit.instances)
        elif wanted < have:
            unit.target = max([w for _, w in unit.looks] + [unit.floor])
            while len(unit.instances) > unit.target:
                idle = [i for i in reversed(unit.ready_order) if not i.calls]
                if not idle:
                    break
                self.goes(idle[0], unit)
        else:
            unit.target = max(unit.target, wanted)
        # Looks that see nothing and change nothing are left out once the day's events are over.
        unit.looking = self.now < 4 * 3_600 * NS or seen > 0 or len(unit.instances) > unit.floor
        if unit.looking:
            self.put(self.now + scaling.every, LOOK, 0, lambda: self.look(unit))

    def look_again(self, unit):
        """Something was refused after the looks had been left out: the next one, which may be at this very instant."""
        if unit.kind == "polled" and not unit.looking:
            unit.looking = True
            every = unit.plan.scaling.every
            self.put(-(-self.now // every) * every, LOOK, 0, lambda: self.look(unit))

    # -- runs ---------------------------------------------------------------------------------------------------
    def weigh(self, unit):
        unit.area += len(unit.in_flight) * (self.now - unit.since)
        unit.since = self.now

    def start(self, call, i):
        unit = call.unit
        if i == "new":
            i = self.new_instance(unit, cold=True)
            self.arm(i, unit, call.number)
        self.weigh(unit)
        unit.in_flight.append(call)
        unit.peak = max(unit.peak, len(unit.in_flight))
        self.flying += 1
        unit.started += 1
        unit.calls += not call.counted
        call.counted, call.instance, call.started, call.run_at, call.cold = True, i, self.now, None, 0
        i.calls.append(call)
        if unit.kind == "reserved":
            i.memory += unit.function.memory
            i.load += self.load(unit)
        if i.starting:
            call.cold = min(i.ready - self.now, i.cold)
            if unit.plan.cold_start_billed:
                self.activate(i, unit)
        else:
            self.activate(i, unit)
            self.begin(call)

    def busy_changes(self, unit, by):
        """Floor time without a call, integrated."""
        unit.floor_idle += (self.now - unit.floor_since) * max(0, unit.floor - unit.busy)
        unit.floor_since = self.now
        unit.busy += by

    def activate(self, i, unit):
        if i.active_since is None and unit.kind != "reserved":
            i.active_since = self.now
            self.busy_changes(unit, 1)

    def deactivate(self, i, unit):
        if i.active_since is not None:
            if unit.plan.bills == "active":
                unit.billed += self.rounded(unit, self.now - i.active_since)
            i.active_since = None
            self.busy_changes(unit, -1)

    def vcpus(self, unit, memory):
        """What a call can use and what its instance has, at a memory size."""
        plan = unit.plan
        if unit.kind == "reserved":
            return min(unit.function.threads, plan.instance_vcpu), plan.instance_vcpu * (1 - plan.already_used)
        there = memory / 1024 * plan.vcpu_per_gb
        return min(unit.function.threads, there), there

    def speed(self, unit):
        """q = v(measured_at) / v(m); a measured_vcpu stands in place of v(measured_at)."""
        f = unit.function
        measured = f.measured_vcpu or self.vcpus(unit, f.measured_at or f.memory)[0]
        return measured / self.vcpus(unit, f.memory)[0]

    def load(self, unit):
        """s(m) v(m): what one call takes of its instance's CPU, s(m) being the CPU share of a run at memory m."""
        share, q = unit.function.cpu_share, self.speed(unit)
        part = share * q / ((1 - share) + share * q) if share else 0
        return part * self.vcpus(unit, unit.function.memory)[0]

    def begin(self, call):
        unit, f, i = call.unit, call.unit.function, call.instance
        there = self.vcpus(unit, f.memory)[1]
        work = f.run.scale + f.per_item * call.items + f.per_mb * (call.payload / 1e6)
        work *= (1 - f.cpu_share) + f.cpu_share * self.speed(unit)
        stretch = i.load / there if unit.kind == "reserved" else len(i.calls) * self.load(unit) / there
        ns = int(work * max(1, stretch) + 0.5)
        call.timed_out, call.run_at = ns > f.timeout, self.now
        self.put(self.now + min(ns, f.timeout), END, call.number, lambda: self.end(call))

    def charge(self, call):
        unit = call.unit
        ran = self.now - call.run_at if call.run_at is not None else 0
        cold = call.cold if call.run_at is not None else self.now - call.started
        billed = unit.plan.cold_start_billed
        if unit.plan.bills == "runs" and (call.run_at is not None or billed):
            unit.billed += self.rounded(unit, ran + (cold if billed else 0))

    def end(self, call):
        unit, i = call.unit, call.instance
        self.charge(call)
        self.weigh(unit)
        unit.in_flight.remove(call)
        self.flying -= 1
        i.calls.remove(call)
        i.released = self.now
        if not i.calls:
            self.deactivate(i, unit)
        if unit.kind == "reserved":
            i.memory -= unit.function.memory
            i.load -= self.load(unit)
        elif not i.calls and unit.kind == "polled" and len(unit.instances) > unit.target:
            self.goes(i, unit)
        else:
            unit.ready_order.remove(i)
            unit.ready_order.insert(0, i)
            if not i.calls:
                self.put(self.now + unit.plan.keep_alive, IDLE, 0, lambda: self.idle(unit))
        bad = self.bad_events(call)
        outcome = "timed_out" if call.timed_out else "failed" if bad else "succeeded"
        unit.attempts[outcome] += 1
        self.diary.append((self.now, unit.name, outcome, call.number, call.items, call.started, call.run_at))
        self.settle(call, bad)

    def bad_events(self, call):
        f, errors = call.unit.function, call.unit.errors

        def errs():
            return f.error_rate > 0 and errors.uniform() < f.error_rate

        def poisoned(e):
            return f.poison_rate > 0 and call.unit.poison.hashed(e.number) < f.poison_rate

        if call.timed_out:
            return list(call.events)
        if call.trigger.rule.on_failure == "failed":
            return [e for e in call.events if poisoned(e) or errs()]
        return list(call.events) if errs() or any(poisoned(e) for e in call.events) else []

    def settle(self, call, bad):
        unit, t = call.unit, call.trigger
        good = [e for e in call.events if e not in bad]
        for e in good:
            self.handled(call, e)
        self.emit(unit, sum(e.items for e in good))
        if t.kind == "queues":
            self.deletes[t.source] += bool(good)
            t.in_flight -= 1
            self.batch_ends(call)
        elif bad:
            call.events = bad
            self.failed(call)
        elif t.kind == "streams":
            call.lane.in_flight -= 1
            call.lane.failing -= call.tries > 0
        else:
            t.active -= 1

    def emit(self, unit, n):
        if n:
            for emit in unit.function.emits:
                whole, fraction = int(emit.each), emit.each - int(emit.each)
                lots = sum(unit.emitted.uniform() < fraction for _ in range(n)) if fraction > 0 else 0
                self.pending += [(emit.into, int(emit.payload.scale + 0.5))] * (whole * n + lots)

    def handled(self, call, e):
        unit = call.unit
        if call.trigger.kind == "queues":
            if e.state == "gone":
                unit.duplicates += e.handled
                return
            self.gone(e)
            unit = e.unit
        elif call.trigger.kind == "streams":
            call.lane.open.remove(e)
        e.handled = True
        unit.events["succeeded"] += e.items
        unit.wait_sum += (call.run_at - e.at) * e.items
        unit.wait_max = max(unit.wait_max, call.run_at - e.at)

    def failed(self, call):
        unit, t = call.unit, call.trigger
        if t.kind == "endpoints":
            t.active -= 1
            unit.events["errored"] += 1
        elif t.kind == "streams":
            self.failed_lane(call)
        else:
            call.tries += 1
            call.wait = 0
            waits = unit.plan.push.retry_waits
            if call.tries >= t.tries:
                self.give_up(call)
            else:
                self.later(call, waits[min(call.tries, len(waits)) - 1])

    def failed_lane(self, call):
        unit, t, lane = call.unit, call.trigger, call.lane
        retention = self.model.streams[t.source[8:]].retention
        call.tries += 1
        lane.failing += call.tries == 1
        over = t.tries is not None and call.tries >= t.tries
        for e in list(call.events):
            if over or e.at + retention <= self.now:
                call.events.remove(e)
                lane.open.remove(e)
                if over:
                    self.lose(unit, t, e)
                else:
                    unit.events["expired"] += 1
        if call.events:
            unit.line.append(call)
        else:
            lane.in_flight -= 1
            lane.failing -= 1

    def finish(self):
        self.passes(self.horizon)
        self.node_ns += sum(self.now - node.since for node in self.nodes if node.up)
        for unit in self.units.values():
            self.weigh(unit)
            for call in unit.in_flight:
                self.charge(call)
            self.busy_changes(unit, 0)
            for i in unit.instances:
                self.deactivate(i, unit)
                unit.lives += self.life(unit, self.now - i.born)
            unit.attempts["running"] = len(unit.in_flight)
            unit.attempts["total"] = sum(unit.attempts.values())
