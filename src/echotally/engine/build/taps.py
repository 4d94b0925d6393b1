"""Taps as records: the month's demand and firings, stretch by stretch."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from echotally.demand.month import Tap
from echotally.engine import codes, layout
from echotally.engine.build.shared import Shared
from echotally.model.spread import SAMPLES

_KINDS = {"rate": codes.TAP_RATE, "counted": codes.TAP_COUNTED, "clients": codes.TAP_CLIENTS}
_SPREADS = {"poisson": codes.POISSON, "even": codes.EVEN, "bursty": codes.BURSTY}


def taps_of(shared: Shared, taps: Sequence[Tap]) -> tuple[Any, Any]:
    """Records of taps and of their stretches."""
    found = layout.records(layout.Tap, len(taps))
    rows: list[tuple[int, int, int, float, float]] = []
    for t, tap in zip(found, taps, strict=False):
        t["first_stretch"], t["stretch_n"] = len(rows), len(tap.stretches)
        rows += [(s.start_ns, s.end_ns, s.count, s.rate, 1 / s.rate if s.rate else np.inf) for s in tap.stretches]
        _tap(t, shared, tap)
    stretches = layout.records(layout.Stretch, len(rows))
    if rows:
        stretches[:] = np.array(rows, dtype=stretches.dtype)
    return found, stretches


def _tap(t: Any, shared: Shared, tap: Tap) -> None:
    t["source"] = shared.source_at[tap.environment, tap.source]
    t["kind"], t["spread"], t["burst"] = _KINDS[tap.kind], _SPREADS[tap.spread], tap.burst
    # Counted stretches are entered one after the other, the first one too.
    t["stretch"] = -1 if tap.kind == "counted" else 0
    t["random"] = shared.stream(tap.label, f"payload:{tap.label}", f"think:{tap.label}")
    shared.spread(t, "payload", tap.payload)
    shared.spread(t, "think", tap.think)
    if tap.kind == "clients":
        # Clients begin spread over one pause: the drawn one's mean.
        t["think_scale"] = tap.think.scale if tap.think.kind != SAMPLES else tap.think.mean
    t["clients"], t["refused_pause"] = tap.clients, tap.refused_pause_ns
    t["client_tries"], t["client_pause"] = tap.client_tries, tap.client_pause_ns
