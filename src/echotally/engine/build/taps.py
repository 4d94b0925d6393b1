"""Taps as records: the month's demand and firings, stretch by stretch."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from echotally.demand.month import Tap
from echotally.demand.stretches import EvenSteps, Stretches
from echotally.engine import codes, layout, records
from echotally.engine.build.shared import Shared
from echotally.model.spread import MIX, SAMPLES

_KINDS = {"rate": codes.TAP_RATE, "counted": codes.TAP_COUNTED, "clients": codes.TAP_CLIENTS}
#: So many firings are looked at together.
_AT_ONCE = 1 << 17
_SPREADS = {"poisson": codes.POISSON, "even": codes.EVEN, "bursty": codes.BURSTY}


def taps_of(shared: Shared, taps: Sequence[Tap]) -> tuple[Any, Any]:
    """Records of taps and of their stretches."""
    found = layout.records(records.Tap, len(taps))
    parts: list[Any] = []
    place = 0
    for t, tap in zip(found, taps, strict=False):
        part = _stretches(tap)
        t["first_stretch"], t["stretch_n"] = place, len(part)
        parts.append(part)
        place += len(part)
        _tap(t, shared, tap)
    return found, np.concatenate(parts) if place else layout.records(records.Stretch, 0)


def _stretches(tap: Tap) -> Any:
    of = tap.stretches
    # Firings at even steps, as nearly all of a schedule's are, are one stretch.
    first, step, count = _runs(of) if tap.kind == "counted" else _one_each(of)
    found = np.zeros(len(first), layout.DTYPES[records.Stretch])
    # Of even steps the first is all that is looked at.
    looked_at = of[:1] if isinstance(of, EvenSteps) else of
    found["start"], found["end"], found["rate"] = (
        column[first] for column in (looked_at.start_ns, looked_at.end_ns, looked_at.rate)
    )
    found["count"], found["step"] = count, step
    with np.errstate(divide="ignore"):
        found["gap"] = 1 / found["rate"]
    return found


Places = NDArray[np.int64]


def _one_each(of: Stretches) -> tuple[Places, Places, Places]:
    """Which stretch is the first of each run, the ns from one to the next in it, and how many events it has."""
    n = len(of)
    return np.arange(n), np.zeros(n, np.int64), np.asarray(of.count)


def _runs(of: Stretches) -> tuple[Places, Places, Places]:
    """As ``_one_each``, with neighbours of one event each, at instants equally far apart, put together."""
    if isinstance(of, EvenSteps):
        return np.zeros(1, np.int64), np.array([of.step_ns]), np.array([of.n])
    if len(of) < 3 or not (of.are_instants or ((of.start_ns == of.end_ns) & (of.count == 1)).all()):
        return _one_each(of)
    # A run begins where the gap before differs from the gap after. Two that meet at one firing both want it: the earlier has it.
    firsts, last = [0], -1
    for turn in _turns(of.start_ns):
        if turn > last:
            firsts.append(turn + 1)
            last = turn + 1
    first = np.array([n for n in firsts if n < len(of)], np.int64)
    count = np.diff(first, append=len(of))
    after = np.minimum(first, len(of) - 2)
    return first, np.where(count > 1, of.start_ns[after + 1] - of.start_ns[after], 0), count


def _turns(at_ns: NDArray[np.int64]) -> Iterator[int]:
    """The places of instants that are not as far from the one before as from the one after."""
    # Some at a time: of a firing a second each column would take as much as a small month.
    for first in range(0, len(at_ns) - 2, _AT_ONCE):
        gaps = np.diff(at_ns[first : first + _AT_ONCE + 2])
        yield from (np.flatnonzero(np.diff(gaps)) + first + 1).tolist()


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
