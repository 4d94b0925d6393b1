"""What still costs when nothing runs at all, because take-down is the step people forget."""

from __future__ import annotations

from echotally.demand.month import MonthPlan
from echotally.engine.running import simulate
from echotally.projection.bills import Bill, make_bill
from echotally.projection.metering import meter
from echotally.projection.placement import Loaded, placement_on
from echotally.rates.loading import Offer


def standing_bill(loaded: Loaded, candidate: Offer) -> Bill:
    """The month's bill on ``candidate`` if no event came, no schedule fired and no queue held a backlog.

    The same engine and the same meters as ever, on a month without demand. Raises nothing for a plan that
    is feasible.
    """
    model = loaded.model
    quiet = model.model_copy(
        update={"queues": {name: q.model_copy(update={"backlog": 0}) for name, q in model.queues.items()}}
    )
    month = MonthPlan(loaded.month.clock, (), {}, ())
    measured = simulate(quiet, month, placement_on(model, loaded.offers, candidate), model.estate.seed)
    units = [(u.unit.function, u.unit.environment) for u in measured.units]
    return make_bill(meter(quiet, measured, candidate), units, candidate.card.currency)
