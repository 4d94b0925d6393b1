"""What can start at an instant: among waiting calls the oldest event goes first."""

from __future__ import annotations

from tests.slow_engine.things import DUE, NS, Call, Place


class Starting:
    """A part of ``Simulation``."""

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
        shut = []
        while True:
            units = [u for u in self.units.values() if u not in shut or self.may_read(u)]
            found = [(c, u) for u in units if (c := self.candidate(u))]
            if not found:
                return
            (_, kind, what), unit = min(found, key=lambda f: (f[0][0], *self.rank(*f[0][1:])))
            room = self.room(unit)
            if room is None:
                shut.append(unit)
                while unit.fresh:
                    self.throttle(unit.fresh.pop(0))
                if unit.plan.pull == "eager":
                    self.take_all_the_same(unit)
                continue
            self.start(self.taken(unit, kind, what), room)

    def may_read(self, unit):
        """An eager reader needs no room: what others took may have left it a batch that is due."""
        return unit.plan.pull == "eager" and any(
            t.unit is unit and t.kind == "queues" and self.can_leave(t) for t in self.triggers
        )

    def rank(self, kind, what):
        """Of those that compete for a message the one with fewer batches in flight, then the first in the file."""
        return (what.in_flight, self.triggers.index(what)) if kind == 1 else (0, 0)

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
                self.looks_begin_again(unit)
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
