"""The month's bill of one candidate plan: lines, and what each function pays of them."""

from __future__ import annotations

from collections import defaultdict
from decimal import Decimal, localcontext

from msgspec import Struct

from echotally.engine.reading import Measured
from echotally.model.estate import Model
from echotally.projection.metering import Metered, UnitKey, events_from_outside
from echotally.rates.billing import Line, bill_account, exact, rounded_total
from echotally.rates.commitments import Committed, commit
from echotally.rates.meters import COMMITMENT


class Bill(Struct, frozen=True):
    """``total`` is rounded to the minor unit; functions + idle + flat = ``unrounded`` exactly.

    ``shares`` holds what each unit pays of each meter.
    """

    total: Decimal
    unrounded: Decimal
    lines: tuple[Line, ...]
    functions: dict[UnitKey, Decimal]
    shares: dict[UnitKey, dict[str, Decimal]]
    idle: Decimal
    flat: Decimal
    currency: str

    @property
    def shown(self) -> Decimal:
        """What is shown for the month: the rounded total, or below 1 the unrounded, so that small bills differ."""
        return self.total if self.total >= 1 else self.unrounded


def make_bill(metered: Metered, units: list[UnitKey], currency: str) -> Bill:
    """Bill every account, split each line by gross quantity, and keep the rest as idle."""
    lines: list[Line] = []
    shares: dict[UnitKey, dict[str, Decimal]] = {key: defaultdict(Decimal) for key in units}
    with localcontext(exact()):
        quantities = metered.totals()
        for account, plan in metered.plans.items():
            committed = commit(plan, metered.hours.get(account, []))
            for line in bill_account(account[1], account[0], plan, quantities[account], committed):
                lines.append(line)
                # A function pays what its usage took, not a part of the hours prepaid.
                if line.meter == COMMITMENT:
                    _shared_out(shares, committed)
                    continue
                for key, quantity in metered.quantities[account].get(line.meter, {}).items():
                    if key is not None and line.quantity:
                        shares[key][line.meter] += line.amount * quantity / line.quantity
        unrounded = sum((line.amount for line in lines), Decimal(0))
        # Idle is what is left, so that functions, idle and flat add up whatever was divided (rule 6.6).
        flat = sum((line.amount for line in lines if line.meter == "flat_months"), Decimal(0))
        functions = {key: sum(parts.values(), Decimal(0)) for key, parts in shares.items()}
        idle = unrounded - flat - sum(functions.values(), Decimal(0))
    return Bill(
        rounded_total(unrounded, currency),
        unrounded,
        tuple(lines),
        functions,
        {key: dict(parts) for key, parts in shares.items()},
        idle,
        flat,
        currency,
    )


def _shared_out(shares: dict[UnitKey, dict[str, Decimal]], committed: Committed[UnitKey | None] | None) -> None:
    """Each function pays what its usage took of the commitment; what nobody's usage took is idle (rule 7.51)."""
    for key, parts in committed.used.items() if committed else ():
        if key is not None:
            shares[key][COMMITMENT] += sum(parts.values(), Decimal(0))


def merged_lines(bill: Bill) -> list[Line]:
    """One line a plan and meter, accounts summed."""
    found: dict[tuple[str, str], Line] = {}
    with localcontext(exact()):
        for line in bill.lines:
            known = found.get((line.plan, line.meter))
            if known is None:
                found[line.plan, line.meter] = line
            else:
                found[line.plan, line.meter] = Line(
                    line.plan,
                    "",
                    line.meter,
                    known.quantity + line.quantity,
                    known.allowance + line.allowance,
                    known.billable + line.billable,
                    known.amount + line.amount,
                    None if line.lost is None else (known.lost or Decimal(0)) + line.lost,
                )
    return list(found.values())


def cost_per_million(model: Model, measured: Measured, bill: Bill) -> Decimal | None:
    """The bill per million events from outside, in the card's currency; None where none came (rule 7.73)."""
    events = events_from_outside(model, measured)
    return bill.unrounded / Decimal(events) * 1_000_000 if events else None
