"""Who puts out what sets a function off, from times alone: starts that follow the ends of another function's runs.

A run puts its events out when it ends, and a reader that waits for nothing starts then. Starts that merely fall near such ends
do so as often as the ends' windows cover time; what is far beyond that is a line. It is a guess, and says so.
"""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.evidence.survey.tables import Tables, Unit

#: Starts of a reader that are looked at: its first ones.
_STARTS = 4_000
#: How soon after an end a start must follow, s; the shortest that explains enough is taken.
_SOON = (0.02, 0.2, 1.0, 3.0)
#: Clocks of hosts differ by so much at least, s.
_EARLY = 0.002
#: Of a reader's starts so many must be explained, and each producer's share must be so many times what chance gives.
_EXPLAINED, _TIMES = 0.9, 5.0
_LEAST, _LEAST_SHARE = 20, 0.05
#: What explains less cannot be better than one that explains enough: that is so many times chance at least.
_WORTH = 0.9 * _LEAST_SHARE * (1 - 1 / _TIMES)
#: Starts beside which ends are looked for at a time.
_AT_ONCE = 500


class Follows(Struct, frozen=True):
    """``share`` of the reader's attempts start within ``soon_s`` of an end of the producer's, where chance would give ``chance``."""

    producer: str
    reader: str
    share: float
    chance: float
    soon_s: float
    n: int


class Ends:
    """When runs of one environment ended, s, all together as time goes, and those of each function."""

    def __init__(self, names: list[str], at: NDArray[np.float64], who: NDArray[np.int32]) -> None:
        self.names, self.at, self.who = names, at, who
        self._order = np.argsort(self.who, kind="stable")
        self._first = np.searchsorted(self.who[self._order], np.arange(len(self.names) + 1))

    def of(self, who: int) -> NDArray[np.float64]:
        """Those of one function, as time goes."""
        return self.at[self._order[self._first[who] : self._first[who + 1]]]

    def often_near(self, starts: NDArray[np.float64], soon: float) -> list[int]:
        """Functions of which ends stand so soon before enough of the starts that they may explain any."""
        near = np.zeros(len(self.names), np.int64)
        for some in np.array_split(starts, -(-len(starts) // _AT_ONCE)):
            first = np.searchsorted(self.at, some - soon, side="left")
            ends = np.searchsorted(self.at, some + _EARLY, side="right") - first
            place = np.repeat(np.arange(len(some)), ends)
            # The first end of each start, then the next, and so on.
            which = np.arange(len(place)) - np.repeat(np.cumsum(ends) - ends, ends) + first[place]
            pairs = np.unique(place * len(self.names) + self.who[which])
            near += np.bincount(pairs % len(self.names), minlength=len(self.names))
        return np.flatnonzero(near >= _WORTH * len(starts)).tolist()


def ends_in(tables: Tables, environment: str) -> Ends:
    """All that went well in an environment."""
    rows = f"FROM named WHERE e = ? AND outcome = 'ok' AND t IS NOT NULL AND {tables.where}"
    names = tables.log.query(f"SELECT DISTINCT f {rows} ORDER BY f", [environment])
    # Names of millions of rows would each be a text: their places take four bytes.
    found = tables.log.connection.execute(
        "SELECT CAST(dense_rank() OVER (ORDER BY f) - 1 AS INTEGER) AS who,"
        f" t + (coalesce(cold_ms, 0) + coalesce(run_ms, 0)) / 1000 AS ended {rows} ORDER BY ended",
        [environment],
    ).fetchnumpy()
    return Ends([str(name) for (name,) in names], np.asarray(found["ended"], float), np.asarray(found["who"], np.int32))


def followers(tables: Tables, readers: list[Unit]) -> list[Follows]:
    """The lines that times alone tell, for readers (each with its busiest environment); none closes a circle."""
    found: list[Follows] = []
    ends = {environment: ends_in(tables, environment) for environment in dict.fromkeys(where for _, where in readers)}
    for reader in readers:
        lines = _producers_of(tables, reader, ends[reader[1]])
        if not any(_leads(found, reader[0], line.producer) for line in lines):
            found += lines
    return found


def _leads(lines: list[Follows], start: str, end: str) -> bool:
    """Whether lines lead from one function to another."""
    after = [line.reader for line in lines if line.producer == start]
    return end in after or any(_leads(lines, each, end) for each in after)


def _producers_of(tables: Tables, reader: Unit, ends: Ends) -> list[Follows]:
    function, environment = reader
    rows = tables.log.query(
        f"SELECT t FROM named WHERE f = ? AND e = ? AND outcome <> 'throttled' AND {tables.where} ORDER BY t LIMIT {_STARTS}",
        [function, environment],
    )
    starts = np.array([float(row[0]) for row in rows])
    if len(starts) < _LEAST:
        return []
    for soon in _SOON:
        lines = _explaining(function, starts, ends, soon)
        if sum(line.share for line in lines) >= _EXPLAINED:
            return lines
    return []


def _explaining(reader: str, starts: NDArray[np.float64], ends: Ends, soon: float) -> list[Follows]:
    """Producers in the order of what they explain beyond chance, each of what those before it left."""
    left, lines = starts, list[Follows]()
    while len(left) >= max(_LEAST, 0.02 * len(starts)) and len(lines) < 8:
        others = {ends.names[who]: ends.of(who) for who in ends.often_near(left, soon)}
        for known in (reader, *(line.producer for line in lines)):
            others.pop(known, None)
        scored = [(_hits(left, at, soon), _covered(at, starts, soon), name) for name, at in others.items()]
        best = max(scored, key=lambda each: (each[0].mean() - each[1], each[2]), default=None)
        if best is None:
            break
        hits, chance, name = best
        if hits.sum() < _LEAST or hits.mean() < _TIMES * chance or hits.mean() < _LEAST_SHARE:
            break
        lines.append(Follows(name, reader, float(hits.sum()) / len(starts), chance, soon, len(starts)))
        left = left[~hits]
    return lines


def _hits(starts: NDArray[np.float64], ends: NDArray[np.float64], soon: float) -> NDArray[np.bool_]:
    """Which starts follow an end so soon."""
    place = np.searchsorted(ends, starts + _EARLY, side="right") - 1
    return np.asarray((place >= 0) & (starts - ends[np.maximum(place, 0)] <= soon))


def _covered(ends: NDArray[np.float64], starts: NDArray[np.float64], soon: float) -> float:
    """The share of time that lies so soon after an end: what chance gives."""
    inside = ends[(ends >= starts[0] - soon) & (ends <= starts[-1])]
    if not len(inside):
        return 0.0
    window = soon + _EARLY
    gaps = np.append(np.diff(inside), window)
    return float(np.minimum(gaps, window).sum()) / max(1.0, float(starts[-1] - starts[0]))
