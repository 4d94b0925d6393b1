"""From tables of attempts to a draft of a model: functions, what sets them off, demand, environments, incidents."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from echotally.evidence.fit.estimates import Estimate, Spread, share
from echotally.evidence.fit.rhythm import STRETCH_S
from echotally.evidence.survey.batches import batching_of
from echotally.evidence.survey.bills import Billed
from echotally.evidence.survey.draft import Draft, key_of, local_time, ms, rate_toml, span_toml, spread_toml, text_of
from echotally.evidence.survey.environments import Worlds
from echotally.evidence.survey.facts import Trouble, Unknown, short
from echotally.evidence.survey.levels import limit_met, slots_of
from echotally.evidence.survey.lines import Arrival, Output, Wiring
from echotally.evidence.survey.metrics import Metrics
from echotally.evidence.survey.rates import Rate, rate_of
from echotally.evidence.survey.redelivery import Redelivery, poison_of, redelivery_of
from echotally.evidence.survey.regimes import changes_of, troubles_of
from echotally.evidence.survey.runs import Runs, cold_of, runs_of
from echotally.evidence.survey.schedules import Guess, guess_schedule
from echotally.evidence.survey.tables import Counts, Sampled, Sums, Tables, Unit, model_name
from echotally.evidence.survey.wiring import kind_of
from echotally.model.sources import SourceKind, SourceRef

#: Timeouts that people choose, ms.
_TIMEOUTS = (3_000, 5_000, 10_000, 15_000, 30_000, 60_000, 120_000, 300_000, 600_000, 900_000, 1_800_000, 3_600_000)
#: Tries after which a pushed event is given up (the trigger's default), and the default of a queue's end of patience.
_TRIES = 3


@dataclass
class Found:
    """One function as the model will have it: which units it stands for, its sums, sample, runs and rate, as logged."""

    name: str
    units: list[Unit]
    sums: Sums
    counts: Counts
    sample: Sampled
    runs: Runs | None
    cold: Spread | None
    #: So many attempts stand for each one logged.
    by: float = 1.0
    rates: dict[str, Rate] = field(default_factory=dict)
    guesses: dict[str, Guess] = field(default_factory=dict)


@dataclass(frozen=True)
class Span:
    """What a survey looks at: from when to when (s since 1970), in which zone, for which month of the model."""

    first: float
    last: float
    zone: ZoneInfo
    prefer: tuple[str, ...]
    month: str
    since: Mapping[str, float] = field(default_factory=dict)


#: Events of a batch, on average, up to which attempts hold single events.
_ALONE = 1.05


class Assembler:
    """Makes one draft of one set of tables."""

    def __init__(
        self, tables: Tables, wiring: Wiring, worlds: Worlds, span: Span, billed: Billed | None, metrics: Metrics | None
    ) -> None:
        self.tables, self.wiring, self.worlds, self.span = tables, wiring, worlds, span
        self.billed, self.metrics = billed, metrics
        self.draft = Draft()
        self.functions: dict[str, Found] = {}
        self.taken: set[str] = set()
        self.triggers = 0
        self.poisoned: dict[str, float] = {}
        self.backs: dict[str, Redelivery | None] = {}
        #: How long a batch of a function waits to fill, s.
        self.waits: dict[str, float] = {}
        self.troubled: dict[str, list[Trouble]] = defaultdict(list)

    def made(self) -> Draft:
        """The whole draft, but for what is the estate's own."""
        for name, units in self.worlds.functions.items():
            self._function(name, units)
        for name, found in self.functions.items():
            self._set_off(name, found)
        self._lines()
        self._outside_services()
        self._environments()
        self._incidents()
        return self.draft

    # -- one function ---------------------------------------------------------------------------------------------
    def _function(self, name: str, units: list[Unit]) -> None:
        sums = self.tables.sums[units[0]]
        counts = self.tables.counts[units[0]]
        sample = self.tables.samples[units[0]]
        runs, cold = runs_of(sample, sums.mean_run), cold_of(sample)
        by = self.tables.by.get(units[0], 1.0)
        found = self.functions[name] = Found(name, units, sums, counts, sample, runs, cold, by)
        for trouble in troubles_of(units[0], counts):
            self.troubled[name].append(replace(trouble, function=name))
        at, draft = f"functions.{name}", self.draft
        self._memory(at, found)
        self._run(at, found)
        self._timeout(at, found)
        self._cold(at, found)
        self._errors(at, found)
        self._room(at, found)
        self._from_bill(at, found)
        tags = self.worlds.tags.get(units[0][0], {})
        if tags:
            inside = ", ".join(f"{key_of(key)} = {text_of(value)}" for key, value in sorted(tags.items()))
            draft.add(f"{at}.tags", f"{{ {inside} }}", "from its spans' resource")

    def _unknown(self, name: str, what: str, assumed: str, how: str, moves: float) -> None:
        self.draft.unknowns.append(Unknown(what, assumed, how, name, moves))

    def _memory(self, at: str, found: Found) -> None:
        sums, draft = found.sums, self.draft
        if sums.memory:
            draft.add(f"{at}.memory", f'"{round(sums.memory)} MB"', "given, as logged", number=sums.memory, unit="MB")
        else:
            draft.add(f"{at}.memory", '"512 MB"', "the log has no memory", guess=True)
            self._unknown(
                found.name, "memory given", "512 MB", "a column of memory in the log, or faas.max_memory", 1.0
            )
        if sums.used_most:
            # Rows with more than was given are odd and named as such; a model must not ask for more than it gives.
            used = min(math.ceil(sums.used_most), round(sums.memory or sums.used_most))
            draft.add(f"{at}.memory_used", f'"{used} MB"', "the most used", number=float(used), unit="MB")
        elif self.metrics and (mean := self.metrics.mean("memory", found.units[0])) and mean[0] > 0:
            used = min(max(1, math.ceil(mean[0] / 2**20)), round(sums.memory or 512))
            said = "the mean of faas.mem_usage; the most may be more"
            draft.add(
                f"{at}.memory_used", f'"{used} MB"', said, n=int(mean[1]), number=float(used), unit="MB", guess=True
            )
        else:
            self._unknown(
                found.name, "memory used", "all that is given", "a column of memory used, or faas.mem_usage", 0.02
            )
        self._unknown(
            found.name,
            "the share of its run that is CPU work",
            "0.5",
            "runs at two memory sizes, or `measure`; it matters where another memory or plan is weighed",
            0.0,
        )

    def _run(self, at: str, found: Found) -> None:
        runs, draft = found.runs, self.draft
        if runs is None:
            mean = self.metrics.mean("run", found.units[0]) if self.metrics else None
            value = mean[0] * 1_000 if mean else 1_000.0
            draft.add(f"{at}.run", ms(value), "no run of it ended well", guess=True)
            self._unknown(found.name, "its run time", ms(value), "a log with runs that end well", 1.0)
            return
        base, n = runs.base, runs.base.n
        toml = spread_toml(base, runs.kinds, f"{found.name}-run.csv", draft.files)
        n_all = found.sums.attempts["ok"]
        said = "two kinds of run" if runs.kinds else base.kind if base.kind != "samples" else "no formula fits: samples"
        draft.estimate(f"{at}.run", toml, base.median, max(n, n_all) if n > 1 else n, "ms at the median", said)
        for key, estimate in (("per_item", runs.per_item), ("per_mb", runs.per_mb)):
            if estimate is not None:
                draft.estimate(f"{at}.{key}", ms(estimate.value), estimate, n, "ms")
        for note in runs.notes:
            draft.note(at, note)
        if n < 30:
            few = f"only {n} run(s) of it were seen"
            draft.note(at, few)
            self._unknown(found.name, "its run time for certain", few, "a longer log", 0.5)

    def _timeout(self, at: str, found: Found) -> None:
        sums = found.sums
        if sums.timeout and sums.attempts["timeout"]:
            n = sums.attempts["timeout"]
            self.draft.add(
                f"{at}.timeout",
                ms(float(f"{sums.timeout:.4g}")),
                "where runs were cut",
                n=n,
                number=sums.timeout,
                unit="ms",
            )
            return
        longest = max(sums.longest, 1.0)
        value = next((each for each in _TIMEOUTS if each >= max(30_000.0, 1.2 * longest)), longest * 2)
        self.draft.add(
            f"{at}.timeout", ms(value), f"none was met; the longest run took {short(longest)} ms", guess=True
        )
        self._unknown(
            found.name, "its timeout", ms(value).strip('"'), "its settings, or a log with a run that met it", 0.01
        )

    def _cold(self, at: str, found: Found) -> None:
        sums, n = found.sums, found.sums.cold
        if found.cold is not None:
            toml = spread_toml(found.cold, (), f"{found.name}-cold.csv", self.draft.files)
            said = f"{n:,} of {sums.started:,} attempts started cold"
            self.draft.estimate(f"{at}.cold_start", toml, found.cold.median, found.cold.n, "ms at the median", said)
            return
        mean = self.metrics.mean("cold", found.units[0]) if self.metrics else None
        if mean is not None:
            value = mean[0] * 1_000
            self.draft.add(
                f"{at}.cold_start", ms(value), "the mean of faas.init_duration", n=int(mean[1]), number=value, unit="ms"
            )
            return
        said = "cold starts are flagged, their length is not told" if n else "the log tells nothing of cold starts"
        self.draft.add(f"{at}.cold_start", '"400 ms"', said, guess=True)
        how = "a column of the cold start, or faas.init_duration"
        self._unknown(found.name, "how long its instances take to start", "400 ms", how, 0.05)

    def _errors(self, at: str, found: Found) -> None:
        """The share of runs that fail when nothing is wrong; stretches in which something was are incidents."""
        counts, kept = found.counts, np.ones(len(found.counts.stretch), bool)
        for trouble in self.troubled[found.name]:
            begins = counts.stretch * STRETCH_S
            at_s = trouble.at.timestamp()
            kept &= ~((begins >= at_s) & (begins < at_s + trouble.lasts_s))
        bad, n = float(counts.errors[kept].sum()), float(counts.attempts[kept].sum())
        if n < 1:
            return
        poison = poison_of(self.tables, found.units[0][0], self.troubled[found.name]) if bad else None
        if poison is not None:
            bad = max(0.0, bad - poison.attempts)
            part = share(poison.messages, round(poison.of))
            self.poisoned[found.name] = part.value
            said = f"{poison.messages:,} messages failed every time they were tried"
            self.draft.estimate(f"{at}.poison_rate", f"{part.value:.4g}", part, round(poison.of), "", said)
        rate = share(round(bad), round(n))
        if rate.value > 0:
            toml = f"{rate.value:.4g}" if rate.value >= 1e-4 else f"{rate.value:.8f}".rstrip("0")
            self.draft.estimate(f"{at}.error_rate", toml, rate, round(n), "", f"{round(bad):,} failed, here and there")
            if poison is None:
                self._unknown(
                    found.name,
                    "whether the same events fail every time",
                    "errors come by chance",
                    "messages with ids in the log, tried again",
                    rate.value,
                )

    def _room(self, at: str, found: Found) -> None:
        slots = slots_of(self.tables, found.units[0][0])
        if slots > 1:
            self.draft.add(f"{at}.slots", str(slots), "most calls one host had at once", number=float(slots))
        if found.sums.attempts["throttled"]:
            limit = limit_met(self.tables, found.units[:1])
            if limit is not None and limit != self.worlds.concurrency:
                said = f"{found.sums.attempts['throttled']:,} attempts were throttled at this many in flight"
                self.draft.add(f"{at}.instance_limit", str(max(1, math.ceil(limit / slots))), said, number=float(limit))
            elif self.worlds.concurrency is None:
                how = "its settings and the plan's"
                self._unknown(found.name, "the limit at which it was throttled", "none", how, 0.2)

    def _from_bill(self, at: str, found: Found) -> None:
        """Sizes that only the bill tells: log, replies, package; and what floors it paid for."""
        if self.billed is None:
            return
        function, environment = found.units[0]
        n = self._in_bill(found)
        for key, meter, per in (("log_bytes", "log_gb", n), ("reply_bytes", "egress_gb", self._good_in_bill(found))):
            quantity = float(self.billed.of(meter, function, environment))
            if quantity and per:
                size = quantity * 1e9 / per
                self.draft.add(
                    f"{at}.{key}", _bytes(size), f"{meter} on the bill, for each call", number=size, unit="B"
                )
        packages = float(self.billed.of("storage_gb_months", function, environment))
        if packages:
            self.draft.add(
                f"{at}.package",
                _bytes(packages * 1e9),
                "storage_gb_months on the bill",
                number=packages * 1e9,
                unit="B",
            )
        idle = float(self.billed.of("idle_gb_seconds", function, environment))
        if idle and found.sums.memory:
            floor = idle / (found.sums.memory / 1_024 * self.worlds.bill_seconds)
            if round(floor) >= 1:
                said = f"{short(floor)} instances were idle on average on the bill"
                self.draft.add(f"{at}.instance_floor", str(round(floor)), said, number=floor)
            else:
                self._unknown(
                    found.name, "when an instance is kept warm", f"never; the bill has {short(floor)} of one on average",
                    "its settings; `instance_floors` takes hours", 0.2,
                )  # fmt: skip

    def _in_bill(self, found: Found) -> float:
        """Attempts started in the billed month."""
        counts = found.counts.window(*self.worlds.bill_span)
        return float(counts.attempts.sum()) * found.by

    def _good_in_bill(self, found: Found) -> float:
        counts = found.counts.window(*self.worlds.bill_span)
        return float((counts.attempts - counts.errors - counts.timeouts).sum()) * found.by

    # -- what sets it off -----------------------------------------------------------------------------------------
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
        rows = self.tables.log.query(
            "SELECT t FROM named WHERE f = ? AND e = ? AND outcome <> 'throttled' AND t < ? AND t >= ?"
            " AND (? OR coalesce(source, '') = ?) ORDER BY t LIMIT 200001",
            [function, environment, self.tables.until, found.sums.first,
             len(self.wiring.arrivals.get(function, ())) < 2, self._as_logged(arrival)],
        )  # fmt: skip
        return np.array([float(row[0]) for row in rows])

    def _as_logged(self, arrival: Arrival) -> str:
        return arrival.source.name

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
            self._unknown(name, "what sets it off", f"{source.kind.value[:-1]} {source.name}: {arrival.evidence}",
                          "faas.trigger or messaging attributes in spans, or its settings", 0.1)  # fmt: skip
        rate = self._rate(found, arrival)
        keys: dict[str, str] = {}
        if source.kind is SourceKind.QUEUES and not draft.has(f"{address}.visibility"):
            self._comes_back(name, found, address)
        if source.kind.traits.batched:
            keys = self._batching(name, found, arrival, rate)
        if source.kind is SourceKind.STREAMS:
            self._partitions(found, source)
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
        sample = found.sample
        expected = rate.expected((sample.t // STRETCH_S).astype(np.int64), self.span.zone)
        parts = self._partition_count(found) if arrival.source.kind is SourceKind.STREAMS else 1
        batching = batching_of(sample, expected, parts)
        keys = {}
        if batching.batch > 1:
            most = round(float(sample.events.max(initial=1)))
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
            keys["batch_wait"] = f"{ms(wait.value * 1_000)}  # 95 %: {short(wait.low)} to {short(wait.high)} s"
            if parts > 1:
                keys["batch_wait"] += f", for {parts} partitions"
        if batching.batch == 1:
            self._unknown(name, "how many events a batch may hold", "1, the most seen", "its settings", 0.05)
        return keys

    def _partition_count(self, found: Found) -> int:
        if self.billed is None:
            return 1
        hours = float(self.billed.of("stream_partition_hours", found.units[0][0], found.units[0][1]))
        return max(1, round(hours * 3_600 / self.worlds.bill_seconds)) if hours else 1

    def _partitions(self, found: Found, source: SourceRef) -> None:
        n = self._partition_count(found)
        if self.draft.has(f"{source}.partitions"):
            return
        if n > 1:
            self.draft.add(f"{source}.partitions", str(n), "stream_partition_hours on the bill", number=float(n))
        elif self.billed is None or not self.billed.of("stream_partition_hours", found.units[0][0]):
            self._unknown(found.name, f"how many partitions {source.name} has", "1", "its settings or the bill", 0.3)

    def _feed(self, topic: str, source: SourceRef, found: Found) -> None:
        self.worlds.feeds[topic].append((source, self.wiring.shares.get((topic, str(source)))))

    def _demand(self, name: str, found: Found, arrival: Arrival, rate: Rate) -> None:
        """Events from outside, where no function is known to put them there."""
        into = SourceRef.of(SourceKind.TOPICS, arrival.topic) if arrival.topic else arrival.source
        outside = self.wiring.outside.get(found.units[0][0], 1.0) if self.wiring.traced else 1.0
        if self._produced(into, arrival.source) and (outside == 0.0 or not self.wiring.traced):
            return
        if into.kind is SourceKind.TOPICS:
            self.worlds.topic_demand[into.name].append((found, rate, outside))
            return
        self._put_demand(into, rate, outside, found.sums.started)

    def _produced(self, *sources: SourceRef) -> bool:
        targets = {each.target for each in (*self.wiring.emits, *self.wiring.asks)}
        return any(source in targets for source in sources)

    def _put_demand(self, into: SourceRef, rate: Rate, part: float, n: int) -> None:
        if rate.rhythm.rate.value * part <= 0:
            return
        name = into.name if f"demand.{into.name}" not in self.taken else f"{into.name}-{into.kind.value}"
        self.taken.add(f"demand.{name}")
        at, draft = f"demand.{name}", self.draft
        rhythm = rate.rhythm
        scaled = Estimate(*(value * part for value in (rhythm.rate.value, rhythm.rate.low, rhythm.rate.high)))
        draft.add(f"{at}.into", text_of(str(into)))
        per_h = Estimate(scaled.value * 3_600, scaled.low * 3_600, scaled.high * 3_600)
        said = f"over {rhythm.days:.1f} days" + (
            f"; {part:.0%} of all, the rest is put there by functions" if part < 1 else ""
        )
        draft.estimate(f"{at}.rate", rate_toml(scaled.value), per_h, round(rate.total * part), "/h", said)
        if rate.spread != "poisson":
            draft.add(
                f"{at}.spread",
                text_of(rate.spread),
                f"counts scatter {short(rhythm.dispersion)} times as much as chance",
            )
            if rate.burst is not None:
                draft.add(f"{at}.burst", short(rate.burst), "mean size of bursts of such scatter", number=rate.burst)
        for key, weights in (("day_shape", rhythm.day), ("week_shape", rhythm.week)):
            if weights is not None:
                draft.add(f"{at}.{key}", "[" + ", ".join(short(round(w.value, 3)) for w in weights) + "]")
        inside = [s for s in rate.surges if self._in_month(s.at)]
        if inside:
            rows = [
                f"{{ at = {local_time(s.at, self.span.zone)}, lasts = {span_toml(s.lasts_s)}, times = {short(s.times)} }}"
                for s in inside
            ]
            draft.add(f"{at}.surges", "[" + ", ".join(rows) + "]", "far above what its hours see otherwise")
        for surge in rate.surges:
            if surge not in inside:
                when = datetime.fromtimestamp(surge.at, self.span.zone)
                draft.note(
                    at, f"a surge of {short(surge.times)} times on {when:%Y-%m-%d %H:%M} lies outside the model's month"
                )
        if rate.growth is not None:
            growth = rate.growth
            toml = f"{max(-0.95, growth.value):.3g}"
            draft.estimate(f"{at}.growth", toml, growth, round(rhythm.days), "a month", "trend of its daily counts")

    def _in_month(self, at_s: float) -> bool:
        return datetime.fromtimestamp(at_s, self.span.zone).strftime("%Y-%m") == self.span.month

    # -- lines between functions ----------------------------------------------------------------------------------
    def _lines(self) -> None:
        names = {units[0][0]: name for name, units in self.worlds.functions.items()}
        for outputs, key in ((self.wiring.emits, "emits"), (self.wiring.asks, "asks")):
            by_function: dict[str, list[Output]] = defaultdict(list)
            for output in outputs:
                if output.function in names:
                    by_function[names[output.function]].append(output)
            for name, group in by_function.items():
                self._put_outputs(name, key, group)
        for topic, feeds in self.worlds.feeds.items():
            self._put_topic(topic, feeds)
        for topic in self.worlds.topic_demand:
            self._topic_demand(topic)

    def _put_outputs(self, name: str, key: str, group: list[Output]) -> None:
        word = "into" if key == "emits" else "to"
        rows, said = [], []
        for output in group:
            target = str(output.target)
            if target not in self.taken and not self.draft.has(target):
                self.taken.add(target)
                self.draft.add(f"{target}.", "")
                read = {a.source for g in self.wiring.arrivals.values() for a in g}
                if output.target not in read and output.target.name not in self.wiring.topics:
                    self.draft.note(target, "nothing was seen to take events from here")
            size = f", payload = {_bytes(output.payload)}" if output.payload else ""
            rows.append(f"{{ {word} = {text_of(target)}, each = {output.each:.6g}{size} }}")
            # Counts of a share scatter as counts do.
            half = 1.96 * math.sqrt(max(1, output.n)) / output.handled
            said.append(
                f"{output.evidence} ({short(output.each)} ± {short(half)} of each of {output.handled:,.0f} handled)"
            )
        guess = any(output.guess for output in group)
        self.draft.add(f"functions.{name}.{key}", "[" + ", ".join(rows) + "]", "; ".join(said), guess=guess)
        if guess:
            into = ", ".join(str(output.target) for output in group if output.guess)
            how = "links between spans, or what the function's code sends"
            self._unknown(name, f"whether it puts events into {into}", "it does: starts follow its ends", how, 0.05)

    def _put_topic(self, topic: str, feeds: list[tuple[SourceRef, tuple[float, int] | None]]) -> None:
        rows, said = [], []
        for source, known in feeds:
            value = known[0] if known else self.worlds.relative(topic, source)
            rows.append(f"{{ into = {text_of(str(source))}, share = {min(1.0, value):.6g} }}")
            said.append(
                f"{source.name} of {known[1]:,} published"
                if known
                else f"{source.name} beside the busiest taker: a guess"
            )
        self.draft.add(f"topics.{topic}.feeds", "[" + ", ".join(rows) + "]", "shares of " + ", ".join(said))

    def _topic_demand(self, topic: str) -> None:
        """Published from outside: as many as the busiest taker took, for want of a count of what was published."""
        takers = self.worlds.topic_demand[topic]
        found, rate, outside = max(takers, key=lambda each: each[1].total)
        self._put_demand(SourceRef.of(SourceKind.TOPICS, topic), rate, outside, found.sums.started)
        if len(takers) > 1:
            self._unknown("", f"how many events are published to {topic}", f"as many as {found.name} took",
                          "metrics or spans of what publishes", 0.02)  # fmt: skip

    def _outside_services(self) -> None:
        if self.billed is None:
            return
        names = {units[0][0]: name for name, units in self.worlds.functions.items()}
        used: dict[str, list[tuple[str, float, float]]] = defaultdict(list)
        for (service, function), (n, cost) in self.billed.outside.items():
            if function not in names:
                continue
            good = float(
                sum(
                    self.tables.counts[u].window(*self.worlds.bill_span).good.sum() * self.tables.by.get(u, 1.0)
                    for u in self.worlds.all_units(function)
                )
            )
            quantity = float(n) or 1.0
            self.draft.add(
                f"outside.{service}.unit",
                f'"{(cost / n if n else cost):f}"',
                f"{cost} for {short(quantity)} uses on the bill",
            )
            used[names[function]].append((service, quantity / good if good else 1.0, quantity))
        for name, rows in used.items():
            inside = ", ".join(f"{{ what = {text_of(service)}, each = {each:.6g} }}" for service, each, _ in rows)
            said = ", ".join(f"{short(n)} uses of {service} on the bill" for service, _, n in rows)
            self.draft.add(f"functions.{name}.uses", f"[{inside}]", said)

    # -- environments, incidents ----------------------------------------------------------------------------------
    def _environments(self) -> None:
        for name, world in self.worlds.environments.items():
            at = f"environments.{name}"
            if world is None:
                self.draft.add(f"{at}.", "")
                continue
            self.draft.estimate(
                f"{at}.demand", f"{world.factor.value:.6g}", world.factor, world.n, "", "of the first one's events"
            )
            if not world.schedules:
                self.draft.add(f"{at}.schedules", "false", "none of its schedules fired there")

    def _incidents(self) -> None:
        number = 0
        for name, group in self.troubled.items():
            for trouble in group:
                self.draft.troubles.append(trouble)
                if not self._in_month(trouble.at.timestamp()):
                    continue
                at = f"incidents.{number}"
                number += 1
                when = trouble.at.astimezone(self.span.zone)
                self.draft.add(f"{at}.name", text_of(f"{name}: {trouble.kind} on {when:%d %b %H:%M}"))
                self.draft.add(f"{at}.at", f'"{when:%Y-%m-%dT%H:%M}"')
                self.draft.add(f"{at}.lasts", span_toml(trouble.lasts_s), "to a quarter of an hour")
                self.draft.add(f"{at}.functions", f"[{text_of(name)}]")
                if len(self.worlds.environments) > 1:
                    self.draft.add(f"{at}.environments", f"[{text_of(trouble.environment)}]")
                self._what_went_wrong(at, name, trouble)

    def _what_went_wrong(self, at: str, name: str, trouble: Trouble) -> None:
        said = f"{trouble.share:.0%} of {trouble.n:,} attempts, {trouble.usual:.2%} otherwise"
        if trouble.kind == "timeouts" and trouble.share > 0.8:
            longest = max(2 * (self.functions[name].sums.timeout or 60_000.0), 3_600_000.0)
            self.draft.add(f"{at}.run", ms(longest), f"hung until the timeout: {said}")
        elif trouble.kind == "timeouts":
            timeout, usual = self.functions[name].sums.timeout or 30_000.0, self.functions[name].sums.mean_run
            mix = f"{{ mix = [{{ share = {1 - trouble.share:.4g}, constant = {ms(usual)} }}, {{ share = {trouble.share:.4g}, constant = {ms(2 * timeout)} }}] }}"
            self.draft.add(f"{at}.run", mix, f"timed out: {said}")
        else:
            self.draft.add(f"{at}.error_rate", f"{trouble.share:.4g}", said)


def _bytes(size: float) -> str:
    """A size as a setting would have it: three digits, where that is within half a percent."""
    plain = float(f"{size:.3g}")
    size = plain if abs(plain - size) < 0.005 * size else size
    for unit, factor in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if size >= factor:
            return f'"{size / factor:.6g} {unit}"'
    return f'"{size:.6g} B"' if size >= 1 else '"0 B"'


def changes_in(tables: Tables, names: Mapping[str, list[Unit]], zone: ZoneInfo) -> dict[str, list[object]]:
    """Changes of each function for good, by its name in the log."""
    found: dict[str, list[object]] = {}
    versions = tables.query("SELECT f, version, min(t) FROM {seen} WHERE version IS NOT NULL GROUP BY f, version")
    for units in names.values():
        unit = units[0]
        mine = {str(v): float(at) for f, v, at in versions if f == unit[0]}
        changes = changes_of(unit[0], tables.counts[unit], tables.samples[unit], zone, mine)
        if changes:
            found[unit[0]] = list(changes)
    return found


__all__ = ["Assembler", "Found", "Span", "changes_in", "kind_of"]
