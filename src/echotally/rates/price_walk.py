"""The walk through a price's tiers, once: exactly for bills, in floating point for estimates of many quantities.

Graduated tiers price each part of the quantity at its own tier, ``volume`` tiers all of it at the tier reached (rule 6.5).
"""

from __future__ import annotations

import math
from decimal import Decimal
from typing import TYPE_CHECKING

from msgspec import Struct

from echotally.rates.card import Price

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


class Part(Struct, frozen=True):
    """A part of a quantity: the tier it falls into, from 1, how much it is, and money for ``per`` units there."""

    tier: int
    quantity: Decimal
    unit: Decimal
    per: int

    @property
    def unit_price(self) -> Decimal:
        """Money for one unit."""
        return self.unit / self.per


def parts_of(price: Price, billable: Decimal) -> list[Part]:
    """The billable quantity by tier, the first tier always there; of a ``volume`` price one part."""
    steps = price.steps()
    if price.volume:
        # All of it at the price of the tier it reaches, not each part at its own.
        step = next(s for s in steps if s.up_to is None or billable <= s.up_to)
        return [Part(1, billable, step.unit, price.per)]
    parts, below = [], Decimal(0)
    for number, step in enumerate(steps, 1):
        upper = billable if step.up_to is None else min(billable, Decimal(step.up_to))
        if upper > below or number == 1:
            parts.append(Part(number, upper - below, step.unit, price.per))
            below = max(below, upper)
    return parts


def price_of(price: Price, billable: Decimal) -> Decimal:
    """Money for ``billable`` units, exactly as far as the context's precision goes."""
    # Divided once, at the end, so that prices per million lose nothing.
    return sum((part.quantity * part.unit for part in parts_of(price, billable)), Decimal(0)) / price.per


class About:
    """As ``price_of``, in floating point, of one price that is asked for often."""

    def __init__(self, price: Price) -> None:
        self._per, self._volume = float(price.per), price.volume
        # Read out once: a descent asks for the same price a hundred thousand times.
        self._steps = [(math.inf if s.up_to is None else float(s.up_to), float(s.unit)) for s in price.steps()]

    def __call__(self, billable: float) -> float:
        """Money for ``billable`` units."""
        if self._volume:
            return billable * next(unit for end, unit in self._steps if billable <= end) / self._per
        total, below = 0.0, 0.0
        for end, unit in self._steps:
            if billable <= end:
                return (total + (billable - below) * unit) / self._per
            total += (end - below) * unit
            below = end
        return total / self._per


def about(price: Price, billable: float) -> float:
    """As ``price_of``, in floating point."""
    return About(price)(billable)


def about_many(price: Price, billable: NDArray[np.float64]) -> NDArray[np.float64]:
    """As ``price_of``, of many quantities at once, in floating point (about 1e-12 off)."""
    import numpy as np

    per, steps = float(price.per), price.steps()
    ends = [np.inf if step.up_to is None else float(step.up_to) for step in steps]
    units = [float(step.unit) for step in steps]
    if price.volume:
        whole: NDArray[np.float64] = billable * np.array(units)[np.searchsorted(ends, billable)] / per
        return whole
    total, below = np.zeros_like(billable), 0.0
    for end, unit in zip(ends, units, strict=True):
        total = total + np.maximum(0.0, np.minimum(billable, end) - below) * unit
        below = end
    return total / per
