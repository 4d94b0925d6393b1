"""Where events came from, by their numbers: spans of an attempt point to what put out its events, however long ago.

Why it exists: an event may wait, fail and come back for days, and nobody tells when its last attempt is over. So all are known to
the month's end, three whole numbers each, which stand in a file where they are many.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from echotally.engine.codes import FIRST_NUMBER
from echotally.engine.pools import lengthened
from echotally.engine.spilling import LARGE

#: Events are numbered from here on.
_FIRST = int(FIRST_NUMBER)


class Origin(NamedTuple):
    """Where an event came from: the numbers of what was put out and of the event for which it was asked, each -1 where there is none."""

    number: int
    sent: int
    asker: int


class _Numbered:
    """Whole numbers by number, ``width`` for each; -1 before they are written."""

    def __init__(self, width: int) -> None:
        # One more than they mean: what a file is made longer by is 0.
        self.width, self.cells = width, np.zeros(width << 10, np.int64)

    def reach(self, most: int) -> None:
        """Make room for numbers up to ``most``."""
        least, before = (most + 1) * self.width, len(self.cells)
        if least > before:
            # Twice as long while that is not much.
            longer = before + min(before, LARGE // 2 // self.cells.itemsize)
            self.cells = lengthened(self.cells, self.width * -(-max(least, longer) // self.width))

    def put(self, numbers: NDArray[np.int64] | int, *values: NDArray[np.int64] | int) -> None:
        """Write what belongs to numbers."""
        for place, value in enumerate(values):
            self.cells[numbers * self.width + place] = value + 1

    def of(self, numbers: NDArray[np.int64], place: int) -> NDArray[np.int64]:
        """What belongs to numbers in one of the places."""
        found: NDArray[np.int64] = self.cells[numbers * self.width + place] - 1
        return found

    def one(self, number: int, place: int) -> int:
        """What belongs to a number in one of the places."""
        return int(self.cells[number * self.width + place]) - 1


#: What is known of an event, and of what was put out.
_TRACE, _SENT, _ASKER = range(3)
_SENDER, _ROOT = range(2)


class Origins:
    """What is known of events, and of what was put out."""

    def __init__(self) -> None:
        self.events, self.sent = _Numbered(3), _Numbered(2)

    def learn(self, born: NDArray[Any]) -> None:
        """From the lines of a page that tell what came: where events came from, and that there is room for what was put out."""
        self.events.reach(int(born["number"].max(initial=_FIRST)) - _FIRST)
        self.sent.reach(int(born["sent"].max(initial=0)))
        events = born[born["number"] >= 0]
        self.events.put(events["number"] - _FIRST, events["number"], events["sent"], events["asker"])
        # What is asked for belongs to the trace of who asks, who may have been asked on this page.
        for line in events[events["asker"] >= 0]:
            self.events.put(int(line["number"]) - _FIRST, self.trace(int(line["asker"])))

    def of(self, numbers: NDArray[np.int64]) -> list[Origin]:
        """Where events came from; those that were there before the month are as those that came from outside."""
        self.events.reach(int(numbers.max(initial=_FIRST)) - _FIRST)
        sent, askers = (self.events.of(numbers - _FIRST, place).tolist() for place in (_SENT, _ASKER))
        return [*map(Origin, numbers.tolist(), sent, askers)]

    def trace(self, number: int) -> int:
        """The trace of an event: its own, or that of the event for which it was asked."""
        found = self.events.one(number - _FIRST, _TRACE)
        return number if found < 0 else found

    def puts_out(self, sent: int, sender: int, root: int) -> None:
        """An attempt whose trace is ``sender`` puts something out; ``root`` is the trace at whose end it all stands."""
        self.sent.put(sent, sender, root)

    def root_of(self, sent: int, otherwise: int) -> int:
        """At the end of which trace something stands that was put out."""
        found = self.sent.one(sent, _ROOT) if sent >= 0 else -1
        return otherwise if found < 0 else found

    def sender_of(self, sent: int) -> int:
        """The trace of the attempt that put something out; -1 of what none did."""
        return self.sent.one(sent, _SENDER) if sent >= 0 else -1
