"""``measure``: a program or an address tried, and the model's keys that come of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from echotally.evidence.measure import requesting
from echotally.evidence.measure.keys import Keys, keys_of
from echotally.evidence.measure.rows import Tried
from echotally.evidence.measure.trying import Asked, Tell, try_fresh, try_serving
from echotally.showing import Answer


@dataclass(frozen=True, repr=False)
class Measurement(Answer):
    """What was tried, row by row, and the keys of the model that come of it."""

    tried: Tried
    keys: Keys


def measure(
    command: Sequence[str] = (),
    *,
    url: str | None = None,
    serve: bool = False,
    events: Sequence[Any] = (),
    batches: Sequence[int] = (),
    slots: Sequence[int] = (),
    clients: Sequence[int] = (1, 5, 20),
    pid: int | None = None,
    runs: int = 30,
    limit_s: float = 10.0,
    longest_s: float = requesting.LONGEST_S,
    factor: float = 1.0,
    elsewhere: bool = False,
    tell: Tell | None = None,
) -> Measurement:
    """Try ``command`` on this machine (a fresh process a run, or with ``serve`` one that reads events as lines), or ask ``url``.

    ``events`` are JSON values handed over again and again, in ``batches`` of these sizes; ``slots``: so many unanswered at once. Of a
    ``url``: with so many ``clients``, each level for ``longest_s`` at the most, ``pid`` the process that answers; ``elsewhere`` lets it be
    another machine's. ``limit_s`` is the longest run or answer; ``factor`` how many times as fast the processor is on which it will run.
    Raises ``BadInput`` for a program that cannot be started, fails or hangs every time, or an address that does not answer.
    """
    asked = Asked(events, batches or (1,), bool(batches))
    if url is not None:
        requesting.check_here(url, elsewhere)
        tried = requesting.try_url(url, asked, clients, runs, limit_s, pid=pid, longest_s=longest_s, tell=tell)
    elif serve:
        tried = try_serving(list(command), asked, runs, limit_s, slots, tell)
    else:
        tried = try_fresh(list(command), asked, runs, limit_s, tell)
    return Measurement(tried, keys_of(tried, factor))
