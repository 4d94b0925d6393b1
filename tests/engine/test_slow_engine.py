"""The compiled loop against the plain-Python reference, figure for figure, on small random estates."""

from __future__ import annotations

import os
import tempfile
import tomllib
from pathlib import Path

import pytest
from hypothesis import HealthCheck, Phase, assume, given, settings

from echotally.engine.play import begun, play, simulate
from echotally.model.spread import constant
from echotally.projection.loaded import load, placement_on
from tests.conftest import HEAD
from tests.slow_engine import Simulation
from tests.slow_engine.comparing import difference
from tests.slow_engine.shrinking import shrink
from tests.strategies import CARD, NODES, crowds, estates

#: A longer run with estates of its own: ECHOTALLY_ESTATES=5000 python -m pytest tests/engine/test_slow_engine.py
ESTATES = int(os.environ.get("ECHOTALLY_ESTATES", "0"))


def _so_many(by_day):
    """As many estates, the same ones each day; or as many others as are asked for."""
    return settings(
        max_examples=ESTATES or by_day, deadline=None, suppress_health_check=list(HealthCheck), derandomize=not ESTATES,
        phases=[Phase.generate], database=None,
    )  # fmt: skip


@_so_many(80)
@given(estates())
def test_the_compiled_loop_does_what_the_plain_reference_does(estate):
    agrees(estate)


@_so_many(60)
@given(crowds())
def test_of_many_that_wait_for_the_same_the_oldest_event_goes_first(estate):
    agrees(estate)


def agrees(estate):
    """One estate (model, keys of a plan) attempt for attempt and sum for sum."""
    model, plan = estate
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "model.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + model)
        (folder / "card.toml").write_text(CARD.format(keys=plan))
        loaded = load(folder / "model.toml")
        assume(ESTATES or _steps(loaded) < 60_000)
        assert difference(loaded, "test.plan") is None


def _steps(loaded):
    """How much there is to play: by day many small months, and not a few of which each takes the plain engine a minute."""
    built = begun(
        loaded.model, loaded.month.arrivals, placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"]), 1
    )
    play(built)
    return int(built.world.clock[0]["steps"])


#: One node with room for two instances, one call at a time. f runs until 10 s; g, which waits longer, finds no node then.
WARM_BESIDE_ONE_WITHOUT_A_NODE = "".join(
    f'''[functions.{name}]
memory = "512 MB"
run = "10 s"
cold_start = "0 ms"
cpu_share = 0
{floor}
[queues.{name}]
[demand.{name}]
into = "queues.{name}"
lumps = [{{ at = "2027-03-01T00:00:0{second}", count = 1 }}]
[[triggers]]
from = "queues.{name}"
to = "{name}"
'''
    for name, second, floor in (("f", 0, ""), ("g", 1, ""), ("h", 2, "instance_floor = 1"))
)
ONE_NODE = NODES + 'nodes_limit = 1\nnodes_floor = 0\nconcurrency_limit = 1\nkeep_alive = "1 min"\n'


