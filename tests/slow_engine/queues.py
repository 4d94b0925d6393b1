"""Queues: messages wait, come back, expire."""

from __future__ import annotations

from tests.slow_engine.things import DUE, EXPIRE, WAKE, Event


class Queues:
    """A part of ``Simulation``."""

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
            self.pending.append((queue.dead_letter, e.payload, None))
        else:
            self.leaves_places(e)
            self.show(e)

    def wake(self, at):
        if at > self.now:
            self.put(at, WAKE, 0, lambda: None)
