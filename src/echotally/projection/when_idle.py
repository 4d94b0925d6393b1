"""What still costs when nothing runs at all, because take-down is the step people forget."""

from __future__ import annotations

from decimal import Decimal

from echotally.engine.play import Wanted, simulate
from echotally.projection.bills import Bill, make_bill
from echotally.projection.loaded import Loaded, placement_on
from echotally.projection.metering import Metered, UnitKey, marks_for, meter
from echotally.rates.card_loading import Offer


def bill_when_idle(loaded: Loaded, candidate: Offer) -> Bill:
    """The month's bill on ``candidate`` if no event came, no schedule fired and no queue held a backlog.

    The same engine and the same meters as ever, on a month without demand. Raises nothing for a plan that
    is feasible.
    """
    metered, units = _quiet(loaded, candidate)
    return make_bill(metered, units, candidate.card.currency)


def quantities_when_idle(loaded: Loaded, candidate: Offer) -> dict[tuple[str, str], dict[str, Decimal]]:
    """As ``bill_when_idle``, the quantities of each account and meter."""
    metered, _ = _quiet(loaded, candidate)
    return metered.totals()


def _quiet(loaded: Loaded, candidate: Offer) -> tuple[Metered, list[UnitKey]]:
    model = loaded.model
    quiet = model.model_copy(
        update={"queues": {name: q.model_copy(update={"backlog": 0}) for name, q in model.queues.items()}}
    )
    placement, idle = placement_on(model, loaded.offers, candidate), loaded.month.idle()
    marks = marks_for(placement.values(), idle.length_ns)
    measured = simulate(quiet, idle, placement, model.estate.seed, wanted=Wanted(marks=marks, quantities_only=True))
    units = [(u.unit.function, u.unit.environment) for u in measured.units]
    return meter(quiet, measured, candidate), units
