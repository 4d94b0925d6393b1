"""The map of an estate: demand, sources, functions and what they put out, with events, money and trouble of a played month.

No layout and no picture: ``layers`` says only what comes after what. Views draw it (``output.projection.map_chart``) or write it
as text. Above ``MOST`` functions they are grouped by a tag, by the first word of their names, or the cheaper ones together.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping
from decimal import Decimal

from msgspec import Struct, field
from msgspec.structs import replace

from echotally.engine.reading import UnitMeasured
from echotally.model.estate import Model
from echotally.model.sources import SourceKind, SourceRef
from echotally.projection.answer import PlayedPlan, Projection

#: So many functions can each have a place of their own.
MOST = 60
#: Less than this share of attempts throttled, or of events left behind, is no trouble worth a mark.
THROTTLED, _FEW = 0.001, 0.0001
#: A wait of this length is trouble where no target says what is wanted, s.
_LONG = 60.0


#: First words that bring functions together are no more than that; else so many of the dearest stand alone.
_WORDS, _ALONE = 30, 20


class Trouble(Struct, frozen=True):
    """What went wrong at a function: ``kind`` is "lost" (events), "throttled" (share of attempts) or "waiting" (p95, s)."""

    kind: str
    figure: float


class Node(Struct, frozen=True):
    """A place: ``kind`` is "demand", a source's kind, "function", "group" or "outside"; ``events`` come to it in the month.

    ``cost`` is unrounded money, None where nobody is billed for the place itself.
    """

    key: str
    kind: str
    label: str
    events: float
    cost: Decimal | None = None
    troubles: tuple[Trouble, ...] = ()
    members: tuple[str, ...] = ()


class Line(Struct, frozen=True):
    """Events that go from one place to the next; ``kind`` is "flow", "asks" or "letters" (dead letters)."""

    start: str
    end: str
    events: float
    kind: str = "flow"


class EstateMap(Struct, frozen=True):
    """Places by key and the lines between them; ``grouped`` names what functions were grouped by, None: each has its place."""

    plan: str
    nodes: Mapping[str, Node]
    lines: tuple[Line, ...]
    grouped: str | None = None

    def layers(self) -> dict[str, int]:
        """How far each place is from what comes in: one more than the farthest place before it.

        Lines of dead letters do not push a place outward. A circle, which only a grouping can make, is cut where it closes.
        """
        before: dict[str, list[str]] = defaultdict(list)
        for line in self.lines:
            if line.kind != "letters":
                before[line.end].append(line.start)
        # Each place is asked once: the depth of what stands before it is kept.
        found: dict[str, int] = {}

        def depth(key: str, above: frozenset[str]) -> int:
            if key not in found:
                found[key] = max(
                    (1 + depth(k, above | {key}) for k in before[key] if k not in above and k != key), default=0
                )
            return found[key]

        for key in self.nodes:
            depth(key, frozenset())
        # What only dead letters reach stands behind whoever gave them up.
        for line in self.lines:
            if line.kind == "letters" and not before[line.end]:
                found[line.end] = max(found[line.end], found[line.start] + 1)
        return found

    def after(self, key: str) -> list[Line]:
        """The lines that leave a place, the widest first."""
        return sorted((line for line in self.lines if line.start == key), key=lambda line: (-line.events, line.end))


def estate_map(projection: Projection, plan: PlayedPlan, most: int = MOST) -> EstateMap:
    """The map of a month as it was played on ``plan``, all environments together; grouped above ``most`` functions."""
    whole = _Mapped(projection, plan).map()
    return whole if len(projection.model.functions) <= most else grouped(whole, projection.model)


class _Mapped(Struct, dict=True):
    projection: Projection
    plan: PlayedPlan
    lines: list[Line] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.model = self.projection.model
        measured = self.plan.measured
        self.arrived: Counter[str] = Counter()
        for source in measured.sources:
            # Of streams and topics what arrived is counted for every reader.
            copied = source.source.kind in (SourceKind.STREAMS, SourceKind.TOPICS)
            self.arrived[source.source] += source.sends if copied else source.arrived
        self.units: dict[str, list[UnitMeasured]] = defaultdict(list)
        for unit in measured.units:
            self.units[unit.unit.function].append(unit)

    def map(self) -> EstateMap:
        self.lines += self._from_inside()
        self.lines += self._from_outside()
        self.lines += self._to_functions()
        self.lines += self._outside_services()
        nodes = {node.key: node for node in self._nodes()}
        kept = tuple(line for line in self.lines if line.start in nodes and line.end in nodes)
        return EstateMap(self.plan.offer.name, nodes, kept)

    # -- lines ----------------------------------------------------------------------------------------------------
    def _from_inside(self) -> Iterator[Line]:
        """What functions put out, asked and gave up, and what topics copied."""
        # The counters do not say why something was put in; the model does.
        wired = {(name, emit.into): "flow" for name, f in self.model.functions.items() for emit in f.emits}
        wired |= {(name, ask.to): "asks" for name, f in self.model.functions.items() for ask in f.asks}
        sums: Counter[tuple[str, str, str]] = Counter()
        for put in self.plan.measured.put_in:
            start = put.writer if put.topic else f"functions.{put.writer}"
            given_up = put.origin is not None and not put.topic
            kind = "letters" if given_up else wired.get((put.writer, put.source), "flow")
            sums[start, put.source, kind] += put.events
        yield from (Line(start, end, events, kind) for (start, end, kind), events in sums.items() if events)

    def _from_outside(self) -> Iterator[Line]:
        """What demand brought: what arrived less what came from inside, shared by what each demand expected."""
        inside: dict[str, float] = defaultdict(float)
        for line in self.lines:
            inside[line.end] += line.events
        expected: dict[str, dict[str, float]] = defaultdict(lambda: defaultdict(float))
        for tap in self.projection.month.taps:
            if tap.demand is not None:
                # Clients come as often as they are answered; their number stands for that.
                expected[tap.source][tap.demand] += tap.expected or tap.clients
        for source, wanted in expected.items():
            whole, came = sum(wanted.values()), max(0.0, self.arrived[source] - inside[source])
            yield from (
                Line(f"demand.{name}", source, came * share / whole if whole else 0.0) for name, share in wanted.items()
            )

    def _to_functions(self) -> Iterator[Line]:
        """What came to each function, by trigger: as counted, shared by what arrived at its sources."""
        for name in self.model.functions:
            triggers = [t for t in self.model.triggers if t.to == name]
            came = sum(unit.events["in"] for unit in self.units[name])
            # A function counts its events once, whatever brought them: each trigger's part is by what came to its
            # source.
            weights = [max(0.0, float(self.arrived[t.from_])) * t.share for t in triggers]
            whole = sum(weights)
            for trigger, weight in zip(triggers, weights, strict=True):
                yield Line(trigger.from_, f"functions.{name}", came * weight / whole if whole else came / len(triggers))

    def _outside_services(self) -> Iterator[Line]:
        for name, function in self.model.functions.items():
            for use in function.uses:
                quantity = sum(
                    unit.served + unit.duplicates if use.on == "handled" else unit.started_items
                    for unit in self.units[name]
                )
                yield Line(f"functions.{name}", f"outside.{use.what}", use.each * quantity)

    # -- places ---------------------------------------------------------------------------------------------------
    def _nodes(self) -> Iterator[Node]:
        came: dict[str, float] = defaultdict(float)
        left: dict[str, float] = defaultdict(float)
        for line in self.lines:
            came[line.end] += line.events
            left[line.start] += line.events
        for name in self.model.demand:
            yield Node(f"demand.{name}", "demand", name, left[f"demand.{name}"])
        sources = {*came, *left}
        for address in self._addresses():
            if address in sources:
                events = left[address] if address.kind is SourceKind.SCHEDULES else max(came[address], 0.0)
                yield Node(address, address.kind.value, address.name, events)
        for name in self.model.functions:
            yield Node(
                f"functions.{name}",
                "function",
                name,
                came[f"functions.{name}"],
                self._cost_of(name),
                tuple(self._troubles(name)),
            )
        bought = {use.what for function in self.model.functions.values() for use in function.uses}
        for name in self.model.outside:
            if name in bought:
                cost = sum(
                    (line.amount for line in self.plan.bill.lines if line.meter == f"outside.{name}"), Decimal(0)
                )
                yield Node(f"outside.{name}", "outside", name, came[f"outside.{name}"], cost)

    def _addresses(self) -> Iterator[SourceRef]:
        model = self.model
        for kind in SourceKind:
            yield from (SourceRef.of(kind, name) for name in getattr(model, kind.value))

    def _cost_of(self, name: str) -> Decimal:
        """What the function pays, without outside services: those have places of their own."""
        whole = sum((cost for key, cost in self.plan.bill.functions.items() if key[0] == name), Decimal(0))
        return whole - self._outside_of(name)

    def _outside_of(self, name: str) -> Decimal:
        metered = self.plan.metered.quantities
        found = Decimal(0)
        for line in self.plan.bill.lines:
            if line.meter.startswith("outside."):
                quantities = [q for meters in metered.values() for q in (meters.get(line.meter, {}),)]
                whole = sum((sum(q.values(), Decimal(0)) for q in quantities), Decimal(0))
                mine = sum((v for q in quantities for key, v in q.items() if key and key[0] == name), Decimal(0))
                found += line.amount * mine / whole if whole else Decimal(0)
        return found

    def _troubles(self, name: str) -> Iterator[Trouble]:
        units = self.units[name]
        lost = sum(unit.left_behind_events for unit in units)
        came = sum(unit.events["in"] for unit in units)
        # A handful lost of millions is no mark on a map.
        if lost > came * _FEW:
            yield Trouble("lost", float(lost))
        attempts = sum(unit.attempts["total"] for unit in units)
        share = sum(unit.attempts["throttled"] for unit in units) / attempts if attempts else 0.0
        if share >= THROTTLED:
            yield Trouble("throttled", share)
        missed = [m.found for m in self.plan.misses if m.function == name and m.target == "wait_p95"]
        wait = max((unit.waits.p95 for unit in units if unit.waits.p95 is not None), default=0.0)
        # Who waits for a batch to fill was told to.
        filling = max((t.batch_wait for t in self.model.triggers if t.to == name), default=0) / 1e9
        wanted = self.model.functions[name].targets
        own = wanted.wait_p95 if wanted is not None else None
        if missed or (own is None and self.model.targets.wait_p95 is None and wait >= _LONG + filling):
            yield Trouble("waiting", max([wait, *missed]))


# -- grouping -----------------------------------------------------------------------------------------------------
def grouped(whole: EstateMap, model: Model) -> EstateMap:
    """As ``whole``: functions of a group at one place; sources between the same groups, and demands of the same source's group, together."""
    by, groups = _groups(model, whole)
    many = Counter(groups.values())
    # A group of one is itself.
    moved = {
        f"functions.{name}": f"groups.{group}" if many[group] > 1 else f"functions.{name}"
        for name, group in groups.items()
    }
    # A source belongs with whoever reads it: its readers' group and kind are its place.
    readers = {line.start: moved[line.end] for line in whole.lines if line.end in moved}
    for key, node in whole.nodes.items():
        if key in readers and node.kind not in ("function", "demand", "outside"):
            reader = readers[key]
            # Of a function that stands alone its sources do too.
            moved[key] = f"{node.kind} of {reader.removeprefix('groups.')}" if reader.startswith("groups.") else key
    feeders: dict[str, set[str]] = defaultdict(set)
    for line in whole.lines:
        feeders[line.end].add(moved.get(line.start, line.start))
    for key, reader in readers.items():
        # What only a group hands to itself is within it.
        if feeders[key] == {reader}:
            moved[key] = reader
    for line in whole.lines:
        if line.start.startswith("demand.") and moved.get(line.end, line.end) != line.end:
            moved.setdefault(line.start, f"demand of {moved.get(line.end, line.end)}")
    lines: dict[tuple[str, str, str], float] = defaultdict(float)
    for line in whole.lines:
        start, end = moved.get(line.start, line.start), moved.get(line.end, line.end)
        if start != end:
            lines[start, end, line.kind] += line.events
    nodes = {node.key: node for node in _merged(whole, moved)}
    return EstateMap(
        whole.plan, nodes, tuple(Line(start, end, n, kind) for (start, end, kind), n in lines.items()), grouped=by
    )


