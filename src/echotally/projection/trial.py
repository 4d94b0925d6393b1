"""A change to one part of an estate, tried without playing the rest of it.

Why it exists: of a thousand functions a suggestion changes one. The part it belongs to is loaded as an excerpt of the model and
played with the change and without it; figures of all the others are those of the month already played. Meters are added up over
the whole account before they are priced, so that tiers and allowances are the estate's. Where something that parts share could
have run out (an account's limit, start tokens), there is no such trial, and the whole month has to be played.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Collection
from decimal import Decimal, localcontext
from functools import cached_property
from threading import Lock
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from echotally.engine.apart import Together
from echotally.errors import BadInput
from echotally.model.addresses import parts_in
from echotally.model.excerpt import Excerpt
from echotally.model.sources import SourceKind, SourceRef
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded, placement_on
from echotally.projection.metering import Account
from echotally.projection.start_tokens import StartTokens
from echotally.projection.totals import Totals, totals_of
from echotally.projection.trial_part import Moved, Part, amount_of, peaks_of
from echotally.projection.tried import Trial
from echotally.projection.verdict import asked_of
from echotally.rates.billing import exact
from echotally.rates.card_loading import Offer

Sets = tuple[tuple[str, str], ...]
_TABLES = {"functions", "triggers", "demand", *SourceKind}


def parts_billed_apart(loaded: Loaded, offer: Offer) -> Together | None:
    """The parts of an estate with unpinned functions on a plan; None where there is one only, or bills are of several at once."""
    placement = placement_on(loaded.model, loaded.offers, offer)
    # What an hour of one part leaves of a commitment pays another's; a budget by tag has functions of several parts.
    if loaded.model.targets.by.tag or any(its.plan.commitment for its in placement.values()):
        return None
    together = Together(loaded.model, placement)
    return together if len(together) > 1 else None


class Trials:
    """Trials of changes on the plan of a month that has been played.

    Parts of more than ``most`` expected events are played as a sample of about ``effort`` events. ``rough``: start tokens that parts
    share are each part's own, however short they are, and a change after which far more attempts are made is one that no plan takes;
    for changes that are tried in the whole month as well in the end.
    """

    def __init__(
        self,
        loaded: Loaded,
        base: PlayedPlan,
        most: int,
        effort: int,
        seed: int | None = None,
        *,
        rough: bool = False,
    ) -> None:
        self.loaded, self.base, self.rough = loaded, base, rough
        self.seed = loaded.model.estate.seed if seed is None else seed
        self.most, self.effort = most, effort
        self._together = parts_billed_apart(loaded, base.offer)
        self._parts: dict[frozenset[str], Part] = {}
        self._named: dict[tuple[str, str], Part | None] = {}
        self._lock = Lock()
        # Where each function's units stand among all that were measured, and how many units each account has.
        self.places: dict[str, list[int]] = {}
        self.accounts: Counter[Account] = Counter()
        for n, unit in enumerate(base.measured.units):
            self.places.setdefault(unit.unit.function, []).append(n)
            self.accounts[unit.unit.billed_to] += 1
        self.tokens = StartTokens(loaded, base, self.seed)
        # The change asked for last, of which part: how many events it brings is asked before it is played.
        self.last: tuple[Part, Sets, Loaded] | None = None

    def as_of(self, excerpt: Excerpt, sets: Sets) -> Loaded:
        """An excerpt of the files with a change, in the month played; raises ``BadInput`` where it cannot be loaded."""
        return self.loaded.excerpt(excerpt, sets)

    def moved(self, sets: Sets) -> Moved | None:
        """What the month comes to with a change; None where it takes the whole month to say, or where no plan can take it."""
        part = self._part(sets)
        try:
            return part.moved(sets) if part else None
        except BadInput:
            return None

    def pair(self, sets: Sets, address: str | None = None) -> tuple[Trial, Trial | None] | None:
        """The month as it is and with a change (None where no plan can take it); None where it takes the whole month to say.

        ``address`` names the part to play, where the change names none.
        """
        part = self._part((*sets, (address, "")) if address else sets)
        try:
            return part.pair(sets) if part else None
        except BadInput:
            return None

    def functions_played(self, sets: Sets) -> Collection[str]:
        """The functions that are played to try a change: those of a part of the estate, or all of them."""
        part = self._part(sets)
        try:
            return part.functions if part and part.is_apart else self.loaded.model.functions
        except BadInput:
            return self.loaded.model.functions

    def members(self, address: str) -> frozenset[str] | None:
        """Functions and sources of the part that an address belongs to; None where it belongs to none."""
        names, together = self._touched(((address, ""),)), self._together
        return together.with_any(names) if names and together and self._part(((address, ""),)) else None

    def of_part(self, sets: Sets, address: str) -> Sets:
        """Those of the overrides that name something of the part that an address belongs to; all where it has none."""
        part = self._part(((address, ""),))
        return tuple(each for each in sets if self._part_named(each) is part) if part else sets

    def loads(self, sets: Sets) -> Literal[True] | None:
        """True where the model with a change can be loaded; None where it takes the whole model to say."""
        part = self._part(sets)
        if part is None:
            return None
        try:
            part.changed(sets)
        except BadInput:
            # The part may not stand by itself (its only function taken out) where the whole does.
            return None
        return True

    def expected_events(self, sets: Sets) -> float | None:
        """Events expected of the month with a change; None where it takes the whole model to say."""
        part = self._part(sets)
        try:
            return self.expected - part.expected_as_it_is + part.expected_events(sets) if part else None
        except BadInput:
            return None

    @cached_property
    def expected(self) -> float:
        """Events expected of the month as it is."""
        return self.loaded.expected_events(self.base.offer)

    def _part_named(self, one: tuple[str, str]) -> Part | None:
        """The part of one override; a search asks for that of each it has taken at every step."""
        if one not in self._named:
            self._named[one] = self._part((one,))
        return self._named[one]

    @cached_property
    def _known(self) -> frozenset[str]:
        """Names of all functions and sources."""
        return frozenset((*self.loaded.model.sources(), *self.loaded.model.functions))

    def _part(self, sets: Sets) -> Part | None:
        names = self._touched(sets)
        if names is None or self._together is None:
            return None
        # Everything that what was named is wired to, or shares a queue or node with.
        members = self._together.with_any(names)
        if not members & set(self.loaded.model.functions):
            return None
        with self._lock:
            if members not in self._parts:
                self._parts[members] = Part(self, members)
        return self._parts[members]

    def _touched(self, sets: Sets) -> set[str] | None:
        """Functions and sources that a change names; None where it is of the whole estate."""
        model, found = self.loaded.model, set[str]()
        for address, value in sets:
            table, name, *_ = (*parts_in(self.loaded.document.data, address), "")
            # Targets, environments, the month: whatever belongs to the whole estate is tried on the whole of it.
            if table not in _TABLES or not name:
                return None
            if table == "functions":
                found.add(name)
            elif table == "triggers":
                if not name.isdecimal() or int(name) >= len(model.triggers):
                    return None
                found |= {model.triggers[int(name)].to, model.triggers[int(name)].from_}
            elif table == "demand":
                if name not in model.demand:
                    return None
                found.add(model.demand[name].into)
            else:
                found.add(SourceRef.of(SourceKind(table), name))
            # Whatever a new value names belongs to the part as well.
            found |= {word for word in value.replace('"', " ").split() if word in self._known}
        return found

    @cached_property
    def peaks(self) -> dict[Account, NDArray[np.float64]]:
        """The most calls in flight of an account in each hour, at the most: the peaks of its units added up."""
        return peaks_of(self.base)

    @cached_property
    def most_at_once(self) -> float:
        """The most calls in flight in the whole estate at once, which no account passed; unknown where a sample was played."""
        return math.inf if self.base.confidence is not None else self.base.measured.concurrency.peak

    @cached_property
    def full(self) -> frozenset[Account]:
        """Accounts whose calls may have come to their limit in the month played."""
        plans = self.base.metered.plans
        return frozenset(
            account
            for account, peaks in self.peaks.items()
            if float(np.minimum(peaks, self.most_at_once).max()) >= (plans[account].concurrency_limit or math.inf)
        )

    @cached_property
    def totals(self) -> Totals:
        """The totals of the month played."""
        return totals_of(self.base.measured.units)

    @cached_property
    def asked(self) -> int:
        """Requests of the whole estate."""
        return asked_of(self.loaded.model, self.base.measured.sources)

    @cached_property
    def prices(self) -> dict[Account, Decimal]:
        """What each account costs in the month played."""
        return {account: amount_of(self.base.metered, account, total) for account, total in self.quantities.items()}

    @cached_property
    def quantities(self) -> dict[Account, dict[str, Decimal]]:
        """Every account's quantity of each meter in the month played."""
        with localcontext(exact()):
            return self.base.metered.totals()
