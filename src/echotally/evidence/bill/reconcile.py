"""``reconcile``: a projected month beside an actual bill, and where the difference comes from.

Each meter and function is billed four times on our own card: as projected; with the billed number of calls (volume);
with the billed quantities (run time and mix); and the billed quantities at the billed unit prices (price). A meter of which
the bill has no row is not on this bill, and that is a part of its own. What is left is unexplained. The steps telescope, so the
five parts add up to the difference exactly (Decimal).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from datetime import date
from decimal import Decimal, localcontext
from pathlib import Path
from typing import TYPE_CHECKING, TypedDict, Unpack

from msgspec import Struct
from msgspec.structs import replace

from echotally.errors import BadInput, Problem
from echotally.evidence.bill.bill_file import BillRead, read_bill
from echotally.evidence.bill.bill_keys import BillKey, BillWays
from echotally.model.estate import Model
from echotally.projection.answer import PlayedPlan, Projection, RefusedPlan
from echotally.projection.loaded import Loaded
from echotally.projection.metering import Account, Metered, UnitKey
from echotally.projection.over_time import hours_until, midnight, stretches
from echotally.projection.showback import UNTAGGED, splits_of
from echotally.rates.billing import bill_account, exact
from echotally.rates.commitments import commit
from echotally.rates.meters import BY_VOLUME, COMMITMENT, OUTSIDE
from echotally.showing import Answer

if TYPE_CHECKING:
    import pandas as pd

#: What tells how often a function ran, the first that both sides have.
_COUNTS = ("calls", "gateway_requests", "stream_writes", "storage_operations", "schedule_firings", "topic_publishes")
PARTS = ("volume", "run_time", "price", "not_on_bill", "unexplained")
Quantities = dict[Account, dict[str, dict[UnitKey | None, Decimal]]]
Place = tuple[Account, str, UnitKey | None]


class Difference(Struct, frozen=True):
    """One meter of one function (or of the estate, ``function`` ""): projected, billed, and the four parts."""

    account: str
    meter: str
    function: str
    environment: str
    projected: Decimal
    billed: Decimal
    volume: Decimal
    run_time: Decimal
    price: Decimal
    not_on_bill: Decimal
    unexplained: Decimal
    projected_quantity: Decimal
    billed_quantity: Decimal | None

    @property
    def difference(self) -> Decimal:
        """Billed less projected, money."""
        return self.billed - self.projected


class Reconciliation(Answer, frozen=True):
    """Every difference, the rows of the bill that map to nothing, and the parts over all."""

    plan: str
    currency: str
    projected: Decimal
    billed: Decimal
    rows: tuple[Difference, ...]
    bill: BillRead
    model: Model

    @property
    def unmapped(self) -> Decimal:
        """Money of rows that map to nothing; part of what is unexplained."""
        return sum((cost for _, cost in self.bill.unmapped.values()), Decimal(0))

    @property
    def parts(self) -> dict[str, Decimal]:
        """The four parts over all; they add up to billed less projected."""
        with localcontext(exact()):
            found = {part: sum((getattr(row, part) for row in self.rows), Decimal(0)) for part in PARTS}
            return found | {"unexplained": found["unexplained"] + self.unmapped}

    def to_frame(self) -> pd.DataFrame:
        """A row for each meter and function (``Difference``)."""
        from echotally.projection.tables import frame_of

        return frame_of(self.rows)


class WaysWords(TypedDict, total=False):
    """How a bill says what its rows are (``BillWays``), as keywords of ``reconcile``."""

    tag: str
    environment: str
    cost: str | None


def reconcile(
    found: Projection,
    path: Path | str,
    plan: str | None = None,
    mapping: Path | str | None = None,
    *,
    until: date | None = None,
    loaded: Loaded | None = None,
    **words: Unpack[WaysWords],
) -> Reconciliation:
    """Lay a bill beside the projection on ``plan`` (default: the picked or closest one).

    ``mapping`` is a file that says what rows are, ``words`` how the bill's own columns do (``bill_file.BillWays``). ``until``
    (with the model, ``loaded``): the bill goes up to this day, and so does what is laid beside it. Raises ``BadInput``.
    """
    name = plan or found.pick or found.closest
    if name is None:
        raise BadInput(Problem("no plan can run this estate", "--plan"))
    on = found.plan(name)
    if isinstance(on, RefusedPlan):
        why = "cannot run this estate" if on.feasible is False else on.reasons[0][1]
        raise BadInput(Problem(why, "--plan", value=name))
    ways = BillWays(Path(mapping) if mapping else None, **words)
    metered = on.metered if until is None or loaded is None else _metered_until(loaded, found, on, until)
    bill = read_bill(Path(path), found.model, ways, found.currency, found.month.clock, until)
    with localcontext(exact()):
        rows = tuple(_Splitter(metered, bill).rows())
        projected = sum((row.projected for row in rows), Decimal(0))
    return Reconciliation(name, found.currency, projected, bill.total, rows, bill, found.model)


def _metered_until(loaded: Loaded, found: Projection, on: PlayedPlan, until: date) -> Metered:
    """What was metered before a day's local midnight."""
    cut = midnight(found.month.clock, until)
    first = stretches(loaded, on, found.seed, [cut])[0]
    hours = {account: hours_until(own, cut) for account, own in on.metered.hours.items()}
    return Metered(first.quantities, on.metered.plans, hours)


