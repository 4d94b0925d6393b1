"""The slow engine put together: time, and the month from its start to its end."""

from __future__ import annotations

import heapq
from collections import Counter
from itertools import count

from echotally.engine.build import stream_seed
from echotally.engine.codes import FIRST_NUMBER
from tests.slow_engine.arrivals import Arrivals
from tests.slow_engine.asking import Asking
from tests.slow_engine.chance import Stream
from tests.slow_engine.instances import Instances
from tests.slow_engine.queues import Queues
from tests.slow_engine.runs import Runs
from tests.slow_engine.starting import Starting
from tests.slow_engine.streams import Streams
from tests.slow_engine.things import ARRIVE, END, LOOK, WAKE, Instance, Node, Trigger, Unit
from tests.slow_engine.trouble import Trouble


class Simulation(Arrivals, Queues, Streams, Starting, Instances, Runs, Asking, Trouble):
    def __init__(self, loaded, placement, seed=1):
        self.seed, self.tied, self.ending = seed, False, set()
        self.diary = []
        self.model, self.month = loaded.model, loaded.month
        self.horizon, self.now = self.month.clock.length_ns, 0
        self.heap, self.order, self.numbers = [], count(), count(int(FIRST_NUMBER))
        self.units = {n: Unit(n, f, placement[n].plan, self.horizon, seed) for n, f in self.model.functions.items()}
        self.plan = next(iter(placement.values())).plan
        if self.plan.scaling.scope == "account":
            for unit in self.units.values():
                unit.bucket = next(iter(self.units.values())).bucket
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

    def put(self, at, step, number, action):
        # Two calls of one message whose runs end at one instant: rule 1.3 gives no order, and what fails may depend on it.
        if step == END and number >= FIRST_NUMBER:
            self.tied = self.tied or (at, number) in self.ending
            self.ending.add((at, number))
        heapq.heappush(self.heap, (at, step, number, next(self.order), action))

    def run(self):
        """Play the month; returns itself."""
        self._begin()
        self.dirty = True
        while self._goes_on():
            pass
        self.finish()
        return self

    def _begin(self):
        for place, tap in enumerate(self.month.taps):
            for s in tap.stretches:
                for k in range(s.count):
                    at = s.start_ns + int((k + 0.5) / s.count * (s.end_ns - s.start_ns) + 0.5)
                    self.put(
                        at,
                        ARRIVE,
                        place,
                        lambda tap=tap: self.arrive(tap.source, int(tap.payload.scale + 0.5), tap=tap),
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
        self.begin_trouble(self.seed)

    def _goes_on(self):
        """One step: what was put out arrives, what can start does, else the next entry of the heap; False at the end."""
        due = bool(self.heap) and self.heap[0][0] == self.now and self.heap[0][1] <= WAKE
        if self.pending and not (due and self.heap[0][1] < ARRIVE):
            self.arrive(*self.pending.pop(0))
            self.dirty = True
        elif self.dirty and not due:
            self.dirty = False
            for unit in self.units.values():
                if not unit.looking and (self.waiting(unit) or unit.in_flight or unit.refused):
                    self.looks_begin_again(unit)
            self.dispatch()
        elif not self.heap or self.heap[0][0] >= self.horizon:
            return False
        else:
            at, _, _, _, action = heapq.heappop(self.heap)
            self.passes(at)
            action()
            self.dirty = True
        return True

    def passes(self, at):
        """Time goes on to ``at``: the oldest unhandled record of each function grows older."""
        self.now = at
        for t in self.triggers:
            for lane in t.lanes:
                if lane.open:
                    t.unit.lag_max = max(t.unit.lag_max, at - lane.open[0].at)

    def finish(self):
        self.passes(self.horizon)
        self.node_ns += sum(self.now - node.since for node in self.nodes if node.up)
        for unit in self.units.values():
            self.weigh(unit)
            for call in unit.in_flight:
                self.charge(call)
                unit.spent["running"] += call.own
                unit.came_to["running"] += 1
            self.busy_changes(unit, 0)
            for i in unit.instances:
                self.deactivate(i, unit)
                unit.lives += self.life(unit, self.now - i.born)
            unit.attempts["running"] = len(unit.in_flight)
            unit.attempts["total"] = sum(unit.attempts.values())
