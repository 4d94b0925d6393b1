"""Calls that ask endpoints once their own run is over, and wait for the answers."""

from __future__ import annotations

from tests.slow_engine.things import END

LAST = 2**53


class Asking:
    """A part of ``Simulation``."""

    def asks(self, call):
        """The own run is over: what failed is decided; what did not asks. False where there is nothing to ask."""
        unit = call.unit
        call.bad = self.bad_events(call)
        call.step = -1
        if not self.good_items(call) or not self.asks_on(call):
            return False
        self.goes_quiet(call)
        begun = call.started if unit.plan.timeout_covers_cold_start else call.run_at
        deadline = begun + unit.function.timeout
        attempt = call.started
        self.put(deadline, END, LAST + call.number, lambda: self.asked_long(call, attempt))
        return True

    def good_items(self, call):
        return sum(e.items for e in call.events if e not in call.bad)

    def asks_on(self, call):
        """The next of what it asks, in the order written, that sends anything."""
        unit, n = call.unit, self.good_items(call)
        for ask in unit.function.asks[call.step + 1 :]:
            call.step += 1
            whole, fraction = int(ask.each), ask.each - int(ask.each)
            lots = sum(unit.asked.uniform() < fraction for _ in range(n)) if fraction > 0 else 0
            out = whole * n + lots
            if out:
                call.round, call.open = object(), out
                self.pending += [(ask.to, int(ask.payload.scale + 0.5), (call, call.round))] * out
                return True
        return False

    def answer(self, e, good):
        """The answer to a request: of those of one round, the first needed bad one or the last one moves the call on."""
        if e.asker is None or e.asker[0].round is not e.asker[1]:
            return
        call = e.asker[0]
        call.open -= 1
        fails = not good and call.unit.function.asks[call.step].needs
        if fails or not call.open:
            call.round = None
            if fails:
                call.bad = list(call.events)
            self.put(self.now, END, call.number, lambda: self.answered(call, fails))

    def answered(self, call, fails):
        if fails or not self.asks_on(call):
            self.over(call)

    def asked_long(self, call, attempt):
        if call.round is not None and call.started == attempt:
            call.round = None
            call.timed_out = True
            self.over(call)