class Placing:
    """Where the positions of a bill stand among our own quantities."""

    def __init__(self, metered: Metered) -> None:
        self.metered = metered
        self.places = self._places()

    def _places(self) -> dict[BillKey, Place]:
        """Where each position of a bill stands in our own quantities."""
        found: dict[BillKey, Place] = {}
        for account, meters in self.metered.quantities.items():
            for meter, shares in meters.items():
                for key in shares:
                    function, environment = key or ("", "")
                    # A bill does not say the plan; of a function on two plans of one account the first is taken.
                    found.setdefault((account[0], meter, function, environment), (account, meter, key))
        return found

    def place(self, key: BillKey) -> Place:
        """The place of a position; of one that we have no quantity of, on the account that comes nearest."""
        if key in self.places:
            return self.places[key]
        name, meter, function, environment = key
        unit = (function, environment) if function else None
        owners = [a for a, meters in self.metered.quantities.items() if any(unit in s for s in meters.values())]
        same = [a for a in owners if a[0] == name] or owners or list(self.metered.quantities)
        return same[0], meter, unit


class _Splitter:
    def __init__(self, metered: Metered, bill: BillRead) -> None:
        self.metered, self.bill = metered, bill
        placing = Placing(metered)
        self.places = placing.places
        self.billed = {placing.place(key): position for key, position in bill.positions.items()}
        self.meters = {key[1] for key in bill.positions}
        self.committed = {
            account: commit(plan, metered.hours.get(account, [])) for account, plan in metered.plans.items()
        }

    def rows(self) -> Iterator[Difference]:
        volume, billed = self._quantities_with(self._by_volume), self._quantities_with(self._as_billed)
        costs = [self._costs(q) for q in (self.metered.quantities, volume, billed)]
        # In the order of our own bill, then what only the other one has.
        places = dict.fromkeys([*(p for each in costs for p in each), *self.billed])
        for place in places:
            ours, at_volume, at_quantity = (each.get(place, Decimal(0)) for each in costs)
            position = self.billed.get(place)
            cost = position.cost if position else Decimal(0)
            # Without unit prices on the bill nothing is said of price: what is left is unexplained.
            priced = position.priced if position and position.priced is not None else cost
            if position is not None and position.quantity is None:
                # A bill without quantities says nothing about volume, run time or price.
                at_volume = at_quantity = priced = ours
            quantity = self.metered.quantities.get(place[0], {}).get(place[1], {}).get(place[2], Decimal(0))
            function, environment = place[2] or ("", "")
            missing = Decimal(0)
            if place[1] not in self.meters:
                # No row of the whole bill is of this meter: that says nothing of how much was used.
                missing, at_volume, at_quantity, priced = -ours, ours, ours, ours
            if ours or cost or at_volume or at_quantity:
                yield Difference(
                    place[0][0],
                    place[1],
                    function,
                    environment,
                    ours,
                    cost,
                    at_volume - ours,
                    at_quantity - at_volume,
                    priced - at_quantity,
                    missing,
                    cost - priced - missing,
                    quantity,
                    position.quantity if position else None,
                )

    def _quantities_with(self, change: object) -> Quantities:
        """Our quantities with those of the places the bill knows changed; what it does not show is zero at the end."""
        found: Quantities = {
            a: {m: dict(s) for m, s in meters.items()} for a, meters in self.metered.quantities.items()
        }
        for place in [*self.places.values(), *(p for p in self.billed if p not in self.places.values())]:
            account, meter, unit = place
            own = found[account].setdefault(meter, {})
            own[unit] = change(place, own.get(unit, Decimal(0)))  # type: ignore[operator]
        return found

    def _as_billed(self, place: Place, own: Decimal) -> Decimal:
        position = self.billed.get(place)
        if position is None:
            # A bill that has the meter, and no row of this function's, says that it used none.
            return Decimal(0) if self._priced(place) and place[1] in self.meters else own
        return own if position.quantity is None else position.quantity

    def _priced(self, place: Place) -> bool:
        """Whether our card prices the meter, so that a bill without it means a quantity of none."""
        return place[1] in self.metered.plans[place[0]].prices()

    def _by_volume(self, place: Place, own: Decimal) -> Decimal:
        if place[1].startswith(OUTSIDE):
            # Uses follow events, not runs: all of their difference is volume.
            return self._as_billed(place, own)
        if place[1] not in BY_VOLUME or place[2] is None:
            return own
        return own * self._ratio(place[0], place[2])

    def _ratio(self, account: Account, unit: UnitKey) -> Decimal:
        """How many times as often the function ran as projected, by the first count that both sides have."""
        for meter in _COUNTS:
            ours = self.metered.quantities[account].get(meter, {}).get(unit)
            position = self.billed.get((account, meter, unit))
            if ours and position and position.quantity is not None:
                return position.quantity / ours
        return Decimal(1)

    def _costs(self, quantities: Quantities) -> dict[Place, Decimal]:
        """What each place pays of our card's bill: its part of its line by quantity."""
        found: dict[Place, Decimal] = {}
        for account, meters in quantities.items():
            # Tiers and allowances go by the account's total, so that lines are priced whole and shared out after.
            totals = {meter: sum(shares.values(), Decimal(0)) for meter, shares in meters.items()}
            plan = self.metered.plans[account]
            for line in bill_account(account[1], account[0], plan, totals, self.committed[account]):
                if line.meter == COMMITMENT:
                    found[account, COMMITMENT, None] = line.amount
                    continue
                for unit, quantity in meters.get(line.meter, {}).items():
                    part = line.amount * quantity / line.quantity if line.quantity else Decimal(0)
                    found[account, line.meter, unit] = part
        return found


