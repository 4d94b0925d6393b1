"""Work outside the lanes: sent away for lack of room, or waiting to be tried again."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from echotally.engine import codes
from echotally.engine.build import Built
from echotally.engine.sampling.lanes import Lane
from echotally.engine.sampling.sparse import Floats

#: Work sent away and still there after so long, and after two of a plan's longest pauses, does not clear by itself.
_LONG_NS = 300 * 10**9


def unfinished_outside(built: Built, lanes: Sequence[Lane]) -> Floats:
    """Events of each unit that are neither over nor in a lane: sent away, or waiting to be tried again."""
    w = built.world
    found = np.zeros(len(built.units))
    # Field by field: there may be hundreds of thousands, of which a copy of the records takes many times as much.
    away = np.flatnonzero(w.calls["state"] == codes.BACKOFF)
    away = away[~np.isin(w.triggers["source"][w.calls["trigger"][away]], [lane.source for lane in lanes])]
    np.add.at(found, w.calls["unit"][away], w.calls["items"][away].astype(float))
    return found


def _oldest_ns(built: Built) -> Floats:
    """Of each unit, the age of its oldest event that was sent away for lack of room and will come again; 0: none."""
    w = built.world
    found = np.zeros(len(built.units))
    away = np.flatnonzero((w.calls["state"] == codes.BACKOFF) & (w.calls["wait"] > 0))
    np.maximum.at(found, w.calls["unit"][away], (w.clock[0]["now"] - w.calls["arrived"][away]).astype(float))
    return found


def away_for_long(built: Built) -> bool:
    """Whether some event has been sent away for lack of room for so long that its hour does not clear by itself."""
    for unit, oldest in zip(built.units, _oldest_ns(built), strict=True):
        if oldest > max(_LONG_NS, 2 * unit.offer.plan.push.longest_wait):
            return True
    return False


def given_up_soon(built: Built) -> bool:
    """Whether some event has been sent away for so long that soon the first will be given up: no more need be seen of it."""
    if not away_for_long(built):
        return False
    return any(o > u.offer.plan.push.give_up / 2 for o, u in zip(_oldest_ns(built), built.units, strict=True))
