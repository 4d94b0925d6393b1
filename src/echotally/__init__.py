"""Echo Tally: plays a month of event-driven functions and bills it on every hosting plan.

The Python API: ``project`` answers with a ``Projection``; ``load`` checks a model without playing it; ``check_model``
gives findings; ``replicate``, ``sweep``, ``drain``, ``load_trial``, ``crossover`` and ``choose`` are the studies. Heavy imports happen on first use.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from echotally.projection.figures import series_frame
    from echotally.projection.placement import Loaded, load
    from echotally.projection.project import PlanProjection, Projection, project
    from echotally.projection.replicate import replicate
    from echotally.studies.choose import choose
    from echotally.studies.crossover import crossover
    from echotally.studies.drain import drain
    from echotally.studies.findings import check_model
    from echotally.studies.load import load_trial
    from echotally.studies.sweep import sweep

_HOMES = {
    **dict.fromkeys(("Loaded", "load"), "echotally.projection.placement"),
    **dict.fromkeys(("PlanProjection", "Projection", "project"), "echotally.projection.project"),
    "replicate": "echotally.projection.replicate",
    "series_frame": "echotally.projection.figures",
    "check_model": "echotally.studies.findings",
    "sweep": "echotally.studies.sweep",
    "drain": "echotally.studies.drain",
    "load_trial": "echotally.studies.load",
    "crossover": "echotally.studies.crossover",
    "choose": "echotally.studies.choose",
}
__all__ = [
    "Loaded", "PlanProjection", "Projection", "check_model", "choose", "crossover", "drain", "load", "load_trial",
    "project", "replicate", "series_frame", "sweep",
]  # fmt: skip


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module 'echotally' has no attribute '{name}'")
    from importlib import import_module

    return getattr(import_module(_HOMES[name]), name)
