"""What sets functions off: schedules, sources and their triggers, and at what rate."""

from __future__ import annotations

import math
from datetime import UTC, datetime

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.evidence.fit.rhythm import STRETCH_S
from echotally.evidence.survey.assembly import Found
from echotally.evidence.survey.batches import Batching, batching_of
from echotally.evidence.survey.draft import ms, span_toml, text_of
from echotally.evidence.survey.facts import short
from echotally.evidence.survey.lines import Arrival
from echotally.evidence.survey.of_demand import OfDemand
from echotally.evidence.survey.partitions import Partitions, guessed, told
from echotally.evidence.survey.rates import Rate, rate_of
from echotally.evidence.survey.redelivery import Redelivery, redelivery_of
from echotally.evidence.survey.schedules import Guess, guess_schedule
from echotally.evidence.survey.tables import model_name
from echotally.model.sources import SourceKind, SourceRef

#: Tries after which a pushed event is given up (the trigger's default), and the default of a queue's end of patience.
_TRIES = 3
#: Events of a batch, on average, up to which attempts hold single events.
_ALONE = 1.05


class OfTriggers(OfDemand):
    """Sources with their triggers."""

    def _set_off(self, name: str, found: Found) -> None:
        arrivals = self.wiring.arrivals.get(found.units[0][0], [])
        for arrival in arrivals:
            arrival = self._named(arrival, name, found)
            kind = arrival.source.kind
            if kind is SourceKind.SCHEDULES or (arrival.guess and kind is SourceKind.ENDPOINTS):
                starts = self._starts(found, arrival)
                guess = self._schedule(found, starts, arrival)
                if guess is not None:
                    self._put_schedule(name, found, guess, arrival)
                    continue
                if kind is SourceKind.SCHEDULES:
                    arrival = replace(arrival, source=SourceRef.of(SourceKind.FOLDERS, arrival.source.name), guess=True)
                    self._no_schedule(name, len(starts))
            self._put_source(name, found, arrival)

    def _named(self, arrival: Arrival, name: str, found: Found) -> Arrival:
        """The arrival under the name that functions of an environment of their own have."""
        if name == found.units[0][0] or not self.worlds.apart(found.units[0]):
            return arrival
        own = f"{arrival.source.name}-{model_name(found.units[0][1])}"
        topic = f"{arrival.topic}-{model_name(found.units[0][1])}" if arrival.topic else None
        return replace(arrival, source=SourceRef.of(arrival.source.kind, own), topic=topic)

    def _starts(self, found: Found, arrival: Arrival) -> NDArray[np.float64]:
        function, environment = found.units[0]
        counted = self.metrics.starts(found.units[0], found.sample.t) if self.metrics and found.by > 1 else None
        if counted is not None:
            return counted
        asked: list[object] = [function, environment, self.tables.until, found.sums.first]
        way, only = "", ""
        if len(self.wiring.arrivals.get(function, ())) > 1:
            way = " LEFT JOIN entries USING (span)"
            only = " AND trigger_word IS NOT DISTINCT FROM ? AND coalesce(destination, source) IS NOT DISTINCT FROM ?"
            asked += [arrival.word, arrival.where]
        rows = self.tables.log.query(
            f"SELECT t FROM named{way} WHERE f = ? AND e = ? AND outcome <> 'throttled' AND t < ? AND t >= ?{only}"
            " ORDER BY t LIMIT 200001",
            asked,
        )
        return np.array([float(row[0]) for row in rows])

    def _schedule(self, found: Found, starts: NDArray[np.float64], arrival: Arrival) -> Guess | None:
        if arrival.guess:
            # Without a word of a timer only a rhythm that is plainly one counts.
            seconds = starts % 60
            if len(starts) < 5 or (
                np.std(np.diff(starts)) > 0.5 * np.mean(np.diff(starts)) and np.mean(seconds < 5) < 0.9
            ):
                return None
        return guess_schedule(starts, self.span.prefer)

    def _put_schedule(self, name: str, found: Found, guess: Guess, arrival: Arrival) -> None:
        source = SourceRef.of(SourceKind.SCHEDULES, arrival.source.name)
        found.guesses[str(source)] = guess
        at, draft = str(source), self.draft
        evidence = guess.evidence if not arrival.guess else f"nothing says so but the times: {guess.evidence}"
        if guess.cron is not None:
            draft.add(f"{at}.cron", text_of(guess.cron), evidence, n=guess.starts)
            draft.add(
                f"{at}.timezone", text_of(guess.zone), "" if guess.zone != "UTC" else "no other zone explains more"
            )
        else:
            draft.add(f"{at}.every", span_toml(float(guess.every_s or 1)), evidence, n=guess.starts)
            moment = datetime.fromtimestamp(guess.anchor, UTC).astimezone(self.span.zone)
            draft.add(f"{at}.from", f'"{moment:%Y-%m-%dT%H:%M:%S}"', "the first one seen")
        items = np.median(found.sample.events) if len(found.sample.events) else 1
        if items > 1:
            draft.add(f"{at}.items", str(round(float(items))), "events of a firing, at the median", number=float(items))
        if guess.zones or guess.also:
            what = "which zone its schedule is in" if guess.zones else "which expression its schedule has"
            how = "its settings; a log across a change of clocks tells zones apart"
            self._unknown(name, what, f"{guess.cron} in {guess.zone}", how, 0.0)
        self._trigger(source, name)

    def _no_schedule(self, name: str, n: int) -> None:
        why = f"{n} start(s) make no expression" if n < 5 else "no expression explains its starts"
        self.draft.note(f"functions.{name}", f"set off by a timer, but {why}: played as events at a rate")
        self._unknown(name, "its schedule", why, "its settings, or a longer log", 0.1)

    def _trigger(self, source: SourceRef, name: str, **keys: str) -> None:
        at = f"triggers.{self.triggers}"
        self.triggers += 1
        self.draft.add(f"{at}.from", text_of(str(source)))
        self.draft.add(f"{at}.to", text_of(name))
        for key, toml in keys.items():
            self.draft.add(f"{at}.{key}", toml)

    def _put_source(self, name: str, found: Found, arrival: Arrival) -> None:
        source, draft = arrival.source, self.draft
        address = str(source)
        if address not in self.taken:
            self.taken.add(address)
            draft.add(f"{address}.", "")
            draft.note(address, f"{'a guess: ' if arrival.guess else ''}{arrival.evidence}")
        if arrival.guess:
            self._unknown(
                name,
                "what sets it off",
                f"{source.kind.value[:-1]} {source.name}: {arrival.evidence}",
                "faas.trigger or messaging attributes in spans, or its settings",
                0.1,
            )
        rate = self._rate(found, arrival)
        keys: dict[str, str] = {}
        if source.kind is SourceKind.QUEUES and not draft.has(f"{address}.visibility"):
            self._comes_back(name, found, address)
        if source.kind.traits.batched:
            keys = self._batching(name, found, arrival, rate)
        self._trigger(source, name, **keys)
        if arrival.topic:
            self._feed(arrival.topic, source, found)
        self._demand(name, found, arrival, rate)

    def _comes_back(self, name: str, found: Found, address: str) -> None:
        """When a queue's failed messages come back, and when no more."""
        back = self._back(found)
        if back is None:
            if found.sums.attempts["error"] + found.sums.attempts["timeout"]:
                how = "its settings, or spans with ids of messages"
                self._unknown(
                    name, "when failed messages come back, and how often", "30 s, until they are too old", how, 0.02
                )
            return
        self.draft.add(
            f"{address}.visibility", span_toml(back.visibility_s), back.evidence, n=back.n, number=back.visibility_s
        )
        if back.tries is not None and back.tries > 1:
            parked = f"{address}-parked"
            self.draft.add(
                f"{address}.tries", str(back.tries), "after which they were seen no more", number=float(back.tries)
            )
            self.draft.add(f"{address}.dead_letter", text_of(parked), "where they go is not in the log", guess=True)
            self.draft.add(f"{parked}.", "")
            self.taken.add(parked)

    def _back(self, found: Found) -> Redelivery | None:
        """How the messages of a function come back, looked up once."""
        if found.name not in self.backs:
            self.backs[found.name] = redelivery_of(self.tables, found.units[0])
        return self.backs[found.name]

    def _rate(self, found: Found, arrival: Arrival) -> Rate:
        counts, kind = found.counts, arrival.source.kind
        if kind is SourceKind.ENDPOINTS:
            events = counts.attempts + counts.throttled
        else:
            events = counts.good / (1 - self._given_up(found, kind))
        if kind is SourceKind.QUEUES and (back := self._back(found)) is not None:
            events = events * (1 - back.again)
        if kind is not SourceKind.ENDPOINTS:
            events = events / (1 - min(0.9, self.poisoned.get(found.name, 0.0)))
        of_all = sum(a.n for a in self.wiring.arrivals.get(found.units[0][0], ())) or arrival.n
        events = events * (arrival.n / of_all)
        first, last = self._since(found), self.span.last
        rate = rate_of(counts.stretch, events, first, last, self.span.zone)
        if found.by > 1 and rate.burst is not None and found.sample.events.mean() > _ALONE:
            # Whole batches were drawn: the scatter of their events is that of the drawing.
            rate = replace(rate, spread="poisson", burst=None)
        rate = rate.scaled(found.by)
        found.rates[str(arrival.source)] = rate
        return rate

    def _since(self, found: Found) -> float:
        """From when on a function's events are counted: the log's begin, what holds now, or its own first day."""
        since = self.span.since.get(found.units[0][0], self.span.first)
        usual = (found.sums.last - found.sums.first) / max(1, found.sums.started)
        # It was not there before, rather than rarely called.
        return found.sums.first if found.sums.first > since + max(2 * 86_400, 12 * usual) else since

    def _given_up(self, found: Found, kind: SourceKind) -> float:
        """The share of pushed events that never succeed: every try failed."""
        if kind.traits.tries is None:
            return 0.0
        n = max(1, found.sums.started)
        return min(0.9, ((found.sums.attempts["error"] + found.sums.attempts["timeout"]) / n) ** _TRIES)

    def _batching(self, name: str, found: Found, arrival: Arrival, rate: Rate) -> dict[str, str]:
        # Whether batches have waited is told by those that follow one another.
        sample = self.tables.in_a_row(found.units[0]) if found.sample.every > 1 else found.sample
        expected = rate.expected((sample.t // STRETCH_S).astype(np.int64), self.span.zone)
        source, streams = arrival.source, arrival.source.kind is SourceKind.STREAMS
        parts = self._partitions(found, arrival) if streams else Partitions(1, None, "")
        shares = self.tables.shares_of(found.units[0], sample) if parts is not None and parts.skew is not None else None
        batching = batching_of(sample, expected, parts.n if parts and not parts.open else None, shares)
        batching = batching.with_larger(found.sample.events[found.sample.ran])
        if streams:
            self._put_partitions(name, source, parts, batching)
        keys = {}
        if batching.batch > 1:
            most = round(float(max(sample.events.max(initial=1), found.sample.events.max(initial=1))))
            said = (
                f"the most seen, {batching.full:,} times"
                if batching.capped
                else f"a guess: none was full, the largest held {most}"
            )
            keys["batch"] = f"{batching.batch}  # {said}"
        # Messages that leave at once have not waited for others, however many came together.
        waits = self.wiring.soonest.get(found.units[0][0], math.inf)
        if batching.wait_s is not None and waits > 0.5 * batching.wait_s.value:
            wait = batching.wait_s
            self.waits[name] = wait.value
            said = f"95 %: {short(wait.low)} to {short(wait.high)} s"
            if batching.filled:
                said = "a guess: nearly all were full, and in such a time they are"
            keys["batch_wait"] = f"{ms(wait.value * 1_000)}  # {said}"
            if batching.partitions > 1:
                keys["batch_wait"] += f", for {batching.partitions} partitions"
        # Of spans that are a sample most that ran at a time are not there.
        if batching.at_once is not None and source.kind is SourceKind.QUEUES and found.by == 1:
            keys["readers"] = f"{batching.at_once}  # so many ran at a time, and batches start as others end"
        if batching.batch == 1:
            self._unknown(name, "how many events a batch may hold", "1, the most seen", "its settings", 0.05)
        return keys

    def _partitions(self, found: Found, arrival: Arrival) -> Partitions | None:
        """What is told of a stream's partitions: of the first reader that tells, for all of them."""
        source, unit = str(arrival.source), found.units[0]
        if self.streams.get(source) is None:
            hours = float(self.billed.of("stream_partition_hours", *unit)) if self.billed else 0.0
            billed = max(1, round(hours * 3_600 / self.worlds.bill_seconds)) if hours else 0
            events = self.wiring.partitions.get((unit, arrival.where), [])
            self.streams[source] = told(events, found.sums.started, billed)
        return self.streams[source]

    def _put_partitions(self, name: str, source: SourceRef, parts: Partitions | None, batching: Batching) -> None:
        """A stream's partitions in the model, and what is not known of them; of its first reader."""
        at, n = f"{source}.partitions", batching.partitions
        if source in self.laid:
            return
        self.laid.add(source)
        if n > 1 and (parts is None or parts.open):
            self.streams[str(source)] = parts = guessed(n)
        if parts is not None:
            self.draft.add(at, str(n), parts.evidence, number=float(n), guess=parts.guess)
        if parts is not None and parts.skew is not None:
            self.draft.add(f"{source}.skew", f"{parts.skew:.4f}", "of its events in the busiest", number=parts.skew)
        if parts is None or not parts.sure:
            self._unknown(name, f"how many partitions {source.name} has", str(n), "its settings or the bill", 0.3)
