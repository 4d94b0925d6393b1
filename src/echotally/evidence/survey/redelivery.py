"""How failed messages come back: after how long, and after how many receipts no more.

Where links or ids say which message an attempt held, its attempts are followed; else starts just when the messages of attempts
that failed, or outlived the time, were due. A message that is handled again is no new event.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.database import quoted
from echotally.evidence.survey.facts import Trouble
from echotally.evidence.survey.tables import Tables, Unit

#: Times people set, s.
_PLAIN = (1, 2, 5, 10, 15, 20, 30, 45, 60, 90, 120, 180, 300, 600, 900, 1_800, 3_600)


#: Attempts looked at where only times tell, and how soon after they are due messages are taken, s.
_ATTEMPTS, _SOON_S = 20_000, 0.5
#: Messages that failed and were tried again, from which on it is told whether they fail every time.
_FEW = 5


class Redelivery(Struct, frozen=True):
    """Seconds from receipt until a message is visible again; receipts after which it was seen no more (None: unknown).

    ``again`` is the share of events handled well that had been before: their run outlived the time.
    """

    visibility_s: float
    tries: int | None
    n: int
    evidence: str
    again: float = 0.0


class Poison(Struct, frozen=True):
    """Messages that failed every time, of how many in all, and the attempts they took."""

    messages: int
    of: float
    attempts: int


def redelivery_of(tables: Tables, unit: Unit) -> Redelivery | None:
    """How the messages a function did not delete in time come back; None where none was seen to."""
    return _followed(tables, unit[0]) or _due(tables, unit)


def poison_of(tables: Tables, function: str, troubles: Sequence[Trouble]) -> Poison | None:
    """Events that fail every time, where messages can be followed: of those that failed once most failed again, and never went
    well. Stretches of trouble are left out, in which all do. None where chance explains the failures.
    """
    away = [(t.at.timestamp() - 60, t.at.timestamp() + t.lasts_s + 60) for t in troubles]
    followed = [
        outcomes
        for _, times, outcomes in _messages(tables, function)
        if len(outcomes) > 1 and outcomes[0] != "ok" and not any(low <= at < high for at in times for low, high in away)
    ]
    again = sum(outcomes[1] != "ok" for outcomes in followed)
    if len(followed) < _FEW or again < 0.5 * len(followed):
        return None
    never = [outcomes for outcomes in followed if "ok" not in outcomes]
    good = sum(sums.events for (f, _), sums in tables.sums.items() if f == function)
    return Poison(len(never), good + len(never), sum(map(len, never)))


def _messages(tables: Tables, function: str) -> list[tuple[Any, list[float], list[str]]]:
    """Messages that were attempted again or failed, by the sending span or their id: when, and with what outcome."""
    if not tables.followed:
        return []
    return tables.query(
        "SELECT m, list(t ORDER BY t), list(outcome ORDER BY t) FROM ("
        "SELECT l.linked AS m, s.t, s.outcome FROM {seen} s JOIN links l USING (span) WHERE s.f = "
        + quoted(function)
        + " UNION ALL SELECT x.message, s.t, s.outcome FROM {seen} s JOIN entries x USING (span) WHERE x.message IS NOT NULL"
        " AND s.span NOT IN (SELECT span FROM links) AND s.f = " + quoted(function) + ")"
        " GROUP BY m HAVING count(*) > 1 OR count(*) FILTER (outcome <> 'ok') > 0"
    )


def _followed(tables: Tables, function: str) -> Redelivery | None:
    """By the sending span or the id of each message."""
    gaps, lost, twice = [], [], 0
    for _, times, outcomes in _messages(tables, function):
        twice += max(0, outcomes.count("ok") - 1)
        for n in range(len(times) - 1):
            if outcomes[n] != "ok" or outcomes[n + 1] == "ok":
                gaps.append(times[n + 1] - times[n])
        # Long before the log ends, and never handled.
        if "ok" not in outcomes and tables.log_end - times[-1] > 4 * 3_600:
            lost.append(len(times))
    if len(gaps) < 3:
        return None
    tries = int(np.bincount(lost).argmax()) if len(lost) >= 2 else None
    if tries is not None and np.mean(np.array(lost) == tries) < 0.8:
        tries = None
    good = sum(sums.events for (f, _), sums in tables.sums.items() if f == function)
    again = min(0.5, twice / good) if good else 0.0
    return Redelivery(_near(float(np.quantile(gaps, 0.1))), tries, len(gaps), "messages that came back", again)


def _due(tables: Tables, unit: Unit) -> Redelivery | None:
    """By times alone: attempts that failed, or outlived a time that people set, and starts just when their messages were due."""
    rows = tables.log.connection.execute(
        "SELECT t, (coalesce(cold_ms, 0) + coalesce(run_ms, 0)) / 1000 AS took, events, outcome FROM named"
        f" WHERE f = ? AND e = ? AND outcome <> 'throttled' AND {tables.where} ORDER BY t LIMIT {_ATTEMPTS}",
        [*unit],
    ).fetchnumpy()
    columns: list[NDArray[np.float64]] = [
        np.asarray(np.ma.filled(np.ma.asarray(rows[name], float), 0.0)) for name in ("t", "took", "events")
    ]
    t, took, events = columns
    good = np.asarray(rows["outcome"]).astype(str) == "ok"
    if len(t) < 50:
        return None
    best: tuple[float, int, NDArray[np.bool_]] | None = None
    for visibility in _PLAIN:
        late = took > visibility
        due = t[~good | late] + visibility
        due = due[due < t[-1] - _SOON_S]
        if len(due) < 5:
            continue
        near = np.searchsorted(t, due + _SOON_S, "right") - np.searchsorted(t, due - 0.001, "left")
        hits = float(np.mean(near > 0))
        chance = 1 - np.exp(-_SOON_S * len(t) / max(1.0, float(t[-1] - t[0])))
        if hits > 0.6 and hits > 3 * chance and (best is None or hits > best[0]):
            best = hits, visibility, late & good
    if best is None:
        return None
    hits, visibility, late = best
    again = min(0.5, hits * float(events[late].sum()) / max(1.0, float(events[good].sum())))
    said = f"{hits:.0%} of attempts that failed or took longer are followed by a start just then"
    return Redelivery(float(visibility), None, int(np.sum(~good)) + int(np.sum(late)), said, again)


def _near(value: float) -> float:
    """The plain time just below a gap: a message is taken a little after it is visible again."""
    return next((float(each) for each in _PLAIN if 0.9 * value <= each <= 1.02 * value), value)
