"""Instances, nodes and polled scaling: room for a call, and what becomes of it."""

from __future__ import annotations

from fractions import Fraction

from tests.slow_engine.things import END, IDLE, LOOK, NS, Instance


class Instances:
    """A part of ``Simulation``."""

    def room(self, unit):
        plan = unit.plan
        limit = self.concurrency_limit(plan)
        if limit is not None and self.flying >= limit:
            return None
        if unit.kind == "reserved":
            free = [(i, plan.instance_memory * (1 - self.others_use(plan)) - i.memory) for i in self.pool]
            fits = [(i, f) for i, f in free if f >= unit.function.memory]
            return min(fits, key=lambda f: (-f[1], f[0].number))[0] if fits else None
        slots = unit.function.slots
        ready = [i for i in unit.ready_order if not i.starting and len(i.calls) < slots]
        if ready:
            return ready[0]
        starting = [i for i in unit.current if i.starting and len(i.calls) < slots]
        if starting:
            return min(starting, key=lambda i: i.ready)
        if unit.kind == "polled" or len(unit.instances) >= unit.limit or self.none_may_start():
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
        per_ns, bucket = Fraction(*scaling.ramp), unit.bucket
        bucket.tokens = min(Fraction(scaling.burst), bucket.tokens + (self.now - bucket.at) * per_ns)
        bucket.at = self.now
        if bucket.tokens >= 1:
            return True
        self.wake(self.now + -(-(1 - bucket.tokens) // per_ns))
        return False

    def others_use(self, plan):
        """The share of a reserved instance's memory that other applications use."""
        if plan.used_gb is None:
            return plan.already_used
        return plan.used_gb * 1024 / (plan.instances * plan.instance_memory)

    def new_instance(self, unit, cold, token=True):
        i = Instance(len(unit.instances), self.now, self.now)
        unit.instances.append(i)
        unit.inst_peak = max(unit.inst_peak, len(unit.instances))
        node_ready = self.place_on_node(i, unit, cold) if self.nodes else self.now
        if not cold:
            unit.ready_order.append(i)
            self.put(self.now + unit.plan.keep_alive, IDLE, 0, lambda: self.idle(unit))
            return i
        i.cold = int(unit.function.cold_start.scale * unit.plan.cold_start_factor + 0.5)
        i.ready = node_ready + i.cold
        i.starting = i.ready > self.now
        if not i.starting:
            unit.ready_order.insert(0, i)
            self.put(self.now + unit.plan.keep_alive, IDLE, 0, lambda: self.idle(unit))
        unit.cold_starts += 1
        if unit.plan.scaling.burst is not None and token:
            unit.bucket.tokens -= 1
        return i

    def arm(self, i, unit, number):
        if i.starting:
            self.put(i.ready, END, number, lambda: self.is_ready(i, unit))

    def is_ready(self, i, unit):
        if i not in unit.instances:
            return
        i.starting, i.released = False, self.now
        if not i.calls and unit.kind == "polled" and len(unit.current) > unit.target:
            self.goes(i, unit)
            return
        if not i.drained:
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
        while unit.kind == "per-call" and len(unit.current) > unit.floor:
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
        wanted = -(-seen // scaling.per_instance)
        unit.looks = [(at, w) for at, w in unit.looks if at >= self.now - plan.keep_alive] + [(self.now, wanted)]
        wanted = min(max(wanted, unit.floor), unit.limit)
        have = len(unit.current)
        if wanted > have:
            most = scaling.step if unit.instances or scaling.first is None else scaling.first
            for _ in range(min(wanted - have, most, unit.limit - len(unit.instances))):
                if self.none_may_start() or (self.nodes and self.node_for(unit) is None):
                    break
                self.arm(self.new_instance(unit, cold=True), unit, 0)
            unit.target = max(len(unit.current), unit.floor)
        elif wanted < have:
            unit.target = max(min(max(w for _, w in unit.looks), unit.limit), unit.floor)
            while len(unit.current) > unit.target:
                idle = [i for i in reversed(unit.ready_order) if not i.calls]
                if not idle:
                    break
                self.goes(idle[0], unit)
        else:
            unit.target = max(unit.target, wanted)
        # Looks that see nothing and change nothing are left out once the day's events are over.
        unit.looking = self.now < 4 * 3_600 * NS or seen > 0 or len(unit.current) != unit.floor
        if unit.looking:
            self.put(self.now + scaling.every, LOOK, 0, lambda: self.look(unit))

    def looks_begin_again(self, unit):
        """Looks had been left out: the next one, which may be at this very instant if there was none yet."""
        if unit.kind == "polled" and not unit.looking:
            unit.looking = True
            every = unit.plan.scaling.every
            self.put(max(-(-self.now // every) * every, unit.looks[-1][0] + every), LOOK, 0, lambda: self.look(unit))
