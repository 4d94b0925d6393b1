"""Runs: from the moment a call has an instance until its run ends and its events are settled."""

from __future__ import annotations

from echotally.engine.codes import FIRST_NUMBER
from tests.slow_engine.things import END, IDLE


class Runs:
    """A part of ``Simulation``."""

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
        unit.started_items += call.items
        unit.calls += not call.counted
        call.counted, call.instance, call.started, call.run_at, call.cold = True, i, self.now, None, 0
        i.calls.append(call)
        if unit.kind == "reserved":
            i.memory += unit.function.memory
            i.load += self.load(unit)
        if i.starting:
            call.cold = min(i.ready - self.now, i.cold)
            unit.cold_calls += 1
            if unit.plan.timeout_covers_cold_start and i.ready - self.now > unit.function.timeout:
                started = self.now
                self.put(self.now + unit.function.timeout, END, call.number, lambda: self.cold_long(call, started))
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
            others = (
                plan.already_used if plan.used_vcpu is None else plan.used_vcpu / plan.instances / plan.instance_vcpu
            )
            return min(unit.function.threads, plan.instance_vcpu), plan.instance_vcpu * (1 - others)
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
        work = self.work(call)
        loud = sum(not c.quiet for c in i.calls)
        stretch = i.load / there if unit.kind == "reserved" else loud * self.load(unit) / there
        ns = int(work * (1 if call.quiet else max(1, stretch)) + 0.5)
        left = f.timeout - (self.now - call.started if unit.plan.timeout_covers_cold_start else 0)
        call.timed_out, call.run_at, call.bad = ns > left, self.now, None
        self.put(self.now + min(ns, left), END, call.number, lambda: self.end(call))

    def charge(self, call):
        unit = call.unit
        ran = self.now - call.run_at if call.run_at is not None else 0
        cold = call.cold if call.run_at is not None else max(0, self.now - (call.instance.ready - call.cold))
        billed = unit.plan.cold_start_billed
        call.own = ran
        if unit.plan.bills == "runs" and (call.run_at is not None or billed):
            charged = self.rounded(unit, ran + (cold if billed else 0))
            unit.billed += charged
            call.own = charged - (cold if billed else 0)
        unit.spent["cold starts"] += cold if billed else 0

    def end(self, call):
        if call.timed_out or not call.unit.function.asks or not self.asks(call):
            self.over(call)

    def over(self, call):
        unit, i = call.unit, call.instance
        self.charge(call)
        self.weigh(unit)
        unit.in_flight.remove(call)
        self.flying -= 1
        i.calls.remove(call)
        i.released = self.now
        if not i.calls:
            self.deactivate(i, unit)
        quiet, call.quiet = call.quiet, False
        if unit.kind == "reserved":
            i.memory -= unit.function.memory
            i.load -= 0 if quiet else self.load(unit)
        elif i.drained:
            if not i.calls:
                self.goes(i, unit)
                self.fill_up(unit)
        elif not i.calls and unit.kind == "polled" and len(unit.current) > unit.target:
            self.goes(i, unit)
        else:
            unit.ready_order.remove(i)
            unit.ready_order.insert(0, i)
            if not i.calls:
                self.put(self.now + unit.plan.keep_alive, IDLE, 0, lambda: self.idle(unit))
        self.settled(call)

    def settled(self, call):
        unit = call.unit
        bad = list(call.events) if call.timed_out else self.bad_events(call) if call.bad is None else call.bad
        outcome = "timed_out" if call.timed_out else "failed" if bad else "succeeded"
        unit.attempts[outcome] += 1
        again = all(e.handled for e in call.events)
        kind = "duplicates" if again else {"succeeded": "handled", "timed_out": "timed out"}.get(outcome, outcome)
        unit.spent[kind] += call.own
        unit.came_to[kind] += 1
        unit.served += sum(e.items for e in call.events if e not in bad)
        self.diary.append((self.now, unit.name, outcome, call.number, call.items, call.started, call.run_at))
        self.settle(call, bad)

    def bad_events(self, call):
        f, errors = call.unit.function, call.unit.errors

        def errs():
            return call.error_rate > 0 and errors.uniform() < call.error_rate

        def poisoned(e):
            return f.poison_rate > 0 and call.unit.poison.hashed(e.number - int(FIRST_NUMBER)) < f.poison_rate

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
                self.pending += [(emit.into, int(emit.payload.scale + 0.5), None)] * (whole * n + lots)

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
        self.answer(e, good=True)
        unit.events["succeeded"] += e.items
        unit.wait_sum += (call.run_at - e.at) * e.items
        unit.wait_max = max(unit.wait_max, call.run_at - e.at)

    def failed(self, call):
        unit, t = call.unit, call.trigger
        if t.kind == "endpoints":
            t.active -= 1
            self.answer(call.events[0], good=False)
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
