"""Lines between functions: what they put out, topics with their takers, services outside that they use."""

from __future__ import annotations

import math
from collections import defaultdict

from echotally.evidence.survey.assembly import size_toml
from echotally.evidence.survey.draft import text_of
from echotally.evidence.survey.facts import short
from echotally.evidence.survey.lines import Output
from echotally.evidence.survey.of_demand import OfDemand
from echotally.model.sources import SourceRef


class OfLines(OfDemand):
    """What joins functions to one another and to the outside."""

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
            size = f", payload = {size_toml(output.payload)}" if output.payload else ""
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
