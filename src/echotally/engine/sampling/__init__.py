"""Months of more events than are played one by one: what is sampled, how, and how sure that is."""

from __future__ import annotations

from echotally.engine.sampling.estimate import Effort, Sampled, sample, sample_unless_dearer
from echotally.engine.sampling.expecting import (
    OF_EACH_FUNCTION,
    SAMPLED_FROM,
    expected_events,
    expected_flows,
    sent_away,
    spared_events,
    wants_sampling,
    worth_sampling,
)
from echotally.engine.sampling.strata import PARTS

__all__ = [
    "OF_EACH_FUNCTION",
    "PARTS",
    "SAMPLED_FROM",
    "Effort",
    "Sampled",
    "expected_events",
    "expected_flows",
    "sample",
    "sample_unless_dearer",
    "sent_away",
    "spared_events",
    "wants_sampling",
    "worth_sampling",
]
