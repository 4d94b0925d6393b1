"""``measure``: a program or an address tried, and the model's keys that come of it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, TypedDict, Unpack

from echotally.evidence.measure import requesting
from echotally.evidence.measure.keys import Keys, keys_of
from echotally.evidence.measure.rows import Tried
from echotally.evidence.measure.trying import Asked, Tell, Trying, try_fresh, try_serving
from echotally.showing import Answer


class Measurement(Answer, frozen=True):
    """What was tried, row by row, and the keys of the model that come of it."""

    tried: Tried
    keys: Keys


class TryingWords(TypedDict, total=False):
    """With what a program is tried, and how often (``Trying``), as keywords of ``measure``."""

    events: Sequence[Any]
    batches: Sequence[int]
    slots: Sequence[int]
    clients: Sequence[int]
    pid: int | None
    runs: int
    limit_s: float
    longest_s: float
    tell: Tell | None


def measure(
    command: Sequence[str] = (),
    *,
    url: str | None = None,
    serve: bool = False,
    factor: float = 1.0,
    elsewhere: bool = False,
    **words: Unpack[TryingWords],
) -> Measurement:
    """Try ``command`` on this machine (a fresh process a run, or with ``serve`` one that reads events as lines), or ask ``url``.

    ``words``: with what, and how often (``Trying``). ``elsewhere`` lets the address be another machine's; ``factor`` is how many times
    as fast the processor is on which it will run.
    Raises ``BadInput`` for a program that cannot be started, fails or hangs every time, or an address that does not answer.
    """
    trying = Trying(**words)
    asked = Asked(trying.events, trying.batches or (1,), bool(trying.batches))
    if url is not None:
        requesting.check_here(url, elsewhere)
        tried = requesting.try_url(url, asked, trying)
    elif serve:
        tried = try_serving(list(command), asked, trying.runs, trying.limit_s, trying.slots, trying.tell)
    else:
        tried = try_fresh(list(command), asked, trying.runs, trying.limit_s, trying.tell)
    return Measurement(tried, keys_of(tried, factor))
