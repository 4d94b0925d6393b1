"""Puts the levels of parts together: the estate's calls in flight, and whether what parts share ever mattered.

Parts of one account share its limit of calls at once, and maybe a bucket of start tokens (rules 3.4 and 5.2). Where the merged
level stayed below the limit, no call was turned away for it; where the bucket never lacked a token, no start waited for one.
Then each part played as it would have jointly.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Collection, Iterator, Sequence
from typing import NamedTuple

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.engine import codes
from echotally.engine.apart.buckets import Bucket
from echotally.engine.build import Built
from echotally.engine.layout import EXACT_LEVELS, LEVEL_BINS
from echotally.engine.sketch import Level, bins_of, level_of

Lines = NDArray[np.int64]
#: An account and the plan in it.
Account = tuple[str, str]
#: Accounts that a part's log can tell apart.
MOST_ACCOUNTS = 2 ** int(codes.LOG_WHAT_SHIFT)
_WHAT = 2 ** int(codes.LOG_TIME_SHIFT - codes.LOG_WHAT_SHIFT) - 1
#: Changes that are followed at once.
_AT_ONCE = 8_192


class Rising(Struct):
    """A level that is followed over the month, an instant's falls before its rises (rule 1.3)."""

    level: int = 0
    peak: int = 0
    since_ns: int = 0
    held_ns: Lines = field(default_factory=lambda: np.zeros(LEVEL_BINS, np.int64))

    def follows(self, lines: Lines) -> None:
        """The changes of one stretch of time, in any order; they are put in order where they stand."""
        for some in _in_order(lines):
            after, times = _levels(some, self.level), some >> codes.LOG_TIME_SHIFT
            self._held(np.concatenate(([self.level], after[:-1])), np.diff(times, prepend=self.since_ns))
            self.peak = max(self.peak, int(after.max()))
            self.level, self.since_ns = int(after[-1]), int(times[-1])

    def holds_until(self, end_ns: int) -> None:
        """Nothing changes any more until then."""
        self._held(np.array([self.level]), np.array([end_ns - self.since_ns]))
        self.since_ns = end_ns

    def until(self, length_ns: int) -> Level:
        """The level over the whole month."""
        self.holds_until(length_ns)
        return level_of(self.held_ns, self.peak, length_ns)

    def _held(self, levels: Lines, ns: Lines) -> None:
        # Sums of ns in a month stay below 2^53, where floats are exact.
        held = np.bincount(level_bins(levels), ns)
        self.held_ns[: len(held)] += held.astype(np.int64)


class Highest(Struct):
    """The highest level of an account over the month."""

    level: int = 0
    peak: int = 0

    def follows(self, lines: Lines) -> None:
        """As ``Rising.follows``."""
        for some in _in_order(lines):
            after = _levels(some, self.level)
            self.peak, self.level = max(self.peak, int(after.max())), int(after[-1])


def _in_order(lines: Lines) -> Iterator[Lines]:
    """Changes, put in the order of time, so many at once."""
    lines.sort()
    # What is found of so many lies in the processor's memory and in the allocator's: of all at once each step would get fresh
    # pages from the system, which takes several times as long as the step.
    yield from (lines[k : k + _AT_ONCE] for k in range(0, len(lines), _AT_ONCE))


def _levels(lines: Lines, before: int) -> Lines:
    """The level after each of sorted changes. The highest of an instant is its last, as falls come first."""
    # ROSE is 1 and FELL 0.
    return before + np.cumsum(2 * ((lines >> codes.LOG_WHAT_SHIFT) & _WHAT) - 1)


def level_bins(levels: Lines) -> Lines:
    """The bin of each level (``kernel.sketch.level_bin`` for whole arrays)."""
    if levels.max(initial=0) < EXACT_LEVELS:
        return levels
    place, _ = bins_of(np.maximum(levels, EXACT_LEVELS))
    first, _ = bins_of(np.array([EXACT_LEVELS]))
    return np.where(levels < EXACT_LEVELS, levels, np.minimum(EXACT_LEVELS + place - first[0], LEVEL_BINS - 1))


