"""The compiled loop against the plain-Python reference, figure for figure, on small random estates."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import pytest
from hypothesis import HealthCheck, Phase, given, settings

from echotally.engine.play import attempts, begun, finish
from echotally.engine.reading import read_out
from echotally.engine.sketch import wait_sums
from echotally.projection.loaded import load, placement_on
from tests.conftest import HEAD
from tests.slow_engine import Simulation
from tests.strategies import CARD, estates

OUTCOMES = ("succeeded", "failed", "timed_out", "throttled")


def ours(loaded, placement):
    built = begun(loaded.model, loaded.month, placement, 1, diary=400_000)
    diary = [
        (int(row["ended"]), built.units[row["unit"]].function, OUTCOMES[row["outcome"]], int(row["number"]), int(row["items"]),
         int(row["at"]), None if row["outcome"] == 3 else int(row["run_at"]))
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
            "waits": float(wait_sums(u.wait_bins).sum()), "longest": round((u.waits.max or 0) * 1e9), "backlog": u.backlog_peak,
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
            "peak": u.peak, "area": u.area, "instances": u.inst_peak, "waits": pytest.approx(u.wait_sum, rel=1e-9, abs=1),
            "longest": u.wait_max, "backlog": u.backlog_peak,
        }  # fmt: skip
    sources = {s: (sim.sends[s], sim.receives[s], sim.deletes[s]) for s in sim.visible if s.startswith("queues.")}
    return sim.diary, found, sources, sim.node_ns


#: A longer run with estates of its own: ECHOTALLY_ESTATES=5000 python -m pytest tests/engine/test_slow_engine.py
ESTATES = int(os.environ.get("ECHOTALLY_ESTATES", "0"))


@settings(
    max_examples=ESTATES or 100, deadline=None, suppress_health_check=list(HealthCheck), derandomize=not ESTATES,
    phases=[Phase.generate], database=None,
)  # fmt: skip
@given(estates())
def test_the_compiled_loop_does_what_the_plain_reference_does(estate):
    agrees(estate)


def agrees(estate):
    """One estate (model, keys of a plan) attempt for attempt and sum for sum."""
    model, plan = estate
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "model.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + model)
        (folder / "card.toml").write_text(CARD.format(keys=plan))
        loaded = load(folder / "model.toml")
        placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
        (our_diary, *our_sums), (their_diary, *their_sums) = ours(loaded, placement), theirs(loaded, placement)
        # Attempt for attempt, as they end: which event, how many, started, ran, and how. Two attempts with one event (a message
        # that came back while its run went on) may end at one instant in either order.
        for n, (mine, plain) in enumerate(
            zip(sorted(our_diary, key=repr), sorted(their_diary, key=repr), strict=False)
        ):
            assert mine == plain, n
        assert len(our_diary) == len(their_diary)
        assert our_sums == their_sums
