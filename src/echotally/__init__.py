"""Echo Tally: plays a month of event-driven functions and bills it on every hosting plan.

The Python API: ``project`` answers with a ``Projection``; ``load`` checks a model without playing it; ``check_model``
gives findings; ``replicate``, ``sweep``, ``drain``, ``load_trial``, ``crossover``, ``choose``, ``forecast`` and ``compare`` are
the studies; ``fit``, ``check_firings``, ``reconcile``, ``focus_rows`` and ``run_log`` bring measured data in, ``measure`` tries a
real program, and ``survey`` makes a model of what really happened; ``follow`` shows one event's way. Heavy imports happen on first use.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from echotally.errors import BadInput
    from echotally.evidence.bill.focus import focus_rows
    from echotally.evidence.bill.reconcile import reconcile
    from echotally.evidence.bill.so_far import with_bill_so_far
    from echotally.evidence.fit.fit import fit
    from echotally.evidence.measure.measure import measure
    from echotally.evidence.run_log import run_log
    from echotally.evidence.survey.survey import survey
    from echotally.evidence.telemetry.firing_check import check_firings
    from echotally.findings import check_model
    from echotally.projection.answer import PlanProjection, PlayedPlan, Projection, RefusedPlan
    from echotally.projection.loaded import Loaded, load
    from echotally.projection.project import project
    from echotally.projection.replicate import replicate
    from echotally.projection.showback import showback
    from echotally.projection.tables import series_frame
    from echotally.studies.card_change import compare_cards
    from echotally.studies.choose import choose, with_commitments
    from echotally.studies.compare import compare
    from echotally.studies.crossover import crossover
    from echotally.studies.drain import drain
    from echotally.studies.edges import with_edges
    from echotally.studies.follow import Followed, Which, follow
    from echotally.studies.forecast import forecast
    from echotally.studies.load_trial import load_trial
    from echotally.studies.sweep import sweep

_HOMES = {
    **dict.fromkeys(("Loaded", "load"), "echotally.projection.loaded"),
    **dict.fromkeys(("PlanProjection", "PlayedPlan", "Projection", "RefusedPlan"), "echotally.projection.answer"),
    "project": "echotally.projection.project",
    "replicate": "echotally.projection.replicate",
    "series_frame": "echotally.projection.tables",
    "check_model": "echotally.findings",
    "sweep": "echotally.studies.sweep",
    "drain": "echotally.studies.drain",
    "load_trial": "echotally.studies.load_trial",
    "crossover": "echotally.studies.crossover",
    "choose": "echotally.studies.choose",
    "forecast": "echotally.studies.forecast",
    **dict.fromkeys(("Followed", "Which", "follow"), "echotally.studies.follow"),
    "showback": "echotally.projection.showback",
    "with_edges": "echotally.studies.edges",
    "with_commitments": "echotally.studies.choose",
    "compare_cards": "echotally.studies.card_change",
    "with_bill_so_far": "echotally.evidence.bill.so_far",
    "compare": "echotally.studies.compare",
    "BadInput": "echotally.errors",
    "check_firings": "echotally.evidence.telemetry.firing_check",
    "fit": "echotally.evidence.fit.fit",
    "focus_rows": "echotally.evidence.bill.focus",
    "reconcile": "echotally.evidence.bill.reconcile",
    "measure": "echotally.evidence.measure.measure",
    "run_log": "echotally.evidence.run_log",
    "survey": "echotally.evidence.survey.survey",
}
__all__ = [
    "BadInput",
    "Followed",
    "Loaded",
    "PlanProjection",
    "PlayedPlan",
    "Projection",
    "RefusedPlan",
    "Which",
    "check_firings",
    "check_model",
    "choose",
    "compare",
    "compare_cards",
    "crossover",
    "drain",
    "fit",
    "focus_rows",
    "follow",
    "forecast",
    "load",
    "load_trial",
    "measure",
    "project",
    "reconcile",
    "replicate",
    "run_log",
    "series_frame",
    "showback",
    "survey",
    "sweep",
    "with_bill_so_far",
    "with_commitments",
    "with_edges",
]


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module 'echotally' has no attribute '{name}'")
    from importlib import import_module

    return getattr(import_module(_HOMES[name]), name)
