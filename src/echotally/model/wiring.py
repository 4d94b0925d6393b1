"""Checks that names in a model lead somewhere: triggers, demand, feeds, dead letters, emits, cycles."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from difflib import get_close_matches
from functools import cached_property
from itertools import islice

from echotally.errors import Problem
from echotally.model.estate import Function, Model
from echotally.model.reading import Document
from echotally.model.sources import SourceKind, SourceRef, kinds_that

#: What may stand where: demand and emits cannot fire a schedule.
_FED, _INSIDE, _LETTERS = kinds_that("demand"), kinds_that("inside"), kinds_that("letters")
_ALL = (SourceKind.SCHEDULES, *_FED)
#: Of names that lead nowhere so many are compared with all that do, and so many of these are named.
_MOST_COMPARED, _MOST_NAMED = 20, 20


class _Wiring:
    def __init__(self, document: Document, model: Model) -> None:
        self.document, self.model = document, model
        self.known = dict.fromkeys(model.sources())
        self.problems: list[Problem] = []
        self._compared = 0

    def link(self, address: tuple[str, ...], found: SourceRef | None, kinds: Sequence[SourceKind]) -> None:
        if found is None:
            return
        if found not in self.known:
            self._unknown(address, found, self.known, "source", "a source of the model")
        elif found.kind not in kinds:
            self.problems.append(
                self.document.problem(address, "this kind of source cannot stand here", found, ", ".join(kinds))
            )

    def all_links(self) -> None:
        model = self.model
        for name, demand in model.demand.items():
            self.link(("demand", name, "into"), demand.into, _FED)
        for name, queue in model.queues.items():
            self.link(("queues", name, "dead_letter"), queue.dead_letter, _LETTERS)
        for name, topic in model.topics.items():
            for number, feed in enumerate(topic.feeds):
                self.link(("topics", name, "feeds", str(number), "into"), feed.into, _LETTERS)
        for name, function in model.functions.items():
            for number, emit in enumerate(function.emits):
                self.link(("functions", name, "emits", str(number), "into"), emit.into, _INSIDE)
            self._asks_and_uses(name, function)
        for number, trigger in enumerate(model.triggers):
            self._trigger(("triggers", str(number)), trigger.from_, trigger.to, trigger.dead_letter)
        self._keys_that_do_nothing()
        self._incidents()

    @cached_property
    def _answered(self) -> set[SourceRef]:
        return {trigger.from_ for trigger in self.model.triggers}

    def _asks_and_uses(self, name: str, function: Function) -> None:
        for number, ask in enumerate(function.asks):
            address = ("functions", name, "asks", str(number), "to")
            before = len(self.problems)
            self.link(address, ask.to, (SourceKind.ENDPOINTS,))
            if len(self.problems) == before and ask.to not in self._answered:
                # Its answer would never come.
                allowed = "an endpoint with a trigger"
                self.problems.append(self.document.problem(address, "no function answers it", ask.to, allowed))
        for number, use in enumerate(function.uses):
            self._name(
                ("functions", name, "uses", str(number), "what"), use.what, self.model.outside, "outside service"
            )

    def budgets(self) -> None:
        """A budget by a tag that no function has would never be looked at."""
        for tag, values in self.model.targets.by.tag.items():
            known = sorted({f.tags[tag] for f in self.model.functions.values() if tag in f.tags})
            for value in values:
                address = ("targets", "by", "tag", tag, value)
                if known:
                    self._name(address, value, known, f"{tag} among the tags of functions")
                else:
                    tags = sorted({name for f in self.model.functions.values() for name in f.tags})
                    self._name(address, tag, tags, "tag of a function")

    def _name(self, address: tuple[str, ...], found: str, known: Collection[str], what: str) -> None:
        """A name that must be one of a table's."""
        if found not in known:
            self._unknown(address, found, known, what, f"the name of an {what}")

    def _unknown(
        self, address: tuple[str, ...], found: str, known: Collection[str], what: str, otherwise: str = ""
    ) -> None:
        """A name that leads nowhere, with the nearest that does; ``otherwise`` is what is allowed where there is none."""
        # Comparing one name with thousands takes a tenth of a second, and a model may have thousands of such names.
        near = get_close_matches(found, known, 1) if self._compared < _MOST_COMPARED else []
        self._compared += 1
        hint = f"there is no such {what}" + (f"; did you mean {near[0]}?" if near else "")
        some = ", ".join(islice(known, _MOST_NAMED))
        more = f" and {len(known) - _MOST_NAMED:,} more" if len(known) > _MOST_NAMED else ""
        self.problems.append(self.document.problem(address, hint, found, some + more or otherwise))

    def _incidents(self) -> None:
        seen: dict[str, int] = {}
        for number, incident in enumerate(self.model.incidents):
            address = ("incidents", str(number))
            if incident.name in seen:
                allowed = f"a name of its own (incidents.{seen[incident.name]} has this one)"
                self.problems.append(
                    self.document.problem((*address, "name"), "two incidents of one name", incident.name, allowed)
                )
            seen[incident.name] = number
            for n, name in enumerate(incident.functions or ()):
                self._name((*address, "functions", str(n)), name, self.model.functions, "function")
            for n, name in enumerate(incident.environments or ()):
                self._name((*address, "environments", str(n)), name, self.model.environments, "environment")

    def _trigger(
        self, address: tuple[str, ...], source: SourceRef, function: str, dead_letter: SourceRef | None
    ) -> None:
        self.link((*address, "from"), source, _ALL)
        self.link((*address, "dead_letter"), dead_letter, _LETTERS)
        if function not in self.model.functions:
            self._unknown((*address, "to"), function, self.model.functions, "function")

    def _keys_that_do_nothing(self) -> None:
        """A key that has no effect on this kind of source is refused, so that nobody relies on it."""
        taken: dict[str, int] = {}
        for number, trigger in enumerate(self.model.triggers):
            kind, given = trigger.from_.kind, trigger.model_fields_set
            allowed = kind.traits.trigger_keys
            for key in sorted(given - allowed - {"from_", "to"}):
                self.problems.append(
                    self.document.problem(
                        ("triggers", str(number), key),
                        f"has no effect on a trigger from {kind}",
                        None,
                        ", ".join(sorted(allowed)) or "from and to only",
                    )
                )
            if kind is SourceKind.ENDPOINTS and trigger.from_ in taken:
                self.problems.append(
                    self.document.problem(
                        ("triggers", str(number), "from"),
                        "an endpoint has one function to answer it, and this one has two",
                        trigger.from_,
                        f"one trigger an endpoint (the other is triggers.{taken[trigger.from_]})",
                    )
                )
            taken[trigger.from_] = number

    def graph(self) -> dict[str, list[str]]:
        model = self.model
        after: dict[str, list[str]] = {}
        for trigger in model.triggers:
            after.setdefault(trigger.from_, []).append(f"functions.{trigger.to}")
            after.setdefault(f"functions.{trigger.to}", []).extend([trigger.dead_letter] if trigger.dead_letter else [])
        for name, function in model.functions.items():
            after.setdefault(f"functions.{name}", []).extend(emit.into for emit in function.emits)
            after[f"functions.{name}"] += [ask.to for ask in function.asks]
        for name, topic in model.topics.items():
            after.setdefault(f"topics.{name}", []).extend(feed.into for feed in topic.feeds)
        for name, queue in model.queues.items():
            if queue.dead_letter:
                after.setdefault(f"queues.{name}", []).append(queue.dead_letter)
        return after

    def cycle(self) -> None:
        found = find_cycle(self.graph())
        if found:
            address = tuple(found[0].split(".", 1))
            self.problems.append(
                self.document.problem(
                    address,
                    "events would go round in a circle: " + " -> ".join(found),
                    None,
                    "wiring without a cycle",
                )
            )


def find_cycle(after: dict[str, list[str]]) -> list[str]:
    """One cycle of a directed graph, first node repeated at the end; empty if there is none."""
    done: set[str] = set()
    for root in after:
        path: list[str] = []
        stack: list[Iterator[str]] = [iter([root])]
        while stack:
            node = next(stack[-1], None)
            if node is None:
                stack.pop()
                if path:
                    done.add(path.pop())
            elif node in path:
                return [*path[path.index(node) :], node]
            elif node not in done:
                path.append(node)
                stack.append(iter(after.get(node, ())))
    return []


def wiring_problems(document: Document, model: Model) -> list[Problem]:
    """Every name that leads nowhere, every key without effect, and one cycle if there is any."""
    wiring = _Wiring(document, model)
    wiring.all_links()
    wiring.budgets()
    if not wiring.problems:
        wiring.cycle()
    return wiring.problems
