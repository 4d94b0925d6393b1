"""Sizes of functions tried one after the other on an assignment: each in the part of the estate that it changes, where it has parts."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from typing import Any

from echotally.errors import BadInput
from echotally.model.addresses import dotted
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded
from echotally.projection.trial import Trials
from echotally.projection.tried import Trial, trial_of
from echotally.studies.assigned import EFFORT, LARGE, AssignedMonths
from echotally.studies.choice import Sets
from echotally.studies.work import month_work, sample_work

#: So many trials are kept while sizes are searched for: those of a function come one after the other.
_KEPT = 200
#: Sizes that only the whole month can tell are tried as long as all such months together take no more work than this
#: (``work.month_work``).
_WORK = 60_000_000


class SizeTrials:
    """Trials of sizes beside those taken so far. ``untried``: functions of which some were not played, as all of them together would
    take too long.
    """

    def __init__(self, months: AssignedMonths[Any], assignment: Mapping[str, str], pinned: Loaded) -> None:
        self._months, self._assignment, self._left = months, assignment, float(_WORK)
        base = months.play(assignment, rough=True)
        self.measured, self.untried = base.measured, set[str]()
        exact = base.confidence is None
        work = month_work(base.totals.attempts["total"], pinned.model.units)
        self._of_month = work if exact else sample_work(EFFORT, pinned.model.units)
        # The whole month says in the end what all sizes do together, to start tokens that are short as well.
        self._trials = Trials(pinned, base, LARGE, EFFORT, months.seed, rough=True)
        self._taken: Sets = ()
        self._in_parts: dict[tuple[Sets, Collection[str] | None], tuple[Trial, Trial | None] | None] = {}
        self._whole: dict[Sets, Trial | None] = {}
        # Whether only parts are played, and whether the whole month was asked for all the same.
        self._parts_only, self._missed = False, False

    def by_part(self, names: Iterable[str]) -> list[list[str]]:
        """Functions by the part of the estate they belong to; each that belongs to none by itself."""
        found: dict[object, list[str]] = {}
        for name in names:
            found.setdefault(self._trials.members(dotted(("functions", name, "memory"))) or name, []).append(name)
        return list(found.values())

    def begin_in_parts(self) -> None:
        """From here on nothing is told that takes the whole month to say."""
        self._parts_only, self._missed = True, False

    def end_in_parts(self) -> bool:
        """Whether everything asked since was told; from here on all of it is."""
        self._parts_only = False
        return not self._missed

    def take(self, sets: Sets) -> None:
        """Lay what follows beside the month with these."""
        self._taken = sets

    def no_worse(self, name: str, sets: Sets) -> bool:
        """Whether these, of which the last are of a function, cost no more and miss no more than what was taken so far."""
        return any(new.cost <= old.cost and not new.misses_more(old) for old, new in self._pair(name, sets))

    def misses_no_more(self, name: str, sets: Sets) -> bool:
        """Whether these miss no more targets than what was taken so far."""
        return any(not new.misses_more(old) for old, new in self._pair(name, sets))

    def most_instances(self, name: str, sets: Sets) -> int | None:
        """The most instances there are of a function; None where that is not known."""
        pair = self._in_part(sets, dotted(("functions", name, "instance_limit")))
        found = pair[1] if pair else self._of_whole(name, sets)
        if found is None:
            return None if name in self.untried else 1
        return max((u.instances.peak for u in found.units_of(name)), default=1)

    def _pair(self, name: str, sets: Sets) -> Iterator[tuple[Trial, Trial]]:
        """What was taken so far, and these; nothing where they cannot be played, or no more.

        Both of the part that the last of these reaches, or both of the whole: costs of one and of the other are not laid
        beside each other.
        """
        address = sets[-1][0]
        parts = self._in_part(self._taken, address), self._in_part(sets, address)
        old, new = (part[1] if part else None for part in parts)
        if None in parts:
            old, new = self._of_whole(name, self._taken), self._of_whole(name, sets)
        if old and new:
            yield old, new

    def _in_part(self, sets: Sets, address: str) -> tuple[Trial, Trial | None] | None:
        """As ``Trials.pair``, of those of the overrides that belong to the part an address belongs to."""
        own = self._trials.of_part(sets, address)
        key = own, self._trials.members(address)
        if key not in self._in_parts:
            if len(self._in_parts) >= _KEPT:
                # Those of functions that were sized long ago; each has all that was measured of its part.
                del self._in_parts[next(iter(self._in_parts))]
            self._in_parts[key] = found = self._trials.pair(own, address)
            self._months.played += found is not None
        return self._in_parts[key]

    def _of_whole(self, name: str, sets: Sets) -> Trial | None:
        """The whole month with these; None where it cannot be played, or no more."""
        if self._parts_only:
            self._missed = True
            return None
        if sets not in self._whole:
            if self._left <= 0:
                self.untried.add(name)
                return None
            self._left -= self._of_month
            try:
                found = self._months.try_out(self._assignment, sets, rough=True)
            except BadInput:
                return None
            self._whole[sets] = trial_of(found) if isinstance(found, PlayedPlan) else None
        return self._whole[sets]
