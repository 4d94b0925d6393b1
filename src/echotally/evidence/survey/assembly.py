"""What a draft of a model is made from, and how far it is: the ground that its parts stand on."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from datetime import datetime
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from echotally.evidence.fit.estimates import Spread
from echotally.evidence.survey.bills import Billed
from echotally.evidence.survey.draft import Draft
from echotally.evidence.survey.environments import Worlds
from echotally.evidence.survey.facts import Trouble, Unknown
from echotally.evidence.survey.lines import Wiring
from echotally.evidence.survey.metrics import Metrics
from echotally.evidence.survey.partitions import Partitions
from echotally.evidence.survey.rates import Rate
from echotally.evidence.survey.redelivery import Redelivery
from echotally.evidence.survey.runs import Runs
from echotally.evidence.survey.schedules import Guess
from echotally.evidence.survey.tables import Counts, Sampled, Sums, Tables, Unit
from echotally.model.sources import SourceRef


class Found(Struct):
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


class Span(Struct, frozen=True):
    """What a survey looks at: from when to when (s since 1970), in which zone, for which month of the model."""

    first: float
    last: float
    zone: ZoneInfo
    prefer: tuple[str, ...]
    month: str
    since: Mapping[str, float] = field(default_factory=dict)


class Assembly:
    """One set of tables, and the draft that is being made of it."""

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
        #: What is told of the partitions of streams, and of which streams the model has said it.
        self.streams: dict[str, Partitions | None] = {}
        self.laid: set[SourceRef] = set()
        #: How long a batch of a function waits to fill, s.
        self.waits: dict[str, float] = {}
        self.troubled: dict[str, list[Trouble]] = defaultdict(list)

    def _unknown(self, name: str, what: str, assumed: str, how: str, moves: float) -> None:
        self.draft.unknowns.append(Unknown(what, assumed, how, name, moves))

    def _in_month(self, at_s: float) -> bool:
        return datetime.fromtimestamp(at_s, self.span.zone).strftime("%Y-%m") == self.span.month


def size_toml(size: float) -> str:
    """A size as a setting would have it: three digits, where that is within half a percent."""
    plain = float(f"{size:.3g}")
    size = plain if abs(plain - size) < 0.005 * size else size
    for unit, factor in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if size >= factor:
            return f'"{size / factor:.6g} {unit}"'
    return f'"{size:.6g} B"' if size >= 1 else '"0 B"'
