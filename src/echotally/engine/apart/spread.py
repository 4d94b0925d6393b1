"""Plays the parts of a month on other machines: tasks play some parts each, and merge a stretch of the month each.

What a task logged stays with the worker that played it: only a stretch of each log goes to the worker that merges it, and only
figures come back. So neither this machine nor the network carries the month, and merging, which on one machine goes beside the
playing, is shared out as well. Every task can be done anew from what it was given, so that a worker may die.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from echotally.demand.month import Arrivals
from echotally.engine import codes
from echotally.engine.apart.joining import joined
from echotally.engine.apart.merging import MOST_ACCOUNTS, Account, Common, Ground, Highest, Lines, Rising, parted
from echotally.engine.apart.playing import Player, dealt, ends_of
from echotally.engine.apart.splitting import Part, parts_of
from echotally.engine.layout import LEVEL_BINS
from echotally.engine.machines import Machines
from echotally.engine.reading import Measured
from echotally.engine.sketch import Level, level_of
from echotally.engine.watch import Bounds
from echotally.errors import BadInput
from echotally.model.estate import Model
from echotally.rates.card_loading import Offer

Tell = Callable[[float], None]
#: Changes of level that are merged by one task: some hundred MB of its worker's memory.
_AT_ONCE = 4_000_000
#: Tasks that play, for each that can play at a time: enough that none waits long for another.
_TASKS = 2
#: What of the whole is over once every part is played.
_PLAYED = 0.8


class Month(NamedTuple):
    """A month to be played, as it is sent."""

    model: Model
    arrivals: Arrivals
    placement: Mapping[str, Offer]
    seed: int
    bounds: Bounds

    @property
    def accounts(self) -> list[Account]:
        """All accounts with the plans in them, whose places in this list the logs name."""
        environments = self.model.environments.values()
        named = (
            (its.account or "", self.placement[name].name) for its in environments for name in self.model.functions
        )
        return list(dict.fromkeys(named))


class Summary(NamedTuple):
    """What the parts of a task came to, as far as the whole must know it to be merged.

    ``parts``: their numbers in the whole. ``moved``: by how much each account's level rose, of shape (stretches, accounts).
    ``instant``, ``short``: what worlds say of themselves (``merging.in_the_way``), the latter by account. ``failed``: the first
    refusal, with its stretch and part.
    """

    parts: tuple[int, ...]
    grounds: tuple[Ground, ...]
    moved: NDArray[np.int64]
    instant: bool
    short: frozenset[Account]
    failed: tuple[int, int, BadInput] | None


class Played(NamedTuple):
    """What the parts of a task came to. ``logs``: a stretch each, with accounts numbered as in the whole."""

    summary: Summary
    measured: list[Measured]
    logs: list[Lines]

    @property
    def nbytes(self) -> int:
        """What it takes of memory, about."""
        return sum(log.nbytes for log in self.logs) + sum(its.series.nbytes for its in self.measured)


class Merge(NamedTuple):
    """A stretch of the month merged: how long the estate's level stood where, ns, its peak, and by account the peaks and
    the times at which start tokens were taken.
    """

    held_ns: NDArray[np.int64]
    peak: int
    peaks: dict[int, int]
    starts_ns: dict[int, Lines]


class Stretch(NamedTuple):
    """A stretch to be merged: from where to where, ns, the level of each account before it, whose peaks and starts are asked for."""

    from_ns: int
    until_ns: int
    before: list[int]
    limited: tuple[int, ...]
    starting: tuple[int, ...]


def spread_out(places: Machines, month: Month, parts: Sequence[Part], progress: Tell | None) -> Measured | None:
    """The month played part by part, to the byte as jointly; None where parts got in each other's way.

    Raises ``BadInput`` of the part that would be the first to be refused on one machine.
    """
    accounts = month.accounts
    if len(accounts) > MOST_ACCOUNTS:
        return None
    ends, sent = ends_of(parts, _AT_ONCE), places.share(month)
    kept = [places.keep(_played, sent, task, ends) for task in dealt(parts, _TASKS * (places.width or 1))]
    tells = [_telling(progress, _PLAYED * n / len(kept)) for n in range(len(kept) + 1)]
    found = [places.fetch(tell, places.keep(_summary, each)) for tell, each in zip(tells, kept, strict=False)]
    # Nothing is fetched for it: a stretch of each log goes to whoever merges it.
    logs = [[places.keep(_log, each, n) for each in kept] for n in range(len(ends))]
    together = put_together(accounts, found, ends, sum(its.moved for its in found))
    merging = [places.keep(merged, its, logs[n]) for n, its in enumerate(together.stretches)] if together else []
    concurrency = together and together.concurrency(places.fetch(tells[-1], each) for each in merging)
    if concurrency is None:
        return None
    measured: dict[int, Measured] = {}
    for its, each in zip(found, kept, strict=True):
        measured |= zip(its.parts, places.fetch(tells[-1], places.keep(_measured, each)), strict=True)
    return joined(month.model, [measured[n] for n in range(len(parts))], concurrency)


def _telling(progress: Tell | None, over: float) -> Tell | None:
    """Tells how much of the whole is over while something is waited for."""
    return (lambda _: progress(over)) if progress else None


class Merging(NamedTuple):
    """Parts that have been played, and what their logs must be merged for: the estate's level, and whether they met."""

    accounts: list[Account]
    common: Common
    stretches: list[Stretch]

    def concurrency(self, merges: Iterable[Merge]) -> Level | None:
        """The estate's level; None where a limit was reached or a bucket lacked a token, so that parts may have met."""
        held, peak = np.zeros(LEVEL_BINS, np.int64), 0
        for merge in merges:
            held, peak = held + merge.held_ns, max(peak, merge.peak)
            below = all(its < self.common.limits[self.accounts[n]] for n, its in merge.peaks.items())
            # Every bucket goes on from where the stretch before left it.
            starts = ((self.common.buckets[self.accounts[n]], at) for n, at in merge.starts_ns.items())
            if not (below and all(bucket.enough_for(at) for bucket, at in starts)):
                return None
        return level_of(held, peak, self.stretches[-1].until_ns)


