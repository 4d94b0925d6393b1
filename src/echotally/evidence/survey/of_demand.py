"""Events from outside, as demand of the model."""

from __future__ import annotations

from datetime import datetime

from echotally.evidence.fit.estimates import Estimate
from echotally.evidence.survey.assembly import Assembly, Found
from echotally.evidence.survey.draft import local_time, rate_toml, span_toml, text_of
from echotally.evidence.survey.facts import short
from echotally.evidence.survey.lines import Arrival
from echotally.evidence.survey.rates import Rate
from echotally.model.sources import SourceKind, SourceRef


class OfDemand(Assembly):
    """Where events come in that no function is known to put there."""

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
        self._put_surges(at, rate)
        if rate.growth is not None:
            growth = rate.growth
            toml = f"{max(-0.95, growth.value):.3g}"
            draft.estimate(f"{at}.growth", toml, growth, round(rhythm.days), "a month", "trend of its daily counts")

    def _put_surges(self, at: str, rate: Rate) -> None:
        draft = self.draft
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

    def _topic_demand(self, topic: str) -> None:
        """Published from outside: as many as the busiest taker took, for want of a count of what was published."""
        takers = self.worlds.topic_demand[topic]
        found, rate, outside = max(takers, key=lambda each: each[1].total)
        self._put_demand(SourceRef.of(SourceKind.TOPICS, topic), rate, outside, found.sums.started)
        if len(takers) > 1:
            self._unknown(
                "",
                f"how many events are published to {topic}",
                f"as many as {found.name} took",
                "metrics or spans of what publishes",
                0.02,
            )
