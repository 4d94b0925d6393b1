"""``project --so-far``: a bill up to a day and the rest of the month as played, billed together (rules 10.6 and 7.53)."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from datetime import date, timedelta
from decimal import Decimal, localcontext
from pathlib import Path
from statistics import fmean, stdev

from msgspec import Struct
from msgspec.structs import replace

from echotally.errors import BadInput, Problem
from echotally.evidence.bill.bill_file import BillRead, read_bill
from echotally.evidence.bill.bill_keys import BillWays
from echotally.evidence.bill.reconcile import Placing
from echotally.projection.answer import PlayedPlan, Projection, SoFar
from echotally.projection.bills import Bill, make_bill
from echotally.projection.loaded import Loaded
from echotally.projection.metering import Account, Metered, UnitKey, up_to
from echotally.projection.over_time import Stretch, days_of, hours_until, less, midnight, stretches, summed
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from echotally.projection.replicate import replication_seeds
from echotally.projection.verdict import check_targets
from echotally.rates.billing import exact, minor_digits
from echotally.rates.commitments import Hour
from echotally.studies.later_months import month_with
from echotally.studies.response import draw_factors, inputs_of

Quantities = dict[Account, dict[str, dict[UnitKey | None, Decimal]]]
#: How often the rest is played for the interval, and up to how many events in all.
_DRAWS, _FEWEST, _EVENTS = 20, 4, 20_000_000
_HOUR_NS = 3_600 * 10**9


def with_bill_so_far(
    loaded: Loaded,
    projection: Projection,
    path: Path | str,
    until: date,
    *,
    plan: str | None = None,
    progress: Callable[[str, float], None] | None = None,
) -> Projection:
    """The month billed until a day's local midnight and played from then on; only the plan the bill names is shown.

    The bill's plan is the one its rows name, else ``plan``, else the picked one. Raises ``BadInput`` for a charge that ends later,
    for a day outside the month, and where the plan cannot run the estate.
    """
    path, clock = Path(path), projection.month.clock
    midnight(clock, until)
    bill = read_bill(path, projection.model, BillWays(), projection.currency, clock, until)
    name = plan or _named(bill, projection) or projection.pick or projection.closest
    played = next((each for each in projection.played if each.offer.name == name), None)
    if played is None:
        raise BadInput(Problem("cannot run this estate", "--so-far", file=path.name, value=name or "no plan"))
    landing = _Landing(loaded, projection, played, bill, until)
    landed = landing.landed(progress)
    picked = name if not landed.misses else None
    return replace(projection, plans=(landed,), pick=picked, closest=None if picked else name)


def _named(bill: BillRead, projection: Projection) -> str | None:
    """The plan that most of the bill's money is on, of those that were played."""
    names = [each.offer.name for each in projection.played]
    known = {name: cost for name, cost in bill.plans.items() if name in names}
    return max(known, key=lambda name: known[name]) if known else None


