"""Which commitment an hour is the cheapest: for the month as it is, over draws of the model's ranges, and what a quiet month loses.

Usage is the same whatever is prepaid for it, so each month is played once, and every commitment is billed against its hours exactly
(``rates.commitments``). The cheapest one lies where the share of hours whose covered usage exceeds it falls to what the
discount leaves: from there on a unit more an hour is paid oftener than it saves.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from decimal import ROUND_HALF_UP, Decimal, localcontext

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded
from echotally.projection.metering import Account, UnitKey
from echotally.projection.project import project_plan
from echotally.rates.billing import exact
from echotally.rates.card_loading import Offer
from echotally.rates.commitments import Committed, commit
from echotally.studies.later_months import month_with
from echotally.studies.response import committed_hours, draw_factors, inputs_of

#: Months drawn from the model's ranges, each played in full.
_DRAWS = 12
#: Levels shown beside the cheapest one, as parts of it.
_LEVELS = ("0.25", "0.5", "0.75", "1", "1.25", "1.5")
_TWO_THIRDS = 2 / 3


class Level(Struct, frozen=True):
    """One commitment: money an hour, the month's whole bill with it, what of it is lost, the bill when demand falls by a third and
    what is lost then, and the mean bill over the draws. Money unrounded.
    """

    plan: str
    per_hour: Decimal
    cost: Decimal
    lost: Decimal
    cost_at_two_thirds: Decimal
    lost_at_two_thirds: Decimal
    mean_over_draws: Decimal


class Commitments(Struct, frozen=True):
    """The commitments of one plan, 0 among them, by money an hour; the cheapest this month and over the draws."""

    plan: str
    discount: Decimal
    covers: tuple[str, ...]
    levels: tuple[Level, ...]
    draws: int

    @property
    def cheapest(self) -> Level:
        """The cheapest for this month."""
        return min(self.levels, key=lambda level: (level.cost, level.per_hour))

    @property
    def cheapest_over_draws(self) -> Level:
        """The cheapest on the mean over the draws."""
        return min(self.levels, key=lambda level: (level.mean_over_draws, level.per_hour))


def commitments(
    loaded: Loaded, chosen: PlayedPlan, seed: int, progress: Callable[[str, float], None] | None = None
) -> list[Commitments]:
    """The commitments of every plan of a chosen month that sells some; ``loaded`` is the model with the choice in it.

    Where no plan in use sells one, those that do are tried with the whole estate on each.
    """
    armed = _armed(loaded)
    on_card = {name: o.plan.commitment.per_hour for name, o in loaded.offers.items() if o.plan.commitment}
    used = {name for _, name in chosen.metered.plans}
    offers = [armed.offers[chosen.offer.name]]
    if not any(armed.offers[name].plan.commitment for name in used if name in armed.offers):
        offers = [offer for offer in armed.offers.values() if offer.plan.commitment]
        armed = armed.unpinned()
    found = []
    for offer in offers:
        found += list(_of_offer(armed, offer, on_card, seed, progress))
    return found


def _armed(loaded: Loaded) -> Loaded:
    """The same, with hours kept of every plan that sells commitments, whatever is prepaid on its card."""
    offers = {}
    for name, offer in loaded.offers.items():
        terms = offer.plan.commitment
        if terms is not None:
            plan = offer.plan.model_copy(update={"commitment": terms.model_copy(update={"per_hour": Decimal(1)})})
            offer = replace(offer, plan=plan)
        offers[name] = offer
    return replace(loaded, offers=offers)


def _of_offer(
    loaded: Loaded,
    offer: Offer,
    on_card: Mapping[str, Decimal],
    seed: int,
    progress: Callable[[str, float], None] | None,
) -> Iterator[Commitments]:
    inputs = inputs_of(loaded.model)[0]
    factors = draw_factors(inputs, _DRAWS, seed)
    quiet = {f"demand.{name}": _TWO_THIRDS for name in loaded.model.demand}
    months = [loaded, month_with(loaded, 0, quiet)]
    if inputs:
        months += [
            month_with(loaded, 0, {each.address: float(f) for each, f in zip(inputs, row, strict=True)})
            for row in factors
        ]
    played: list[PlayedPlan] = []
    for n, month in enumerate(months):
        one = project_plan(month, offer, seed)
        if not isinstance(one, PlayedPlan):
            return
        played.append(one)
        if progress:
            progress("commitments", (n + 1) / len(months))
    for account in played[0].metered.hours:
        yield _of_account(played, account, on_card)


def _of_account(played: list[PlayedPlan], account: Account, on_card: Mapping[str, Decimal]) -> Commitments:
    now, quiet, *draws = played
    plan = now.metered.plans[account]
    terms = plan.commitment
    assert terms is not None
    best = {_best_of([now], account), _best_of(draws or [now], account)}
    levels = {Decimal(0)} | {_typed(Decimal(part) * each) for part in _LEVELS for each in best}
    rows = []
    with localcontext(exact()):
        for per_hour in sorted(levels):
            (cost, lost), (quiet_cost, quiet_lost) = (_with(each, account, per_hour, on_card) for each in (now, quiet))
            over = [_with(each, account, per_hour, on_card)[0] for each in draws or [now]]
            mean = sum(over, Decimal(0)) / len(over)
            rows.append(Level(account[1], per_hour, cost, lost, quiet_cost, quiet_lost, mean))
    return Commitments(account[1], terms.discount, terms.covers, tuple(rows), len(draws))


def _with(
    month: PlayedPlan, account: Account, per_hour: Decimal, on_card: Mapping[str, Decimal]
) -> tuple[Decimal, Decimal]:
    """The month's bill with another commitment of one account, all others as on their cards, and what of it is lost."""
    cost, lost = month.bill.unrounded, Decimal(0)
    for other, hours in month.metered.hours.items():
        plan, mine = month.metered.plans[other], other == account
        # As it was played, every account prepaid something, so that its hours were kept.
        cost -= _added(commit(plan, hours))
        found = commit(plan, hours, per_hour if mine else on_card[other[1]])
        cost += _added(found)
        lost = found.lost if mine and found is not None else lost
    return cost, lost


def _added(found: Committed[UnitKey | None] | None) -> Decimal:
    """What a commitment adds to the bill at full price: what is prepaid less what that pays."""
    return found.amount - sum(found.covered.values(), Decimal(0)) if found is not None else Decimal(0)


def _best_of(months: list[PlayedPlan], account: Account) -> Decimal:
    """The cheapest commitment: the covered usage, at discounted price, that as many hours exceed as the discount leaves."""
    terms = months[0].metered.plans[account].commitment
    assert terms is not None
    each = [committed_hours(month.metered, account) for month in months]
    values = np.sort(np.concatenate([hours.full / np.maximum(hours.lengths, 1e-9) for hours in each]))
    place = min(len(values) - 1, int(np.floor(float(terms.discount) * len(values))))
    return Decimal(repr(float(values[place]))) * (1 - terms.discount)


def _typed(amount: Decimal) -> Decimal:
    """An amount as somebody would type it: four significant digits."""
    if not amount:
        return Decimal(0)
    return amount.quantize(Decimal(1).scaleb(amount.adjusted() - 3), ROUND_HALF_UP)
