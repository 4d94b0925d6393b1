"""How failed messages come back: after how long, and after how many receipts no more.

Where links or ids say which message an attempt held, its attempts are followed; else a failed attempt's next one tells, where
it comes far sooner than the usual gap, and always after the same time.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from echotally.database import quoted
from echotally.evidence.survey.tables import Sampled, Tables

#: Times people set, s.
_PLAIN = (1, 2, 5, 10, 15, 20, 30, 45, 60, 90, 120, 180, 300, 600, 900, 1_800, 3_600)


@dataclass(frozen=True)
class Redelivery:
    """Seconds from receipt until a failed message is visible again; receipts after which it was seen no more (None: unknown)."""

    visibility_s: float
    tries: int | None
    n: int
    evidence: str


def redelivery_of(tables: Tables, function: str, sample: Sampled) -> Redelivery | None:
    """How a function's failed messages come back; None where none was seen to."""
    return _followed(tables, function) or _next_ones(sample)


def _followed(tables: Tables, function: str) -> Redelivery | None:
    """By the sending span or the id of each message."""
    rows = tables.query(
        "SELECT m, list(t ORDER BY t), list(outcome ORDER BY t) FROM ("
        "SELECT l.linked AS m, s.t, s.outcome FROM {seen} s JOIN links l USING (span) WHERE s.f = "
        + quoted(function)
        + " UNION ALL SELECT x.message, s.t, s.outcome FROM {seen} s JOIN entries x USING (span) WHERE x.message IS NOT NULL"
        " AND s.span NOT IN (SELECT span FROM links) AND s.f = " + quoted(function) + ")"
        " GROUP BY m HAVING count(*) FILTER (outcome <> 'ok') > 0"
    )
    gaps, lost = [], []
    for _, times, outcomes in rows:
        for n in range(len(times) - 1):
            if outcomes[n] != "ok":
                gaps.append(times[n + 1] - times[n])
        # Long before the log ends, and never handled.
        if "ok" not in outcomes and tables.log_end - times[-1] > 4 * 3_600:
            lost.append(len(times))
    if len(gaps) < 3:
        return None
    tries = int(np.bincount(lost).argmax()) if len(lost) >= 2 else None
    if tries is not None and np.mean(np.array(lost) == tries) < 0.8:
        tries = None
    return Redelivery(_near(float(np.quantile(gaps, 0.1))), tries, len(gaps), "messages that failed and came back")


def _next_ones(sample: Sampled) -> Redelivery | None:
    failed = np.flatnonzero(((sample.outcome == "error") | (sample.outcome == "timeout"))[:-1])
    if len(failed) < 5 or sample.every > 1 or len(sample.t) < 50:
        return None
    every = np.diff(sample.t)
    gaps = every[failed]
    middle = float(np.median(gaps))
    same = np.mean(np.abs(gaps - middle) < 0.05 * middle + 0.5)
    if same < 0.4 or middle > 0.5 * float(np.median(every)):
        return None
    return Redelivery(_near(middle), None, len(failed), "the next attempt after one that failed")


def _near(value: float) -> float:
    """The plain time just below a gap: a message is taken a little after it is visible again."""
    return next((float(each) for each in _PLAIN if 0.9 * value <= each <= 1.02 * value), value)
