"""``forecast``: the months to come, with growth, month lengths, clock changes and uncertainty, on every plan.

Every month is played in full at the expected demand. What uncertainty does to the metered quantities is played at the two
ends of each range in the first, middle and last month (common random numbers: the same streams), and laid between them as
a piecewise linear response, the inputs' shares multiplied. A draw's quantities are then billed with the card's own allowances and tiers,
so that kinks of the bill are met exactly; only the quantities are approximated, and how far off that is, is measured by
playing some draws in full.

A range's factor has median 1, and one chance in twenty each of lying below ``low`` or above ``high``: two halves of
log-normals, one for each side. The inputs are independent; a factor holds for all months. Draws are stratified
(McKay, Beckman and Conover, "Latin hypercube sampling", Technometrics 21, 1979).
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from functools import partial
from typing import TypedDict, Unpack

import numpy as np
from msgspec import Struct

from echotally.engine.machines import Machines, machines
from echotally.errors import BadInput, Problem
from echotally.model.loading import ModelSource
from echotally.projection.loaded import Loaded, load
from echotally.projection.threads import Progress
from echotally.rates.billing import minor_digits
from echotally.rates.card_loading import Offer
from echotally.rates.outside import outside_plan
from echotally.studies.forecast_answer import (
    LEVELS,
    BudgetForecast,
    Crossed,
    Forecast,
    MonthForecast,
    PartForecast,
    PlanForecast,
    Swing,
)
from echotally.studies.forecast_months import MonthsPlayer
from echotally.studies.later_months import month_after, month_with
from echotally.studies.response import (
    Array,
    Months,
    Played,
    Response,
    Variant,
    dearest,
    draw_factors,
    inputs_of,
)

_CHECKED = 3
#: So many inputs without a range are moved for the tornado, which shows fifteen: each takes two months.
_MOVED = 24
_MOST_MONTHS, _MOST_DRAWS = 120, 100_000


class _Asked(Struct, frozen=True):
    seed: int | None = None
    by: str | None = None
    progress: Progress | None = None
    cluster: str | None = None


class ForecastWords(TypedDict, total=False):
    """What a forecast may be asked beside its question, as keywords."""

    seed: int | None
    by: str | None
    progress: Progress | None
    cluster: str | None


def forecast(
    path: ModelSource | Loaded,
    months: int = 12,
    draws: int = 1_000,
    sets: Iterable[tuple[str, str]] = (),
    *,
    plans: Sequence[str] = (),
    **words: Unpack[ForecastWords],
) -> Forecast:
    """Forecast ``months`` months from the model's own, with ``draws`` draws of the uncertain inputs.

    ``words``: ``seed``, ``progress``, ``by``, which splits each plan's cost (``showback``) into ``PlanForecast.parts``, and
    ``cluster``, the address of a Dask scheduler whose workers play the months.
    Raises ``BadInput``, also for a trace that ends with the model's month and is not repeated.
    """
    if not 1 <= months <= _MOST_MONTHS or not 1 <= draws <= _MOST_DRAWS:
        allowed = f"1 to {_MOST_MONTHS} months, 1 to {_MOST_DRAWS:,} draws"
        raise BadInput(Problem("is out of range", value=f"{months} months, {draws} draws", allowed=allowed))
    loaded = load(path, sets)
    asked = _Asked(**words)
    with machines(asked.cluster) as places:
        return _Forecaster(loaded, months, draws, plans, asked, places).forecast()


def _as_a_whole(progress: Progress, name: str, _: str, share: float) -> None:
    progress(name, share)


class _Forecaster:
    def __init__(
        self, loaded: Loaded, months: int, draws: int, plans: Sequence[str], asked: _Asked, places: Machines
    ) -> None:
        self.loaded, self.draws, self.by = loaded, draws, asked.by
        self.seed = loaded.model.estate.seed if asked.seed is None else asked.seed
        self.steps = list(range(months))
        self.months = tuple(month_after(loaded.model.estate.month, step) for step in self.steps)
        # The plans of each month; one that some month does not have cannot be compared over all of them.
        self.in_month = [
            loaded.cards.offers(month) if step and loaded.cards.cards else loaded.offers
            for step, month in enumerate(self.months)
        ]
        chosen = loaded.chosen(list(plans))
        self.offers = [offer for offer in chosen if all(offer.name in offers for offers in self.in_month)]
        self.gone = [offer.name for offer in chosen if offer not in self.offers]
        self.inputs, self.others = inputs_of(loaded.model)
        self.moved = self.others
        told = f"forecast of {months} months"
        progress = None if asked.progress is None else partial(_as_a_whole, asked.progress, told)
        self.player = MonthsPlayer(loaded, self.seed, asked.by, progress, places)
        self.too_large: list[str] = []
        # Three months tell how a response changes as demand grows; those between are laid between them.
        self.references = sorted({0, (months - 1) // 2, months - 1})

    def forecast(self) -> Forecast:
        base = self.player.play({(step, "", 1.0): month_with(self.loaded, step) for step in self.steps}, self.offers)
        # What cannot take every function has no month to compare.
        offers = self._played([offer for offer in self.offers if base[0, "", 1.0].get(offer.name)])
        ends = self.player.moved(self.inputs, self.references, offers)
        offers = self._played(offers)
        # Tornado and check are of one plan: the one that would be picked at the expected demand.
        plan = min(offers, key=lambda offer: self._rank(base, offer))
        # Inputs without a range are shown by one month, which stands for all.
        middle = [(len(self.steps) - 1) // 2]
        self.moved = dearest(self.loaded.model, self.others, _MOVED, base[middle[0], "", 1.0][plan.name].by_function)
        beside = self.player.moved(self.moved, middle, [plan], each=True)
        self.too_large = list(dict.fromkeys(address for (_, address, _), month in beside.items() if not month))
        self.moved = [each for each in self.moved if each.address not in self.too_large]
        outside = outside_plan(self.loaded.model, offers[0].card.currency)
        months = Months(base, ends)
        responses = {
            offer.name: Response(self.in_month, offer, self.inputs, self.references, months, outside)
            for offer in offers
        }
        factors = draw_factors(self.inputs, self.draws, self.seed)
        costs = {name: response.costs(factors) for name, response in responses.items()}
        shares = {name: response.shares(factors) for name, response in responses.items()}
        found = tuple(self._plan(offer, base, costs, shares, responses[offer.name], factors) for offer in offers)
        error = self._error(plan, costs[plan.name], factors)
        expected = math.fsum(base[step, "", 1.0][plan.name].cost for step in self.steps)
        return Forecast(
            self.loaded,
            self.months,
            self.draws,
            self.seed,
            offers[0].card.currency,
            tuple(self.inputs),
            found,
            tuple(_switches(found)),
            plan.name,
            expected,
            tuple(self._tornado(responses[plan.name], plan, base, beside, middle[0])),
            error,
            tuple(self._notes()),
            self.by,
            tuple(offer.name for offer in self.offers if offer.name in self.player.unplayed),
        )

    def _played(self, offers: Sequence[Offer]) -> list[Offer]:
        """Those of which every month was played. Raises ``BadInput`` where there are none."""
        unplayed = self.player.unplayed
        found = [offer for offer in offers if offer.name not in unplayed]
        if not found and unplayed:
            # Whichever was refused first by the clock, the same one is told.
            raise next(unplayed[offer.name] for offer in self.offers if offer.name in unplayed)
        if not found:
            raise BadInput(Problem("no plan can take every function; 'echotally project' says why"))
        return found

    def _rank(self, base: Mapping[Variant, Mapping[str, Played]], offer: Offer) -> tuple[bool, float, str]:
        months = [base[step, "", 1.0][offer.name] for step in self.steps]
        return any(m.behind for m in months), math.fsum(m.cost for m in months), offer.name

    def _plan(
        self,
        offer: Offer,
        base: Mapping[Variant, Mapping[str, Played]],
        costs: Mapping[str, Array],
        shares: Mapping[str, Array],
        response: Response,
        factors: Array,
    ) -> PlanForecast:
        mine, targets = costs[offer.name], self.loaded.model.targets
        rows = []
        for step, month in enumerate(self.months):
            budget = targets.budget(month)
            cost, share = (np.quantile(each[:, step], LEVELS) for each in (mine, shares[offer.name]))
            here = base[step, "", 1.0]
            # A plan that leaves work undone is not the cheapest, whatever it costs.
            able = [name for name in costs if not here[name].behind] or list(costs)
            least = np.min(np.stack([costs[name][:, step] for name in able]), axis=0)
            # A draw is the same demand on every plan, so that they are compared draw by draw.
            chance = float(np.mean(mine[:, step] <= least)) if offer.name in able else 0.0
            over = float(np.mean(mine[:, step] > float(budget))) if budget is not None else 0.0
            rows.append(
                MonthForecast(
                    month,
                    _three(cost),
                    _three(share),
                    base[step, "", 1.0][offer.name].cost,
                    chance,
                    over,
                    here[offer.name].behind,
                )
            )
        total = _three(np.quantile(mine.sum(axis=1), LEVELS))
        crossed = self._crossed(offer, rows, base, response, factors)
        budgets = tuple(self._budgets(offer, base, mine))
        parts = tuple(self._parts(offer, base, mine)) if self.by else ()
        return PlanForecast(offer.name, tuple(rows), total, tuple(crossed), budgets, parts)

    def _parts(
        self, offer: Offer, base: Mapping[Variant, Mapping[str, Played]], drawn: Array
    ) -> Iterable[PartForecast]:
        """Each part of the split in each month: of a draw's bill it has the share it has at the expected demand."""
        here = [base[step, "", 1.0][offer.name] for step in self.steps]
        for labels in dict.fromkeys(labels for month in here for labels in month.parts):
            expected = [month.parts.get(labels, 0.0) for month in here]
            shares = [mine / month.cost if month.cost else 0.0 for mine, month in zip(expected, here, strict=True)]
            total = _three(np.quantile(drawn @ np.array(shares), LEVELS))
            yield PartForecast(labels, tuple(expected), total)

    def _budgets(
        self, offer: Offer, base: Mapping[Variant, Mapping[str, Played]], drawn: Array
    ) -> Iterable[BudgetForecast]:
        for step, month in enumerate(self.months):
            here = base[step, "", 1.0][offer.name]
            for tag, values in self.loaded.model.targets.by.tag.items():
                for value, budget in values.items():
                    mine = here.by_tag.get((tag, value), 0.0)
                    share = mine / here.cost if here.cost else 0.0
                    over = float(np.mean(drawn[:, step] * share > float(budget)))
                    yield BudgetForecast(month, tag, value, float(budget), mine, over)

    def _crossed(
        self,
        offer: Offer,
        rows: Sequence[MonthForecast],
        base: Mapping[Variant, Mapping[str, Played]],
        response: Response,
        factors: Array,
    ) -> Iterable[Crossed]:
        """What is crossed first when, at the median: allowances, targets, instance limits that throttle."""
        targets = self.loaded.model.targets
        for key, allowed in response.allowances():
            usual = [float(np.median(response.quantity(factors, step, key))) for step in self.steps]
            step = next((s for s, q in enumerate(usual) if q > allowed), None)
            if step is not None:
                whose = f" of account {key[0][0]}" if key[0][0] else ""
                yield Crossed(
                    self.months[step],
                    f"the allowance of {key[1]}{whose} is used up ({usual[step]:,.0f} of {allowed:,.0f})",
                )
        yield from self._over_budget(offer, rows, base, response.costs(factors))
        for row in rows:
            if targets.throttled is not None and row.throttled[1] > targets.throttled:
                yield Crossed(row.month, f"throttling passes the target of {targets.throttled:.3%}")
                break
        seen: set[str] = set()
        for step, month in enumerate(self.months):
            for name in base[step, "", 1.0][offer.name].at_limit:
                if name not in seen:
                    seen.add(name)
                    yield Crossed(month, f"{name} is throttled at its instance limit")
        yield from self._firsts(offer, base)

    def _over_budget(
        self,
        offer: Offer,
        rows: Sequence[MonthForecast],
        base: Mapping[Variant, Mapping[str, Played]],
        drawn: Array,
    ) -> Iterable[Crossed]:
        """When the whole bill first passes its budget at the median, and each part its own as expected."""
        digits = minor_digits(offer.card.currency)
        for row in rows:
            budget = self.loaded.model.targets.budget(row.month)
            if budget is not None and row.cost[1] > float(budget):
                yield Crossed(row.month, f"the cost passes the target of {float(budget):,.{digits}f}")
                break
        seen: set[tuple[str, str]] = set()
        for each in self._budgets(offer, base, drawn):
            if each.expected_cost > each.budget and (each.tag, each.value) not in seen:
                seen.add((each.tag, each.value))
                what = f"{each.tag} {each.value} passes its budget of {each.budget:,.{digits}f} ({each.expected_cost:,.{digits}f})"
                yield Crossed(each.month, what)

    def _firsts(self, offer: Offer, base: Mapping[Variant, Mapping[str, Played]]) -> Iterable[Crossed]:
        """Functions whose runs first meet their timeout, and whose events are first lost, at the expected demand."""
        for figure, what in (
            ("cut", "{name} is first cut by its timeout"),
            ("losing", "events of {name} are first lost"),
        ):
            seen: set[str] = set()
            for step, month in enumerate(self.months):
                now = set(getattr(base[step, "", 1.0][offer.name], figure))
                # What is so from the start is no news of the months to come; project says it.
                if step:
                    yield from (Crossed(month, what.format(name=name)) for name in sorted(now - seen))
                seen |= now

    def _error(self, plan: Offer, costs: Array, factors: Array) -> float | None:
        """Largest relative misfit of the response in some draws of the last month, played in full; None where none can be."""
        if not self.inputs:
            return 0.0
        last = self.steps[-1]
        # Spread over the draws, which are in no order.
        picked = [int((n + 0.5) / _CHECKED * self.draws) for n in range(_CHECKED)]
        variants = {
            (last, f"draw {n}", 1.0): month_with(
                self.loaded, last, {each.address: float(factors[n, i]) for i, each in enumerate(self.inputs)}
            )
            for n in dict.fromkeys(picked)
        }
        played = self.player.play(variants, [plan], each=True)
        pairs = zip(played.values(), dict.fromkeys(picked), strict=True)
        full = [(month[plan.name].cost, float(costs[n, last])) for month, n in pairs if plan.name in month]
        return max((abs(told / cost - 1) if cost else 0.0 for cost, told in full), default=None)

    def _tornado(
        self,
        response: Response,
        plan: Offer,
        base: Mapping[Variant, Mapping[str, Played]],
        beside: Mapping[Variant, Mapping[str, Played]],
        middle: int,
    ) -> list[Swing]:
        """Costs of all months with one input at its ends, the others as expected; widest first."""
        expected = math.fsum(base[step, "", 1.0][plan.name].cost for step in self.steps)
        swings = []
        for n, each in enumerate(self.inputs):
            ends = np.ones((2, len(self.inputs)))
            ends[:, n] = each.low, each.high
            low, high = response.costs(ends).sum(axis=1)
            swings.append(Swing(each, float(low), float(high)))
        for each in self.moved:
            now = base[middle, "", 1.0][plan.name].cost
            low, high = (
                expected + (beside[middle, each.address, end][plan.name].cost - now) * len(self.steps)
                for end in (each.low, each.high)
            )
            swings.append(Swing(each, low, high))
        return sorted(swings, key=lambda s: (-abs(s.high_cost - s.low_cost), s.input.address))

    def _notes(self) -> Iterable[str]:
        model = self.loaded.model
        for before, after in zip(self.months, self.months[1:], strict=False):
            changed = [
                f"{new.card.name} from {new.card.effective}"
                for old, new in zip(self.loaded.cards.in_force(before), self.loaded.cards.in_force(after), strict=True)
                if old != new
            ]
            if changed:
                yield f"{after} has other prices: {', '.join(changed)}"
        if self.gone:
            yield f"left out, since some month does not have them: {', '.join(self.gone)}"
        if not self.inputs:
            yield "no demand has a range and no function a run_range: the months are expected values without spread"
        if self.too_large:
            yield f"not moved, since even a sample of the month is too large there: {', '.join(self.too_large)}"
        moved = len(self.moved) + len(self.too_large)
        if moved < len(self.others):
            yield (
                f"of {len(self.others)} inputs without a range {moved} are moved: those whose functions cost most, "
                "a demand's all that it reaches"
            )
        fixed = [name for name, d in model.demand.items() if d.surges or any(lump.at for lump in d.lumps)]
        if fixed and len(self.months) > 1:
            yield f"surges and lumps with a date happen in their own month only: {', '.join(fixed)}"
        if not any(d.growth for d in model.demand.values()):
            growing = [name for name, s in model.schedules.items() if s.items_growth]
            yield f"no demand grows; items of schedules do: {', '.join(growing)}" if growing else "no demand grows"
        dated = [i.name for i in model.incidents if i.at is not None]
        if dated and len(self.months) > 1:
            yield f"incidents with a date happen in their own month only: {', '.join(dated)}"


def _three(values: Array) -> tuple[float, float, float]:
    return float(values[0]), float(values[1]), float(values[2])


def _switches(plans: Sequence[PlanForecast]) -> Iterable[tuple[str, str]]:
    """(month, plan) whenever the cheapest plan at the median is another than the month before."""
    last = None
    for n, month in enumerate(plans[0].months):
        best = min(plans, key=lambda p: (p.months[n].behind, p.months[n].cost[1], p.plan))
        if last is not None and best.plan != last:
            yield month.month, best.plan
        last = best.plan
