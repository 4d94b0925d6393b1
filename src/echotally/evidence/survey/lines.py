"""The lines of an estate as a survey finds them: what sets functions off, what they put out, and what that rests on."""

from __future__ import annotations

from msgspec import Struct, field

from echotally.evidence.survey.tables import Tables, Unit
from echotally.model.sources import SourceKind, SourceRef


class Arrival(Struct, frozen=True):
    """One way in which a function's events come: from a source, ``topic`` where that feeds it. ``n`` attempts came so, which the
    log says by this ``word`` and from this ``where``.
    """

    source: SourceRef
    topic: str | None
    n: int
    evidence: str
    guess: bool
    word: str | None = None
    where: str | None = None


class Output(Struct, frozen=True):
    """What a function puts out (or asks): into which destination, how many by each event it handled well."""

    function: str
    target: SourceRef
    each: float
    n: int
    handled: float
    evidence: str
    payload: float | None = None
    guess: bool = False


class Wiring(Struct):
    """The lines of the estate. ``outside`` is the share of a function's events that no function is known to have put out."""

    arrivals: dict[str, list[Arrival]] = field(default_factory=dict)
    emits: list[Output] = field(default_factory=list)
    asks: list[Output] = field(default_factory=list)
    shares: dict[tuple[str, str], tuple[float, int]] = field(default_factory=dict)
    outside: dict[str, float] = field(default_factory=dict)
    traced: bool = False
    #: How soon an attempt starts after its oldest message was sent, s, of one in ten; by function, where links tell.
    soonest: dict[str, float] = field(default_factory=dict)
    #: How many events came by each partition that spans name, the most first; by the unit and where the log says its events came from.
    partitions: dict[tuple[Unit, str | None], list[float]] = field(default_factory=dict)
    #: Lines that were left out since with them events would go round in a circle, in words.
    circles: list[str] = field(default_factory=list)

    @property
    def topics(self) -> set[str]:
        """The topics that events go through."""
        found = {a.topic for group in self.arrivals.values() for a in group if a.topic}
        return found | {a.source.name for g in self.arrivals.values() for a in g if a.source.kind is SourceKind.TOPICS}


def handled_by(tables: Tables, function: str) -> float:
    """Events that a function handled well, in all environments."""
    return sum(s.events for (f, _), s in tables.sums.items() if f == function)
