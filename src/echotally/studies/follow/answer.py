"""What ``follow`` answers: arrivals, the copies each makes, their attempts, and what came of them. Times are ns since the month's start."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal

from msgspec import Struct, field

from echotally.demand.clock import MonthClock
from echotally.model.sources import SourceRef
from echotally.rates.card_loading import Offer
from echotally.showing import Answer


class Wait(Struct):
    """A stretch in which an event waited to be taken: from when, until when, why, in words.

    ``room``: for lack of room. ``neighbours`` are the calls that were in flight on the same account as it began, by function and
    environment, most first; empty where room was not what it waited for.
    """

    begun: int
    ended: int
    why: str
    room: bool = False
    neighbours: tuple[tuple[str, str, int], ...] = ()


class Try(Struct):
    """One attempt to handle an event, alone or in a batch.

    ``outcome`` is succeeded, failed, timed_out, throttled or still_running. ``started`` is when it took its room (or was throttled),
    ``run_at`` when its run began (None: never), ``ended`` when it ended or the month did. ``events`` is how many events it held,
    ``items`` the same with a firing counted by its items; of a throttled one ``why`` says which room was missing and ``neighbours`` who
    held it, as of a wait; ``charged_ns`` the time it is charged for. ``good``: this event was handled.
    ``back_at`` is when the event is tried again, None where it is not. ``cost`` is this event's equal part, unrounded.
    """

    index: int
    function: str
    environment: str
    outcome: str
    started: int
    run_at: int | None
    ended: int
    cold_ns: int
    charged_ns: int
    events: int
    items: int
    good: bool
    wait: Wait | None = None
    back_at: int | None = None
    why: str = ""
    neighbours: tuple[tuple[str, str, int], ...] = ()
    cost: Decimal = Decimal(0)

    @property
    def run_ns(self) -> int:
        """How long it ran, waiting for answers included."""
        return 0 if self.run_at is None else self.ended - self.run_at


class Copy(Struct):
    """An event at a source for one reader (of a queue: for all of them), from its coming to its end.

    ``ended_as`` is one of the nine endings of rule 4.9, None where a watch ended before it did. ``here`` is what it cost, unrounded:
    its part of every attempt, and its own receive, delete or firing. ``left`` is a wait that no attempt ended.
    """

    number: int
    source: SourceRef
    environment: str
    came: int
    function: str | None = None
    tries: list[Try] = field(default_factory=list)
    ended_as: str | None = None
    ended: int | None = None
    left: Wait | None = None
    letter: Arrival | None = None
    outputs: list[Arrival] = field(default_factory=list)
    here: Decimal = Decimal(0)

    def puts_out(self) -> Iterator[Arrival]:
        """All that came of it, its dead letter too, in the order of time."""
        yield from sorted([*self.outputs, *([self.letter] if self.letter else [])], key=lambda a: (a.at, a.key))


class Arrival(Struct):
    """An event that comes to a source, from outside or from within, and the copies it makes there.

    ``key`` tells arrivals apart: ("outside", n) or ("inside", n). ``how`` is demand, schedule, backlog, put out, asked or dead letter;
    ``by`` names the demand, schedule or function. ``own`` is what its coming costs (a publish, a write, a send), unrounded.
    """

    key: tuple[str, int]
    source: SourceRef
    environment: str
    at: int
    how: str
    by: str
    copies: list[Copy] = field(default_factory=list)
    own: Decimal = Decimal(0)

    @property
    def here(self) -> Decimal:
        """What its coming and its copies cost, without what followed, unrounded."""
        return self.own + sum((copy.here for copy in self.copies), Decimal(0))

    def all_that_follows(self) -> Iterator[Arrival]:
        """The arrival itself and all that came of it, each before what it put out."""
        return (arrival for arrival, _ in self.generations())

    def generations(self, depth: int | None = None, most: int | None = None) -> Iterator[tuple[Arrival, int]]:
        """As ``all_that_follows``, with how many steps each is from here, up to ``depth`` of them and ``most`` arrivals."""
        # A chain of puts may be longer than Python's stack is deep.
        rest, shown = [(self, 0)], 0
        while rest and (most is None or shown < most):
            arrival, generation = rest.pop()
            shown += 1
            yield arrival, generation
            if depth is None or generation < depth:
                outs = [out for copy in arrival.copies for out in copy.puts_out()]
                rest += [(out, generation + 1) for out in reversed(outs)]

    @property
    def with_followed(self) -> Decimal:
        """What it and all that followed cost, unrounded."""
        return sum((arrival.here for arrival in self.all_that_follows()), Decimal(0))


class Followed(Answer, frozen=True):
    """One event's way through a month played on a plan.

    ``root`` is the arrival that was asked for, ``asked`` the question in words, ``chosen`` the copy it is about where an event was
    looked for. ``nobody`` is what of the bill belongs to no event, by name; ``bill`` the whole bill, both unrounded.
    ``cut``: more followed than was followed.
    """

    root: Arrival
    asked: str
    chosen: int | None
    clock: MonthClock
    offer: Offer
    seed: int
    currency: str
    bill: Decimal
    nobody: dict[str, Decimal]
    estate: str
    cut: bool = False
    notes: tuple[str, ...] = ()
