"""The engine and the slow one on the same estate: what each made of it, attempt for attempt and sum for sum."""

from __future__ import annotations

import pytest

from echotally.engine.codes import NEVER
from echotally.engine.play import Room, attempts, begun, finish
from echotally.engine.reading import read_out
from echotally.projection.loaded import Loaded, placement_on
from tests.slow_engine.simulation import Simulation

OUTCOMES = ("succeeded", "failed", "timed_out", "throttled")


def ours(loaded, placement):
    built = begun(loaded.model, loaded.month.arrivals, placement, 1, Room(diary=400_000))
    diary = [
        (int(row["ended"]), built.units[row["unit"]].function, OUTCOMES[row["outcome"]], int(row["number"]), int(row["items"]),
         int(row["at"]), None if row["run_at"] >= NEVER else int(row["run_at"]))
        for chunk in attempts(built)
        for row in chunk
    ]  # fmt: skip
    finish(built)
    measured = read_out(loaded.model, built)
    found = {}
    for u in measured.units:
        found[u.unit.function] = {
            "events": {k: n for k, n in u.events.items() if n and k not in ("in", "unfinished")},
            "attempts": {k: n for k, n in u.attempts.items() if n},
            "calls": u.calls, "cold_starts": u.cold_starts, "billed": u.billed_ns if u.unit.offer.plan.bills in ("runs", "active") else 0,
            "floor": u.idle_floor_ns, "lag": round((u.lag_max_s or 0) * 1e9),
            "life": u.life_ns, "duplicates": u.duplicates, "peak": u.concurrency.peak,
            "area": round(u.concurrency.mean * measured.month_ns),
            "instances": 0 if u.unit.offer.plan.bills == "reserved" else u.instances.peak,
            "spent": {k: n for k, n in u.outcomes.times_ns.items() if n}, "came_to": {k: n for k, n in u.outcomes.attempts.items() if n},
            "served": u.served, "items": u.started_items, "cold": u.cold_calls, "waits": u.wait_sketch.sum_ns, "longest": round((u.waits.max or 0) * 1e9), "backlog": u.backlog_peak,
        }  # fmt: skip
    sources = {s.source: (s.sends, s.receives, s.deletes) for s in measured.sources if s.source.startswith("queues.")}
    return diary, found, sources, sum(measured.node_ns.values())


def theirs(loaded, placement):
    sim = Simulation(loaded, placement).run()
    found = {}
    for name, u in sim.units.items():
        found[name] = {
            "events": {k: n for k, n in u.events.items() if n},
            "attempts": {k: n for k, n in u.attempts.items() if n},
            "calls": u.calls, "cold_starts": u.cold_starts, "billed": u.billed, "floor": u.floor_idle, "lag": u.lag_max, "life": u.lives, "duplicates": u.duplicates,
            "peak": u.peak, "served": u.served, "items": u.started_items, "cold": u.cold_calls, "area": u.area, "instances": u.inst_peak, "waits": pytest.approx(u.wait_sum, rel=1e-9, abs=1),
            "longest": u.wait_max, "backlog": u.backlog_peak,
            "spent": {k: n for k, n in u.spent.items() if n}, "came_to": {k: n for k, n in u.came_to.items() if n},
        }  # fmt: skip
    sources = {s: (sim.sends[s], sim.receives[s], sim.deletes[s]) for s in sim.visible if s.startswith("queues.")}
    return sim.diary, found, sources, sim.node_ns, sim.tied


def difference(loaded: Loaded, plan: str) -> str | None:
    """The first attempt, or else the first sum, that the engines do not agree on; None where they agree in everything."""
    placement = placement_on(loaded.model, loaded.offers, loaded.offers[plan])
    (our_diary, *our_sums), (their_diary, *their_sums, tied) = ours(loaded, placement), theirs(loaded, placement)
    # Two attempts with one event (a message that came back while its run went on) may end at one instant in either order.
    mine, plain = sorted(our_diary, key=repr), sorted(their_diary, key=repr)
    for n, (one, other) in enumerate(zip(mine, plain, strict=False)):
        if one != other and not tied:
            return f"attempt {n}: {one} here, {other} in the slow engine (ended, function, outcome, event, events, started, ran)"
    if tied:
        return None
    if len(mine) != len(plain):
        return f"{len(mine)} attempts here, {len(plain)} in the slow engine"
    return None if our_sums == their_sums else f"sums: {our_sums} here, {their_sums} in the slow engine"
