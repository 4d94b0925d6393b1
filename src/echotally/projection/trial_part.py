"""One part of an estate, loaded as an excerpt of the model and played by itself, and what the whole comes to with it.

Why it exists: which part a change belongs to is asked of the whole estate (``trial``); whether it can stand alone, and what the bill
over the whole account is with it, is asked of the part.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping
from decimal import Decimal, localcontext
from functools import cached_property
from threading import Lock
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.engine.apart import Followed
from echotally.engine.layout import SERIES
from echotally.engine.reading import UnitMeasured
from echotally.engine.sampling import worth_sampling
from echotally.errors import TooLarge
from echotally.model.excerpt import Excerpt
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded, placement_on
from echotally.projection.metering import PAID_ONCE, Account, Metered
from echotally.projection.playing import Playing
from echotally.projection.project import billed_again, project_plan
from echotally.projection.taking_out import taken_out, without
from echotally.projection.totals import Totals, totals_of
from echotally.projection.tried import Trial
from echotally.projection.verdict import asked_of, estate_checks
from echotally.rates.billing import bill_account, exact, rounded_total
from echotally.rates.card_loading import Offer

if TYPE_CHECKING:
    from echotally.projection.trial import Sets, Trials

#: A change after which so many times the attempts are made is none that helps.
_FAR_LONGER = 12
_IN_FLIGHT = SERIES.index("concurrency_peak")


def amount_of(metered: Metered, account: Account, quantities: Mapping[str, Decimal]) -> Decimal:
    """What an account costs with so much of each meter."""
    with localcontext(exact()):
        lines = bill_account(account[1], account[0], metered.plans[account], quantities)
        return sum((line.amount for line in lines), Decimal(0))


def peaks_of(plan: PlayedPlan) -> dict[Account, NDArray[np.float64]]:
    """The most calls in flight of an account with a limit in each hour, at the most: the peaks of its units added up."""
    found: dict[Account, Any] = {}
    for n, unit in enumerate(plan.measured.units):
        if unit.unit.offer.plan.concurrency_limit is not None:
            found[unit.unit.billed_to] = found.get(unit.unit.billed_to, 0.0) + plan.measured.series.one(n, _IN_FLIGHT)
    return found


class Moved(NamedTuple):
    """What a month comes to with a change: the bill, not rounded, every account's quantity of each meter, attempts by outcome."""

    cost: Decimal
    quantities: Mapping[Account, Mapping[str, Decimal]]
    attempts: Mapping[str, int]


