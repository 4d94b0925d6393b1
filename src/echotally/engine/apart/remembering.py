"""Parts that have been played: a study asks for month after month of which most parts are as they were.

A sweep changes one function, a forecast one demand at a time: what shares nothing with them need not be played again. What a
part came to is kept with its log of levels, so that the month put together is the joint one to the byte; parts are told by all
that they are played from, never by what a study says of itself.
"""

from __future__ import annotations

import hashlib
import pickle
from collections import OrderedDict
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future
from threading import Lock

import numpy as np

from echotally.engine.apart.joining import joined
from echotally.engine.apart.merging import MOST_ACCOUNTS, Account, Lines
from echotally.engine.apart.splitting import Part
from echotally.engine.apart.spread import Month, Played, merged, play_parts, put_together, renamed
from echotally.engine.reading import Measured
from echotally.rates.card import Plan

#: What is kept at the most, bytes, and of which months: logs of larger ones would push each other out.
_MOST_BYTES, _MOST_EVENTS = 48 << 20, 1_000_000
#: The share of events that must be spared, or it costs more (a log is written) than it spares; not judged before so many months
#: on each placement, beside its first, which spares nothing.
_PAYS, _TRIED = 0.2, 2
#: A world of its own for a part that is not known takes as long as so many events.
_EACH = 10_000.0
_Key = tuple[bytes, tuple[str, ...]]


class Memory:
    """What parts came to in the months of one study, those asked for last kept longest. Threads may share one."""

    def __init__(self) -> None:
        # A part that is being played stands there already: who asks for it waits, and does not play it as well.
        self._kept: OrderedDict[_Key, tuple[tuple[Plan, ...], Future[Played]]] = OrderedDict()
        self._bytes = 0
        self._lock = Lock()
        # What is spared is less than nothing where parts are made that the month played at once has no need of.
        self._months, self._asked, self._spared = 0, 0.0, 0.0
        self._seen: set[tuple[Account, ...]] = set()
        self._met: set[tuple[Account, ...]] = set()

    def pays(self, month: Month, parts: Sequence[Part]) -> bool:
        """Whether to play the parts of a month for it, rather than the month."""
        small = sum(part.expected for part in parts) <= _MOST_EVENTS
        spares = self._months < _TRIED * len(self._seen) or self._spared >= _PAYS * self._asked
        return len(parts) > 1 and small and spares and tuple(month.accounts) not in self._met

    def month(self, month: Month, parts: Sequence[Part], progress: Callable[[float], None] | None) -> Measured | None:
        """The month put together from its parts, of which only those are played that are not known.

        None where parts got in each other's way. Raises ``BadInput`` of the first part that is refused.
        """
        accounts = month.accounts
        if len(accounts) > MOST_ACCOUNTS:
            return None
        length, whole, over, spared = parts[0].arrivals.length_ns, sum(part.expected for part in parts), 0.0, 0.0
        found, logs = [], []
        for n, part in enumerate(parts):
            own = month._replace(model=part.model, arrivals=part.arrivals)
            played, known = self._part(own, {n: part})
            over += part.expected
            spared += part.expected if known else -_EACH
            found.append(played)
            logs.append(_numbered(played.logs[0], own.accounts, accounts))
            if progress:
                progress(over / whole)
        self._count(accounts, whole, spared)
        # Of one stretch it makes no difference how far levels have risen at its end.
        still = np.zeros((1, len(accounts)), np.int64)
        together = put_together(accounts, [played.summary for played in found], [length], still)
        concurrency = together and together.concurrency(merged(stretch, logs) for stretch in together.stretches)
        if concurrency is None:
            self._met.add(tuple(accounts))
            return None
        return joined(month.model, [played.measured[0] for played in found], concurrency)

    def _part(self, own: Month, part: Mapping[int, Part]) -> tuple[Played, bool]:
        """What a part came to, and whether that was known, or is found by another thread just now."""
        key, plans = _key(own)
        with self._lock:
            kept = self._kept.get(key)
            known = kept is not None and kept[0] == plans
            found = kept[1] if kept and known else Future[Played]()
            self._bytes -= _nbytes(kept[1]) if kept and not known else 0
            self._kept[key] = plans, found
            self._kept.move_to_end(key)
        if known:
            return found.result(), True
        try:
            played = play_parts(own, part, [own.arrivals.length_ns])
        except BaseException as error:
            # Whoever waits for it is stopped as well.
            found.set_exception(error)
            with self._lock:
                self._kept.pop(key, None)
            raise
        found.set_result(played)
        self._make_room(key, found)
        return played, False

    def _make_room(self, key: _Key, found: Future[Played]) -> None:
        with self._lock:
            kept = self._kept.get(key)
            # It may have had to go before it was over.
            self._bytes += _nbytes(found) if kept and kept[1] is found else 0
            while self._bytes > _MOST_BYTES and len(self._kept) > 1:
                _, (_, oldest) = self._kept.popitem(last=False)
                self._bytes -= _nbytes(oldest)

    def _count(self, accounts: list[Account], asked: float, spared: float) -> None:
        with self._lock:
            if tuple(accounts) in self._seen:
                self._months, self._asked, self._spared = self._months + 1, self._asked + asked, self._spared + spared
            self._seen.add(tuple(accounts))


def _nbytes(played: Future[Played]) -> int:
    return played.result().nbytes if played.done() else 0


def _key(own: Month) -> tuple[_Key, tuple[Plan, ...]]:
    """What a part is told by, given as a month of its own; beside it the plans, which are compared and not written out each time."""
    offers = [own.placement[name] for name in own.model.functions]
    made_of = pickle.dumps((own.model, own.arrivals, own.seed, own.bounds))
    names = tuple(offer.name for offer in offers)
    return (hashlib.blake2b(made_of, digest_size=16).digest(), names), tuple(offer.plan for offer in offers)


def _numbered(log: Lines, own: list[Account], accounts: list[Account]) -> Lines:
    """The log of a part with its accounts numbered as in the whole."""
    return log if len(accounts) == 1 else renamed(log, np.array([accounts.index(key) for key in own], np.int64))