def _groups(model: Model, whole: EstateMap) -> tuple[str, dict[str, str]]:
    """What functions are grouped by, and each one's group: the tag that most have, else the first word of the name where that
    brings many together, else those that cost most stand alone and the rest together.
    """
    tags = Counter(tag for function in model.functions.values() for tag in function.tags)
    for tag, n in tags.most_common():
        # A tag that half of them lack, or that each has for itself, groups nothing.
        values = {function.tags.get(tag, "(no tag)") for function in model.functions.values()}
        if n * 2 >= len(model.functions) and 1 < len(values) <= MOST:
            return f"tag {tag}", {name: f.tags.get(tag, "(no tag)") for name, f in model.functions.items()}
    words = {name: name.replace("_", "-").replace(".", "-").partition("-")[0] for name in model.functions}
    if 1 < len(set(words.values())) <= _WORDS:
        return "first word", words
    nodes = [whole.nodes[f"functions.{name}"] for name in model.functions]
    dear = sorted(nodes, key=lambda node: (-(node.cost or 0), -node.events, node.label))[:_ALONE]
    alone = {node.label for node in dear} | {node.label for node in nodes if node.troubles}
    alone = alone if len(alone) <= MOST else {node.label for node in dear}
    return f"cost, {len(alone)} alone", {name: name if name in alone else "others" for name in model.functions}