class Part:
    """One part of the estate, loaded and played by itself."""

    def __init__(self, trials: Trials, members: Collection[str]) -> None:
        self._trials = trials
        self.functions = trials.loaded.model.functions.keys() & members
        self._members = members
        self._lock = Lock()

    @cached_property
    def _excerpt(self) -> Excerpt:
        return Excerpt(self._trials.loaded.document, self._members)

    @property
    def _others(self) -> list[UnitMeasured]:
        """What is not of the part; not kept, as there are as many parts as functions."""
        return [u for u in self._trials.base.measured.units if u.unit.function not in self.functions]

    @property
    def is_apart(self) -> bool:
        """Whether nothing that the part shares with others can have run out in the month as it is."""
        # Threads that ask at once would play it twice.
        with self._lock:
            return self._is_apart

    def changed(self, sets: Sets) -> Loaded:
        """The part with a change; raises ``BadInput`` where it cannot be loaded."""
        last = self._trials.last
        if last is None or last[:2] != (self, sets):
            # One for all parts: of a thousand each would hold a month.
            last = self._trials.last = self, sets, self._trials.as_of(self._excerpt, sets)
        return last[2]

    def expected_events(self, sets: Sets) -> float:
        """Events expected of the part with a change; raises ``BadInput`` where it cannot be loaded."""
        loaded = self.changed(sets)
        return loaded.expected_events(loaded.offers[self._trials.base.offer.name])

    @cached_property
    def expected_as_it_is(self) -> float:
        """Events expected of the part in the month as it is."""
        return self.expected_events(())

    def pair(self, sets: Sets) -> tuple[Trial, Trial | None] | None:
        """As ``Trials.pair``."""
        both = self._both(sets)
        if both is None:
            return None
        before, after = both
        return self._trial(before), self._trial(after) if after else None

    def moved(self, sets: Sets) -> Moved | None:
        """As ``Trials.moved``."""
        before, after = self._both(sets) or (None, None)
        if before is None or after is None:
            return None
        quantities = dict(self._trials.quantities)
        with localcontext(exact()):
            for account in after.metered.quantities.keys() | before.metered.quantities.keys():
                quantities[account] = self._totals(account, after.metered, before.metered)
        # As quantities: where the month is a sample, so is what it has of the part, and only the change is known more closely.
        was, now = before.totals.attempts, after.totals.attempts
        attempts = {outcome: n + now[outcome] - was[outcome] for outcome, n in self._trials.totals.attempts.items()}
        return Moved(self._cost(after), quantities, attempts)

    def _both(self, sets: Sets) -> tuple[PlayedPlan, PlayedPlan | None] | None:
        """The part as it is and with a change (None where no plan can take it); None where it takes the whole month to say."""
        before = self._before if self.is_apart else None
        if before is None:
            return None
        changed = self.changed(sets)
        after = self._soon_played(changed, before) if self._trials.rough else self._played(changed)
        return None if after is not None and not self._apart(after) else (before, after)

    def _soon_played(self, changed: Loaded, before: PlayedPlan) -> PlayedPlan | None:
        """The part in the month with a change; None also where what finds no room is tried so often that it takes far longer."""
        attempts = max(self._trials.effort, 0 if self._sampled else before.totals.attempts["total"])
        try:
            return self._played(changed, _FAR_LONGER * attempts)
        except TooLarge:
            return None

    @cached_property
    def _as_it_is(self) -> Loaded:
        return self.changed(())

    @cached_property
    def _sampled(self) -> bool:
        loaded, offer = self._as_it_is, self._trials.base.offer
        placement = placement_on(loaded.model, loaded.offers, loaded.offers[offer.name])
        return worth_sampling(loaded.model, loaded.month, placement, self._trials.most)

    @cached_property
    def _before(self) -> PlayedPlan | None:
        """The part in the month as it is: taken out of the month played, where that is what playing it alone would give."""
        loaded, base = self._as_it_is, self._trials.base
        by_number = any(function.by_number for function in loaded.model.functions.values())
        if base.confidence is not None or self._sampled or by_number:
            return self._played(loaded)
        measured = taken_out(base.measured, self.functions, set(loaded.model.sources()))
        return replace(billed_again(loaded, measured, loaded.offers[base.offer.name]), hints=base.hints)

    def _played(self, loaded: Loaded, attempts: int | None = None) -> PlayedPlan | None:
        start, effort = (0, self._trials.effort) if self._sampled else (None, None)
        offer: Offer = loaded.offers[self._trials.base.offer.name]
        played = project_plan(
            loaded,
            offer,
            self._trials.seed,
            how=Playing(
                sampled_from=start,
                effort=effort,
                attempts=attempts,
                alike=True,
                starts=bool(self._trials.tokens.taken) and not self._trials.rough,
            ),
        )
        return played if isinstance(played, PlayedPlan) else None

    @cached_property
    def _is_apart(self) -> bool:
        # What ran out as it is has nothing for a part beside the others: to say so, it needs not be loaded, and no change played.
        units = self._trials.base.measured.units
        shared = self._other_accounts & {units[n].unit.billed_to for n in self._own_places}
        if shared & self._trials.full or (not self._trials.rough and any(map(self._trials.tokens.ran_short, shared))):
            return False
        before = self._before
        if before is None:
            return False
        return self._enough_room(before)

    def _apart(self, played: PlayedPlan) -> bool:
        """Whether nothing that the part shares with others can have run out, in the month as it is or in this one."""
        shared = set() if self._trials.rough else self._shared(played) & self._trials.tokens.taken.keys()
        return self._enough_room(played) and all(self._enough_tokens(account, played) for account in shared)

    def _shared(self, played: PlayedPlan) -> set[Account]:
        return self._other_accounts & {u.unit.billed_to for u in played.measured.units}

    @cached_property
    def _other_accounts(self) -> set[Account]:
        units = self._trials.base.measured.units
        own = Counter(units[n].unit.billed_to for n in self._own_places)
        return {account for account, many in self._trials.accounts.items() if many > own[account]}

    def _enough_room(self, played: PlayedPlan) -> bool:
        """Whether an account's calls stay below its limit: in each hour all parts' peaks added up, or what the whole estate
        came to at the most with this part's peak on top of it.
        """
        base, shared = self._trials.base, self._shared(played)
        peaks, before = peaks_of(played), dict[Account, Any]()
        for n in self._own_places:
            place = base.measured.units[n].unit.billed_to
            if place in shared:
                before[place] = before.get(place, 0.0) + base.measured.series.one(n, _IN_FLIGHT)
        for account in shared & peaks.keys():
            limit = played.metered.plans[account].concurrency_limit
            now = np.minimum(self._trials.peaks.get(account, 0.0), self._trials.most_at_once)
            others = np.minimum(self._trials.peaks.get(account, 0.0) - before.get(account, 0.0), now)
            highest = np.maximum(others + peaks[account], now).max()
            if limit is not None and highest >= limit:
                return False
        return True

    @cached_property
    def _own_places(self) -> list[int]:
        """Where the part's functions stand among all that were measured."""
        return sorted(n for name in self.functions for n in self._trials.places.get(name, ()))

    def _enough_tokens(self, account: Account, played: PlayedPlan) -> bool:
        """Whether the bucket that an account's parts share was never short, with this part's starts among the others'."""
        taken, burst = self._trials.tokens.taken[account]
        own_starts = sum(u.cold_starts for u in played.measured.units if u.unit.billed_to == account)
        # So many would not be missed if all of them came at once.
        if taken + own_starts <= burst:
            return True
        followed, now = self._trials.tokens.followed(account), played.measured.starts_ns
        # A start that had waited for its token leaves a bucket without any: then the others had not what they wanted.
        if followed is None or now is None or self._trials.tokens.ran_short(account):
            return False
        own = now.get(account, np.zeros(0, np.int64))
        # Mostly there would be enough even for the part with the change on top of the part without.
        if followed.has_room_for(own):
            return True
        before = self._with_starts
        others = without(followed.times, before.get(account, own[:0])) if before is not None else None
        if others is None:
            return False
        return Followed.over(followed.bucket, np.concatenate((others, own))).had_enough

    @cached_property
    def _with_starts(self) -> Mapping[Account, NDArray[np.int64]] | None:
        """When the part's start tokens were taken in the month as it is."""
        played = self._played(self._as_it_is)
        return played.measured.starts_ns if played else None

    def _trial(self, played: PlayedPlan) -> Trial:
        trials, base = self._trials, self._trials.base
        totals = self._other_totals.plus(totals_of(played.measured.units))
        cost = self._cost(played)
        model = trials.loaded.model
        asked = self._other_asked + asked_of(self._as_it_is.model, played.measured.sources)
        total = rounded_total(cost, base.bill.currency)
        checks = [
            *estate_checks(model, totals, asked, total),
            *(c for c in base.checks if c.function is not None and c.function not in self.functions),
            *(c for c in played.checks if c.function is not None),
        ]
        return Trial(cost, totals, tuple(checks), tuple(played.units), self._sampled)

    @cached_property
    def _other_totals(self) -> Totals:
        units = self._trials.base.measured.units
        return self._trials.totals.less(totals_of([units[n] for n in self._own_places]), self._others)

    @cached_property
    def _other_asked(self) -> int:
        own = set(self._as_it_is.model.sources())
        mine = [s for s in self._trials.base.measured.sources if s.source in own]
        return self._trials.asked - asked_of(self._as_it_is.model, mine)

    def _cost(self, played: PlayedPlan) -> Decimal:
        """The whole bill with this in the place of the part's quantities in the month played."""
        trials, before = self._trials, self._before
        if before is None:
            return trials.base.bill.unrounded
        changed = played.metered.quantities.keys() | before.metered.quantities.keys()
        with localcontext(exact()):
            cost = sum((amount for account, amount in trials.prices.items() if account not in changed), Decimal(0))
            for account in changed:
                cost += self._account(account, played.metered, before.metered)
        return cost

    def _account(self, account: Account, after: Metered, before: Metered) -> Decimal:
        """What an account costs with ``after`` in the place of ``before``."""
        base = self._trials.base.metered
        return amount_of(base if account in base.plans else after, account, self._totals(account, after, before))

    def _totals(self, account: Account, after: Metered, before: Metered) -> dict[str, Decimal]:
        """An account's quantity of each meter with ``after`` in the place of ``before``."""
        was, now = (m.quantities.get(account, {}) for m in (before, after))
        # Only what changes is added up: the sums of everybody's are known, and all of it is exact.
        totals = dict(self._trials.quantities.get(account, {}))
        # What a plan bills whoever is on it is there with the others, whether the part comes to it or leaves it.
        once = PAID_ONCE if account in self._other_accounts else ()
        for meter in {*was, *now}:
            change = Decimal(0)
            for sign, quantities in ((1, now), (-1, was)):
                its = quantities.get(meter, {})
                change += sign * sum((its[key] for key in its if key or meter not in once), Decimal(0))
            totals[meter] = totals.get(meter, Decimal(0)) + change
        return totals
