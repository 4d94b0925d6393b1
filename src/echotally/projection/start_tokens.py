"""The start tokens that functions of an account share, over a month that has been played: how many were taken, and when."""

from __future__ import annotations

from functools import cached_property
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from echotally.engine.apart import Bucket, Followed
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded
from echotally.projection.metering import Account
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan


class StartTokens:
    """Of the month ``base`` of a model, played with a seed."""

    def __init__(self, loaded: Loaded, base: PlayedPlan, seed: int) -> None:
        self._loaded, self._base, self._seed = loaded, base, seed
        self._followed: dict[Account, Followed | None] = {}
        self._lock = Lock()

    @cached_property
    def taken(self) -> dict[Account, tuple[int, int]]:
        """Of accounts that share start tokens, how many the month took and how many a bucket holds."""
        found: dict[Account, tuple[int, int]] = {}
        for unit in self._base.measured.units:
            scaling, account = unit.unit.offer.plan.scaling, unit.unit.billed_to
            if scaling.burst is not None and scaling.scope == "account":
                found[account] = (found.get(account, (0, 0))[0] + unit.cold_starts, scaling.burst)
        return found

    @cached_property
    def times(self) -> dict[Account, NDArray[np.int64] | None]:
        """Accounts whose start tokens are shared and may run short, and when one was taken, ns; None where that is not known."""
        again = self._with_starts() if any(n > burst for n, burst in self.taken.values()) else None
        return {account: (again or {}).get(account) for account in self.taken}

    def followed(self, account: Account) -> Followed | None:
        """An account's bucket of start tokens over the month; None where it is not known when each was taken."""
        with self._lock:
            if account not in self._followed:
                bucket, starts = Bucket.of_plan(self._base.metered.plans[account]), self.times[account]
                self._followed[account] = None if bucket is None or starts is None else Followed.over(bucket, starts)
            return self._followed[account]

    def ran_short(self, account: Account) -> bool:
        """Whether a start of an account whose tokens are shared may have lacked one."""
        taken, burst = self.taken.get(account, (0, 0))
        # So many were there from the beginning.
        if taken <= burst:
            return False
        followed = self.followed(account)
        return followed is None or not followed.had_enough

    def _with_starts(self) -> dict[Account, NDArray[np.int64]] | None:
        """When start tokens were taken; None where the month was not played event by event."""
        if self._base.confidence is not None:
            return None
        if self._base.measured.starts_ns is not None:
            return self._base.measured.starts_ns
        played = project_plan(self._loaded, self._base.offer, self._seed, how=Playing(starts=True))
        return played.measured.starts_ns if isinstance(played, PlayedPlan) else None
