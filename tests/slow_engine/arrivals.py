"""Arrivals: what each kind of source does with an event, and how requests and pushed calls ask for room."""

from __future__ import annotations

from tests.slow_engine.things import DUE, EXPIRE, REFUSE, Call, Event


class Arrivals:
    """A part of ``Simulation``."""

    def arrive(self, source, payload, asker=None, tap=None):  # noqa: C901 - a branch a kind of source
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
                self.hand_over(t, source, payload, tap, asker)

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

    def hand_over(self, t, source, payload, tap, asker=None):
        kind, name = source.split(".")
        items = self.model.schedules[name].items if kind == "schedules" else 1
        e = Event(next(self.numbers), self.now, source, payload, items)
        e.asker = asker
        e.client_tries = tap.client_tries if tap else 1
        e.client_pause = tap.client_pause_ns if tap else 0
        if kind == "schedules" and self.model.schedules[name].overlap == "skip" and t.active:
            t.unit.events["skipped"] += items
            return
        if self.too_large(t.unit, e):
            self.answer(e, good=False)
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
                self.answer(e, good=False)
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
            self.pending.append((trigger.rule.dead_letter, e.payload, None))
            unit.events["dead_lettered"] += e.items
        else:
            unit.events["lost"] += e.items
