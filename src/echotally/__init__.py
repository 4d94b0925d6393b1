"""Echo Tally: plays a month of event-driven functions and bills it on every hosting plan.

The Python API: ``project`` answers with a ``Projection``; ``load`` checks a model without playing it.
Heavy imports happen on first use.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from echotally.projection.placement import Loaded, load
    from echotally.projection.project import PlanProjection, Projection, project

_HOMES = dict.fromkeys(("Loaded", "PlanProjection", "Projection", "load", "project"), "echotally.projection.project")
__all__ = ["Loaded", "PlanProjection", "Projection", "load", "project"]


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module 'echotally' has no attribute '{name}'")
    from importlib import import_module

    return getattr(import_module(_HOMES[name]), name)