def test_who_waits_for_the_account_alone_starts_where_an_older_one_finds_no_node(tmp_path):
    (tmp_path / "model.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + WARM_BESIDE_ONE_WITHOUT_A_NODE)
    (tmp_path / "card.toml").write_text(CARD.format(keys=ONE_NODE))
    loaded = load(tmp_path / "model.toml")
    assert difference(loaded, "test.plan") is None
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    waits = {u.unit.function: u.waits.max for u in simulate(loaded.model, loaded.month.arrivals, placement, 1).units}
    # h has its floor's instance, and starts as the account's one place is free; g waits for f's to have been idle for a minute.
    assert waits == {"f": 0.0, "g": pytest.approx(69.0), "h": pytest.approx(8.0)}


#: Three instances start at 45 s, to be ready at 50.5 s, two calls each; whoever waits longer than 1.25 s for one is ended.
GIVES_UP_ON_A_STARTING_ONE = """
[functions.g]
memory = "256 MB"
run = "10 s"
timeout = "1250 ms"
cold_start = "5500 ms"
slots = 2
cpu_share = 0
instance_floor = 3
releases = [{ at = "2027-03-01T00:00:45" }]
[endpoints.x]
[demand.d]
into = "endpoints.x"
lumps = [%s]
[[triggers]]
from = "endpoints.x"
to = "g"
"""
COVERS_THE_COLD_START = (
    'bills = "active"\nmemory = { choices = ["256 MB"] }\nvcpu_per_gb = 1\nkeep_alive = "1 min"\ntimeout_covers_cold_start = true\n'
    'rounding = { time = "100 ms", at_least = "300 ms" }\nscaling = { kind = "per-call" }\n'
)


def test_of_starting_instances_ready_at_one_instant_the_first_made_is_taken_though_it_was_full_meanwhile(tmp_path):
    # The first is full from 48.4 s until its first call gives up at 49.45 s; the third call goes to the second, the fourth
    # to the first again. So each has one call as they are ready: two periods of 0.05 and 0.25 s, not one of 0.25 s.
    lumps = ", ".join(f'{{ at = "2027-03-01T00:00:{at}", count = 1 }}' for at in ("48.2", "48.4", "49.3", "49.5"))
    (tmp_path / "model.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + GIVES_UP_ON_A_STARTING_ONE % lumps)
    (tmp_path / "card.toml").write_text(CARD.format(keys=COVERS_THE_COLD_START))
    loaded = load(tmp_path / "model.toml")
    assert difference(loaded, "test.plan") is None
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    (unit,) = simulate(loaded.model, loaded.month.arrivals, placement, 1).units
    assert (unit.attempts["timed_out"], unit.billed_ns) == (4, 600_000_000)


SHOWN = """
[functions.f]
memory = "256 MB"
run = "2 s"
cpu_share = 0
error_rate = 0.1
[functions.g]
memory = "256 MB"
run = "1 s"
[queues.q]
retention = "3 min"
delay = "1 s"
[demand.d]
into = "queues.q"
lumps = [{ at = "2027-03-01T00:01", count = 9, over = "5 s" }, { at = "2027-03-01T00:02", count = 4 }]
[[triggers]]
from = "queues.q"
to = "f"
batch = 3
[folders.x]
[demand.e]
into = "folders.x"
lumps = [{ at = "2027-03-01T00:01", count = 2 }]
[[triggers]]
from = "folders.x"
to = "g"
"""


def test_an_estate_that_shows_a_fault_is_made_as_small_as_can_be(tmp_path, monkeypatch):
    # A fault of the slow engine stands for one of ours: batches of three and more take a second too long.
    honest = Simulation.begin

    def slow(self, call):
        longer = len(call.events) >= 3
        call.unit.function.__dict__["run"] = constant(
            3 * 10**9 if longer and call.unit.name == "f" else call.unit.function.run.scale
        )
        honest(self, call)

    (tmp_path / "model.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + SHOWN)
    (tmp_path / "card.toml").write_text(
        CARD.format(keys='bills = "runs"\nmemory = { choices = ["256 MB"] }\nvcpu_per_gb = 1\n')
    )
    assert shrink(tmp_path / "model.toml", "test.plan", lambda text: None) is None
    monkeypatch.setattr(Simulation, "begin", slow)
    found = shrink(tmp_path / "model.toml", "test.plan", lambda text: None)
    assert found is not None
    text, why = found
    # What matters is left: one function, one queue, a batch of three; nothing that has no part in it.
    small = tomllib.loads(text)
    assert list(small["functions"]) == ["f"] and list(small["queues"]) == ["q"] and list(small["demand"]) == ["d"]
    assert "error_rate" not in small["functions"]["f"] and small["triggers"][0]["batch"] >= 3
    assert sum(lump["count"] for lump in small["demand"]["d"]["lumps"]) == 3 and why
