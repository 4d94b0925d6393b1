"""The parts of an estate: functions and sources that hand each other events, or share nodes or reserved instances."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property

from msgspec import Struct, field

from echotally.demand.month import Arrivals, Tap
from echotally.engine.groups import Groups
from echotally.model.estate import Demand, Environment, Function, Model, Trigger
from echotally.model.happenings import OF_ACCOUNTS
from echotally.model.sources import SourceKind, SourceRef
from echotally.rates.card_loading import Offer

#: A function or a source (a ``SourceRef``), in an environment.
_Place = tuple[str, str]
#: Plans whose units take room from each other.
SHARE_ROOM = ("reserved", "nodes")


class Part(Struct, frozen=True, dict=True):
    """A part of the estate as an estate of its own, with what arrives in it."""

    model: Model
    arrivals: Arrivals

    @cached_property
    def expected(self) -> float:
        """Events that come from outside, about; at least one, so that parts can be weighed by it."""
        return 1.0 + sum(tap.expected + tap.clients for tap in self.arrivals.taps)


def parts_of(model: Model, arrivals: Arrivals, placement: Mapping[str, Offer], units: int = 1) -> list[Part]:
    """The parts, in the order of their first functions. Sources that reach no function stand with the first part.

    Small ones are put together, up to ``units`` functions (in all their environments) in one.
    """
    return Split(model, arrivals, placement).parts(units)


class Split:
    """An estate split once: how many parts there are is asked before it is said how many are put together."""

    def __init__(self, model: Model, arrivals: Arrivals, placement: Mapping[str, Offer]) -> None:
        groups, links = Groups[_Place](), list(_links(model))
        for environment in model.environments:
            for one, other in links:
                groups.join((environment, one), (environment, other))
        for members in _sharing_room(model, placement):
            for member in members[1:]:
                groups.join(members[0], member)
        self._model, self._arrivals = model, arrivals
        self._contents = _contents(model, arrivals, groups)

    def __len__(self) -> int:
        return len(self._contents)

    def parts(self, units: int = 1) -> list[Part]:
        """As ``parts_of``."""
        length, happenings = self._arrivals.length_ns, self._arrivals.happenings
        return [
            Part(part.of(self._model), Arrivals(part.in_order(), length, happenings))
            for part in _packed(self._contents, units)
        ]


class Together:
    """Which functions and sources belong together in some environment: by what they hand each other, or by shared room."""

    def __init__(self, model: Model, placement: Mapping[str, Offer]) -> None:
        groups = Groups[_Place]()
        for one, other in _links(model):
            groups.join(("", one), ("", other))
        for members in _sharing_room(model, placement):
            for member in members[1:]:
                groups.join(("", members[0][1]), ("", member[1]))
        self._members: dict[_Place, set[str]] = defaultdict(set)
        self._root = {name: groups.root(("", name)) for name in [*model.functions, *model.sources()]}
        for name, root in self._root.items():
            self._members[root].add(name)

    def __len__(self) -> int:
        return len(self._members)

    def with_any(self, names: Iterable[str]) -> frozenset[str]:
        """All functions and sources that belong with any of ``names``; names that are not there are passed over."""
        roots = {self._root[name] for name in names if name in self._root}
        return frozenset(name for root in roots for name in self._members[root])


def _links(model: Model) -> Iterator[tuple[str, str]]:
    """Who hands events to whom, as pairs of functions and addresses of sources."""
    for trigger in model.triggers:
        yield trigger.from_, trigger.to
        if trigger.dead_letter:
            yield trigger.to, trigger.dead_letter
    for name, function in model.functions.items():
        yield from ((name, into) for into in function.feeds)
    for name, topic in model.topics.items():
        for feed in topic.feeds:
            yield SourceRef.of(SourceKind.TOPICS, name), feed.into
    for name, queue in model.queues.items():
        if queue.dead_letter:
            yield SourceRef.of(SourceKind.QUEUES, name), queue.dead_letter
    yield from _all_linked(model)


def _all_linked(model: Model) -> Iterator[tuple[str, str]]:
    """All functions, where an incident is of whole accounts: it is followed in one world."""
    if any(getattr(incident, key) is not None for incident in model.incidents for key in OF_ACCOUNTS):
        first, *others = model.functions
        yield from ((first, other) for other in others)


def _sharing_room(model: Model, placement: Mapping[str, Offer]) -> list[list[_Place]]:
    """Units of one account on one plan with nodes or reserved instances."""
    found: dict[tuple[str | None, str], list[_Place]] = defaultdict(list)
    for environment, its in model.environments.items():
        for name in model.functions:
            if placement[name].plan.bills in SHARE_ROOM:
                found[its.account, placement[name].name].append((environment, name))
    return list(found.values())


def _contents(model: Model, arrivals: Arrivals, groups: Groups[_Place]) -> list[_Contents]:
    # The wiring is the same in each environment, and so is who shares room: a part is some functions in some environments.
    first = next(iter(model.functions))
    parts: dict[_Place, _Contents] = {}
    for environment, its in model.environments.items():
        for name, function in model.functions.items():
            part = parts.setdefault(groups.root((environment, name)), _Contents())
            part.environments[environment], part.functions[name] = its, function

        def home(of: str, environment: str = environment) -> _Contents:
            root = groups.root((environment, of))
            # A source that reaches no function.
            return parts[root if root in parts else groups.root((environment, first))]

        for kind in SourceKind:
            for name, source in getattr(model, kind).items():
                home(SourceRef.of(kind, name)).sources[kind][name] = source
        for n, trigger in enumerate(model.triggers):
            home(trigger.to).triggers[n] = trigger
        for name, demand in model.demand.items():
            home(demand.into).demand[name] = demand
        for n, tap in enumerate(arrivals.taps):
            if tap.environment == environment:
                home(tap.source).taps[n] = tap
    return list(parts.values())


def _packed(parts: list[_Contents], units: int) -> list[_Contents]:
    """Neighbours in the same environments put together, as long as there are no more than so many units in one."""
    found: list[list[_Contents]] = []
    last: dict[tuple[str, ...], list[_Contents]] = {}
    held: dict[tuple[str, ...], int] = {}
    for part in parts:
        where, more = tuple(part.environments), len(part.environments) * len(part.functions)
        if where in last and held[where] + more <= units:
            last[where].append(part)
            held[where] += more
        else:
            last[where], held[where] = [part], more
            found.append(last[where])
    return [_Contents.joined(several) for several in found]


class _Contents(Struct):
    """What stands in a part, by name."""

    environments: dict[str, Environment] = field(default_factory=dict)
    functions: dict[str, Function] = field(default_factory=dict)
    triggers: dict[int, Trigger] = field(default_factory=dict)
    demand: dict[str, Demand] = field(default_factory=dict)
    sources: dict[SourceKind, dict[str, object]] = field(default_factory=lambda: defaultdict(dict))
    taps: dict[int, Tap] = field(default_factory=dict)

    @classmethod
    def joined(cls, parts: list[_Contents]) -> _Contents:
        """What stands in several parts of the same environments."""
        if len(parts) == 1:
            return parts[0]
        found = cls(parts[0].environments)
        for part in parts:
            found.functions.update(part.functions)
            found.triggers.update(part.triggers)
            found.demand.update(part.demand)
            found.taps.update(part.taps)
            for kind, table in part.sources.items():
                found.sources[kind].update(table)
        return found

    def in_order(self) -> tuple[Tap, ...]:
        """The taps, numbered as they are in the whole."""
        return tuple(self.taps[n] for n in sorted(self.taps))

    def of(self, model: Model) -> Model:
        """The model with nothing else in it; not checked anew, as what it refers to is in it."""
        own = {
            "environments": self.environments,
            "functions": self.functions,
            "triggers": tuple(self.triggers.values()),
            "demand": self.demand,
        }
        return model.model_copy(update={**own, **{str(kind): self.sources.get(kind, {}) for kind in SourceKind}})
