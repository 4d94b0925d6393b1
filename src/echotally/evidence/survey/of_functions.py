"""From one function's attempts to its part of the model: memory, run time, timeout, cold starts, errors, limits."""

from __future__ import annotations

import math

import numpy as np
from msgspec.structs import replace

from echotally.evidence.fit.estimates import share
from echotally.evidence.fit.rhythm import STRETCH_S
from echotally.evidence.survey.assembly import Assembly, Found, size_toml
from echotally.evidence.survey.draft import ms, spread_toml, text_of
from echotally.evidence.survey.facts import short
from echotally.evidence.survey.levels import slots_of
from echotally.evidence.survey.redelivery import poison_of
from echotally.evidence.survey.regimes import troubles_of
from echotally.evidence.survey.runs import cold_of, runs_of
from echotally.evidence.survey.tables import Unit
from echotally.model.addresses import key_of

#: Timeouts that people choose, ms.
_TIMEOUTS = (3_000, 5_000, 10_000, 15_000, 30_000, 60_000, 120_000, 300_000, 600_000, 900_000, 1_800_000, 3_600_000)


class OfFunctions(Assembly):
    """A function's own keys, each with its evidence."""

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
            limit = self.worlds.limits.get(found.units[0])
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
                    f"{at}.{key}", size_toml(size), f"{meter} on the bill, for each call", number=size, unit="B"
                )
        packages = float(self.billed.of("storage_gb_months", function, environment))
        if packages:
            self.draft.add(
                f"{at}.package",
                size_toml(packages * 1e9),
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
                    found.name,
                    "when an instance is kept warm",
                    f"never; the bill has {short(floor)} of one on average",
                    "its settings; `instance_floors` takes hours",
                    0.2,
                )

    def _in_bill(self, found: Found) -> float:
        """Attempts started in the billed month."""
        counts = found.counts.window(*self.worlds.bill_span)
        return float(counts.attempts.sum()) * found.by

    def _good_in_bill(self, found: Found) -> float:
        counts = found.counts.window(*self.worlds.bill_span)
        return float((counts.attempts - counts.errors - counts.timeouts).sum()) * found.by
