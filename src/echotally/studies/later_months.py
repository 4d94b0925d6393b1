"""The estate in a later month, or under other demands and run times: what studies of several months play."""

from __future__ import annotations

import math
from collections.abc import Mapping

from echotally.demand.month import plan_month
from echotally.model.estate import Model
from echotally.model.spread import scaled
from echotally.projection.loaded import Loaded


def month_after(month: str, steps: int) -> str:
    """The calendar month ``steps`` after one, both as YYYY-MM."""
    year, number = (int(part) for part in month.split("-"))
    at = year * 12 + number - 1 + steps
    return f"{at // 12:04d}-{at % 12 + 1:02d}"


def month_with(loaded: Loaded, step: int, factors: Mapping[str, float] | None = None) -> Loaded:
    """The estate ``step`` months later: demands grown, and multiplied by ``factors`` (by an input's address)."""
    factors = factors or {}
    month = month_after(loaded.model.estate.month, step)
    model = _more_items(_slower(loaded.model, factors), step)
    model = model.model_copy(update={"estate": model.estate.model_copy(update={"month": month})})
    grown = {
        name: (1 + demand.growth) ** step * factors.get(f"demand.{name}", 1.0) for name, demand in model.demand.items()
    }
    grown_month = plan_month(model, loaded.document, grown)
    return Loaded(model, loaded.document, grown_month, loaded.offers_in(model), loaded.cards)


def _more_items(model: Model, step: int) -> Model:
    """The model with the items of schedules grown: whole ones, rounded half up, at least one (rule 7.81)."""
    schedules = {
        name: s.model_copy(update={"items": max(1, math.floor(s.items * (1 + s.items_growth) ** step + 0.5))})
        for name, s in model.schedules.items()
    }
    return model.model_copy(update={"schedules": schedules})


def _slower(model: Model, factors: Mapping[str, float]) -> Model:
    """The model with the run times of some functions multiplied."""
    functions = dict(model.functions)
    for name, function in model.functions.items():
        by = factors.get(f"functions.{name}.run")
        if by is not None:
            longer = {
                "run": scaled(function.run, by),
                "per_item": round(function.per_item * by),
                "per_mb": round(function.per_mb * by),
            }
            functions[name] = function.model_copy(update=longer)
    return model.model_copy(update={"functions": functions})