def by_function(rows: Iterable[Difference]) -> list[Difference]:
    """Differences summed over meters, a row for each function and environment."""
    return [replace(row, meter="") for row in summed(rows, lambda row: (row.function, row.environment)).values()]


def summed(
    rows: Iterable[Difference], key: Callable[[Difference], tuple[str, ...]]
) -> dict[tuple[str, ...], Difference]:
    """Differences (money, no quantities) summed over what has the same ``key``, by that key."""
    found: dict[tuple[str, ...], Difference] = {}
    with localcontext(exact()):
        for row in rows:
            known = found.get(key(row))
            if known is None:
                found[key(row)] = replace(row, projected_quantity=Decimal(0), billed_quantity=None)
            else:
                fields = ("projected", "billed", *PARTS)
                found[key(row)] = replace(known, **{f: getattr(known, f) + getattr(row, f) for f in fields})
    return found


def splits_of_bill(by: str) -> tuple[str, ...]:
    """The splits of ``--by`` that a bill knows of; raises ``BadInput`` for the others."""
    for split in splits_of(by):
        if split in ("source", "outcome"):
            raise BadInput(
                Problem("is not on a bill", "--by", value=split, allowed="function, environment, tag:NAME, or several")
            )
    return splits_of(by)


def by_labels(rows: Iterable[Difference], model: Model, by: str) -> dict[tuple[str, ...], Difference]:
    """Differences split ``by`` function, environment or tags of the model, by labels; what is nobody's has the label "(estate)"."""
    splits = splits_of_bill(by)

    def labels(row: Difference) -> tuple[str, ...]:
        if not row.function:
            return ("(estate)",) * len(splits)
        function = model.functions.get(row.function)
        tags = function.tags if function is not None else {}
        known = {"function": row.function, "environment": row.environment}
        return tuple(known.get(split) or tags.get(split.removeprefix("tag:"), UNTAGGED) for split in splits)

    return summed(rows, labels)