class _Landing(Struct):
    loaded: Loaded
    projection: Projection
    played: PlayedPlan
    bill: BillRead
    until: date

    def landed(self, progress: Callable[[str, float], None] | None) -> PlayedPlan:
        """The plan with the landing's bill in place of the projected one."""
        clock = self.projection.month.clock
        cut = midnight(clock, self.until)
        # The first stretch is what the bill stands for, the others are the days to come.
        ends = [cut, *(end for end in days_of(clock) if end > cut)]
        first, *rest = stretches(self.loaded, self.played, self.projection.seed, ends)
        so_far, notes = self._billed(first)
        whole = _together(so_far, summed(rest))
        metered = self._metered(whole, so_far, first)
        bill = self._bill(metered)
        days = self._days(so_far, first, rest, metered)
        low, high = self._interval(bill.unrounded, so_far, cut, metered, progress)
        target = self.projection.model.targets.budget(self.projection.model.estate.month)
        checks = tuple(check_targets(self.projection.model, self.played.measured, bill))
        with localcontext(exact()):
            # The bill's own money, prices and rounding included; what maps to nothing is said.
            billed = self.bill.matched
        landing = SoFar(
            self.until,
            billed,
            self._played_so_far(first),
            bill.unrounded,
            max(low, min(billed, bill.unrounded)),
            high,
            target,
            next((day for day, cost in days if target is not None and cost > target), None),
            tuple(days),
            tuple(notes),
        )
        return replace(self.played, metered=metered, bill=bill, checks=checks, so_far=landing, when_idle=None)

    # -- the bill so far ------------------------------------------------------------------------------------------
    def _billed(self, played: Stretch) -> tuple[Quantities, list[str]]:
        """The bill's quantities by account, meter and unit; of a row that says none, what was played."""
        placing, notes = Placing(self.played.metered), []
        found: Quantities = {account: {} for account in self.played.metered.quantities}
        silent: set[str] = set()
        for key, position in self.bill.positions.items():
            account, meter, unit = placing.place(key)
            quantity = position.quantity
            if quantity is None:
                # A bill without quantities still says that there was usage; how much is the model's to say.
                silent.add(meter)
                quantity = played.quantities[account].get(meter, {}).get(unit, Decimal(0))
            own = found[account].setdefault(meter, {})
            own[unit] = own.get(unit, Decimal(0)) + quantity
        for account, meters in played.quantities.items():
            if "flat_months" in meters:
                # Once a month, whatever the bill says.
                found[account]["flat_months"] = dict(meters["flat_months"])
        if silent:
            notes.append(
                f"the bill says no quantity of {', '.join(sorted(silent))}: what was played for those days is taken"
            )
        missing = sorted(
            {
                m
                for a, meters in played.quantities.items()
                for m, own in meters.items()
                if sum(own.values()) and m not in found[a]
            }
            & {m for plan in self.played.metered.plans.values() for m in plan.prices()}
        )
        if missing:
            notes.append(f"no row of the bill is of {', '.join(missing)}: nothing of it is counted for those days")
        unmapped = sum((cost for _, cost in self.bill.unmapped.values()), Decimal(0))
        if self.bill.unmapped:
            notes.append(
                f"{unmapped:,.{minor_digits(self.bill.currency)}f} {self.bill.currency} of the bill map to no function and meter of the model, and are left out"
            )
        return found, notes

    def _metered(self, quantities: Quantities, so_far: Quantities, played: Stretch) -> Metered:
        """These quantities on the same plans; hours of a commitment until the day are those played, times what was billed."""
        known = self.played.metered
        hours = {account: list(_scaled(own, account, so_far, played)) for account, own in known.hours.items()}
        return Metered({account: quantities.get(account, {}) for account in known.quantities}, known.plans, hours)

    def _played_so_far(self, first: Stretch) -> Decimal:
        """What the model's own first days cost."""
        hours = {account: hours_until(own, first.until_ns) for account, own in self.played.metered.hours.items()}
        return self._bill(Metered(first.quantities, self.played.metered.plans, hours)).unrounded

    def _bill(self, metered: Metered) -> Bill:
        units = [u.key for u in self.played.measured.units]
        return make_bill(metered, units, self.projection.currency)

    # -- how it goes on -------------------------------------------------------------------------------------------
    def _days(
        self, so_far: Quantities, first: Stretch, rest: Sequence[Stretch], whole: Metered
    ) -> list[tuple[date, Decimal]]:
        """The bill at the end of each local day: as the bill has it, then with what was played."""
        found: list[tuple[date, Decimal]] = []
        with localcontext(exact()):
            money = Decimal(0)
            start = self.projection.month.clock.start.astimezone(self.projection.month.clock.zone).date()
            # Money as billed, day by day; tiers and allowances are the bill's own.
            for n in range((self.until - start).days):
                money += self.bill.by_day.get(start + timedelta(days=n), Decimal(0))
                found.append((start + timedelta(days=n), money))
            quantities, day = so_far, self.until
            for stretch in rest:
                quantities = _together(quantities, stretch.quantities)
                hours = {a: hours_until(own, stretch.until_ns) for a, own in whole.hours.items()}
                found.append((day, self._bill(Metered(quantities, whole.plans, hours)).unrounded))
                day += timedelta(days=1)
        return found

    def _interval(
        self,
        lands: Decimal,
        so_far: Quantities,
        cut: int,
        whole: Metered,
        progress: Callable[[str, float], None] | None,
    ) -> tuple[Decimal, Decimal]:
        """The 95 % interval of one month's landing: the rest played with other seeds, and draws of the model's ranges."""
        from scipy.special import stdtrit

        if cut >= self.played.measured.month_ns:
            return lands, lands
        events = max(1, self.played.totals.attempts["total"])
        # As many as a fixed amount of work allows: an interval of few months is wider, and says so.
        draws = int(min(_DRAWS, max(_FEWEST, _EVENTS // events)))
        inputs = inputs_of(self.projection.model)[0]
        factors = draw_factors(inputs, draws, self.projection.seed)
        landings = []
        for n, seed in enumerate(replication_seeds(self.projection.seed, draws + 1)[1:]):
            by = {each.address: float(factor) for each, factor in zip(inputs, factors[n], strict=True)}
            month = month_with(self.loaded, 0, by) if by else self.loaded
            again = project_plan(month, self.played.offer, seed, how=Playing(passing_ns=(cut,)))
            if isinstance(again, PlayedPlan):
                rest = (
                    stretches(month, again, seed, [cut])[-1].quantities
                    if again.confidence
                    else _rest_of(month, again, cut)
                )
                quantities = _together(so_far, rest)
                hours = {
                    a: [*hours_until(whole.hours[a], cut), *_from(own, cut)] for a, own in again.metered.hours.items()
                }
                landings.append(float(self._bill(Metered(quantities, whole.plans, hours)).unrounded))
            if progress:
                progress("where the month lands", (n + 1) / draws)
        if len(landings) < _FEWEST:
            return lands, lands
        # A prediction for one month and not the mean of many: hence the one under the root.
        half = float(stdtrit(len(landings) - 1, 0.975)) * stdev(landings) * math.sqrt(1 + 1 / len(landings))
        middle = fmean(landings)
        low, high = (Decimal(repr(middle + side * half)) for side in (-1, 1))
        # The month that was played is one of those that may come.
        return min(low, lands), max(high, lands)


def _rest_of(loaded: Loaded, plan: PlayedPlan, cut: int) -> Quantities:
    """What a month that was looked at once has after that instant."""
    mark = up_to(loaded.model, plan.measured.passed[0], plan.offer, plan.measured.month_ns).quantities
    return less(plan.metered.quantities, mark)


def _together(one: Quantities, other: Quantities) -> Quantities:
    return summed([Stretch(0, 0, one), Stretch(0, 0, other)])


def _scaled(
    hours: Sequence[Hour[UnitKey | None]], account: Account, so_far: Quantities, played: Stretch
) -> list[Hour[UnitKey | None]]:
    """Hours of usage, those before the day times billed / played of each meter."""
    before = len(hours_until(hours, played.until_ns))
    by: dict[str, Decimal] = {}
    for meter, own in played.quantities.get(account, {}).items():
        ours = sum(own.values(), Decimal(0))
        billed = sum(so_far.get(account, {}).get(meter, {}).values(), Decimal(0))
        by[meter] = billed / ours if ours else Decimal(1)
    found = []
    for n, (length, quantities) in enumerate(hours):
        if n < before:
            quantities = _times(quantities, by)
        found.append((length, quantities))
    return found


def _times(
    quantities: Mapping[str, Mapping[UnitKey | None, Decimal]], by: Mapping[str, Decimal]
) -> dict[str, dict[UnitKey | None, Decimal]]:
    one = Decimal(1)
    return {meter: {unit: q * by.get(meter, one) for unit, q in own.items()} for meter, own in quantities.items()}


def _from(hours: Sequence[Hour[UnitKey | None]], start_ns: int) -> list[Hour[UnitKey | None]]:
    return list(hours[len(hours_until(hours, start_ns)) :])
