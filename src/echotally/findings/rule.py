"""What a finding is, and the register of all rules.

A rule is one function: it gets a ``Context`` and yields what it noticed. Its code, level, title and reason
stand at its head, and are all that ``check``, SARIF and the reference need to know about it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from decimal import Decimal
from typing import TYPE_CHECKING

from msgspec import Struct

if TYPE_CHECKING:
    from echotally.findings.context import Context

Sets = tuple[tuple[str, str], ...]
LEVELS = ("error", "warning", "hint")


class Rule(Struct, frozen=True):
    """A rule: stable code, level, title, why it matters, and the rule of docs/rules.md it looks after (``cites``)."""

    code: str
    level: str
    title: str
    why: str
    cites: str
    look: Callable[[Context], Iterator[Noticed]]


class Outcome(Struct, frozen=True):
    """What a change does to the month it was played in: cost after less before, and (before, after) of each figure.

    ``sampled``: the month is large, and a small sample of it was played, with and without the change. ``opens``: the plan
    cannot be used as it is, and can with the change; there is nothing to compare.
    """

    cost: Decimal
    figures: dict[str, tuple[float, float]]
    sampled: bool = False
    opens: bool = False


class Noticed(Struct, frozen=True):
    """What a rule noticed at an address: the numbers of this model in words, and one change to try.

    ``effect`` says what it costs or loses; ``saves`` is what the change saves a month, where it was replayed. ``promises`` are
    figures of which the change must better one (``cost`` or a name of ``Outcome.figures``), or it is not given; ``accepts`` are
    figures that it may worsen, as its text says; ``dearer``: it is meant to cost more, and says so. ``outcome`` is what it did when it was played; None where it was not.
    """

    address: str
    text: str
    effect: str
    sets: Sets
    saves: Decimal | None = None
    promises: tuple[str, ...] = ()
    accepts: tuple[str, ...] = ()
    dearer: bool = False
    outcome: Outcome | None = None


class Finding(Struct, frozen=True):
    """A noticed thing with its rule, its place in the file, and the reason if the model accepts it.

    ``follow`` is a command that shows it happen to an event; None where it happens to none.
    """

    rule: Rule
    noticed: Noticed
    file: str
    line: int | None
    accepted: str | None = None
    follow: str | None = None


RULES: dict[str, Rule] = {}


def rule(
    code: str, level: str, title: str, why: str, cites: str
) -> Callable[[Callable[[Context], Iterator[Noticed]]], Callable[[Context], Iterator[Noticed]]]:
    """Register a rule under its code."""

    def register(look: Callable[[Context], Iterator[Noticed]]) -> Callable[[Context], Iterator[Noticed]]:
        # A code names one rule for good: models accept findings by it.
        assert code not in RULES and level in LEVELS
        RULES[code] = Rule(code, level, title, why, cites, look)
        return look

    return register