class Ground(NamedTuple):
    """The accounts of a part, and of each its limit of calls at once (negative: none) and its bucket of start tokens, if any."""

    accounts: tuple[Account, ...]
    limits: tuple[int, ...]
    buckets: tuple[Bucket | None, ...]

    @classmethod
    def of(cls, built: Built) -> Ground:
        """That of a part which has not been played yet."""
        accounts = built.world.accounts
        firsts = [built.world.units[int(account["first_unit"])] for account in accounts]
        of_accounts = [unit["token_scope"] == codes.YES and unit["token_cost"] > 0 for unit in firsts]
        buckets = (Bucket.of(unit) if its else None for unit, its in zip(firsts, of_accounts, strict=True))
        return cls(tuple(built.accounts), tuple(int(account["limit"]) for account in accounts), tuple(buckets))


class Common:
    """What more than one part shares, by account: limits of calls at once, and full buckets of start tokens."""

    def __init__(self, grounds: Sequence[Ground]) -> None:
        parts_with = Counter(key for ground in grounds for key in ground.accounts)
        self.limits: dict[Account, int] = {}
        self.buckets: dict[Account, Bucket] = {}
        for ground in grounds:
            for key, limit, bucket in zip(*ground, strict=True):
                if parts_with[key] > 1 and limit >= 0:
                    self.limits[key] = limit
                if parts_with[key] > 1 and bucket:
                    # A copy: following it empties it, and grounds may be asked again.
                    self.buckets[key] = replace(bucket)


class Merged:
    """The estate's level, and the limits and buckets that more than one part shares."""

    def __init__(self, worlds: Sequence[Built]) -> None:
        self.estate = Rising()
        self._worlds = worlds
        self._tokens = any(built.world.units["token_scope"].any() for built in worlds)
        common = Common([Ground.of(built) for built in worlds])
        self._limits, self._buckets = common.limits, common.buckets
        # An account that has all parts is the estate.
        whole = (
            next(iter(common.limits), None) if len({key for built in worlds for key in built.accounts}) == 1 else None
        )
        self._levels = {key: self.estate if key == whole else Highest() for key in common.limits}
        self._starts: dict[Account, list[Lines]] = defaultdict(list)

    def stretch(self, logs: Sequence[Lines]) -> bool:
        """Merge what the parts logged over one stretch; False where they did not play as they would have jointly."""
        if any(in_the_way(built, self._buckets) for built in self._worlds):
            return False
        levels, tokens = zip(*map(parted, logs), strict=True) if self._tokens else (logs, logs)
        self.estate.follows(np.concatenate(levels))
        enough = True
        for key, level in self._levels.items():
            if level is not self.estate:
                level.follows(self._of_account(key, levels))
            enough = enough and level.peak < self._limits[key]
        for key, bucket in self._buckets.items():
            times = self._of_account(key, tokens) >> codes.LOG_TIME_SHIFT
            self._starts[key].append(times)
            enough = bucket.enough_for(times) and enough
        return enough

    def starts_ns(self) -> dict[Account, Lines]:
        """When tokens of the buckets that parts share were taken."""
        return {key: np.concatenate(times) for key, times in self._starts.items() if times}

    def _of_account(self, key: Account, logs: Sequence[Lines]) -> Lines:
        found = []
        for built, log in zip(self._worlds, logs, strict=True):
            if built.accounts == [key]:
                found.append(log)
            elif key in built.accounts:
                found.append(log[log & (MOST_ACCOUNTS - 1) == built.accounts.index(key)])
        return np.concatenate(found)


def in_the_way(built: Built, buckets: Collection[Account]) -> bool:
    """Whether a world says itself that it may have played another way jointly, where these accounts' buckets are shared."""
    clock = built.world.clock[0]
    # A run that takes no time makes rounds within an instant, in which levels of other parts may stand higher.
    return bool(clock["instant"] or (clock["short"] and any(key in buckets for key in built.accounts)))


def parted(log: Lines) -> tuple[Lines, Lines]:
    """Changes of level, and tokens taken."""
    # Of the three only a token has this bit: most logs hold none, which one look at all of them together says.
    if not (np.bitwise_or.reduce(log) >> codes.LOG_WHAT_SHIFT) & codes.TOKEN:
        return log, log[:0]
    tokens = (log >> codes.LOG_WHAT_SHIFT) & _WHAT == codes.TOKEN
    return log[~tokens], log[tokens]