def put_together(
    accounts: list[Account], found: Sequence[Summary], ends: list[int], moved: NDArray[np.int64]
) -> Merging | None:
    """What is to be merged of parts that have been played; None where one says itself that it may have played another way jointly.

    ``moved``: by how much each account's level rose in each stretch, of shape (stretches, accounts).
    Raises ``BadInput`` of the first part that was refused.
    """
    common = Common([ground for its in found for ground in its.grounds])
    if any(its.instant or not its.short.isdisjoint(common.buckets) for its in found):
        return None
    if failed := [its.failed for its in found if its.failed]:
        raise min(failed, key=lambda each: each[:2])[2]
    # Each stretch begins with the levels that the ones before it left.
    before = np.cumsum(moved, axis=0) - moved
    limited, starting = (
        tuple(n for n, key in enumerate(accounts) if key in shared) for shared in (common.limits, common.buckets)
    )
    spans = zip([0, *ends], ends, before.tolist(), strict=False)
    return Merging(accounts, common, [Stretch(*span, limited, starting) for span in spans])


def _played(month: Month, numbers: Sequence[int], ends: Sequence[int]) -> Played:
    """Play the parts of these numbers, as the one who sent the month cut it."""
    parts = parts_of(*month[:3])
    return play_parts(month, {n: parts[n] for n in numbers}, ends)


def play_parts(month: Month, parts: Mapping[int, Part], ends: Sequence[int]) -> Played:
    """Play parts, by their numbers in the whole, to the month's end, or to where one is refused or may have met others."""
    places = {key: n for n, key in enumerate(month.accounts)}
    each = [Player.begun(part, month.placement, month.seed, month.bounds) for part in parts.values()]
    names = [np.array([places[key] for key in player.built.accounts], np.int64) for player in each]
    logs, failed = [], None
    for k, until_ns in enumerate(ends):
        for player in each:
            player.play(until_ns, lambda _: None)
        logs.append(np.concatenate([renamed(p.takes_log(), its) for p, its in zip(each, names, strict=True)]))
        failed = min(
            ((k, n, p.failed) for n, p in zip(parts, each, strict=True) if p.failed), key=lambda f: f[1], default=None
        )
        if failed or any(player.built.world.clock[0]["instant"] for player in each):
            break
    clocks = [player.built.world.clock[0] for player in each]
    instant = any(clock["instant"] for clock in clocks)
    short = frozenset(key for p, clock in zip(each, clocks, strict=True) if clock["short"] for key in p.built.accounts)
    grounds = tuple(Ground.of(player.built) for player in each)
    # Of one stretch nobody asks how far levels have risen at its end.
    moved = np.array([_moved(log, len(places)) for log in logs] if len(ends) > 1 else [[0] * len(places)] * len(logs))
    summary = Summary(tuple(parts), grounds, moved, bool(instant), short, failed)
    # Each world is let go once it has been read.
    return Played(summary, [] if failed or instant else [each.pop(0).measured() for _ in parts], logs)


def renamed(log: Lines, names: Lines) -> Lines:
    """A log with other numbers for its accounts."""
    account = log & (MOST_ACCOUNTS - 1)
    found: Lines = log - account + names[account]
    return found


def _moved(log: Lines, accounts: int) -> NDArray[np.int64]:
    """By how much a stretch raised the level of each account."""
    levels, _ = parted(log)
    rose = (levels >> codes.LOG_WHAT_SHIFT) & 1 == codes.ROSE
    account = levels & (MOST_ACCOUNTS - 1)
    return np.bincount(account[rose], minlength=accounts) - np.bincount(account[~rose], minlength=accounts)


def _summary(played: Played) -> Summary:
    return played.summary


def _measured(played: Played) -> list[Measured]:
    return played.measured


def _log(played: Played, n: int) -> Lines:
    return played.logs[n]


def merged(stretch: Stretch, logs: Sequence[Lines]) -> Merge:
    """The stretch of all tasks' logs."""
    levels, tokens = parted(np.concatenate(logs))
    estate = Rising(sum(stretch.before), since_ns=stretch.from_ns)
    estate.follows(levels)
    estate.holds_until(stretch.until_ns)
    # An account that has all parts is the estate.
    peaks = dict.fromkeys(stretch.limited, estate.peak) if len(stretch.before) == 1 else {}
    for n in set(stretch.limited) - peaks.keys():
        highest = Highest(stretch.before[n])
        highest.follows(_of_account(n, levels))
        peaks[n] = highest.peak
    starts: dict[int, Any] = {n: _of_account(n, tokens) >> codes.LOG_TIME_SHIFT for n in stretch.starting}
    return Merge(estate.held_ns, estate.peak, peaks, starts)


def _of_account(n: int, log: Lines) -> Lines:
    found: Lines = log[log & (MOST_ACCOUNTS - 1) == n]
    return found
