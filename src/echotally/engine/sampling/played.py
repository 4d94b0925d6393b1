"""What is told of stretches and hours that were played, and which hours are to be."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine.sampling.lanes import LaneState
from echotally.engine.sampling.sums import Maxima
from echotally.engine.sampling.totals import Span

Mode = frozenset[int]
EMPTY: Mode = frozenset()


class Flow(Struct):
    """What passed through the lanes and units in one part of a stretch, per ns: in, out, and handled of what was laid."""

    come: NDArray[np.float64]
    gone: NDArray[np.float64]
    handled: NDArray[np.float64]
    run_ns: NDArray[np.float64]

    @classmethod
    def between(cls, held: LaneState, now: LaneState, span: Span, length: int) -> Flow:
        """Of what was played between two instants, ``length`` ns apart: what left is what came and is no longer held."""
        come = now.arrived - held.arrived
        gone = come - (now.held - held.held)
        seen = np.zeros(len(span.unit.handled))
        waits = span.sketch.wait_bins
        bins = waits.shape[-1]
        counted = waits.kept((waits.places // bins) % 2 == 0)
        np.add.at(seen, counted.places // (2 * bins), counted.values)
        handled = np.maximum(0.0, span.unit.handled - seen)
        runs = span.unit.busy_ns / np.maximum(1.0, span.unit.started)
        return cls(come / length, gone / length, handled / length, runs)


class Stretch(Struct):
    """A stretch that was played: a span for each part that is still to be put together and a flow for each, how long each lasted, what
    was amiss at its end.

    ``filling``: lanes that filled so quickly that it was cut short, as only what they do when they are full is of interest. ``peaks``:
    what the highest of each unit was, up to where it ended.
    """

    spans: dict[int, Span]
    flows: list[Flow]
    part_ns: int
    suspicious: set[int]
    away: bool
    peaks: Maxima
    filling: Mode = EMPTY


class Hours(Struct):
    """Hours played as they are, with the lanes ``full`` kept full: the span, how many segments it covers, what its other lanes hold at
    their beginning and end and how old that is (quantiles, oldest first), what is unfinished elsewhere, by unit, and whether something
    sent away for lack of room is left over.
    """

    span: Span
    segments: int
    full: Mode
    found: NDArray[np.float64]
    held: NDArray[np.float64]
    ages: dict[int, tuple[float, ...]]
    unfinished: NDArray[np.float64]
    come: NDArray[np.float64]
    gone: NDArray[np.float64]
    handled: NDArray[np.float64]
    run_ns: NDArray[np.float64]
    away: bool

    def may_be_with(self, held: Mapping[int, float]) -> bool:
        """Whether these hours could be where full lanes hold so much: none hands on more than it holds and what comes."""
        return all(self.gone[lane] <= count + self.come[lane] + 1 for lane, count in held.items())


class Course(Struct, frozen=True):
    """Which hours are played as they are: ``number`` is the segment from which on they are read, ``first`` the one in which their world
    begins, and ``held`` what the lanes ``full`` hold at that time. This one plays a segment by itself.
    """

    number: int
    first: int
    full: Mode
    held: Mapping[int, float]

    def goes_on(self, after: int, away: bool) -> bool:
        """Whether segment ``after`` is to be played in the same world; ``away``: something sent away is left over for it."""
        return False

    def is_known(self, after: int, found: Sequence[Hours], crowded: bool) -> bool:
        """Whether segment ``after`` need not be played, for what has been played like it, ``found`` so far with it; ``crowded``: too
        much waits to go on with it.
        """
        return True

    def is_apart(self, segment: int) -> bool:
        """Whether a segment is read by itself, and not together with those beside it."""
        return True
