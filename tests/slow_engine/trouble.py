"""What the clock brings: incidents, releases, floors; and mixtures of runs, which may belong to events."""

from __future__ import annotations

import math

from echotally.engine.build import stream_seed
from echotally.engine.codes import FIRST_NUMBER
from echotally.model.spread import MIX
from tests.slow_engine.chance import Stream
from tests.slow_engine.things import DUE, IDLE

LAST = 2**53


class Trouble:
    """A part of ``Simulation``."""

    def begin_trouble(self, seed):
        """Windows open and close, releases and floors come, before all other dues of their instant."""
        self.held, self.others = set(), {}
        happenings = self.month.happenings
        for n, windows in enumerate(happenings.incidents):
            for start, end in windows:
                self.put(start, DUE, -2, lambda n=n: self.held.add(n))
                if end < self.horizon:
                    self.put(end, DUE, -3, lambda n=n: self.held.remove(n))
                    if self.model.incidents[n].no_new_instances:
                        # What it held back is filled once all windows of the instant have opened or closed.
                        self.put(end, DUE, -1, self.fill_all)
            for name in self.units:
                label = f"{self.model.incidents[n].name}:{name}:live"
                self.others[n, name] = [Stream(stream_seed(seed, f"{p}:{label}")) for p in ("other", "other-kind")]
        others = [unit for unit in self.units.values() if unit.kind != "reserved"]
        for unit in others:
            for at, floor in happenings.floors.get(unit.name, ()):
                self.put(at, DUE, -1, lambda unit=unit, floor=floor: self.floor_is(unit, floor))
        for unit in others:
            for at in happenings.releases.get(unit.name, ()):
                self.put(at, DUE, 0, lambda unit=unit: self.release(unit))

    def incidents(self, key, unit=None):
        """The incidents that hold now and change ``key``, in the order named."""
        found = [(n, self.model.incidents[n]) for n in sorted(self.held)]
        return [
            (n, i) for n, i in found
            if getattr(i, key) is not None and (i.functions is None or unit is None or unit.name in i.functions)
        ]  # fmt: skip

    def concurrency_limit(self, plan):
        held = self.incidents("concurrency_limit")
        return held[-1][1].concurrency_limit if held else plan.concurrency_limit

    def none_may_start(self):
        return bool(self.incidents("no_new_instances"))

    def drawn(self, unit, spread, anew, kinds, number):
        """One number draws the kind of a mixture of constants: anew, or by the event."""
        if spread.kind != MIX:
            return spread.scale
        u = kinds.hashed(number) if unit.function.retry_run == "same" else anew.uniform()
        upto = 0.0
        for share, part in spread.parts:
            upto += share
            if u < upto:
                return part.scale
        return spread.parts[-1][1].scale

    def work(self, call):
        """How long a run is before it is stretched, ns; a hanging one is quiet."""
        unit, f = call.unit, call.unit.function
        number = call.events[0].number - int(FIRST_NUMBER)
        times = math.prod(i.run_times for _, i in self.incidents("run_times", unit))
        rates, hangs = self.incidents("error_rate", unit), self.incidents("run", unit)
        call.error_rate = rates[-1][1].error_rate if rates else f.error_rate
        if hangs:
            n, incident = hangs[-1]
            self.goes_quiet(call)
            return times * self.drawn(unit, incident.run, *self.others[n, unit.name], number)
        own = (self.drawn(unit, f.run, unit.runs, unit.kinds, number) + f.per_item * call.items) * times
        return (own + f.per_mb * (call.payload / 1e6)) * ((1 - f.cpu_share) + f.cpu_share * self.speed(unit))

    def goes_quiet(self, call):
        if not call.quiet and call.unit.kind == "reserved":
            call.instance.load -= self.load(call.unit)
        call.quiet = True

    def release(self, unit):
        """Idle instances go, those with calls take no further ones."""
        unit.fill = max(unit.fill, len(unit.current))
        for i in list(unit.current):
            if i in unit.ready_order:
                unit.ready_order.remove(i)
            if i.calls:
                i.drained = True
            else:
                self.goes(i, unit)
        if unit.floor:
            self.looks_begin_again(unit)
        self.fill_up(unit)

    def floor_is(self, unit, floor):
        self.busy_changes(unit, 0)
        unit.floor = min(floor, unit.limit)
        unit.target = max(unit.target, unit.floor)
        if len(unit.current) != unit.floor:
            self.looks_begin_again(unit)
        self.fill_up(unit)
        self.put(self.now, IDLE, 0, lambda: self.idle(unit))

    def missing(self, unit):
        wanted = max(unit.floor, min(unit.fill, unit.target)) if unit.kind == "polled" else unit.floor
        return min(wanted - len(unit.current), unit.limit - len(unit.instances))

    def fill_all(self):
        for unit in self.units.values():
            if unit.kind != "reserved" and not self.none_may_start():
                self.fill_up(unit)

    def fill_up(self, unit):
        """What a floor or a release lacks starts after the other dues of this instant."""
        if len(unit.current) >= unit.fill:
            unit.fill = 0
        if self.missing(unit) > 0 and not unit.filling:
            unit.filling = True
            self.put(self.now, DUE, LAST + list(self.units).index(unit.name), lambda: self.start_missing(unit))

    def start_missing(self, unit):
        unit.filling = False
        if self.missing(unit) <= 0 or self.none_may_start() or (self.nodes and self.node_for(unit) is None):
            return
        self.arm(self.new_instance(unit, cold=True, token=False), unit, 0)
        self.fill_up(unit)

    def cold_long(self, call, started):
        """The timeout of a call that waits for its instance, where the plan's timeout covers that."""
        unit, i = call.unit, call.instance
        if i is None or call not in i.calls or call.run_at is not None or call.started != started:
            return
        call.timed_out = True
        self.charge(call)
        self.weigh(unit)
        unit.in_flight.remove(call)
        self.flying -= 1
        i.calls.remove(call)
        if not i.calls:
            self.deactivate(i, unit)
            if i.drained:
                self.goes(i, unit)
                self.fill_up(unit)
        self.settled(call)
