"""Months of more events than are played one by one: what is sampled, how, and how sure that is.

Whether a month is sampled is asked of every one (``expecting``), and told from here; how it is (``estimate``), of those that are.
"""

from __future__ import annotations

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

__all__ = [
    "OF_EACH_FUNCTION",
    "SAMPLED_FROM",
    "expected_events",
    "expected_flows",
    "sent_away",
    "spared_events",
    "wants_sampling",
    "worth_sampling",
]
