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
_LEAST = 20


class Follows(Struct, frozen=True):
    """``share`` of the reader's attempts start within ``soon_s`` of an end of the producer's, where chance would give ``chance``."""

    producer: str
    reader: str
    share: float
    chance: float
    soon_s: float
    n: int


def followers(tables: Tables, readers: list[Unit]) -> list[Follows]:
    """The lines that times alone tell, for readers (each with its busiest environment); none closes a circle."""
    found: list[Follows] = []
    for reader in readers:
        lines = _producers_of(tables, reader)
        if not any(_leads(found, reader[0], line.producer) for line in lines):
            found += lines
    return found


def _leads(lines: list[Follows], start: str, end: str) -> bool:
    """Whether lines lead from one function to another."""
    after = [line.reader for line in lines if line.producer == start]
    return end in after or any(_leads(lines, each, end) for each in after)


def _producers_of(tables: Tables, reader: Unit) -> list[Follows]:
    function, environment = reader
    rows = tables.log.query(
        f"SELECT t FROM named WHERE f = ? AND e = ? AND outcome <> 'throttled' AND {tables.where} ORDER BY t LIMIT {_STARTS}",
        [function, environment],
    )
    starts = np.array([float(row[0]) for row in rows])
    if len(starts) < _LEAST:
        return []
    low, high = float(starts[0]) - 60.0, float(starts[-1])
    ended = tables.log.connection.execute(
        "SELECT f, t + (coalesce(cold_ms, 0) + coalesce(run_ms, 0)) / 1000 AS ended FROM named"
        f" WHERE e = ? AND f <> ? AND outcome = 'ok' AND t BETWEEN ? AND ? AND {tables.where} ORDER BY f, ended",
        [environment, function, low - 3_600.0, high],
    ).fetchnumpy()
    names = np.asarray(ended["f"]).astype(str)
    ends = {str(name): np.asarray(ended["ended"], float)[names == name] for name in np.unique(names)}
    for soon in _SOON:
        lines = _explaining(function, starts, ends, soon)
        if sum(line.share for line in lines) >= _EXPLAINED:
            return lines
    return []


def _explaining(
    reader: str, starts: NDArray[np.float64], ends: dict[str, NDArray[np.float64]], soon: float
) -> list[Follows]:
    """Producers in the order of what they explain beyond chance, each of what those before it left."""
    left, lines = starts, list[Follows]()
    while len(left) >= max(_LEAST, 0.02 * len(starts)) and len(lines) < 8:
        scored = [(_hits(left, at, soon), _covered(at, starts, soon), name) for name, at in ends.items()]
        best = max(scored, key=lambda each: (each[0].mean() - each[1], each[2]), default=None)
        if best is None:
            break
        hits, chance, name = best
        if hits.sum() < _LEAST or hits.mean() < _TIMES * chance or hits.mean() < 0.05:
            break
        lines.append(Follows(name, reader, float(hits.sum()) / len(starts), chance, soon, len(starts)))
        left, ends = left[~hits], {other: at for other, at in ends.items() if other != name}
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
