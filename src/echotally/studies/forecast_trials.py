"""Months of a forecast in which one input is at an end, told from the month as expected: only the part that the input belongs to is
played.

Why it exists: of a thousand functions an input concerns one, and a forecast asks for dozens of such months.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from echotally.engine.sampling import SAMPLED_FROM
from echotally.engine.sampling.strata import BUDGET
from echotally.errors import BadInput, TooLarge
from echotally.model.addresses import dotted, parts_in
from echotally.model.excerpt import Excerpt
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded
from echotally.projection.project import project_plan
from echotally.projection.trial import Sets, Trials, parts_billed_apart
from echotally.projection.trial_part import Moved
from echotally.rates.card_loading import Offer
from echotally.studies.later_months import month_with
from echotally.studies.response import Input, Played

#: Smaller months are as soon put together from parts that are remembered.
_LARGE = 1_000_000
#: Of a month that is a sample, the changes of parts of more events than this are told by other samples of the month.
_SOON_PLAYED = 2_000_000


class Moving(Trials):
    """Trials of inputs that are moved, in a month that is ``step`` months later; a factor stands as an override of what it multiplies."""

    def __init__(self, loaded: Loaded, step: int, month: Loaded, base: PlayedPlan, seed: int) -> None:
        super().__init__(month, base, SAMPLED_FROM, BUDGET, seed)
        self._now, self._step = loaded, step

    def as_of(self, excerpt: Excerpt, sets: Sets) -> Loaded:
        """As of other trials, so much later; a factor stands as an override of what it multiplies."""
        factors = {".".join(parts_in(self._now.document.data, address)): float(times) for address, times in sets}
        return month_with(self._now.excerpt(excerpt), self._step, factors)

    def with_factor(self, each: Input, factor: float) -> Moved | None:
        """As ``moved``, with an input multiplied by a factor."""
        parts = ("demand", each.name) if each.kind == "demand" else ("functions", each.name, "run")
        sets = ((dotted(parts), repr(factor)),)
        return self.moved(sets) if self.base.confidence is None or self._is_soon_played(sets) else None

    def _is_soon_played(self, sets: Sets) -> bool:
        part = self._part(sets)
        try:
            return part is not None and part.expected_as_it_is <= _SOON_PLAYED
        except BadInput:
            # It does not stand by itself.
            return False


def has_parts(loaded: Loaded, offer: Offer) -> bool:
    """Whether the month is so large that its parts are worth trying, and can be told apart."""
    expected = loaded.expected_events(offer)
    # What hangs on the numbers of all events is another in a part by itself.
    by_number = any(function.by_number for function in loaded.model.functions.values())
    if by_number or expected <= _LARGE:
        return False
    parts = parts_billed_apart(loaded, loaded.offers[offer.name])
    return parts is not None and expected <= max(SAMPLED_FROM, _SOON_PLAYED * len(parts))


def moved_months(
    loaded: Loaded,
    step: int,
    offer: Offer,
    seed: int,
    inputs: Sequence[Input],
    tell: Callable[[float], None],
) -> dict[tuple[str, float], Played]:
    """What the month ``step`` months later comes to on a plan with each input at either end, by the input's address and its factor.

    Left out are those that only the whole month tells.
    """
    month = month_with(loaded, step)
    if not inputs or not has_parts(month, offer):
        return {}
    try:
        base = project_plan(month, month.offers[offer.name], seed, lambda share: tell(share / 2))
    except TooLarge:
        return {}
    if not isinstance(base, PlayedPlan):
        return {}
    trials, found = Moving(loaded, step, month, base, seed), {}
    for n, each in enumerate(inputs):
        for factor in (each.low, each.high):
            moved = trials.with_factor(each, factor)
            if moved is not None:
                found[each.address, factor] = _as_played(moved)
        tell(0.5 + (n + 1) / len(inputs) / 2)
    return found


def _as_played(moved: Moved) -> Played:
    """What an end of an input is asked for: quantities, attempts, cost."""
    meters = {(account, meter): float(n) for account, each in moved.quantities.items() for meter, n in each.items()}
    attempts = moved.attempts
    return Played(meters, float(attempts["total"]), float(attempts["throttled"]), float(moved.cost), ())