def _merged(whole: EstateMap, moved: Mapping[str, str]) -> Iterator[Node]:
    """Places of the grouped map, in the order of their first members."""
    together: dict[str, list[Node]] = {}
    for key, node in whole.nodes.items():
        together.setdefault(moved.get(key, key), []).append(node)
    for key, everything in together.items():
        # A group is told by its functions; what they hand to each other is within it.
        members = [node for node in everything if node.kind == "function"] or everything
        first = members[0]
        if key == first.key:
            yield first
            continue
        kind = "group" if first.kind == "function" else first.kind
        what = {"function": "functions"}.get(first.kind, first.kind)
        name = key.removeprefix("groups.") if kind == "group" else ""
        label = (
            f"{name}: {len(members)} {what}" if name else f"{len(members)} {what}" if len(members) > 1 else first.label
        )
        costs = [member.cost for member in members if member.cost is not None]
        yield replace(
            first,
            key=key,
            kind=kind,
            label=label,
            events=sum(member.events for member in members),
            cost=sum(costs, Decimal(0)) if costs else None,
            troubles=tuple(_worst(trouble for member in members for trouble in member.troubles)),
            members=tuple(member.label for member in members),
        )


def _worst(troubles: Iterable[Trouble]) -> Iterator[Trouble]:
    """Of each kind the worst; what was lost adds up."""
    by_kind: dict[str, list[float]] = defaultdict(list)
    for trouble in troubles:
        by_kind[trouble.kind].append(trouble.figure)
    for kind, figures in by_kind.items():
        yield Trouble(kind, sum(figures) if kind == "lost" else max(figures))
