"""Taps as records: the month's demand and firings, stretch by stretch."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from echotally.demand.month import Tap
from echotally.demand.stretches import Stretches
from echotally.engine import codes, layout, records
from echotally.engine.build.shared import Shared
from echotally.model.spread import MIX, SAMPLES

_KINDS = {"rate": codes.TAP_RATE, "counted": codes.TAP_COUNTED, "clients": codes.TAP_CLIENTS}
_SPREADS = {"poisson": codes.POISSON, "even": codes.EVEN, "bursty": codes.BURSTY}


def taps_of(shared: Shared, taps: Sequence[Tap]) -> tuple[Any, Any]:
    """Records of taps and of their stretches."""
    found = layout.records(records.Tap, len(taps))
    each = [_stretches(tap) for tap in taps]
    place = 0
    for t, tap, (heads, _, _) in zip(found, taps, each, strict=False):
        t["first_stretch"], t["stretch_n"] = place, len(heads)
        place += len(heads)
        _tap(t, shared, tap)
    return found, _joined(each, place)


#: Stretches, the ns from one event to the next in each, and how many it has.
_Stretched = tuple[Stretches, Any, Any]


def _stretches(tap: Tap) -> _Stretched:
    # Firings at even steps, as nearly all of a schedule's are, are one stretch.
    its = tap.stretches
    return its.runs() if tap.kind == "counted" else (its, np.broadcast_to(0, len(its)), its.count)


def _joined(each: Sequence[_Stretched], n: int) -> Any:
    """Records of ``n`` stretches, column by column: there may be hundreds of taps of a few each."""
    found = layout.records(records.Stretch, n)
    if n:
        columns = zip(
            *((heads.start_ns, heads.end_ns, heads.rate, count, step) for heads, step, count in each), strict=True
        )
        for name, column in zip(("start", "end", "rate", "count", "step"), columns, strict=True):
            found[name] = np.concatenate(column)
        with np.errstate(divide="ignore"):
            found["gap"] = 1 / found["rate"]
    return found


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
        t["think_scale"] = tap.think.mean if tap.think.kind in (SAMPLES, MIX) else tap.think.scale
    t["clients"], t["refused_pause"] = tap.clients, tap.refused_pause_ns
    t["client_tries"], t["client_pause"] = tap.client_tries, tap.client_pause_ns


#: Sources whose events are calls of their own.
_SINGLES = (codes.SCHEDULE, codes.FOLDER, codes.ENDPOINT)


def lead_short_ways(taps: Any, units: Any, triggers: Any, sources: Any) -> None:
    """Say of each tap whose trigger's calls may go the short way (``kernel.short_way``): single events for one function alone.

    Whether an event is needed after all is known beforehand: for asking, for runs and failures that belong to events, for clients
    that wait for the answer, for requests that may wait for room, for firings that are skipped.
    """
    for tap in taps:
        source = sources[tap["source"]]
        tap["short"] = codes.NONE
        if source["kind"] not in _SINGLES or source["trigger_n"] != 1 or tap["kind"] == codes.TAP_CLIENTS:
            continue
        trigger = triggers[source["first_trigger"]]
        unit = units[trigger["unit"]]
        waits = source["kind"] == codes.ENDPOINT and unit["wait_limit"] > 0
        by_event = unit["ask_n"] > 0 or unit["same_run"] == codes.YES or unit["poison_rate"] > 0
        if unit["plan_kind"] == codes.PER_CALL and not (waits or by_event or trigger["skip"] == codes.YES):
            tap["short"] = source["first_trigger"]


def taps_beside(taps: Any, stretches: Any, sources: Any) -> tuple[int, int]:
    """The two taps that stand beside the calendar (``kernel.beside``), NONE where there are none: those that should bring the most."""
    streams = (sources["kind"][taps["source"]] == codes.STREAM) & (taps["kind"] != codes.TAP_CLIENTS)
    may = np.flatnonzero(streams | (taps["short"] >= 0)).tolist()
    if len(may) > 2:
        may.sort(key=lambda p: -_expected(taps[p], stretches))
    one, other, *_ = [*may, codes.NONE, codes.NONE]
    return one, other


def _expected(tap: Any, stretches: Any) -> float:
    """How many events a tap should bring."""
    its = stretches[tap["first_stretch"] : tap["first_stretch"] + tap["stretch_n"]]
    return float((its["count"] + its["rate"] * (its["end"] - its["start"])).sum())
